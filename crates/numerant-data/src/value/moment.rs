//! Dates and times of day as they are in cells.

use jiff::civil::{Date, DateTime, Time};
use serde::{Deserialize, Serialize};

use super::written::DateOrder;

/// A date, with a time of day and an offset from UTC where the text has them. The day and the hour
/// are those that are written.
///
/// # Order
///
/// Two moments with offsets are in the order of time. Where one of them has none, nobody can say when
/// it was, and both are compared as they are written.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct Moment {
    /// The day.
    pub date: Date,
    /// The time of day.
    pub time: Option<Time>,
    /// Seconds east of UTC.
    pub offset: Option<i32>,
}

/// How dates are written where they are not written after ISO 8601, such as `%d/%m/%Y`.
///
/// The signs are those of `strftime`; see the `jiff` documentation for the whole list.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize, schemars::JsonSchema)]
#[serde(try_from = "String", into = "String")]
pub struct DateFormat(String);

/// A date format that holds no date, or signs that mean nothing.
#[derive(Clone, Debug, PartialEq, Eq, thiserror::Error)]
#[error("'{format}' is not a date format: {reason}; write one such as %d/%m/%Y or %d.%m.%Y %H:%M")]
pub struct DateFormatError {
    /// The format.
    pub format: String,
    /// What is wrong with it.
    pub reason: String,
}

impl std::str::FromStr for DateFormat {
    type Err = DateFormatError;

    fn from_str(format: &str) -> Result<Self, Self::Err> {
        let failed = |reason: String| DateFormatError {
            format: format.to_owned(),
            reason,
        };
        let sample = Date::constant(2026, 10, 23).at(21, 45, 56, 0);
        let written = jiff::fmt::strtime::format(format, sample)
            .map_err(|error| failed(error.to_string()))?;
        let parsed = Self(format.to_owned());
        match parsed.parse_text(&written) {
            Some(moment) if moment.date == sample.date() => Ok(parsed),
            _ => Err(failed(
                "day, month and year do not all come out of it".to_owned(),
            )),
        }
    }
}

impl TryFrom<String> for DateFormat {
    type Error = DateFormatError;

    fn try_from(format: String) -> Result<Self, Self::Error> {
        format.parse()
    }
}

impl From<DateFormat> for String {
    fn from(format: DateFormat) -> Self {
        format.0
    }
}

impl DateFormat {
    /// The order of day, month and year.
    pub fn order(&self) -> Option<DateOrder> {
        let place = |signs: &[&str]| signs.iter().filter_map(|sign| self.0.find(sign)).min();
        if self.0.contains("%D") {
            return Some(DateOrder::MonthDayYear);
        }
        let day = place(&["%d", "%e", "%-d"])?;
        let month = place(&["%m", "%-m", "%b", "%B", "%h"])?;
        let year = place(&["%Y", "%y"])?;
        Some(if year < month && month < day {
            DateOrder::YearMonthDay
        } else if month < day {
            DateOrder::MonthDayYear
        } else {
            DateOrder::DayMonthYear
        })
    }

    fn parse_text(&self, text: &str) -> Option<Moment> {
        let broken_down = jiff::fmt::strtime::parse(&self.0, text).ok()?;
        let date = broken_down.to_date().ok()?;
        Some(Moment {
            date,
            // Without an hour, what comes out is midnight.
            time: broken_down.hour().and_then(|_| broken_down.to_time().ok()),
            offset: broken_down.offset().map(jiff::tz::Offset::seconds),
        })
    }
}

impl Moment {
    /// Reads a date as ISO 8601 writes it (`2026-03-05`, `20260305`, `2026-03-05 14:20`,
    /// `2026-03-05T14:20:30.5+02:00`) or as `5.3.2026`; where `formats` are given, as those say
    /// and not otherwise. Days and months in another order are ambiguous and need a format.
    pub fn parse(text: &[u8], formats: &[DateFormat]) -> Option<Self> {
        if formats.is_empty() {
            return Self::parse_iso(text).or_else(|| Self::parse_dotted(text));
        }
        let text = std::str::from_utf8(text).ok()?;
        formats.iter().find_map(|format| format.parse_text(text))
    }

