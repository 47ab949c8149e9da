//! XML 1.0: documents whose records are elements.

mod attributes;
mod declaration;
mod doctype;
mod entities;
mod find;
mod format;
mod path;
mod read;
mod scope;
mod syntax;
mod walk;
mod write;

use numerant_data::source::{Input, ReadError};
use numerant_data::tree::Survey;
use numerant_format::TreeFacts;
use numerant_trees::{FoundRecords, OpenedTrees, TreeFormat, Trees};

pub use declaration::{encoding_of, in_one_encoding};
pub use find::{begins, find_records, survey};
pub use format::XmlFormat;
pub use read::XmlTrees;
pub use walk::check;
pub use write::{XmlEncoder, XmlForm, push_comment};

/// What the format is called.
pub const NAME: &str = "XML";

/// Documents of XML.
#[derive(Debug)]
pub struct XmlTreeFormat;

impl TreeFormat for XmlTreeFormat {
    fn name(&self, _facts: &TreeFacts) -> &'static str {
        NAME
    }

    fn find(&self, opened: &mut OpenedTrees, sample: u64) -> Result<FoundRecords, ReadError> {
        find_records(opened.input()?, opened, sample)
    }

    fn is_searched(&self) -> bool {
        true
    }

    fn trees(&self, input: Input, opened: &OpenedTrees) -> Result<Box<dyn Trees>, ReadError> {
        Ok(Box::new(XmlTrees::new(input, opened)?))
    }

    fn survey(&self, opened: &OpenedTrees) -> Result<Option<Survey>, ReadError> {
        survey(opened.input()?, opened, u64::MAX).map(Some)
    }
}
