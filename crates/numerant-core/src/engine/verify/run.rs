//! What a kept ledger says of the run that wrote its outputs, so that these can be held against the whole.

use std::path::{Path, PathBuf};

use super::super::Error;
use super::ledger::{folder_of_outputs, read_ledger};
use super::parts::PartsOptions;
use crate::format::delimited::ReadOptions;
use crate::format::{TextFormat, format_of};
use crate::job::Job;
use crate::source::SourcePath;

/// The outputs of the run that kept a ledger as parts, to be held against `whole`: read as they were
/// written, and the whole as it was read and changed.
///
/// # Errors
///
/// If the ledger cannot be read, does not keep its job, or its outputs are copies of a template.
pub fn parts_of_run(
    ledger: &Path,
    out: Option<&Path>,
    whole: Vec<SourcePath>,
    options: PartsOptions,
) -> Result<PartsOptions, Error> {
    let kept = read_ledger(ledger)?;
    let out = folder_of_outputs(ledger, out, &kept)?;
    let unknown = || Error::LedgerWithoutJob(ledger.to_owned());
    let job = kept.job.ok_or_else(unknown)?;
    let job: Job = serde_json::from_value(serde_json::Value::Object(job)).map_err(|cause| {
        let path = ledger.to_owned();
        Error::NoLedger { path, cause }
    })?;
    if job.fill.template.is_some() {
        return Err(unknown());
    }
    let mut parts: Vec<SourcePath> = Vec::new();
    for output in &kept.outputs {
        let path = SourcePath::from(joined(&out, &output.path));
        if !parts.contains(&path) {
            parts.push(path);
        }
    }
    let extension = parts.first().map(SourcePath::extension).unwrap_or_default();
    let source = whole.first().map(SourcePath::extension).unwrap_or_default();
    Ok(PartsOptions {
        whole,
        parts,
        read: job.read.clone(),
        parts_read: Some(how_parts_are_read(&job, &extension, &source)),
        job,
        ..options
    })
}

/// How the outputs of a job with `extension` are read, which were made from sources with another.
fn how_parts_are_read(job: &Job, extension: &str, source: &str) -> ReadOptions {
    let (read, write) = (&job.read, &job.write);
    let is_text = format_of(extension).is_some_and(|format| {
        matches!(
            format.text,
            Some(TextFormat::Delimited | TextFormat::JsonLines)
        )
    });
    let lines = read.lines && is_text && job.moves_lines_to(extension);
    // What has the extension of its source is written as that is.
    let same = extension == source;
    let like = |stated: bool| same && stated;
    ReadOptions {
        delimiter: write
            .out_delimiter
            .or(read.delimiter.filter(|_| like(true) && !lines)),
        quote: read.quote,
        escape: read.escape.filter(|_| same),
        padded_quotes: Some(false).filter(|_| !lines),
        encoding: write.out_encoding.or(read.encoding.filter(|_| same)),
        lines,
        no_header: read.no_header,
        repeats: read.repeats.clone(),
        no_prefixes: read.no_prefixes,
        depth: read.depth,
        layout: read.layout.clone(),
        blank_values: read.blank_values.clone(),
        ..ReadOptions::default()
    }
}

fn joined(folder: &Path, path: &str) -> PathBuf {
    let mut joined = folder.to_owned();
    joined.extend(path.split('/'));
    joined
}
