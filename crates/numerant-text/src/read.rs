//! Reads delimited text as batches of records.

use numerant_data::narrow::{LARGEST_RECORD, to_u32};
use std::sync::Arc;
use std::sync::atomic::Ordering;

use super::line_ends::{end_text, is_blank_line};
use super::open::{OpenText, fill, hexadecimal};
use super::regular::RegularCounts;
use super::scan::{Index, Marks, Scanned, open_quote, scan};
use numerant_data::dialect::Dialect;
use numerant_data::encoding::{Encoding, detect_legacy};
use numerant_data::record::{
    Batch, Columns, Copied, RejectedRecord, Span, Tagging, without_returns,
};
use numerant_data::source::{Input, Place, ReadError, ReadProblem, SourcePath};
use numerant_data::value::Size;
use numerant_format::{Ragged, ReadOptions, ReadTally, RecordReader, SourceFacts};

/// Bytes that are added to what is read, at least.
const MORE: usize = 1 << 18;

/// Bytes in which the end of the header is looked for first.
const HEADER: usize = 1 << 16;

/// The name of the column of lines.
const LINE: &str = "line";

/// A reader of delimited text.
#[derive(Debug)]
pub struct DelimitedReader {
    input: Input,
    facts: SourceFacts,
    /// The dialect of the batches.
    dialect: Dialect,
    encoding_detected: bool,
    marks: Marks,
    ragged: Ragged,
    /// Each line is a record, verbatim.
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
    /// What a reader in front of this one has counted, if the text is not regular.
    counts: Option<Arc<RegularCounts>>,
}

impl DelimitedReader {
    /// Detects the dialect of `input` as far as `options` do not state it, and reads the header.
    ///
    /// Batches hold about `batch_size` bytes; a record of more than `largest_record` bytes is an
    /// error.
    ///
    /// # Errors
    ///
    /// If the source is empty or no text, or cannot be read in its encoding.
    pub fn open(
        input: Input,
        options: &ReadOptions,
        batch_size: usize,
        largest_record: usize,
    ) -> Result<Self, ReadError> {
        let largest_record = largest_record.min(LARGEST_RECORD);
        let text = OpenText::open(input, options, largest_record)?;
        let mut reader = Self {
            encoding_detected: options.encoding.is_none(),
            dialect: text.facts.dialect,
            facts: text.facts,
            input: text.input,
            marks: text.marks,
            ragged: options.ragged,
            lines: options.lines,
            columns: Columns::default(),
            header: None,
            width: 0,
            carry: text.text,
            at_end: text.at_end,
            line: text.line,
            index: Index::default(),
            batch_size,
            largest_record,
            tally: text.tally,
            counts: text.counts,
        };
        reader.read_header()?;
        Ok(reader)
    }

