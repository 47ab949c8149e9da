//! What the values of a column were sorted as.

use super::key::Sorted;
use numerant_data::value::{ReadingOption, suggest};

/// Texts that are remembered to find an option that reads them.
const EXAMPLES: usize = 20;

/// A column of which some values were sorted as texts, though others are numbers or dates, or though an
/// option reads them as such.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct SortedAsText {
    /// The column.
    pub column: String,
    /// Values that were sorted as texts.
    pub texts: u64,
    /// Values that are not blank.
    pub values: u64,
    /// The first of those texts.
    pub example: String,
    /// An option that reads the first of them.
    pub option: Option<ReadingOption>,
}

/// Counts what the values of a column are sorted as.
#[derive(Clone, Debug, Default)]
pub(super) struct SortTally {
    typed: u64,
    texts: u64,
    examples: Vec<String>,
}

impl SortTally {
    #[inline]
    pub(super) fn add(&mut self, sorted: &Sorted<'_>) {
        match sorted {
            Sorted::Blank => {}
            Sorted::Number(_) | Sorted::Long(_) | Sorted::Moment(..) => self.typed += 1,
            Sorted::Text(text) => {
                self.texts += 1;
                if self.examples.len() < EXAMPLES {
                    self.examples
                        .push(String::from_utf8_lossy(text).into_owned());
                }
            }
        }
    }

    /// What a user should know of the column.
    pub(super) fn finish(&self, column: &str) -> Option<SortedAsText> {
        let option = suggest(&self.examples.iter().map(String::as_str));
        let is_odd = self.texts > 0 && (self.typed > 0 || option.is_some());
        is_odd.then(|| SortedAsText {
            column: column.to_owned(),
            texts: self.texts,
            values: self.texts + self.typed,
            example: self.examples.first().cloned().unwrap_or_default(),
            option,
        })
    }
}
