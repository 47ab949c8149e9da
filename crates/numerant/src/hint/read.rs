//! What to do about sources that cannot be read.

use numerant_data::record::ColumnError;
use numerant_data::source::{ReadProblem, SelectError};

/// What to do about a source that cannot be read.
pub(super) fn of_read(problem: &ReadProblem) -> Option<String> {
    match problem {
        ReadProblem::Folder => Some("name the files in it".to_owned()),
        ReadProblem::Sorting(_) => Some(
            "set the variable TMPDIR to a folder with more room, or raise --memory"
                .to_owned(),
        ),
        ReadProblem::NoHeader { skipped: 0, .. } | ReadProblem::Signs(_) => None,
        ReadProblem::EmptyComment => Some("name them, as in --comment '#'".to_owned()),
        ReadProblem::NoHeader { .. } => Some("use a smaller --skip-lines".to_owned()),
        ReadProblem::UnknownEncoding | ReadProblem::EncodingName(_) => {
            Some("name its encoding with --encoding".to_owned())
        }
        ReadProblem::Ragged {
            likely_header: Some(line),
            ..
        } => Some(format!(
            "line {line} looks like the header: --skip-lines {} skips the lines above it",
            line - 1
        )),
        ReadProblem::Nul { .. } => Some(
            "for UTF-16 without a byte-order mark use --encoding utf-16le or utf-16be"
                .to_owned(),
        ),
        ReadProblem::Encoding {
            likely: Some(likely),
            ..
        } => Some(format!("it may be {likely}: try --encoding {likely}")),
        ReadProblem::Encoding { .. } => Some(
            "correct the bytes, or state the encoding of the file with --encoding".to_owned(),
        ),
        ReadProblem::Ragged {
            surplus: false,
            found,
            expected,
            ..
        } if found < expected => Some(
            "--ragged pad fills the missing fields with blanks, --ragged reject leaves such \
             records out (--rejects FILE keeps them)"
                .to_owned(),
        ),
        ReadProblem::Ragged { surplus: false, .. } => Some(
            "the surplus fields are blank: --ragged pad drops them, --ragged reject leaves \
             such records out"
                .to_owned(),
        ),
        ReadProblem::Ragged { .. } => Some(
            "is there a delimiter inside an unquoted value? --ragged reject leaves such records out \
             (--rejects FILE keeps them), --delimiter states another delimiter"
                .to_owned(),
        ),
        ReadProblem::UnclosedQuote | ReadProblem::MisplacedQuote => Some(
            "correct the quote, or use --quote none if quotes are plain text in this file"
                .to_owned(),
        ),
        ReadProblem::RecordTooLarge { .. } => {
            Some("is there an unclosed quote? if not, raise --memory: a record may take a quarter of it".to_owned())
        }
        ReadProblem::OtherColumns { .. } => Some(
            "split them one by one, or keep them apart with {.stem} or {.sheet} in --name"
                .to_owned(),
        ),
        ReadProblem::NoWorkbook { found: "text", .. } => {
            Some("if it is delimited text, use --from csv".to_owned())
        }
        ReadProblem::NoWorkbook { .. } => None,
        ReadProblem::NoSuchSheet { sheets, .. } => Some(format!("sheets: {}", sheets.join(", "))),
        ReadProblem::OutsideColumns { .. } => Some(
            "is there a note next to the table? --ragged reject leaves such rows out (--rejects FILE keeps them)"
                .to_owned(),
        ),
        ReadProblem::Uncomputed { .. } => Some(
            "open and save the workbook in a spreadsheet program, which computes them; or read \
             them as blank (--on-uncomputed blank) or as text (--on-uncomputed formula)"
                .to_owned(),
        ),
        ReadProblem::Encrypted => Some("save it without a password first".to_owned()),
        ReadProblem::SharedTexts { .. } | ReadProblem::WorkbookTooLarge { .. } => {
            Some("raise --memory: a workbook may take a quarter of it".to_owned())
        }
        ReadProblem::EmptySheet | ReadProblem::EmptyWorkbook { .. } | ReadProblem::NoSheets => None,
        ReadProblem::Damaged { .. } => Some(
            "was the download or copy interrupted? get the file again, or open and save it in a spreadsheet program"
                .to_owned(),
        ),
        ReadProblem::SheetWithoutCells { .. } | ReadProblem::DocumentType => None,
        ReadProblem::NoDocument { .. } => Some("if it is delimited text, use --from csv".to_owned()),
        ReadProblem::TooDeep { .. } => Some("raise --depth".to_owned()),
        ReadProblem::NoRecords { .. } => Some(
            "numerant inspect shows its structure; --records PATH states where its records are"
                .to_owned(),
        ),
        ReadProblem::RecordsPath { .. } => Some(
            "for JSON a JSONPath such as '$.calls[*]', for XML an XPath such as \
             '/port/call' or '//call'"
                .to_owned(),
        ),
        ReadProblem::KeyColumn { .. } => Some("--key-column NAME gives that column another name".to_owned()),
        ReadProblem::TooManyItems { path, .. } => Some(format!(
            "--lists rows={path} makes a record of each item, --lists keep leaves the list \
             in one cell, --lists columns=NUMBER allows more"
        )),
        ReadProblem::WhichRows { lists } => Some(format!(
            "choose one with --lists rows={}",
            lists.first().map_or("PATH", String::as_str)
        )),
        ReadProblem::NoRows { lists, .. } if lists.is_empty() => {
            Some("the records have no lists, so --lists is not needed".to_owned())
        }
        ReadProblem::NoRows { lists, .. } => Some(format!("lists: {}", lists.join(", "))),
        ReadProblem::OtherKind => Some(
            "choose those of one kind with --records, as with '$[?@.name]' for objects with \
             that name"
                .to_owned(),
        ),
        ReadProblem::Malformed { .. }
        | ReadProblem::NoValues { .. }
        | ReadProblem::NameTwice { .. } => None,
        ReadProblem::ChangedWhileRead => Some("run it again when the file is complete".to_owned()),
        ReadProblem::Archive { .. } => Some("was the download or copy interrupted? get the file again".to_owned()),
        ReadProblem::Packed { .. } => {
            Some("unpack the archive, and name its folder".to_owned())
        }
        ReadProblem::CannotGather { .. } => {
            Some("without --as sheets their values are combined".to_owned())
        }
        ReadProblem::BrokenRecord { .. } => Some(
            "--ragged reject leaves such records out, and --rejects FILE keeps them verbatim"
                .to_owned(),
        ),
        ReadProblem::BrokenMessage { .. } => Some(
            "nothing is left out, as it is unknown what belongs to the message; was the file cut off or changed? get it again"
                .to_owned(),
        ),
        ReadProblem::InFront { .. } => Some(
            "an interchange begins with ISA, UNA or UNB; remove what comes before it, such as the header of a mail"
                .to_owned(),
        ),
        ReadProblem::NoLayout { .. } => Some(
            "--records messages reads whole messages, --layout FILE defines their records, and split --records messages --by ST01 (or UNH02-1) separates message types"
                .to_owned(),
        ),
        ReadProblem::OfFormat { hint, .. } => Some((*hint).to_owned()),
        ReadProblem::Miscounted { .. } => Some(
            "--miscounted correct reports and corrects it, --miscounted keep leaves it unchanged"
                .to_owned(),
        ),
        ReadProblem::OtherRecord { .. } => Some("--from xml reads it as any XML".to_owned()),
        ReadProblem::Bomb { .. } | ReadProblem::LeadsOut { .. } | ReadProblem::NoLook { .. } | ReadProblem::Layout { .. } => None,
        ReadProblem::Compression { .. }
        | ReadProblem::Io(_)
        | ReadProblem::Empty
        | ReadProblem::NotText { .. } => None,
    }
}

/// What to do about names that lead to no files.
pub(super) fn of_selection(error: &SelectError) -> Option<String> {
    match error {
        SelectError::EmptyFolder { deeper: true, .. } => {
            Some("--recursive includes subfolders".to_owned())
        }
        SelectError::EmptyFolder { .. } => Some(
            "files are chosen by their extensions; --pick '*.dat' chooses others, and --from states their format"
                .to_owned(),
        ),
        SelectError::NoFile(_) | SelectError::Pattern { .. } => Some(
            "* matches any part of a name and ** any folders, as in 'parts/**/*.csv'; quote patterns \
             so that the shell leaves them alone"
                .to_owned(),
        ),
        SelectError::Folder { .. } => None,
        SelectError::Archive(error) => of_read(&error.problem),
    }
}

/// What to type instead of a column that is not there.
pub(super) fn of_column(error: &ColumnError) -> String {
    let columns = error.listed();
    match &error.nearest {
        Some(nearest) => format!("did you mean '{nearest}'? columns: {columns}"),
        None => format!("columns: {columns}"),
    }
}