    /// Reads `YYYY-MM-DD` or `YYYYMMDD`, with a time after `T` or a space.
    pub fn parse_iso(text: &[u8]) -> Option<Self> {
        let (date, rest) = match *text {
            [y1, y2, y3, y4, b'-', m1, m2, b'-', d1, d2, ref rest @ ..]
            | [y1, y2, y3, y4, m1, m2, d1, d2, ref rest @ ..] => {
                let year = number(&[y1, y2, y3, y4])?;
                (Date::new(year, two(m1, m2)?, two(d1, d2)?).ok()?, rest)
            }
            _ => return None,
        };
        Self::with_time_behind(date, rest)
    }

    fn with_time_behind(date: Date, rest: &[u8]) -> Option<Self> {
        let (time, offset) = time_behind(rest)?;
        Some(Self { date, time, offset })
    }

    fn parse_dotted(text: &[u8]) -> Option<Self> {
        let (date, rest) = match memchr::memchr(b' ', text) {
            Some(space) => text.split_at(space),
            None => (text, &b""[..]),
        };
        let mut parts = date.split(|byte| *byte == b'.');
        let (day, month, year) = (parts.next()?, parts.next()?, parts.next()?);
        if parts.next().is_some() || year.len() != 4 || day.len() > 2 || month.len() > 2 {
            return None;
        }
        let day = i8::try_from(number(day)?).ok()?;
        let month = i8::try_from(number(month)?).ok()?;
        let date = Date::new(number(year)?, month, day).ok()?;
        Self::with_time_behind(date, rest)
    }

    /// The moment with a time of day, midnight where none is written.
    pub fn datetime(self) -> DateTime {
        self.date.to_datetime(self.time.unwrap_or(Time::midnight()))
    }

    /// Seconds since the year 0 in UTC, and nanoseconds of the next one; what has no offset counts as
    /// UTC.
    pub fn since_year_0(self) -> (i64, u32) {
        const NANOSECONDS: i32 = 1_000_000_000;
        let since = self.datetime().duration_since(DateTime::ZERO);
        let seconds = since.as_secs() - i64::from(self.offset.unwrap_or(0));
        let nanoseconds = since.subsec_nanos();
        if nanoseconds < 0 {
            (seconds - 1, (nanoseconds + NANOSECONDS).unsigned_abs())
        } else {
            (seconds, nanoseconds.unsigned_abs())
        }
    }

    /// Which of two moments is earlier.
    pub fn compare(self, other: Self) -> std::cmp::Ordering {
        match (self.offset, other.offset) {
            (Some(_), Some(_)) => self.since_year_0().cmp(&other.since_year_0()),
            _ => self.datetime().cmp(&other.datetime()),
        }
    }
}

impl std::fmt::Display for Moment {
    /// After ISO 8601, with a space before the time: `2026-03-05`, `2026-03-05 14:20:00` or
    /// `2026-03-05 14:20:00.5+02:00`.
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        let date = self.date;
        write!(
            f,
            "{:04}-{:02}-{:02}",
            date.year(),
            date.month(),
            date.day()
        )?;
        match self.time {
            None => Ok(()),
            Some(time) => write!(
                f,
                " {:02}:{:02}:{:02}",
                time.hour(),
                time.minute(),
                time.second()
            ),
        }?;
        let nanoseconds = self.time.map_or(0, Time::subsec_nanosecond);
        if nanoseconds > 0 {
            let digits = format!("{nanoseconds:09}");
            write!(f, ".{}", digits.trim_end_matches('0'))?;
        }
        match self.offset {
            None => Ok(()),
            Some(0) => f.write_str("Z"),
            Some(offset) => {
                let (sign, minutes) = (if offset < 0 { '-' } else { '+' }, offset.abs() / 60);
                write!(f, "{sign}{:02}:{:02}", minutes / 60, minutes % 60)
            }
        }
    }
}

