//! Reads delimited text as batches of records.

use std::io::{Cursor, Read};

use serde::Serialize;

use super::detect;
use super::dialect::{Delimiter, Dialect, Quote, Ragged, ReadOptions};
use super::scan::{Index, Marks, Scanned, open_quote, scan};
use crate::format::{ReadTally, RecordReader, SourceFacts};
use crate::record::{Batch, Columns, RejectedRecord, Span, Unit};
use crate::source::{
    Encoding, Input, Malformed, Place, ReadError, ReadProblem, SourcePath, Transcoder,
    guess_encoding,
};
use crate::value::Size;

/// Bytes that are looked at to tell the encoding.
const SAMPLE: usize = 1 << 18;

/// Bytes of them that are looked at to tell what else it may be, and its delimiter.
const START: usize = 1 << 16;

/// Which parts of a dialect were found out, and what was passed over.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, Serialize)]
#[serde(rename_all = "kebab-case")]
pub struct Told {
    /// The delimiter was found out.
    pub delimiter_detected: bool,
    /// No delimiter was found; every record is one field.
    pub single_column: bool,
    /// The encoding was found out.
    pub encoding_detected: bool,
}

/// A reader of delimited text.
#[derive(Debug)]
pub struct DelimitedReader {
    input: Input,
    facts: SourceFacts,
    dialect: Dialect,
    told: Told,
    marks: Marks,
    ragged: Ragged,
    /// Each line is a record as it stands.
    lines: bool,
    columns: Columns,
    header: Option<Batch>,
    width: usize,
    /// Text that is read but not handed on: it begins with a record.
    carry: Vec<u8>,
    at_end: bool,
    line: u64,
    index: Index,
    batch_size: usize,
    largest_record: usize,
    tally: ReadTally,
}

impl DelimitedReader {
    /// Tells the dialect of `input` as far as `options` do not say it, and reads the header.
    ///
    /// Batches hold about `batch_size` bytes; a record of more than `largest_record` bytes is an
    /// error.
    ///
    /// # Errors
    ///
    /// If the source is empty or no text, or cannot be read in its encoding.
    pub fn open(
        mut input: Input,
        options: &ReadOptions,
        batch_size: usize,
        largest_record: usize,
    ) -> Result<Self, ReadError> {
        // One byte more than a small file has shows that it ends there.
        let sample = match (input.compression, input.size) {
            (None, Some(size)) => usize::try_from(size + 1).unwrap_or(SAMPLE).min(SAMPLE),
            _ => SAMPLE,
        };
        let mut raw = vec![0; sample];
        let filled = input.fill(&mut raw)?;
        raw.truncate(filled);
        if raw.is_empty() {
            return Err(input.path.error(ReadProblem::Empty));
        }
        let lines = options.lines;
        let stated = options.delimiter.is_some() || lines;
        if let Some(found) = detect::other_content(start_of(&raw), stated) {
            return Err(input.path.error(ReadProblem::NotText { found }));
        }
        let (guess, mark) = guess_encoding(&raw);
        let encoding = options.encoding.unwrap_or(guess);
        let mark = if guess == encoding { mark } else { 0 };
        let mut at_end = filled < sample;
        let mut carry = if encoding.is_utf8() {
            raw.drain(..mark);
            raw
        } else {
            input.wrap(|rest| Transcoder::new(Cursor::new(raw).chain(rest), encoding));
            let mut text = vec![0; SAMPLE];
            let filled = fill(&mut input, &mut text)?;
            at_end = filled < SAMPLE;
            text.truncate(filled);
            text
        };
        let quote = match lines {
            true => Quote::None,
            false => options.quote.unwrap_or(Quote::Byte(b'"')),
        };
        let line_end = detect::line_end(start_of(&carry), quote.byte());
        let terminator = line_end.terminator();
        if at_end && carry.last() != Some(&terminator) {
            carry.extend_from_slice(line_end.bytes());
        }
        let mut skipped = 0;
        while skipped < options.skip_lines {
            let Some(end) = memchr::memchr(terminator, &carry) else {
                break;
            };
            carry.drain(..=end);
            skipped += 1;
        }
        // A text has no NUL, so no line has more than one field.
        let said = options.delimiter.or(lines.then_some(Delimiter(0)));
        let found = match said {
            Some(_) => None,
            None => detect::delimiter(start_of(&carry), quote.byte(), line_end),
        };
        let usual = if input.path.extension() == "tsv" {
            b'\t'
        } else {
            b','
        };
        let delimiter = said.or(found).unwrap_or(Delimiter(usual));
        let dialect = Dialect {
            delimiter,
            quote,
            line_end,
            encoding,
            bom: mark > 0,
            header: !options.no_header && !lines,
        };
        let told = Told {
            delimiter_detected: !stated,
            single_column: !stated && found.is_none(),
            encoding_detected: options.encoding.is_none(),
        };
        let marks = Marks {
            delimiter: delimiter.0,
            quote: quote.byte(),
            terminator,
        };
        let facts = SourceFacts {
            format: super::NAME,
            dialect,
            told: Some(told),
            skipped,
            size: input.size,
            compression: input.compression,
            taken: input.taken(),
            unit: Unit::Line,
            sheet: None,
        };
        let mut reader = Self {
            input,
            facts,
            dialect,
            told,
            marks,
            ragged: options.ragged,
            lines,
            columns: Columns::default(),
            header: None,
            width: 0,
            carry,
            at_end,
            line: skipped + 1,
            index: Index::default(),
            batch_size,
            largest_record: largest_record.min(u32::MAX as usize / 2),
            tally: ReadTally::default(),
        };
        reader.read_header()?;
        Ok(reader)
    }

