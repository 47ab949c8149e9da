//! What all spreadsheet formats share: rows of cells flattened as records, the types of columns,
//! number formats, dates, and the names of sheets.
//!
//! # Invariants
//!
//! Records of a sheet travel in batches like those of delimited text, in a dialect of their own
//! ([`Dialect::CELLS`]). A field that is tagged as a text was one in its cell, whatever it looks
//! like; a field without that tag is what it looks like. Encoders rely on that to write cells with
//! the types that they had.
//!
//! [`Dialect::CELLS`]: numerant_data::dialect::Dialect::CELLS

mod cell;
mod column_style;
mod display;
mod facts;
mod format_code;
mod name;
mod number_format;
mod print;
mod reader;
mod row;
mod serial;
mod shared;
mod style;
mod typing;
mod write;

pub use cell::{Cell, CellFormat, Class, Look, Precision};
pub use column_style::{
    Alignment, ColumnStyle, HeaderStyle, Horizontal, Rgb, StyledRange, Vertical, hexadecimal,
};
pub use display::DisplayFormat;
pub use facts::{
    CellContent, Oddities, SheetChoice, SheetExtras, SheetFacts, SheetInfo, Uncomputed, Visibility,
    choose,
};
pub use format_code::{FormatPart, sections_of_code};
pub use name::{LONGEST_SHEET_NAME, SheetNames, legal};
pub use number_format::{Moments, Shown, Spelling};
pub use print::{
    Anchor, Border, BorderStroke, CellLook, CellRange, Chart, ChartKind, Drawing, DrawingContent,
    DrawingEnd, FontLook, LeftOutDrawing, PageSetup, PrintAlign, PrintCell, PrintKind, PrintSheet,
    PrintVertical, RowHeight, Series,
};
pub use reader::{Rows, SheetReader, SheetSource, Workbook};
pub use row::{NumberText, Row, RowCell, letters};
pub use serial::{Epoch, write_clock};
pub use shared::{SharedTexts, Strings};
pub use style::{BUILT_IN, CellStyle, CellStyles, NumberFormats};
pub use typing::{ColumnTally, Odd, Plan, Types, looks_typed, plan_of};
pub(crate) use write::declared_look;
pub use write::{
    Head, Heading, Kept, KeptFormat, KeptValue, Limits, SheetSink, SpooledColumn, Spooler,
    WorkbookContent, kept_values, width,
};
