//! Workbooks: xlsx, xlsb, xls and ods, and the packages that they are.
//!
//! All are read through `numerant_format::sheet`, which makes records of rows. Workbooks that keep their look are
//! copies of packages in which parts are changed (`xlsx::edit`), not workbooks written anew.
//!
//! ```
//! use numerant_format::Format;
//! use numerant_sheets::{XlsFormat, XlsxFormat};
//!
//! let rows = |format: &dyn Format| format.capabilities().workbook.map(|room| room.rows);
//! assert_eq!(rows(&XlsxFormat), Some(1_048_576));
//! assert_eq!(rows(&XlsFormat), Some(65_536));
//! ```

#![cfg_attr(
    not(test),
    warn(
        clippy::cast_possible_truncation,
        clippy::cast_possible_wrap,
        clippy::cast_sign_loss
    )
)]

mod color;
mod format;
pub mod ods;
mod package;
mod repack;
mod source;
mod style_entries;
pub mod xls;
pub mod xlsb;
pub mod xlsx;

pub use format::{OdsFormat, XlsFormat, XlsbFormat, XlsxFormat, refuse_other_packages};
pub use ods::extract as extract_ods;
pub use package::Package;
pub use xlsx::{
    AssembleOptions, ComputeError, ComputedColumns, ExtractError, Extracted, FillError, PrintError,
    PrintedSheets, PutTable, RowCutter, TakenSheet, TemplateProblem, WorkbookCache,
    WorkbookTemplate, assemble, print_sheets,
};
