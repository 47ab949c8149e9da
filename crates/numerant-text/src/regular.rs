//! Makes delimited text that RFC 4180 does not describe into text that it does.
//!
//! Delimiters of several characters, escape characters, blanks around quotes and comments are rare,
//! and the scanner is fast because it knows nothing of them. So a reader in front of it writes such
//! text anew: one byte between fields, quotes doubled, no blanks around them, and an empty line in
//! the place of a comment, so that line numbers stay. What needs none of that is passed on byte for
//! byte, and a text that is regular never comes here.
//!
//! # Invariants
//!
//! * A line end stays a line end, inside quotes and outside, so lines can be counted after it.
//! * Text after a closing quote stays where it is, quotes included, as `scan::careful` reads it.

use std::io::{self, Read};
use std::sync::Arc;
use std::sync::atomic::{AtomicU64, Ordering};

use super::scan::Marks;
use numerant_data::dialect::{Delimiter, Escape, LineEnd, Quote, SignConflict};
use numerant_data::record::push_quoted;

/// Stands between fields where the delimiter of the text is not a single byte.
pub(crate) const UNIT_SEPARATOR: u8 = 0x1f;

/// Bytes that are read at a time.
const PIECE: usize = 1 << 16;

/// Bytes of an unquoted field that are kept until its end is known.
const MAX_FIELD: usize = 64 << 20;

/// How a text is written, as far as that decides where its fields end.
#[derive(Clone, Debug, PartialEq, Eq)]
pub(crate) struct Irregular {
    pub(crate) delimiter: Delimiter,
    pub(crate) quote: Quote,
    pub(crate) escape: Option<Escape>,
    /// Blanks between a delimiter and a quote are skipped, on either side.
    pub(crate) padded_quotes: bool,
    /// What begins a line that is no record.
    pub(crate) comment: Option<String>,
    pub(crate) line_end: LineEnd,
}

/// What was skipped or read otherwise on the way.
#[derive(Debug, Default)]
pub(crate) struct RegularCounts {
    /// Lines that are comments.
    pub(crate) comments: AtomicU64,
    /// Escape characters before a letter or digit, which may mean something else elsewhere.
    pub(crate) escaped_letters: AtomicU64,
}

impl Irregular {
    /// Text with commas, and nothing that RFC 4180 does not describe.
    #[cfg(test)]
    pub(crate) fn usual(quote: Quote, line_end: LineEnd) -> Self {
        Self {
            delimiter: Delimiter::COMMA,
            quote,
            escape: None,
            padded_quotes: false,
            comment: None,
            line_end,
        }
    }

    /// Two signs of the text that are ambiguous, if there are any.
    pub(crate) fn conflict(&self) -> Option<SignConflict> {
        let quote = self.quote.byte().map(|byte| vec![byte]);
        let escape = self.escape.map(|escape| vec![escape.0]);
        let comment = self.comment.as_ref().map(|text| text.clone().into_bytes());
        let delimiter = Some(self.delimiter.as_bytes().to_vec());
        let signs = [
            ("delimiter", delimiter),
            ("quote", quote),
            ("escape", escape),
            ("comment", comment),
        ];
        let given = signs
            .iter()
            .filter_map(|(name, sign)| Some((*name, sign.as_deref()?)));
        let given: Vec<_> = given.collect();
        for (index, (first, one)) in given.iter().enumerate() {
            for (second, other) in &given[index + 1..] {
                // A field, a quoted field or a record could begin with either.
                let same = match *second {
                    "comment" => other.starts_with(one),
                    _ => one.contains(&other[0]),
                };
                if same {
                    return Some(SignConflict { first, second });
                }
            }
        }
        None
    }

    /// Whether RFC 4180 describes it, so that nothing needs to be written anew.
    pub(crate) fn is_regular(&self) -> bool {
        !self.rewrites_values() && !self.padded_quotes && self.comment.is_none()
    }

    /// Whether values are written anew.
    fn rewrites_values(&self) -> bool {
        !self.delimiter.is_byte() || self.escape.is_some()
    }

    /// The marks of the text once it is regular.
    pub(crate) fn marks(&self) -> Marks {
        let quote = self.quote.byte();
        Marks {
            delimiter: if self.delimiter.is_byte() {
                self.delimiter.first()
            } else {
                UNIT_SEPARATOR
            },
            // What an escape character or a delimiter of several bytes protects needs quotes then.
            quote: quote.or(self.rewrites_values().then_some(b'"')),
            terminator: self.line_end.terminator(),
        }
    }
}

