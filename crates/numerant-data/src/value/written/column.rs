//! Follows how the values of a column are written. Of plain values, which most columns have alone, only
//! their shapes are counted: all plain numbers of as many digits fit the same formats.

use super::tally::{WrittenHints, WrittenOutcome, WrittenTally};

/// What a plain value is: what every format makes of it depends on that and on its length alone.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum PlainShape {
    /// A number with so many digits after its point.
    Number(u8),
    /// A date, a date with a time, or a time after ISO 8601.
    Moment,
    /// True or false.
    Boolean,
}

/// The first of all plain values of one shape.
#[derive(Clone, Debug)]
struct Example {
    shape: (PlainShape, usize, bool),
    count: u64,
    value: String,
    line: u64,
}

/// What is known of how the values of a column are written.
#[derive(Clone, Debug, Default)]
pub struct WrittenColumn {
    /// Plain values.
    examples: Vec<Example>,
    /// All others.
    tally: Option<Box<WrittenTally>>,
}

impl WrittenColumn {
    /// Whether the column is given up.
    #[inline]
    pub fn is_over(&self) -> bool {
        self.tally.as_ref().is_some_and(|tally| tally.is_over())
    }

    /// Takes note of a value that is not blank, and of its shape if it is plain; `line` says where it
    /// stands.
    #[inline]
    pub fn add(
        &mut self,
        value: &[u8],
        shape: Option<PlainShape>,
        hints: &WrittenHints,
        line: impl Fn() -> u64,
    ) {
        let Some(shape) = shape else {
            let new = || Box::new(WrittenTally::new(hints.clone()));
            let tally = self.tally.get_or_insert_with(new);
            if let Ok(text) = std::str::from_utf8(value) {
                tally.add(text, line());
            }
            return;
        };
        let shape = (shape, value.len(), value.first() == Some(&b'-'));
        match self.examples.iter_mut().find(|known| known.shape == shape) {
            Some(known) => known.count += 1,
            None => self.examples.push(Example {
                shape,
                count: 1,
                value: String::from_utf8_lossy(value).into_owned(),
                line: line(),
            }),
        }
    }

    /// What came of all values; nothing, if all are plain.
    pub fn finish(&self) -> WrittenOutcome {
        let Some(tally) = &self.tally else {
            return WrittenOutcome::None;
        };
        let mut tally = tally.clone();
        for Example {
            count, value, line, ..
        } in &self.examples
        {
            tally.add_many(value, *line, *count);
        }
        tally.finish()
    }
}
