//! Binary workbooks in a package after [MS-XLSB], `.xlsb`, which are read and not written.

#![deny(
    clippy::cast_possible_truncation,
    clippy::cast_possible_wrap,
    clippy::cast_sign_loss
)]

mod read;

pub use read::XlsbBook;

/// What the format is called.
pub const NAME: &str = "binary Office Open XML workbook";
