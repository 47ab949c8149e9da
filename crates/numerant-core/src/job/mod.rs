//! A job: all that a run is told, as plain data. A command line is one way to fill it in.

mod check;

use std::path::PathBuf;

use serde::{Deserialize, Serialize};

pub use check::JobError;

use crate::format::delimited::{ReadOptions, WriteOptions};
use crate::name::{ClashPolicy, Key, Template};
use crate::output::ExistingPolicy;
use crate::source::SourcePath;
use crate::step::Step;
use crate::value::{DateFormat, Size};

/// What is to be read, done and written. Its keys are the words of the command line's options.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[serde(default, rename_all = "kebab-case", deny_unknown_fields)]
pub struct Job {
    /// What is read, in order.
    pub sources: Vec<SourcePath>,
    /// How it is read.
    pub read: ReadOptions,
    /// How dates are written in the sources, where not after ISO 8601.
    pub date_format: Vec<DateFormat>,
    /// What is done to the records.
    pub steps: Vec<Step>,
    /// What records are told apart by, besides what the name says.
    pub by: Vec<Key>,
    /// The path of each output below `out`.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub name: Option<Template>,
    /// The output folder; one named after the source if not said.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub out: Option<PathBuf>,
    /// What stands in names for a blank value.
    pub blank: String,
    /// What to do where two outputs would share a file.
    pub clash: ClashPolicy,
    /// What to do where an output exists.
    pub existing: ExistingPolicy,
    /// How outputs are written.
    pub write: WriteOptions,
    /// A run with more outputs is refused.
    pub max_outputs: u64,
    /// Memory that buffers may take, and four times the largest record that is taken.
    pub memory: Size,
    /// Threads that may work at the same time; 0 for as many as the machine has.
    pub jobs: usize,
    /// Whether outputs are synced to the disk before they take their places.
    pub sync: bool,
    /// Where the ledger is kept.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub ledger: Option<PathBuf>,
    /// Where rejected records are kept, as they stand.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub rejects: Option<PathBuf>,
}

impl Default for Job {
    fn default() -> Self {
        Self {
            sources: Vec::new(),
            read: ReadOptions::default(),
            date_format: Vec::new(),
            steps: Vec::new(),
            by: Vec::new(),
            name: None,
            out: None,
            blank: "blank".to_owned(),
            clash: ClashPolicy::default(),
            existing: ExistingPolicy::default(),
            write: WriteOptions::default(),
            max_outputs: 1000,
            memory: Size(512 << 20),
            jobs: 0,
            sync: false,
            ledger: None,
            rejects: None,
        }
    }
}
