//! The formats that Numerant reads and writes: one folder each, and the registry of them.
//!
//! A format knows nothing of routing. It turns bytes into [`Batch`]es ([`RecordReader`]), and
//! records of batches into bytes: formats of text do that record by record ([`RecordEncoder`]),
//! workbooks when all records of their sheets are known. Documents yield trees, which `shape` lays out
//! as records. A new format is a new folder, and a line in [`FORMATS`].

mod alike;
mod archive;
pub(crate) mod blanks;
pub(crate) mod column;
pub mod delimited;
pub(crate) mod edi;
pub(crate) mod json;
pub(crate) mod marc;
pub(crate) mod markup;
mod ods;
mod open;
mod own;
mod package;
mod repack;
pub mod sheet;
mod tally;
pub(crate) mod text;
mod trees;
mod xls;
mod xlsb;
mod xlsx;
pub(crate) mod xml;

use std::fs::File;
use std::io::{self, BufReader, Write};
use std::ops::Range;
use std::sync::Arc;
use std::sync::atomic::AtomicU64;

use serde::{Deserialize, Serialize};

pub(crate) use json::{LINES as JSON_LINES, NAME as JSON, tree_of as json_tree};
pub(crate) use ods::extract as extract_ods;
pub(crate) use open::{Opened, OpenedBook, open};
pub use xml::{Namespace, NamespaceError};

pub(crate) use self::archive::Archive;
pub use self::blanks::Blanks;
use self::delimited::{Delimiter, Dialect, WriteOptions};
pub use self::edi::{
    Balance, BalanceNote, MessageFacts, MessagesWritten, Miscounted, SegmentCounts, SegmentsWritten,
};
pub use self::marc::{Patch, PatchColumn};
pub(crate) use self::own::OwnEncoder;
use self::sheet::{Limits, SheetFacts, SheetSink};
pub use self::tally::{ReadTally, TextNote};
pub use self::trees::{Around, Redeclared, TreeFacts};
pub(crate) use self::trees::{Leaf, MOST_DEPTH, OpenedTrees, Trees};
pub(crate) use self::xlsx::{
    Cutting, ExtractError, FillError, Form, PutTable, Shelf, Taken, Ways, assemble,
};
pub use self::xlsx::{Extracted, FormProblem};
use crate::disk::OutFile;
use crate::name::OutputFacts;
use crate::record::{At, Batch, Columns, Unit};
use crate::source::{ReadError, SourcePath};
pub use crate::tree::{Survey, ValuesBeside};
use crate::value::Number;

/// A format, its extensions and what can be done with it.
#[derive(Debug)]
pub struct Format {
    /// What it is called.
    pub name: &'static str,
    /// Extensions of file names, lower case, of files in this format.
    pub extensions: &'static [&'static str],
    /// Those of them that files can be written with.
    pub written: &'static [&'static str],
    /// How workbooks of it are written; `None` if it is text.
    pub(crate) book: Option<BookFormat>,
    /// How it is written if it is text.
    pub(crate) text: Option<TextFormat>,
}

/// A format that is written record by record.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum TextFormat {
    /// Delimited text.
    Delimited,
    /// A list of JSON.
    Json,
    /// A value of JSON a line.
    JsonLines,
    /// Elements of XML.
    Xml,
    /// Records of ISO 2709.
    Marc,
    /// Records of MARCXML.
    MarcXml,
    /// Messages in envelopes.
    Edi,
}

impl TextFormat {
    /// Whether values of different types are written differently.
    pub(crate) fn is_typed(self) -> bool {
        matches!(self, Self::Json | Self::JsonLines)
    }

    /// Whether records of a source of this format stand in it between the same marks, so that what is around
    /// them there can be around them here.
    pub(crate) fn is_around(self, source: &str) -> bool {
        match self {
            Self::Xml => source == xml::NAME,
            Self::MarcXml => source == marc::XML_NAME,
            _ => false,
        }
    }

    /// Whether records of a source of this format are values of JSON, as they are here.
    pub(crate) fn has_values_of(self, source: &str) -> bool {
        [json::NAME, json::LINES].contains(&source) && self.is_typed()
    }

