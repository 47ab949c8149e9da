//! What one delimited text differs in from another.

use std::fmt;
use std::path::PathBuf;
use std::str::FromStr;

use serde::{Deserialize, Serialize};

use crate::format::sheet::{SheetChoice, Types};
use crate::format::{Balance, Blanks, ControlSigns, Miscounted};
use crate::name::Words;
use crate::record::{Batch, CELL_QUOTE};
use crate::source::Encoding;
use crate::tree::Repeats;

/// The byte between two fields.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, Deserialize, schemars::JsonSchema)]
#[serde(try_from = "String", into = "String")]
pub struct Delimiter(pub(crate) u8);

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

/// A delimiter or quote that cannot be one.
#[derive(Clone, Debug, PartialEq, Eq, thiserror::Error)]
#[non_exhaustive]
pub enum DialectError {
    /// Not a single byte.
    #[error(
        "'{0}' is not a delimiter: give one character of ASCII, or comma, semicolon, tab, pipe or space"
    )]
    Delimiter(String),
    /// Neither a single byte nor `none`.
    #[error("'{0}' is not a quote: give one character of ASCII, or none")]
    Quote(String),
}

impl Delimiter {
    /// A comma.
    pub(crate) const COMMA: Self = Self(b',');
}

impl FromStr for Delimiter {
    type Err = DialectError;

    fn from_str(text: &str) -> Result<Self, Self::Err> {
        let byte = match text {
            "comma" => b',',
            "semicolon" => b';',
            "tab" | "\\t" => b'\t',
            "pipe" => b'|',
            "space" => b' ',
            _ => match text.as_bytes() {
                [byte] if !matches!(byte, b'\n' | b'\r' | b'"' | 0) => *byte,
                _ => return Err(DialectError::Delimiter(text.to_owned())),
            },
        };
        Ok(Self(byte))
    }
}

impl fmt::Display for Delimiter {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self.0 {
            b',' => f.write_str("comma"),
            b';' => f.write_str("semicolon"),
            b'\t' => f.write_str("tab"),
            b'|' => f.write_str("pipe"),
            b' ' => f.write_str("space"),
            byte => write!(f, "{}", char::from(byte)),
        }
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
text_in_jobs!(Delimiter, Quote);

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
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize)]
#[serde(rename_all = "kebab-case")]
pub struct Dialect {
    /// Between fields.
    pub delimiter: Delimiter,
    /// Around fields that need it.
    pub quote: Quote,
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
        delimiter: Delimiter(Self::CELLS_MARKS.0),
        quote: Quote::Byte(Self::CELLS_MARKS.1),
        line_end: LineEnd::Lf,
        encoding: Encoding::UTF_8,
        bom: false,
        header: true,
    };

    /// The dialect in which the records of documents travel whose values are all text.
    pub const TEXTS: Self = Self {
        delimiter: Delimiter(0x1f),
        ..Self::CELLS
    };

    /// Whether records travel in it and none are written in it: its quotes are nobody's.
    pub(crate) fn is_ours(&self) -> bool {
        self.quote.byte() == Some(CELL_QUOTE)
    }

    /// Whether it is that of the records of sheets, whose values have the types of their cells.
    pub(crate) fn is_cells(&self) -> bool {
        (self.delimiter.0, self.quote.byte()) == (Self::CELLS_MARKS.0, Some(Self::CELLS_MARKS.1))
    }

    /// Makes a batch ready for records of `width` fields in this dialect.
    pub(crate) fn prepare(&self, batch: &mut Batch, width: usize) {
        batch.width = width;
        batch.delimiter = self.delimiter.0;
        batch.quote = self.quote.byte();
        batch.terminator = self.line_end.terminator();
        batch.carriage_returns = batch.terminator == b'\n';
    }

    /// Brings the records of a batch to this dialect, if they are in another.
    pub(crate) fn bring(&self, batch: &mut Batch) {
        let same = batch.delimiter == self.delimiter.0
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

/// How a source is to be read; what is `None` is found out.
#[derive(Clone, Debug, Default, PartialEq, Eq, Serialize, Deserialize, schemars::JsonSchema)]
#[serde(default, rename_all = "kebab-case")]
pub struct ReadOptions {
    /// The extension of the format, where the content is not to tell it.
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
    /// How characters are written.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub encoding: Option<Encoding>,
    /// Each line is a record as it stands, blank ones too, in the one column `line`.
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
    /// What becomes of lists in the records of documents.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub repeats: Option<Repeats>,
    /// The prefixes of names are left out.
    pub no_prefixes: bool,
    /// Levels that a document may be nested; 128 if not said.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub depth: Option<usize>,
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
    /// Words of the job that could name columns, for formats in which parts of values are columns where
    /// they are named.
    #[serde(skip)]
    pub named: Vec<String>,
    /// Messages of which no layout is known are an error, and not records.
    #[serde(skip)]
    pub by_layout: bool,
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
    /// A comment before the root element of XML.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub comment: Option<Words>,
    /// A file with the form that documents are to have.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub shape: Option<PathBuf>,
    /// What becomes of the totals of messages of which only some records are taken.
    pub balance: Balance,
}

impl WriteOptions {
    /// The dialect of an output with `extension`, made from a source in `source`.
    pub fn dialect(&self, extension: &str, source: Dialect, source_extension: &str) -> Dialect {
        // An extension that says nothing is no reason to write another dialect.
        let telling = super::EXTENSIONS.contains(&source_extension);
        let same = !source.is_ours() && (extension == source_extension || !telling);
        let usual = Dialect {
            delimiter: Delimiter(if extension == "csv" { b',' } else { b'\t' }),
            quote: if source.is_ours() {
                Quote::Byte(b'"')
            } else {
                source.quote
            },
            line_end: LineEnd::Lf,
            encoding: Encoding::UTF_8,
            bom: false,
            ..source
        };
        let mut base = if same { source } else { usual };
        if extension == "tsv" && extension != source_extension {
            base.delimiter = Delimiter(b'\t');
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
