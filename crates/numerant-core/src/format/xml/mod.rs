//! XML 1.0: documents whose records are elements.

mod attributes;
mod declaration;
mod doctype;
mod entities;
mod find;
mod name;
mod namespace;
mod path;
mod read;
mod scope;
mod syntax;
mod walk;
mod write;

pub(crate) use declaration::in_one_encoding;
pub(crate) use find::{begins, find_records, survey};
pub use namespace::{Namespace, NamespaceError};
pub(crate) use read::XmlTrees;
pub(crate) use walk::{check, encoding_of};
pub(crate) use write::{XmlEncoder, XmlForm, push_comment};

/// What the format is called.
pub(crate) const NAME: &str = "XML";
