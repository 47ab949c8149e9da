//! The formats that Numerant reads and writes: one folder each, and the registry of them.
//!
//! A format knows nothing of routing. It turns bytes into [`Batch`]es ([`RecordReader`]) and
//! records of batches into bytes ([`RecordEncoder`]). A new format is a new folder, and a line in
//! [`FORMATS`].

pub mod delimited;

use serde::Serialize;

use crate::record::{Batch, Columns};
use crate::source::ReadError;

/// A format, its extensions and what can be done with it.
#[derive(Debug)]
pub struct Format {
    /// What it is called.
    pub name: &'static str,
    /// Extensions of file names, lower case, that say a file is to be in this format.
    pub extensions: &'static [&'static str],
}

/// All formats there are.
pub const FORMATS: &[Format] = &[Format {
    name: delimited::NAME,
    extensions: delimited::EXTENSIONS,
}];

/// The format that files of this extension are written in, in any case.
pub fn format_of(extension: &str) -> Option<&'static Format> {
    let extension = extension.to_lowercase();
    FORMATS
        .iter()
        .find(|format| format.extensions.contains(&extension.as_str()))
}

/// Every extension that can be written.
pub fn known_extensions() -> Vec<&'static str> {
    FORMATS
        .iter()
        .flat_map(|format| format.extensions.iter().copied())
        .collect()
}

/// Reads the records of one source.
pub trait RecordReader: Send {
    /// The columns, known before the first record is read.
    fn columns(&self) -> &Columns;

    /// The header as one record, as it stands in the source; `None` if the source has none.
    fn header(&self) -> Option<&Batch>;

    /// Replaces what is in `batch` with the next records; `false` when there are no more.
    ///
    /// # Errors
    ///
    /// If the source cannot be read or is not what it should be.
    fn next_batch(&mut self, batch: &mut Batch) -> Result<bool, ReadError>;

    /// What was counted so far.
    fn tally(&self) -> ReadTally;
}

/// What a reader counted.
#[derive(Clone, Debug, Default, PartialEq, Eq, Serialize)]
#[serde(rename_all = "kebab-case")]
pub struct ReadTally {
    /// Records, the rejected ones among them.
    pub records: u64,
    /// Records that were rejected, the first of them with their lines.
    pub rejected: u64,
    /// Records to which blank fields were added, or from which blank ones were taken.
    pub padded: u64,
    /// Lines with nothing on them, which are no records.
    pub blank_lines: u64,
    /// Fields with a quote where RFC 4180 has none, read as they stand.
    pub stray_quotes: u64,
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
}

/// A value that a format cannot hold.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
#[non_exhaustive]
pub enum EncodeError {
    /// The output's encoding does not have the character.
    #[error("line {line}: {encoding} has no character '{character}' (U+{code:04X})", code = u32::from(*.character))]
    Character {
        /// Line of the source.
        line: u64,
        /// The character.
        character: char,
        /// The output's encoding.
        encoding: &'static str,
    },
    /// Without quotes, a delimiter or line end inside a value cannot be written, nor a blank that
    /// is alone on its line.
    #[error("line {line}: the value {value:?} cannot be written without quotes")]
    NeedsQuotes {
        /// Line of the source.
        line: u64,
        /// The value.
        value: String,
    },
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
        }
    }
}
