//! Binary workbooks after [MS-XLS] in compound files after [MS-CFB], `.xls`: BIFF5 and BIFF8 are
//! read, BIFF8 is written.

mod read;
mod strings;
mod write;

pub(crate) use read::{XlsBook, error_name, rk};
pub(crate) use write::XlsWriter;

/// What the format is called.
pub(super) const NAME: &str = "binary workbook (BIFF)";
