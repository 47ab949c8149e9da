//! Adds records to a batch, and replaces them by changed copies.

use super::batch::{Batch, Copied, Span, Tagging};
use super::field::push_quoted;
use super::tag::Tag;
use crate::narrow::to_u32;

/// Where a record begins that is being added to a batch.
#[derive(Clone, Copy, Debug)]
pub struct RecordStart {
    start: u32,
    first: u32,
}

// Each of these is called for each field or record by the readers of other crates, where a call is felt.
impl Batch {
    /// Begins a record at the end of the batch.
    #[inline(always)]
    pub fn begin_record(&self) -> RecordStart {
        RecordStart {
            start: to_u32(self.bytes.len()),
            first: to_u32(self.ends.len()),
        }
    }

    /// Ends a field of a tagged batch, whose bytes were appended.
    #[inline(always)]
    pub fn end_field(&mut self, tag: Tag) {
        // Most fields are plain: their tags are added with the record, all at once.
        if tag != Tag::PLAIN {
            self.tags.resize(self.ends.len(), Tag::PLAIN);
            self.tags.push(tag);
        }
        self.ends.push(to_u32(self.bytes.len()));
        self.bytes.push(self.delimiter);
    }

    /// Adds so many fields that are not there to a tagged batch.
    #[inline(always)]
    pub fn pass_fields(&mut self, count: usize) {
        let from = self.bytes.len();
        self.ends.extend(to_u32(from)..to_u32(from + count));
        self.bytes.resize(from + count, self.delimiter);
    }

    /// Ends a record of a tagged batch, all fields of which were added.
    #[inline(always)]
    pub fn end_record(&mut self, RecordStart { start, first }: RecordStart) {
        self.tags.resize(self.ends.len(), Tag::PLAIN);
        let last_byte = self.bytes.len() - 1;
        self.bytes[last_byte] = self.terminator;
        self.spans.push(Span {
            start,
            first,
            last_byte: to_u32(last_byte),
        });
    }

    /// Drops the fields of a record that cannot be ended.
    pub fn drop_record(&mut self, RecordStart { start, first }: RecordStart) {
        self.bytes.truncate(start as usize);
        self.ends.truncate(first as usize);
        self.tags.truncate(first as usize);
    }

    /// Replaces the fields of a record with `values`, which are quoted where they need it, and its
    /// line end.
    pub fn replace_record(&mut self, record: usize, values: &[(Vec<u8>, Tag)], line_end: &[u8]) {
        let delimiter = self.delimiter;
        let (_, copy, first) = self.begin_copy(record);
        let lonely = values.len() == 1;
        for (place, (value, tag)) in values.iter().enumerate() {
            if place > 0 {
                self.bytes.push(delimiter);
            }
            if self.tagging == Tagging::None {
                push_quoted(value, delimiter, self.quote, lonely, &mut self.bytes);
            } else {
                self.bytes.extend_from_slice(value);
                self.tags.push(*tag);
            }
            if place + 1 < values.len() {
                self.ends.push(to_u32(self.bytes.len()));
            }
        }
        self.end_copy(record, copy, first, line_end);
    }

    /// Replaces a record with a copy of it in which the fields of `columns`, in order, are blank.
    pub fn blank_fields(&mut self, record: usize, columns: &[usize]) {
        let (span, copy, first) = self.begin_copy(record);
        let line_end = self.line_end(record).to_vec();
        let bounds = |batch: &Self, column: usize| {
            let ends = &batch.ends[span.first as usize..];
            let start = match column {
                0 => span.start,
                _ => ends[column - 1] + 1,
            };
            let length = batch.raw_fields(record, column, column).len();
            start as usize..start as usize + length
        };
        for column in 0..self.width {
            if column > 0 {
                self.bytes.push(self.delimiter);
            }
            if columns.binary_search(&column).is_err() {
                let field = bounds(self, column);
                self.bytes.extend_from_within(field);
            } else if self.width == 1 && self.tagging == Tagging::None {
                // A blank that is alone on its line would be no record.
                self.bytes.extend(self.quote.into_iter().chain(self.quote));
            }
            if self.tagging != Tagging::None {
                let is_blank = columns.binary_search(&column).is_ok();
                let tag = self.tags[span.first as usize + column];
                self.tags.push(if is_blank { Tag::PLAIN } else { tag });
            }
            if column + 1 < self.width {
                self.ends.push(to_u32(self.bytes.len()));
            }
        }
        self.end_copy(record, copy, first, &line_end);
    }

