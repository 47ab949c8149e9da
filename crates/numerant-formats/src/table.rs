//! Opens a source that is one table, whatever its format.

use std::path::Path;

use crate::{Opened, open};
use numerant_data::source::{Input, ReadError};
use numerant_format::{ReadOptions, RecordReader};
use numerant_text::DelimitedReader;
use numerant_trees::TreeReader;

/// A reader of a source that is one table: a text, the first of the sheets that are chosen, or the
/// records of a document.
pub fn open_reader(
    input: Input,
    options: &ReadOptions,
    batch_size: usize,
    largest_record: usize,
    temporary: &Path,
) -> Result<Box<dyn RecordReader>, ReadError> {
    match open(input, options, largest_record, temporary, false)? {
        Opened::Text(input) => {
            let reader = DelimitedReader::open(input, options, batch_size, largest_record)?;
            Ok(Box::new(reader))
        }
        Opened::Book(book) => {
            let first = book.chosen.first().copied().unwrap_or_default();
            let reader = book.sheet(first, options, batch_size, largest_record)?;
            Ok(Box::new(reader))
        }
        Opened::Trees(trees) => Ok(Box::new(TreeReader::open(trees, batch_size, true)?)),
    }
}
