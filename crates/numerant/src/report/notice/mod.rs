//! Notices in words.

mod of_formats;

use crate::hint::reading_option;
use numerant_engine::ledger::Ambiguous;
use numerant_engine::output::{Direction, Recovered};
use numerant_engine::{Notice, ValuesBecause};
use numerant_naming::ClashPolicy;

pub(in crate::report) use of_formats::header;
use of_formats::{balance, extracted, messages, not_drawn, sheet, text_note};

use super::words::{counted, number};

/// Names that a notice lists.
const SHOWN: usize = 4;

/// What a notice says of a run that is only planned.
pub(super) fn planned_text(notice: &Notice) -> String {
    let text = text(notice);
    match notice {
        Notice::NamesChanged(_)
        | Notice::NamesClashed(_)
        | Notice::Tidied(_)
        | Notice::KeptText(_) => text
            .replace("and were ", "and would be ")
            .replace("and was ", "and would be ")
            .replace(" were ", " would be ")
            .replace(" was ", " would be "),
        _ => text,
    }
}

/// Two ways to read a column, and the option that chooses one.
pub(super) fn ambiguous_text(ambiguous: &Ambiguous) -> String {
    let Ambiguous {
        one,
        other,
        is_date,
    } = ambiguous;
    let option = if *is_date {
        "--date-format %d/%m/%Y or %m/%d/%Y"
    } else {
        "--decimal-comma or --number-format '1,234'"
    };
    format!("could be {one} or {other}; {option} decides")
}

