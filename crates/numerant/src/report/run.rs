//! What a split has written, or would write.

use std::io::{self, Write};
use std::path::Path;

use numerant_core::engine::Summary;
use numerant_core::ledger::{Ledger, LeftOut, LeftOutReason, OutputEntry};

use super::table::{Align, Table};
use super::words::{FAINT, GOOD, HEADING, bytes, files, folder, number, records};

/// Outputs that are listed of a run that was done.
const LARGEST: usize = 20;

/// Rejected records that are named.
const REJECTS: usize = 5;

/// The outputs of a planned run, all of them, by name.
pub(super) fn plan(out: &mut impl Write, summary: &Summary, ends_here: bool) -> io::Result<()> {
    let ledger = &summary.ledger;
    let count = ledger.outputs.len() as u64;
    writeln!(
        out,
        "{HEADING}{} would become {} in {}{HEADING:#}",
        sources(ledger),
        files(count),
        folder(&summary.out)
    )?;
    writeln!(out)?;
    let mut outputs: Vec<&OutputEntry> = ledger.outputs.iter().collect();
    outputs.sort_by(|one, other| one.path.cmp(&other.path));
    let mut table = Table::new(2, &[("records", Align::Right), ("file", Align::Left)]);
    for output in outputs {
        table.row(&[number(output.records), output.path.clone()]);
    }
    if count > 0 {
        table.show(out)?;
        writeln!(out)?;
    }
    balance(out, ledger, "to write")?;
    if ends_here {
        writeln!(out, "{FAINT}planned only: nothing was written{FAINT:#}")?;
    }
    Ok(())
}

/// The outputs of a run, the largest of them, and the books.
pub(super) fn done(
    out: &mut impl Write,
    summary: &Summary,
    kept_ledger: Option<&Path>,
) -> io::Result<()> {
    let ledger = &summary.ledger;
    let count = ledger.outputs.len() as u64;
    writeln!(
        out,
        "{HEADING}{} → {} in {}{HEADING:#}",
        sources(ledger),
        files(count),
        folder(&summary.out)
    )?;
    writeln!(out)?;
    let mut outputs: Vec<&OutputEntry> = ledger.outputs.iter().collect();
    outputs.sort_by(|one, other| {
        other
            .records
            .cmp(&one.records)
            .then_with(|| one.path.cmp(&other.path))
    });
    let columns = [
        ("records", Align::Right),
        ("size", Align::Right),
        ("file", Align::Left),
    ];
    let mut table = Table::new(2, &columns);
    for output in outputs.iter().take(LARGEST) {
        let size = output.bytes.map(bytes).unwrap_or_default();
        table.row(&[number(output.records), size, output.path.clone()]);
    }
    if count > 0 {
        table.show(out)?;
    }
    if let Some(left) = outputs.len().checked_sub(LARGEST).filter(|left| *left > 0) {
        let rest: u64 = outputs[LARGEST..].iter().map(|output| output.records).sum();
        writeln!(
            out,
            "  and {} more files with {}",
            number(left as u64),
            records(rest)
        )?;
    }
    if count > 0 {
        writeln!(out)?;
    } else if ledger.totals.read == 0 {
        writeln!(out, "no records were found, so there is nothing to write")?;
    }
    balance(out, ledger, "written")?;
    if let Some(path) = kept_ledger {
        writeln!(
            out,
            "{FAINT}the ledger is kept in {}{FAINT:#}",
            path.display()
        )?;
    }
    Ok(())
}

fn sources(ledger: &Ledger) -> String {
    let read = records(ledger.totals.read);
    match ledger.sources.as_slice() {
        [source] => format!("{}: {read}", source.path),
        sources => format!("{}: {read}", files(sources.len() as u64)),
    }
}

/// The books, with the reasons for what is in no output.
fn balance(out: &mut impl Write, ledger: &Ledger, written: &str) -> io::Result<()> {
    let totals = &ledger.totals;
    let mut sum = format!(
        "{} read = {} {written}",
        number(totals.read),
        number(totals.written)
    );
    for (count, what) in [(totals.left_out, "left out"), (totals.rejected, "rejected")] {
        if count > 0 {
            sum.push_str(&format!(" + {} {what}", number(count)));
        }
    }
    let good = if ledger.balanced {
        "balanced"
    } else {
        "NOT balanced"
    };
    writeln!(out, "{sum}: {GOOD}{good}{GOOD:#}")?;
    for LeftOut {
        reason,
        path,
        records: count,
    } in &ledger.left_out
    {
        let why = match reason {
            LeftOutReason::OutputExists => "exists and was left as it is",
            _ => "was left out",
        };
        let path = path.as_deref().unwrap_or_default();
        writeln!(
            out,
            "  left out: {} for {path}, which {why}",
            records(*count)
        )?;
    }
    for reject in ledger.rejects.iter().take(REJECTS) {
        writeln!(
            out,
            "  rejected: {}, line {}: {}",
            reject.source,
            number(reject.line),
            reject.reason
        )?;
    }
    if ledger.rejects.len() > REJECTS {
        let left = totals.rejected - REJECTS as u64;
        writeln!(out, "  rejected: {} more", records(left))?;
    }
    let padded: u64 = ledger.sources.iter().map(|source| source.padded).sum();
    if padded > 0 {
        writeln!(
            out,
            "  padded: {} had more or fewer fields than the header",
            records(padded)
        )?;
    }
    let blank: u64 = ledger.sources.iter().map(|source| source.blank_lines).sum();
    if blank > 0 {
        let lines = super::words::counted(blank, "blank line was", "blank lines were");
        writeln!(out, "  {lines} passed over; they are no records")?;
    }
    Ok(())
}
