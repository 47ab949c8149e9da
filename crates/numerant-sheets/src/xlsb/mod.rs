//! Binary workbooks in a package after [MS-XLSB], `.xlsb`, which are read and not written.

mod read;

pub use read::XlsbBook;

/// What the format is called.
pub const NAME: &str = "binary Office Open XML workbook";
