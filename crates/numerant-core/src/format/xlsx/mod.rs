//! Workbooks after ECMA-376 / ISO/IEC 29500 (Office Open XML), `.xlsx` and `.xlsm`.

mod edit;
mod fast;
mod formula;
mod parts;
mod place;
mod read;
mod strings;
mod write;

pub(crate) use edit::{
    Cutting, ExtractError, FillError, Form, PutTable, Shelf, Taken, Ways, assemble,
};
pub use edit::{Extracted, FormProblem};
pub(crate) use parts::{Relations, check_own_parts, office_document};
pub(crate) use read::XlsxBook;
pub(crate) use write::XlsxWriter;

/// What the format is called.
pub(super) const NAME: &str = "Office Open XML workbook";
