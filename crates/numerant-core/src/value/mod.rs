//! What cells hold: dates and numbers told from text, and the types of whole columns.

mod kind;
mod moment;
mod number;

pub use kind::{Kind, KindTally};
pub use moment::{DateFormat, DateFormatError, Moment};
pub use number::{Number, NumberError};
