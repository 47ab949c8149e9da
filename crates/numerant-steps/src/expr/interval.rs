//! Spans of time: months, or days and seconds (ISO/IEC 9075-2, interval types).

use std::cmp::Ordering;

use jiff::{SignedDuration, Span};

use super::error::EvalError;
use numerant_data::value::Moment;

/// A span of time.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Interval {
    /// Years and months, in months.
    Months(i64),
    /// Days and times, in seconds.
    Seconds(i64),
}

const DAY: i64 = 86_400;

/// A field of an interval literal.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord)]
pub(crate) enum Unit {
    Year,
    Month,
    Day,
    Hour,
    Minute,
    Second,
}

impl Unit {
    fn size(self) -> i64 {
        match self {
            Self::Year => 12,
            Self::Month | Self::Second => 1,
            Self::Day => DAY,
            Self::Hour => 3600,
            Self::Minute => 60,
        }
    }
}

impl Interval {
    /// Reads what is in the quotes of an interval literal whose fields run from `first` to
    /// `last`, such as `14` for days or `1-6` from years to months.
    pub(crate) fn parse(text: &str, first: Unit, last: Unit) -> Option<Self> {
        let text = text.trim();
        let (sign, text) = match text.strip_prefix('-') {
            Some(rest) => (-1, rest),
            None => (1, text.strip_prefix('+').unwrap_or(text)),
        };
        let units = [
            Unit::Year,
            Unit::Month,
            Unit::Day,
            Unit::Hour,
            Unit::Minute,
            Unit::Second,
        ];
        let of_months = first <= Unit::Month;
        if of_months != (last <= Unit::Month) || last < first {
            return None;
        }
        let mut parts = text.split(['-', ' ', ':']);
        let mut total = 0_i64;
        for unit in units
            .into_iter()
            .filter(|unit| (first..=last).contains(unit))
        {
            let part = parts.next()?;
            let digits = !part.is_empty() && part.bytes().all(|byte| byte.is_ascii_digit());
            let count: i64 = part.parse().ok().filter(|_| digits)?;
            total = total.checked_add(count.checked_mul(unit.size())?)?;
        }
        if parts.next().is_some() {
            return None;
        }
        Some(if of_months {
            Self::Months(sign * total)
        } else {
            Self::Seconds(sign * total)
        })
    }

    pub(crate) fn negated(self) -> Self {
        match self {
            Self::Months(months) => Self::Months(-months),
            Self::Seconds(seconds) => Self::Seconds(-seconds),
        }
    }

    /// The time from `earlier` to `later`.
    pub(crate) fn between(later: Moment, earlier: Moment) -> Self {
        if later.offset.is_some() && earlier.offset.is_some() {
            let ((to, to_part), (from, from_part)) = (later.since_year_0(), earlier.since_year_0());
            let seconds = to - from;
            // Whole seconds, whichever of the two is later.
            return Self::Seconds(match to_part.cmp(&from_part) {
                Ordering::Less if seconds > 0 => seconds - 1,
                Ordering::Greater if seconds < 0 => seconds + 1,
                _ => seconds,
            });
        }
        let duration: SignedDuration = later.datetime().duration_since(earlier.datetime());
        Self::Seconds(duration.as_secs())
    }

    /// `moment`, moved by the interval; a day that its month does not have becomes its last.
    pub(crate) fn move_moment(self, moment: Moment) -> Result<Moment, EvalError> {
        let range = |_| EvalError::DateRange;
        let span = match self {
            Self::Months(months) => Span::new().try_months(months).map_err(range)?,
            Self::Seconds(seconds) if seconds % DAY == 0 => {
                Span::new().try_days(seconds / DAY).map_err(range)?
            }
            Self::Seconds(_) if moment.time.is_none() => return Err(EvalError::NoTime),
            Self::Seconds(seconds) => Span::new().try_seconds(seconds).map_err(range)?,
        };
        let moved = moment.datetime().checked_add(span).map_err(range)?;
        Ok(Moment {
            date: moved.date(),
            time: moment.time.map(|_| moved.time()),
            offset: moment.offset,
        })
    }

