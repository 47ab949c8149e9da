//! Workbooks changed as packages: what is not touched is carried over byte for byte.

mod assemble;
mod edited_workbook;
mod element;
mod fill;
mod gather;
mod relations;
mod rows;
mod sheet;
mod strings;
mod styles;

pub use assemble::{AssembleOptions, ExtractError, Extracted, TakenSheet, WorkbookCache, assemble};
pub use fill::{FillError, PutTable, TemplateProblem, WorkbookTemplate};
pub use rows::{ComputedColumns, RowCutter};
pub(super) use styles::Colors;

use super::SMALL;
