//! Outputs on their way to the disk: staged next to their destination, renamed at the end.

mod commit;
mod lock;
mod sinks;
mod stage;

use std::io;
use std::path::{Path, PathBuf};

use serde::{Deserialize, Serialize};

pub(crate) use commit::{Changes, Destination, commit, recover, recover_before, unfinished};
pub use commit::{Direction, Recovered, RecoveryError};
pub(crate) use sinks::{SinkError, Sinks};
pub(crate) use stage::{Beside, SideFile, Stage};

/// What to do where an output exists already.
#[derive(
    Clone, Copy, Debug, Default, PartialEq, Eq, Serialize, Deserialize, schemars::JsonSchema,
)]
#[serde(rename_all = "lowercase")]
pub enum ExistingPolicy {
    /// Refuse the run, with the list of them.
    #[default]
    Refuse,
    /// Put the new one in its place.
    Replace,
    /// Put the new one in its place if the source has changed since; for files that become one
    /// output each.
    Newer,
    /// Put the new one in its place if the run before has written it, as its ledger says, and remove what
    /// that run has written and this one does not.
    Clear,
    /// Leave it as it is, and leave the records out that would have gone there.
    Skip,
}

/// Something about the outputs that the operating system would not do.
#[derive(Debug, thiserror::Error)]
#[error("{doing} {path}: {cause}{}", unfinished_text(.unfinished.as_deref()), path = .path.display())]
pub struct OutputError {
    /// What was tried, as `writing` or `creating the folder`.
    pub doing: &'static str,
    /// The file or folder.
    pub path: PathBuf,
    /// What the system said.
    #[source]
    pub cause: io::Error,
    /// The folder in which some outputs are in place, as they could not be rolled back; the old files are kept.
    pub unfinished: Option<PathBuf>,
}

fn unfinished_text(folder: Option<&Path>) -> String {
    folder.map_or_else(String::new, |folder| {
        let folder = folder.display();
        format!("; some outputs are in {folder} and could not be rolled back")
    })
}

impl OutputError {
    pub(crate) fn new(doing: &'static str, path: &Path, cause: io::Error) -> Self {
        Self {
            doing,
            path: path.to_owned(),
            cause,
            unfinished: None,
        }
    }
}
