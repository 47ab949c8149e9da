//! Workbooks changed as packages: what is not touched is carried over byte for byte.

mod assemble;
mod book;
mod element;
mod fill;
mod gather;
mod relations;
mod rows;
mod sheet;
mod strings;
mod styles;

pub use assemble::Extracted;
pub(crate) use assemble::{ExtractError, Shelf, Taken, Ways, assemble};
pub use fill::FormProblem;
pub(crate) use fill::{FillError, Form, PutTable};
pub(crate) use rows::Cutting;

/// Bytes that a part besides sheets and shared texts may take.
const SMALL: u64 = 64 << 20;
