//! Binary workbooks after [MS-XLS] in compound files after [MS-CFB], `.xls`: BIFF5 and BIFF8 are
//! read, BIFF8 is written.

mod column_style;
mod read;
mod record;
mod strings;
mod style_table;
mod write;

pub use read::XlsBook;
pub(crate) use read::{error_name, rk};
pub use write::XlsWriter;

/// What the format is called.
pub const NAME: &str = "binary workbook (BIFF)";