    /// Reads the first record, which is no blank line, for its names or at least for its width.
    fn read_header(&mut self) -> Result<(), ReadError> {
        let mut first = Batch::default();
        let (record, scanned) = loop {
            // Most headers are short, so the rest of what is read is not looked at.
            let start = &self.carry[..self.carry.len().min(HEADER)];
            let mut scanned = scan(start, self.marks, &mut self.index);
            if self.index.firsts().is_empty() {
                scanned = scan(&self.carry, self.marks, &mut self.index);
            }
            if let Some(&fields) = self.index.firsts().first() {
                let end = self.index.ends()[fields as usize - 1] as usize + 1;
                self.width = fields as usize;
                break (self.carry[..end].to_vec(), scanned);
            }
            self.check_open_record(&self.carry, scanned)?;
            self.more()?;
        };
        self.prepare(&mut first);
        first
            .ends
            .extend_from_slice(&self.index.ends()[..self.width]);
        first.spans.push(Span {
            start: 0,
            first: 0,
            last_byte: to_u32(record.len()) - 1,
        });
        self.check_text(&record, scanned)?;
        first.bytes = record;
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
            self.columns = Columns::numbered(self.width);
            if self.lines {
                self.columns = Columns::from_header(&[LINE]);
                self.header = Some(self.line_header());
            }
        }
        Ok(())
    }

    /// The name of the one column of lines, for outputs that are tables.
    fn line_header(&self) -> Batch {
        let mut header = Batch::default();
        self.prepare(&mut header);
        header.bytes.extend_from_slice(LINE.as_bytes());
        header
            .bytes
            .extend_from_slice(self.dialect.line_end.bytes());
        let last_byte = to_u32(header.bytes.len()) - 1;
        header.ends.push(last_byte);
        header.spans.push(Span {
            start: 0,
            first: 0,
            last_byte,
        });
        header
    }

    /// Makes `carry` longer; `false` at the end of the source.
    fn more(&mut self) -> Result<bool, ReadError> {
        if self.at_end {
            return Ok(false);
        }
        let from = self.carry.len();
        self.carry.resize((from * 2).max(from + MORE), 0);
        let filled = fill(&mut self.input, &mut self.carry[from..])?;
        self.at_end = from + filled < self.carry.len();
        self.carry.truncate(from + filled);
        if self.at_end {
            let line_end = self.dialect.line_end;
            self.tally.end_marks += end_text(&mut self.carry, line_end, self.lines);
        }
        Ok(filled > 0)
    }

    fn prepare(&self, batch: &mut Batch) {
        batch.clear();
        batch.width = self.width;
        batch.quote = self.marks.quote;
        batch.delimiter = self.marks.delimiter;
        batch.tagging = Tagging::None;
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
            let behind = &text[at..text.len().min(at + MORE)];
            // Where other characters are UTF-8, these bytes are damaged, and no other encoding fits.
            let likely = if self.encoding_detected && text[..at].is_ascii() {
                detect_legacy(behind).map(Encoding::name)
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
                start: to_u32(start),
                first: to_u32(first),
                last_byte: to_u32(end),
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
                    delimiter: self.facts.detected_delimiter(),
                    likely_header: self.facts.likely_header,
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

    /// Adds a copy of a ragged record with the right number of fields after the arena.
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
            kept_end = start + without_returns(&batch.bytes[start..kept_end]).len();
        }
        let copy = batch.bytes.len();
        batch.copies.push(Copied {
            copy: to_u32(copy),
            original: span,
        });
        let copy_first = to_u32(batch.ends.len());
        for field in 0..kept - 1 {
            let end = batch.ends[first + field] as usize - start + copy;
            batch.ends.push(to_u32(end));
        }
        batch.bytes.extend_from_within(start..kept_end);
        for _ in kept..self.width {
            batch.ends.push(to_u32(batch.bytes.len()));
            batch.bytes.push(self.marks.delimiter);
        }
        batch.bytes.extend_from_slice(&line_end);
        let last_byte = to_u32(batch.bytes.len()) - 1;
        batch.ends.push(last_byte);
        Span {
            start: to_u32(copy),
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
        let mut wanted = if self.at_end {
            filled
        } else {
            self.batch_size.max(filled + self.batch_size / 2)
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
                if self.at_end {
                    batch.bytes.truncate(filled);
                    let line_end = self.dialect.line_end;
                    self.tally.end_marks += end_text(&mut batch.bytes, line_end, self.lines);
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
        let width = to_u32(self.width);
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
        if self.marks.terminator == b'\n' && !self.lines {
            let text = &batch.bytes[..scanned.consumed];
            if memchr::memchr(b'\r', text).is_some() {
                let extra = memchr::memmem::find_iter(text, b"\r\r\n");
                self.tally.extra_returns += extra.count() as u64;
            }
        }
        self.carry
            .extend_from_slice(&batch.bytes[scanned.consumed..filled]);
        self.line += scanned.lines;
        Ok(true)
    }

    fn tally(&self) -> ReadTally {
        let mut tally = self.tally.clone();
        if let Some(counts) = &self.counts {
            // A comment comes out of the reader in front as a blank line.
            let comments = counts.comments.load(Ordering::Relaxed);
            tally.comments += comments;
            tally.blank_lines = tally.blank_lines.saturating_sub(comments);
            tally.escaped_letters += counts.escaped_letters.load(Ordering::Relaxed);
        }
        tally
    }
}

#[cfg(test)]
mod tests;
