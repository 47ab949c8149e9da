//! Many records in one arena of bytes.
//!
//! # To whoever changes this
//!
//! Invariants that readers keep and everything else relies on:
//! * every record has exactly `width` fields; what to do with ragged records is the reader's job;
//! * field `c + 1` begins one byte behind the end of field `c`, and one byte behind the end of the
//!   last field lies the next thing in the arena, so `raw` of a record includes its terminator;
//! * the bytes are UTF-8.

/// Where a record begins in the arena, which of the field ends is its first, and where its last
/// byte is: the end of its last field once more, so that moving a record does not have to look
/// for it.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(crate) struct Span {
    pub(crate) start: u32,
    pub(crate) first: u32,
    pub(crate) last_byte: u32,
}

/// A run of records of one source, in source order, all of the same width.
#[derive(Debug, Default)]
pub struct Batch {
    pub(crate) bytes: Vec<u8>,
    /// Field ends; what lies behind those of the last record means nothing.
    pub(crate) ends: Vec<u32>,
    pub(crate) spans: Vec<Span>,
    pub(crate) width: usize,
    /// The byte that may enclose a field of this batch's text.
    pub(crate) quote: Option<u8>,
    /// Whether a `\r` before the terminator belongs to the line end.
    pub(crate) carriage_returns: bool,
    /// Line on which the arena begins, counted from 1 over the source.
    pub(crate) first_line: u64,
    /// The byte that ends a line, to count lines when one must be named.
    pub(crate) terminator: u8,
    /// Records that stood among the others and are no part of the batch.
    pub(crate) rejected: Vec<RejectedRecord>,
}

/// A record that was left out because something is wrong with it.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct RejectedRecord {
    /// The line of the source on which it begins, counted from 1.
    pub line: u64,
    /// What is wrong with it.
    pub reason: String,
    /// Its bytes as they stand, with the line end.
    pub raw: Vec<u8>,
}

/// One field as it stands in its source.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct Field<'a> {
    raw: &'a [u8],
    quote: Option<u8>,
}

impl Batch {
    /// Number of records.
    pub fn len(&self) -> usize {
        self.spans.len()
    }

    /// Whether there are no records in it.
    pub fn is_empty(&self) -> bool {
        self.spans.is_empty()
    }

    /// Number of fields of every record.
    pub fn width(&self) -> usize {
        self.width
    }

    /// The bytes of record `record` as they stand, with the line end.
    ///
    /// # Panics
    ///
    /// If there is no such record.
    #[inline]
    pub fn raw(&self, record: usize) -> &[u8] {
        let span = self.spans[record];
        &self.bytes[span.start as usize..=span.last_byte as usize]
    }

    /// Field `column` of record `record`, both counted from 0.
    ///
    /// # Panics
    ///
    /// If there is no such record or field.
    #[inline]
    pub fn field(&self, record: usize, column: usize) -> Field<'_> {
        Field {
            raw: self.raw_fields(record, column, column),
            quote: self.quote,
        }
    }

    /// The bytes from the start of one field to the end of another, separators between included.
    #[inline(always)]
    pub(crate) fn raw_fields(&self, record: usize, from: usize, to: usize) -> &[u8] {
        let span = self.spans[record];
        let ends = &self.ends[span.first as usize..span.first as usize + self.width];
        let start = if from == 0 {
            span.start
        } else {
            ends[from - 1] + 1
        };
        let raw = &self.bytes[start as usize..ends[to] as usize];
        if self.carriage_returns && to + 1 == self.width {
            return raw.strip_suffix(b"\r").unwrap_or(raw);
        }
        raw
    }

    /// The line of the source on which record `record` begins, counted from 1.
    pub fn line(&self, record: usize) -> u64 {
        self.line_at(self.spans[record].start as usize)
    }

    pub(crate) fn line_at(&self, position: usize) -> u64 {
        let before = &self.bytes[..position];
        self.first_line + memchr::memchr_iter(self.terminator, before).count() as u64
    }

    /// A batch of its first record alone.
    pub(crate) fn first_as_batch(&self) -> Self {
        let span = self.spans[0];
        let fields = span.first as usize..span.first as usize + self.width;
        Self {
            bytes: self.raw(0).to_vec(),
            ends: self.ends[fields]
                .iter()
                .map(|end| end - span.start)
                .collect(),
            spans: vec![Span {
                start: 0,
                first: 0,
                last_byte: span.last_byte - span.start,
            }],
            rejected: Vec::new(),
            ..*self
        }
    }

    /// Empties the batch and keeps its memory.
    pub(crate) fn clear(&mut self) {
        self.spans.clear();
        self.rejected.clear();
    }
}

impl<'a> Field<'a> {
    /// The field's text as it stands in its source, quotes included.
    pub fn raw(&self) -> &'a [u8] {
        self.raw
    }

    /// The field's value: `raw` without the quotes around it, doubled quotes taken as one.
    ///
    /// Text behind a closing quote belongs to the value. `scratch` is used where the value is not
    /// a slice of the source.
    pub fn value<'s>(&self, scratch: &'s mut Vec<u8>) -> &'s [u8]
    where
        'a: 's,
    {
        let Some(quote) = self.quote else {
            return self.raw;
        };
        let Some(rest) = self.raw.strip_prefix(&[quote]) else {
            return self.raw;
        };
        match memchr::memchr(quote, rest) {
            Some(close) if close + 1 == rest.len() => &rest[..close],
            None => rest,
            Some(_) => {
                unquote(rest, quote, scratch);
                scratch
            }
        }
    }

    /// Whether the value is empty.
    pub fn is_blank(&self) -> bool {
        self.raw.is_empty()
            || (self.raw.len() == 2 && self.quote.is_some_and(|q| self.raw == [q, q]))
    }
}

fn unquote(after_open: &[u8], quote: u8, value: &mut Vec<u8>) {
    value.clear();
    let mut rest = after_open;
    while let Some(at) = memchr::memchr(quote, rest) {
        value.extend_from_slice(&rest[..at]);
        if rest.get(at + 1) == Some(&quote) {
            value.push(quote);
            rest = &rest[at + 2..];
        } else {
            rest = &rest[at + 1..];
            break;
        }
    }
    value.extend_from_slice(rest);
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn values_of_quoted_fields() {
        let cases: [(&[u8], &[u8]); 10] = [
            (b"plain", b"plain"),
            (b"", b""),
            (b"\"\"", b""),
            (b"\"a,b\"", b"a,b"),
            (b"\"say \"\"ho\"\"\"", b"say \"ho\""),
            (b"\"\"\"\"", b"\""),
            (b"\"text\" behind", b"text behind"),
            (b"\"text\" and \"more\"", b"text and \"more\""),
            (b"6\" rope", b"6\" rope"),
            (b" \"padded\"", b" \"padded\""),
        ];
        for (raw, value) in cases {
            let field = Field {
                raw,
                quote: Some(b'"'),
            };
            assert_eq!(
                field.value(&mut Vec::new()),
                value,
                "{}",
                String::from_utf8_lossy(raw)
            );
            assert_eq!(field.is_blank(), value.is_empty());
            let literal = Field { raw, quote: None };
            assert_eq!(literal.value(&mut Vec::new()), raw);
        }
    }
}
