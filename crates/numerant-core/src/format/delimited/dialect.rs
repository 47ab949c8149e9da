//! What one delimited text differs in from another.

use std::fmt;
use std::path::PathBuf;
use std::str::FromStr;

use serde::{Deserialize, Serialize};

use crate::format::sheet::{SheetChoice, Types, Uncomputed};
use crate::format::{Balance, Blanks, ControlSigns, Miscounted, Namespace};
use crate::name::Words;
use crate::record::{Batch, CELL_QUOTE};
use crate::source::Encoding;
use crate::tree::Repeats;

/// What separates two fields: one byte, or up to eight.
#[derive(Clone, Copy, PartialEq, Eq, Serialize, Deserialize, schemars::JsonSchema)]
#[serde(try_from = "String", into = "String")]
pub struct Delimiter {
    bytes: [u8; Self::MAX_LENGTH],
    length: u8,
}

/// The byte that makes the next one text, as the backslash in `\"`.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, Deserialize, schemars::JsonSchema)]
#[serde(try_from = "String", into = "String")]
pub struct Escape(pub(crate) u8);

/// What encloses fields that hold delimiters, line ends or quotes.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, Deserialize, schemars::JsonSchema)]
#[serde(try_from = "String", into = "String")]
pub enum Quote {
    /// This byte, doubled inside.
    Byte(u8),
    /// Nothing: quotes are text.
    None,
}

/// What ends a line.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, Deserialize, schemars::JsonSchema)]
#[serde(rename_all = "lowercase")]
pub enum LineEnd {
    /// Line feed.
    Lf,
    /// Carriage return and line feed.
    CrLf,
    /// Carriage return.
    Cr,
}

/// What to do with records that have more or fewer fields than the header.
#[derive(
    Clone, Copy, Debug, Default, PartialEq, Eq, Serialize, Deserialize, schemars::JsonSchema,
)]
#[serde(rename_all = "lowercase")]
pub enum Ragged {
    /// Refuse the source.
    #[default]
    Error,
    /// Add blank fields; drop surplus ones if they are blank, refuse the source if not.
    Pad,
    /// Leave the record out.
    Reject,
}

/// Two signs of a text that are the same, or of which one begins with the other.
#[derive(Clone, Copy, Debug, PartialEq, Eq, thiserror::Error)]
#[error("--{first} and --{second} need different characters")]
pub struct SignConflict {
    /// The option of one of them.
    pub first: &'static str,
    /// The option of the other.
    pub second: &'static str,
}

/// A delimiter, quote or escape that cannot be one.
#[derive(Clone, Debug, PartialEq, Eq, thiserror::Error)]
#[non_exhaustive]
pub enum DialectError {
    /// No delimiter.
    #[error(
        "'{0}' is not a delimiter: give a character, up to 8 bytes such as || or ::, \\xHH for a byte \
         in hexadecimal, or comma, semicolon, tab, pipe or space"
    )]
    Delimiter(String),
    /// Neither a single byte nor `none`.
    #[error("'{0}' is not a quote: give one character of ASCII, or none")]
    Quote(String),
    /// Not a single byte.
    #[error(
        "'{0}' is not an escape character: give one of ASCII that is no letter or digit, such as \\"
    )]
    Escape(String),
}

impl Delimiter {
    /// Bytes that a delimiter may have.
    const MAX_LENGTH: usize = 8;

    /// A comma.
    pub(crate) const COMMA: Self = Self::byte(b',');

    /// A delimiter of one byte.
    pub(crate) const fn byte(byte: u8) -> Self {
        let mut bytes = [0; Self::MAX_LENGTH];
        bytes[0] = byte;
        Self { bytes, length: 1 }
    }

