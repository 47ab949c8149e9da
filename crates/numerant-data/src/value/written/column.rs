//! Follows how the values of a column are written. As long as all are plain numbers, which is so for
//! most columns of numbers, only their lengths are kept.

use super::tally::{WrittenHints, WrittenOutcome, WrittenTally};

/// A value for all plain numbers of as many digits before and behind the point.
#[derive(Clone, Debug)]
struct Example {
    shape: (usize, u8, bool),
    count: u64,
    value: String,
    line: u64,
}

/// What is known of how the values of a column are written.
#[derive(Clone, Debug, Default)]
pub struct WrittenColumn {
    /// Plain numbers, as long as there is nothing else.
    examples: Vec<Example>,
    /// All values, from the first on that is no plain number.
    tally: Option<Box<WrittenTally>>,
}

impl WrittenColumn {
    /// Whether the column is given up.
    #[inline]
    pub fn is_over(&self) -> bool {
        self.tally.as_ref().is_some_and(|tally| tally.is_over())
    }

    /// Takes note of a value that is not blank. `places` are the digits behind the point of a plain
    /// number, `None` for anything else; `line` says where the value stands.
    #[inline]
    pub fn add(
        &mut self,
        value: &[u8],
        places: Option<u8>,
        hints: &WrittenHints,
        line: impl Fn() -> u64,
    ) {
        if let Some(places) = places.filter(|_| self.tally.is_none()) {
            let shape = (value.len(), places, value.first() == Some(&b'-'));
            match self.examples.iter_mut().find(|known| known.shape == shape) {
                Some(known) => known.count += 1,
                None => self.examples.push(Example {
                    shape,
                    count: 1,
                    value: String::from_utf8_lossy(value).into_owned(),
                    line: line(),
                }),
            }
            return;
        }
        let tally = self.tally.get_or_insert_with(|| {
            let mut tally = WrittenTally::new(hints.clone());
            for Example {
                count, value, line, ..
            } in &self.examples
            {
                tally.add_many(value, *line, *count);
            }
            Box::new(tally)
        });
        if let Ok(text) = std::str::from_utf8(value) {
            tally.add(text, line());
        }
    }

    /// What came of all values; nothing, if all are plain.
    pub fn finish(&self) -> WrittenOutcome {
        let tally = self.tally.as_ref();
        tally.map_or(WrittenOutcome::None, |tally| tally.finish())
    }
}
