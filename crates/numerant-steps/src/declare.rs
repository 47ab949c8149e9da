//! `type`: all values of a column held against a declared type. Values stay as they are written.

use super::faults::Faults;
use super::problem::StepProblem;
use numerant_data::record::Batch;
use numerant_data::value::{Cells, ColumnType, Moment, Number, NumberProblem};

#[derive(Clone, Debug)]
pub(super) struct Declare {
    pub(super) name: String,
    pub(super) slot: usize,
    pub(super) computed: bool,
    pub(super) is: ColumnType,
}

impl Declare {
    pub(super) fn apply(
        &self,
        batch: &Batch,
        cells: &Cells,
        faults: &mut Faults<'_>,
    ) -> Result<(), StepProblem> {
        if self.is == ColumnType::Text {
            return Ok(());
        }
        for record in 0..batch.len() {
            let value = batch.field(record, self.slot).text();
            let trimmed = value.trim_ascii();
            if trimmed.is_empty() {
                continue;
            }
            if let Err(number) = self.check(trimmed, cells) {
                let problem = StepProblem::Type {
                    column: self.name.clone(),
                    declared: self.is,
                    value: String::from_utf8_lossy(&value).into_owned(),
                    number,
                };
                faults.found(record, problem)?;
            }
        }
        Ok(())
    }

    fn number(&self, value: &[u8], cells: &Cells) -> Result<Number, NumberProblem> {
        if self.computed {
            Number::read(value, cells.mark)
        } else {
            cells.number_of(self.slot, value)
        }
    }

    fn check(&self, value: &[u8], cells: &Cells) -> Result<(), Option<NumberProblem>> {
        let moment = || {
            if self.computed {
                Moment::parse(value, &[])
            } else {
                cells.moment_of(self.slot, value)
            }
        };
        let fits = match self.is {
            ColumnType::Text => true,
            ColumnType::Integer => {
                let number = self.number(value, cells);
                number.map_err(other_than_none)?.scale == 0
            }
            ColumnType::Decimal => {
                self.number(value, cells).map_err(other_than_none)?;
                true
            }
            ColumnType::Date => moment().is_some_and(|moment| moment.time.is_none()),
            ColumnType::Datetime => moment().is_some_and(|moment| moment.time.is_some()),
            ColumnType::Boolean => {
                value.eq_ignore_ascii_case(b"true") || value.eq_ignore_ascii_case(b"false")
            }
        };
        if fits { Ok(()) } else { Err(None) }
    }
}

/// That a value is no number at all is said in the words of the type.
fn other_than_none(problem: NumberProblem) -> Option<NumberProblem> {
    (problem != NumberProblem::Not).then_some(problem)
}