    /// A delimiter of several bytes; `None` if there are none or too many, or one of them is a line
    /// end, a double quote or NUL.
    fn several(text: &[u8]) -> Option<Self> {
        let fits = (1..=Self::MAX_LENGTH).contains(&text.len());
        if !fits || memchr::memchr3(b'\n', b'\r', b'"', text).is_some() || text.contains(&0) {
            return None;
        }
        let mut bytes = [0; Self::MAX_LENGTH];
        bytes[..text.len()].copy_from_slice(text);
        Some(Self {
            bytes,
            length: text.len() as u8,
        })
    }

    /// Its bytes.
    pub(crate) fn as_bytes(&self) -> &[u8] {
        &self.bytes[..usize::from(self.length)]
    }

    /// Its first byte, which is all of it in the dialects of batches.
    pub(crate) const fn first(self) -> u8 {
        self.bytes[0]
    }

    /// Whether it is a single byte.
    pub(crate) const fn is_byte(self) -> bool {
        self.length == 1
    }
}

impl fmt::Debug for Delimiter {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        write!(f, "Delimiter({self})")
    }
}

/// Delimiters that have a name of their own.
const NAMED: [(&str, u8); 5] = [
    ("comma", b','),
    ("semicolon", b';'),
    ("tab", b'\t'),
    ("pipe", b'|'),
    ("space", b' '),
];

impl FromStr for Delimiter {
    type Err = DialectError;

    fn from_str(text: &str) -> Result<Self, Self::Err> {
        if let Some((_, byte)) = NAMED.iter().find(|(name, _)| *name == text) {
            return Ok(Self::byte(*byte));
        }
        let failed = || DialectError::Delimiter(text.to_owned());
        // A slip in one of the names above is no delimiter.
        if text.len() > 1 && text.bytes().all(|byte| byte.is_ascii_alphanumeric()) {
            return Err(failed());
        }
        let mut bytes = Vec::new();
        let mut rest = text;
        while let Some(first) = rest.chars().next() {
            let hexadecimal = rest.strip_prefix("\\x").and_then(|digits| digits.get(..2));
            if let Some(byte) = hexadecimal.and_then(|two| u8::from_str_radix(two, 16).ok()) {
                // Text is UTF-8 where it is divided, so a single byte is one of ASCII.
                bytes.push(Some(byte).filter(u8::is_ascii).ok_or_else(failed)?);
                rest = &rest[4..];
            } else if rest.len() > 2 && rest.starts_with("\\x") {
                return Err(failed());
            } else if let Some(behind) = rest.strip_prefix("\\t") {
                bytes.push(b'\t');
                rest = behind;
            } else {
                let (character, behind) = rest.split_at(first.len_utf8());
                bytes.extend_from_slice(character.as_bytes());
                rest = behind;
            }
        }
        Self::several(&bytes).ok_or_else(failed)
    }
}

impl fmt::Display for Delimiter {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        let named = NAMED.iter().find(|(_, byte)| self.as_bytes() == [*byte]);
        if let Some((name, _)) = named {
            return f.write_str(name);
        }
        for character in String::from_utf8_lossy(self.as_bytes()).chars() {
            match character {
                '\t' => f.write_str("\\t")?,
                control if control.is_ascii_control() => {
                    write!(f, "\\x{:02x}", u32::from(control))?;
                }
                other => write!(f, "{other}")?,
            }
        }
        Ok(())
    }
}

impl FromStr for Escape {
    type Err = DialectError;

    fn from_str(text: &str) -> Result<Self, Self::Err> {
        match text.as_bytes() {
            [byte] if byte.is_ascii_punctuation() => Ok(Self(*byte)),
            _ => Err(DialectError::Escape(text.to_owned())),
        }
    }
}

impl fmt::Display for Escape {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        write!(f, "{}", char::from(self.0))
    }
}

impl FromStr for Quote {
    type Err = DialectError;

    fn from_str(text: &str) -> Result<Self, Self::Err> {
        match text.as_bytes() {
            b"none" => Ok(Self::None),
            [byte] if byte.is_ascii_graphic() => Ok(Self::Byte(*byte)),
            _ => Err(DialectError::Quote(text.to_owned())),
        }
    }
}

