//! What there is to say of a column: its type, how its values are written, which of them do not fit.

mod spread;

use std::hash::{BuildHasher, Hasher};

use hashbrown::HashTable;
use serde::Serialize;

pub use spread::Range;
use spread::{Spread, measure};

use crate::ledger::Ambiguous;
use numerant_data::record::Field;
use numerant_data::value::{
    Kind, KindTally, WrittenColumn, WrittenFormat, WrittenHints, WrittenOutcome,
};

/// Distinct values of a column that are kept with their counts.
const KEPT_VALUES: usize = 10_000;

/// Bytes of a value that is kept.
const LONGEST_VALUE: usize = 200;

/// Values that stand most often.
const MOST_FREQUENT: usize = 10;

/// Characters of an example.
const LONGEST_EXAMPLE: usize = 60;

/// A column over all records.
#[derive(Clone, Debug, Serialize)]
#[serde(rename_all = "kebab-case")]
pub struct ColumnProfile {
    /// The name it goes by.
    pub name: String,
    /// The type of all its values.
    #[serde(rename = "type")]
    pub kind: Kind,
    /// Digits after the point, where all values of a decimal column have as many.
    pub scale: Option<usize>,
    /// How all its values are written, as a number format of ECMA-376; none if they are plain.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub number_format: Option<String>,
    /// The values that keep it from the type of most.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub outliers: Option<Outliers>,
    /// Two ways to read it, of which none was chosen.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub ambiguous: Option<Ambiguous>,
    /// Records in which it is blank.
    pub blanks: u64,
    /// How many values differ; blank is none.
    pub distinct: Distinct,
    /// The first value that is not blank, up to 60 characters of it.
    pub example: Option<String>,
    /// How its values are spread, if they are numbers, dates or times.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub range: Option<Range>,
    /// The values that stand most often, at most ten; none if all differ, or too many do.
    #[serde(skip_serializing_if = "Vec::is_empty")]
    pub most_frequent: Vec<ValueCount>,
}

/// A value and the records that have it.
#[derive(Clone, Debug, PartialEq, Eq, Serialize)]
pub struct ValueCount {
    /// The value; empty if blank.
    pub value: String,
    /// How many records.
    pub records: u64,
}

/// Values of a column that are not of the type of most.
#[derive(Clone, Debug, Serialize)]
#[serde(rename_all = "kebab-case")]
pub struct Outliers {
    /// The type of the others.
    pub most_are: Kind,
    /// How the others are written, as a number format of ECMA-376; none if they are plain.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub number_format: Option<String>,
    /// How many there are.
    pub count: u64,
    /// Values in all, without blanks.
    pub of: u64,
    /// The first of them.
    pub first: String,
    /// Where it stands.
    pub at: u64,
}

/// A number of distinct values.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize)]
#[serde(rename_all = "kebab-case")]
pub enum Distinct {
    /// Just so many.
    Exactly(u64),
    /// More than so many; counting was given up.
    MoreThan(u64),
}

/// A column in the making.
#[derive(Clone, Debug, Default)]
pub(crate) struct Profile {
    kinds: KindTally,
    /// The hash of each distinct value, with its place among them.
    distinct: HashTable<(u128, u32)>,
    /// The distinct values with their counts; nothing once there are too many.
    values: Vec<(Box<[u8]>, u64)>,
    spread: Spread,
    /// Distinct values that are counted.
    most: usize,
    overflowed: bool,
    example: Option<String>,
    /// The first value of each type, and where it stands.
    firsts: [Option<(String, u64)>; Kind::COUNT],
    written: WrittenColumn,
    scratch: Vec<u8>,
}

impl Profile {
    /// A column of which so many distinct values are counted.
    pub(crate) fn new(most: usize) -> Self {
        Self {
            most,
            ..Self::default()
        }
    }

    /// Takes note of a field.
    pub(crate) fn add(&mut self, field: Field<'_>, hints: &WrittenHints, line: impl Fn() -> u64) {
        let mut scratch = std::mem::take(&mut self.scratch);
        self.add_value(field, field.value(&mut scratch), hints, line);
        self.scratch = scratch;
    }

    fn add_value(
        &mut self,
        field: Field<'_>,
        value: &[u8],
        hints: &WrittenHints,
        line: impl Fn() -> u64,
    ) {
        let kind = if field.tag().is_text() {
            self.kinds.add_text()
        } else if field.tag().is_string() {
            self.kinds.add_string(value)
        } else {
            self.kinds.add(value)
        };
        if kind == Kind::Blank {
            return;
        }
        if self.firsts[kind as usize].is_none() {
            let text = String::from_utf8_lossy(value)
                .chars()
                .take(LONGEST_EXAMPLE)
                .collect();
            self.firsts[kind as usize] = Some((text, line()));
        }
        if !field.tag().is_string() && !self.written.is_over() {
            self.written
                .add(value, kind.plain_shape(value), hints, line);
        }
        if self.example.is_none() {
            let text = String::from_utf8_lossy(value);
            self.example = Some(text.chars().take(LONGEST_EXAMPLE).collect());
        }
        if self.most == 0 {
            return;
        }
        if let Some(measure) = measure(kind, value) {
            self.spread.add(measure, value, 1);
        }
        if !self.overflowed {
            self.count(value);
        }
    }