    /// Reads the first record that is no blank line, for its names or at least for its width.
    fn read_header(&mut self) -> Result<(), ReadError> {
        let mut first = Batch::default();
        loop {
            if self.carry.is_empty() && !self.more()? {
                let skipped = self.facts.skipped;
                return Err(self.input.path.error(ReadProblem::NoHeader { skipped }));
            }
            let mut scanned = scan(start_of(&self.carry), self.marks, &mut self.index);
            if self.index.firsts().is_empty() {
                scanned = scan(&self.carry, self.marks, &mut self.index);
            }
            let Some(&fields) = self.index.firsts().first() else {
                self.check_open_record(&self.carry, scanned)?;
                self.more()?;
                continue;
            };
            let end = self.index.ends()[fields as usize - 1] as usize + 1;
            let record = self.carry[..end].to_vec();
            let blank = fields == 1 && !self.lines && is_blank_line(&record[..end - 1]);
            if blank {
                self.tally.blank_lines += 1;
                self.line += 1;
                self.carry.drain(..end);
                continue;
            }
            self.width = fields as usize;
            self.prepare(&mut first);
            first
                .ends
                .extend_from_slice(&self.index.ends()[..self.width]);
            first.spans.push(Span {
                start: 0,
                first: 0,
                last_byte: end as u32 - 1,
            });
            self.check_text(&record, scanned)?;
            first.bytes = record;
            break;
        }
        if self.dialect.header {
            let mut scratch = Vec::new();
            let names: Vec<String> = (0..self.width)
                .map(|column| {
                    let name = first.field(0, column).value(&mut scratch);
                    String::from_utf8_lossy(name).into_owned()
                })
                .collect();
            self.columns = Columns::from_header(&names);
            self.line += memchr::memchr_iter(self.marks.terminator, &first.bytes).count() as u64;
            self.carry.drain(..first.bytes.len());
            self.header = Some(first);
        } else {
            self.columns = match self.lines {
                true => Columns::from_header(&["line"]),
                false => Columns::numbered(self.width),
            };
        }
        Ok(())
    }

    /// Makes `carry` longer; `false` at the end of the source.
    fn more(&mut self) -> Result<bool, ReadError> {
        if self.at_end {
            return Ok(false);
        }
        let from = self.carry.len();
        self.carry.resize((from * 2).max(from + SAMPLE), 0);
        let filled = fill(&mut self.input, &mut self.carry[from..])?;
        self.at_end = from + filled < self.carry.len();
        self.carry.truncate(from + filled);
        self.end_last_line();
        Ok(filled > 0)
    }

    /// At the end of the source, gives the last record the line end that it lacks.
    fn end_last_line(&mut self) {
        if self.at_end
            && self
                .carry
                .last()
                .is_some_and(|last| *last != self.marks.terminator)
        {
            self.carry.extend_from_slice(self.dialect.line_end.bytes());
        }
    }

    fn prepare(&self, batch: &mut Batch) {
        batch.clear();
        batch.width = self.width;
        batch.quote = self.marks.quote;
        batch.delimiter = self.marks.delimiter;
        batch.carriage_returns = self.marks.terminator == b'\n';
        batch.terminator = self.marks.terminator;
        batch.first_line = self.line;
    }

