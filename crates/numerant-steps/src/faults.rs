//! Records for which a step fails, and what is done with them.

use serde::{Deserialize, Serialize};

use super::problem::StepProblem;

/// What to do with a record for which a step fails.
#[derive(
    Clone, Copy, Debug, Default, PartialEq, Eq, Serialize, Deserialize, schemars::JsonSchema,
)]
#[serde(rename_all = "lowercase")]
pub enum OnError {
    /// Refuse the run.
    #[default]
    Error,
    /// Leave the record out.
    Reject,
}

/// Records of a batch for which a step fails.
#[derive(Debug)]
pub(super) struct Faults<'f> {
    pub(super) on_error: OnError,
    pub(super) found: &'f mut Vec<(usize, StepProblem)>,
    /// The record that ends the run.
    pub(super) fatal: Option<usize>,
}

impl Faults<'_> {
    /// Takes note of a record for which a step fails: an error, unless it is to be rejected.
    pub(super) fn found(&mut self, record: usize, problem: StepProblem) -> Result<(), StepProblem> {
        if self.on_error == OnError::Error {
            self.fatal = Some(record);
            return Err(problem);
        }
        self.reject(record, problem);
        Ok(())
    }

    /// Ends the run at a record, whatever is done with records for which a step fails.
    pub(super) fn ends(&mut self, record: usize, problem: StepProblem) -> StepProblem {
        self.fatal = Some(record);
        problem
    }

    /// Rejects a record.
    pub(super) fn reject(&mut self, record: usize, problem: StepProblem) {
        self.found.push((record, problem));
    }
}
