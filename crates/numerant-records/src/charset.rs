//! How the characters of a record are encoded.

use std::borrow::Cow;

use super::{iso5426, marc8};
use numerant_data::encoding::Encoding;

#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(super) enum Charset {
    /// Nothing but ASCII.
    Ascii,
    Utf8,
    /// UTF-8 in a record whose leader says MARC-8.
    UnlabelledUtf8,
    Marc8,
    /// The Latin alphabet of UNIMARC.
    Iso5426,
    /// The one that is stated for all records.
    Stated(Encoding),
    /// What is no UTF-8 is replaced.
    Lossy,
}

impl Charset {
    /// The text of bytes, or why they are none.
    pub(super) fn decode(self, bytes: &[u8]) -> Result<Cow<'_, str>, String> {
        match self {
            Self::Ascii => utf8(bytes, "the record is ASCII"),
            Self::Lossy => Ok(String::from_utf8_lossy(bytes)),
            Self::Utf8 | Self::UnlabelledUtf8 => utf8(bytes, "the record states UTF-8"),
            Self::Marc8 => marc8::decode(bytes).map_err(|error| error.to_string()),
            Self::Iso5426 => iso5426::decode(bytes).map_err(|error| error.to_string()),
            Self::Stated(encoding) if encoding.is_utf8() => {
                utf8(bytes, "UTF-8 is the encoding that was stated")
            }
            Self::Stated(encoding) => encoding
                .decode(bytes)
                .ok_or_else(|| format!("it has bytes that are undefined in {}", encoding.name())),
        }
    }
}

fn utf8<'b>(bytes: &'b [u8], why: &str) -> Result<Cow<'b, str>, String> {
    match std::str::from_utf8(bytes) {
        Ok(text) => Ok(Cow::Borrowed(text)),
        Err(error) => Err(format!(
            "{why}, and byte {} is not",
            error.valid_up_to() + 1
        )),
    }
}