    /// One field of it, as `EXTRACT` has it.
    pub(crate) fn field(self, unit: Unit) -> i64 {
        match (self, unit) {
            (Self::Months(months), Unit::Year) => months / 12,
            (Self::Months(months), Unit::Month) => months % 12,
            (Self::Seconds(seconds), Unit::Day) => seconds / DAY,
            (Self::Seconds(seconds), Unit::Hour) => seconds % DAY / 3600,
            (Self::Seconds(seconds), Unit::Minute) => seconds % 3600 / 60,
            (Self::Seconds(seconds), Unit::Second) => seconds % 60,
            _ => 0,
        }
    }

    /// The sum of two intervals of one kind.
    pub(crate) fn plus(self, other: Self) -> Option<Self> {
        match (self, other) {
            (Self::Months(one), Self::Months(other)) => one.checked_add(other).map(Self::Months),
            (Self::Seconds(one), Self::Seconds(other)) => one.checked_add(other).map(Self::Seconds),
            _ => None,
        }
    }

    pub(crate) fn compare(self, other: Self) -> Option<Ordering> {
        match (self, other) {
            (Self::Months(one), Self::Months(other))
            | (Self::Seconds(one), Self::Seconds(other)) => Some(one.cmp(&other)),
            _ => None,
        }
    }
}

impl std::fmt::Display for Interval {
    /// As in a literal: `1-06` for years and months, `3 12:00:00` for days and times.
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        match *self {
            Self::Months(months) => {
                let sign = if months < 0 { "-" } else { "" };
                let months = months.unsigned_abs();
                write!(f, "{sign}{}-{:02}", months / 12, months % 12)
            }
            Self::Seconds(seconds) => {
                let sign = if seconds < 0 { "-" } else { "" };
                let seconds = seconds.unsigned_abs();
                let day = DAY.unsigned_abs();
                let (hour, minute) = (seconds % day / 3600, seconds % 3600 / 60);
                write!(
                    f,
                    "{sign}{} {hour:02}:{minute:02}:{:02}",
                    seconds / day,
                    seconds % 60
                )
            }
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn literals() {
        use Unit::{Day, Hour, Minute, Month, Second, Year};
        for (text, first, last, shown) in [
            ("14", Day, Day, Some("14 00:00:00")),
            ("-36", Hour, Hour, Some("-1 12:00:00")),
            ("1-6", Year, Month, Some("1-06")),
            ("3 12:30", Day, Minute, Some("3 12:30:00")),
            ("90", Second, Second, Some("0 00:01:30")),
            ("3 12", Day, Day, None),
            ("x", Day, Day, None),
            ("1", Month, Day, None),
        ] {
            let found = Interval::parse(text, first, last).map(|interval| interval.to_string());
            assert_eq!(found.as_deref(), shown, "{text}");
        }
    }

    #[test]
    fn moments_are_moved() {
        let moved = |text: &str, interval: Interval| {
            let moment = Moment::parse_iso(text.as_bytes()).expect(text);
            interval
                .move_moment(moment)
                .map(|moment| moment.to_string())
        };
        let ok = |text: &str| Ok(text.to_owned());
        assert_eq!(moved("2026-01-31", Interval::Months(1)), ok("2026-02-28"));
        assert_eq!(
            moved("2026-01-31 23:00", Interval::Seconds(7200)),
            ok("2026-02-01 01:00:00")
        );
        assert_eq!(
            moved("2026-01-31", Interval::Seconds(7200)),
            Err(EvalError::NoTime)
        );
        assert_eq!(
            moved("9999-12-31", Interval::Months(1)),
            Err(EvalError::DateRange)
        );
    }
}
