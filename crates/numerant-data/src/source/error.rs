//! What can go wrong while a source is read, and where.

use std::num::NonZeroU32;
use std::{fmt, io};

use crate::dialect::{Delimiter, SignConflict};
use crate::encoding::EncodingError;
use crate::record::{At, Unit};
use crate::value::Size;

/// A problem with a source.
#[derive(Debug, thiserror::Error)]
#[error("{source_name}{place}: {problem}")]
pub struct ReadError {
    /// The source as it was named.
    pub source_name: String,
    /// Where in it.
    pub place: Place,
    /// What is wrong.
    #[source]
    pub problem: ReadProblem,
}

/// A place in a source; what is not known is `None`. Lines, records and columns count from 1.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub struct Place {
    /// Line of the text, or row of the sheet.
    pub at: Option<At>,
    /// Character of the line, from 1.
    pub character: Option<NonZeroU32>,
    /// Name of the column.
    pub column: Option<Box<str>>,
}

impl Place {
    /// A line of a text.
    pub fn line(number: u64) -> Self {
        Self::number(Unit::Line, number)
    }

    /// A character of a line of a text.
    pub fn character(line: u64, character: u64) -> Self {
        Self {
            character: u32::try_from(character).ok().and_then(NonZeroU32::new),
            ..Self::line(line)
        }
    }

    /// A record of a file that has no lines.
    pub fn record(number: u64) -> Self {
        Self::number(Unit::Record, number)
    }

    /// A row of a sheet.
    pub fn row(number: u64) -> Self {
        Self::number(Unit::Row, number)
    }

    /// The number of what a source is counted in.
    pub fn number(unit: Unit, number: u64) -> Self {
        Self {
            at: Some(At { unit, number }),
            ..Self::default()
        }
    }
}

impl fmt::Display for Place {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        if let Some(at) = self.at {
            write!(f, ", {at}")?;
        }
        if let Some(character) = self.character {
            write!(f, ", character {character}")?;
        }
        if let Some(column) = &self.column {
            write!(f, ", column '{column}'")?;
        }
        Ok(())
    }
}

/// The sheets of a workbook, for messages.
fn sheets_named(sheets: &[String]) -> String {
    let names: Vec<String> = sheets.iter().map(|name| format!("'{name}'")).collect();
    match names.as_slice() {
        [one] => format!("its sheet {one}"),
        names => format!("its sheets {}", names.join(", ")),
    }
}

/// That so many other cells are the same, for the end of a sentence.
fn others_like_it(count: u64) -> String {
    match count {
        0 => String::new(),
        1 => ", as another cell of the sheet has".to_owned(),
        count => format!(", as {count} other cells of the sheet have"),
    }
}

