//! What was found in a source.

use std::io::{self, Write};

use numerant_data::dialect::Quote;
use numerant_data::value::Kind;
use numerant_engine::{ColumnProfile, Distinct, Inspection, TreeInspection, ValueCounts};
use numerant_format::MessageFacts;
use numerant_format::sheet::{SheetFacts, Visibility};

use super::table::{Align, Table, terminal_width};
use super::words::{FAINT, HEADING, bytes, counted, decimal, folded, number, records};

/// A source: how it is written, and its columns.
pub(super) fn show(out: &mut impl Write, inspection: &Inspection) -> io::Result<()> {
    writeln!(out, "{HEADING}{}{HEADING:#}", inspection.path)?;
    for (label, text) in facts(inspection) {
        folded(out, &format!("  {FAINT}{label:<11}{FAINT:#}  "), 15, &text)?;
    }
    writeln!(out)?;
    if let Some(tree) = &inspection.tree {
        show_tree(out, tree)?;
    }
    // Bars are for people, and take room from the examples.
    let has_bars = terminal_width().is_some_and(|width| width >= LEAST_FOR_BARS);
    let mut columns = vec![
        ("#", Align::Right),
        ("column", Align::Left),
        ("type", Align::Left),
        ("blanks", Align::Right),
        ("distinct", Align::Right),
        ("example", Align::Left),
    ];
    if has_bars {
        columns.insert(5, ("spread", Align::Left));
    }
    let mut table = Table::new(2, &columns);
    for (place, column) in inspection.columns.iter().enumerate() {
        let mut cells = vec![
            number(place as u64 + 1),
            column.name.clone(),
            kind(column),
            number(column.blanks),
            match column.distinct {
                Distinct::Exactly(count) => number(count),
                Distinct::MoreThan(count) => format!("> {}", number(count)),
            },
            column.example.clone().unwrap_or_default(),
        ];
        if has_bars {
            cells.insert(5, spread(column));
        }
        table.row(&cells);
    }
    table.show(out)?;
    show_misfits(out, inspection)?;
    show_records(out, inspection)
}

/// Blocks that the columns of records are folded into.
const FOLDS: usize = 4;

/// Columns of a terminal that leave room for bars.
const LEAST_FOR_BARS: usize = 90;

/// The histogram of a column, from the least to the greatest value, or the counts of its most frequent values.
fn spread(column: &ColumnProfile) -> String {
    match &column.range {
        Some(range) => bars(&range.histogram),
        None => {
            let counts = column.most_frequent.iter().map(|value| value.records);
            bars(&counts.collect::<Vec<_>>())
        }
    }
}

/// Counts as bars of one character each.
fn bars(counts: &[u64]) -> String {
    const HEIGHTS: [char; 8] = ['▁', '▂', '▃', '▄', '▅', '▆', '▇', '█'];
    let most = counts.iter().copied().max().unwrap_or(1).max(1);
    let height = |count: &u64| match *count {
        0 => ' ',
        count => {
            let eighths = (count as f64 * 8.0 / most as f64).ceil() as usize;
            HEIGHTS[eighths.clamp(1, 8) - 1]
        }
    };
    counts.iter().map(height).collect()
}

/// The columns that some values keep from a type, and those that can be read in two ways.
pub(super) fn misfits(inspection: &Inspection) -> Vec<String> {
    let mut lines = Vec::new();
    for column in &inspection.columns {
        if let Some(outliers) = &column.outliers {
            let kind = match outliers.most_are {
                Kind::Integer => "integers",
                Kind::Decimal => "numbers",
                Kind::Date => "dates",
                Kind::Datetime => "dates with a time",
                Kind::Time => "times",
                Kind::Boolean => "true or false",
                Kind::Text | Kind::Blank => "texts",
            };
            let format = match &outliers.number_format {
                Some(format) => format!(" ({format})"),
                None => String::new(),
            };
            lines.push(format!(
                "{}: {} of {} values are not {kind}{format}; the first is '{}', {} {}",
                column.name,
                number(outliers.count),
                number(outliers.of),
                short(&outliers.first),
                inspection.unit,
                number(outliers.at)
            ));
        }
        if let Some(ambiguous) = &column.ambiguous {
            let text = super::notice::ambiguous_text(ambiguous);
            lines.push(format!("{}: {text}", column.name));
        }
    }
    lines
}

fn show_misfits(out: &mut impl Write, inspection: &Inspection) -> io::Result<()> {
    let lines = misfits(inspection);
    if lines.is_empty() {
        return Ok(());
    }
    writeln!(out)?;
    writeln!(out, "{HEADING}columns read as text{HEADING:#}")?;
    for line in lines {
        folded(out, "  ", 4, &line)?;
    }
    Ok(())
}

