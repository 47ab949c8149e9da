//! The one interface that a format implements ([`Format`]), what it can do ([`Capabilities`]), its options, and what
//! there is to know of sources and outputs in any format.
//!
//! A format knows nothing of routing. It turns bytes into [`Batch`]es ([`RecordReader`]), and
//! records of batches into bytes: formats of text do that record by record ([`RecordEncoder`]),
//! workbooks when all records of their sheets are known ([`sheet::SheetSink`]).
//!
//! ```
//! use numerant_data::record::Batch;
//! use numerant_format::{EncodeError, RecordEncoder};
//!
//! /// Writes the first field of each record on a line of its own.
//! struct FirstField;
//!
//! impl RecordEncoder for FirstField {
//!     fn begin(&self, _out: &mut Vec<u8>) -> Result<(), EncodeError> {
//!         Ok(())
//!     }
//!
//!     fn record(&self, batch: &Batch, record: usize, out: &mut Vec<u8>) -> Result<(), EncodeError> {
//!         out.extend_from_slice(&batch.field(record, 0).text());
//!         out.push(b'\n');
//!         Ok(())
//!     }
//!
//!     fn moves_raw(&self) -> bool {
//!         false
//!     }
//! }
//! ```

#![cfg_attr(
    not(test),
    warn(
        clippy::cast_possible_truncation,
        clippy::cast_possible_wrap,
        clippy::cast_sign_loss
    )
)]

pub mod column;
mod content;
mod document;
mod fill;
mod interface;
mod json_number;
pub mod messages;
mod option;
mod options;
mod patch;
pub mod sheet;
mod start;
mod tally;
mod verbatim;

use std::fs::File;
use std::io::{self, BufReader, Write};
use std::ops::Range;
use std::sync::Arc;
use std::sync::atomic::AtomicU64;

use serde::{Deserialize, Serialize};

pub use content::{content_of, other_content};
pub use document::{Document, DocumentFrame, Redeclared, TreeFacts};
pub use fill::{FillOptions, Incomplete, Occupied, Put, PutError, PutPlace, PutWhat};
pub use interface::{
    Capabilities, DocumentLanguage, DocumentNames, EncoderRequest, Fields, Format, NewEncoder,
    Opening, Printing, Sample, SchemaScan, SheetsLeftOut, Source, Verbatim, Weight,
};
pub use messages::{BalanceNote, MessageFacts, MessagesWritten, SegmentCounts, SegmentsWritten};
pub use option::{FormatOption, OptionValue, OptionValues, Side, Takes};
pub use options::{Ragged, ReadContext, ReadOptions, WriteOptions};
pub use patch::{Patch, PatchColumn};
pub use start::Start;
pub use tally::{ReadTally, TextNote};
pub use verbatim::VerbatimEncoder;

use self::sheet::{ColumnStyle, SheetFacts};
use numerant_data::dialect::{Delimiter, Dialect};
use numerant_data::record::{At, Batch, Columns, Unit};
use numerant_data::source::{ReadError, SourcePath};
pub use numerant_data::tree::{Survey, ValuesBeside};
use numerant_data::value::Number;
use numerant_naming::OutputFacts;

/// Extensions of delimited text.
pub const TEXT_EXTENSIONS: &[&str] = &["csv", "tsv", "txt"];

