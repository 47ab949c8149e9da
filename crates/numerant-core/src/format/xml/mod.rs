//! XML 1.0: documents whose records are elements.

mod entities;
mod path;
mod read;
mod write;

pub(crate) use read::{XmlTrees, begins, find_records, survey};
pub(crate) use write::{XmlEncoder, XmlForm, push_comment};

/// What the format is called.
pub(crate) const NAME: &str = "XML";