    /// What writes records of which each column says where in a record of this format it belongs; `None` if
    /// columns may have any names here. Columns are given with their places among the cells.
    ///
    /// # Errors
    ///
    /// Records of columns cannot be written in it, or not with such a column.
    pub(crate) fn addressed<'n>(
        self,
        columns: impl IntoIterator<Item = (&'n str, usize)>,
        policy: ControlSigns,
    ) -> Option<Result<Arc<dyn RecordEncoder>, EncodeError>> {
        let to = match self {
            Self::Edi => return Some(Err(EncodeError::OnlyMessages)),
            Self::Marc => marc::Form::Iso2709,
            Self::MarcXml => marc::Form::Xml,
            Self::Delimited | Self::Json | Self::JsonLines | Self::Xml => return None,
        };
        let encoder = marc::MarcTableEncoder::new(to, policy, columns);
        let encoder = encoder.map(|encoder| Arc::new(encoder) as Arc<dyn RecordEncoder>);
        Some(encoder.map_err(EncodeError::NotMarc))
    }
}

/// A format of workbooks that can be written.
#[derive(Debug)]
pub(crate) struct BookFormat {
    /// How much room there is.
    pub(crate) limits: Limits,
    /// Begins a workbook in a file; what its sheets share may take so many bytes.
    pub(crate) create: fn(OutFile, usize) -> io::Result<Box<dyn SheetSink>>,
}

/// What Office Open XML workbooks are called.
pub(crate) const XLSX: &str = xlsx::NAME;

/// What OpenDocument spreadsheets are called.
pub(crate) const ODS: &str = ods::NAME;

/// All formats there are.
pub const FORMATS: &[Format] = &[
    Format {
        name: delimited::NAME,
        extensions: delimited::EXTENSIONS,
        written: delimited::EXTENSIONS,
        book: None,
        text: Some(TextFormat::Delimited),
    },
    Format {
        name: json::NAME,
        extensions: &["json"],
        written: &["json"],
        book: None,
        text: Some(TextFormat::Json),
    },
    Format {
        name: json::LINES,
        extensions: json::LINES_EXTENSIONS,
        written: json::LINES_EXTENSIONS,
        book: None,
        text: Some(TextFormat::JsonLines),
    },
    Format {
        name: xml::NAME,
        extensions: &["xml"],
        written: &["xml"],
        book: None,
        text: Some(TextFormat::Xml),
    },
    Format {
        name: marc::NAME,
        extensions: marc::EXTENSIONS,
        written: marc::EXTENSIONS,
        book: None,
        text: Some(TextFormat::Marc),
    },
    Format {
        name: marc::XML_NAME,
        extensions: &["marcxml"],
        written: &["marcxml"],
        book: None,
        text: Some(TextFormat::MarcXml),
    },
    Format {
        name: edi::Standard::X12.name(),
        extensions: edi::X12_EXTENSIONS,
        written: edi::X12_EXTENSIONS,
        book: None,
        text: Some(TextFormat::Edi),
    },
    Format {
        name: edi::Standard::Edifact.name(),
        extensions: edi::EDIFACT_EXTENSIONS,
        written: edi::EDIFACT_EXTENSIONS,
        book: None,
        text: Some(TextFormat::Edi),
    },
    Format {
        name: xlsx::NAME,
        extensions: &["xlsx", "xlsm"],
        written: &["xlsx"],
        book: Some(BookFormat {
            limits: Limits {
                rows: 1_048_576,
                columns: 16_384,
                text: 32_767,
                control_signs: true,
                carriage_returns: true,
            },
            create: |file, memory| Ok(Box::new(xlsx::XlsxWriter::create(file, memory)?)),
        }),
        text: None,
    },
    Format {
        name: ods::NAME,
        extensions: &["ods", "fods"],
        written: &["ods"],
        book: Some(BookFormat {
            limits: Limits {
                rows: 1_048_576,
                columns: 16_384,
                text: 32_767,
                control_signs: false,
                carriage_returns: false,
            },
            create: |file, _| Ok(Box::new(ods::OdsWriter::create(file)?)),
        }),
        text: None,
    },
    Format {
        name: xlsb::NAME,
        extensions: &["xlsb"],
        written: &[],
        book: None,
        text: None,
    },
    Format {
        name: xls::NAME,
        extensions: &["xls"],
        written: &["xls"],
        book: Some(BookFormat {
            limits: Limits {
                rows: 65_536,
                columns: 256,
                text: 32_767,
                control_signs: true,
                carriage_returns: true,
            },
            create: |file, _| Ok(Box::new(xls::XlsWriter::create(file))),
        }),
        text: None,
    },
];