impl fmt::Display for Quote {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self {
            Self::None => f.write_str("none"),
            Self::Byte(byte) => write!(f, "{}", char::from(*byte)),
        }
    }
}

impl Quote {
    pub(crate) fn byte(self) -> Option<u8> {
        match self {
            Self::Byte(byte) => Some(byte),
            Self::None => None,
        }
    }
}

macro_rules! text_in_jobs {
    ($($name:ty),+) => {$(
        impl TryFrom<String> for $name {
            type Error = DialectError;

            fn try_from(text: String) -> Result<Self, Self::Error> {
                text.parse()
            }
        }

        impl From<$name> for String {
            fn from(value: $name) -> Self {
                value.to_string()
            }
        }
    )+};
}
text_in_jobs!(Delimiter, Quote, Escape);

impl LineEnd {
    /// Its bytes.
    pub fn bytes(self) -> &'static [u8] {
        match self {
            Self::Lf => b"\n",
            Self::CrLf => b"\r\n",
            Self::Cr => b"\r",
        }
    }

    /// Its name as people read it.
    pub fn name(self) -> &'static str {
        match self {
            Self::Lf => "LF",
            Self::CrLf => "CRLF",
            Self::Cr => "CR",
        }
    }

    pub(crate) fn terminator(self) -> u8 {
        if self == Self::Cr { b'\r' } else { b'\n' }
    }
}

/// One way to write records as delimited text.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub struct Dialect {
    /// Between fields.
    pub delimiter: Delimiter,
    /// Around fields that need it.
    pub quote: Quote,
    /// Before a quote, a delimiter or itself, where that is text; without it quotes are doubled.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub escape: Option<Escape>,
    /// Behind records.
    pub line_end: LineEnd,
    /// How characters are written.
    pub encoding: Encoding,
    /// Whether a byte-order mark stands in front.
    pub bom: bool,
    /// Whether the first record names the columns.
    pub header: bool,
}

impl Dialect {
    /// Delimiter and quote of [`Dialect::CELLS`].
    pub(crate) const CELLS_MARKS: (u8, u8) = (0x1e, CELL_QUOTE);

    /// The dialect in which the records of sheets travel. What is quoted was text in its cell.
    pub const CELLS: Self = Self {
        delimiter: Delimiter::byte(Self::CELLS_MARKS.0),
        quote: Quote::Byte(Self::CELLS_MARKS.1),
        escape: None,
        line_end: LineEnd::Lf,
        encoding: Encoding::UTF_8,
        bom: false,
        header: true,
    };

    /// The dialect in which the records of documents travel whose values are all text.
    pub const TEXTS: Self = Self {
        delimiter: Delimiter::byte(0x1f),
        ..Self::CELLS
    };

    /// Whether records travel in it and none are written in it: its quotes are nobody's.
    pub(crate) fn is_ours(&self) -> bool {
        self.quote.byte() == Some(CELL_QUOTE)
    }

    /// Whether fields in it can move to another dialect with the same marks as they are.
    pub(crate) fn has_fields_of(&self, other: &Self) -> bool {
        // Without quotes, the end of a line in one of them is text in the other.
        let marks = |dialect: &Self| {
            let terminator = dialect.line_end.terminator();
            (dialect.delimiter, dialect.quote, dialect.escape, terminator)
        };
        self.delimiter.is_byte() && self.escape.is_none() && marks(self) == marks(other)
    }

    /// Whether it is that of the records of sheets, whose values have the types of their cells.
    pub(crate) fn is_cells(&self) -> bool {
        (self.delimiter.first(), self.quote.byte())
            == (Self::CELLS_MARKS.0, Some(Self::CELLS_MARKS.1))
    }

