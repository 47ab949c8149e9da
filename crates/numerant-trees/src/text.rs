//! The text of a document, piece by piece: what is read and not done with, and where that is.

use numerant_data::encoding::{
    Encoding, EncodingError, Malformed, Transcoder, Utf32, Utf32Reader, mostly_utf16,
};
use numerant_data::source::{Input, Place, ReadError, ReadProblem};
use numerant_data::value::Size;

/// Bytes that are read at a time.
const PIECE: usize = 1 << 18;

/// The text that is read and not skipped.
pub struct Text {
    /// What its format is called.
    format: &'static str,
    input: Input,
    /// The encoding that the text was in; `text` is UTF-8.
    encoding: Encoding,
    text: String,
    /// The start of a character whose end is still to come, and room for what is read.
    raw: Vec<u8>,
    /// How much of the text is skipped.
    pub at: usize,
    at_end: bool,
    /// Lines before the first byte that is kept, and characters of its line.
    lines: u64,
    characters: u64,
    /// Bytes that were dropped.
    dropped: u64,
    largest: usize,
    /// What is after this place is not dropped.
    pub hold: usize,
}

impl Text {
    /// A text in the encoding that is stated or detected from its first bytes, or else in what
    /// `declared` finds in them.
    pub fn new(
        mut input: Input,
        format: &'static str,
        encoding: Option<Encoding>,
        declared: fn(&[u8]) -> Result<Option<Encoding>, EncodingError>,
        largest: usize,
    ) -> Result<Self, ReadError> {
        let mut start = input.peek(4096)?;
        if let Some(order) = Utf32::detect(&start).filter(|_| encoding.is_none()) {
            input.wrap(|inner| Utf32Reader::new(inner, order));
            start = b"\xef\xbb\xbf".to_vec();
        }
        let detected = match &start[..] {
            [0xff, 0xfe, ..] => Some(Encoding::UTF_16LE),
            [0xfe, 0xff, ..] => Some(Encoding::UTF_16BE),
            _ => mostly_utf16(&start),
        };
        let encoding = match encoding.or(detected) {
            Some(encoding) => encoding,
            None => {
                let unknown = |error| input.path.error(ReadProblem::EncodingName(error));
                let declared = declared(&start).map_err(unknown)?;
                declared.unwrap_or(Encoding::UTF_8)
            }
        };
        if !encoding.is_utf8() {
            input.wrap(|inner| Transcoder::new(inner, encoding));
        }
        let mut text = Self {
            format,
            input,
            encoding,
            text: String::new(),
            raw: Vec::new(),
            at: 0,
            at_end: false,
            lines: 0,
            characters: 0,
            dropped: 0,
            largest,
            hold: usize::MAX,
        };
        while text.text.len() < 3 && text.more(0)? {}
        if text.text.starts_with('\u{feff}') {
            text.at = 3;
        }
        Ok(text)
    }

    /// The encoding that the text was in.
    pub fn encoding(&self) -> Encoding {
        self.encoding
    }

    /// Bytes that were skipped.
    pub fn passed(&self) -> u64 {
        self.dropped + self.at as u64
    }

    /// What is read and kept.
    #[inline]
    pub fn bytes(&self) -> &[u8] {
        self.text.as_bytes()
    }

    /// What is left of what is read.
    #[inline]
    pub fn rest(&self) -> &str {
        &self.text[self.at..]
    }

    /// Whether all of the text is read.
    pub fn is_at_end(&self) -> bool {
        self.at_end
    }

    /// Puts other text in a place that is not skipped.
    pub fn replace(&mut self, place: std::ops::Range<usize>, text: &str) {
        self.text.replace_range(place, text);
    }

