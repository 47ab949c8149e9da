//! How the text of cells is read.

use super::{DateFormat, DecimalMark, Moment, Number, NumberFormat, NumberProblem};

/// How cells of a source are to be read.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct Cells {
    /// What stands before the fraction of a number.
    pub mark: DecimalMark,
    /// How dates are written, where not after ISO 8601.
    pub formats: Vec<DateFormat>,
    /// How numbers are written, where that is stated by an example.
    pub numbers: Option<NumberFormat>,
}

impl Cells {
    /// How computed cells are read: as they were written, dates after ISO 8601.
    #[inline]
    pub fn computed(&self) -> Self {
        Self {
            mark: self.mark,
            formats: Vec::new(),
            numbers: None,
        }
    }

    /// The number that a cell holds.
    ///
    /// # Errors
    ///
    /// [`NumberProblem`] if it holds none.
    #[inline]
    pub fn number(&self, text: &[u8]) -> Result<Number, NumberProblem> {
        let plain = Number::read(text, self.mark);
        match (&self.numbers, plain) {
            (Some(format), Err(_)) => format.read(text),
            (_, plain) => plain,
        }
    }

    /// The date that a cell holds; `None` if it holds none.
    #[inline]
    pub fn moment(&self, text: &[u8]) -> Option<Moment> {
        Moment::parse(text.trim_ascii(), &self.formats)
    }
}