/// Paths of a document that are shown.
const PATHS: usize = 60;

/// The paths of a document, and how its records can be flattened.
fn show_tree(out: &mut impl Write, tree: &TreeInspection) -> io::Result<()> {
    writeln!(out, "{HEADING}structure{HEADING:#}")?;
    let mut table = Table::new(
        2,
        &[
            ("path", Align::Left),
            ("count", Align::Right),
            ("per parent", Align::Right),
            ("type", Align::Left),
            ("example", Align::Left),
        ],
    );
    let nodes = &tree.survey.nodes;
    for node in nodes.iter().skip(1).take(PATHS) {
        let name = if node.items { "[]" } else { node.name.as_str() };
        let in_one = match node.most {
            1 => "1".to_owned(),
            most => format!("up to {}", number(most)),
        };
        table.row(&[
            format!("{}{}", "  ".repeat(node.depth - 1), name),
            number(node.times),
            in_one,
            node.kind.to_owned(),
            node.example.clone().unwrap_or_default(),
        ]);
    }
    table.show(out)?;
    if nodes.len() > PATHS + 1 {
        let more = counted((nodes.len() - PATHS - 1) as u64, "more path", "more paths");
        writeln!(out, "  {FAINT}and {more}; --report json lists all{FAINT:#}")?;
    }
    writeln!(out)
}

/// Where the records of a document are, and what can be typed to have others.
fn tree_facts(tree: &TreeInspection, columns: &[ColumnProfile]) -> Vec<(&'static str, String)> {
    let how = if tree.facts.found {
        "detected"
    } else {
        "as stated"
    };
    let mut facts = vec![("record path", format!("{} ({how})", tree.facts.records))];
    if !tree.facts.others.is_empty() {
        let others: Vec<String> = tree
            .facts
            .others
            .iter()
            .map(|path| format!("--records '{path}'"))
            .collect();
        facts.push(("other paths", others.join(", ")));
    }
    if !tree.facts.beside.is_empty() {
        facts.push((
            "not read",
            format!("{} (outside the records)", tree.facts.beside.join(", ")),
        ));
    }
    if let Some((records, list)) = &tree.facts.above {
        let options = format!("--records '{records}' --lists 'rows={list}'");
        facts.push(("to add them", options));
    }
    for message in &tree.messages {
        facts.push(("messages", messages(message)));
    }
    let mut lists = format!("--lists {}", tree.facts.lists);
    if let Some(path) = &tree.long_list {
        lists = format!("'{path}' is one cell of JSON, as it has too many items for columns");
    }
    let numbered = |column: &ColumnProfile| column.name.split('.').any(|name| name == "1");
    let has_lists = tree.long_list.is_some() || columns.iter().any(numbered);
    if tree.facts.lists != "columns" || has_lists {
        facts.push(("lists", format!("{lists} (columns, rows=PATH or keep)")));
    }
    facts
}

/// What there is of a kind of message, and whether its totals agree.
fn messages(facts: &MessageFacts) -> String {
    let mut text = format!(
        "{} of type {} with {}",
        counted(facts.messages, "message", "messages"),
        facts.kind,
        records(facts.records)
    );
    match &facts.layout {
        Some(layout) => text.push_str(&format!(", layout {layout}")),
        None => {
            text.push_str("; each message is one record, as no layout is known (--layout FILE)");
        }
    }
    if let (Some(stated), Some(found)) = (facts.stated, facts.found) {
        let agree = match facts.unbalanced {
            0 => "which agrees with the stated totals".to_owned(),
            wrong => format!(
                "the stated totals to {}; {} {} not agree",
                decimal(stated),
                number(wrong),
                if wrong == 1 { "does" } else { "do" }
            ),
        };
        text.push_str(&format!(
            "; their amounts add up to {}, {agree}",
            decimal(found)
        ));
    }
    if facts.miscounted > 0 {
        text.push_str(&format!(
            "; {} of envelopes wrong",
            counted(
                facts.miscounted,
                "count or control number",
                "counts or control numbers"
            )
        ));
    }
    if facts.lower_case > 0 {
        text.push_str(&format!(
            "; {} in lower case",
            counted(facts.lower_case, "segment tag", "segment tags")
        ));
    }
    if let Some(first) = facts.first.as_deref() {
        text.push_str(&format!(": {first}"));
    }
    text
}