/// A text made regular as a whole.
pub(crate) fn regular(text: &[u8], irregular: &Irregular) -> Vec<u8> {
    let mut reader = RegularReader::new(text, irregular.clone());
    let mut made = Vec::with_capacity(text.len());
    // Reading from memory does not fail, and what the reader refuses is refused again later.
    let _ = reader.read_to_end(&mut made);
    made
}

/// What is before the place that is read.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
enum State {
    /// A field begins; the flag says whether it is the first of its record.
    FieldStart(bool),
    /// An unquoted field.
    Plain,
    /// A quoted field.
    Quoted,
    /// A quoted field that is closed.
    Closed,
    /// Text after a closing quote.
    Stray,
    /// A comment.
    Comment,
}

/// Reads a text in UTF-8 as RFC 4180 describes it.
pub(crate) struct RegularReader<R> {
    inner: R,
    irregular: Irregular,
    marks: Marks,
    state: State,
    counts: Arc<RegularCounts>,
    raw: Vec<u8>,
    /// How much of `raw` is done.
    done: usize,
    at_end: bool,
    /// Text that is made and not handed on yet.
    made: Vec<u8>,
    handed: usize,
    /// An unquoted field whose values are written anew.
    field: Vec<u8>,
    /// Blanks that belong to what is before them or to a quote after them.
    blanks: Vec<u8>,
}

impl<R: Read> RegularReader<R> {
    pub(crate) fn new(inner: R, irregular: Irregular) -> Self {
        Self {
            inner,
            marks: irregular.marks(),
            irregular,
            state: State::FieldStart(true),
            counts: Arc::default(),
            raw: Vec::new(),
            done: 0,
            at_end: false,
            made: Vec::new(),
            handed: 0,
            field: Vec::new(),
            blanks: Vec::new(),
        }
    }

    /// What is counted on the way.
    pub(crate) fn counts(&self) -> Arc<RegularCounts> {
        Arc::clone(&self.counts)
    }

    /// Reads the next piece and makes it regular, but for what only the next one decides.
    fn refill(&mut self) -> io::Result<()> {
        self.made.clear();
        self.handed = 0;
        while self.made.is_empty() && !(self.at_end && self.done == self.raw.len()) {
            if !self.at_end {
                self.raw.drain(..self.done);
                self.done = 0;
                let before = self.raw.len();
                self.raw.resize(before + PIECE, 0);
                let read = loop {
                    match self.inner.read(&mut self.raw[before..]) {
                        Err(error) if error.kind() == io::ErrorKind::Interrupted => {}
                        other => break other?,
                    }
                };
                self.raw.truncate(before + read);
                self.at_end = read == 0;
            }
            // The longest thing that is looked ahead for.
            let ahead = self.irregular.comment.as_ref().map_or(0, String::len);
            let ahead = ahead.max(self.irregular.delimiter.as_bytes().len()).max(2);
            let raw = std::mem::take(&mut self.raw);
            let mut at = self.done;
            while at < raw.len() && (self.at_end || raw.len() - at >= ahead) {
                at += self.step(&raw[at..])?;
            }
            self.raw = raw;
            self.done = at;
            if self.at_end && self.done == self.raw.len() {
                self.end_of_text();
            }
        }
        Ok(())
    }

