//! The type of a whole column, decided from every value in it and never from a sample.

use serde::Serialize;

use super::moment::{Clock, Moment};
use super::written::PlainShape;

/// The type of a column's values. A value counts as a number or a date only where it would come
/// back exactly as it is written: `007`, `1E5` and `+1` are text.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize)]
#[serde(rename_all = "kebab-case")]
pub enum Kind {
    /// No value at all.
    Blank,
    /// Whole numbers of up to 18 digits.
    Integer,
    /// Numbers with digits after a point, up to 18 in all.
    Decimal,
    /// Days as ISO 8601 writes them.
    Date,
    /// Days with a time.
    Datetime,
    /// Times of day, and hours that may be more than 23.
    Time,
    /// `true` or `false`, in one spelling.
    Boolean,
    /// Anything else.
    Text,
}

impl Kind {
    /// How many there are.
    pub const COUNT: usize = 8;

    /// Its name as people read it.
    pub fn name(self) -> &'static str {
        match self {
            Self::Blank => "blank",
            Self::Integer => "integer",
            Self::Decimal => "decimal",
            Self::Date => "date",
            Self::Datetime => "datetime",
            Self::Time => "time",
            Self::Boolean => "boolean",
            Self::Text => "text",
        }
    }

    /// The shape of a value of this type, if that is plain.
    #[inline]
    pub fn plain_shape(self, value: &[u8]) -> Option<PlainShape> {
        match self {
            Self::Integer => Some(PlainShape::Number(0)),
            Self::Decimal => {
                let point = memchr::memrchr(b'.', value)?;
                let places = u8::try_from(value.len() - point - 1).ok()?;
                Some(PlainShape::Number(places))
            }
            Self::Date | Self::Datetime | Self::Time => Some(PlainShape::Moment),
            Self::Boolean => Some(PlainShape::Boolean),
            Self::Blank | Self::Text => None,
        }
    }

    /// The type of a single value.
    pub fn of(value: &[u8]) -> Self {
        let Some(&first) = value.first() else {
            return Self::Blank;
        };
        match first {
            b'0'..=b'9' if value.get(4) == Some(&b'-') => match Moment::parse_iso(value) {
                Some(Moment { time: None, .. }) => Self::Date,
                Some(_) => Self::Datetime,
                None => Self::Text,
            },
            b'0'..=b'9' if Clock::parse(value).is_some() => Self::Time,
            b'0'..=b'9' | b'-' => number_kind(value),
            b't' | b'f' | b'T' | b'F' => match value {
                b"true" | b"false" | b"True" | b"False" | b"TRUE" | b"FALSE" => Self::Boolean,
                _ => Self::Text,
            },
            _ => Self::Text,
        }
    }
}

fn number_kind(value: &[u8]) -> Kind {
    let digits = value.strip_prefix(b"-").unwrap_or(value);
    let point = memchr::memchr(b'.', digits);
    let (whole, fraction) = match point {
        Some(point) => (&digits[..point], Some(&digits[point + 1..])),
        None => (digits, None),
    };
    let all_digits = |text: &[u8]| !text.is_empty() && text.iter().all(u8::is_ascii_digit);
    let exact = all_digits(whole)
        && (whole.len() == 1 || whole[0] != b'0')
        && digits.len() <= 18
        && value != b"-0";
    match fraction {
        None if exact => Kind::Integer,
        Some(fraction) if exact && all_digits(fraction) => Kind::Decimal,
        _ => Kind::Text,
    }
}

/// Counts the types of a column's values as they pass.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct KindTally {
    counts: [u64; Kind::COUNT],
    scale: Option<usize>,
    scales_differ: bool,
}

impl KindTally {
    /// Takes note of one value and returns its own type.
    pub fn add(&mut self, value: &[u8]) -> Kind {
        let kind = Kind::of(value);
        self.counts[kind as usize] += 1;
        if kind == Kind::Decimal {
            let scale = memchr::memrchr(b'.', value).map_or(0, |point| value.len() - point - 1);
            self.scales_differ |= *self.scale.get_or_insert(scale) != scale;
        }
        kind
    }

    /// Takes note of a text of a format that has no dates, which may be one, and returns its type.
    pub fn add_string(&mut self, value: &[u8]) -> Kind {
        let kind = match Kind::of(value) {
            kind @ (Kind::Date | Kind::Datetime | Kind::Time | Kind::Blank) => kind,
            _ => Kind::Text,
        };
        self.counts[kind as usize] += 1;
        kind
    }

