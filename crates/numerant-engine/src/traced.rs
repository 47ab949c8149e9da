//! Records traced from an output to their source.

use numerant_data::record::At;

/// Where a record was written.
#[derive(Clone, Copy, Debug)]
pub(super) struct Traced {
    /// The byte after it in its output.
    pub(super) end: u64,
    /// Its source, by its number among those that were read.
    pub(super) source: u32,
    /// Where it is in that.
    pub(super) at: At,
}
