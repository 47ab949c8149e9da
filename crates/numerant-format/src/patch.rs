//! Records of a source that are written with changes.

use super::ControlCharacters;

/// What becomes of the records of a source that are written with changes.
#[derive(Clone, Copy, Debug)]
pub struct Patch<'p> {
    /// The name of the format of the output.
    pub to: &'static str,
    /// The columns of the output.
    pub columns: &'p [PatchColumn],
    /// The names of the columns of the source.
    pub source: &'p [String],
    /// What becomes of characters that the format cannot hold.
    pub policy: ControlCharacters,
}

/// A column of an output whose records are those of the source with changes.
#[derive(Clone, Debug)]
pub struct PatchColumn {
    /// What it is called.
    pub name: String,
    /// Its place in batches.
    pub slot: usize,
    /// What it is called in the source, if it comes from there.
    pub source: Option<String>,
}
