//! What to do about a source that cannot be read.

use super::ReadProblem;

impl ReadProblem {
    /// What to do about it, if there is something to say.
    pub fn hint(&self) -> Option<String> {
        match self {
            Self::Folder => Some("name the files in it".to_owned()),
            Self::Sorting(_) => Some(
                "set the variable TMPDIR to a folder with more room, or raise --memory"
                    .to_owned(),
            ),
            Self::NoHeader { skipped: 0, .. } | Self::Signs(_) => None,
            Self::EmptyComment => Some("name them, as in --comment '#'".to_owned()),
            Self::NoHeader { .. } => Some("use a smaller --skip-lines".to_owned()),
            Self::UnknownEncoding | Self::EncodingName(_) => {
                Some("name its encoding with --encoding".to_owned())
            }
            Self::Ragged {
                likely_header: Some(line),
                ..
            } => Some(format!(
                "line {line} looks like the header: --skip-lines {} skips the lines above it",
                line - 1
            )),
            Self::Nul { .. } => Some(
                "for UTF-16 without a byte-order mark use --encoding utf-16le or utf-16be"
                    .to_owned(),
            ),
            Self::Encoding {
                likely: Some(likely),
                ..
            } => Some(format!("it may be {likely}: try --encoding {likely}")),
            Self::Encoding { .. } => Some(
                "correct the bytes, or state the encoding of the file with --encoding".to_owned(),
            ),
            Self::Ragged {
                surplus: false,
                found,
                expected,
                ..
            } if found < expected => Some(
                "--ragged pad fills the missing fields with blanks, --ragged reject leaves such \
                 records out (--rejects FILE keeps them)"
                    .to_owned(),
            ),
            Self::Ragged { surplus: false, .. } => Some(
                "the surplus fields are blank: --ragged pad drops them, --ragged reject leaves \
                 such records out"
                    .to_owned(),
            ),
            Self::Ragged { .. } => Some(
                "is there a delimiter inside an unquoted value? --ragged reject leaves such records out \
                 (--rejects FILE keeps them), --delimiter states another delimiter"
                    .to_owned(),
            ),
            Self::UnclosedQuote | Self::MisplacedQuote => Some(
                "correct the quote, or use --quote none if quotes are plain text in this file"
                    .to_owned(),
            ),
            Self::RecordTooLarge { .. } => {
                Some("is there an unclosed quote? if not, raise --memory".to_owned())
            }
            Self::OtherColumns { .. } => Some(
                "split them one by one, or keep them apart with {.stem} or {.sheet} in --name"
                    .to_owned(),
            ),
            Self::NoWorkbook { found: "text", .. } => {
                Some("if it is delimited text, use --from csv".to_owned())
            }
            Self::NoWorkbook { .. } => None,
            Self::NoSuchSheet { sheets, .. } => Some(format!("sheets: {}", sheets.join(", "))),
            Self::OutsideColumns { .. } => Some(
                "is there a note next to the table? --ragged reject leaves such rows out (--rejects FILE keeps them)"
                    .to_owned(),
            ),
            Self::Uncomputed { .. } => Some(
                "open and save the workbook in a spreadsheet program, which computes them; or read \
                 them as blank (--on-uncomputed blank) or as text (--on-uncomputed formula)"
                    .to_owned(),
            ),
            Self::Encrypted => Some("save it without a password first".to_owned()),
            Self::SharedTexts { .. } | Self::WorkbookTooLarge { .. } => {
                Some("raise --memory".to_owned())
            }
            Self::EmptySheet | Self::EmptyWorkbook { .. } | Self::NoSheets => None,
            Self::Damaged { .. } => Some(
                "was the download or copy interrupted? get the file again, or open and save it in a spreadsheet program"
                    .to_owned(),
            ),
            Self::SheetWithoutCells { .. } | Self::DocumentType => None,
            Self::NoDocument { .. } => Some("if it is delimited text, use --from csv".to_owned()),
            Self::TooDeep { .. } => Some("raise --depth".to_owned()),
            Self::NoRecords { .. } => Some(
                "numerant inspect shows its structure; --records PATH states where its records are"
                    .to_owned(),
            ),
            Self::RecordsPath { .. } => Some(
                "for JSON a JSONPath such as '$.calls[*]', for XML an XPath such as \
                 '/port/call' or '//call'"
                    .to_owned(),
            ),
            Self::KeyColumn { .. } => Some("--key-column NAME gives that column another name".to_owned()),
            Self::TooManyItems { path, .. } => Some(format!(
                "--lists rows={path} makes a record of each item, --lists keep leaves the list \
                 in one cell, --lists columns=NUMBER allows more"
            )),
            Self::WhichRows { lists } => Some(format!(
                "choose one with --lists rows={}",
                lists.first().map_or("PATH", String::as_str)
            )),
            Self::NoRows { lists, .. } if lists.is_empty() => {
                Some("the records have no lists, so --lists is not needed".to_owned())
            }
            Self::NoRows { lists, .. } => Some(format!("lists: {}", lists.join(", "))),
            Self::OtherKind => Some(
                "choose those of one kind with --records, as with '$[?@.name]' for objects with \
                 that name"
                    .to_owned(),
            ),
            Self::Malformed { .. }
            | Self::NoValues { .. }
            | Self::NameTwice { .. } => None,
            Self::ChangedWhileRead => Some("run it again when the file is complete".to_owned()),
            Self::Archive { .. } => Some("was the download or copy interrupted? get the file again".to_owned()),
            Self::Packed { .. } => {
                Some("unpack the archive, and name its folder".to_owned())
            }
            Self::CannotGather { .. } => {
                Some("without --as sheets their values are combined".to_owned())
            }
            Self::BrokenRecord { .. } => Some(
                "--ragged reject leaves such records out, and --rejects FILE keeps them verbatim"
                    .to_owned(),
            ),
            Self::BrokenMessage { .. } => Some(
                "nothing is left out, as it is unknown what belongs to the message; was the file cut off or changed? get it again"
                    .to_owned(),
            ),
            Self::InFront { .. } => Some(
                "an interchange begins with ISA, UNA or UNB; remove what comes before it, such as the header of a mail"
                    .to_owned(),
            ),
            Self::NoLayout { .. } => Some(
                "--records messages reads whole messages, --layout FILE defines their records, and split --records messages --by ST01 (or UNH02-1) separates message types"
                    .to_owned(),
            ),
            Self::OfFormat { hint, .. } => Some((*hint).to_owned()),
            Self::Miscounted { .. } => Some(
                "--miscounted correct reports and corrects it, --miscounted keep leaves it unchanged"
                    .to_owned(),
            ),
            Self::OtherRecord { .. } => Some("--from xml reads it as any XML".to_owned()),
            Self::Bomb { .. } | Self::LeadsOut { .. } | Self::NoLook { .. } | Self::Layout { .. } => None,
            Self::Compression { .. }
            | Self::Io(_)
            | Self::Empty
            | Self::NotText { .. } => None,
        }
    }
}
