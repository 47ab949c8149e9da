//! Control totals: the values of a column as numbers, to be summed up where the records go.

use super::faults::Faults;
use super::problem::StepProblem;
use numerant_data::record::Batch;
use numerant_data::value::{Cells, Number, NumberProblem};

#[derive(Clone, Debug)]
pub(super) struct Total {
    pub(super) name: String,
    pub(super) slot: usize,
    /// Its place among the totals of the job.
    pub(super) place: usize,
}

impl Total {
    /// Reads the numbers of a batch; a blank is nothing.
    pub(super) fn apply(
        &self,
        batch: &mut Batch,
        cells: &Cells,
        faults: &mut Faults<'_>,
    ) -> Result<(), StepProblem> {
        let mut numbers = std::mem::take(&mut batch.numbers[self.place]);
        for record in 0..batch.len() {
            let value = batch.field(record, self.slot).text();
            let number = match cells.number_of(self.slot, &value) {
                Ok(number) => number,
                Err(NumberProblem::Not) if value.trim_ascii().is_empty() => Number::ZERO,
                Err(problem) => {
                    let problem = StepProblem::Total {
                        column: self.name.clone(),
                        value: String::from_utf8_lossy(&value).into_owned(),
                        problem,
                    };
                    faults.found(record, problem)?;
                    Number::ZERO
                }
            };
            numbers.push(number);
        }
        batch.numbers[self.place] = numbers;
        Ok(())
    }
}