    /// Handles what `text` begins with, and says how many bytes of it.
    fn step(&mut self, text: &[u8]) -> io::Result<usize> {
        let byte = text[0];
        let quote = self.irregular.quote.byte();
        let terminator = self.marks.terminator;
        let delimiter = self.irregular.delimiter.as_bytes();
        let delimiter = text.starts_with(delimiter).then_some(delimiter.len());
        match self.state {
            State::Comment => {
                if byte == terminator {
                    self.made.push(byte);
                    self.state = State::FieldStart(true);
                }
                return Ok(1);
            }
            State::FieldStart(true) if self.begins_comment(text) => {
                self.counts.comments.fetch_add(1, Ordering::Relaxed);
                self.state = State::Comment;
                return Ok(1);
            }
            State::FieldStart(_) => {
                let is_blank = matches!(byte, b' ' | b'\t') && delimiter.is_none();
                if self.irregular.padded_quotes && is_blank {
                    self.blanks.push(byte);
                    if self.blanks.len() > MAX_FIELD {
                        return Err(too_long());
                    }
                    // A comment begins at the start of its line.
                    self.state = State::FieldStart(false);
                    return Ok(1);
                }
                if Some(byte) == quote {
                    self.blanks.clear();
                    self.made.extend(self.marks.quote);
                    self.state = State::Quoted;
                    return Ok(1);
                }
                let blanks = std::mem::take(&mut self.blanks);
                self.plain(&blanks);
                self.state = State::Plain;
            }
            State::Quoted => return Ok(self.quoted(text)),
            State::Closed if self.irregular.padded_quotes && delimiter.is_none() => {
                if matches!(byte, b' ' | b'\t') {
                    self.blanks.push(byte);
                    return Ok(1);
                }
                let ends = byte == terminator || byte == b'\r';
                let blanks = std::mem::take(&mut self.blanks);
                if !ends {
                    self.made.extend_from_slice(&blanks);
                    self.state = State::Stray;
                }
            }
            State::Closed if delimiter.is_none() && byte != terminator && byte != b'\r' => {
                self.state = State::Stray;
            }
            State::Closed | State::Stray | State::Plain => {}
        }
        self.blanks.clear();
        if let Some(length) = delimiter {
            self.end_of_field();
            self.made.push(self.marks.delimiter);
            self.state = State::FieldStart(false);
            return Ok(length);
        }
        if byte == terminator {
            self.end_of_field();
            self.made.push(byte);
            self.state = State::FieldStart(true);
            return Ok(1);
        }
        if self.state != State::Plain {
            if byte == UNIT_SEPARATOR && !self.irregular.delimiter.is_byte() {
                return Err(io::Error::new(
                    io::ErrorKind::InvalidData,
                    "the control character U+001F after a closing quote, which cannot be read with a delimiter of several characters",
                ));
            }
            self.made.push(byte);
            return Ok(1);
        }
        if let Some(escape) = self.irregular.escape
            && byte == escape.0
            && let Some(next) = text.get(1)
        {
            self.note_escaped(*next);
            self.plain(&[*next]);
            return Ok(2);
        }
        self.plain(&[byte]);
        if self.field.len() > MAX_FIELD {
            return Err(too_long());
        }
        Ok(1)
    }

    /// A byte of a quoted field.
    fn quoted(&mut self, text: &[u8]) -> usize {
        let byte = text[0];
        let quote = self.irregular.quote.byte();
        if let Some(escape) = self.irregular.escape
            && byte == escape.0
            && let Some(next) = text.get(1)
        {
            self.note_escaped(*next);
            if Some(*next) == self.marks.quote {
                self.made.push(*next);
            }
            self.made.push(*next);
            return 2;
        }
        if Some(byte) != quote {
            self.made.push(byte);
            return 1;
        }
        self.made.push(byte);
        if text.get(1) == Some(&byte) {
            self.made.push(byte);
            return 2;
        }
        self.state = State::Closed;
        1
    }

    fn note_escaped(&self, next: u8) {
        if next.is_ascii_alphanumeric() {
            self.counts.escaped_letters.fetch_add(1, Ordering::Relaxed);
        }
    }

    fn begins_comment(&self, text: &[u8]) -> bool {
        let comment = self.irregular.comment.as_ref();
        comment.is_some_and(|comment| text.starts_with(comment.as_bytes()))
    }

    /// Bytes of an unquoted field.
    fn plain(&mut self, bytes: &[u8]) {
        if self.irregular.rewrites_values() {
            self.field.extend_from_slice(bytes);
        } else {
            self.made.extend_from_slice(bytes);
        }
    }

    /// The end of a field, whose line end may have begun.
    fn end_of_field(&mut self) {
        if self.field.is_empty() {
            return;
        }
        let returns = match self.marks.terminator {
            b'\n' => self
                .field
                .iter()
                .rev()
                .take_while(|byte| **byte == b'\r')
                .count(),
            _ => 0,
        };
        let value = &self.field[..self.field.len() - returns];
        let marks = self.marks;
        push_quoted(value, marks.delimiter, marks.quote, false, &mut self.made);
        self.made.resize(self.made.len() + returns, b'\r');
        self.field.clear();
    }

    /// The text ends, perhaps within a field.
    fn end_of_text(&mut self) {
        if self.state == State::Plain {
            self.end_of_field();
        } else if matches!(self.state, State::FieldStart(_)) {
            let blanks = std::mem::take(&mut self.blanks);
            self.made.extend_from_slice(&blanks);
        }
    }
}

impl<R: Read> Read for RegularReader<R> {
    fn read(&mut self, buffer: &mut [u8]) -> io::Result<usize> {
        if self.handed == self.made.len() {
            self.refill()?;
        }
        let there = &self.made[self.handed..];
        let length = buffer.len().min(there.len());
        buffer[..length].copy_from_slice(&there[..length]);
        self.handed += length;
        Ok(length)
    }
}

fn too_long() -> io::Error {
    io::Error::new(
        io::ErrorKind::InvalidData,
        "a field of more than 64 MiB, which is too long to be rewritten",
    )
}

#[cfg(test)]
mod tests {
    use proptest::prelude::*;

    use super::*;