/// A text as XML holds it in an attribute.
pub(crate) fn escaped(text: &str) -> String {
    let mut out = Vec::new();
    markup::push_escaped(text, true, &mut out);
    String::from_utf8_lossy(&out).into_owned()
}

/// Delimited text.
pub(crate) fn delimited() -> &'static Format {
    let is_delimited = |format: &&Format| format.text == Some(TextFormat::Delimited);
    let found = FORMATS.iter().find(is_delimited);
    found.expect("the registry has delimited text")
}

/// The format that files of this extension are written in, in any case.
pub fn format_of(extension: &str) -> Option<&'static Format> {
    let extension = extension.to_lowercase();
    FORMATS
        .iter()
        .find(|format| format.written.contains(&extension.as_str()))
}

/// The format that files of this extension are in, in any case.
pub fn format_read(extension: &str) -> Option<&'static Format> {
    let extension = extension.to_lowercase();
    FORMATS
        .iter()
        .find(|format| format.extensions.contains(&extension.as_str()))
}

impl Format {
    /// The format in which records of a source are written where this one is asked for: catalogue
    /// records have XML of their own.
    pub(crate) fn for_records_of(&'static self, source: &str) -> &'static Self {
        let is_catalogue = [marc::NAME, marc::XML_NAME].contains(&source);
        if self.text != Some(TextFormat::Xml) || !is_catalogue {
            return self;
        }
        let own = FORMATS.iter().find(|format| format.name == marc::XML_NAME);
        own.unwrap_or(self)
    }
}

/// Every extension that can be written.
pub fn known_extensions() -> Vec<&'static str> {
    FORMATS
        .iter()
        .flat_map(|format| format.written.iter().copied())
        .collect()
}

/// Every extension that can be read.
pub fn read_extensions() -> Vec<&'static str> {
    FORMATS
        .iter()
        .flat_map(|format| format.extensions.iter().copied())
        .collect()
}

/// What to do with control characters where a format has no way to write them.
#[derive(
    Clone, Copy, Debug, Default, PartialEq, Eq, Serialize, Deserialize, schemars::JsonSchema,
)]
#[serde(rename_all = "lowercase")]
pub enum ControlSigns {
    /// Refuse the run.
    #[default]
    Refuse,
    /// Leave them out.
    Drop,
}

/// What is known of a source before its records are read.
#[derive(Clone, Debug)]
pub struct SourceFacts {
    /// What its format is called.
    pub format: &'static str,
    /// The dialect of its batches.
    pub dialect: Dialect,
    /// The dialect in which outputs like it are written: that of the source itself if it is text.
    pub written: Dialect,
    /// No line end at its start has carriage returns that belong to none.
    pub regular_line_ends: bool,
    /// The line that looks like the header, where that is not the first record.
    pub likely_header: Option<u64>,
    /// What of the dialect was detected; `None` if the source is no delimited text.
    pub detected: Option<DetectedDialect>,
    /// What its reader should know of how it is written.
    pub notes: Vec<TextNote>,
    /// Lines or rows that were skipped at the start.
    pub skipped: u64,
    /// Bytes on disk, where they are known.
    pub size: Option<u64>,
    /// How it is compressed, if it is.
    pub compression: Option<&'static str>,
    /// Counts the bytes taken from the file so far, before they are decompressed.
    pub taken: Arc<AtomicU64>,
    /// What its records are counted in.
    pub unit: Unit,
    /// The sheet, if it is one.
    pub sheet: Option<String>,
}

