//! Values such as `NA` that represent a blank, and are read as one.

use std::collections::HashSet;

use numerant_data::record::{Batch, Columns};
use numerant_data::source::{ReadError, SourcePath};
use numerant_format::sheet::{ColumnStyle, SheetFacts};
use numerant_format::{Document, ReadTally, RecordReader, SourceFacts};

/// Reads some values of another reader as blank.
pub(crate) struct BlankValuesReader {
    inner: Box<dyn RecordReader>,
    values: HashSet<Vec<u8>>,
    /// The lengths that those values have, as bits; longer ones share the last.
    lengths: u64,
    blanked: u64,
}

/// The bit of a length.
fn length_bit(length: usize) -> u64 {
    1 << length.min(63)
}

impl BlankValuesReader {
    /// A reader that reads `values` as blank; `inner` itself if there are none.
    pub(crate) fn around(inner: Box<dyn RecordReader>, values: &[String]) -> Box<dyn RecordReader> {
        if values.is_empty() {
            return inner;
        }
        let values: HashSet<Vec<u8>> = values.iter().map(|v| v.as_bytes().to_vec()).collect();
        let lengths = values
            .iter()
            .fold(0, |bits, value| bits | length_bit(value.len()));
        Box::new(Self {
            inner,
            values,
            lengths,
            blanked: 0,
        })
    }
}

impl RecordReader for BlankValuesReader {
    fn columns(&self) -> &Columns {
        self.inner.columns()
    }

    fn header(&self) -> Option<&Batch> {
        self.inner.header()
    }

    fn facts(&self) -> &SourceFacts {
        self.inner.facts()
    }

    fn name(&self) -> String {
        self.inner.name()
    }

    fn path(&self) -> &SourcePath {
        self.inner.path()
    }

    fn sheet(&self) -> Option<SheetFacts> {
        self.inner.sheet()
    }

    fn column_styles(&self) -> Result<Vec<ColumnStyle>, ReadError> {
        self.inner.column_styles()
    }

    fn document(&self) -> Option<&dyn Document> {
        self.inner.document()
    }

    fn document_mut(&mut self) -> Option<&mut dyn Document> {
        self.inner.document_mut()
    }

    fn next_batch(&mut self, batch: &mut Batch) -> Result<bool, ReadError> {
        let more = self.inner.next_batch(batch)?;
        let mut scratch = Vec::new();
        let mut blank = Vec::new();
        for record in 0..batch.len() {
            blank.clear();
            for column in 0..batch.width() {
                let field = batch.field(record, column);
                // A quoted value is at most its quotes longer.
                let value = field.value(&mut scratch);
                if self.lengths & length_bit(value.len()) != 0 && self.values.contains(value) {
                    blank.push(column);
                }
            }
            if !blank.is_empty() {
                self.blanked += blank.len() as u64;
                batch.blank_fields(record, &blank);
            }
        }
        Ok(more)
    }

    fn tally(&self) -> ReadTally {
        ReadTally {
            blank_values: self.blanked,
            ..self.inner.tally()
        }
    }
}
