//! Workbooks: xlsx, xlsb, xls and ods, and the packages that they are.

pub mod ods;
mod package;
mod repack;
pub mod xls;
pub mod xlsb;
pub mod xlsx;

pub use ods::extract as extract_ods;
pub use package::Package;
pub use xlsx::{
    Cutting, ExtractError, Extracted, FillError, Form, FormProblem, PutTable, Shelf, Taken, Ways,
    assemble,
};
