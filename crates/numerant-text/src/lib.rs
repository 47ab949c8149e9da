//! Delimited text after RFC 4180 and its relatives: comma, semicolon, tab, pipe or any byte.
//!
//! The dialect is detected from a sample and stated by options; the scanner then finds field ends with vector
//! instructions, and records that nothing changes are moved as slices.
//!
//! ```
//! use numerant_data::record::Batch;
//! use numerant_data::source::{Input, SourcePath};
//! use numerant_format::{ReadOptions, RecordReader};
//! use numerant_text::DelimitedReader;
//!
//! let text = b"id;quay\n1;North\n2;\"East; old\"\n";
//! let input = Input::from_reader(SourcePath::Standard, Box::new(&text[..]), None)?;
//! let mut reader = DelimitedReader::open(input, &ReadOptions::default(), 1 << 16, 1 << 20)?;
//! let mut batch = Batch::default();
//! assert!(reader.next_batch(&mut batch)?);
//! assert_eq!(&*batch.field(1, 1).text(), b"East; old");
//! # Ok::<(), numerant_data::source::ReadError>(())
//! ```

#![cfg_attr(
    not(test),
    warn(
        clippy::cast_possible_truncation,
        clippy::cast_possible_wrap,
        clippy::cast_sign_loss
    )
)]

mod detect;
pub mod fixed;
mod format;
mod line_ends;
mod open;
mod read;
mod regular;
mod reindex;
mod scan;
mod write;

pub use format::DelimitedFormat;
pub use read::DelimitedReader;
pub use reindex::Reindex;
pub use write::DelimitedEncoder;

/// What the format is called.
pub const NAME: &str = "delimited text";
