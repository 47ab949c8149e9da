//! Opens delimited text: decodes it, detects how it is written, and finds its first record.

use std::io::{Cursor, Read};
use std::sync::Arc;

use super::detect::{
    Detected, HeaderFacts, Sample, detect_delimiter, detect_line_end, has_extra_returns,
    header_facts,
};
use super::line_ends::{end_text, is_blank_line};
use super::regular::{Irregular, RegularCounts, RegularReader, UNIT_SEPARATOR};
use super::scan::Marks;
use numerant_data::dialect::{Delimiter, Dialect, Escape, LineEnd, Quote};
use numerant_data::encoding::{DetectedEncoding, Encoding, Malformed, Transcoder, detect_encoding};
use numerant_data::record::{Tagging, Unit};
use numerant_data::source::{Input, Place, ReadError, ReadProblem};
use numerant_format::content_of;
use numerant_format::{DetectedDialect, ReadOptions, ReadTally, SourceFacts, TextNote};

/// Bytes from which the encoding is detected.
const SAMPLE: usize = 1 << 18;

/// Bytes of them from which all else is detected.
const START: usize = 1 << 16;

/// Places further down at which a text is looked at for its encoding, and bytes at each.
const FURTHER: (u64, usize) = (16, 1 << 14);

/// A text that is open, at its first record.
pub(super) struct OpenText {
    pub(super) input: Input,
    pub(super) facts: SourceFacts,
    pub(super) marks: Marks,
    /// What is read of it; it begins with its first record.
    pub(super) text: Vec<u8>,
    pub(super) at_end: bool,
    /// The line on which that record begins.
    pub(super) line: u64,
    pub(super) tally: ReadTally,
    pub(super) counts: Option<Arc<RegularCounts>>,
}

