//! From trees to columns: the records of documents, flattened to records of named columns.
//!
//! A format of documents hands on one record after the other as a tree ([`Trees`]); [`TreeReader`] finds the columns
//! of all of them and fills batches. Records that are like one before them but for their values are read without a
//! parser ([`RecordPatterns`]).
//!
//! ```
//! use numerant_data::source::{Input, SourcePath};
//! use numerant_documents::json::JsonTreeFormat;
//! use numerant_format::{Opening, ReadOptions, SchemaScan, Start};
//! use numerant_trees::TreeSource;
//!
//! let text = br#"[{"id": 1, "berth": {"quay": "North"}}]"#;
//! let options = ReadOptions::default();
//! let input = Input::from_reader(SourcePath::Standard, Box::new(&text[..]), None)?;
//! let temporary = std::env::temp_dir();
//! let mut start = Start::new(input, &options, (None, None), 1 << 20, &temporary)?;
//! let mut source = TreeSource::open(&mut start, &JsonTreeFormat)?;
//! let reader = source.open_table(0, Opening {
//!     options: &options,
//!     batch_size: 1 << 16,
//!     largest_record: 1 << 20,
//!     scan: &SchemaScan::Full,
//! })?;
//! assert_eq!(reader.columns().names(), ["id", "berth.quay"]);
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

mod flatten;
mod opened;
mod reader;
mod record_pattern;
mod source;
mod text;

pub use opened::{FoundRecords, Leaf, MAX_DEPTH, OpenedTrees, RecordOddities, TreeFormat, Trees};
pub use reader::TreeReader;
pub use record_pattern::RecordPatterns;
pub use source::TreeSource;
pub use text::Text;
