//! Cases: the name of the first condition that holds, for splitting by conditions.

use crate::StepName;
use serde::{Deserialize, Serialize};

use super::faults::Faults;
use super::problem::StepProblem;
use super::unknown::UnknownTally;
use crate::expr::{Compiled, Expression};
use numerant_data::record::Batch;
use numerant_data::value::Cells;

/// What the name of the case is called in names of outputs.
pub const CASE_COLUMN: &str = ".case";

/// A condition, and the name of what it holds for.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize, schemars::JsonSchema)]
#[serde(rename_all = "kebab-case", deny_unknown_fields)]
pub struct Case {
    /// The name.
    pub name: String,
    /// The condition.
    pub when: Expression,
}

/// All cases of a job, checked.
#[derive(Clone, Debug)]
pub(super) struct Cases {
    pub(super) slot: usize,
    /// Name, condition and how many records it was the first to hold for.
    pub(super) cases: Vec<(String, Compiled, u64)>,
    /// Records of no case, by the first condition that was unknown for them.
    pub(super) unknown: Vec<UnknownTally>,
    /// The name for what no condition holds for; if there is none, that is left out.
    pub(super) rest: Option<String>,
}

impl Cases {
    pub(super) fn apply(
        &mut self,
        batch: &mut Batch,
        cells: &Cells,
        left_out: &mut [bool],
        faults: &mut Faults<'_>,
    ) -> Result<(), StepProblem> {
        let mut names = batch.take_computed(self.slot);
        for (record, left_out) in left_out.iter_mut().enumerate() {
            let mut found = None;
            let mut unknown = None;
            for (place, (name, condition, count)) in self.cases.iter_mut().enumerate() {
                match condition.truth(batch, record, cells) {
                    Ok(Some(false)) => {}
                    Ok(None) => {
                        unknown.get_or_insert(place);
                    }
                    Ok(Some(true)) => {
                        *count += 1;
                        found = Some(name.as_str());
                        break;
                    }
                    Err(problem) => {
                        let problem = StepProblem::Evaluate {
                            step: StepName::Case,
                            name: name.clone(),
                            problem,
                        };
                        faults.found(record, problem)?;
                        found = Some("");
                        break;
                    }
                }
            }
            if let (None, Some(place)) = (found, unknown) {
                self.unknown[place].add(batch, record);
            }
            let name = found.or(self.rest.as_deref());
            *left_out = name.is_none();
            names.push(name.unwrap_or_default().as_bytes());
        }
        batch.put_back(self.slot, names);
        Ok(())
    }

    /// Takes over how often the cases have held before.
    pub(super) fn carry(&mut self, before: &Self) {
        for ((.., count), (.., before)) in self.cases.iter_mut().zip(&before.cases) {
            *count += before;
        }
        for (unknown, before) in self.unknown.iter_mut().zip(&before.unknown) {
            unknown.carry(before);
        }
    }

    /// The names of cases that held for no record.
    pub(super) fn unused(&self) -> Vec<String> {
        self.cases
            .iter()
            .filter(|(.., count)| *count == 0)
            .map(|(name, ..)| name.clone())
            .collect()
    }
}
