//! What became of the files of a batch.

use std::io::{self, Write};

use numerant_engine::{BatchFile, BatchSummary, FileDisposition, SkipReason};

use super::run;
use super::table::{Align, Table};
use super::words::{BAD, FAINT, HEADING, bytes, counted, files, folder, number};

/// Files that are listed by name of those that were done.
const DONE: usize = 20;

/// Lines of detail that are listed of a file that has failed.
const DETAILS: usize = 3;

/// Files that are listed by name of those that were skipped.
const SKIPPED: usize = 5;

/// A file that was done, or is to be.
struct Done<'a> {
    source: &'a str,
    records: u64,
    bytes: Option<u64>,
    outputs: &'a [String],
}

/// The files, what became of them or, if it is only `planned`, would become of them, and the books;
/// `ends_here` says that nothing follows a plan.
pub(super) fn show(
    out: &mut impl Write,
    batch: &BatchSummary,
    planned: bool,
    ends_here: bool,
) -> io::Result<()> {
    let summary = &batch.summary;
    if let [single] = batch.files.as_slice()
        && let FileDisposition::Done { .. } = single.disposition
    {
        return if planned {
            run::plan(out, summary, ends_here)
        } else {
            run::done(out, summary)
        };
    }
    let done: Vec<Done<'_>> = batch
        .files
        .iter()
        .filter_map(|file| match &file.disposition {
            FileDisposition::Done {
                records,
                bytes,
                outputs,
            } => Some(Done {
                source: &file.source,
                records: *records,
                bytes: *bytes,
                outputs,
            }),
            _ => None,
        })
        .collect();
    if done.is_empty() {
        totals(out, batch, planned)?;
        return failures(out, batch);
    }
    let would = if planned { " would become " } else { " → " };
    writeln!(
        out,
        "{HEADING}{}{would}{} in {}{HEADING:#}",
        files(done.len() as u64),
        run::outputs_in_words(&summary.ledger),
        folder(&summary.out)
    )?;
    writeln!(out)?;
    let mut columns = vec![("records", Align::Right)];
    if !planned {
        columns.push(("size", Align::Right));
    }
    columns.extend([("source", Align::Left), ("output", Align::Left)]);
    let mut table = Table::new(2, &columns);
    let most = if planned { usize::MAX } else { DONE };
    for file in done.iter().take(most) {
        let mut row = vec![number(file.records)];
        if !planned {
            row.push(file.bytes.map(bytes).unwrap_or_default());
        }
        row.push(file.source.to_owned());
        row.push(match file.outputs {
            [] => String::new(),
            [single] => single.clone(),
            [first, rest @ ..] => format!("{first} and {} more", number(rest.len() as u64)),
        });
        table.row(&row);
    }
    table.show(out)?;
    if let Some(rest) = done.get(most..).filter(|rest| !rest.is_empty()) {
        let records: u64 = rest.iter().map(|file| file.records).sum();
        writeln!(
            out,
            "  and {} with {}",
            counted(rest.len() as u64, "more file", "more files"),
            counted(records, "record", "records")
        )?;
    }
    writeln!(out)?;
    run::balance(out, summary, if planned { "to write" } else { "written" })?;
    writeln!(out)?;
    totals(out, batch, planned)?;
    failures(out, batch)?;
    if let Some(path) = &summary.kept_ledger {
        let path = path.display();
        writeln!(out, "{FAINT}the ledger is kept in {path}{FAINT:#}")?;
    }
    if planned && ends_here {
        writeln!(out, "{FAINT}planned only: nothing was written{FAINT:#}")?;
    }
    Ok(())
}

/// How many files were converted, skipped and failed, and why those were skipped.
fn totals(out: &mut impl Write, batch: &BatchSummary, planned: bool) -> io::Result<()> {
    let count = |fits: fn(&FileDisposition) -> bool| {
        let fitting = batch.files.iter().filter(|file| fits(&file.disposition));
        fitting.count() as u64
    };
    let parts = [
        (
            count(|disposition| matches!(disposition, FileDisposition::Done { .. })),
            if planned { "to do" } else { "done" },
        ),
        (
            count(|disposition| matches!(disposition, FileDisposition::Skipped(_))),
            "skipped",
        ),
        (
            count(|disposition| matches!(disposition, FileDisposition::Failed(_))),
            "failed",
        ),
        (
            count(|disposition| matches!(disposition, FileDisposition::NotReached)),
            "not reached",
        ),
    ];
    let shown: Vec<String> = parts
        .iter()
        .enumerate()
        .filter(|(place, (count, _))| *place == 0 || *count > 0)
        .map(|(_, (count, what))| format!("{} {what}", number(*count)))
        .collect();
    let all = files(batch.files.len() as u64);
    writeln!(out, "{all}: {}", shown.join(", "))?;
    let reasons = batch
        .files
        .iter()
        .filter_map(|file| match &file.disposition {
            FileDisposition::Skipped(reason) => Some((file, reason)),
            _ => None,
        });
    let skipped: Vec<(&BatchFile, &SkipReason)> = reasons.collect();
    for (file, reason) in skipped.iter().take(SKIPPED) {
        writeln!(out, "  skipped: {}: {}", file.source, self::skipped(reason))?;
    }
    if let Some(more) = skipped.len().checked_sub(SKIPPED).filter(|more| *more > 0) {
        let more = counted(more as u64, "more file", "more files");
        writeln!(out, "  skipped: {more}")?;
    }
    Ok(())
}

/// Why a file was left as it is.
pub(super) fn skipped(reason: &SkipReason) -> String {
    match reason {
        SkipReason::OutputExists => "its output exists".to_owned(),
        SkipReason::NotChanged => "it has not changed since its output was written".to_owned(),
        SkipReason::IsOutput => "it is an output of this conversion".to_owned(),
        SkipReason::OutputOf(other) => format!("it is the output of {other}"),
    }
}

/// A line for each file that has failed, with more of it and what to do about it where that was not said
/// of another one.
pub(super) fn failures(out: &mut impl Write, batch: &BatchSummary) -> io::Result<()> {
    let mut shown_before: Vec<String> = Vec::new();
    for file in &batch.files {
        let FileDisposition::Failed(error) = &file.disposition else {
            continue;
        };
        let mut message = error.to_string();
        if !message.contains(&file.source) {
            message = format!("{}: {message}", file.source);
        }
        writeln!(out, "  {BAD}failed{BAD:#}: {message}")?;
        let (details, left) = error.details(DETAILS);
        let shown = details.join("\n");
        if !shown.is_empty() && shown_before.contains(&shown) {
            continue;
        }
        shown_before.push(shown);
        for detail in &details {
            writeln!(out, "          {detail}")?;
        }
        if left > 0 {
            writeln!(out, "          and {} more", number(left))?;
        }
        if let Some(hint) = crate::hint::of_error(error).filter(|hint| !shown_before.contains(hint))
        {
            writeln!(out, "          {FAINT}hint: {hint}{FAINT:#}")?;
            shown_before.push(hint);
        }
    }
    Ok(())
}
