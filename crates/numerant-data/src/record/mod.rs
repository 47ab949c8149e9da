//! Records on their way through the engine: batches in one byte arena, and the names of columns.

mod arena;
mod batch;
mod columns;
mod field;

pub use arena::Arena;
pub use batch::{At, Batch, Computed, RejectedRecord, Span, Unit, without_returns};
pub use columns::{ColumnError, Columns, HeaderNote, nearest};
pub use field::{CELL_QUOTE, Field, Nothing, holds_any, push_quoted};
