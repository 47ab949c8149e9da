//! Many records in one arena of bytes.
//!
//! # To whoever changes this
//!
//! Invariants that readers keep and everything else relies on:
//! * every record has exactly `width` fields; what to do with ragged records is the reader's job;
//! * field `c + 1` begins one byte after the end of field `c`, and one byte after the end of the
//!   last field lies the next thing in the arena, so `raw` of a record includes its terminator;
//! * the bytes are UTF-8;
//! * a tagged batch has a tag for each field end, at the same place, and no quotes: nothing in the
//!   bytes of a field means anything but its value;
//! * columns from `width` on are computed: they lie in arenas of their own, one entry a record, and
//!   everything that takes records out of a batch goes through [`Batch::retain`].

use std::mem;

use super::at::{At, Unit};
use super::computed::{Computed, Originals};
use super::field::{Field, push_quoted};
use super::tag::Tag;
use crate::value::Number;

/// Where a record begins in the arena, which of the field ends is its first, and where its last
/// byte is: the end of its last field once more, so that moving a record does not have to look
/// for it.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct Span {
    /// Where it begins in the bytes of the batch.
    pub start: u32,
    /// The number of its first field among all fields of the batch.
    pub first: u32,
    /// Where its last byte is, the line end.
    pub last_byte: u32,
}

/// What stands next to the bytes of fields.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub enum Tagging {
    /// Nothing: quotes may stand around values, as in delimited text.
    #[default]
    None,
    /// The kind of each blank, as in XML: all values are texts.
    Blanks,
    /// The kind of each blank, and whether a value is a text, as in sheets and JSON.
    Types,
}

/// A copy of a record, which a step has made to change it.
#[derive(Clone, Copy, Debug)]
pub struct Copied {
    /// Where the copy begins.
    pub copy: u32,
    /// The record that it is a copy of.
    pub original: Span,
}

/// A run of records of one source, in source order, all of the same width.
#[derive(Debug, Default)]
pub struct Batch {
    /// The records, as they are in the dialect of the batch.
    pub bytes: Vec<u8>,
    /// Field ends; what lies after those of the last record means nothing.
    pub ends: Vec<u32>,
    /// Where each record is.
    pub spans: Vec<Span>,
    /// Fields of each record.
    pub width: usize,
    /// The byte between two fields.
    pub delimiter: u8,
    /// The byte that may enclose a field of this batch's text.
    pub quote: Option<u8>,
    /// Whether `\r`s before the terminator belong to the line end.
    pub carriage_returns: bool,
    /// Line on which the arena begins, counted from 1 over the source.
    pub first_line: u64,
    /// The byte that ends a line, to count lines when one must be named.
    pub terminator: u8,
    /// What records are counted in.
    pub unit: Unit,
    /// Records that stood among the others and are no part of the batch.
    pub rejected: Vec<RejectedRecord>,
    /// Columns that steps have added.
    pub computed: Vec<Computed>,
    /// What stands next to the bytes of fields.
    pub tagging: Tagging,
    /// The tags of a tagged batch, one for each of `ends`.
    pub tags: Vec<Tag>,
    /// Copies that lie after the text of the source, in order.
    pub copies: Vec<Copied>,
    /// The lines of the records, where they do not come out of the arena.
    pub lines: Vec<u64>,
    /// The values of columns that are summed up, each for as many records as it is known for.
    pub numbers: Vec<Vec<Number>>,
    /// The records as they are in their document, where they are to be written so.
    pub originals: Originals,
}

/// A record that was left out because something is wrong with it.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct RejectedRecord {
    /// The line of the source on which it begins, counted from 1.
    pub line: u64,
    /// What is wrong with it.
    pub reason: String,
    /// Its bytes verbatim, with the line end.
    pub raw: Vec<u8>,
    /// They are kept just as they are, without a header or an encoding.
    pub as_it_is: bool,
}

/// Appends values as a record with commas between them, quoted where they need it.
pub fn push_comma_separated<'v>(values: impl Iterator<Item = &'v [u8]>, out: &mut Vec<u8>) {
    for (place, value) in values.enumerate() {
        if place > 0 {
            out.push(b',');
        }
        push_quoted(value, b',', Some(b'"'), false, out);
    }
    out.push(b'\n');
}

/// A field without the carriage returns at its end.
#[inline]
pub fn without_returns(mut field: &[u8]) -> &[u8] {
    while let [rest @ .., b'\r'] = field {
        field = rest;
    }
    field
}

impl Batch {
    /// Number of records.
    #[inline]
    pub fn len(&self) -> usize {
        self.spans.len()
    }

    /// Whether there are no records in it.
    #[inline]
    pub fn is_empty(&self) -> bool {
        self.spans.is_empty()
    }

    /// Number of fields of every record, without computed ones.
    #[inline]
    pub fn width(&self) -> usize {
        self.width
    }

