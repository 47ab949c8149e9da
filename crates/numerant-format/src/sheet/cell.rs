//! What is in cells: their values, and the formats that they are written under.

use numerant_data::narrow::fit;
use std::borrow::Cow;
use std::sync::Arc;

use super::number_format::Spelling;
use numerant_data::value::{Clock, Moment};

/// A cell as it is written.
#[derive(Clone, Debug, PartialEq)]
pub enum Cell<'a> {
    /// Nothing.
    Blank,
    /// Characters.
    Text(&'a str),
    /// A number, as digits with a point.
    Number(Cow<'a, str>, CellFormat),
    /// A moment, as days of the 1900 system, with its text after ISO 8601.
    Moment(f64, Cow<'a, str>, CellFormat),
    /// True or false.
    Boolean(bool, CellFormat),
}

/// The format that a number or a moment is written under.
#[derive(Clone, Debug, PartialEq, Eq, Hash, PartialOrd, Ord)]
pub enum CellFormat {
    /// As it is.
    General,
    /// With so many digits after the point.
    Fixed(u8),
    /// With at least so many digits after the point.
    AtLeast(u8),
    /// A day.
    Date,
    /// A day and a time.
    Datetime {
        /// A `T` is between them.
        letter: bool,
        /// The smallest part that is shown.
        precision: Precision,
    },
    /// A time of day, or a number of hours if they may be more than 23.
    Time {
        /// There may be more than 23 hours.
        elapsed: bool,
        /// The smallest part that is shown.
        precision: Precision,
    },
    /// Text that must not be taken for anything else.
    Text,
    /// True and false, in a spelling.
    Boolean(Spelling),
    /// By a format code.
    Custom(Arc<str>),
}

impl CellFormat {
    /// The format with this code, by its name here if it has one.
    pub fn of_code(code: &Arc<str>) -> Self {
        let zeros = code.strip_prefix("0.").unwrap_or_default();
        let is_fixed = !zeros.is_empty() && zeros.bytes().all(|byte| byte == b'0');
        let precisions = [Precision::Minutes, Precision::Seconds].into_iter();
        let precisions = precisions.chain((1..=3).map(Precision::Fraction));
        let mut moments = [false, true].into_iter().flat_map(|flag| {
            precisions.clone().flat_map(move |precision| {
                [
                    Self::Datetime {
                        letter: flag,
                        precision,
                    },
                    Self::Time {
                        elapsed: flag,
                        precision,
                    },
                ]
            })
        });
        match &**code {
            "" | "General" => Self::General,
            "0" => Self::Fixed(0),
            "yyyy-mm-dd" => Self::Date,
            _ if is_fixed && zeros.len() <= 30 => Self::Fixed(fit(zeros.len())),
            text => moments
                .find(|known| known.code() == text)
                .unwrap_or_else(|| Self::Custom(Arc::clone(code))),
        }
    }
}

/// How precise a time is written.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash, PartialOrd, Ord)]
pub enum Precision {
    /// `14:20`.
    Minutes,
    /// `14:20:05`.
    Seconds,
    /// `14:20:05.250`, with one to three digits.
    Fraction(u8),
}

impl Precision {
    fn code(self) -> &'static str {
        match self {
            Self::Minutes => ":mm",
            Self::Seconds => ":mm:ss",
            Self::Fraction(1) => ":mm:ss.0",
            Self::Fraction(2) => ":mm:ss.00",
            Self::Fraction(_) => ":mm:ss.000",
        }
    }
}

impl CellFormat {
    /// The format code after ECMA-376 Part 1, 18.8.31, which the binary formats share.
    pub fn code(&self) -> String {
        match self {
            Self::General => "General".to_owned(),
            Self::Fixed(0) => "0".to_owned(),
            Self::Fixed(places) => format!("0.{}", "0".repeat(usize::from(*places))),
            Self::AtLeast(places) => {
                let places = usize::from(*places);
                let more = 15_usize.saturating_sub(places);
                format!("0.{}{}", "0".repeat(places), "#".repeat(more))
            }
            Self::Date => "yyyy-mm-dd".to_owned(),
            Self::Datetime { letter, precision } => {
                let between = if *letter { "\"T\"" } else { " " };
                format!("yyyy-mm-dd{between}hh{}", precision.code())
            }
            Self::Time { elapsed, precision } => {
                let hours = if *elapsed { "[hh]" } else { "hh" };
                format!("{hours}{}", precision.code())
            }
            Self::Text => "@".to_owned(),
            Self::Boolean(Spelling::Upper) => "General".to_owned(),
            Self::Boolean(spelling) => spelling.code(),
            Self::Custom(code) => code.to_string(),
        }
    }
}

/// What a value is by itself.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
#[repr(u8)]
pub enum Class {
    /// Nothing.
    Blank,
    /// A text.
    Text,
    /// A whole number.
    Integer,
    /// A number with a fraction.
    Decimal,
    /// A date.
    Date,
    /// A date with a time.
    Datetime,
    /// A time of day.
    Time,
    /// True or false.
    Boolean,
}

impl Class {
    /// How many there are.
    pub(crate) const COUNT: usize = 8;

    /// The class with this number, which must be one.
    pub(crate) fn from_byte(byte: u8) -> Self {
        match byte {
            0 => Self::Blank,
            2 => Self::Integer,
            3 => Self::Decimal,
            4 => Self::Date,
            5 => Self::Datetime,
            6 => Self::Time,
            7 => Self::Boolean,
            _ => Self::Text,
        }
    }

    /// A value of it with its article, for messages.
    pub fn one(self) -> &'static str {
        match self {
            Self::Blank => "a blank",
            Self::Text => "a text",
            Self::Integer => "an integer",
            Self::Decimal => "a number",
            Self::Date => "a date",
            Self::Datetime => "a date with a time",
            Self::Time => "a time",
            Self::Boolean => "true or false",
        }
    }
}