    /// Reads the next piece, and drops what is before `keep`; `false` at the end. Places in the text
    /// move by as much as is dropped, which [`Text::at`] shows.
    pub fn more(&mut self, keep: usize) -> Result<bool, ReadError> {
        if self.at_end {
            return Ok(false);
        }
        let keep = keep.min(self.hold);
        if keep > 0 {
            if self.hold != usize::MAX {
                self.hold -= keep;
            }
            let before = &self.text.as_bytes()[..keep];
            match memchr::memrchr(b'\n', before) {
                Some(last) => {
                    self.lines += memchr::memchr_iter(b'\n', before).count() as u64;
                    self.characters = count(&before[last + 1..]);
                }
                None => self.characters += count(before),
            }
            self.text.drain(..keep);
            self.at -= keep;
            self.dropped += keep as u64;
        }
        if self.text.len() > self.largest {
            let limit = Size(self.largest as u64);
            return Err(self.error(self.at, ReadProblem::RecordTooLarge { limit }));
        }
        // What is long is read in ever larger pieces, so that it is not looked at too often.
        let wanted = PIECE.max(self.text.len());
        let mut raw = std::mem::take(&mut self.raw);
        let before = raw.len();
        raw.resize(before + wanted, 0);
        let read = self.input.fill(&mut raw[before..]);
        let read = read.map_err(|error| self.encoding_error(error))?;
        raw.truncate(before + read);
        self.at_end = read < wanted;
        match simdutf8::compat::from_utf8(&raw) {
            Ok(text) => {
                self.text.push_str(text);
                raw.clear();
            }
            Err(error) => {
                let valid = error.valid_up_to();
                self.text.push_str(&String::from_utf8_lossy(&raw[..valid]));
                raw.drain(..valid);
                if error.error_len().is_some() || self.at_end {
                    let bytes = raw.iter().take(error.error_len().unwrap_or(1));
                    let bytes: Vec<String> = bytes.map(|byte| format!("{byte:02X}")).collect();
                    let problem = ReadProblem::Encoding {
                        bytes: bytes.join(" "),
                        encoding: "UTF-8",
                        likely: Some("windows-1252"),
                    };
                    return Err(self.error(self.text.len(), problem));
                }
            }
        }
        self.raw = raw;
        Ok(true)
    }

    fn encoding_error(&self, error: ReadError) -> ReadError {
        let ReadProblem::Io(cause) = &error.problem else {
            return error;
        };
        let malformed = cause.get_ref();
        let malformed = malformed.and_then(|cause| cause.downcast_ref::<Malformed>());
        match malformed {
            Some(malformed) => self.input.path.error_at(
                Place::line(malformed.line),
                ReadProblem::Encoding {
                    bytes: "here".to_owned(),
                    encoding: "in its encoding",
                    likely: None,
                },
            ),
            None => error,
        }
    }

    /// The line of a place in the text, from 1.
    pub fn line(&self, at: usize) -> u64 {
        let before = &self.bytes()[..at.min(self.text.len())];
        self.lines + memchr::memchr_iter(b'\n', before).count() as u64 + 1
    }

    /// A problem at a place in the text.
    pub fn error(&self, at: usize, problem: ReadProblem) -> ReadError {
        let before = &self.bytes()[..at.min(self.text.len())];
        let characters = match memchr::memrchr(b'\n', before) {
            Some(last) => count(&before[last + 1..]),
            None => self.characters + count(before),
        };
        let place = Place::character(self.line(at), characters + 1);
        self.input.path.error_at(place, problem)
    }

    /// An error: the document is malformed at a byte of the window.
    pub fn malformed(&self, at: usize, what: impl Into<String>) -> ReadError {
        let problem = ReadProblem::Malformed {
            format: self.format,
            what: what.into(),
        };
        self.error(at, problem)
    }

    /// Passes over white space; what comes next, if anything does.
    pub fn next_byte(&mut self, keep: Option<usize>) -> Result<Option<u8>, ReadError> {
        loop {
            while let Some(byte) = self.bytes().get(self.at) {
                if !matches!(byte, b' ' | b'\t' | b'\n' | b'\r') {
                    return Ok(Some(*byte));
                }
                self.at += 1;
            }
            if !self.more(keep.unwrap_or(self.at))? && self.at >= self.text.len() {
                return Ok(None);
            }
        }
    }
}

/// Characters of a text.
fn count(text: &[u8]) -> u64 {
    text.iter().filter(|byte| **byte & 0xc0 != 0x80).count() as u64
}
