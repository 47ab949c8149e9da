//! What to do about outputs that cannot be written as they were wanted.

use std::io;

use numerant_engine::output::OutputError;
use numerant_engine::{NameClash, Refusal, SideFileKind};
use numerant_format::EncodeError;
use numerant_shapes::ShapeProblem;
use numerant_sheets::TemplateProblem;

use super::read::of_column;

/// What to do about a value that cannot be written.
pub(super) fn of_encoding(error: &EncodeError) -> String {
    match error {
        EncodeError::Character { .. } => "write it with --out-encoding utf-8".to_owned(),
        EncodeError::NeedsQuotes { .. } => {
            "choose a delimiter that no value contains with --out-delimiter, or remove --quote none"
                .to_owned()
        }
        EncodeError::TooManyColumns { .. } => {
            "choose columns with --keep or --drop, or write csv".to_owned()
        }
        EncodeError::TextTooLong { column, .. } => format!(
            "shorten it, as with --set '{column}=SUBSTRING(\"{column}\" FROM 1 FOR 32000)', or remove the column with --drop, or write csv"
        ),
        EncodeError::ValueAndMembers { column, .. } => format!(
            "rename one of them, as with --rename {column}=NAME, or use --flat"
        ),
        EncodeError::OnePlace { first, .. } | EncodeError::TwoValues { first, .. } => format!("rename one of them, as with --rename {first}=NAME"),
        EncodeError::NotOne { .. } => {
            "put it into the part that repeats for each record, or sort and group by it too".to_owned()
        }
        EncodeError::Redeclared(_) => {
            "--no-prefixes removes namespaces; a split without steps keeps records verbatim".to_owned()
        }
        EncodeError::KeyTwice { .. } => {
            "let the part repeat for each value of the key, as \"{each COLUMN}\" does".to_owned()
        }
        EncodeError::Aggregate { .. } => {
            "leave such records out with --where, or correct the values with --set".to_owned()
        }
        EncodeError::Part { .. } => "--date-format states how dates are written".to_owned(),
        EncodeError::Marc {
            is_character: true, ..
        } => {
            "--control-characters drop removes such characters, except in tags and codes; --ragged reject \
             leaves such records out"
                .to_owned()
        }
        EncodeError::Marc { .. } => {
            "MARCXML has no such limit; write .marcxml, or leave the record out with --where".to_owned()
        }
        EncodeError::Unbalanced { .. } => {
            "--balance recompute makes the total the sum of the records and leaves adjustments out; --balance \
             keep copies both unchanged"
                .to_owned()
        }
        EncodeError::OnlyMessages => "write csv, json, xml or a workbook".to_owned(),
        EncodeError::SortedSources => {
            "combine them first, and sort the result".to_owned()
        }
        EncodeError::NotMarc(name) => format!("rename it, as with --rename '{name}=245$a', or remove it with --drop"),
        EncodeError::ChangedWhileRead => "run it again".to_owned(),
        EncodeError::OfFormat { hint, .. } => (*hint).to_owned(),
        EncodeError::NotWritten { .. } => "write csv, json, xml or a workbook".to_owned(),
        EncodeError::ControlSign { .. } => {
            "--control-characters drop leaves such characters out; xlsx and csv can hold them".to_owned()
        }
    }
}

/// What to do about a template that does not fit.
pub(super) fn of_template(problem: &TemplateProblem) -> Option<&'static str> {
    match problem {
        TemplateProblem::Occupied { .. } => {
            Some("--occupied replace overwrites it; or choose another cell")
        }
        TemplateProblem::OtherFormat => Some("save it as .xlsx in a spreadsheet program"),
        TemplateProblem::NoTable { .. } => Some(
            "--put writes the records of a file where it has {.records} or {.table}; --pick and --skip choose files by their names",
        ),
        TemplateProblem::Macros => Some("end --name with .xlsm"),
        TemplateProblem::OnlyValues { .. } => Some(
            "write a table, as in --put 'Sheet!B6={.records}', or use --name to make a copy for each record",
        ),
        _ => None,
    }
}