/// A time of day, or hours and minutes that are more than a day: `14:20`, `14:20:05`, `120:00:00.5`.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct Clock {
    /// Milliseconds since midnight.
    pub milliseconds: i64,
    /// Digits after the seconds; `None` if there are no seconds.
    pub places: Option<u8>,
}

impl Clock {
    /// Reads two digits and more of hours, and two of minutes and of seconds. Digits after those of
    /// milliseconds are skipped.
    pub fn parse(text: &[u8]) -> Option<Self> {
        let (hours, rest) = text.split_at(memchr::memchr(b':', text)?);
        let known = (2..=12).contains(&hours.len()) && hours.iter().all(u8::is_ascii_digit);
        let hours = known.then(|| {
            let digit = |sum: i64, digit: &u8| sum * 10 + i64::from(digit - b'0');
            hours.iter().fold(0, digit)
        })?;
        let below_60 = |tens, ones| two(tens, ones).filter(|part| *part < 60).map(i64::from);
        let (minutes, seconds, fraction) = match *rest {
            [b':', m1, m2] => (below_60(m1, m2)?, 0, None),
            [b':', m1, m2, b':', s1, s2] => (below_60(m1, m2)?, below_60(s1, s2)?, Some(&[][..])),
            [b':', m1, m2, b':', s1, s2, b'.', ref fraction @ ..]
                if !fraction.is_empty() && fraction.iter().all(u8::is_ascii_digit) =>
            {
                (below_60(m1, m2)?, below_60(s1, s2)?, Some(fraction))
            }
            _ => return None,
        };
        let digits = fraction.unwrap_or_default();
        let thousandths = (0..3).fold(0, |sum, place| {
            sum * 10 + digits.get(place).map_or(0, |digit| i64::from(digit - b'0'))
        });
        Some(Self {
            milliseconds: ((hours * 60 + minutes) * 60 + seconds) * 1000 + thousandths,
            places: fraction.map(|digits| u8::try_from(digits.len()).unwrap_or(u8::MAX)),
        })
    }
}

fn number(digits: &[u8]) -> Option<i16> {
    if digits.is_empty() {
        return None;
    }
    digits.iter().try_fold(0_i16, |value, digit| {
        digit
            .is_ascii_digit()
            .then(|| value * 10 + i16::from(digit - b'0'))
    })
}

fn two(tens: u8, ones: u8) -> Option<i8> {
    number(&[tens, ones]).and_then(|value| i8::try_from(value).ok())
}

/// The time after a date, if one is there, and its offset from UTC; `None` if what is there is no time.
fn time_behind(rest: &[u8]) -> Option<(Option<Time>, Option<i32>)> {
    let (hour, minute, rest) = match *rest {
        [] => return Some((None, None)),
        [b'T' | b' ', h1, h2, b':', m1, m2, ref rest @ ..] => (two(h1, h2)?, two(m1, m2)?, rest),
        _ => return None,
    };
    let (second, rest) = match *rest {
        [b':', s1, s2, ref rest @ ..] => (two(s1, s2)?, rest),
        _ => (0, rest),
    };
    let (nanosecond, rest) = match *rest {
        [b'.' | b',', ref fraction @ ..] => {
            let digits = fraction
                .iter()
                .take_while(|byte| byte.is_ascii_digit())
                .count();
            if digits == 0 {
                return None;
            }
            let kept = (0..9).map(|place| match fraction.get(place) {
                Some(digit) if place < digits => i32::from(digit - b'0'),
                _ => 0,
            });
            (
                kept.fold(0, |sum, digit| sum * 10 + digit),
                &fraction[digits..],
            )
        }
        _ => (0, rest),
    };
    let east = |sign: u8, hours: i8, minutes: i8| {
        let seconds = (i32::from(hours) * 60 + i32::from(minutes)) * 60;
        let known = hours <= 23 && minutes <= 59;
        known.then_some(if sign == b'-' { -seconds } else { seconds })
    };
    let offset = match *rest {
        [] => None,
        [b'Z'] => Some(0),
        [sign @ (b'+' | b'-'), h1, h2] => Some(east(sign, two(h1, h2)?, 0)?),
        [sign @ (b'+' | b'-'), h1, h2, b':', m1, m2] | [sign @ (b'+' | b'-'), h1, h2, m1, m2] => {
            Some(east(sign, two(h1, h2)?, two(m1, m2)?)?)
        }
        _ => return None,
    };
    // A leap second is the last second of its minute here.
    let time = Time::new(hour, minute, second.min(59), nanosecond).ok()?;
    (second <= 60).then_some((Some(time), offset))
}