/// The first records as they would be written, as many columns of them as there is room for.
pub(super) fn show_records(out: &mut impl Write, inspection: &Inspection) -> io::Result<()> {
    let shown = inspection.records.len() as u64;
    if shown == 0 {
        return Ok(());
    }
    writeln!(out)?;
    let what = if shown == inspection.kept {
        records(shown)
    } else if shown == 1 {
        format!("the first of {}", records(inspection.kept))
    } else {
        format!(
            "the first {} of {}",
            number(shown),
            records(inspection.kept)
        )
    };
    writeln!(out, "{HEADING}{what}{HEADING:#}")?;
    let columns: Vec<(&str, Align)> = inspection
        .columns
        .iter()
        .map(|column| {
            let align = match column.kind {
                Kind::Integer | Kind::Decimal => Align::Right,
                _ => Align::Left,
            };
            (column.name.as_str(), align)
        })
        .collect();
    let mut table = Table::new(2, &columns);
    for record in &inspection.records {
        let cells: Vec<String> = record.iter().map(|cell| short(cell)).collect();
        table.row(&cells);
    }
    let left = table.show_folded(out, FOLDS)?;
    if left > 0 {
        let columns = counted(left as u64, "more column", "more columns");
        writeln!(
            out,
            "  {FAINT}and {columns}; --keep selects columns{FAINT:#}"
        )?;
    }
    Ok(())
}

/// A cell as far as a table has room.
pub(super) fn short(text: &str) -> String {
    const ROOM: usize = 24;
    if text.chars().count() <= ROOM {
        return text.to_owned();
    }
    let start: String = text.chars().take(ROOM - 1).collect();
    format!("{start}…")
}

/// What is known of a source besides its columns, each fact with what it is called.
pub(super) fn facts(inspection: &Inspection) -> Vec<(&'static str, String)> {
    let mut facts = Vec::new();
    let found = |detected: bool| if detected { "" } else { " (as stated)" };
    let compression = inspection
        .compression
        .map(|name| format!(", {name}-compressed"))
        .unwrap_or_default();
    facts.push(("format", format!("{}{compression}", inspection.format)));
    if let (Some(dialect), Some(detected)) = (&inspection.dialect, &inspection.detected) {
        let delimiter = if detected.single_column {
            "none detected: one field on each line".to_owned()
        } else {
            format!(
                "{}{}",
                dialect.delimiter,
                found(detected.delimiter_detected)
            )
        };
        facts.push(("delimiter", delimiter));
        facts.push(("quotes", quotes(inspection, dialect.quote)));
        let mark = if dialect.bom {
            ", with byte-order mark"
        } else {
            ""
        };
        let encoding = dialect.encoding.name();
        facts.push((
            "encoding",
            format!("{encoding}{}{mark}", found(detected.encoding_detected)),
        ));
        let mut line_ends = dialect.line_end.name().to_owned();
        if inspection.other_line_ends > 0 {
            let others = records(inspection.other_line_ends);
            line_ends.push_str(&format!(", but a different one after {others}"));
        }
        facts.push(("line ends", line_ends));
    }
    if let Some(sheet) = &inspection.sheet {
        facts.extend(sheet_facts(sheet));
    }
    if let Some(tree) = &inspection.tree {
        facts.extend(tree_facts(tree, &inspection.columns));
    }
    let header = if inspection.tree.is_some() {
        number(inspection.source_columns)
    } else if inspection.header {
        format!(
            "yes, {}",
            counted(inspection.source_columns, "column", "columns")
        )
    } else {
        format!(
            "no (as stated), {}",
            counted(inspection.source_columns, "column", "columns")
        )
    };
    let label = if inspection.tree.is_some() {
        "columns"
    } else {
        "header"
    };
    facts.push((label, header));
    if let Some(size) = inspection.bytes {
        facts.push(("size", bytes(size)));
    }
    facts.push(("records", number(inspection.tally.records)));
    let tally = &inspection.tally;
    if inspection.kept < tally.records {
        facts.push(("kept", format!("{} by the steps", number(inspection.kept))));
    }
    for (label, count) in [
        ("rejected", tally.rejected + inspection.rejected_by_steps),
        ("padded", tally.padded),
        (
            if inspection.sheet.is_some() {
                "blank rows"
            } else {
                "blank lines"
            },
            tally.blank_lines,
        ),
        ("comments", tally.comments),
        ("skipped", inspection.skipped),
    ] {
        if count > 0 {
            facts.push((label, number(count)));
        }
    }
    facts
}

