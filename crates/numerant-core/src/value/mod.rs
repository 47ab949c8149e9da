//! What cells and options hold: dates, numbers and sizes told from text, and the types of whole
//! columns.

mod arithmetic;
mod cells;
mod column_type;
pub(crate) mod eight;
mod kind;
mod moment;
mod number;
mod size;

pub use arithmetic::{ArithmeticError, QUOTIENT_SCALE, Rounding};
pub use cells::Cells;
pub use column_type::{ColumnType, ColumnTypeError};
pub use kind::{Kind, KindTally};
pub(crate) use moment::Clock;
pub use moment::{DateFormat, DateFormatError, Moment};
pub use number::{DecimalMark, Number, NumberError, NumberProblem};
pub use size::{Size, SizeError};