#[cfg(test)]
mod tests {
    use std::cmp::Ordering;

    use super::*;

    fn shown(text: &str, formats: &[&str]) -> Option<String> {
        let formats: Vec<DateFormat> = formats
            .iter()
            .map(|format| format.parse().expect("a format"))
            .collect();
        Moment::parse(text.as_bytes(), &formats).map(|moment| moment.datetime().to_string())
    }

    #[test]
    fn dates_that_need_no_format() {
        for (text, expected) in [
            ("2026-03-05", Some("2026-03-05T00:00:00")),
            ("20260305", Some("2026-03-05T00:00:00")),
            ("2026-03-05 14:20", Some("2026-03-05T14:20:00")),
            ("2026-03-05T14:20:30.25Z", Some("2026-03-05T14:20:30.25")),
            ("2026-03-05T23:20:60+02:00", Some("2026-03-05T23:20:59")),
            ("5.3.2026", Some("2026-03-05T00:00:00")),
            ("05.03.2026 09:00", Some("2026-03-05T09:00:00")),
            ("2024-02-29", Some("2024-02-29T00:00:00")),
            ("2025-02-29", None),
            ("31.02.2025", None),
            ("2026-13-01", None),
            ("05/03/2026", None),
            ("2026-03-05x", None),
            ("2026-03-05T", None),
            ("2026-03-05 25:00", None),
            ("2026-3-5", None),
            ("Pier 4", None),
            ("", None),
        ] {
            assert_eq!(shown(text, &[]).as_deref(), expected, "{text}");
        }
    }

    #[test]
    fn offsets_and_fractions_count() {
        let moment = |text: &str| Moment::parse_iso(text.as_bytes()).expect(text);
        for (one, other, expected) in [
            (
                "2026-03-05T23:00+02:00",
                "2026-03-05T22:00Z",
                Ordering::Less,
            ),
            (
                "2026-03-05T23:00+02:00",
                "2026-03-05T21:00:00.0Z",
                Ordering::Equal,
            ),
            (
                "2026-03-05T23:00-0130",
                "2026-03-06T00:15Z",
                Ordering::Greater,
            ),
            ("2026-03-05T23:00+02", "2026-03-05 23:00", Ordering::Equal),
            (
                "2026-03-05T10:00:00.5",
                "2026-03-05T10:00:00.25",
                Ordering::Greater,
            ),
        ] {
            assert_eq!(
                moment(one).compare(moment(other)),
                expected,
                "{one} {other}"
            );
        }
        for text in [
            "2026-03-05 10:00:00.25-01:30",
            "2026-03-05 10:00:00Z",
            "2026-03-05",
        ] {
            assert_eq!(moment(text).to_string(), text);
        }
        assert_eq!(Moment::parse_iso(b"2026-03-05T10:00+24:00"), None);
    }

    #[test]
    fn dates_after_a_format() {
        assert_eq!(
            shown("05/03/2026", &["%d/%m/%Y"]).as_deref(),
            Some("2026-03-05T00:00:00")
        );
        assert_eq!(
            shown("05/03/2026", &["%m/%d/%Y"]).as_deref(),
            Some("2026-05-03T00:00:00")
        );
        assert_eq!(
            shown("5.3.26 7:05", &["%d/%m/%Y", "%d.%m.%y %H:%M"]).as_deref(),
            Some("2026-03-05T07:05:00")
        );
        assert_eq!(
            shown("2026-03-05", &["%d/%m/%Y"]),
            None,
            "only the formats count"
        );
        assert!("%H:%M".parse::<DateFormat>().is_err(), "no date in it");
        assert!("%Q".parse::<DateFormat>().is_err(), "no such sign");
    }
}
