//! Delimited text after RFC 4180 and its relatives: comma, semicolon, tab, pipe or any byte.

mod detect;
mod dialect;
mod open;
mod read;
mod regular;
mod reindex;
mod scan;
mod write;

pub use dialect::{
    Delimiter, Dialect, DialectError, Escape, LineEnd, Quote, Ragged, ReadOptions, SignConflict,
    WriteOptions,
};
pub use read::DelimitedReader;
pub(crate) use reindex::Reindex;
pub use write::DelimitedEncoder;

/// What content that is no text seems to be, by its first bytes.
pub(crate) fn other_content(start: &[u8]) -> Option<&'static str> {
    detect::other_content(start, false)
}

/// What the format is called.
pub const NAME: &str = "delimited text";

/// Extensions of delimited text.
pub const EXTENSIONS: &[&str] = &["csv", "tsv", "txt"];
