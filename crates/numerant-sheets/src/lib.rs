//! Workbooks: xlsx, xlsb, xls and ods, and the packages that they are.

mod format;
pub mod ods;
mod package;
mod repack;
mod source;
pub mod xls;
pub mod xlsb;
pub mod xlsx;

pub use format::{OdsFormat, XlsFormat, XlsbFormat, XlsxFormat, refuse_other_packages};
pub use ods::extract as extract_ods;
pub use package::Package;
pub use xlsx::{
    Cutting, ExtractError, Extracted, FillError, Form, FormProblem, PutTable, Shelf, Taken, Ways,
    assemble,
};
