//! JSON after RFC 8259: documents, concatenated values, and a value a line.

mod descend;
mod find;
mod format;
mod path;
mod plain;
mod read;
mod tokens;
mod walk;
mod write;

use numerant_data::tree::{Paths, Tree};
use serde::de::IgnoredAny;

use numerant_data::source::{Input, ReadError};
use numerant_data::tree::Survey;
use numerant_format::TreeFacts;
use numerant_trees::{FoundRecords, OpenedTrees, TreeFormat, Trees};

pub use find::begins;
pub(crate) use find::{MAX_OTHERS, beside, find_records, survey};
pub use format::{JsonFormat, JsonLinesFormat};
pub(crate) use format::{nested, open_broken, outline};
pub(crate) use read::JsonTrees;
pub use write::{JsonEncoder, JsonForm};

/// Makes a tree of a document: where its values are in it, or the line of what is wrong and that.
pub fn tree_of(
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
pub const NAME: &str = "JSON";

/// What a value a line is called.
pub const LINES: &str = "JSON Lines";

/// The extensions of files with a value on each line.
pub const LINES_EXTENSIONS: &[&str] = &["jsonl", "ndjson"];

/// Documents of JSON, and values a line.
#[derive(Debug)]
pub struct JsonTreeFormat;

impl TreeFormat for JsonTreeFormat {
    fn name(&self, facts: &TreeFacts) -> &'static str {
        if facts.lines { LINES } else { NAME }
    }

    fn repeats_names(&self) -> bool {
        false
    }

    fn find(&self, opened: &mut OpenedTrees, sample: u64) -> Result<FoundRecords, ReadError> {
        find_records(opened.input()?, opened, sample)
    }

    fn is_searched(&self) -> bool {
        true
    }

    fn trees(&self, input: Input, opened: &OpenedTrees) -> Result<Box<dyn Trees>, ReadError> {
        Ok(Box::new(JsonTrees::new(input, opened)?))
    }

    fn survey(&self, opened: &OpenedTrees) -> Result<Option<Survey>, ReadError> {
        survey(opened.input()?, opened, u64::MAX).map(Some)
    }
}