    /// Makes a batch ready for records of `width` fields in this dialect.
    pub(crate) fn prepare(&self, batch: &mut Batch, width: usize) {
        batch.width = width;
        batch.delimiter = self.delimiter.first();
        batch.quote = self.quote.byte();
        batch.terminator = self.line_end.terminator();
        batch.carriage_returns = batch.terminator == b'\n';
    }

    /// Brings the records of a batch to this dialect, if they are in another.
    pub(crate) fn bring(&self, batch: &mut Batch) {
        let same = batch.delimiter == self.delimiter.first()
            && batch.quote == self.quote.byte()
            && batch.terminator == self.line_end.terminator();
        if same {
            return;
        }
        let mut lines = Vec::new();
        batch.all_lines(&mut lines);
        let width = batch.width();
        let records: Vec<Vec<Vec<u8>>> = (0..batch.len())
            .map(|record| {
                let field = |column| batch.field(record, column).text().into_owned();
                (0..width).map(field).collect()
            })
            .collect();
        self.prepare(batch, width);
        for (record, values) in records.iter().enumerate() {
            // The values of a text have no types of their own, and must not get any in cells.
            batch.replace_record(record, values, |_| self.is_cells(), self.line_end.bytes());
        }
        batch.lines = lines;
    }
}

/// How a source is to be read; what is `None` is detected.
#[derive(Clone, Debug, Default, PartialEq, Eq, Serialize, Deserialize, schemars::JsonSchema)]
#[serde(default, rename_all = "kebab-case")]
pub struct ReadOptions {
    /// The extension of the format, which is not detected then.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub from: Option<String>,
    /// The sheets of a workbook that are read, by name or number; the first that is shown if none is
    /// chosen.
    #[serde(skip_serializing_if = "Vec::is_empty")]
    pub read_sheet: Vec<SheetChoice>,
    /// Between fields.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub delimiter: Option<Delimiter>,
    /// Around fields; a double quote if not said otherwise.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub quote: Option<Quote>,
    /// The character before a quote, a delimiter or itself where that is text.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub escape: Option<Escape>,
    /// Blanks between a delimiter and a quote are passed over; detected if not said.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub padded_quotes: Option<bool>,
    /// Lines that begin with this text are passed over.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub comment: Option<String>,
    /// Values that are read as blank.
    #[serde(skip_serializing_if = "Vec::is_empty")]
    pub blank_values: Vec<String>,
    /// How characters are written.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub encoding: Option<Encoding>,
    /// Each line is a record, verbatim, blank ones too, in the one column `line`.
    pub lines: bool,
    /// The first record is data; columns are called `column_1`, `column_2` …
    pub no_header: bool,
    /// Lines to pass over at the start.
    pub skip_lines: u64,
    /// What to do with records of another width.
    pub ragged: Ragged,
    /// The records of a document, as a JSONPath or an XPath; they are looked for if it is not said.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub records: Option<String>,
    /// The column for the names of members of a JSON object that are records; `key` if not said.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub key_column: Option<String>,
    /// What becomes of lists in the records of documents.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub repeats: Option<Repeats>,
    /// The prefixes of names are left out.
    pub no_prefixes: bool,
    /// Levels that a document may be nested; 128 if not said.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub depth: Option<usize>,
    /// What ends the lines, where that is known.
    #[serde(skip)]
    pub line_ends: Option<LineEnd>,
    /// The records of documents are one column, as JSON, so that they can be compared as a whole.
    #[serde(skip)]
    pub as_one: bool,
    /// Columns that documents have in any case.
    #[serde(skip)]
    pub also: Vec<String>,
    /// Files that say what the records of messages are, before those layouts that are shipped.
    #[serde(skip_serializing_if = "Vec::is_empty")]
    pub layout: Vec<PathBuf>,
    /// What stands in those files.
    #[serde(skip)]
    pub layouts: Vec<String>,
    /// What becomes of counts and control numbers of messages that do not agree.
    pub miscounted: Miscounted,
    /// What becomes of formulas that no program has computed.
    pub on_uncomputed: Uncomputed,
    /// Words of the job that could name columns, for formats in which parts of values are columns where
    /// they are named.
    #[serde(skip)]
    pub named: Vec<String>,
    /// Messages of which no layout is known are an error, and not records.
    #[serde(skip)]
    pub by_layout: bool,
    /// Where nothing is at `records`, the records are looked for.
    #[serde(skip)]
    pub records_elsewhere: bool,
    /// A sheet with nothing in it is no error.
    #[serde(skip)]
    pub may_be_empty: bool,
}

