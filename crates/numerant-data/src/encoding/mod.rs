//! Encodings of text, and decoding to UTF-8 on the way in.
//!
//! Names and decoders are those of the WHATWG Encoding Standard (`encoding_rs`), but a byte that
//! an encoding does not have is an error here, never a replacement character.

mod detect;
mod utf32;

use std::io::{self, Read};

use serde::{Deserialize, Serialize};

pub use detect::{DetectedEncoding, detect_encoding, detect_legacy};
pub use utf32::{Utf32, Utf32Reader};

/// An encoding of text, by its name in the WHATWG Encoding Standard.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, Deserialize, schemars::JsonSchema)]
#[serde(try_from = "String", into = "String")]
pub struct Encoding(&'static encoding_rs::Encoding);

/// A name that is no encoding's.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
#[error(
    "'{0}' is not an encoding of the WHATWG Encoding Standard, such as utf-8, utf-16le, windows-1252, iso-8859-15 or shift_jis"
)]
pub struct EncodingError(pub String);

impl Encoding {
    /// UTF-8, RFC 3629.
    pub const UTF_8: Self = Self(encoding_rs::UTF_8);
    /// UTF-16, low byte first.
    pub const UTF_16LE: Self = Self(encoding_rs::UTF_16LE);
    /// UTF-16, high byte first.
    pub const UTF_16BE: Self = Self(encoding_rs::UTF_16BE);
    /// Windows code page 1252.
    pub const WINDOWS_1252: Self = Self(encoding_rs::WINDOWS_1252);

    /// The encoding of that name, in any case, or by a label such as `latin1` or `cp1252`.
    ///
    /// # Errors
    ///
    /// [`EncodingError`] if there is none.
    pub fn named(name: &str) -> Result<Self, EncodingError> {
        encoding_rs::Encoding::for_label_no_replacement(name.trim().as_bytes())
            .map(Self)
            .ok_or_else(|| EncodingError(name.to_owned()))
    }

    /// Its name.
    pub fn name(self) -> &'static str {
        self.0.name()
    }

    /// The text that bytes represent; `None` if any represent nothing.
    pub fn decode(self, bytes: &[u8]) -> Option<std::borrow::Cow<'_, str>> {
        self.0
            .decode_without_bom_handling_and_without_replacement(bytes)
    }

    /// Whether it is UTF-8.
    pub fn is_utf8(self) -> bool {
        self == Self::UTF_8
    }

    /// The byte-order mark of the encoding, if it has one.
    pub fn byte_order_mark(self) -> Option<&'static [u8]> {
        [
            (Self::UTF_8, &b"\xef\xbb\xbf"[..]),
            (Self::UTF_16LE, b"\xff\xfe"),
            (Self::UTF_16BE, b"\xfe\xff"),
        ]
        .into_iter()
        .find_map(|(encoding, mark)| (self == encoding).then_some(mark))
    }

    /// Appends `text` in this encoding to `out`.
    ///
    /// # Errors
    ///
    /// The first character that the encoding does not have; `out` then holds a part of the text.
    pub fn encode(self, text: &str, out: &mut Vec<u8>) -> Result<(), char> {
        if self == Self::UTF_8 {
            out.extend_from_slice(text.as_bytes());
            return Ok(());
        }
        if self == Self::UTF_16LE {
            out.extend(text.encode_utf16().flat_map(u16::to_le_bytes));
            return Ok(());
        }
        if self == Self::UTF_16BE {
            out.extend(text.encode_utf16().flat_map(u16::to_be_bytes));
            return Ok(());
        }
        let mut encoder = self.0.new_encoder();
        let mut rest = text;
        loop {
            let room = encoder.max_buffer_length_from_utf8_without_replacement(rest.len());
            out.reserve(room.unwrap_or(rest.len() * 4 + 16));
            let (result, read) =
                encoder.encode_from_utf8_to_vec_without_replacement(rest, out, true);
            match result {
                encoding_rs::EncoderResult::InputEmpty => break,
                encoding_rs::EncoderResult::OutputFull => rest = &rest[read..],
                encoding_rs::EncoderResult::Unmappable(character) => return Err(character),
            }
        }
        Ok(())
    }
}

impl From<&'static encoding_rs::Encoding> for Encoding {
    fn from(encoding: &'static encoding_rs::Encoding) -> Self {
        Self(encoding)
    }
}

impl std::str::FromStr for Encoding {
    type Err = EncodingError;

    fn from_str(name: &str) -> Result<Self, Self::Err> {
        Self::named(name)
    }
}

impl TryFrom<String> for Encoding {
    type Error = EncodingError;

    fn try_from(name: String) -> Result<Self, Self::Error> {
        Self::named(&name)
    }
}

impl From<Encoding> for String {
    fn from(encoding: Encoding) -> Self {
        encoding.name().to_lowercase()
    }
}

/// UTF-16 without a byte-order mark: nearly every second byte of Latin text is NUL.
pub fn mostly_utf16(sample: &[u8]) -> Option<Encoding> {
    let pairs = sample.as_chunks::<2>().0;
    if pairs.len() < 2 {
        return None;
    }
    let first_nul = pairs
        .iter()
        .filter(|[first, second]| *first == 0 && *second != 0)
        .count();
    let second_nul = pairs
        .iter()
        .filter(|[first, second]| *first != 0 && *second == 0)
        .count();
    let most = pairs.len() * 7 / 10;
    if second_nul > most {
        Some(Encoding::UTF_16LE)
    } else if first_nul > most {
        Some(Encoding::UTF_16BE)
    } else {
        None
    }
}

