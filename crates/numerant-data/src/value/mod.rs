//! What cells and options hold: dates, numbers and sizes parsed from text, and the types of whole
//! columns.

mod arithmetic;
mod cells;
mod column_type;
mod currency;
mod decimal;
mod kind;
mod moment;
mod number;
mod number_format;
mod size;
mod suggest;
pub mod swar;
mod written;

pub use arithmetic::{ArithmeticError, QUOTIENT_SCALE, Rounding};
pub use cells::Cells;
pub use column_type::{ColumnType, ColumnTypeError};
pub use decimal::LongDecimal;
pub use kind::{Kind, KindTally};
pub use moment::{Clock, DateFormat, DateFormatError, Moment};
pub use number::{DecimalMark, Number, NumberError, NumberProblem, grouped};
pub use number_format::{NumberFormat, NumberFormatError};
pub use size::{Size, SizeError};
pub use suggest::{ReadingOption, suggest};
pub use written::{
    DateOrder, Language, LanguageError, Misfit, MomentPattern, Negative, NumberPattern, PlainShape,
    WrittenColumn, WrittenFormat, WrittenHints, WrittenOutcome, WrittenTally, language_of_format,
    number_of_language, separators_of_format,
};