    fn irregular() -> Irregular {
        Irregular::usual(Quote::Byte(b'"'), LineEnd::Lf)
    }

    /// Gives a byte at a time.
    struct Slow<'t>(&'t [u8]);

    impl Read for Slow<'_> {
        fn read(&mut self, buffer: &mut [u8]) -> io::Result<usize> {
            let length = buffer.len().min(1);
            self.0.read(&mut buffer[..length])
        }
    }

    fn made(text: &str, irregular: &Irregular) -> String {
        let whole = regular(text.as_bytes(), irregular);
        let mut slow = Vec::new();
        let mut reader = RegularReader::new(Slow(text.as_bytes()), irregular.clone());
        reader.read_to_end(&mut slow).expect("read");
        assert_eq!(whole, slow, "{text:?}");
        String::from_utf8(whole).expect("UTF-8")
    }

    #[test]
    fn delimiters_of_several_characters() {
        let irregular = Irregular {
            delimiter: "||".parse().expect("a delimiter"),
            ..irregular()
        };
        assert_eq!(
            made("a||b|c||\"x||y\"\n", &irregular),
            "a\x1fb|c\x1f\"x||y\"\n"
        );
        assert_eq!(made("a\x1fb||c\n", &irregular), "\"a\x1fb\"\x1fc\n");
        assert_eq!(made("a||b\r\n", &irregular), "a\x1fb\r\n");
        assert_eq!(made("a|||b", &irregular), "a\x1f|b");
    }

    #[test]
    fn escapes() {
        let irregular = Irregular {
            escape: Some("\\".parse().expect("an escape")),
            ..irregular()
        };
        assert_eq!(
            made("\"say \\\"hi\\\"\",1\n", &irregular),
            "\"say \"\"hi\"\"\",1\n"
        );
        assert_eq!(made("a\\,b,c\\\\d\n", &irregular), "\"a,b\",c\\d\n");
        assert_eq!(made("\"a\\\\\",1\n", &irregular), "\"a\\\",1\n");
        assert_eq!(made("a\\\nb,1\n", &irregular), "\"a\nb\",1\n");
        assert_eq!(made("\\\"a,1\n", &irregular), "\"\"\"a\",1\n");
    }

    #[test]
    fn blanks_around_quotes() {
        let irregular = Irregular {
            padded_quotes: true,
            ..irregular()
        };
        assert_eq!(made("1, \"a, b\", 5\n", &irregular), "1,\"a, b\", 5\n");
        assert_eq!(made("\"a\" ,\"b\"\t\r\n", &irregular), "\"a\",\"b\"\r\n");
        assert_eq!(made("\"a\" x, \n", &irregular), "\"a\" x, \n");
        assert_eq!(made("a, ", &irregular), "a, ");
    }

    #[test]
    fn comments_leave_empty_lines() {
        let irregular = Irregular {
            comment: Some("#".to_owned()),
            ..irregular()
        };
        let text = "a,b\n# it's \"open\n\"x\n# y\",#z\n#\n";
        assert_eq!(made(text, &irregular), "a,b\n\n\"x\n# y\",#z\n\n");
    }

    proptest! {
        #[test]
        fn what_is_regular_stays_as_it_is(text in "[a\", \r\n]{0,40}") {
            let irregular = Irregular { comment: Some("#".to_owned()), ..irregular() };
            prop_assert_eq!(made(&text, &irregular), text);
        }

        #[test]
        fn values_come_back(
            records in proptest::collection::vec(
                proptest::collection::vec("[a|\", \\\\\u{1f}\n]{0,6}", 2..4), 1..5),
            several in any::<bool>(), escaped in any::<bool>(),
        ) {
            prop_assume!(several || escaped);
            let irregular = Irregular {
                delimiter: if several { "||" } else { "|" }.parse().expect("a delimiter"),
                escape: escaped.then(|| "\\".parse().expect("an escape")),
                ..irregular()
            };
            let delimiter = if several { "||" } else { "|" };
            let mut text = String::new();
            for record in &records {
                let fields: Vec<String> = record.iter().map(|value| {
                    let value = if escaped { value.replace('\\', "\\\\").replace('"', "\\\"") } else { value.replace('"', "\"\"") };
                    format!("\"{value}\"")
                }).collect();
                text.push_str(&fields.join(delimiter));
                text.push('\n');
            }
            let sample = super::super::detect::Sample::new(text.as_bytes(), &irregular);
            let read: Vec<Vec<String>> = sample.records.iter().map(|record| {
                let text = |value: &Vec<u8>| String::from_utf8_lossy(value).into_owned();
                record.values.iter().map(text).collect()
            }).collect();
            prop_assert_eq!(read, records);
        }
    }
}
