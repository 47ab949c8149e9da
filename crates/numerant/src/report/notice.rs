//! Notices in words.

use numerant_core::engine::Notice;
use numerant_core::name::ClashPolicy;
use numerant_core::record::HeaderNote;

use super::words::{counted, number};

/// What a notice says.
pub(super) fn text(notice: &Notice) -> String {
    match notice {
        Notice::Header { source, note } => format!("{source}: {}", header(note)),
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
                ClashPolicy::Number => "and were numbered",
                ClashPolicy::First => "and only the first of each was written",
                ClashPolicy::Last => "and only the last of each was written",
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