/// What a notice says.
pub(super) fn text(notice: &Notice) -> String {
    match notice {
        Notice::Recovered(recovered) => recovered_text(recovered),
        Notice::Unfinished(folder) => format!(
            "an earlier run into {} was interrupted during its commit; the next run rolls it back, and numerant recover does so now",
            super::words::folder(folder)
        ),
        Notice::Unlocked(folder) => format!(
            "the file system of {} has no locks: do not run two jobs into it at the same time",
            super::words::folder(folder)
        ),
        Notice::Header { source, note } => format!("{source}: {}", header(note)),
        Notice::Records {
            source,
            more,
            found,
        } => {
            let beside = match found.beside.as_slice() {
                [] => String::new(),
                names => format!("; outside the records, and not read: {}", names.join(", ")),
            };
            let sources = match more {
                0 => source.clone(),
                more => format!("{source} and {}", counted(*more, "other", "others")),
            };
            let say = match (&found.above, found.others.first()) {
                (Some((records, list)), _) => {
                    format!("--records '{records}' --lists 'rows={list}' adds them to each record")
                }
                (None, other) => format!(
                    "--records chooses another path, such as '{}'",
                    other.map_or("$", String::as_str)
                ),
            };
            format!(
                "{sources}: detected records at {}{beside}; {say}",
                found.records
            )
        }
        Notice::Nested { example } => format!(
            "columns with dots in their names are nested, such as '{example}'; --flat writes them without nesting"
        ),
        Notice::NamesMadeLegal(names) => {
            let shown: Vec<String> = names
                .iter()
                .take(5)
                .map(|(name, legal)| format!("'{name}' → {legal}"))
                .collect();
            format!(
                "{} changed to be valid in XML: {}{}",
                counted(names.len() as u64, "name was", "names were"),
                shown.join(", "),
                if names.len() > 5 { ", …" } else { "" }
            )
        }
        Notice::SingleColumn { source } => format!(
            "{source}: no delimiter detected, so each line is one field; --delimiter states one"
        ),
        Notice::Text { source, note } => format!("{source}: {}", text_note(note)),
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
                "{} changed to be valid on every system: {}{more}",
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
        Notice::TotalRecords(total) => {
            let what = match total.value.as_str() {
                "" => format!("'{}' is blank there", total.column),
                value => format!("'{value}' in column '{}'", total.column),
            };
            let condition = match total.value.as_str() {
                "" => format!("\"{}\" IS NOT NULL", total.column),
                value => format!("\"{}\" IS DISTINCT FROM '{value}'", total.column),
            };
            format!(
                "{}, {}: {} like a total of other records ({what}); --where '{}' leaves {} out",
                total.source,
                total.at,
                match total.records {
                    1 => "the record looks".to_owned(),
                    records => format!("this record and {} more look", number(records - 1)),
                },
                condition.replace('\'', "'\\''"),
                if total.records == 1 { "it" } else { "them" },
            )
        }
        Notice::SimilarKeys(similar) => {
            let groups: Vec<String> = similar
                .examples
                .iter()
                .map(|group| {
                    let values: Vec<String> = group
                        .iter()
                        .map(|(value, records)| format!("'{value}' ({})", number(*records)))
                        .collect();
                    values.join(" and ")
                })
                .collect();
            format!(
                "column '{}': {} only in case or blanks: {}{}; {}",
                similar.column,
                counted(similar.values, "value differs", "values differ"),
                groups.join("; "),
                if similar.values as usize > similar.examples.iter().map(Vec::len).sum() {
                    "; …"
                } else {
                    ""
                },
                if similar.in_blanks {
                    format!(
                        "--tidy trims values, --by {}:upper joins values that differ in case",
                        similar.column
                    )
                } else {
                    format!("--by {}:upper joins them", similar.column)
                }
            )
        }
        Notice::OthersInFolder {
            folder,
            files,
            examples,
        } => format!(
            "{} in {} that this run does not write: {}{}; --existing clear with the --ledger of the previous run removes its outputs",
            counted(*files, "file is", "files are"),
            super::words::folder(std::path::Path::new(folder)),
            examples.join(", "),
            if *files > examples.len() as u64 {
                ", …"
            } else {
                ""
            },
        ),
        Notice::Cleared { paths, is_planned } => format!(
            "{} of the previous run {}: {}",
            counted(paths.len() as u64, "file", "files"),
            match (is_planned, paths.len()) {
                (true, _) => "would be removed",
                (false, 1) => "was removed",
                (false, _) => "were removed",
            },
            some_of(paths)
        ),
        Notice::ChangedSince(paths) => format!(
            "{} of the previous run {} since, and {} kept: {}",
            counted(paths.len() as u64, "file", "files"),
            if paths.len() == 1 {
                "was changed"
            } else {
                "were changed"
            },
            if paths.len() == 1 { "is" } else { "are" },
            some_of(paths)
        ),
        Notice::SortedAsText(texts) => format!(
            "--sort: {} of {} in column '{}' sorted as text, such as '{}'{}",
            number(texts.texts),
            counted(texts.values, "value", "values"),
            texts.column,
            texts.example,
            match &texts.option {
                Some(option) => format!("; {} reads such values", reading_option(option)),
                None => String::new(),
            }
        ),
        Notice::Unknown(unknown) => {
            let column = unknown.columns.first().map_or("column", |(name, _)| name);
            format!(
                "{}: {} in {} {}, for which the condition is neither true nor false; to count a blank as another value, write \
                 \"{column}\" IS DISTINCT FROM 'VALUE' or COALESCE(\"{column}\", 'VALUE')",
                if unknown.is_case {
                    format!("--case {}", unknown.condition)
                } else {
                    unknown.condition.clone()
                },
                match unknown.columns.as_slice() {
                    [] => "a value is missing".to_owned(),
                    columns => {
                        let names: Vec<String> = columns
                            .iter()
                            .map(|(name, _)| format!("'{name}'"))
                            .collect();
                        format!("{} is blank", names.join(" or "))
                    }
                },
                super::words::records(unknown.records),
                if unknown.is_case {
                    "of no case"
                } else {
                    "that were left out"
                },
            )
        }
        Notice::UnusedCases(names) => {
            let names: Vec<String> = names.iter().map(|name| format!("'{name}'")).collect();
            format!(
                "no record matches {} {}",
                if names.len() == 1 {
                    "the case"
                } else {
                    "the cases"
                },
                names.join(", ")
            )
        }
        Notice::NotAsNamed { file, format } => {
            format!("{file}: its content is {format}, not the format of its extension")
        }
        Notice::OpenElsewhere(workbooks) => format!(
            "{} open in a spreadsheet program; unsaved changes were not read: {}",
            counted(workbooks.len() as u64, "workbook is", "workbooks are"),
            first_of(workbooks.iter().cloned())
        ),
        Notice::EmptySheets { workbook, sheets } => format!(
            "{workbook}: {} empty and not read: {}",
            counted(sheets.len() as u64, "sheet is", "sheets are"),
            first_of(sheets.iter().map(|name| format!("'{name}'")))
        ),
        Notice::SheetsWithoutCells { workbook, sheets } => format!(
            "{workbook}: {} a chart or macros instead of cells and {} in no output: {}; combine --as sheets keeps charts",
            counted(sheets.len() as u64, "sheet has", "sheets have"),
            if sheets.len() == 1 { "is" } else { "are" },
            first_of(sheets.iter().map(|name| format!("'{name}'")))
        ),
        Notice::SheetsPassedOver { workbook, sheets } => format!(
            "{workbook}: {} not read: {}; --read-sheet chooses sheets, --read-sheet all reads all",
            counted(sheets.len() as u64, "sheet was", "sheets were"),
            first_of(sheets.iter().map(|name| format!("'{name}'")))
        ),
        Notice::Sheet { source, note } => format!("{source}: {}", sheet(note)),
        Notice::OnlyValues { workbook, because } => {
            let because = match because {
                ValuesBecause::Format => "only values of this format are read",
                ValuesBecause::Packed => "it is compressed; unpack it to keep the look",
                ValuesBecause::Changed => "steps or writing options change them",
            };
            format!("{workbook}: sheets are written as values, without their look: {because}")
        }
        Notice::Messages { source, facts } => messages(source, facts),
        Notice::Balance(note) => balance(note),
        Notice::Incomplete(copies) => {
            let shown: Vec<String> = copies
                .iter()
                .take(SHOWN)
                .map(|(path, places)| format!("{path} ({})", places.join(", ")))
                .collect();
            let more = copies.len().saturating_sub(SHOWN);
            format!(
                "{} filled without records for a table: {}{}",
                counted(copies.len() as u64, "copy is", "copies are"),
                shown.join(", "),
                if more > 0 {
                    format!(" and {more} more")
                } else {
                    String::new()
                },
            )
        }
        Notice::SheetsRenamed(renamed) => {
            let shown: Vec<String> = renamed
                .iter()
                .take(SHOWN)
                .map(|(old, new)| format!("{old} → {new}"))
                .collect();
            let more = renamed.len().saturating_sub(SHOWN);
            format!(
                "sheets with the same name are renamed after their workbooks: {}{}; --sheet gives other names",
                shown.join(", "),
                if more > 0 {
                    format!(" and {more} more")
                } else {
                    String::new()
                },
            )
        }
        Notice::NotDrawn { paths, what } => not_drawn(paths, what),
        Notice::Extracted { path, what } => format!("{path}: {}", extracted(what).join("; ")),
        Notice::ReadAs(columns) => {
            let shown = columns.iter().take(SHOWN);
            let shown: Vec<String> = shown
                .map(|(column, format)| format!("'{column}' like {format}"))
                .collect();
            let more = if columns.len() > SHOWN { ", …" } else { "" };
            format!(
                "values are read as their column is written: {}{more}",
                shown.join(", ")
            )
        }
        Notice::TypedOtherwise(columns) => {
            let shown = columns.iter().take(SHOWN).map(|odd| {
                let files = odd.usual_files + odd.others.len();
                let others: Vec<String> = odd
                    .others
                    .iter()
                    .take(SHOWN)
                    .map(|(file, kind)| format!("{kind} in {file}"))
                    .collect();
                let more = if odd.others.len() > SHOWN {
                    ", …"
                } else {
                    ""
                };
                format!(
                    "'{}' is {} in {} of {} files, and {}{more}",
                    odd.column,
                    odd.usual,
                    number(odd.usual_files as u64),
                    number(files as u64),
                    others.join(", ")
                )
            });
            let shown: Vec<String> = shown.collect();
            let more = if columns.len() > SHOWN { "; …" } else { "" };
            let (column, kind) = columns
                .first()
                .map_or(("", ""), |odd| (&odd.column, "text"));
            format!(
                "columns have another type in some files: {}{more}; --type '{column}={kind}' gives all the same type",
                shown.join("; ")
            )
        }
        Notice::KeptText(columns) => {
            let shown: Vec<String> = columns
                .iter()
                .take(3)
                .map(|column| {
                    if let Some(ambiguous) = &column.ambiguous {
                        return format!("'{}' ({})", column.column, ambiguous_text(ambiguous));
                    }
                    let (value, line) = column
                        .text_because
                        .as_ref()
                        .map(|odd| (odd.value.as_str(), odd.line))
                        .unwrap_or_default();
                    let others = column.others.as_deref().unwrap_or_default();
                    format!(
                        "'{}' ('{value}' on line {}; most values are {others})",
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
                "{} written as text, as a type would change values: {}{more}; --type sets a type",
                counted(columns.len() as u64, "column was", "columns were"),
                shown.join(", ")
            )
        }
    }
}

/// The first of some names.
fn some_of(names: &[String]) -> String {
    let shown = names.iter().take(SHOWN).cloned().collect::<Vec<_>>();
    match names.len() - shown.len() {
        0 => shown.join(", "),
        more => format!("{} and {more} more", shown.join(", ")),
    }
}

/// What became of a run that was interrupted.
pub(super) fn recovered_text(recovered: &Recovered) -> String {
    let folder = super::words::folder(&recovered.folder);
    if recovered.cleared > 0 {
        let what = counted(recovered.cleared, "hidden folder", "hidden folders");
        return format!(
            "{what} of interrupted runs into {folder}: removed; these runs had changed nothing"
        );
    }
    let changes = |done: &str| {
        let count = counted(recovered.changes, "change was", "changes were");
        format!("an earlier run into {folder} was interrupted during its commit; {count} {done}")
    };
    let mut text = match recovered.direction {
        None => format!(
            "an earlier run into {folder} was interrupted after its commit; its outputs are complete"
        ),
        Some(Direction::Back) => changes("rolled back, and the folder is as before that run"),
        Some(Direction::Forward) => changes("completed, and all its outputs are in place"),
    };
    if !recovered.changed_since.is_empty() {
        let names = recovered
            .changed_since
            .iter()
            .map(|path| path.display().to_string());
        text.push_str(&format!(
            "; changed since and not touched (the files from before the run are next to them, with .before): {}",
            first_of(names)
        ));
    }
    text
}

/// Names that a note lists.
const LISTED: usize = 5;

/// The first of some names, and whether there are more.
fn first_of(names: impl ExactSizeIterator<Item = String>) -> String {
    let more = if names.len() > LISTED { ", …" } else { "" };
    let names: Vec<String> = names.take(LISTED).collect();
    format!("{}{more}", names.join(", "))
}
