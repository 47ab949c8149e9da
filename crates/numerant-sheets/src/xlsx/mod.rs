//! Workbooks after ECMA-376 / ISO/IEC 29500 (Office Open XML), `.xlsx` and `.xlsm`.

mod cell_formulas;
mod cell_reference;
mod cell_styles;
mod column_style;
mod edit;
mod fast;
mod formula;
mod parts;
mod print;
mod read;
mod strings;
mod style_table;
mod write;

pub use edit::{
    AssembleOptions, ComputedColumns, ExtractError, Extracted, FillError, PutTable, RowCutter,
    TakenSheet, TemplateProblem, WorkbookCache, WorkbookTemplate, assemble,
};
pub(crate) use parts::{Relations, check_own_parts, office_document};
pub use print::{ComputeError, PrintError, PrintedSheets, print_sheets};
pub use read::XlsxBook;
pub use write::XlsxWriter;

/// Bytes that a part besides sheets and shared texts may take.
const SMALL: u64 = 64 << 20;

/// What the format is called.
pub const NAME: &str = "Office Open XML workbook";