/// How outputs are to be written; what is `None` is as in the first source, where the output has the
/// source's extension (or that says nothing of a format), and else comma (`csv`) or tab (`tsv`, `txt`), UTF-8 without byte-order
/// mark, and LF.
#[derive(Clone, Debug, Default, PartialEq, Eq, Serialize, Deserialize, schemars::JsonSchema)]
#[serde(default, rename_all = "kebab-case")]
pub struct WriteOptions {
    /// Between fields.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub out_delimiter: Option<Delimiter>,
    /// How characters are written.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub out_encoding: Option<Encoding>,
    /// Whether a byte-order mark is put in front.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub bom: Option<bool>,
    /// Behind records.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub line_end: Option<LineEnd>,
    /// Whether the columns of workbooks are typed.
    pub types: Types,
    /// What to do with control characters that a format has no way to write.
    pub control_signs: ControlSigns,
    /// How blank values are written in documents.
    pub nulls: Blanks,
    /// Blanks before what is nested in documents, for each level; a record a line if not said.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub indent: Option<usize>,
    /// Dots in the names of columns nest nothing.
    pub flat: bool,
    /// The name of the root element of XML.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub root: Option<String>,
    /// The name of the elements of XML that are records.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub item: Option<String>,
    /// Namespaces that the root element of XML declares.
    #[serde(skip_serializing_if = "Vec::is_empty")]
    pub namespace: Vec<Namespace>,
    /// A comment before the root element of XML.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub xml_comment: Option<Words>,
    /// A file with the form that documents are to have.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub shape: Option<PathBuf>,
    /// A file with the schema that documents are held against.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub schema: Option<PathBuf>,
    /// What becomes of the totals of messages of which only some records are taken.
    pub balance: Balance,
}

impl WriteOptions {
    /// Whether something is said of the elements of XML outputs.
    pub(crate) fn chooses_elements(&self) -> bool {
        self.root.is_some()
            || self.item.is_some()
            || self.flat
            || self.shape.is_some()
            || !self.namespace.is_empty()
    }

    /// The dialect of an output with `extension`, made from a source in `source`.
    pub fn dialect(&self, extension: &str, source: Dialect, source_extension: &str) -> Dialect {
        // An extension that says nothing is no reason to write another dialect.
        let telling = super::EXTENSIONS.contains(&source_extension);
        let same = !source.is_ours() && (extension == source_extension || !telling);
        let usual = Dialect {
            delimiter: Delimiter::byte(if extension == "csv" { b',' } else { b'\t' }),
            quote: if source.is_ours() {
                Quote::Byte(b'"')
            } else {
                source.quote
            },
            escape: None,
            line_end: LineEnd::Lf,
            encoding: Encoding::UTF_8,
            bom: false,
            ..source
        };
        let mut base = if same { source } else { usual };
        if extension == "tsv" && extension != source_extension {
            base.delimiter = Delimiter::byte(b'\t');
        }
        let encoding = self.out_encoding.unwrap_or(base.encoding);
        // A mark that was the source's goes with the source's encoding only.
        let bom = self.bom.unwrap_or(base.bom && encoding == base.encoding)
            && encoding.byte_order_mark().is_some();
        Dialect {
            delimiter: self.out_delimiter.unwrap_or(base.delimiter),
            line_end: self.line_end.unwrap_or(base.line_end),
            encoding,
            bom,
            ..base
        }
    }
}
