//! What cells and options hold: dates, numbers and sizes told from text, and the types of whole
//! columns.

mod kind;
mod moment;
mod number;
mod size;

pub use kind::{Kind, KindTally};
pub use moment::{DateFormat, DateFormatError, Moment};
pub use number::{Number, NumberError};
pub use size::{Size, SizeError};