/// A value looked at: its class, and what of its spelling counts.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Look {
    /// The class of its value.
    pub class: Class,
    /// Digits after the point of a decimal.
    pub(crate) scale: u8,
    /// The last of them is a zero.
    pub(crate) padded: bool,
    /// The format of a moment.
    pub(crate) format: CellFormat,
}

impl Look {
    const fn of_class(class: Class) -> Self {
        Self {
            class,
            scale: 0,
            padded: false,
            format: CellFormat::General,
        }
    }

    pub(crate) const BLANK: Self = Self::of_class(Class::Blank);
    pub(crate) const TEXT: Self = Self::of_class(Class::Text);

    /// Looks at a text of a format that has no dates, which may be one.
    pub(crate) fn of_string(value: &[u8]) -> Self {
        let look = Self::at(value, true);
        match look.class {
            Class::Integer | Class::Decimal | Class::Boolean => Self::TEXT,
            _ => look,
        }
    }

    /// Looks at a value. What would not come back from a cell just as it is written is text.
    ///
    /// `stored` says that the value was a number in a cell, so that one of more than 15 digits is no
    /// identifier.
    pub fn at(value: &[u8], stored: bool) -> Self {
        match *value {
            [] => Self::BLANK,
            [b'0'..=b'9', b'0'..=b'9', b'0'..=b'9', b'0'..=b'9', b'-', ..] => date(value),
            [b'0'..=b'9', b'0'..=b'9', b':', ..] => time(value),
            [b'0'..=b'9' | b'-', ..] => {
                let found = number(value, stored);
                if found.class == Class::Text && value.contains(&b':') {
                    return time(value);
                }
                found
            }
            [b't' | b'f' | b'T' | b'F', ..] => {
                let spelled = |known: &Spelling| {
                    value == known.word(true).as_bytes() || value == known.word(false).as_bytes()
                };
                match Spelling::ALL.into_iter().find(spelled) {
                    Some(spelling) => Self {
                        format: CellFormat::Boolean(spelling),
                        ..Self::of_class(Class::Boolean)
                    },
                    None => Self::TEXT,
                }
            }
            _ => Self::TEXT,
        }
    }
}

