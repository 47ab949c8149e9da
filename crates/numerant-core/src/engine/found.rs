//! What the names in a job stand for: files for folders and patterns, the day of the run for `{.date}`.

use std::collections::HashSet;
use std::path::{Path, PathBuf};

use jiff::civil::DateTime;

use super::{Context, Error};
use crate::format::read_extensions;
use crate::job::Job;
use crate::source::{Found, Selected, Selection, SourcePath, select};

/// The job with the day and time of the run in the names of its ledger and rejects.
pub(super) fn dated(job: &Job, context: &Context) -> Job {
    let dated = |path: &Option<PathBuf>| path.as_deref().map(|path| dated_path(path, context.now));
    Job {
        ledger: dated(&job.ledger),
        rejects: dated(&job.rejects),
        pack: dated(&job.pack),
        ..job.clone()
    }
}

/// A path with the day for `{.date}` and the time of day for `{.time}`, as names of outputs have
/// them.
pub fn dated_path(path: &Path, now: DateTime) -> PathBuf {
    let Some(text) = path.to_str().filter(|text| text.contains("{.")) else {
        return path.to_owned();
    };
    let time = now.strftime("%H-%M-%S").to_string();
    PathBuf::from(
        text.replace("{.date}", &now.date().to_string())
            .replace("{.time}", &time),
    )
}

/// The files that the sources of a job stand for.
///
/// # Errors
///
/// If a folder or pattern has none, or a folder cannot be looked into.
pub fn files(job: &Job) -> Result<Vec<SourcePath>, Error> {
    let mut selected = find(job)?;
    if let Some((_, error)) = selected.closed.pop() {
        return Err(error.into());
    }
    let files = selected.files.into_iter();
    Ok(files.map(|file| file.path).collect())
}

/// The job with files for the folders and patterns that it names.
pub(super) fn with_files(job: &Job) -> Result<Job, Error> {
    Ok(Job {
        sources: files(job)?,
        ..job.clone()
    })
}

/// The files that the sources of a job stand for, and the folders that are closed to it.
pub(super) fn find(job: &Job) -> Result<Selected, Error> {
    let extensions = read_extensions();
    let selection = Selection {
        recursive: job.recursive,
        pick: &job.pick,
        skip: &job.skip,
        extensions: &extensions,
        out: job.out.as_deref(),
    };
    let mut selected = select(&job.sources, &selection)?;
    let output = job
        .only_output()
        .into_iter()
        .chain(job.fill.template.clone());
    for own in output.filter(|_| selected.searched) {
        // What an earlier run has written is not read again, nor is a template.
        let Some(own) = SourcePath::File(own).identity() else {
            continue;
        };
        let named: HashSet<&SourcePath> = job.sources.iter().collect();
        let is_own = |found: &Found| found.path.identity().as_ref() == Some(&own);
        selected
            .files
            .retain(|found| named.contains(&found.path) || !is_own(found));
    }
    Ok(selected)
}
