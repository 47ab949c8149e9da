//! From trees to columns and back: records of documents are laid out as records of named columns.

mod lay;
mod open;
mod reader;

pub(crate) use open::open_reader;
pub use reader::TreeReader;