impl OpenText {
    /// Opens `input`, and detects what `options` do not state.
    pub(super) fn open(
        mut input: Input,
        options: &ReadOptions,
        largest_record: usize,
    ) -> Result<Self, ReadError> {
        let lines = options.lines;
        if options.comment.as_ref().is_some_and(String::is_empty) {
            return Err(input.path.error(ReadProblem::EmptyComment));
        }
        let mut text = Beginning::decode(&mut input, options)?;
        let quote = if lines {
            Quote::None
        } else {
            options.quote.unwrap_or(Quote::Byte(b'"'))
        };
        // An escape character that is the quote is a doubled quote, which is read in any case.
        let escape = options
            .escape
            .filter(|escape| Some(escape.0) != quote.byte());
        let detected = || detect_line_end(start_of(&text.bytes), quote, escape, options.skip_lines);
        let line_end = options.line_ends.unwrap_or_else(detected);
        let mut tally = ReadTally::default();
        if text.at_end {
            tally.end_marks = end_text(&mut text.bytes, line_end, lines);
        }
        let mut passed = Passed::new(line_end.terminator());
        let mut notes = text.notes(options);
        let stated = if lines {
            // A text has no NUL, so no line has more than one field.
            Some(Delimiter::byte(0))
        } else {
            options.delimiter
        };
        let named = if lines {
            None
        } else {
            passed.separator_line(&text.bytes)
        };
        if let Some(named) = named {
            notes.push(TextNote::SeparatorLine { delimiter: named });
        }
        passed.skip(&mut input, &mut text, options.skip_lines, line_end)?;
        let skipped = passed.line - 1;
        if !lines {
            passed.blank_lines(&mut input, &mut text, options, line_end, &mut tally)?;
        }
        text.bytes.drain(..passed.at);
        if text.bytes.is_empty() {
            return Err(input.path.error(ReadProblem::NoHeader {
                skipped,
                blank: tally.blank_lines + tally.comments,
            }));
        }
        let usual = match input.path.extension().as_str() {
            "tsv" => b'\t',
            _ => b',',
        };
        let mut irregular = Irregular {
            delimiter: stated.or(named).unwrap_or(Delimiter::byte(usual)),
            quote,
            escape,
            padded_quotes: options.padded_quotes.unwrap_or(false),
            comment: options.comment.clone(),
            line_end,
        };
        let start = start_of(&text.bytes);
        let detected = match stated.or(named) {
            Some(_) => None,
            None => detect_delimiter(start, &irregular, options.padded_quotes),
        };
        let is_detected = detected.is_some();
        let mut sample = None;
        if let Some(Detected {
            delimiter,
            padded_quotes,
            is_unusual,
            sample: taken_apart,
        }) = detected
        {
            sample = Some(taken_apart);
            irregular.delimiter = delimiter;
            irregular.padded_quotes = padded_quotes;
            if is_unusual {
                notes.push(TextNote::UnusualDelimiter { delimiter });
            }
            if padded_quotes && options.padded_quotes.is_none() {
                notes.push(TextNote::PaddedQuotes);
            }
        }
        if let Some(conflict) = irregular.conflict().filter(|_| !lines) {
            return Err(input.path.error(ReadProblem::Signs(conflict)));
        }
        // Without a delimiter the usual one is text, and values that hold it get quotes when written.
        let undivided = !lines && stated.or(named).is_none() && !is_detected;
        let written_delimiter = irregular.delimiter;
        if undivided && start.contains(&usual) {
            irregular.delimiter = Delimiter::byte(UNIT_SEPARATOR);
        }
        if sample.is_none() && !lines {
            sample = Some(Sample::new(start, &irregular));
        }
        let header = sample
            .as_ref()
            .map_or_else(HeaderFacts::default, header_facts);
        let line = passed.line;
        let likely_header = header.lines_above.map(|above| line + above);
        if let Some(line) = likely_header.filter(|_| header.is_title && !options.no_header) {
            notes.push(TextNote::Title { header: line });
        }
        if header.is_data && !options.no_header {
            notes.push(TextNote::NoHeader);
        }
        let extra_returns = !lines && has_extra_returns(start);
        let written = Dialect {
            delimiter: written_delimiter,
            quote,
            escape: irregular.escape,
            line_end,
            encoding: text.encoding,
            bom: text.mark > 0,
            header: !options.no_header,
            tagging: Tagging::None,
        };
        let marks = irregular.marks();
        let dialect = Dialect {
            delimiter: Delimiter::byte(marks.delimiter),
            quote: marks.quote.map_or(Quote::None, Quote::Byte),
            escape: None::<Escape>,
            header: written.header && !lines,
            ..written
        };
        // Lines become a table only where more than their text is written.
        let written = if lines {
            Dialect {
                delimiter: Delimiter::byte(usual),
                quote: Quote::Byte(b'"'),
                ..written
            }
        } else {
            written
        };
        let facts = SourceFacts {
            format: super::NAME,
            dialect,
            written,
            regular_line_ends: !extra_returns,
            likely_header: likely_header.filter(|_| !options.no_header),
            detected: Some(DetectedDialect {
                delimiter_detected: stated.or(named).is_none(),
                single_column: undivided,
                encoding_detected: options.encoding.is_none(),
            }),
            notes,
            skipped,
            size: input.size,
            compression: input.compression,
            taken: input.taken(),
            unit: Unit::Line,
            sheet: None,
        };
        let mut opened = Self {
            input,
            facts,
            marks,
            text: text.bytes,
            at_end: text.at_end,
            line,
            tally,
            counts: None,
        };
        if !irregular.is_regular() {
            opened.make_regular(irregular, largest_record)?;
        }
        Ok(opened)
    }

    /// Puts a reader in front that makes the text regular.
    fn make_regular(
        &mut self,
        irregular: Irregular,
        largest_record: usize,
    ) -> Result<(), ReadError> {
        let line_end = irregular.line_end;
        let read = std::mem::take(&mut self.text);
        let mut counts = None;
        if self.at_end {
            self.input.wrap(|_| {
                let reader = RegularReader::new(Cursor::new(read), irregular);
                counts = Some(reader.counts());
                reader
            });
        } else {
            self.input.wrap(|rest| {
                let reader = RegularReader::new(Cursor::new(read).chain(rest), irregular);
                counts = Some(reader.counts());
                reader
            });
        }
        self.counts = counts;
        // A record is whole where it is handed on, so room is made as far as one may be.
        let wanted = SAMPLE.min(largest_record.max(1));
        let mut text = vec![0; wanted];
        let filled = fill(&mut self.input, &mut text)?;
        text.truncate(filled);
        self.at_end = filled < wanted;
        if self.at_end {
            self.tally.end_marks += end_text(&mut text, line_end, false);
        }
        self.text = text;
        Ok(())
    }
}

