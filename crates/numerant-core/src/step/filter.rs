//! `where`: only the records for which a condition holds. Where it cannot be told, it does not.

use super::error::StepProblem;
use super::pipeline::Faults;
use crate::expr::Compiled;
use crate::record::Batch;
use crate::value::Cells;

#[derive(Clone, Debug)]
pub(super) struct Filter {
    pub(super) text: String,
    pub(super) condition: Compiled,
}

impl Filter {
    /// Marks the records that are left out.
    pub(super) fn apply(
        &self,
        batch: &Batch,
        cells: &Cells,
        left_out: &mut [bool],
        faults: &mut Faults<'_>,
    ) -> Result<(), StepProblem> {
        for (record, left_out) in left_out.iter_mut().enumerate() {
            match self.condition.holds(batch, record, cells) {
                Ok(holds) => *left_out = !holds,
                Err(problem) => {
                    let problem = StepProblem::Evaluate {
                        option: "--where",
                        name: self.text.clone(),
                        problem,
                    };
                    faults.found(record, problem)?;
                }
            }
        }
        Ok(())
    }
}
