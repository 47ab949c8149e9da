//! Rolls back, or finishes, what a run that was killed in the middle of its commit has begun.

use std::path::{Path, PathBuf};
use std::{fs, io};

use super::journal::{Change, Journal};
use crate::output::stage::{Abandoned, abandoned, absolute, existing_ancestor, remove};
use numerant_data::disk::Disk;

/// What becomes of changes that were begun.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, serde::Serialize)]
#[serde(rename_all = "kebab-case")]
pub enum Direction {
    /// They are rolled back, so that the folder is as it was before.
    #[default]
    Back,
    /// Those that are left are made.
    Forward,
}

/// What was found of a run that was interrupted.
#[derive(Clone, Debug, Default, PartialEq, Eq, serde::Serialize)]
#[serde(rename_all = "kebab-case")]
pub struct Recovered {
    /// Its output folder.
    #[serde(serialize_with = "numerant_data::source::as_text")]
    pub folder: PathBuf,
    /// What became of its changes; nothing if all of them were made, so that only the journal was left.
    pub direction: Option<Direction>,
    /// Changes that were rolled back, or made.
    pub changes: u64,
    /// Files that somebody else has changed since, which stay as they are. The old file stands next to each that
    /// had one, with `.before` after its name.
    #[serde(serialize_with = "numerant_data::source::as_texts")]
    pub changed_since: Vec<PathBuf>,
    /// Hidden folders of runs that were interrupted before their commit, which were removed.
    pub cleared: u64,
}

/// What a run that was interrupted has begun cannot be rolled back or finished.
#[derive(Debug, thiserror::Error)]
#[error("an earlier run into {} was interrupted during its commit, and its changes can neither be rolled back nor finished: {}: {cause}", .folder.display(), .path.display())]
pub struct RecoveryError {
    /// The output folder.
    pub folder: PathBuf,
    /// The file in the way.
    pub path: PathBuf,
    /// What the system said.
    #[source]
    pub cause: io::Error,
}

/// Whether a journal is of a run into a folder, or into one below it.
fn is_into(journal: &Journal, folder: &Path) -> bool {
    let real = |path: &Path| fs::canonicalize(path).unwrap_or_else(|_| absolute(path));
    real(&journal.folder).starts_with(real(folder))
}

/// Stages of runs that were interrupted, where those into a folder have theirs.
fn stages_for(folder: &Path) -> Vec<Abandoned> {
    let nearest = existing_ancestor(folder);
    let mut stages = abandoned(&nearest);
    if nearest == folder {
        // A folder that was new then had its stage next to it.
        let parent = absolute(folder);
        if let Some(parent) = parent.parent() {
            stages.extend(abandoned(parent));
        }
    }
    stages
}

fn read(stage: &Path, path: &Path) -> Result<Journal, RecoveryError> {
    Journal::read(path).map_err(|cause| RecoveryError {
        folder: stage.parent().unwrap_or(Path::new(".")).to_owned(),
        path: path.to_owned(),
        cause,
    })
}

/// Whether a run into a folder was interrupted in the middle of its commit.
pub(crate) fn unfinished(folder: &Path) -> bool {
    stages_for(folder).iter().any(|stage| {
        let journals = stage.journals().into_iter();
        let read = journals.filter_map(|path| Journal::read(&path).ok());
        read.into_iter().any(|journal| is_into(&journal, folder))
    })
}

/// Rolls back what runs into a folder have begun that were interrupted, before another one begins, and removes what
/// they have left.
pub(crate) fn recover_before(folder: &Path, disk: &Disk) -> Result<Vec<Recovered>, RecoveryError> {
    recover(folder, Direction::Back, disk)
}

/// Rolls back or finishes what runs into a folder have begun that were interrupted.
pub(crate) fn recover(
    folder: &Path,
    direction: Direction,
    disk: &Disk,
) -> Result<Vec<Recovered>, RecoveryError> {
    let mut all = Vec::new();
    let mut cleared = 0;
    for stage in stages_for(folder) {
        let mut is_left = false;
        for path in stage.journals() {
            let journal = read(&stage.dir, &path)?;
            if !is_into(&journal, folder) {
                is_left = true;
                continue;
            }
            let failed = |(path, cause)| RecoveryError {
                folder: journal.folder.clone(),
                path,
                cause,
            };
            let mut recovered = Recovered {
                folder: journal.folder.clone(),
                ..Recovered::default()
            };
            if !journal.changes.iter().all(Change::is_made) {
                recovered.direction = Some(direction);
                match direction {
                    Direction::Forward => {
                        recovered.changes = journal.roll_forward(disk).map_err(failed)?;
                    }
                    Direction::Back => {
                        let (changes, changed) = journal.roll_back_all(disk).map_err(failed)?;
                        recovered.changes = changes;
                        recovered.changed_since = changed;
                    }
                }
            }
            disk.remove(&path).map_err(|error| failed((path, error)))?;
            all.push(recovered);
        }
        // What is needed no longer.
        if !is_left && !stage.is_needed() && remove(&stage.dir, disk).is_ok() {
            cleared += 1;
        }
    }
    let begun = all.len() as u64;
    if cleared > begun {
        all.push(Recovered {
            folder: folder.to_owned(),
            cleared: cleared - begun,
            ..Recovered::default()
        });
    }
    Ok(all)
}
