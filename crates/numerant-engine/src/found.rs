//! What the names in a job represent: files for folders and patterns, the day of the run for `{.date}`.

use std::collections::HashSet;
use std::path::{Path, PathBuf};

use jiff::civil::DateTime;

use super::{Context, Error};
use crate::job::Job;
use numerant_data::source::{Found, Input, Selected, Selection, SourcePath, is_lock, select};
use numerant_formats::{format_read, open, read_extensions};

/// The job with the day and time of the run in the names of its output folder and of the files next to it.
pub(super) fn dated(job: &Job, context: &Context) -> Job {
    let dated = |path: &Option<PathBuf>| path.as_deref().map(|path| dated_path(path, context.now));
    Job {
        ledger: dated(&job.ledger),
        rejects: dated(&job.rejects),
        page: dated(&job.page),
        out: dated(&job.out),
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

/// The files that the sources of a job represent.
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
pub(super) fn with_files(job: &Job, context: &Context) -> Result<Job, Error> {
    let sources = files(job)?;
    Ok(Job {
        source_format: source_format(job, sources.first(), context),
        sources,
        ..job.clone()
    })
}

/// The format of a source, where that decides the format of the outputs and its extension does not
/// state it. What is wrong with the source is reported when it is read.
pub(super) fn source_format(
    job: &Job,
    source: Option<&SourcePath>,
    context: &Context,
) -> Option<&'static str> {
    let source = source.filter(|source| **source != SourcePath::Standard)?;
    let extension = source.extension();
    let named = job.name.as_ref();
    let named = named.map(|name| name.extension(&extension).unwrap_or_default());
    let keeps_extension = named.is_none_or(|named| named == extension);
    // What is called JSON can be JSON Lines.
    let is_open = format_read(&extension).is_none() || (extension == "json" && job.name.is_none());
    if extension.is_empty() || job.to.is_some() || job.read.lines || !keeps_extension || !is_open {
        return None;
    }
    let input = Input::open(source).ok()?;
    let memory = usize::try_from(job.memory.0).unwrap_or(usize::MAX);
    let opened = open(input, &job.read, memory, &context.temporary, false).ok()?;
    Some(opened.format_name())
}

/// The files that the sources of a job represent, and the folders that are closed to it.
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
    // Whoever names patterns gets the files of open workbooks, too, and those are none.
    if !selected.files.iter().all(|found| is_lock(&found.path)) {
        selected.files.retain(|found| !is_lock(&found.path));
    }
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