    /// An error if `text`, which begins with a record that is not complete, can never complete it.
    fn check_open_record(&self, text: &[u8], scanned: Scanned) -> Result<(), ReadError> {
        if let Some(quote) = scanned.misplaced_quote {
            return Err(self.error_in(text, quote, ReadProblem::MisplacedQuote));
        }
        let open = &text[scanned.consumed..];
        if self.at_end && !open.is_empty() {
            let quote = open_quote(open, self.marks).unwrap_or(0);
            let at = scanned.consumed + quote;
            return Err(self.error_in(text, at, ReadProblem::UnclosedQuote));
        }
        if open.len() > self.largest_record {
            let limit = Size(self.largest_record as u64);
            let problem = ReadProblem::RecordTooLarge { limit };
            return Err(self.error_in(text, scanned.consumed, problem));
        }
        Ok(())
    }

    fn check_text(&self, text: &[u8], scanned: Scanned) -> Result<(), ReadError> {
        if scanned.nul
            && let Some(at) = memchr::memchr(0, text)
        {
            let problem = ReadProblem::Nul {
                encoding: self.dialect.encoding.name(),
            };
            return Err(self.error_in(text, at, problem));
        }
        if scanned.high
            && !self.lines
            && self.dialect.encoding.is_utf8()
            && let Err(error) = simdutf8::compat::from_utf8(text)
        {
            let at = error.valid_up_to();
            let length = error.error_len().unwrap_or(1);
            let likely = if self.told.encoding_detected {
                Some("windows-1252")
            } else {
                None
            };
            return Err(self.error_in(
                text,
                at,
                ReadProblem::Encoding {
                    bytes: hexadecimal(&text[at..at + length]),
                    encoding: Encoding::UTF_8.name(),
                    likely,
                },
            ));
        }
        Ok(())
    }

    /// An error at `position` of `text`, which begins on the reader's line.
    fn error_in(&self, text: &[u8], position: usize, problem: ReadProblem) -> ReadError {
        let before = memchr::memchr_iter(self.marks.terminator, &text[..position]).count();
        let place = Place::line(self.line + before as u64);
        self.input.path.error_at(place, problem)
    }

    /// Handles the records of `batch` that are not of the right width, each with its place in
    /// `firsts`; the others are in `batch.spans` already, in order.
    fn settle(&mut self, batch: &mut Batch, filled: usize) -> Result<(), ReadError> {
        batch.bytes.truncate(filled);
        batch.ends.truncate(
            self.index
                .firsts()
                .last()
                .map_or(0, |fields| *fields as usize),
        );
        let mut spans = Vec::with_capacity(self.index.firsts().len());
        let (mut first, mut start) = (0_usize, 0_usize);
        for place in 0..self.index.firsts().len() {
            let behind = self.index.firsts()[place] as usize;
            let found = behind - first;
            let end = batch.ends[behind - 1] as usize;
            let span = Span {
                start: start as u32,
                first: first as u32,
                last_byte: end as u32,
            };
            if found == 1 && !self.lines && is_blank_line(&batch.bytes[start..end]) {
                self.tally.blank_lines += 1;
            } else if found == self.width {
                self.tally.records += 1;
                spans.push(span);
            } else {
                self.tally.records += 1;
                let surplus = found > self.width && {
                    let from = batch.ends[first + self.width - 1] as usize;
                    let surplus = &batch.bytes[from..end];
                    !surplus
                        .iter()
                        .all(|byte| [self.marks.delimiter, b'\r'].contains(byte))
                };
                let problem = ReadProblem::Ragged {
                    found,
                    expected: self.width,
                    surplus,
                };
                match self.ragged {
                    Ragged::Pad if !surplus => {
                        self.tally.padded += 1;
                        spans.push(self.pad(batch, span, found));
                    }
                    Ragged::Reject => {
                        self.tally.rejected += 1;
                        batch.rejected.push(RejectedRecord {
                            line: batch.line_at(start),
                            reason: problem.to_string(),
                            raw: batch.bytes[start..=end].to_vec(),
                            as_it_is: false,
                        });
                    }
                    Ragged::Pad | Ragged::Error => {
                        return Err(self.error_in(&batch.bytes, start, problem));
                    }
                }
            }
            first = behind;
            start = end + 1;
        }
        batch.spans = spans;
        Ok(())
    }