/// Digits that every double holds.
const SAFE_DIGITS: usize = 15;

/// The most digits after a point that a format can ask for.
const MOST_PLACES: usize = 30;

fn number(value: &[u8], stored: bool) -> Look {
    let digits = value.strip_prefix(b"-").unwrap_or(value);
    let mut point = None;
    for (place, byte) in digits.iter().enumerate() {
        match byte {
            b'0'..=b'9' => {}
            b'.' if point.is_none() => point = Some(place),
            _ => return Look::TEXT,
        }
    }
    let (whole, fraction) = match point {
        Some(point) => (&digits[..point], &digits[point + 1..]),
        None => (digits, &[][..]),
    };
    let well_formed = !whole.is_empty()
        && (whole.len() == 1 || whole[0] != b'0')
        && (point.is_none() || !fraction.is_empty())
        && fraction.len() <= MOST_PLACES;
    if !well_formed {
        return Look::TEXT;
    }
    let not_zero = |byte: &u8| matches!(byte, b'1'..=b'9');
    let Some(first) = digits.iter().position(not_zero) else {
        // A minus before zero would be lost.
        if digits.len() < value.len() {
            return Look::TEXT;
        }
        return numeric(fraction);
    };
    let last = digits.iter().rposition(not_zero).unwrap_or(first);
    let end = match point {
        Some(_) => last + 1,
        None => digits.len(),
    };
    let significant = end - first - usize::from(point.is_some_and(|at| first < at && at < end));
    let exact = significant <= SAFE_DIGITS
        || ((stored || point.is_some()) && significant <= 40 && is_shortest(value));
    if exact { numeric(fraction) } else { Look::TEXT }
}

fn numeric(fraction: &[u8]) -> Look {
    Look {
        class: if fraction.is_empty() {
            Class::Integer
        } else {
            Class::Decimal
        },
        scale: fit(fraction.len().min(MOST_PLACES)),
        padded: fraction.last() == Some(&b'0'),
        format: CellFormat::General,
    }
}

/// Whether a number is what the double nearest to it is written as, but for zeros at its end.
fn is_shortest(value: &[u8]) -> bool {
    let Ok(text) = std::str::from_utf8(value) else {
        return false;
    };
    let Ok(double) = text.parse::<f64>() else {
        return false;
    };
    let trimmed = if text.contains('.') {
        text.trim_end_matches('0').trim_end_matches('.')
    } else {
        text
    };
    double.to_string() == trimmed
}

/// The day of the 1900 system that `2026-03-05` is.
fn day_of(value: &[u8]) -> Option<i64> {
    // The basic form, without hyphens, would not come back.
    let moment = Moment::parse_iso(value).filter(|_| value.len() == 10)?;
    super::serial::day(moment.date)
}

/// Milliseconds of a time of day or a number of hours, and how precise it is written.
fn parse_time(value: &[u8]) -> Option<(i64, Precision)> {
    let hours = memchr::memchr(b':', value)?;
    // A zero in front of three digits or more, and more than milliseconds, would not come back.
    if hours > 7 || (hours > 2 && value[0] == b'0') {
        return None;
    }
    let clock = Clock::parse(value)?;
    let precision = match clock.places {
        None => Precision::Minutes,
        Some(0) => Precision::Seconds,
        Some(places @ 1..=3) => Precision::Fraction(places),
        Some(_) => return None,
    };
    Some((clock.milliseconds, precision))
}

const DAY: i64 = 86_400_000;

fn date(value: &[u8]) -> Look {
    if value.len() < 10 {
        return Look::TEXT;
    }
    let (day, rest) = value.split_at(10);
    if day_of(day).is_none() {
        return Look::TEXT;
    }
    let moment = |class, format| Look {
        format,
        ..Look::of_class(class)
    };
    match *rest {
        [] => moment(Class::Date, CellFormat::Date),
        [between @ (b' ' | b'T'), ref time @ ..] => match parse_time(time) {
            Some((milliseconds, precision)) if milliseconds < DAY => {
                let letter = between == b'T';
                moment(Class::Datetime, CellFormat::Datetime { letter, precision })
            }
            _ => Look::TEXT,
        },
        _ => Look::TEXT,
    }
}

