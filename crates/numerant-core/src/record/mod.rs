//! Records on their way through the engine: batches in one byte arena, and the names of columns.

mod batch;
mod columns;

pub(crate) use batch::{Computed, Span, push_quoted};
pub use batch::{Batch, Field, RejectedRecord};
pub(crate) use columns::nearest;
pub use columns::{ColumnError, Columns, HeaderNote};
