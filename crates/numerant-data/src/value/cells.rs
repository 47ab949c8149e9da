//! How the text of cells is read.

use std::sync::Arc;

use super::{DateFormat, DecimalMark, Moment, Number, NumberFormat, NumberProblem, WrittenFormat};

/// How cells of a source are to be read.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct Cells {
    /// What is before the fraction of a number.
    pub mark: DecimalMark,
    /// How dates are written, where not after ISO 8601.
    pub formats: Vec<DateFormat>,
    /// How numbers are written, where that is stated by an example.
    pub numbers: Option<NumberFormat>,
    /// How the values of columns are written, by their places in batches; of most it is not known.
    pub columns: Arc<[Option<WrittenFormat>]>,
}

impl Cells {
    /// How computed cells are read: as they were written, dates after ISO 8601.
    #[inline]
    pub fn computed(&self) -> Self {
        Self {
            mark: self.mark,
            formats: Vec::new(),
            numbers: None,
            columns: Arc::default(),
        }
    }

    /// How the values of a column are written, if that was detected.
    #[inline]
    pub fn written(&self, slot: usize) -> Option<&WrittenFormat> {
        self.columns.get(slot)?.as_ref()
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

    /// The number that a cell of a column holds, which is written as its column is.
    ///
    /// # Errors
    ///
    /// [`NumberProblem`] if it holds none.
    #[inline]
    pub fn number_of(&self, slot: usize, text: &[u8]) -> Result<Number, NumberProblem> {
        let Some(WrittenFormat::Number(pattern)) = self.written(slot) else {
            return self.number(text);
        };
        let written = std::str::from_utf8(text).ok();
        match written.and_then(|text| pattern.value(text.trim_ascii())) {
            Some(number) => Ok(number),
            // What another number has for a group could be its mark.
            None if text.iter().any(|byte| matches!(byte, b'.' | b',')) => Err(NumberProblem::Not),
            None => self.number(text),
        }
    }

    /// The date that a cell holds; `None` if it holds none.
    #[inline]
    pub fn moment(&self, text: &[u8]) -> Option<Moment> {
        Moment::parse(text.trim_ascii(), &self.formats)
    }

    /// The date that a cell of a column holds, which is written as its column is; `None` if it holds
    /// none.
    #[inline]
    pub fn moment_of(&self, slot: usize, text: &[u8]) -> Option<Moment> {
        let Some(WrittenFormat::Moment(pattern)) = self.written(slot) else {
            return self.moment(text);
        };
        let written = std::str::from_utf8(text).ok()?;
        let moment = pattern.read(written.trim_ascii());
        match moment.filter(|_| pattern.has_date()) {
            Some(moment) => Some(Moment {
                date: moment.date(),
                time: pattern.has_time().then(|| moment.time()),
                offset: None,
            }),
            // Day and month could be taken for each other in anything else.
            None if self.formats.is_empty() => Moment::parse_iso(text.trim_ascii()),
            None => self.moment(text),
        }
    }
}
