//! What every other crate speaks of: values with exact decimals, records in batches, columns, trees, encodings,
//! the opening of sources, and the calls that change the file system.
//!
//! A batch keeps its records in one arena of bytes ([`record::Batch`]); nothing is allocated for a record. A source
//! is only ever read ([`source::Input`]), and every call that changes the disk goes through [`disk::Disk`], where
//! tests let it fail.
//!
//! ```
//! use numerant_data::value::Number;
//!
//! let dues = Number::parse(b"10.10").expect("a number");
//! let pilotage = Number::parse(b"2.5").expect("a number");
//! let sum = dues.plus(pilotage).expect("at most 38 digits");
//! assert_eq!(sum.to_string(), "12.60");
//! ```

#![cfg_attr(
    not(test),
    warn(
        clippy::cast_possible_truncation,
        clippy::cast_possible_wrap,
        clippy::cast_sign_loss
    )
)]

pub mod dialect;
pub mod disk;
pub mod encoding;
pub mod narrow;
pub mod record;
pub mod source;
pub mod tree;
pub mod value;
pub mod workers;