impl SourceFacts {
    /// The facts of a source that is no delimited text, and whose records travel in `dialect`.
    pub(crate) fn of_values(
        format: &'static str,
        dialect: Dialect,
        taken: Arc<AtomicU64>,
        unit: Unit,
    ) -> Self {
        Self {
            format,
            dialect,
            written: dialect,
            regular_line_ends: true,
            likely_header: None,
            detected: None,
            notes: Vec::new(),
            skipped: 0,
            size: None,
            compression: None,
            taken,
            unit,
            sheet: None,
        }
    }

    /// The delimiter, if it was detected.
    pub(crate) fn detected_delimiter(&self) -> Option<Delimiter> {
        let detected = self.detected?;
        (detected.delimiter_detected && !detected.single_column).then_some(self.written.delimiter)
    }
}

/// Which parts of a dialect were detected and not stated.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, Serialize)]
#[serde(rename_all = "kebab-case")]
pub struct DetectedDialect {
    /// The delimiter was detected.
    #[serde(rename = "delimiter")]
    pub delimiter_detected: bool,
    /// No delimiter was found; every record is one field.
    pub single_column: bool,
    /// The encoding was detected.
    #[serde(rename = "encoding")]
    pub encoding_detected: bool,
}

/// Reads the records of one source.
pub trait RecordReader: Send {
    /// The columns, known before the first record is read.
    fn columns(&self) -> &Columns;

    /// The header as one record, as it stands in the source; `None` if the source has none.
    fn header(&self) -> Option<&Batch>;

    /// What is known before the first record is read.
    fn facts(&self) -> &SourceFacts;

    /// What the source is called in messages: its path, and its sheet if it is one.
    fn name(&self) -> String;

    /// The file it is read from.
    fn path(&self) -> &SourcePath;

    /// What was found in the sheet so far, if the source is one.
    fn sheet(&self) -> Option<SheetFacts> {
        None
    }

    /// The document, if the source is one.
    fn document(&self) -> Option<&dyn Document> {
        None
    }

    /// The document to ask for more, if the source is one.
    fn document_mut(&mut self) -> Option<&mut dyn Document> {
        None
    }

    /// Replaces what is in `batch` with the next records; `false` when there are no more.
    ///
    /// # Errors
    ///
    /// If the source cannot be read or is not what it should be.
    fn next_batch(&mut self, batch: &mut Batch) -> Result<bool, ReadError>;

    /// What was counted so far.
    fn tally(&self) -> ReadTally;
}

/// What there is to a document besides the records that are laid out.
pub trait Document {
    /// Where its records are.
    fn facts(&self) -> &TreeFacts;

    /// Goes through all of it and says what is in it.
    ///
    /// # Errors
    ///
    /// If it cannot be read.
    fn survey(&self) -> Result<Survey, ReadError>;

    /// Prefixes of names and the namespaces that they stand for.
    fn namespaces(&self) -> &[(String, String)];

    /// What stands around the records: as far as it is known, and all of it when all are read.
    fn around(&self) -> Around;

    /// A list with more items than there may be columns, which is in one cell as JSON, if its column
    /// is in use: an error for whoever needs its columns.
    fn long_list(&self, _in_use: &dyn Fn(&str) -> bool) -> Option<ReadError> {
        None
    }

    /// Whether records are members of an object, and their names a column.
    fn is_keyed(&self) -> bool {
        false
    }

    /// A prefix that stands for different namespaces, in what is known of it so far.
    fn redeclared(&self) -> Option<Redeclared> {
        None
    }

    /// The values beside the records, of what was read so far.
    fn values_beside(&self) -> Vec<ValuesBeside> {
        Vec::new()
    }

    /// What was found of each kind of message so far, if its records are in messages.
    fn messages(&self) -> &[MessageFacts] {
        &[]
    }

    /// What writes its records in a format as they stand, where that takes more than their texts.
    fn writer(&self, _to: TextFormat, _options: &WriteOptions) -> Option<Arc<dyn RecordEncoder>> {
        None
    }

    /// Whether a condition holds for a record if it holds for any of the values that stand several times.
    fn holds_for_any(&self) -> bool {
        false
    }

