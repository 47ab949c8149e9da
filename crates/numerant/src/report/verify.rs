//! Results of `verify`.

use std::io::{self, Write};

use numerant_engine::{ChangedOutput, FoundRecord, LedgerCheck, PartsCheck};

use super::table::visible;
use super::words::{
    BAD, FAINT, GOOD, HEADING, bytes, counted, decimal, files, folded, folder, number, records,
};

/// Files of each kind that are listed.
const LISTED: usize = 20;

/// Values of a record that are shown.
const VALUES: usize = 8;

/// Files compared with a ledger.
pub(super) fn ledger(out: &mut impl Write, check: &LedgerCheck) -> io::Result<()> {
    writeln!(
        out,
        "{HEADING}{}: {} with {} in {}{HEADING:#}",
        check.ledger,
        files(check.outputs),
        records(check.records),
        folder(&check.out)
    )?;
    if check.unbalanced {
        writeln!(
            out,
            "  {BAD}the ledger{BAD:#} does not add up: it was changed or is damaged"
        )?;
    }
    list(out, "missing", &check.missing, String::clone)?;
    list(out, "changed", &check.changed, changed)?;
    list(out, "extra", &check.extra, |path| {
        format!("{path}, which the ledger does not name")
    })?;
    if check.others > 0 {
        let others = counted(check.others, "other file is", "other files are");
        writeln!(out, "  {FAINT}{others} in the folder too{FAINT:#}")?;
    }
    if check.holds {
        writeln!(
            out,
            "{GOOD}verified{GOOD:#}: every file is unchanged, byte for byte ({} read)",
            bytes(check.bytes)
        )
    } else {
        writeln!(out, "{BAD}NOT verified{BAD:#}")
    }
}

fn list<T>(
    out: &mut impl Write,
    label: &str,
    items: &[T],
    show: impl Fn(&T) -> String,
) -> io::Result<()> {
    for item in items.iter().take(LISTED) {
        writeln!(out, "  {BAD}{label:<8}{BAD:#} {}", show(item))?;
    }
    if items.len() > LISTED {
        let left = items.len() - LISTED;
        writeln!(
            out,
            "  {BAD}{label:<8}{BAD:#} and {} more",
            number(left as u64)
        )?;
    }
    Ok(())
}

pub(super) fn changed(changed: &ChangedOutput) -> String {
    let mut what = Vec::new();
    if let Some((then, now)) = changed.bytes {
        what.push(difference(then, now, "byte", "bytes"));
    }
    if let Some((then, now)) = changed.records {
        what.push(difference(then, now, "record", "records"));
    }
    for (column, then, now) in &changed.sums {
        what.push(format!(
            "{column} {} and not {}",
            decimal(*now),
            decimal(*then)
        ));
    }
    if let Some(reason) = &changed.unreadable {
        what.push(format!("it cannot be read ({reason})"));
    }
    if what.is_empty() {
        what.push("the same size, but other content".to_owned());
    }
    let sheet = changed.sheet.as_ref();
    let sheet = sheet.map(|sheet| format!(", sheet '{sheet}'"));
    let path = format!("{}{}", changed.path, sheet.unwrap_or_default());
    format!("{path}: {}", what.join(", "))
}

fn difference(then: u64, now: u64, one: &str, many: &str) -> String {
    if now > then {
        format!("{} more", counted(now - then, one, many))
    } else {
        format!("{} fewer", counted(then - now, one, many))
    }
}

/// Parts compared with the whole.
pub(super) fn parts(out: &mut impl Write, check: &PartsCheck) -> io::Result<()> {
    writeln!(
        out,
        "{HEADING}the whole, {}: {}; the parts, {}: {}{HEADING:#}",
        files(check.whole_files),
        records(check.whole.records),
        files(check.parts_files),
        records(check.parts.records)
    )?;
    let columns = counted(check.columns.len() as u64, "column", "columns");
    folded(
        out,
        &format!("  {columns} compared: "),
        4,
        &check.columns.join(", "),
    )?;
    if check.holds {
        writeln!(
            out,
            "{GOOD}verified{GOOD:#}: the parts have exactly the records of the whole{}, digest {}",
            if check.as_shown {
                ", in the values that their sheets show"
            } else {
                ""
            },
            check.whole.digest
        )?;
        return Ok(());
    }
    let changed: Vec<&FoundRecord> = check
        .missing
        .iter()
        .filter(|record| record.changed.is_some())
        .collect();
    for record in &changed {
        let text = changed_record(record, &check.columns);
        folded(out, &format!("  {BAD}{:<8}{BAD:#} ", "changed"), 11, &text)?;
    }
    for (label, found, count) in [
        ("missing", &check.missing, check.missing_records),
        ("extra", &check.extra, check.extra_records),
        ("doubled", &check.doubled, check.doubled_records),
    ] {
        let mut left = count;
        for record in found {
            left = left.saturating_sub(if label == "missing" {
                record.in_whole - record.in_parts
            } else {
                1
            });
            if record.changed.is_none() {
                let text = place(record, label);
                folded(out, &format!("  {BAD}{label:<8}{BAD:#} "), 11, &text)?;
            }
        }
        if left > 0 {
            writeln!(out, "  {BAD}{label:<8}{BAD:#} and {} more", number(left))?;
        }
    }
    // What was changed is missing and extra at once.
    let pairs = changed.len() as u64;
    writeln!(
        out,
        "{BAD}NOT verified{BAD:#}: {} changed, {} missing, {} extra, {} doubled",
        records(pairs),
        number(check.missing_records - pairs),
        number(check.extra_records - pairs),
        number(check.doubled_records)
    )
}

/// A record of the whole that a part has with another value in one column.
fn changed_record(record: &FoundRecord, columns: &[String]) -> String {
    let Some(changed) = &record.changed else {
        return String::new();
    };
    let (source, line) = &changed.other;
    let name = columns.first().map_or("", String::as_str);
    let first = record.values.first().map(|value| visible(value));
    format!(
        "{}, {} {} → {source}, {} {}: {name} {}: {} '{}' → '{}'",
        record.source,
        record.unit,
        number(record.line),
        changed.unit,
        number(*line),
        first.unwrap_or_default(),
        changed.column,
        visible(&changed.whole),
        visible(&changed.part)
    )
}

/// Characters of a value that are shown.
const MAX_SHOWN: usize = 200;

/// A value on one line, cut where it is long.
fn shortened(value: &str) -> String {
    let mut text = visible(value);
    if let Some((at, _)) = text.char_indices().nth(MAX_SHOWN) {
        text.truncate(at);
        text.push('…');
    }
    text
}

fn place(record: &FoundRecord, label: &str) -> String {
    let mut text = format!(
        "{}, {} {}: ",
        record.source,
        record.unit,
        number(record.line)
    );
    let values: Vec<String> = record
        .values
        .iter()
        .take(VALUES)
        .map(|value| shortened(value))
        .collect();
    text.push_str(&values.join(" | "));
    if record.values.len() > VALUES {
        text.push_str(" | …");
    }
    if label == "doubled" || record.in_whole + record.in_parts > 1 {
        text.push_str(&format!(
            " ({} in the whole, {} in the parts)",
            times(record.in_whole),
            times(record.in_parts)
        ));
    }
    text
}

pub(super) fn times(count: u64) -> String {
    match count {
        0 => "never".to_owned(),
        1 => "once".to_owned(),
        2 => "twice".to_owned(),
        count => format!("{} times", number(count)),
    }
}
