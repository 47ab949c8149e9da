//! Spreadsheets after ISO/IEC 26300 (OpenDocument), `.ods`, and as one XML file, `.fods`.

mod extract;
mod read;
mod styles;
mod write;

pub(crate) use extract::extract;
pub(crate) use read::OdsBook;
pub(crate) use write::OdsWriter;

/// What the format is called.
pub(super) const NAME: &str = "OpenDocument spreadsheet";
