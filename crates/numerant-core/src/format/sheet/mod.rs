//! What all spreadsheet formats share: rows of cells laid out as records, the types of columns,
//! number formats, dates, and the names of sheets.
//!
//! # To whoever changes this
//!
//! Records of a sheet travel in batches like those of delimited text, in a dialect of their own
//! ([`Dialect::CELLS`]). What is quoted there was text in its cell, though it looks like a number,
//! a date or true; what is not quoted is what it looks like. Encoders rely on that to write cells
//! with the types that they had.
//!
//! [`Dialect::CELLS`]: super::delimited::Dialect::CELLS

mod cell;
mod name;
mod number_format;
mod reader;
mod row;
mod serial;
mod shared;
mod typing;
mod write;

pub(crate) use cell::{Cell, CellFormat, Class, Look, Precision};
pub use name::LONGEST_SHEET_NAME;
pub(crate) use name::{SheetNames, legal};
pub(crate) use number_format::{Moments, Shown, Spelling};
pub(crate) use reader::{Oddities, Rows, SheetSource, Workbook, choose};
pub use reader::{SheetChoice, SheetFacts, SheetInfo, SheetReader, Uncomputed, Visibility};
pub(crate) use row::{NumberText, Row, lay_text, letters};
pub(crate) use serial::{Epoch, write_clock};
pub(crate) use shared::{SharedTexts, Strings};
pub use typing::Odd;
pub use typing::Types;
pub(crate) use typing::{ColumnTally, Plan, looks_typed, plan_of};
pub use write::Limits;
pub(crate) use write::{Book, Head, Kept, SheetSink, SpooledColumn, Spooler, declared_look, width};