    /// What writes its records with the changes that columns have, in the order of their parts in the
    /// source; `None` if they have no such order.
    ///
    /// # Errors
    ///
    /// A column has no place in its records.
    fn patcher(&self, _patch: &Patch<'_>) -> Option<Result<Arc<dyn RecordEncoder>, EncodeError>> {
        None
    }

    /// Only these columns are needed, with all their numbers; others may be left blank.
    fn only(&mut self, _columns: &[String]) {}

    /// Asks for the texts of records, too, of which all columns are wanted.
    fn keep_texts(&mut self);

    /// Asks for the records as they stand, too. Columns that are not wanted then may be left blank.
    fn keep_own(&mut self, wanted: Option<Vec<bool>>);
}

/// Turns records into the bytes of an output. It keeps no state of an output, so one encoder
/// serves all outputs of a source.
pub trait RecordEncoder: Send + Sync {
    /// Appends what stands before the first record.
    ///
    /// # Errors
    ///
    /// If the header cannot be written in this format.
    fn begin(&self, out: &mut Vec<u8>) -> Result<(), EncodeError>;

    /// Appends one record.
    ///
    /// # Errors
    ///
    /// If a value of it cannot be written in this format.
    fn record(&self, batch: &Batch, record: usize, out: &mut Vec<u8>) -> Result<(), EncodeError>;

    /// Whether [`RecordEncoder::record`] appends just [`Batch::raw`], so that a caller may copy
    /// that itself.
    fn moves_raw(&self) -> bool;

    /// What stands between two records.
    fn between(&self) -> &[u8] {
        b""
    }

    /// Appends what stands behind the last of so many records.
    fn end(&self, _records: u64, _out: &mut Vec<u8>) {}

    /// What was written of messages since it was last asked.
    fn messages_written(&self) -> MessagesWritten {
        MessagesWritten::default()
    }

    /// Makes an output of what was appended, where what stands in it first is known last.
    fn late(&self) -> Option<&dyn Late> {
        None
    }
}

/// Where the records stand in an output that was made of them at last.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum Placed {
    /// As they were kept, behind so many bytes.
    Behind(u64),
    /// Each in these bytes, with where it stands in its source; in the order in which they begin.
    Within(Vec<(Range<u64>, At)>),
    /// That is not known.
    Unknown,
}

/// Makes an output when all its records are known.
pub trait Late: Sync {
    /// Writes an output whose records were appended to `kept`.
    ///
    /// # Errors
    ///
    /// If it cannot be read or written, or a record cannot be written so.
    fn write(
        &self,
        facts: &OutputFacts,
        kept: &mut BufReader<File>,
        out: &mut dyn Write,
    ) -> Result<Placed, LateError>;
}

/// An output that could not be made at last.
#[derive(Debug, thiserror::Error)]
pub enum LateError {
    /// It could not be read or written.
    #[error(transparent)]
    Io(#[from] io::Error),
    /// Something in it cannot be written.
    #[error(transparent)]
    Encode(#[from] EncodeError),
    /// Its records do not fit into memory.
    #[error(
        "its records do not fit into half of --memory, and the shape needs all of them at once"
    )]
    TooLarge,
}

