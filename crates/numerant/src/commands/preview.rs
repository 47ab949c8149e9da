//! `--plan --show N`: the first records of each output, as they would be written.
//!
//! The job is run into a temporary folder, so that what is shown is what a run writes.

use std::fs::File;
use std::io::{BufReader, Read};
use std::path::Path;

use numerant_data::dialect::{Dialect, Quote};
use numerant_data::source::SourcePath;
use numerant_engine::job::Job;
use numerant_engine::ledger::OutputEntry;
use numerant_engine::output::ExistingPolicy;
use numerant_engine::{Context, Inspection};
use numerant_format::ReadOptions;
use tempfile::TempDir;

use super::run;
use crate::args::{Mode, RunRequest};
use crate::failure::Failure;
use crate::report::{Preview, Reporter};
use crate::surroundings::Interrupts;

/// Bytes that are read of a file at most, for each record that is shown.
const BYTES_A_RECORD: u64 = 16 << 10;

/// Lines of a document that are shown, for each record.
const LINES_A_RECORD: usize = 20;

/// Refuses sources that can be read only once: a preview reads them again.
pub(super) fn check(job: &Job) -> Result<(), Failure> {
    let can_be_read_again = |source: &SourcePath| match source {
        SourcePath::Standard => false,
        source => source
            .on_disk()
            .and_then(|path| path.metadata().ok())
            .is_none_or(|facts| facts.is_file()),
    };
    let sources = numerant_engine::files(job)?;
    match sources.iter().find(|source| !can_be_read_again(source)) {
        None => Ok(()),
        Some(source) => Err(Failure::Usage {
            message: format!("--show reads sources twice, and {source} can be read only once"),
            hint: "write it to a file first, or use --plan without --show".to_owned(),
        }),
    }
}

/// Shows the first `count` records of each output of a job.
pub(super) fn show(
    request: &RunRequest,
    count: usize,
    reporter: &Reporter,
    interrupts: &Interrupts,
) -> Result<(), Failure> {
    let folder = TempDir::with_prefix("numerant-").map_err(Failure::Show)?;
    let out = folder.path().join("out");
    let inside = RunRequest {
        job: Job {
            out: Some(out.clone()),
            pack: None,
            ledger: None,
            page: None,
            rejects: None,
            existing: ExistingPolicy::default(),
            ..request.job.clone()
        },
        mode: Mode::Run,
        report: request.report,
        show: 0,
        save: None,
    };
    let summary = run::summary(&inside, interrupts)?;
    let context = interrupts.context(std::sync::Arc::new(numerant_engine::Unobserved));
    let mut outputs: Vec<&OutputEntry> = summary.ledger.outputs.iter().collect();
    outputs.sort_by(|one, other| crate::report::by_name(one, other));
    for output in outputs {
        let preview = preview(&out.join(&output.path), output, count, &context);
        reporter.preview(output, &preview)?;
    }
    Ok(())
}

/// The first records of an output: the text of text and documents, the cells of sheets.
fn preview(path: &Path, output: &OutputEntry, count: usize, context: &Context) -> Preview {
    let job = Job {
        read: ReadOptions {
            read_sheet: output
                .sheet
                .iter()
                .map(|sheet| sheet.clone().into())
                .collect(),
            ..ReadOptions::default()
        },
        ..Job::default()
    };
    let source = SourcePath::File(path.to_owned());
    let inspected = numerant_engine::inspect(&source, &job, count, context);
    let Some(inspection) = inspected.ok().and_then(|found| found.into_iter().next()) else {
        return Preview::Unreadable;
    };
    let text = match &inspection {
        Inspection { sheet: Some(_), .. } => None,
        Inspection { tree: Some(_), .. } => head(path, count, None),
        Inspection { dialect, .. } => head(path, count, dialect.as_ref()),
    };
    text.map_or_else(|| Preview::Records(Box::new(inspection)), Preview::Lines)
}

/// The first lines of a file: those of the header and `count` records, or so many of a document.
fn head(path: &Path, count: usize, dialect: Option<&Dialect>) -> Option<Vec<String>> {
    let mut bytes = Vec::new();
    let most = BYTES_A_RECORD.saturating_mul(count as u64 + 1);
    let file = BufReader::new(File::open(path).ok()?);
    let is_cut = file.take(most).read_to_end(&mut bytes).ok()? as u64 == most;
    let text = match dialect {
        // A cut may be within a character.
        Some(dialect) => (0..4).find_map(|cut| {
            let whole = bytes.get(..bytes.len().saturating_sub(cut))?;
            Some(dialect.encoding.decode(whole)?.into_owned())
        })?,
        None => String::from_utf8_lossy(&bytes).into_owned(),
    };
    let quote = match dialect.map(|dialect| dialect.quote) {
        Some(Quote::Byte(quote)) => Some(char::from(quote)),
        _ => None,
    };
    let most = if dialect.is_some() {
        count + 1
    } else {
        count * LINES_A_RECORD
    };
    let mut lines = Vec::new();
    let mut records = 0;
    let mut is_open = false;
    let mut all = text.lines();
    for line in all.by_ref() {
        lines.push(line.to_owned());
        let quotes = quote.map_or(0, |quote| line.matches(quote).count());
        is_open ^= quotes % 2 == 1;
        records += usize::from(!is_open);
        if records == most {
            break;
        }
    }
    if is_cut || all.next().is_some() {
        lines.push("…".to_owned());
    }
    Some(lines)
}