    /// Takes the records out that `keep` does not name.
    pub fn retain(&mut self, keep: &[bool]) {
        // Which records stay is anyone's guess, so there is no branch on it.
        fn filter<T: Copy>(items: &mut Vec<T>, keep: &[bool]) {
            let mut kept = 0;
            for (place, keep) in keep.iter().enumerate().take(items.len()) {
                items[kept] = items[place];
                kept += usize::from(*keep);
            }
            items.truncate(kept);
        }
        filter(&mut self.spans, keep);
        for column in &mut self.computed {
            filter(&mut column.spans, keep);
        }
        for numbers in &mut self.numbers {
            filter(numbers, keep);
        }
        if !self.lines.is_empty() {
            filter(&mut self.lines, keep);
        }
        if !self.originals.spans.is_empty() {
            filter(&mut self.originals.spans, keep);
        }
    }

    /// Makes ready for `count` computed columns and `sums` columns that are summed up.
    #[inline]
    pub fn clear_computed(&mut self, count: usize, sums: usize) {
        self.computed.resize_with(count, Computed::default);
        self.computed.iter_mut().for_each(Computed::clear);
        self.numbers.resize_with(sums, Vec::new);
        self.numbers.iter_mut().for_each(Vec::clear);
    }

    /// Takes a computed column out while it is being filled; [`Batch::put_back`] returns it.
    #[inline]
    pub fn take_computed(&mut self, column: usize) -> Computed {
        mem::take(&mut self.computed[column - self.width])
    }

    /// Bytes of all values that were computed.
    #[inline]
    pub fn bytes_computed(&self) -> usize {
        self.computed.iter().map(|values| values.bytes.len()).sum()
    }

    /// Puts the values of a computed column back that were taken out.
    #[inline]
    pub fn put_back(&mut self, column: usize, values: Computed) {
        self.computed[column - self.width] = values;
    }

    /// The bytes that end a record.
    #[inline]
    pub fn line_end(&self, record: usize) -> &[u8] {
        let raw = self.raw(record);
        let last = raw.len() - 1;
        if self.carriage_returns && last > 0 && raw[last - 1] == b'\r' {
            &raw[last - 1..]
        } else {
            &raw[last..]
        }
    }

    /// A record as it is in the source, even where a step has changed it, with its line end: its bytes
    /// in delimited text, and else its values with commas between them.
    pub fn original(&self, record: usize) -> Vec<u8> {
        let span = self.spans[record];
        let span = self.copy_of(span.start).unwrap_or(span);
        if self.tagging == Tagging::None {
            return self.bytes[span.start as usize..=span.last_byte as usize].to_vec();
        }
        let ends = &self.ends[span.first as usize..span.first as usize + self.width];
        let mut out = Vec::new();
        let mut start = span.start as usize;
        push_comma_separated(
            ends.iter().map(|end| {
                let value = &self.bytes[start..*end as usize];
                start = *end as usize + 1;
                value
            }),
            &mut out,
        );
        out
    }

    fn copy_of(&self, start: u32) -> Option<Span> {
        let place = self
            .copies
            .binary_search_by_key(&start, |copied| copied.copy)
            .ok()?;
        let found = self.copies[place].original;
        // A copy may be one of a copy.
        self.copy_of(found.start).or(Some(found))
    }

    /// The bytes of record `record` verbatim, with the line end.
    ///
    /// # Panics
    ///
    /// If there is no such record.
    #[inline]
    pub fn raw(&self, record: usize) -> &[u8] {
        let span = self.spans[record];
        &self.bytes[span.start as usize..=span.last_byte as usize]
    }

    /// Where a record begins and ends in the arena.
    #[inline]
    pub fn bounds(&self, record: usize) -> (usize, usize) {
        let span = self.spans[record];
        (span.start as usize, span.last_byte as usize)
    }

    /// How many fields of a record are quoted.
    #[inline]
    pub fn quoted_fields(&self, record: usize) -> u64 {
        let Some(quote) = self.quote else { return 0 };
        if memchr::memchr(quote, self.raw(record)).is_none() {
            return 0;
        }
        let quoted =
            |column: &usize| self.raw_fields(record, *column, *column).first() == Some(&quote);
        (0..self.width).filter(quoted).count() as u64
    }

    /// Whether a record lies right after the one before it.
    #[inline]
    pub fn follows(&self, record: usize) -> bool {
        self.spans[record].start == self.spans[record - 1].last_byte + 1
    }

    /// The bytes from one record to another, all of which follow each other.
    #[inline]
    pub fn raw_records(&self, first: usize, last: usize) -> &[u8] {
        &self.bytes[self.spans[first].start as usize..=self.spans[last].last_byte as usize]
    }

