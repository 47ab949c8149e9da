//! What one delimited text differs in from another.

use crate::narrow::fit;
use std::fmt;
use std::str::FromStr;

use serde::{Deserialize, Serialize};

use super::encoding::Encoding;
use super::record::{Batch, Tag, Tagging};

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
pub struct Escape(pub u8);

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
        "'{0}' is not an escape character: use an ASCII character that is not a letter or digit, such as \\"
    )]
    Escape(String),
}

impl Delimiter {
    /// Bytes that a delimiter may have.
    const MAX_LENGTH: usize = 8;

    /// A comma.
    pub const COMMA: Self = Self::byte(b',');

    /// A delimiter of one byte.
    #[inline]
    pub const fn byte(byte: u8) -> Self {
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
            length: fit(text.len()),
        })
    }

    /// Its bytes.
    #[inline]
    pub fn as_bytes(&self) -> &[u8] {
        &self.bytes[..usize::from(self.length)]
    }

    /// Its first byte, which is all of it in the dialects of batches.
    #[inline]
    pub const fn first(self) -> u8 {
        self.bytes[0]
    }

    /// Whether it is a single byte.
    #[inline]
    pub const fn is_byte(self) -> bool {
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
    /// The byte around fields; `None` if quotes are text.
    #[inline]
    pub fn byte(self) -> Option<u8> {
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
    #[inline]
    pub fn bytes(self) -> &'static [u8] {
        match self {
            Self::Lf => b"\n",
            Self::CrLf => b"\r\n",
            Self::Cr => b"\r",
        }
    }

    /// Its name as people read it.
    #[inline]
    pub fn name(self) -> &'static str {
        match self {
            Self::Lf => "LF",
            Self::CrLf => "CRLF",
            Self::Cr => "CR",
        }
    }

    /// The last byte of the line end.
    #[inline]
    pub fn terminator(self) -> u8 {
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
    /// Whether a byte-order mark is in front.
    pub bom: bool,
    /// Whether the first record names the columns.
    pub header: bool,
    /// What stands next to the fields of records that only travel in it.
    #[serde(skip)]
    pub tagging: Tagging,
}

impl Dialect {
    /// How the records of sheets and of JSON travel.
    pub const CELLS: Self = Self {
        delimiter: Delimiter::byte(0x1e),
        quote: Quote::None,
        escape: None,
        line_end: LineEnd::Lf,
        encoding: Encoding::UTF_8,
        bom: false,
        header: true,
        tagging: Tagging::Types,
    };

    /// How the records of documents travel whose values are all text.
    pub const TEXTS: Self = Self {
        tagging: Tagging::Blanks,
        ..Self::CELLS
    };

    /// Whether records only travel in it, and none are written in it.
    #[inline]
    pub fn is_tagged(&self) -> bool {
        self.tagging != Tagging::None
    }

    /// Whether fields in it can move to another dialect with the same marks as they are.
    #[inline]
    pub fn has_fields_of(&self, other: &Self) -> bool {
        // Without quotes, the end of a line in one of them is text in the other.
        let marks = |dialect: &Self| {
            let terminator = dialect.line_end.terminator();
            (dialect.delimiter, dialect.quote, dialect.escape, terminator)
        };
        let is_regular = self.delimiter.is_byte() && self.escape.is_none() && !self.is_tagged();
        is_regular && marks(self) == marks(other)
    }

    /// Whether values have types of their own, as those of cells have.
    #[inline]
    pub fn has_types(&self) -> bool {
        self.tagging == Tagging::Types
    }

    /// Makes a batch ready for records of `width` fields in this dialect.
    #[inline]
    pub fn prepare(&self, batch: &mut Batch, width: usize) {
        batch.width = width;
        batch.delimiter = self.delimiter.first();
        batch.quote = self.quote.byte();
        batch.terminator = self.line_end.terminator();
        batch.carriage_returns = batch.terminator == b'\n' && !self.is_tagged();
        batch.tagging = self.tagging;
    }

    /// Brings the records of a batch to this dialect, if they are in another.
    pub fn bring(&self, batch: &mut Batch) {
        let same = batch.delimiter == self.delimiter.first()
            && batch.quote == self.quote.byte()
            && batch.terminator == self.line_end.terminator()
            && batch.tagging == self.tagging;
        if same {
            return;
        }
        let mut lines = Vec::new();
        batch.all_lines(&mut lines);
        let width = batch.width();
        // The values of a text have no types of their own, and must not get any in cells.
        let all_are_texts = batch.tagging != Tagging::Types && self.has_types();
        let records: Vec<Vec<(Vec<u8>, Tag)>> = (0..batch.len())
            .map(|record| {
                let field = |column| {
                    let field = batch.field(record, column);
                    let value = field.text().into_owned();
                    let is_text = all_are_texts && !value.is_empty();
                    (value, if is_text { Tag::TEXT } else { field.tag() })
                };
                (0..width).map(field).collect()
            })
            .collect();
        self.prepare(batch, width);
        // Each field end has a tag next to it, also those of the records that are replaced.
        batch.tags.resize(batch.ends.len(), Tag::PLAIN);
        for (record, values) in records.iter().enumerate() {
            batch.replace_record(record, values, self.line_end.bytes());
        }
        if self.tagging == Tagging::None {
            batch.tags.clear();
        }
        batch.lines = lines;
    }
}
