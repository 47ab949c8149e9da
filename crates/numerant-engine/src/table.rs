//! A small table that is read as a whole, whatever its format.

use std::path::Path;

use super::{Context, Error};
use numerant_data::record::Batch;
use numerant_data::source::{Input, SourcePath};
use numerant_format::ReadOptions;
use numerant_formats::open_reader;

/// Bytes of a batch, and of the largest record.
const BATCH: usize = 1 << 20;
const LARGEST: usize = 16 << 20;

/// The names of the columns of a table, and its records as texts.
pub type TextTable = (Vec<String>, Vec<Vec<String>>);

/// Reads a table.
///
/// # Errors
///
/// If it cannot be read.
pub fn read_table(path: &Path, context: &Context) -> Result<TextTable, Error> {
    let input = Input::open(&SourcePath::File(path.to_owned()))?;
    let options = ReadOptions::default();
    let mut reader = open_reader(input, &options, BATCH, LARGEST, &context.temporary)?;
    let names = reader.columns().names().to_vec();
    let mut records = Vec::new();
    let mut batch = Batch::default();
    while reader.next_batch(&mut batch)? {
        context.check_cancelled()?;
        for record in 0..batch.len() {
            let text = |field| {
                let value = batch.field(record, field).text();
                String::from_utf8_lossy(&value).into_owned()
            };
            records.push((0..names.len()).map(text).collect());
        }
    }
    Ok((names, records))
}
