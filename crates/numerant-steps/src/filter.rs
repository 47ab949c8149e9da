//! `where`: only the records for which a condition holds. Those for which it is unknown are left out, and
//! counted apart.

use super::faults::Faults;
use super::problem::StepProblem;
use super::unknown::UnknownTally;
use crate::StepName;
use crate::expr::Compiled;
use numerant_data::record::Batch;
use numerant_data::value::Cells;

#[derive(Clone, Debug)]
pub(super) struct Filter {
    pub(super) text: String,
    pub(super) condition: Compiled,
    pub(super) unknown: UnknownTally,
}

impl Filter {
    /// Marks the records that are left out.
    pub(super) fn apply(
        &mut self,
        batch: &Batch,
        cells: &Cells,
        left_out: &mut [bool],
        faults: &mut Faults<'_>,
    ) -> Result<(), StepProblem> {
        for (record, left_out) in left_out.iter_mut().enumerate() {
            match self.condition.truth(batch, record, cells) {
                Ok(Some(holds)) => *left_out = !holds,
                Ok(None) => {
                    *left_out = true;
                    self.unknown.add(batch, record);
                }
                Err(problem) => {
                    let problem = StepProblem::Evaluate {
                        step: StepName::Where,
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
