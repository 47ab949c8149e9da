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

pub use assemble::{ExtractError, Extracted, Shelf, Taken, Ways, assemble};
pub use fill::{FillError, Form, FormProblem, PutTable};
pub use rows::Cutting;

/// Bytes that a part besides sheets and shared texts may take.
const SMALL: u64 = 64 << 20;