    /// Field `column` of record `record`, both counted from 0.
    ///
    /// # Panics
    ///
    /// If there is no such record or field.
    // A call for each field is felt: without this, other crates do not inline it.
    #[inline(always)]
    pub fn field(&self, record: usize, column: usize) -> Field<'_> {
        let raw = self.raw_fields(record, column, column);
        if column >= self.width {
            return Field::new(raw, None);
        }
        if self.tagging == Tagging::None {
            return Field::new(raw, self.quote);
        }
        let first = self.spans[record].first as usize;
        Field::tagged(raw, self.tags[first + column])
    }

    /// What stands next to the bytes of a field; nothing next to those of text and of computed ones.
    #[inline]
    pub fn tag(&self, record: usize, column: usize) -> Tag {
        if self.tagging == Tagging::None || column >= self.width {
            return Tag::PLAIN;
        }
        self.tags[self.spans[record].first as usize + column]
    }

    /// The tags of all fields of a record of a tagged batch.
    #[inline]
    pub fn tags_of(&self, record: usize) -> &[Tag] {
        let first = self.spans[record].first as usize;
        &self.tags[first..first + self.width]
    }

    /// Where the fields of a record end in the arena.
    #[inline]
    pub fn ends_of(&self, record: usize) -> &[u32] {
        let first = self.spans[record].first as usize;
        &self.ends[first..first + self.width]
    }

    /// The bytes from the start of one field to the end of another, separators between included.
    #[inline(always)]
    pub fn raw_fields(&self, record: usize, from: usize, to: usize) -> &[u8] {
        if from >= self.width {
            return self.computed(record, from);
        }
        let span = self.spans[record];
        let ends = &self.ends[span.first as usize..span.first as usize + self.width];
        let start = if from == 0 {
            span.start
        } else {
            ends[from - 1] + 1
        };
        let raw = &self.bytes[start as usize..ends[to] as usize];
        if self.carriage_returns && to + 1 == self.width {
            return without_returns(raw);
        }
        raw
    }

    #[inline]
    fn computed(&self, record: usize, column: usize) -> &[u8] {
        let values = &self.computed[column - self.width];
        let (start, end) = values.spans[record];
        &values.bytes[start as usize..end as usize]
    }

    /// The line of the source on which record `record` begins, counted from 1.
    #[inline]
    pub fn line(&self, record: usize) -> u64 {
        if let Some(line) = self.lines.get(record) {
            return *line;
        }
        let start = self.spans[record].start;
        let start = self.copy_of(start).map_or(start, |span| span.start);
        self.line_at(start as usize)
    }

    /// Where the batch begins in its source.
    #[inline]
    pub fn begins_at(&self) -> At {
        At {
            unit: self.unit,
            number: self.lines.first().copied().unwrap_or(self.first_line),
        }
    }

    /// Where record `record` begins in its source.
    #[inline]
    pub fn at(&self, record: usize) -> At {
        At {
            unit: self.unit,
            number: self.line(record),
        }
    }

    /// Replaces what is in `lines` with the line of each record, which is faster than to ask for
    /// them one by one.
    pub fn all_lines(&self, lines: &mut Vec<u64>) {
        lines.clear();
        if !self.lines.is_empty() {
            lines.extend_from_slice(&self.lines);
            return;
        }
        let mut ends = memchr::memchr_iter(self.terminator, &self.bytes).peekable();
        let mut line = self.first_line;
        let mut counted = 0;
        for span in &self.spans {
            let start = self
                .copy_of(span.start)
                .map_or(span.start, |original| original.start) as usize;
            if start < counted {
                // Records that were moved need not be in order.
                lines.push(self.line_at(start));
                continue;
            }
            while ends.next_if(|end| *end < start).is_some() {
                line += 1;
            }
            counted = start;
            lines.push(line);
        }
    }

    /// The line on which the byte at a position is, from 1.
    #[inline]
    pub fn line_at(&self, position: usize) -> u64 {
        let before = &self.bytes[..position];
        self.first_line + memchr::memchr_iter(self.terminator, before).count() as u64
    }

    /// A batch of its first record alone.
    pub fn first_as_batch(&self) -> Self {
        let span = self.spans[0];
        let fields = span.first as usize..span.first as usize + self.width;
        Self {
            bytes: self.raw(0).to_vec(),
            ends: self.ends[fields.clone()]
                .iter()
                .map(|end| end - span.start)
                .collect(),
            spans: vec![Span {
                start: 0,
                first: 0,
                last_byte: span.last_byte - span.start,
            }],
            tags: match self.tagging {
                Tagging::None => Vec::new(),
                _ => self.tags[fields].to_vec(),
            },
            rejected: Vec::new(),
            computed: Vec::new(),
            copies: Vec::new(),
            lines: Vec::new(),
            numbers: Vec::new(),
            originals: Originals::default(),
            ..*self
        }
    }

    /// Empties the batch with its arena, and keeps its memory.
    #[inline]
    pub fn clear_all(&mut self) {
        self.clear();
        self.bytes.clear();
        self.ends.clear();
        self.tags.clear();
    }

    /// Takes all records out of the batch; what is in its arena stays.
    #[inline]
    pub fn clear(&mut self) {
        self.spans.clear();
        self.rejected.clear();
        self.copies.clear();
        self.lines.clear();
        self.originals.bytes.clear();
        self.originals.spans.clear();
    }

    /// A record as it is in its document.
    #[inline]
    pub fn of_document(&self, record: usize) -> &[u8] {
        let (start, end) = self.originals.spans[record];
        &self.originals.bytes[start as usize..end as usize]
    }
}
