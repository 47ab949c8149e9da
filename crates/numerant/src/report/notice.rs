//! Notices in words.

use numerant_core::engine::Notice;
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
