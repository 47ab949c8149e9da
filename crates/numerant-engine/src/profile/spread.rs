//! How the numbers, dates and times of a column are spread: the least, the greatest, and how many are where between.

use serde::Serialize;

use numerant_data::value::{Kind, Moment};

/// Classes that are counted.
const CLASSES: usize = 64;

/// Classes of a histogram.
const SHOWN: usize = 16;

/// The width of classes at the beginning, as a power of two.
const FINEST: i32 = -40;

/// More classes could not be distinguished in a chart.
const FARTHEST: f64 = 1e18;

/// Characters of a value.
const LONGEST: usize = 60;

/// How the numbers, dates or times of a column are spread.
#[derive(Clone, Debug, PartialEq, Eq, Serialize)]
#[serde(rename_all = "kebab-case")]
pub struct Range {
    /// The least value, as it is written.
    pub minimum: String,
    /// The greatest value, as it is written.
    pub maximum: String,
    /// Values in classes of equal width from the least to the greatest, at most 16.
    pub histogram: Vec<u64>,
}

/// Counts values in classes whose width doubles whenever one does not fit.
///
/// # Invariants
///
/// Classes in use are fewer than [`CLASSES`] apart, so that the last bits of their numbers tell them apart.
#[derive(Clone, Debug)]
pub(super) struct Spread {
    exponent: i32,
    /// The width of a class, 2 to the exponent.
    width: f64,
    first: i64,
    last: i64,
    counts: [u64; CLASSES],
    least: Option<(f64, String)>,
    greatest: Option<(f64, String)>,
}

impl Default for Spread {
    fn default() -> Self {
        Self {
            exponent: FINEST,
            width: 2f64.powi(FINEST),
            first: 0,
            last: -1,
            counts: [0; CLASSES],
            least: None,
            greatest: None,
        }
    }
}

impl Spread {
    /// Counts a value as it is written.
    pub(super) fn add(&mut self, measure: f64, value: &[u8], count: u64) {
        if !measure.is_finite() {
            return;
        }
        let text = || {
            String::from_utf8_lossy(value)
                .chars()
                .take(LONGEST)
                .collect()
        };
        if self
            .least
            .as_ref()
            .is_none_or(|(least, _)| measure < *least)
        {
            self.least = Some((measure, text()));
        }
        if self
            .greatest
            .as_ref()
            .is_none_or(|(greatest, _)| measure > *greatest)
        {
            self.greatest = Some((measure, text()));
        }
        loop {
            let class = (measure / self.width).floor();
            if class.abs() < FARTHEST {
                let class = class as i64;
                let is_first = self.last < self.first;
                let first = if is_first {
                    class
                } else {
                    self.first.min(class)
                };
                let last = if is_first {
                    class
                } else {
                    self.last.max(class)
                };
                if last - first < CLASSES as i64 {
                    (self.first, self.last) = (first, last);
                    self.counts[slot(class)] += count;
                    return;
                }
            }
            self.widen();
        }
    }

    /// Doubles the width of classes.
    fn widen(&mut self) {
        self.exponent += 1;
        self.width *= 2.0;
        if self.last < self.first {
            return;
        }
        let old = std::mem::replace(&mut self.counts, [0; CLASSES]);
        for class in self.first..=self.last {
            self.counts[slot(class >> 1)] += old[slot(class)];
        }
        self.first >>= 1;
        self.last >>= 1;
    }

    /// What was counted, if anything was. No class is narrower than whole numbers are apart, if all are such.
    pub(super) fn finish(mut self, is_whole: bool) -> Option<Range> {
        while is_whole && self.exponent < 0 {
            self.widen();
        }
        let (least, greatest) = (self.least.as_ref()?, self.greatest.as_ref()?);
        let classes: Vec<u64> = (self.first..=self.last)
            .map(|class| self.counts[slot(class)])
            .collect();
        let in_one = classes.len().div_ceil(SHOWN);
        Some(Range {
            minimum: least.1.clone(),
            maximum: greatest.1.clone(),
            histogram: classes
                .chunks(in_one)
                .map(|chunk| chunk.iter().sum())
                .collect(),
        })
    }
}

/// Where a class is counted.
fn slot(class: i64) -> usize {
    class.rem_euclid(CLASSES as i64) as usize
}

/// What a value that is written plainly is compared by; `None` if it is no number, date or time.
pub(super) fn measure(kind: Kind, value: &[u8]) -> Option<f64> {
    let text = || std::str::from_utf8(value).ok();
    match kind {
        Kind::Integer | Kind::Decimal => text()?.parse().ok(),
        Kind::Date | Kind::Datetime => {
            let (seconds, _) = Moment::parse_iso(value)?.since_year_0();
            Some(seconds as f64)
        }
        Kind::Time => {
            let mut parts = text()?.split(':');
            let mut next = || {
                parts
                    .next()
                    .map_or(Some(0.0), |part| part.parse::<f64>().ok())
            };
            let (hours, minutes, seconds) = (next()?, next()?, next()?);
            Some(hours * 3600.0 + minutes * 60.0 + seconds)
        }
        Kind::Boolean | Kind::Blank | Kind::Text => None,
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn spread(values: impl IntoIterator<Item = f64>) -> Range {
        let mut spread = Spread::default();
        for value in values {
            spread.add(value, value.to_string().as_bytes(), 1);
        }
        spread.finish(false).expect("values")
    }

    #[test]
    fn all_values_are_counted_whatever_they_are() {
        for values in [
            vec![0.0],
            vec![5.0; 100],
            vec![-1e300, 1e300, 0.0, 1e-300],
            (0..1000).map(f64::from).collect(),
            vec![1.1, 1.2, 1.3, 1e6],
        ] {
            let range = spread(values.iter().copied());
            assert_eq!(range.histogram.iter().sum::<u64>(), values.len() as u64);
            assert!(range.histogram.len() <= SHOWN);
        }
    }

    #[test]
    fn even_values_are_spread_evenly() {
        let range = spread((0..1024).map(f64::from));
        assert_eq!(
            (range.minimum.as_str(), range.maximum.as_str()),
            ("0", "1023")
        );
        assert_eq!(range.histogram, [64; 16]);
    }

    #[test]
    fn whole_numbers_have_a_class_each() {
        let mut spread = Spread::default();
        for value in [1, 2, 2, 5] {
            spread.add(f64::from(value), value.to_string().as_bytes(), 1);
        }
        let range = spread.finish(true).expect("values");
        assert_eq!(range.histogram, [1, 2, 0, 0, 1]);
    }

    #[test]
    fn dates_and_times_are_measured() {
        let of = |kind, text: &str| measure(kind, text.as_bytes()).expect("a measure");
        let day = of(Kind::Date, "2026-03-02") - of(Kind::Date, "2026-03-01");
        assert!((day - 86_400.0).abs() < 0.1);
        assert!(of(Kind::Time, "13:30") > of(Kind::Time, "09:59:59"));
        assert_eq!(measure(Kind::Text, b"coal"), None);
    }
}
