//! The job of `inspect`.

use schemars::JsonSchema;
use serde::{Deserialize, Serialize};

use super::Job;
use numerant_naming::Key;

/// Default number of records that are shown.
const SHOW: usize = 5;

/// The files to inspect, and what is shown of them.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
#[serde(default, rename_all = "kebab-case")]
pub struct InspectJob {
    /// The column whose values are counted, or a part of it such as arrived:month.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub values: Option<Key>,
    /// How many records are shown.
    pub show: usize,
    /// Of several files, each is shown with its columns and first records.
    #[serde(skip_serializing_if = "std::ops::Not::not")]
    pub details: bool,
    /// What is read, and what is done to its records.
    #[serde(flatten)]
    pub job: Job,
}

impl Default for InspectJob {
    fn default() -> Self {
        Self {
            values: None,
            show: SHOW,
            details: false,
            job: Job::default(),
        }
    }
}