    /// Lays a copy of a ragged record with the right number of fields behind the arena.
    fn pad(&self, batch: &mut Batch, span: Span, found: usize) -> Span {
        let start = span.start as usize;
        let first = span.first as usize;
        let kept = found.min(self.width);
        let end = batch.ends[first + found - 1] as usize;
        let line_end = match &batch.bytes[start..=end] {
            [.., b'\r', b'\n'] => &b"\r\n"[..],
            _ => &batch.bytes[end..=end],
        }
        .to_vec();
        let mut kept_end = batch.ends[first + kept - 1] as usize;
        if kept == found && line_end.len() == 2 {
            kept_end -= 1;
        }
        let copy = batch.bytes.len();
        batch.copies.push((copy as u32, span.start, span.last_byte));
        let copy_first = batch.ends.len() as u32;
        for field in 0..kept - 1 {
            let end = batch.ends[first + field] as usize - start + copy;
            batch.ends.push(end as u32);
        }
        batch.bytes.extend_from_within(start..kept_end);
        for _ in kept..self.width {
            batch.ends.push(batch.bytes.len() as u32);
            batch.bytes.push(self.marks.delimiter);
        }
        batch.bytes.extend_from_slice(&line_end);
        let last_byte = batch.bytes.len() as u32 - 1;
        batch.ends.push(last_byte);
        Span {
            start: copy as u32,
            first: copy_first,
            last_byte,
        }
    }
}

impl RecordReader for DelimitedReader {
    fn columns(&self) -> &Columns {
        &self.columns
    }

    fn header(&self) -> Option<&Batch> {
        self.header.as_ref()
    }

    fn facts(&self) -> &SourceFacts {
        &self.facts
    }

    fn name(&self) -> String {
        self.input.path.to_string()
    }

    fn path(&self) -> &SourcePath {
        &self.input.path
    }

    fn next_batch(&mut self, batch: &mut Batch) -> Result<bool, ReadError> {
        self.prepare(batch);
        let mut filled = self.carry.len();
        let mut wanted = match self.at_end {
            true => filled,
            false => self.batch_size.max(filled + self.batch_size / 2),
        };
        if batch.bytes.len() < filled {
            batch.bytes.resize(wanted, 0);
        }
        batch.bytes[..filled].copy_from_slice(&self.carry);
        self.carry.clear();
        let scanned = loop {
            if !self.at_end {
                if batch.bytes.len() < wanted {
                    batch.bytes.resize(wanted, 0);
                }
                let read = fill(&mut self.input, &mut batch.bytes[filled..wanted])?;
                filled += read;
                self.at_end = filled < wanted;
                let unended = filled > 0 && batch.bytes[filled - 1] != self.marks.terminator;
                if self.at_end && unended {
                    batch.bytes.truncate(filled);
                    batch.bytes.extend_from_slice(self.dialect.line_end.bytes());
                    filled = batch.bytes.len();
                }
            }
            if filled == 0 {
                return Ok(false);
            }
            let text = &batch.bytes[..filled];
            let scanned = scan(text, self.marks, &mut self.index);
            if scanned.consumed > 0 {
                break scanned;
            }
            self.check_open_record(text, scanned)?;
            wanted = (filled * 2).max(self.batch_size);
        };
        self.check_text(&batch.bytes[..scanned.consumed], scanned)?;
        self.index.swap_ends(&mut batch.ends);
        let width = self.width as u32;
        let (mut first, mut start) = (0, 0);
        let mut alike = width > 1;
        for &behind in self.index.firsts() {
            alike &= behind - first == width;
            let last_byte = batch.ends[behind as usize - 1];
            batch.spans.push(Span {
                start,
                first,
                last_byte,
            });
            first = behind;
            start = last_byte + 1;
        }
        if alike {
            self.tally.records += batch.spans.len() as u64;
        } else {
            self.settle(batch, filled)?;
        }
        if scanned.misplaced_quote.is_some() || self.at_end {
            self.check_open_record(&batch.bytes[..filled], scanned)?;
        }
        self.tally.stray_quotes += scanned.stray_quotes;
        self.carry
            .extend_from_slice(&batch.bytes[scanned.consumed..filled]);
        self.line += scanned.lines;
        Ok(true)
    }

    fn tally(&self) -> ReadTally {
        self.tally.clone()
    }
}

/// As much of a sample as tells a dialect.
fn start_of(sample: &[u8]) -> &[u8] {
    &sample[..sample.len().min(START)]
}

/// Fills `buffer`, and tells malformed text by its place.
fn fill(input: &mut Input, buffer: &mut [u8]) -> Result<usize, ReadError> {
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

fn hexadecimal(bytes: &[u8]) -> String {
    bytes
        .iter()
        .map(|byte| format!("{byte:02X}"))
        .collect::<Vec<_>>()
        .join(" ")
}

fn is_blank_line(line: &[u8]) -> bool {
    matches!(line, b"" | b"\r")
}

#[cfg(test)]
mod tests;
