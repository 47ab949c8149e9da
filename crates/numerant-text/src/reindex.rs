//! Finds the fields of records that are put together again from their bytes.

use super::scan::{Index, Marks, scan};
use numerant_data::record::{Batch, Span, Tagging};

/// Finds the records and fields of delimited text once more.
#[derive(Debug, Default)]
pub struct Reindex {
    index: Index,
}

impl Reindex {
    /// Sets the field ends and spans of `batch`, whose bytes are whole records of its width. A
    /// tagged batch has them.
    pub fn fill(&mut self, batch: &mut Batch) {
        if batch.tagging != Tagging::None {
            return;
        }
        let marks = Marks {
            delimiter: batch.delimiter,
            quote: batch.quote,
            terminator: batch.terminator,
        };
        scan(&batch.bytes, marks, &mut self.index);
        self.index.swap_ends(&mut batch.ends);
        batch.spans.clear();
        let (mut first, mut start) = (0, 0);
        for behind in self.index.firsts() {
            let last_byte = batch.ends[*behind as usize - 1];
            batch.spans.push(Span {
                start,
                first,
                last_byte,
            });
            first = *behind;
            start = last_byte + 1;
        }
    }
}
