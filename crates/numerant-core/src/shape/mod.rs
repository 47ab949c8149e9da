//! From trees to columns and back: records of documents are laid out as records of named columns.

pub(crate) mod form;
mod lay;
mod open;
mod reader;

pub use form::{ShapeError, ShapeProblem};
pub(crate) use open::open_reader;
pub use reader::TreeReader;
