//! Records on their way through the engine: batches in one byte arena, and the names of columns.

mod arena;
mod batch;
mod columns;
mod field;

pub(crate) use arena::Arena;
pub use batch::{At, Batch, RejectedRecord, Unit};
pub(crate) use batch::{Computed, Span, without_returns};
pub(crate) use columns::nearest;
pub use columns::{ColumnError, Columns, HeaderNote};
pub use field::Field;
pub(crate) use field::{CELL_QUOTE, Nothing, holds_any, push_quoted};
