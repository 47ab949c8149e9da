//! Delimited text after RFC 4180 and its relatives: comma, semicolon, tab, pipe or any byte.

mod detect;
mod format;
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
