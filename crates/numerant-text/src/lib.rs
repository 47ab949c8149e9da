//! Delimited text after RFC 4180 and its relatives: comma, semicolon, tab, pipe or any byte.

mod detect;
mod open;
mod read;
mod regular;
mod reindex;
mod scan;
mod write;

pub use read::DelimitedReader;
pub use reindex::Reindex;
pub use write::DelimitedEncoder;

/// What content that is no text seems to be, by its first bytes.
pub fn other_content(start: &[u8]) -> Option<&'static str> {
    detect::other_content(start, false)
}

/// What the format is called.
pub const NAME: &str = "delimited text";

pub use numerant_format::TEXT_EXTENSIONS as EXTENSIONS;
