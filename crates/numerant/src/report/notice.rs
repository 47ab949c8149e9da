//! Notices in words.

use numerant_core::engine::{Notice, SheetNote};
use numerant_core::name::ClashPolicy;
use numerant_core::record::HeaderNote;

use super::words::{counted, number};

/// What a notice says.
pub(super) fn text(notice: &Notice) -> String {
    match notice {
        Notice::Header { source, note } => format!("{source}: {}", header(note)),
        Notice::Records {
            source,
            more,
            found,
        } => {
            let beside = match found.beside.as_slice() {
                [] => String::new(),
                names => format!("; beside them stand {}", names.join(", ")),
            };
            let sources = match more {
                0 => source.clone(),
                more => format!("{source} and {}", counted(*more, "other", "others")),
            };
            let say = match (&found.above, found.others.first()) {
                (Some((records, list)), _) => {
                    format!(
                        "--records '{records}' --repeats 'rows={list}' has those in each record, too"
                    )
                }
                (None, other) => format!(
                    "--records chooses others, such as '{}'",
                    other.map_or("$", String::as_str)
                ),
            };
            format!(
                "{sources}: the records were found at {}{beside}; {say}",
                found.records
            )
        }
        Notice::NamesMadeLegal(names) => {
            let shown: Vec<String> = names
                .iter()
                .take(5)
                .map(|(name, legal)| format!("'{name}' → {legal}"))
                .collect();
            format!(
                "{} made legal for XML: {}{}",
                counted(names.len() as u64, "name was", "names were"),
                shown.join(", "),
                if names.len() > 5 { ", …" } else { "" }
            )
        }
        Notice::SingleColumn { source } => format!(
            "{source}: no delimiter was found, so each line is one field; if there is one, name it \
             with --delimiter"
        ),
        Notice::StrayQuotes { source, fields } => format!(
            "{source}: {} a quote where RFC 4180 has none; they were read as they stand",
            counted(*fields, "field holds", "fields hold")
        ),
        Notice::NamesChanged(changed) => {
            let examples: Vec<String> = changed
                .examples
                .iter()
                .map(|(value, name)| format!("'{value}' → {name}"))
                .collect();
            let more = if changed.count > examples.len() as u64 {
                ", …"
            } else {
                ""
            };
            format!(
                "{} changed to what every system can hold: {}{more}",
                counted(changed.count, "name was", "names were"),
                examples.join(", ")
            )
        }
        Notice::NamesClashed(clashed) => {
            let done = match clashed.policy {
                ClashPolicy::Number if clashed.count == 1 => "and was numbered",
                ClashPolicy::Number => "and were numbered",
                ClashPolicy::First => "and only the first of each was written",
                ClashPolicy::Last => "and only the last of each was written",
                _ if clashed.count == 1 => "and was written with it",
                _ => "and were written together",
            };
            format!(
                "{} the name of an earlier one, {done}: {}{}",
                counted(clashed.count, "output had", "outputs had"),
                clashed.examples.join(", "),
                if clashed.count > clashed.examples.len() as u64 {
                    ", …"
                } else {
                    ""
                }
            )
        }
        Notice::Tidied(tidied) => {
            let mut text = format!(
                "{} trimmed",
                counted(tidied.values, "value was", "values were")
            );
            if !tidied.columns.is_empty() {
                let names: Vec<String> = tidied
                    .columns
                    .iter()
                    .map(|name| format!("'{name}'"))
                    .collect();
                let count = counted(names.len() as u64, "column", "columns");
                let without = if names.len() == 1 { "is" } else { "are" };
                text.push_str(&format!(
                    ", and {count} without any value {without} left out: {}",
                    names.join(", ")
                ));
            }
            text
        }
        Notice::Unmatched(unmatched) => {
            let examples: Vec<String> = unmatched
                .examples
                .iter()
                .take(3)
                .map(|(key, _)| {
                    if key.is_empty() {
                        "(blank)".to_owned()
                    } else {
                        format!("'{key}'")
                    }
                })
                .collect();
            let more = if unmatched.keys > examples.len() as u64 {
                ", …"
            } else {
                ""
            };
            format!(
                "{} of column '{}' in {} {} not in {}: {}{more}",
                counted(unmatched.keys, "value", "values"),
                unmatched.column,
                super::words::records(unmatched.records),
                if unmatched.keys == 1 { "is" } else { "are" },
                unmatched.table,
                examples.join(", ")
            )
        }
        Notice::UnusedCases(names) => {
            let names: Vec<String> = names.iter().map(|name| format!("'{name}'")).collect();
            format!(
                "no record is the first to fit {} {}",
                if names.len() == 1 {
                    "the case"
                } else {
                    "the cases"
                },
                names.join(", ")
            )
        }
        Notice::NotAsNamed { file, format } => {
            format!("{file}: its content is in another format than its name says: {format}")
        }
        Notice::SheetsPassedOver { workbook, sheets } => {
            let shown: Vec<String> = sheets
                .iter()
                .take(5)
                .map(|name| format!("'{name}'"))
                .collect();
            let more = if sheets.len() > shown.len() {
                ", …"
            } else {
                ""
            };
            format!(
                "{workbook}: {} not read: {}{more}; --read-sheet chooses, --read-sheet all reads all",
                counted(sheets.len() as u64, "sheet was", "sheets were"),
                shown.join(", ")
            )
        }
        Notice::Sheet { source, note } => format!("{source}: {}", sheet(note)),
        Notice::KeptText(columns) => {
            let shown: Vec<String> = columns
                .iter()
                .take(3)
                .map(|column| {
                    let (value, line) = column
                        .text_because
                        .as_ref()
                        .map(|odd| (odd.value.as_str(), odd.line))
                        .unwrap_or_default();
                    let others = column.others.as_deref().unwrap_or_default();
                    format!(
                        "'{}' ('{value}' on line {} is not {others} like most)",
                        column.column,
                        number(line)
                    )
                })
                .collect();
            let more = if columns.len() > shown.len() {
                ", …"
            } else {
                ""
            };
            format!(
                "{} kept text, so that every value comes back as it is: {}{more}; --type decides \
                 otherwise",
                counted(columns.len() as u64, "column was", "columns were"),
                shown.join(", ")
            )
        }
        _ => String::new(),
    }
}