/// Where the sheet is in its workbook, and what is in it besides plain values.
fn sheet_facts(sheet: &SheetFacts) -> Vec<(&'static str, String)> {
    let place = sheet
        .sheets
        .iter()
        .position(|info| info.name == sheet.sheet);
    let place = place.map_or(0, |place| place as u64 + 1);
    let count = sheet.sheets.len() as u64;
    let names: Vec<String> = sheet
        .sheets
        .iter()
        .map(|info| {
            let note = match (info.has_cells, info.visibility) {
                (false, _) => " (no cells)",
                (true, Visibility::Visible) => "",
                (true, Visibility::Hidden) => " (hidden)",
                (true, Visibility::VeryHidden) => " (very hidden)",
            };
            format!("{}{note}", info.name)
        })
        .collect();
    let mut facts = vec![
        (
            "sheet",
            format!(
                "{} of {}: {}",
                number(place),
                number(count),
                names.join(", ")
            ),
        ),
        ("range", sheet.range.clone()),
    ];
    let formulas = match sheet.formulas_without_value {
        0 => "their calculated values are read".to_owned(),
        count if count == sheet.formulas => "never calculated".to_owned(),
        count => format!("{} of them never calculated", number(count)),
    };
    for (label, count, what) in [
        ("formulas", sheet.formulas, formulas.as_str()),
        (
            "errors",
            sheet.errors,
            "cells with an error value such as #N/A",
        ),
        (
            "merged",
            sheet.merged,
            "ranges; the first cell of each has the value",
        ),
        ("hidden rows", sheet.hidden_rows, "read too"),
    ] {
        if count > 0 {
            facts.push((label, format!("{}, {what}", number(count))));
        }
    }
    facts
}

fn quotes(inspection: &Inspection, quote: Quote) -> String {
    let Quote::Byte(quote) = quote else {
        return "none (as stated)".to_owned();
    };
    let sign = char::from(quote);
    let (quoted, all) = (inspection.quoted_fields, inspection.fields);
    if quoted == 0 {
        "none needed".to_owned()
    } else if quoted == all {
        format!("{sign} around every field")
    } else {
        let share = quoted as f64 * 100.0 / all as f64;
        let share = if share < 0.1 {
            "under 0.1 %".to_owned()
        } else {
            format!("{share:.1} %")
        };
        format!(
            "{sign} around {} ({share})",
            counted(quoted, "field", "fields")
        )
    }
}

/// The type of a column, in words.
pub(super) fn kind(column: &ColumnProfile) -> String {
    let places = match column.scale {
        Some(scale) if scale > 0 => format!(", {}", counted(scale as u64, "place", "places")),
        _ => String::new(),
    };
    let format = match &column.number_format {
        Some(format) => format!(" ({format})"),
        None => String::new(),
    };
    format!("{}{places}{format}", column.kind.name())
}

/// The values of a column and how often they stand.
pub(super) fn show_values(out: &mut impl Write, counts: &ValueCounts) -> io::Result<()> {
    let ValueCounts {
        path,
        key,
        records: all,
        values,
        incomplete,
        ..
    } = counts;
    let more = if *incomplete { "more than " } else { "" };
    let distinct = counted(values.len() as u64, "value", "values");
    writeln!(
        out,
        "{HEADING}{path}: {more}{distinct} of {key} in {}{HEADING:#}",
        records(*all)
    )?;
    writeln!(out)?;
    let has_bars = terminal_width().is_some_and(|width| width >= LEAST_FOR_BARS);
    let most = values.first().map_or(1, |value| value.records.max(1));
    let mut columns = vec![
        ("records", Align::Right),
        ("share", Align::Right),
        ("value", Align::Left),
    ];
    if has_bars {
        columns.insert(2, ("", Align::Left));
    }
    let mut table = Table::new(2, &columns);
    for count in values {
        let share = format!(
            "{:.1} %",
            count.records as f64 * 100.0 / (*all).max(1) as f64
        );
        let value = if count.value.is_empty() {
            "(blank)"
        } else {
            &count.value
        };
        let mut cells = vec![number(count.records), share, value.to_owned()];
        if has_bars {
            let length = (count.records as f64 * 20.0 / most as f64).ceil() as usize;
            cells.insert(2, "█".repeat(length.clamp(1, 20)));
        }
        table.row(&cells);
    }
    table.show(out)?;
    if counts.rejected > 0 {
        writeln!(out, "  rejected: {}", records(counts.rejected))?;
    }
    if *incomplete {
        writeln!(
            out,
            "  and more: there are too many distinct values to count"
        )?;
    }
    Ok(())
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn counts_are_bars() {
        assert_eq!(bars(&[1, 0, 4, 8]), "▁ ▄█");
        assert_eq!(bars(&[1, 1_000_000]), "▁█");
        assert_eq!(bars(&[]), "");
    }
}
