//! `set`: a column computed from others.

use super::faults::Faults;
use super::problem::StepProblem;
use crate::StepName;
use crate::expr::Compiled;
use numerant_data::record::Batch;
use numerant_data::value::{Cells, Size};

#[derive(Clone, Debug)]
pub(super) struct Set {
    /// The option that asks for it.
    pub(super) step: StepName,
    pub(super) name: String,
    pub(super) slot: usize,
    pub(super) value: Compiled,
}

impl Set {
    pub(super) fn apply(
        &self,
        batch: &mut Batch,
        cells: &Cells,
        most: usize,
        faults: &mut Faults<'_>,
    ) -> Result<(), StepProblem> {
        let mut values = batch.take_computed(self.slot);
        let room = most.saturating_sub(batch.bytes_computed());
        for record in 0..batch.len() {
            let written = values.push_with(|out| self.value.write(batch, record, cells, out));
            if let Err(problem) = written {
                let problem = StepProblem::Evaluate {
                    step: self.step,
                    name: self.name.clone(),
                    problem,
                };
                faults.found(record, problem)?;
            }
            if values.bytes.len() > room {
                let problem = StepProblem::TooMuch {
                    name: self.name.clone(),
                    limit: Size(most as u64),
                };
                return Err(faults.ends(record, problem));
            }
        }
        batch.put_back(self.slot, values);
        Ok(())
    }
}