/// Reads a text in any encoding as UTF-8.
///
/// A byte sequence that the encoding does not have ends the reading with an error that carries a
/// [`Malformed`].
pub struct Transcoder<R> {
    inner: R,
    decoder: encoding_rs::Decoder,
    raw: Vec<u8>,
    raw_from: usize,
    raw_to: usize,
    text: Vec<u8>,
    text_from: usize,
    text_to: usize,
    line: u64,
    state: Stage,
}

#[derive(Clone, Copy, PartialEq, Eq)]
enum Stage {
    Reading,
    Ending,
    Done,
}

/// Bytes that an encoding does not have.
#[derive(Debug, thiserror::Error)]
#[error("malformed text")]
pub struct Malformed {
    /// Line of the text on which they stand, from 1.
    pub line: u64,
    /// The bytes.
    pub bytes: Vec<u8>,
}

const PIECE: usize = 1 << 17;

impl<R: Read> Transcoder<R> {
    /// A reader of `inner` in UTF-8; a byte that `encoding` does not have is an error with its offset.
    pub fn new(inner: R, encoding: Encoding) -> Self {
        Self {
            inner,
            decoder: encoding.0.new_decoder_with_bom_removal(),
            raw: vec![0; PIECE],
            raw_from: 0,
            raw_to: 0,
            text: vec![0; PIECE * 3],
            text_from: 0,
            text_to: 0,
            line: 1,
            state: Stage::Reading,
        }
    }

    /// Decodes the next piece into `text`; leaves it empty at the end.
    fn refill(&mut self) -> io::Result<()> {
        self.text_from = 0;
        self.text_to = 0;
        while self.text_to == 0 && self.state != Stage::Done {
            if self.raw_from == self.raw_to && self.state == Stage::Reading {
                self.raw_from = 0;
                self.raw_to = self.inner.read(&mut self.raw)?;
                if self.raw_to == 0 {
                    self.state = Stage::Ending;
                }
            }
            let last = self.state == Stage::Ending;
            let raw = &self.raw[self.raw_from..self.raw_to];
            let (result, read, written) =
                self.decoder
                    .decode_to_utf8_without_replacement(raw, &mut self.text, last);
            self.text_to = written;
            self.line += memchr::memchr_iter(b'\n', &self.text[..written]).count() as u64;
            let consumed = self.raw_from + read;
            match result {
                encoding_rs::DecoderResult::InputEmpty if last => self.state = Stage::Done,
                encoding_rs::DecoderResult::Malformed(length, behind) => {
                    let end = consumed.saturating_sub(usize::from(behind));
                    let start = end.saturating_sub(usize::from(length));
                    let bytes = self.raw[start..end].to_vec();
                    return Err(io::Error::other(Malformed {
                        line: self.line,
                        bytes,
                    }));
                }
                _ => {}
            }
            self.raw_from = consumed;
        }
        Ok(())
    }
}

impl<R: Read> Read for Transcoder<R> {
    fn read(&mut self, buffer: &mut [u8]) -> io::Result<usize> {
        if self.text_from == self.text_to {
            self.refill()?;
        }
        let length = buffer.len().min(self.text_to - self.text_from);
        buffer[..length].copy_from_slice(&self.text[self.text_from..self.text_from + length]);
        self.text_from += length;
        Ok(length)
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn decoded(bytes: &[u8], encoding: Encoding) -> io::Result<String> {
        let mut text = String::new();
        Transcoder::new(bytes, encoding)
            .read_to_string(&mut text)
            .map(|_| text)
    }

    #[test]
    fn encodings_there_and_back() {
        let text = "Ångkajen;Öst—№\n".repeat(40_000);
        for encoding in [Encoding::UTF_8, Encoding::UTF_16LE, Encoding::UTF_16BE] {
            let mut bytes = Vec::new();
            encoding
                .encode(&text, &mut bytes)
                .expect("Unicode has them all");
            assert_eq!(
                decoded(&bytes, encoding).expect("valid"),
                text,
                "{}",
                encoding.name()
            );
        }
        let mut bytes = Vec::new();
        assert_eq!(Encoding::WINDOWS_1252.encode("Öst №", &mut bytes), Err('№'));
        bytes.clear();
        Encoding::WINDOWS_1252
            .encode("Öst—", &mut bytes)
            .expect("all there");
        assert_eq!(bytes, b"\xd6st\x97");
        assert_eq!(
            decoded(&bytes, Encoding::WINDOWS_1252).expect("valid"),
            "Öst—"
        );
    }

    #[test]
    fn malformed_bytes_are_an_error_with_their_line() {
        let error = decoded(b"a\nb\n\x82!", Encoding::named("shift_jis").expect("known"))
            .expect_err("no character begins like that");
        let malformed = error.get_ref().and_then(|e| e.downcast_ref::<Malformed>());
        let malformed = malformed.expect("carries the bytes");
        assert_eq!((malformed.line, &malformed.bytes[..]), (3, &b"\x82"[..]));
    }

    #[test]
    fn names() {
        assert!(Encoding::named("klingon").is_err());
    }
}
