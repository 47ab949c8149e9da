//! JSON after RFC 8259: documents, concatenated values, and a value a line.

mod descend;
mod find;
mod path;
mod plain;
mod read;
mod tokens;
mod walk;
mod write;

use crate::tree::{Paths, Tree};
use serde::de::IgnoredAny;

pub(crate) use find::{MAX_OTHERS, begins, beside, find_records, survey};
pub(crate) use read::JsonTrees;
pub(crate) use write::{JsonEncoder, JsonForm};

/// Makes a tree of a document: where its values stand in it, or the line of what is wrong and that.
pub(crate) fn tree_of(
    text: &str,
    tree: &mut Tree,
    paths: &mut Paths,
) -> Result<Vec<(u32, u32)>, (usize, String)> {
    serde_json::from_str::<IgnoredAny>(text)
        .map_err(|error| (error.line(), tokens::said(&error, None)))?;
    let mut spans = Vec::new();
    let line = |at: usize| memchr::memchr_iter(b'\n', &text.as_bytes()[..at]).count() + 1;
    match descend::descend(text, tree, paths, 128, &mut spans) {
        Ok(()) => Ok(spans),
        Err(descend::Wrong::Deep(at)) => Err((line(at), "it is nested too deep".to_owned())),
        Err(descend::Wrong::Escape(at, what)) => Err((line(at), what)),
    }
}

/// What the format is called.
pub(crate) const NAME: &str = "JSON";

/// What a value a line is called.
pub(crate) const LINES: &str = "JSON Lines";

/// The extensions of files with a value on each line.
pub(super) const LINES_EXTENSIONS: &[&str] = &["jsonl", "ndjson"];
