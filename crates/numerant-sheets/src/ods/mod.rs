//! Spreadsheets after ISO/IEC 26300 (OpenDocument), `.ods`, and as one XML file, `.fods`.

mod cell_style;
mod column_style;
mod extract;
mod moments;
mod number_code;
mod number_style;
mod read;
mod rows;
mod styles;
mod write;

pub use extract::extract;
pub use read::OdsBook;
pub use write::OdsWriter;

/// What the format is called.
pub const NAME: &str = "OpenDocument spreadsheet";