    /// Takes note of a value that is text, whatever it looks like.
    pub fn add_text(&mut self) -> Kind {
        self.counts[Kind::Text as usize] += 1;
        Kind::Text
    }

    /// How many values were not blank.
    pub fn values(&self) -> u64 {
        self.counts.iter().sum::<u64>() - self.blanks()
    }

    /// The type that most values have, and how many; whole numbers and decimals are taken together.
    pub fn usual(&self) -> (Kind, u64) {
        let numbers = self.counts[Kind::Integer as usize] + self.counts[Kind::Decimal as usize];
        let number = if self.counts[Kind::Decimal as usize] > 0 {
            Kind::Decimal
        } else {
            Kind::Integer
        };
        let others = [
            Kind::Date,
            Kind::Datetime,
            Kind::Time,
            Kind::Boolean,
            Kind::Text,
        ];
        let counted = others
            .into_iter()
            .map(|kind| (kind, self.counts[kind as usize]));
        let all = std::iter::once((number, numbers)).chain(counted);
        all.max_by_key(|(_, count)| *count)
            .unwrap_or((Kind::Text, 0))
    }

    /// How many values were blank.
    pub fn blanks(&self) -> u64 {
        self.counts[Kind::Blank as usize]
    }

    /// The type that every value has which is not blank; whole numbers among decimals are
    /// decimals, and what has no type in common is text.
    pub fn kind(&self) -> Kind {
        let count = |kind: Kind| self.counts[kind as usize];
        let values: u64 = self.counts.iter().sum::<u64>() - self.blanks();
        if values == 0 {
            return Kind::Blank;
        }
        for kind in [
            Kind::Integer,
            Kind::Date,
            Kind::Datetime,
            Kind::Time,
            Kind::Boolean,
        ] {
            if count(kind) == values {
                return kind;
            }
        }
        if count(Kind::Integer) + count(Kind::Decimal) == values {
            Kind::Decimal
        } else {
            Kind::Text
        }
    }

    /// The digits after the point, where all values of a decimal column have as many.
    pub fn scale(&self) -> Option<usize> {
        let uniform = self.kind() == Kind::Decimal
            && !self.scales_differ
            && self.counts[Kind::Integer as usize] == 0;
        self.scale.filter(|_| uniform)
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn types_of_values() {
        for (value, kind) in [
            ("", Kind::Blank),
            ("0", Kind::Integer),
            ("-17", Kind::Integer),
            ("007", Kind::Text),
            ("-0", Kind::Text),
            ("+1", Kind::Text),
            ("1E5", Kind::Text),
            ("1234567890123456789", Kind::Text),
            ("1.10", Kind::Decimal),
            ("1.", Kind::Text),
            ("1,5", Kind::Text),
            ("2026-03-05", Kind::Date),
            ("2026-02-30", Kind::Text),
            ("2026-03-05 14:20", Kind::Datetime),
            ("14:20", Kind::Time),
            ("120:00:00.5", Kind::Time),
            ("14:60", Kind::Text),
            ("1:25000", Kind::Text),
            ("TRUE", Kind::Boolean),
            ("truely", Kind::Text),
            (" 1", Kind::Text),
            ("3-4", Kind::Text),
        ] {
            assert_eq!(Kind::of(value.as_bytes()), kind, "{value:?}");
        }
    }

    #[test]
    fn types_of_columns() {
        let tally = |values: &[&str]| {
            let mut tally = KindTally::default();
            for value in values {
                tally.add(value.as_bytes());
            }
            (tally.kind(), tally.scale(), tally.blanks())
        };
        assert_eq!(tally(&["1", "", "2"]), (Kind::Integer, None, 1));
        assert_eq!(tally(&["1.50", "2.00"]), (Kind::Decimal, Some(2), 0));
        assert_eq!(tally(&["1.50", "2"]), (Kind::Decimal, None, 0));
        assert_eq!(tally(&["1", "x"]), (Kind::Text, None, 0));
        assert_eq!(
            tally(&["2026-03-05", "2026-03-05 10:00"]),
            (Kind::Text, None, 0)
        );
        assert_eq!(tally(&["", ""]), (Kind::Blank, None, 2));
    }
}
