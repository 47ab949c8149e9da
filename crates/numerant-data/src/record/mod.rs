//! Records on their way through the engine: batches in one byte arena, and the names of columns.

mod arena;
mod at;
mod batch;
mod build;
mod columns;
mod computed;
mod field;
mod tag;

pub use arena::Arena;
pub use at::{At, Unit};
pub use batch::{
    Batch, Copied, RejectedRecord, Span, Tagging, push_comma_separated, without_returns,
};
pub use build::RecordStart;
pub use columns::{ColumnError, Columns, HeaderNote, nearest};
pub use computed::{Computed, Originals};
pub use field::{Field, holds_any, push_quoted};
pub use tag::{Blank, Tag};
