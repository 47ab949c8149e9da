//! Records on their way through the engine: batches in one byte arena, and the names of columns.

mod arena;
mod batch;
mod columns;

pub(crate) use arena::Arena;
pub use batch::{At, Batch, Field, RejectedRecord, Unit};
pub(crate) use batch::{CELL_QUOTE, Nothing, holds_any};
pub(crate) use batch::{Computed, Span, push_quoted};
pub(crate) use columns::nearest;
pub use columns::{ColumnError, Columns, HeaderNote};
