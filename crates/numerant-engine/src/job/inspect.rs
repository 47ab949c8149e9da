//! What is to be looked at: the job of `inspect`.

use schemars::JsonSchema;
use serde::{Deserialize, Serialize};

use super::Job;
use numerant_naming::Key;

/// Records that are shown, if nothing else is said.
const SHOW: usize = 5;

/// What is to be looked at.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
#[serde(default, rename_all = "kebab-case")]
pub struct InspectJob {
    /// The column whose values are counted, or a part of it such as arrived:month.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub values: Option<Key>,
    /// How many records are shown.
    pub show: usize,
    /// What is read, and what is done to its records.
    #[serde(flatten)]
    pub job: Job,
}

impl Default for InspectJob {
    fn default() -> Self {
        Self {
            values: None,
            show: SHOW,
            job: Job::default(),
        }
    }
}