/// A value that a format cannot hold.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
#[non_exhaustive]
pub enum EncodeError {
    /// The output's encoding does not have the character.
    #[error("{at}: {encoding} has no character '{character}' (U+{code:04X})", code = u32::from(*.character))]
    Character {
        /// Where in the source.
        at: At,
        /// The character.
        character: char,
        /// The output's encoding.
        encoding: &'static str,
    },
    /// Without quotes, a delimiter or line end inside a value cannot be written, nor a blank that
    /// is alone on its line.
    #[error("{at}: the value {value:?} cannot be written without quotes")]
    NeedsQuotes {
        /// Where in the source.
        at: At,
        /// The value.
        value: String,
    },
    /// A sheet has no room for so many columns.
    #[error("{found} columns, and a sheet of this format ({format}) has room for {most}")]
    TooManyColumns {
        /// What the format is called.
        format: &'static str,
        /// Columns that there are.
        found: usize,
        /// Columns that there may be.
        most: usize,
    },
    /// A cell has no room for so long a text.
    #[error(
        "{at}, column '{column}': a text of {found} characters, and a cell of this format ({format}) has room for {most}"
    )]
    TextTooLong {
        /// Where in the source.
        at: At,
        /// The column.
        column: String,
        /// What the format is called.
        format: &'static str,
        /// UTF-16 units of the text.
        found: usize,
        /// UTF-16 units that there may be.
        most: usize,
    },
    /// In JSON a member cannot have a value and others in it.
    #[error(
        "{at}: the columns '{column}' and '{other}' both have values, and in JSON '{column}' cannot be a value and hold others"
    )]
    ValueAndMembers {
        /// Where in the source.
        at: At,
        /// The column with the value.
        column: String,
        /// A column within it.
        other: String,
    },
    /// Columns of one name.
    #[error("the columns '{first}' and '{second}' would be one place of the document")]
    OnePlace {
        /// The first.
        first: String,
        /// The other.
        second: String,
    },
    /// A record has values in two columns that are one place of the document.
    #[error(
        "{at}: the columns '{first}' and '{second}' both have a value, and are one place of the document"
    )]
    TwoValues {
        /// Where in the source.
        at: At,
        /// The first column.
        first: String,
        /// The other.
        second: String,
    },
    /// A value differs within a group that it is to stand for.
    #[error(
        "{at}: the shape wants one value of {wanted} here (line {line} of it), and the records of the group have several"
    )]
    NotOne {
        /// Where in the source.
        at: At,
        /// What is wanted.
        wanted: String,
        /// The line of the shape.
        line: usize,
    },
    /// A set function of a shape cannot be computed.
    #[error("{at}: {{{function}}} of the shape, line {line} of it: {what}")]
    Aggregate {
        /// Where in the source.
        at: At,
        /// The function, as the shape has it.
        function: String,
        /// What is wrong.
        what: String,
        /// The line of the shape.
        line: usize,
    },
    /// A prefix stands for different namespaces, and elements of both cannot be written anew.
    #[error(
        "{}the namespaces '{}' and '{}' in the source; elements written anew cannot have both",
        prefix_of(&.0.prefix), .0.namespaces[0], .0.namespaces[1]
    )]
    Redeclared(Redeclared),
    /// Two members of an object in a shape have one name.
    #[error("{at}: the object would have two members '{key}' (line {line} of the shape)")]
    KeyTwice {
        /// Where in the source.
        at: At,
        /// The name.
        key: String,
        /// The line of the shape.
        line: usize,
    },
    /// A value does not have the part that is wanted of it.
    #[error("{at}, column '{column}': {problem}")]
    Part {
        /// Where in the source.
        at: At,
        /// The column.
        column: String,
        /// What is wrong.
        problem: String,
    },
    /// A record that the format has no room for.
    #[error("{at}: {problem}")]
    Marc {
        /// Where in the source.
        at: At,
        /// What is wrong.
        problem: String,
        /// It is a character that XML cannot hold.
        is_character: bool,
    },
    /// Records of several sources that are sorted, of a format whose records keep the order of their parts.
    #[error("records of several catalogue files cannot be sorted together")]
    SortedSources,
    /// Only some records of a message, whose total would not fit.
    #[error(
        "message {message} states a total of {stated}, and the records that are taken come to {sum}"
    )]
    Unbalanced {
        /// Its control number.
        message: String,
        /// The total that it states.
        stated: Number,
        /// The sum of the records.
        sum: Number,
    },
    /// Messages can only be made of messages.
    #[error(
        "messages are made only of the records of messages, as they stand; steps besides --where, and other sources, cannot become any"
    )]
    OnlyMessages,
    /// A column that is nothing of a bibliographic record.
    #[error(
        "the column '{0}' is nothing of a bibliographic record, as LDR, 001, 245$a, 650[2]$a and 245#1 are"
    )]
    NotMarc(String),
    /// A value is of a type that none had which was looked at first.
    #[error("a value is of a type that was not foreseen")]
    Unforeseen,
    /// The format has no way to write a character.
    #[error("{at}, column '{column}': the control character U+{code:04X}, which this format ({format}) has no way to write", code = u32::from(*.sign))]
    ControlSign {
        /// Where in the source.
        at: At,
        /// The column.
        column: String,
        /// What the format is called.
        format: &'static str,
        /// The character.
        sign: char,
    },
}

