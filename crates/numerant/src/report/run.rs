//! What a split has written, or would write.

use std::cmp::Ordering;
use std::collections::{HashMap, HashSet};
use std::io::{self, Write};

use numerant_data::source::natural;
use numerant_engine::ledger::{Ledger, LeftOut, LeftOutReason, OutputEntry};
use numerant_engine::{Notice, Summary};
use numerant_format::sheet::LeftOutDrawing;

use super::inspection::short;
use super::table::{Align, Table};
use super::words::{
    FAINT, GOOD, HEADING, bytes, counted, decimal, files, folded, location, number, records,
};

/// Outputs that are listed of a run that was done.
const LISTED: usize = 20;

/// Names of outputs that are listed for what is in none of them.
const LEFT_OUT: usize = 5;

/// Rejected records that are named.
const REJECTS: usize = 5;

/// The outputs of a planned run, all of them, by name.
pub(super) fn plan(out: &mut impl Write, summary: &Summary, ends_here: bool) -> io::Result<()> {
    let ledger = &summary.ledger;
    let count = ledger.outputs.len() as u64;
    writeln!(
        out,
        "{HEADING}{} would become {} {}{HEADING:#}",
        sources(ledger),
        outputs_in_words(ledger),
        location(&summary.out)
    )?;
    writeln!(out)?;
    let mut outputs: Vec<&OutputEntry> = ledger.outputs.iter().collect();
    outputs.sort_by(|one, other| by_name(one, other));
    let shown = |value: &Option<String>| value.clone().unwrap_or_default();
    let order = summary.order.join(" / ");
    let (first, last) = (format!("first {order}"), format!("last {order}"));
    let mut columns = vec![("records", Align::Right)];
    columns.extend(sum_columns(ledger));
    columns.extend([
        (first.as_str(), Align::Left),
        (last.as_str(), Align::Left),
        ("file", Align::Left),
    ]);
    let sheets = names_sheets(ledger);
    if sheets {
        columns.push((within(ledger).0, Align::Left));
    }
    let mut table = Table::new(2, &columns);
    for output in outputs {
        let mut row = vec![number(output.records)];
        row.extend(output.sums.iter().map(|sum| decimal(*sum)));
        row.extend([
            short(&shown(&output.first)),
            short(&shown(&output.last)),
            output.path.clone(),
        ]);
        if sheets {
            row.push(output.sheet.clone().unwrap_or_default());
        }
        table.row(&row);
    }
    if count > 0 {
        table.show(out)?;
        writeln!(out)?;
    }
    balance(out, summary, "to write")?;
    if ends_here {
        writeln!(out, "{FAINT}planned only: nothing was written{FAINT:#}")?;
    }
    Ok(())
}

/// The order of outputs: by their names, as people read them.
pub(crate) fn by_name(one: &OutputEntry, other: &OutputEntry) -> Ordering {
    let sheet = |output: &OutputEntry| output.sheet.clone().unwrap_or_default();
    natural(&one.path, &other.path).then_with(|| natural(&sheet(one), &sheet(other)))
}

/// The outputs of a run, and whether all is accounted for.
pub(super) fn done(out: &mut impl Write, summary: &Summary) -> io::Result<()> {
    let ledger = &summary.ledger;
    let count = ledger.outputs.len() as u64;
    writeln!(
        out,
        "{HEADING}{} → {} {}{HEADING:#}",
        sources(ledger),
        outputs_in_words(ledger),
        location(&summary.out)
    )?;
    writeln!(out)?;
    let mut outputs: Vec<&OutputEntry> = ledger.outputs.iter().collect();
    outputs.sort_by(|one, other| by_name(one, other));
    let mut columns = vec![("records", Align::Right)];
    columns.extend(sum_columns(ledger));
    columns.extend([("size", Align::Right), ("file", Align::Left)]);
    let sheets = names_sheets(ledger);
    if sheets {
        columns.push((within(ledger).0, Align::Left));
    }
    let mut table = Table::new(2, &columns);
    // The size of a workbook occurs once, with the first of its sheets that is shown.
    let mut sizes: HashMap<&str, u64> = outputs
        .iter()
        .filter_map(|output| Some((output.path.as_str(), output.bytes?)))
        .collect();
    // Long lists are cut in the middle.
    let (head, rest) = match outputs.len() {
        0..=LISTED => (outputs.as_slice(), &[][..]),
        _ => outputs.split_at(LISTED / 2),
    };
    let (middle, tail) = rest.split_at(rest.len().saturating_sub(LISTED / 2));
    for (place, output) in head.iter().chain(tail).enumerate() {
        if place == head.len() && !middle.is_empty() {
            let left: u64 = middle.iter().map(|output| output.records).sum();
            let outputs = number(middle.len() as u64);
            let what = if sheets { within(ledger).1 } else { "files" };
            table.note(format!("… {outputs} more {what} with {}", records(left)));
        }
        let mut row = vec![number(output.records)];
        row.extend(output.sums.iter().map(|sum| decimal(*sum)));
        let size = sizes.remove(output.path.as_str());
        row.push(size.map(bytes).unwrap_or_default());
        row.push(output.path.clone());
        if sheets {
            row.push(output.sheet.clone().unwrap_or_default());
        }
        table.row(&row);
    }
    if count > 0 {
        table.show(out)?;
    }
    if count > 0 {
        writeln!(out)?;
    } else if ledger.totals.read == 0 {
        writeln!(out, "no records were found, so there is nothing to write")?;
    }
    balance(out, summary, "written")?;
    if let Some(path) = &summary.kept_ledger {
        writeln!(
            out,
            "{FAINT}the ledger is kept in {}{FAINT:#}",
            path.display()
        )?;
    }
    Ok(())
}