/// What to do about a shape that cannot be used.
pub(super) fn of_shape(problem: &ShapeProblem) -> Option<String> {
    match problem {
        ShapeProblem::Column(problem) => Some(of_column(problem)),
        ShapeProblem::Mark(_) => Some(
            "marks are <?each?>, <?each COLUMN,…?>, <?each LIST[*]?>, <?when CONDITION?>, <?else?>, \
             <?else when CONDITION?>, <?optional?> and <?optional @NAME?> in XML, and the same in \
             braces in JSON, such as \"{each COLUMN}\""
                .to_owned(),
        ),
        _ => None,
    }
}

/// What to do about an output that cannot be written.
pub(super) fn of_output(error: &OutputError) -> Option<&'static str> {
    if error.unfinished.is_some() {
        return Some(
            "fix the cause, then run numerant recover with that folder; the old files are kept",
        );
    }
    match error.cause.kind() {
        io::ErrorKind::StorageFull | io::ErrorKind::QuotaExceeded => {
            Some("the disk is full: nothing was changed; choose another --out or make room")
        }
        io::ErrorKind::FileTooLarge => {
            Some("the system limits the size of files (ulimit -f); nothing was changed")
        }
        io::ErrorKind::PermissionDenied | io::ErrorKind::ReadOnlyFilesystem => {
            Some("choose a folder that you may write to with --out")
        }
        io::ErrorKind::NotADirectory | io::ErrorKind::AlreadyExists => {
            Some("there is a file where a folder is needed: choose another --out")
        }
        io::ErrorKind::InvalidInput => Some("remove it, or choose another name or folder"),
        _ => None,
    }
}

/// What to do about outputs that would not be what was wanted.
pub(super) fn of_refusal(refusal: &Refusal) -> String {
    match refusal {
        Refusal::TooMany { found, .. } => {
            format!("if the column is right, allow them with --max-outputs {found}")
        }
        Refusal::Clashes { clashes, .. } if clashes.iter().all(NameClash::is_fold) => {
            "their values differ only in case or blanks: --tidy trims them, and --by COLUMN:upper or \
             {COLUMN:upper} in --name makes one of those that differ in case; or --clash number \
             keeps them apart"
                .to_owned()
        }
        Refusal::Clashes { .. } => {
            "add a column to --name that distinguishes them; or --clash number adds a number to the later names, first or last writes one of them and leaves the others out, together writes them into one file"
                .to_owned()
        }
        Refusal::FilesClash { .. } => {
            "add what distinguishes them to --name, such as '{.stem}-{.ext}.xlsx' or \
             '{.folder}/{.stem}.xlsx'; or combine them"
                .to_owned()
        }
        Refusal::Existing { .. } => {
            "--existing replace overwrites them, --existing skip keeps them; or choose another --out"
                .to_owned()
        }
        Refusal::FileExists { .. } => {
            "--existing replace overwrites it; or choose another name".to_owned()
        }
        Refusal::FolderExists { out } => format!(
            "--existing replace overwrites old outputs; or choose another folder with --out, or this one (--out {}) to add to it",
            out.display()
        ),
        Refusal::Source { .. } => "choose another --out or --name".to_owned(),
        Refusal::Outgrown { .. } => {
            "--overflow sheets goes on in further sheets, --overflow files in further files; or \
             write csv"
                .to_owned()
        }
        Refusal::Incomplete { .. } => {
            "--incomplete skip leaves these out, --incomplete fill fills them in part".to_owned()
        }
        Refusal::SideFile { kind, .. } => format!("choose another file for {}", side_file(*kind)),
    }
}

/// The option that names a file next to the outputs.
fn side_file(kind: SideFileKind) -> &'static str {
    match kind {
        SideFileKind::Ledger => "--ledger",
        SideFileKind::Rejects => "--rejects",
        SideFileKind::Page => "--page",
    }
}