/// The names of a prefix, for messages.
fn prefix_of(prefix: &str) -> String {
    match prefix {
        "" => "names without a prefix are in ".to_owned(),
        prefix => format!("the prefix '{prefix}:' stands for "),
    }
}

impl EncodeError {
    /// What to do about it.
    pub fn hint(&self) -> String {
        match self {
            Self::Character { .. } => "write it with --out-encoding utf-8".to_owned(),
            Self::NeedsQuotes { .. } => {
                "choose a delimiter that no value holds with --out-delimiter, or leave out --quote none"
                    .to_owned()
            }
            Self::TooManyColumns { .. } => {
                "choose columns with --keep or --drop, or write csv".to_owned()
            }
            Self::TextTooLong { column, .. } => format!(
                "shorten it, as with --set '{column}=SUBSTRING(\"{column}\" FROM 1 FOR 32000)', or \
                 leave the column out with --drop, or write csv"
            ),
            Self::ValueAndMembers { column, .. } => format!(
                "rename one of them, as with --rename {column}=NAME, or say --flat"
            ),
            Self::OnePlace { first, .. } | Self::TwoValues { first, .. } => format!("rename one of them, as with --rename {first}=NAME"),
            Self::NotOne { .. } => {
                "put it into the part that repeats for each record, or sort and group by it too".to_owned()
            }
            Self::Redeclared(_) => {
                "--no-prefixes leaves namespaces out; a split without steps keeps records verbatim".to_owned()
            }
            Self::KeyTwice { .. } => {
                "let the part repeat for each value of the key, as \"{each COLUMN}\" does".to_owned()
            }
            Self::Aggregate { .. } => {
                "leave such records out with --where, or mend the values with --set".to_owned()
            }
            Self::Part { .. } => "--date-format says how dates are written".to_owned(),
            Self::Marc {
                is_character: true, ..
            } => {
                "--control-signs drop leaves such characters out, but for those in tags and codes; --ragged reject \
                 leaves such records out"
                    .to_owned()
            }
            Self::Marc { .. } => {
                "MARCXML has room for more; write .marcxml, or leave the record out with --where".to_owned()
            }
            Self::Unbalanced { .. } => {
                "--balance recompute makes the total the sum of the records and leaves adjustments out; --balance \
                 keep copies both unchanged"
                    .to_owned()
            }
            Self::OnlyMessages => "write csv, json, xml or a workbook".to_owned(),
            Self::SortedSources => {
                "combine them first, and sort the result".to_owned()
            }
            Self::NotMarc(name) => format!("rename it, as with --rename '{name}=245$a', or leave it out with --drop"),
            Self::Unforeseen => "run it again".to_owned(),
            Self::ControlSign { .. } => {
                "--control-signs drop leaves such characters out; xlsx and csv can hold them".to_owned()
            }
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn the_table_in_the_readme_is_made_of_the_registry() {
        let mut table = String::from("| format | reads | writes |\n|---|---|---|\n");
        for format in FORMATS {
            let listed = |extensions: &[&str]| {
                let named: Vec<String> = extensions.iter().map(|e| format!("`.{e}`")).collect();
                named.join(" ")
            };
            let (reads, writes) = (listed(format.extensions), listed(format.written));
            table.push_str(&format!("| {} | {reads} | {writes} |\n", format.name));
        }
        let path = concat!(env!("CARGO_MANIFEST_DIR"), "/../../README.md");
        let readme = std::fs::read_to_string(path).expect("the README");
        let (begin, end) = ("<!-- formats -->\n", "<!-- end of formats -->");
        let (before, rest) = readme.split_once(begin).expect("where the table begins");
        let (found, after) = rest.split_once(end).expect("where the table ends");
        if std::env::var_os("NUMERANT_WRITE_DOCS").is_some() {
            std::fs::write(path, format!("{before}{begin}{table}{end}{after}")).expect("written");
        } else {
            assert_eq!(
                found, table,
                "NUMERANT_WRITE_DOCS=1 cargo test writes it anew"
            );
        }
    }
}