/// What is wrong with a source.
#[derive(Debug, thiserror::Error)]
pub enum ReadProblem {
    /// The operating system would not open or read it.
    #[error("{0}")]
    Io(#[source] io::Error),
    /// It is a folder.
    #[error("it is a folder, not a file")]
    Folder,
    /// Nothing is in it.
    #[error("the file is empty")]
    Empty,
    /// It holds no header: nothing but blank lines, or fewer lines than were to be skipped.
    #[error("no header was found: {}", no_header(*.skipped, *.blank))]
    NoHeader {
        /// Lines that were skipped at the start.
        skipped: u64,
        /// Lines after them that are blank or comments.
        blank: u64,
    },
    /// Two of its signs are the same.
    #[error("{0}")]
    Signs(#[source] SignConflict),
    /// Every line begins with a comment of no characters.
    #[error("the text that comments begin with is empty")]
    EmptyComment,
    /// It is in a format that is not read as text.
    #[error("this is {found}, not delimited text")]
    NotText {
        /// What it seems to be.
        found: &'static str,
    },
    /// A NUL byte is in the text.
    #[error("a NUL byte: this is not plain text, or its encoding is not {encoding}")]
    Nul {
        /// The encoding it is read in.
        encoding: &'static str,
    },
    /// Bytes that the encoding does not have.
    #[error("the bytes {bytes} are not {encoding}")]
    Encoding {
        /// The bytes, in hexadecimal.
        bytes: String,
        /// The encoding it is read in.
        encoding: &'static str,
        /// The encoding that the bytes may be in.
        likely: Option<&'static str>,
    },
    /// The encoding cannot be detected.
    #[error(
        "its encoding cannot be detected: it is not UTF-8, and has bytes that windows-1252 does not have"
    )]
    UnknownEncoding,
    /// The name of an encoding is not known.
    #[error(transparent)]
    EncodingName(#[from] EncodingError),
    /// A record has too few or too many fields.
    #[error("the record has {found} field{} where the header has {expected}{}", if *.found == 1 { "" } else { "s" }, detected(*.delimiter))]
    Ragged {
        /// Fields of the record.
        found: usize,
        /// Fields of the header.
        expected: usize,
        /// Whether `--ragged pad` would not help: surplus fields are not blank.
        surplus: bool,
        /// The delimiter, if it was detected.
        delimiter: Option<Delimiter>,
        /// The line that looks like the header, where that is not the first record.
        likely_header: Option<u64>,
    },
    /// A quoted field is never closed.
    #[error("a quoted field opens here and is never closed")]
    UnclosedQuote,
    /// A quoted field runs over a line end and then goes on after its closing quote.
    #[error(
        "a quoted field that opens here continues on the next line and ends in the middle of text"
    )]
    MisplacedQuote,
    /// A record is larger than memory allows.
    #[error("the record that begins here is larger than {limit}")]
    RecordTooLarge {
        /// The largest record that is taken.
        limit: Size,
    },
    /// Its records do not fit into memory, and could not be put in order on the disk.
    #[error("its records could not be put in order on the disk: {0}")]
    Sorting(#[source] io::Error),
    /// An archive is not what it should be.
    #[error("the archive is damaged: {what}")]
    Archive {
        /// What is wrong.
        what: String,
    },
    /// A member of an archive has a path that leads out of it.
    #[error("its member '{name}' has a path outside the archive")]
    LeadsOut {
        /// The member.
        name: String,
    },
    /// A member of an archive is packed in a way that is not undone.
    #[error("its member '{name}' is packed {how}")]
    Packed {
        /// The member.
        name: String,
        /// In which way, as `with a password`.
        how: String,
    },
    /// What the file is compressed with cannot be undone.
    #[error("the {compression} data is damaged or ends too early ({cause})")]
    Compression {
        /// What it is compressed with.
        compression: &'static str,
        /// What the decompressor said.
        cause: io::Error,
    },
    /// It is called a workbook and is none.
    #[error("this is {found}, not a workbook ({format}) as its extension says")]
    NoWorkbook {
        /// The format that its name says.
        format: &'static str,
        /// What it seems to be.
        found: &'static str,
    },
    /// A workbook without a sheet that has cells.
    #[error("the workbook has no sheet with cells")]
    NoSheets,
    /// A sheet that is asked for and not there.
    #[error("there is no sheet '{wanted}'")]
    NoSuchSheet {
        /// What was asked for.
        wanted: String,
        /// The sheets there are.
        sheets: Vec<String>,
    },
    /// A sheet that is asked for and holds a chart or macros.
    #[error("the sheet '{sheet}' has no cells")]
    SheetWithoutCells {
        /// Its name.
        sheet: String,
    },
    /// A sheet with nothing in it.
    #[error("the sheet is empty")]
    EmptySheet,
    /// Sheets without any value, in a workbook without others.
    #[error(
        "the workbook is empty: no cell of {} has a value",
        sheets_named(sheets)
    )]
    EmptyWorkbook {
        /// The names of its sheets.
        sheets: Vec<String>,
    },
    /// Formulas that no program has computed.
    #[error(
        "the cell {cell} has a formula that was never calculated{}",
        others_like_it(*.count - 1)
    )]
    Uncomputed {
        /// The first cell.
        cell: String,
        /// How many cells of the sheet are so.
        count: u64,
    },
    /// A cell holds something next to the columns that have a header.
    #[error("the cell {cell} holds something, and the columns are {columns}")]
    OutsideColumns {
        /// The cell.
        cell: String,
        /// Letters of the columns, as `B to F`.
        columns: String,
    },
    /// Something in it is not what it should be.
    #[error("the file is damaged: {what}")]
    Damaged {
        /// What.
        what: String,
    },
    /// Its XML has a document type, which workbooks must not have.
    #[error("its XML has a document type definition, which workbooks must not have")]
    DocumentType,
    /// It can be opened only with a password.
    #[error("the workbook is encrypted with a password")]
    Encrypted,
    /// A part unpacks to far more than a workbook ever does.
    #[error("{part} unpacks from {packed} to {unpacked} or more: this is a decompression bomb")]
    Bomb {
        /// The part.
        part: String,
        /// Bytes that it takes in the file.
        packed: Size,
        /// Bytes that it unpacks to.
        unpacked: Size,
    },
    /// A record that is broken, of a file that has no lines.
    #[error("the record at byte {}: {what}", .offset + 1)]
    BrokenRecord {
        /// Bytes before it.
        offset: u64,
        /// What is wrong with it.
        what: String,
    },
    /// Messages that are broken, so that it is not known what belongs to them.
    #[error("the segment at byte {}: {what}", .offset + 1)]
    BrokenMessage {
        /// Bytes before it.
        offset: u64,
        /// What is wrong.
        what: String,
    },
    /// Something is before the first interchange of messages.
    #[error("{bytes} bytes of other text come before the messages")]
    InFront {
        /// How many bytes.
        bytes: usize,
    },
    /// Messages of a kind of which it is not known what their records are.
    #[error("no layout defines the records of {standard} {kind}")]
    NoLayout {
        /// What the format is called.
        standard: &'static str,
        /// The kind of message.
        kind: String,
    },
    /// Something that is not as its format has it.
    #[error("{what}")]
    OfFormat {
        /// What is wrong.
        what: String,
        /// What to do about it.
        hint: &'static str,
    },
    /// A count or control number of messages that does not agree, where none may.
    #[error("the segment at byte {}: {what}", .offset + 1)]
    Miscounted {
        /// Bytes before it.
        offset: u64,
        /// What does not agree.
        what: String,
    },
    /// A layout of messages that cannot be read.
    #[error("the layout {layout} cannot be read: {reason}")]
    Layout {
        /// Its file.
        layout: String,
        /// Why.
        reason: String,
    },
    /// A record of XML that is none of its schema.
    #[error("{what}")]
    OtherRecord {
        /// What is wrong with it.
        what: String,
    },
    /// A source that has no look to be kept.
    #[error(
        "whole rows are copied only from .xlsx files that are not compressed, and this is {format}, or compressed"
    )]
    NoLook {
        /// What its format is called.
        format: &'static str,
    },
    /// A workbook whose sheets cannot stand next to those of another.
    #[error("its sheets cannot be copied into one workbook with the others: {why}")]
    CannotGather {
        /// Why.
        why: &'static str,
    },
    /// A binary workbook that does not fit into memory.
    #[error("the workbook takes more than {limit}")]
    WorkbookTooLarge {
        /// Bytes that it may take.
        limit: Size,
    },
    /// The texts that the sheets share do not fit into memory.
    #[error("its shared strings take more than {limit}")]
    SharedTexts {
        /// Bytes that they may take.
        limit: Size,
    },
    /// It is called a document of a format and is none.
    #[error("this is {found}, not {format} as its extension says")]
    NoDocument {
        /// The format that its name says.
        format: &'static str,
        /// What it seems to be.
        found: &'static str,
    },
    /// A document is not written as its format wants it.
    #[error("this is not well-formed {format}: {what}")]
    Malformed {
        /// What the format is called.
        format: &'static str,
        /// What is wrong.
        what: String,
    },
    /// It is nested more deeply than is allowed.
    #[error("it is nested more than {most} levels deep here")]
    TooDeep {
        /// Levels that there may be.
        most: usize,
    },
    /// No records are where they are looked for.
    #[error("there are no records: {path} matches nothing")]
    NoRecords {
        /// Where they are looked for.
        path: String,
    },
    /// The records have nothing in them.
    #[error("the records at {path} have no values")]
    NoValues {
        /// Where they are.
        path: String,
    },
    /// What is to say where the records are cannot be understood.
    #[error("the path of the records, {path}: {what}")]
    RecordsPath {
        /// As it was given.
        path: String,
        /// What is wrong.
        what: String,
    },
    /// A name occurs twice in one object.
    #[error("the record that begins here has the name '{name}' twice in one object")]
    NameTwice {
        /// Its path in the record.
        name: String,
    },
    /// A record has a member that is called like the column of the keys.
    #[error("the record has a member '{name}', which is the name of the key column")]
    KeyColumn {
        /// The name.
        name: String,
    },
    /// A list has too many items for a column each.
    #[error(
        "the list '{path}' has more than {most} items in the record that begins here, too many for columns of their own"
    )]
    TooManyItems {
        /// The list.
        path: String,
        /// Items that there may be.
        most: usize,
    },
    /// There are several lists whose items could be rows.
    #[error("the records have several lists ({}), and only one can become rows", .lists.join(", "))]
    WhichRows {
        /// Their paths.
        lists: Vec<String>,
    },
    /// There is no such list.
    #[error("the records have no list at {path}")]
    NoRows {
        /// What was asked for.
        path: String,
        /// The lists that there are.
        lists: Vec<String>,
    },
    /// A record is no object among objects, or the other way round.
    #[error(
        "the record that begins here is of another kind than those before it (object, list or single value)"
    )]
    OtherKind,
    /// Something is in a record that was in none when the columns were found.
    #[error("it was changed while it was read")]
    ChangedWhileRead,
    /// The sources of one run do not have the same columns.
    #[error("its columns are not those of {first}: {difference}")]
    OtherColumns {
        /// The first source.
        first: String,
        /// How they differ.
        difference: String,
    },
}

/// What is left of a text without a header.
fn no_header(skipped: u64, blank: u64) -> String {
    let lines = |count: u64| match count {
        1 => "1 line".to_owned(),
        count => format!("{count} lines"),
    };
    match (skipped, blank) {
        (0, _) => format!("all {} are blank or comments", lines(blank)),
        (skipped, 0) => format!("nothing is left after {} that were skipped", lines(skipped)),
        (skipped, blank) => format!(
            "after {} that were skipped, all {} are blank or comments",
            lines(skipped),
            lines(blank)
        ),
    }
}

/// The delimiter in a message, if it was detected.
fn detected(delimiter: Option<Delimiter>) -> String {
    delimiter.map_or_else(String::new, |delimiter| {
        format!(" (detected delimiter: {delimiter})")
    })
}