/// The start of a text, in UTF-8.
struct Beginning {
    bytes: Vec<u8>,
    at_end: bool,
    encoding: Encoding,
    /// Bytes of the byte-order mark.
    mark: usize,
    /// A second byte-order mark was dropped.
    second_mark: bool,
}

impl Beginning {
    /// Reads and decodes the start of `input`.
    fn decode(input: &mut Input, options: &ReadOptions) -> Result<Self, ReadError> {
        // One byte more than a small file has shows that it ends there.
        let wanted = match (input.compression, input.size) {
            (None, Some(size)) => usize::try_from(size + 1).unwrap_or(SAMPLE).min(SAMPLE),
            _ => SAMPLE,
        };
        let mut raw = vec![0; wanted];
        let filled = input.fill(&mut raw)?;
        raw.truncate(filled);
        if raw.is_empty() {
            return Err(input.path.error(ReadProblem::Empty));
        }
        let stated = options.delimiter.is_some() || options.lines;
        if let Some(found) = content_of(start_of(&raw), stated) {
            return Err(input.path.error(ReadProblem::NotText { found }));
        }
        let at_end = filled < wanted;
        let further = || {
            if at_end {
                Vec::new()
            } else {
                input.samples(filled as u64, FURTHER.0, FURTHER.1)
            }
        };
        let detected = detect_encoding(&raw, further);
        let (encoding, mark) = match (options.encoding, detected) {
            (None, None) => return Err(input.path.error(ReadProblem::UnknownEncoding)),
            (None, Some(DetectedEncoding { encoding, mark })) => (encoding, mark),
            (Some(stated), Some(detected)) if stated == detected.encoding => {
                (stated, detected.mark)
            }
            (Some(stated), _) => (stated, 0),
        };
        let (mut bytes, at_end) = if encoding.is_utf8() {
            raw.drain(..mark);
            (raw, at_end)
        } else {
            input.wrap(|rest| Transcoder::new(Cursor::new(raw).chain(rest), encoding));
            let mut text = vec![0; SAMPLE];
            let filled = fill(input, &mut text)?;
            text.truncate(filled);
            (text, filled < SAMPLE)
        };
        const MARK: &[u8] = "\u{feff}".as_bytes();
        let mut second_mark = false;
        while bytes.starts_with(MARK) {
            bytes.drain(..MARK.len());
            second_mark = true;
        }
        Ok(Self {
            bytes,
            at_end,
            encoding,
            mark,
            second_mark: second_mark && encoding.byte_order_mark().is_some() && mark > 0,
        })
    }

    /// Reads more of `input`; `false` at its end.
    fn more(&mut self, input: &mut Input, line_end: LineEnd) -> Result<bool, ReadError> {
        if self.at_end {
            return Ok(false);
        }
        let from = self.bytes.len();
        self.bytes.resize(from + SAMPLE, 0);
        let filled = fill(input, &mut self.bytes[from..])?;
        self.at_end = filled < SAMPLE;
        self.bytes.truncate(from + filled);
        if self.at_end {
            end_text(&mut self.bytes, line_end, true);
        }
        Ok(true)
    }

    /// What its reader should know of the encoding.
    fn notes(&self, options: &ReadOptions) -> Vec<TextNote> {
        let mut notes = Vec::new();
        let stated = options.encoding.is_some() || self.mark > 0;
        if !stated && !self.encoding.is_utf8() {
            notes.push(TextNote::Encoding {
                encoding: self.encoding.name(),
            });
        }
        if self.second_mark {
            notes.push(TextNote::SecondMark);
        }
        notes
    }
}

/// Lines at the start of a text that are skipped.
struct Passed {
    terminator: u8,
    /// Bytes of them that are still there.
    at: usize,
    /// The line that begins there, from 1.
    line: u64,
}

