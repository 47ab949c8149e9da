//! How the text of cells is read.

use super::{DateFormat, DecimalMark};

/// How cells of a source are to be read.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct Cells {
    /// What stands before the fraction of a number.
    pub mark: DecimalMark,
    /// How dates are written, where not after ISO 8601.
    pub formats: Vec<DateFormat>,
}

impl Cells {
    /// How computed cells are read: as they were written, dates after ISO 8601.
    pub fn computed(&self) -> Self {
        Self {
            mark: self.mark,
            formats: Vec::new(),
        }
    }
}
