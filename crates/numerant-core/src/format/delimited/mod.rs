//! Delimited text after RFC 4180 and its relatives: comma, semicolon, tab, pipe or any byte.

mod detect;
mod dialect;
mod read;
mod reindex;
mod scan;
mod write;

pub use dialect::{
    Delimiter, Dialect, DialectError, LineEnd, Quote, Ragged, ReadOptions, WriteOptions,
};
pub use read::{DelimitedReader, Told};
pub(crate) use reindex::Reindex;
pub use write::DelimitedEncoder;

/// What the format is called.
pub const NAME: &str = "delimited text";

/// Extensions of delimited text.
pub const EXTENSIONS: &[&str] = &["csv", "tsv", "txt"];
