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
    /// Column, or part of it such as arrived:month, whose values are counted.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub values: Option<Key>,
    /// Number of records that are shown.
    pub show: usize,
    /// Whether each of several files is shown with its columns and first records.
    #[serde(skip_serializing_if = "std::ops::Not::not")]
    pub details: bool,
    /// Sources and steps.
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
