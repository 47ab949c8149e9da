//! `tidy`: white space at the sides of values goes, and so do records and columns without any
//! value.

use serde::Serialize;

use numerant_data::record::{Batch, Field, Tag, without_returns};

/// What was tidied.
#[derive(Clone, Debug, Default, PartialEq, Eq, Serialize)]
#[serde(rename_all = "kebab-case")]
pub struct TidyTally {
    /// Values that had white space at their sides.
    pub values: u64,
    /// Names of columns without any value, which are left out.
    pub columns: Vec<String>,
}

impl TidyTally {
    /// Whether there was nothing to tidy.
    pub fn is_empty(&self) -> bool {
        self.values == 0 && self.columns.is_empty()
    }
}

#[derive(Clone, Debug, Default)]
pub(super) struct Tidy {
    pub(super) tally: TidyTally,
}

impl Tidy {
    /// Trims the values of a batch and marks the records without any.
    pub(super) fn apply(&mut self, batch: &mut Batch, left_out: &mut [bool]) {
        let width = batch.width();
        for (record, left_out) in left_out.iter_mut().enumerate() {
            let mut padded = 0;
            let mut blank = true;
            let mut start = batch.bounds(record).0;
            for (column, end) in batch.ends_of(record).iter().enumerate() {
                let end = *end as usize;
                let mut raw = &batch.bytes[start..end];
                start = end + 1;
                if column + 1 == width && batch.carriage_returns {
                    raw = without_returns(raw);
                }
                let (Some(first), Some(last)) = (raw.first(), raw.last()) else {
                    continue;
                };
                // Most values begin and end with a sign, and none of them is a quote.
                if is_sign(*first) && is_sign(*last) && batch.quote != Some(*first) {
                    blank = false;
                    continue;
                }
                let value = Field::new(raw, batch.quote).text();
                let left = trimmed(&value);
                padded += u64::from(left.len() < value.len());
                blank &= left.is_empty();
            }
            if padded > 0 {
                self.tally.values += padded;
                let values: Vec<(Vec<u8>, Tag)> = (0..width)
                    .map(|column| {
                        let field = batch.field(record, column);
                        (trimmed(&field.text()).to_vec(), field.tag())
                    })
                    .collect();
                let line_end = batch.line_end(record).to_vec();
                batch.replace_record(record, &values, &line_end);
            }
            *left_out = blank;
        }
    }
}

/// Whether a byte is a character of ASCII that is seen.
#[inline]
fn is_sign(byte: u8) -> bool {
    byte.is_ascii_graphic()
}

/// A text without the white space at its sides, that of Unicode among it.
fn trimmed(text: &[u8]) -> &[u8] {
    let plain = |byte: Option<&u8>| byte.is_none_or(|byte| is_sign(*byte));
    if plain(text.first()) && plain(text.last()) {
        return text;
    }
    std::str::from_utf8(text).map_or(text, |text| text.trim().as_bytes())
}

/// Finds the columns that have no value in any record.
#[derive(Clone, Debug)]
pub struct BlankColumns {
    left: Vec<usize>,
}

impl BlankColumns {
    /// All of `width` columns may be blank yet.
    pub fn new(width: usize) -> Self {
        Self {
            left: (0..width).collect(),
        }
    }

    /// Looks at a batch; `false` when no column can be blank any more.
    pub fn look(&mut self, batch: &Batch) -> bool {
        for record in 0..batch.len() {
            if self.left.is_empty() {
                break;
            }
            self.left
                .retain(|column| trimmed(&batch.field(record, *column).text()).is_empty());
        }
        !self.left.is_empty()
    }

    /// The places of the columns without any value.
    pub fn into_places(self) -> Vec<usize> {
        self.left
    }
}