fn time(value: &[u8]) -> Look {
    match parse_time(value) {
        Some((milliseconds, precision)) => Look {
            format: CellFormat::Time {
                elapsed: milliseconds >= DAY,
                precision,
            },
            ..Look::of_class(Class::Time)
        },
        None => Look::TEXT,
    }
}

/// The days of the 1900 system that a moment is, which [`Look::at`] has found to be one.
pub(crate) fn serial_of(value: &[u8]) -> Option<f64> {
    if value.get(4) != Some(&b'-') {
        return parse_time(value).map(|(milliseconds, _)| milliseconds as f64 / DAY as f64);
    }
    let (day, rest) = value.split_at_checked(10)?;
    let day = day_of(day)? as f64;
    match rest {
        [] => Some(day),
        [_, time @ ..] => {
            let (milliseconds, _) = parse_time(time)?;
            Some(day + milliseconds as f64 / DAY as f64)
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn what_would_not_come_back_is_text() {
        for (value, class) in [
            ("", Class::Blank),
            ("0", Class::Integer),
            ("-17", Class::Integer),
            ("007", Class::Text),
            ("-0", Class::Text),
            ("-0.00", Class::Text),
            ("0.00", Class::Decimal),
            ("+1", Class::Text),
            ("1E5", Class::Text),
            (".5", Class::Text),
            ("5.", Class::Text),
            ("123456789012345", Class::Integer),
            ("1234567890123456", Class::Text),
            ("100000000000000000000", Class::Text),
            ("0.1", Class::Decimal),
            ("0.30000000000000004", Class::Decimal),
            ("0.30000000000000003", Class::Text),
            ("12345678901234.50", Class::Decimal),
            ("1.10", Class::Decimal),
            ("1,5", Class::Text),
            ("2026-03-05", Class::Date),
            ("2026-02-30", Class::Text),
            ("1899-12-31", Class::Text),
            ("2026-03-05 14:20", Class::Datetime),
            ("2026-03-05T14:20:05.25", Class::Datetime),
            ("2026-03-05 24:00", Class::Text),
            ("2026-03-05T14:20Z", Class::Text),
            ("14:20", Class::Time),
            ("26:30:00", Class::Time),
            ("120:00", Class::Time),
            ("012:00", Class::Text),
            ("9:15", Class::Text),
            ("14:60", Class::Text),
            ("true", Class::Boolean),
            ("TRUE", Class::Boolean),
            ("tRUE", Class::Text),
            ("=1+1", Class::Text),
            ("3-4", Class::Text),
            (" 1", Class::Text),
        ] {
            assert_eq!(Look::at(value.as_bytes(), false).class, class, "{value:?}");
        }
        assert_eq!(Look::at(b"1234567890123456", true).class, Class::Integer);
        assert_eq!(
            Look::at(b"100000000000000000000", true).class,
            Class::Integer
        );
    }

    #[test]
    fn formats_read_as_the_values_they_are_for() {
        use super::super::{
            Shown,
            serial::{Epoch, write_moment},
        };
        for value in [
            "2026-03-05",
            "2026-03-05 14:20",
            "2026-03-05 00:00",
            "2026-03-05T14:20:05",
            "2026-03-05 14:20:00.250",
            "14:20",
            "00:00:00.5",
            "26:30:00",
            "120:00",
        ] {
            let look = Look::at(value.as_bytes(), false);
            let Shown::Moment(shown) = Shown::of(&look.format.code()) else {
                panic!("{value}");
            };
            let serial = serial_of(value.as_bytes()).expect("a moment");
            let mut out = Vec::new();
            assert!(write_moment(serial, Epoch::Year1900, shown, &mut out));
            assert_eq!(String::from_utf8(out).expect("ASCII"), value);
        }
    }
}