/// How many files there are, and how many sheets if they have several.
pub(crate) fn outputs_in_words(ledger: &Ledger) -> String {
    let paths: HashSet<&str> = ledger
        .outputs
        .iter()
        .map(|output| output.path.as_str())
        .collect();
    let (count, outputs) = (paths.len() as u64, ledger.outputs.len() as u64);
    if count == outputs {
        return files(count);
    }
    let (one, more) = within(ledger);
    format!("{} with {}", files(count), counted(outputs, one, more))
}

/// What outputs are that share a file: sheets, or tables in copies of a template, whose places have a
/// sign that sheets cannot have in their names.
fn within(ledger: &Ledger) -> (&'static str, &'static str) {
    let is_place = |output: &OutputEntry| {
        output
            .sheet
            .as_ref()
            .is_some_and(|sheet| sheet.contains('!'))
    };
    if ledger.outputs.iter().any(is_place) {
        ("table", "tables")
    } else {
        ("sheet", "sheets")
    }
}

/// Whether outputs are distinguished by their sheets.
fn names_sheets(ledger: &Ledger) -> bool {
    let mut paths = HashSet::new();
    let outputs = ledger.outputs.iter();
    outputs
        .map(|output| &output.path)
        .any(|path| !paths.insert(path))
}

/// A heading for each control total.
fn sum_columns(ledger: &Ledger) -> impl Iterator<Item = (&str, Align)> {
    let columns = ledger.sums.iter();
    columns.map(|sum| (sum.column.as_str(), Align::Right))
}

pub(super) fn sources(ledger: &Ledger) -> String {
    let read = records(ledger.totals.read);
    match ledger.sources.as_slice() {
        [source] => match &source.sheet {
            Some(sheet) => format!("{}, sheet '{sheet}': {read}", source.path),
            None => format!("{}: {read}", source.path),
        },
        sources => {
            let paths: HashSet<&str> = sources.iter().map(|source| source.path.as_str()).collect();
            let sheets = counted(sources.len() as u64, "sheet", "sheets");
            match (paths.len(), sources.len()) {
                (1, _) => format!("{}, {sheets}: {read}", sources[0].path),
                (files_in_all, all) if files_in_all < all => {
                    format!("{} with {sheets}: {read}", files(files_in_all as u64))
                }
                (files_in_all, _) => format!("{}: {read}", files(files_in_all as u64)),
            }
        }
    }
}

/// Why records are in no output.
pub(super) fn reason(left_out: &LeftOut) -> String {
    let path = left_out.path.as_deref().unwrap_or_default();
    let condition = left_out.condition.as_deref().unwrap_or_default();
    match left_out.reason {
        LeftOutReason::OutputExists => format!("for {path}, which exists and was not changed"),
        LeftOutReason::NameTaken => format!("for {path}, a name that another output has"),
        LeftOutReason::Condition => {
            let line: Vec<&str> = condition.split_whitespace().collect();
            format!("filtered out by: {}", line.join(" "))
        }
        LeftOutReason::NoCase => "that match no case; --others NAME writes them".to_owned(),
        LeftOutReason::Empty => "that are blank".to_owned(),
        LeftOutReason::Incomplete => format!("for {path}, which lacks another table"),
    }
}

/// Why a condition is neither true nor false for records.
fn unknown(left_out: &LeftOut) -> String {
    let condition = left_out.condition.as_deref().unwrap_or_default();
    let line: Vec<&str> = condition.split_whitespace().collect();
    let blank = match left_out.blank_columns.as_slice() {
        [] => "with a blank value".to_owned(),
        [one] => format!("with a blank {one}"),
        several => format!("with a blank in {}", several.join(" or ")),
    };
    format!(
        "{blank}, for which the condition is neither true nor false: {}",
        line.join(" ")
    )
}

/// The values of documents that are in no output: their paths, and how many there are.
pub(super) fn values_left_out(ledger: &Ledger) -> Vec<(&str, u64)> {
    let mut found: Vec<(&str, u64)> = Vec::new();
    let mut places: HashMap<&str, usize> = HashMap::new();
    let sources = ledger.sources.iter();
    for beside in sources.flat_map(|source| &source.values_left_out) {
        let place = *places.entry(&beside.path).or_insert_with(|| {
            found.push((&beside.path, 0));
            found.len() - 1
        });
        found[place].1 += beside.values;
    }
    found
}