    /// Begins a copy of a record after all others: where the record lies, and where the bytes and the
    /// ends of fields of the copy begin.
    fn begin_copy(&mut self, record: usize) -> (Span, u32, u32) {
        let span = self.spans[record];
        let copy = to_u32(self.bytes.len());
        self.copies.push(Copied {
            copy,
            original: span,
        });
        (span, copy, to_u32(self.ends.len()))
    }

    /// Ends a copy of a record, which takes its place.
    fn end_copy(&mut self, record: usize, start: u32, first: u32, line_end: &[u8]) {
        self.bytes.extend_from_slice(line_end);
        let last_byte = to_u32(self.bytes.len()) - 1;
        self.ends.push(last_byte);
        self.spans[record] = Span {
            start,
            first,
            last_byte,
        };
    }
}

#[cfg(test)]
mod tests {
    use super::super::tag::Blank;
    use super::*;
    use crate::dialect::Dialect;

    /// A record of cells, whose values hold what would divide or enclose fields in a text.
    fn cells() -> Batch {
        let mut batch = Batch::default();
        Dialect::CELLS.prepare(&mut batch, 4);
        let start = batch.begin_record();
        batch.bytes.extend_from_slice(b"a,\"b\"\x1e\r\n");
        batch.end_field(Tag::TEXT);
        batch.pass_fields(1);
        batch.bytes.extend_from_slice(b"7");
        batch.end_field(Tag::PLAIN);
        batch.end_field(Tag::blank(Blank::Null));
        batch.end_record(start);
        batch.lines.push(2);
        batch
    }

    #[test]
    fn no_byte_of_a_tagged_field_means_anything() {
        let batch = cells();
        assert_eq!(&*batch.field(0, 0).text(), b"a,\"b\"\x1e\r\n");
        assert!(batch.field(0, 0).tag().is_text());
        assert!(batch.field(0, 1).is_absent());
        assert_eq!(batch.field(0, 2).raw(), b"7");
        assert!(batch.field(0, 3).is_blank() && !batch.field(0, 3).is_absent());
        assert_eq!(batch.original(0), b"\"a,\"\"b\"\"\x1e\r\n\",,7,\n");
    }

    #[test]
    fn changed_copies_keep_the_tags_of_what_is_not_changed() {
        let mut batch = cells();
        batch.blank_fields(0, &[2]);
        assert!(batch.field(0, 2).is_absent());
        assert!(batch.field(0, 0).tag().is_text());
        assert_eq!(batch.field(0, 3).tag().as_blank(), Blank::Null);
        assert_eq!(batch.original(0), b"\"a,\"\"b\"\"\x1e\r\n\",,7,\n");
        assert_eq!(batch.tags.len(), batch.ends.len());
    }

    #[test]
    fn records_of_text_become_texts_among_cells_and_back() {
        let mut batch = cells();
        let text = Dialect {
            quote: crate::dialect::Quote::Byte(b'"'),
            delimiter: crate::dialect::Delimiter::COMMA,
            tagging: Tagging::None,
            ..Dialect::CELLS
        };
        text.bring(&mut batch);
        assert_eq!(batch.raw(0), b"\"a,\"\"b\"\"\x1e\r\n\",,7,\n");
        Dialect::CELLS.bring(&mut batch);
        assert_eq!(&*batch.field(0, 0).text(), b"a,\"b\"\x1e\r\n");
        assert!(batch.field(0, 2).tag().is_text());
        assert!(batch.field(0, 1).is_absent());
    }
}
