//! JSON after RFC 8259: documents, concatenated values, and a value a line.

mod descend;
mod path;
mod plain;
mod read;
mod tokens;
mod write;

pub(crate) use read::{JsonTrees, begins, beside, find_records, survey};
pub(crate) use write::{JsonEncoder, JsonForm};

/// What the format is called.
pub const NAME: &str = "JSON";

/// What a value a line is called.
pub const LINES: &str = "JSON Lines";