    /// Counts a value among the distinct ones.
    fn count(&mut self, value: &[u8]) {
        let hash = wide_hash(value);
        let known = self.distinct.find(hash as u64, |(known, _)| *known == hash);
        if let Some((_, place)) = known {
            if let Some((_, count)) = self.values.get_mut(*place as usize) {
                *count += 1;
            }
            return;
        }
        let place = self.distinct.len();
        if place == self.most {
            self.overflowed = true;
            self.distinct = HashTable::new();
            self.values = Vec::new();
            return;
        }
        // The places of distinct values are below the most that are counted.
        let entry = (hash, place as u32);
        self.distinct
            .insert_unique(hash as u64, entry, |(known, _)| *known as u64);
        if place < KEPT_VALUES && value.len() <= LONGEST_VALUE && self.values.len() == place {
            self.values.push((value.into(), 1));
        } else {
            self.values = Vec::new();
        }
    }

    /// The values that stand most often.
    fn most_frequent(&self) -> Vec<ValueCount> {
        let mut values: Vec<&(Box<[u8]>, u64)> = self.values.iter().collect();
        values.sort_by(|(one, first), (other, second)| second.cmp(first).then(one.cmp(other)));
        if values.first().is_none_or(|(_, count)| *count == 1) {
            return Vec::new();
        }
        let shown = values.into_iter().take(MOST_FREQUENT);
        shown
            .map(|(value, count)| ValueCount {
                value: String::from_utf8_lossy(value).into_owned(),
                records: *count,
            })
            .collect()
    }

    /// How values that are all written in one way are spread; `None` if not all of them are kept.
    fn written_range(&self, format: &WrittenFormat) -> Option<Range> {
        let mut spread = Spread::default();
        for (value, count) in &self.values {
            let text = std::str::from_utf8(value).ok()?;
            let number = format.value(text).map(|number| number.to_string());
            let measure = match (number, format.moment(text)) {
                (Some(number), _) => number.parse().ok()?,
                (None, Some(moment)) => moment
                    .duration_since(jiff::civil::DateTime::ZERO)
                    .as_secs_f64(),
                (None, None) => return None,
            };
            spread.add(measure, value, *count);
        }
        spread.finish(written_kind(format).0 == Kind::Integer)
    }

    /// The values that are not of the type that most are, if that is a type.
    fn outliers(&self) -> Option<Outliers> {
        let (most_are, fits) = self.kinds.usual();
        let of = self.kinds.values();
        if most_are == Kind::Text || fits * 2 <= of {
            return None;
        }
        let others = self.firsts.iter().enumerate().filter(|(kind, _)| {
            let is_number = |kind| kind == Kind::Integer as usize || kind == Kind::Decimal as usize;
            *kind != most_are as usize && !(is_number(*kind) && is_number(most_are as usize))
        });
        let firsts = others.filter_map(|(_, first)| first.as_ref());
        let (first, at) = firsts.min_by_key(|(_, at)| *at)?.clone();
        Some(Outliers {
            most_are,
            number_format: None,
            count: of - fits,
            of,
            first,
            at,
        })
    }

    pub(crate) fn finish(self, name: &str) -> ColumnProfile {
        let distinct = if self.overflowed {
            Distinct::MoreThan(self.most as u64)
        } else {
            Distinct::Exactly(self.distinct.len() as u64)
        };
        let (mut kind, mut scale) = (self.kinds.kind(), self.kinds.scale());
        let (mut number_format, mut outliers, mut ambiguous) = (None, None, None);
        let is_spread = !matches!(kind, Kind::Text | Kind::Boolean | Kind::Blank);
        let spread = self.spread.clone().finish(kind == Kind::Integer);
        let mut range = spread.filter(|_| is_spread);
        if kind == Kind::Text {
            outliers = self.outliers();
            match self.written.finish() {
                WrittenOutcome::All(format) => {
                    (kind, scale) = written_kind(&format);
                    range = self.written_range(&format);
                    number_format = Some(format.code());
                    outliers = None;
                }
                WrittenOutcome::Most(format, misfit) if outliers.is_none() => {
                    outliers = Some(Outliers {
                        most_are: written_kind(&format).0,
                        number_format: Some(format.code()),
                        count: misfit.count,
                        of: self.kinds.values(),
                        first: misfit.value,
                        at: misfit.line,
                    });
                }
                WrittenOutcome::Ambiguous(one, other) => {
                    ambiguous = Some(Ambiguous::between(&one, &other));
                }
                WrittenOutcome::Most(..) | WrittenOutcome::None => {}
            }
        }
        ColumnProfile {
            name: name.to_owned(),
            kind,
            scale,
            number_format,
            outliers,
            ambiguous,
            blanks: self.kinds.blanks(),
            distinct,
            range,
            most_frequent: self.most_frequent(),
            example: self.example,
        }
    }
}

/// The type of values that are written so, and the digits after the point of numbers.
fn written_kind(format: &WrittenFormat) -> (Kind, Option<usize>) {
    match format {
        WrittenFormat::Number(pattern) if pattern.places == 0 && !pattern.is_percent() => {
            (Kind::Integer, None)
        }
        WrittenFormat::Number(pattern) => (Kind::Decimal, Some(usize::from(pattern.places))),
        WrittenFormat::Moment(pattern) => match (pattern.has_date(), pattern.has_time()) {
            (true, false) => (Kind::Date, None),
            (true, true) => (Kind::Datetime, None),
            (false, _) => (Kind::Time, None),
        },
    }
}

/// 128 bits of hash: among the values of a column no two will ever share one by chance.
pub(super) fn wide_hash(value: &[u8]) -> u128 {
    let half = |seed: u64| {
        let mut hasher = foldhash::quality::FixedState::with_seed(seed).build_hasher();
        hasher.write(value);
        u128::from(hasher.finish())
    };
    half(0x7661_726e) << 64 | half(0x686f_6c6d)
}
