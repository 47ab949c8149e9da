//! Values, records and batches, columns, encodings, and the opening of sources.

pub mod dialect;
pub mod disk;
pub mod encoding;
pub mod record;
pub mod source;
pub mod tree;
pub mod value;
pub mod workers;
