//! What a kept ledger says of the run that wrote its outputs, so that these can be held against the whole.

use std::path::{Path, PathBuf};

use super::super::Error;
use super::ledger::{folder_of_outputs, read_ledger};
use super::parts::PartsOptions;
use crate::job::Job;
use numerant_data::dialect::Dialect;
use numerant_data::source::SourcePath;
use numerant_format::{OptionValues, ReadOptions};

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
    let job: Job = Job::from_kept(job).map_err(|cause| {
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
    Ok(PartsOptions {
        whole,
        parts,
        read: job.read.clone(),
        parts_read: Some(how_parts_are_read(&job, &extension, kept.dialect)),
        job,
        ..options
    })
}

/// How the outputs of a job with `extension` are read, which are written in `dialect` if they are delimited
/// text.
fn how_parts_are_read(job: &Job, extension: &str, dialect: Option<Dialect>) -> ReadOptions {
    let read = &job.read;
    let lines = read.lines && job.moves_lines_to(extension);
    let text = dialect.filter(|_| !lines);
    ReadOptions {
        delimiter: text.map(|dialect| dialect.delimiter),
        quote: text.map(|dialect| dialect.quote),
        escape: text.and_then(|dialect| dialect.escape),
        padded_quotes: text.map(|_| false),
        line_ends: text.map(|dialect| dialect.line_end),
        encoding: dialect.map(|dialect| dialect.encoding),
        lines,
        no_header: text.map_or(read.no_header, |dialect| !dialect.header) && !lines,
        lists: read.lists.clone(),
        no_prefixes: read.no_prefixes,
        depth: read.depth,
        layout: read.layout.clone(),
        on_uncomputed: read.on_uncomputed,
        blank_values: read.blank_values.clone(),
        of_formats: numerant_formats::format_of(extension)
            .map_or_else(OptionValues::default, |format| {
                format.options_of_outputs(&read.of_formats, &job.write.of_formats)
            }),
        ..ReadOptions::default()
    }
}

fn joined(folder: &Path, path: &str) -> PathBuf {
    let mut joined = folder.to_owned();
    joined.extend(path.split('/'));
    joined
}