impl Passed {
    fn new(terminator: u8) -> Self {
        Self {
            terminator,
            at: 0,
            line: 1,
        }
    }

    /// Passes over a first line such as `sep=;`, which names the delimiter.
    fn separator_line(&mut self, text: &[u8]) -> Option<Delimiter> {
        let end = memchr::memchr(self.terminator, text)?;
        let line = text[..end].trim_ascii_end();
        let quoted = line
            .strip_prefix(b"\"")
            .and_then(|line| line.strip_suffix(b"\""));
        let line = quoted.unwrap_or(line);
        // A tab is white space at the end of its line.
        let line = match line.len() {
            4 if text.get(4) == Some(&b'\t') => &text[..5],
            _ => line,
        };
        let (name, sign) = line.split_at_checked(4)?;
        let delimiter = match sign {
            [byte] if name.eq_ignore_ascii_case(b"sep=") => Delimiter::byte(*byte),
            _ => return None,
        };
        self.at = end + 1;
        self.line = 2;
        Some(delimiter)
    }

    /// Passes over lines until so many are.
    fn skip(
        &mut self,
        input: &mut Input,
        text: &mut Beginning,
        lines: u64,
        line_end: LineEnd,
    ) -> Result<(), ReadError> {
        while self.line <= lines {
            match memchr::memchr(self.terminator, &text.bytes[self.at..]) {
                Some(end) => {
                    self.at += end + 1;
                    self.line += 1;
                }
                None => {
                    text.bytes.drain(..self.at);
                    self.at = 0;
                    if !text.more(input, line_end)? {
                        break;
                    }
                }
            }
        }
        Ok(())
    }

    /// Passes over blank lines and comments in front of the first record, and counts them.
    fn blank_lines(
        &mut self,
        input: &mut Input,
        text: &mut Beginning,
        options: &ReadOptions,
        line_end: LineEnd,
        tally: &mut ReadTally,
    ) -> Result<(), ReadError> {
        loop {
            let rest = &text.bytes[self.at..];
            let Some(end) = memchr::memchr(self.terminator, rest) else {
                let comment = options.comment.as_ref();
                let is_open = rest.is_empty()
                    || comment.is_some_and(|comment| rest.starts_with(comment.as_bytes()));
                if !is_open {
                    return Ok(());
                }
                text.bytes.drain(..self.at);
                self.at = 0;
                if !text.more(input, line_end)? {
                    return Ok(());
                }
                continue;
            };
            let line = &rest[..end];
            let comment = options.comment.as_ref();
            if comment.is_some_and(|comment| line.starts_with(comment.as_bytes())) {
                tally.comments += 1;
            } else if is_blank_line(line) {
                tally.blank_lines += 1;
            } else {
                return Ok(());
            }
            self.at += end + 1;
            self.line += 1;
        }
    }
}

/// As much of a sample as shows a dialect.
fn start_of(sample: &[u8]) -> &[u8] {
    &sample[..sample.len().min(START)]
}

/// Fills `buffer`, and reports malformed text by its place.
pub(super) fn fill(input: &mut Input, buffer: &mut [u8]) -> Result<usize, ReadError> {
    input.fill(buffer).map_err(|error| {
        let ReadProblem::Io(cause) = &error.problem else {
            return error;
        };
        let malformed = cause
            .get_ref()
            .and_then(|cause| cause.downcast_ref::<Malformed>());
        let Some(malformed) = malformed else {
            return error;
        };
        let place = Place::line(malformed.line);
        // A text that ends within a character has its bytes in a piece that is gone.
        let bytes = match malformed.bytes.as_slice() {
            [] => "at the end".to_owned(),
            bytes => hexadecimal(bytes),
        };
        let encoding = "in its encoding";
        let problem = ReadProblem::Encoding {
            bytes,
            encoding,
            likely: None,
        };
        input.path.error_at(place, problem)
    })
}

pub(super) fn hexadecimal(bytes: &[u8]) -> String {
    bytes
        .iter()
        .map(|byte| format!("{byte:02X}"))
        .collect::<Vec<_>>()
        .join(" ")
}
