//! Looks after runs that were interrupted: before another one begins in their folder, and when asked.

use std::path::{Path, PathBuf};

use super::{Context, Error, Notice, SourcePath};
use crate::job::Job;
use crate::output;
use crate::output::{Direction, Recovered};

/// The folder that the outputs of a run go into, or the archive: what its commit changes is in it or next to it.
pub(super) fn folder_of_run(job: &Job, first: &SourcePath) -> PathBuf {
    match &job.pack {
        Some(pack) => pack.parent().unwrap_or(Path::new("")).to_owned(),
        None => job
            .out
            .clone()
            .unwrap_or_else(|| job.base.join(first.stem())),
    }
}

/// Rolls back what a run into a folder has begun that was interrupted; what there is to say of it.
pub(super) fn before_run(
    folder: &Path,
    job: &Job,
    context: &Context,
) -> Result<Vec<Notice>, Error> {
    let mut recovered = output::recover_before(folder, &context.disk)?;
    for beside in job.ledger.iter().chain(&job.rejects) {
        // What files next to the outputs have left, on file systems of their own.
        let folder = beside.parent().unwrap_or(Path::new(""));
        recovered.extend(output::recover_before(folder, &context.disk)?);
    }
    Ok(recovered.into_iter().map(Notice::Recovered).collect())
}

/// What there is to say of a run into a folder that was interrupted, where nothing is changed.
pub(super) fn before_plan(folder: &Path) -> Option<Notice> {
    output::unfinished(folder).then(|| Notice::Unfinished(folder.to_owned()))
}

/// Rolls back, or finishes, what runs into a folder have begun that were interrupted during their
/// commit. Removes the hidden folders that such runs have left.
///
/// # Errors
///
/// If a change can neither be rolled back nor made; what can be done about the others is done.
pub fn recover(
    folder: &Path,
    direction: Direction,
    context: &Context,
) -> Result<Vec<Recovered>, Error> {
    Ok(output::recover(folder, direction, &context.disk)?)
}
