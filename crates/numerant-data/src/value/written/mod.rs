//! How people write the numbers and dates of a column: `$49,442.00`, `(1,250)`, `12.5 %`,
//! `9/10/2023`, `5 Mar 26`.
//!
//! A column has a written format if one pattern reads every value of it and writes each again
//! character by character. Where two patterns do so and mean different values, as the months and
//! days of `3/4/2026` and `5/6/2026`, nothing is decided.

mod column;
mod locale;
mod moment;
mod number;
mod tally;

pub use column::{PlainShape, WrittenColumn};
pub use locale::{
    Language, LanguageError, language_of_format, number_of_language, separators_of_format,
};
pub use moment::{DateOrder, MomentPattern};
pub use number::{Negative, NumberPattern};
pub use tally::{Misfit, WrittenFormat, WrittenHints, WrittenOutcome, WrittenTally};