/// Whether something that was written is in no place that readers of pages see.
pub(super) fn has_unseen(notices: &[Notice]) -> bool {
    let is_unseen = |what: &LeftOutDrawing| {
        matches!(
            what,
            LeftOutDrawing::CutTexts
                | LeftOutDrawing::RowsOutside
                | LeftOutDrawing::ColumnsOutside
                | LeftOutDrawing::HiddenRows
                | LeftOutDrawing::HiddenColumns
        )
    };
    notices.iter().any(|notice| match notice {
        Notice::NotDrawn { what, .. } => what.iter().any(|(what, _)| is_unseen(what)),
        _ => false,
    })
}

/// The books, with the reasons for what is in no output.
pub(super) fn balance(out: &mut impl Write, summary: &Summary, written: &str) -> io::Result<()> {
    let ledger = &summary.ledger;
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
    let values = values_left_out(ledger);
    let in_all: u64 = values.iter().map(|(_, count)| count).sum();
    match (ledger.balanced, in_all) {
        (true, 0) if has_unseen(&summary.notices) => {
            writeln!(out, "{sum}, but not all of them can be seen on the pages")?;
        }
        (true, 0) => writeln!(out, "{sum}: {GOOD}balanced{GOOD:#}")?,
        (true, _) => {
            let values_in_all = counted(in_all, "value", "values");
            writeln!(
                out,
                "{sum}; {values_in_all} outside the records are not written"
            )?;
        }
        (false, _) => writeln!(out, "{sum}: {GOOD}NOT balanced{GOOD:#}")?,
    }
    for (path, count) in values.iter().take(LEFT_OUT) {
        let count = counted(*count, "value", "values");
        writeln!(out, "  not written: {count} at {path}")?;
    }
    if let Some(rest) = values.get(LEFT_OUT..).filter(|rest| !rest.is_empty()) {
        let count: u64 = rest.iter().map(|(_, count)| count).sum();
        let count = counted(count, "value", "values");
        let paths = counted(rest.len() as u64, "more path", "more paths");
        writeln!(out, "  not written: {count} at {paths}")?;
    }
    if let Some(segments) = &ledger.segments {
        let around = segments.written - segments.records;
        let mut line = format!(
            "{} written: {} in records, {} around them",
            counted(segments.written, "segment", "segments"),
            number(segments.records),
            number(around)
        );
        if segments.left_out > 0 {
            let count = number(segments.left_out);
            line.push_str(&format!("; {count} belong to records of other parts"));
        }
        writeln!(out, "{line}")?;
    }
    for sum in &ledger.sums {
        let mut line = format!(
            "{}: {} read = {} {written}",
            sum.column,
            decimal(sum.read),
            decimal(sum.written)
        );
        for (part, count, what) in [
            (sum.left_out, totals.left_out, "left out"),
            (sum.rejected, totals.rejected, "rejected"),
        ] {
            if count > 0 {
                line.push_str(&format!(" + {} {what}", decimal(part)));
            }
        }
        writeln!(out, "{line}")?;
    }
    let (by_name, others): (Vec<&LeftOut>, Vec<&LeftOut>) = ledger
        .left_out
        .iter()
        .partition(|left_out| left_out.path.is_some());
    for left_out in others {
        let known = left_out.records - left_out.unknown;
        if known > 0 {
            let text = format!("{} {}", records(known), reason(left_out));
            folded(out, "  left out: ", 4, &text)?;
        }
        if left_out.unknown > 0 {
            let count = records(left_out.unknown);
            folded(
                out,
                "  left out: ",
                4,
                &format!("{count} {}", unknown(left_out)),
            )?;
        }
    }
    for left_out in by_name.iter().take(LEFT_OUT) {
        let count = records(left_out.records);
        folded(
            out,
            "  left out: ",
            4,
            &format!("{count} {}", reason(left_out)),
        )?;
    }
    if let Some(rest) = by_name.get(LEFT_OUT..).filter(|rest| !rest.is_empty()) {
        let left: u64 = rest.iter().map(|entry| entry.records).sum();
        let names = counted(rest.len() as u64, "more name", "more names");
        writeln!(out, "  left out: {} for {names}", records(left))?;
    }
    for reject in ledger.rejects.iter().take(REJECTS) {
        writeln!(
            out,
            "  rejected: {}, {} {}: {}",
            reject.source,
            reject.unit,
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
        let sheets = ledger.sources.iter().any(|source| source.sheet.is_some());
        let lines = if sheets {
            counted(blank, "blank row was", "blank rows were")
        } else {
            counted(blank, "blank line was", "blank lines were")
        };
        writeln!(out, "  {lines} skipped; they are not records")?;
    }
    let comments: u64 = ledger.sources.iter().map(|source| source.comments).sum();
    if comments > 0 {
        let lines = counted(comments, "comment line was", "comment lines were");
        writeln!(out, "  {lines} skipped; they are not records")?;
    }
    Ok(())
}