/// What to do with control characters where a format has no way to write them.
#[derive(
    Clone, Copy, Debug, Default, PartialEq, Eq, Serialize, Deserialize, schemars::JsonSchema,
)]
#[serde(rename_all = "lowercase")]
pub enum ControlCharacters {
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
    pub fn of_values(
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
    pub fn detected_delimiter(&self) -> Option<Delimiter> {
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

    /// The header as one record, as it is in the source; `None` if the source has none.
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

    /// How its columns look, in their order, before records are read; none if the source is no sheet.
    ///
    /// # Errors
    ///
    /// If the styles of a sheet cannot be read.
    fn column_styles(&self) -> Result<Vec<ColumnStyle>, ReadError> {
        Ok(Vec::new())
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

/// Turns records into the bytes of an output. It keeps no state of an output, so one encoder
/// serves all outputs of a source.
pub trait RecordEncoder: Send + Sync {
    /// Appends what is before the first record.
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

    /// What is between two records.
    fn between(&self) -> &[u8] {
        b""
    }

    /// Appends what is after the last of so many records.
    ///
    /// # Errors
    ///
    /// If that cannot be written in this format.
    fn end(&self, _records: u64, _out: &mut Vec<u8>) -> Result<(), EncodeError> {
        Ok(())
    }

    /// What was written of messages since it was last asked.
    fn messages_written(&self) -> MessagesWritten {
        MessagesWritten::default()
    }

    /// Makes an output of what was appended, where what is in it first is known last.
    fn late(&self) -> Option<&dyn DeferredWriter> {
        None
    }
}

/// Where the records are in an output that was made of them at last.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum Placed {
    /// As they were kept, after so many bytes.
    Behind(u64),
    /// Each in these bytes, with where it is in its source; in the order in which they begin.
    Within(Vec<(Range<u64>, At)>),
    /// That is not known.
    Unknown,
}

/// Makes an output when all its records are known.
pub trait DeferredWriter: Sync {
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
    ) -> Result<Placed, DeferredWriteError>;
}

/// An output that could not be made at last.
#[derive(Debug, thiserror::Error)]
pub enum DeferredWriteError {
    /// It could not be read or written.
    #[error(transparent)]
    Io(#[from] io::Error),
    /// Something in it cannot be written.
    #[error(transparent)]
    Encode(#[from] EncodeError),
    /// Its records do not fit into memory.
    #[error(
        "its records take more than half of the memory that the run may use, and the template needs all of them at once"
    )]
    TooLarge,
}

/// A value that a format cannot hold.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
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
    /// A value differs within a group that it is to represent.
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
    /// A prefix represents different namespaces, and elements of both cannot be written anew.
    #[error(
        "{}the namespaces '{}' and '{}' in the source; rewritten elements cannot have both",
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
        "message {message} states a total of {stated}, and the records that are written add up to {sum}"
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
        "messages can be written only from the unchanged records of messages; steps other than conditions, and other sources, are not possible"
    )]
    OnlyMessages,
    /// A column that is nothing of a bibliographic record.
    #[error(
        "the column '{0}' is not part of a bibliographic record, such as LDR, 001, 245$a, 650[2]$a or 245#1"
    )]
    NotMarc(String),
    /// Something that the format has no room for.
    #[error("{}{what}", in_front(*.at, .column.as_deref()))]
    OfFormat {
        /// Where in the source, if it is somewhere.
        at: Option<At>,
        /// The column, if it is in one.
        column: Option<String>,
        /// What the format is called.
        format: &'static str,
        /// What is wrong.
        what: String,
        /// What to do about it.
        hint: &'static str,
    },
    /// The format is only read.
    #[error("{format} is not written")]
    NotWritten {
        /// What the format is called.
        format: &'static str,
    },
    /// A value is of a type that no value of the column had when its types were found.
    #[error("the source was changed while it was read: a value is of another type than before")]
    ChangedWhileRead,
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

/// Where something is, for messages.
fn in_front(at: Option<At>, column: Option<&str>) -> String {
    match (at, column) {
        (Some(at), Some(column)) => format!("{at}, column '{column}': "),
        (Some(at), None) => format!("{at}: "),
        (None, Some(column)) => format!("column '{column}': "),
        (None, None) => String::new(),
    }
}

/// The names of a prefix, for messages.
fn prefix_of(prefix: &str) -> String {
    match prefix {
        "" => "names without a prefix are in ".to_owned(),
        prefix => format!("the prefix '{prefix}:' is declared as "),
    }
}