/// What is odd about the cells of a sheet.
fn sheet(note: &SheetNote) -> String {
    match note {
        SheetNote::FormulasWithoutValue(count) => format!(
            "{} no kept value and {} read as blank; open and save the workbook in a spreadsheet \
             program to have them computed",
            counted(*count, "formula has", "formulas have"),
            if *count == 1 { "was" } else { "were" }
        ),
        SheetNote::Errors(count) => format!(
            "{} an error such as #N/A, which was read as text",
            counted(*count, "cell holds", "cells hold")
        ),
        SheetNote::Merged(count) => format!(
            "{} merged; only the first cell of each has the value",
            counted(*count, "range of cells is", "ranges of cells are")
        ),
        SheetNote::HiddenRows(count) => format!(
            "{} hidden, and read like the others",
            counted(*count, "row is", "rows are")
        ),
        SheetNote::Hidden => "the sheet is hidden".to_owned(),
        _ => String::new(),
    }
}

/// What is odd about a header.
pub(super) fn header(note: &HeaderNote) -> String {
    match note {
        HeaderNote::Blank { column, name } => {
            format!(
                "column {} has no name; call it '{name}'",
                number(*column as u64)
            )
        }
        HeaderNote::Duplicate {
            column,
            header,
            name,
        } => format!(
            "column {} is called '{header}' like an earlier one; call it '{name}'",
            number(*column as u64)
        ),
        HeaderNote::Padded { column, name } => format!(
            "column {} has white space around its name; call it '{name}'",
            number(*column as u64)
        ),
        _ => String::new(),
    }
}
