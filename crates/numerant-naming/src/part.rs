//! Parts of values: what is after the colon in `arrived:month` or `{agent:first 1}`.

use std::fmt;

use numerant_data::record::nearest;
use numerant_data::value::{Cells, Number};

/// A part of a value.
///
/// The date parts cut a date down as ISO 8601 does: `2026`, `2026-Q1`, `2026-03`, `2026-W10`,
/// `2026-03-05`, `2026-03-05T14`; `weekday` is the English name of the day.
#[derive(Clone, Debug, PartialEq, Eq, Hash)]
pub enum Part {
    /// The whole value.
    Whole,
    /// The year of a date.
    Year,
    /// The year and quarter of a date.
    Quarter,
    /// The year and month of a date.
    Month,
    /// The week of a date, after ISO 8601, with the year that it belongs to.
    Week,
    /// The day of a date.
    Day,
    /// The name of the day, `Monday` to `Sunday`.
    Weekday,
    /// The day and hour of a date with a time.
    Hour,
    /// A date in the signs of `strftime`.
    Pattern(String),
    /// The first so many characters.
    First(usize),
    /// The band of this width that a number is in, such as `10000-19999`.
    Band(Number),
    /// In lower case.
    Lower,
    /// In upper case.
    Upper,
    /// In lower case, with one hyphen for all that is no letter and no digit.
    Slug,
    /// The whole value, a path whose slashes are between folders.
    Folders,
    /// Filled with zeros in front to this many characters.
    Width(usize),
}

/// A part that there is not.
#[derive(Clone, Debug, PartialEq, Eq, thiserror::Error)]
#[error("'{part}' is not a part of a value{}", did_you_mean(.nearest.as_deref()))]
pub struct PartError {
    /// What was written.
    pub part: String,
    /// The nearest part there is.
    pub nearest: Option<String>,
}

fn did_you_mean(nearest: Option<&str>) -> String {
    match nearest {
        Some(nearest) => format!("; did you mean '{nearest}'?"),
        None => "; parts are year, quarter, month, week, day, weekday, hour, first N, band N, \
                 lower, upper, slug, folders, a width such as 03, or a date pattern such as %Y-%m"
            .to_owned(),
    }
}

/// A value that does not have the part that was asked for.
#[derive(Clone, Debug, PartialEq, Eq, thiserror::Error)]
pub enum ValueError {
    /// The value is no date.
    #[error("{value:?} is not a date")]
    Date {
        /// The value.
        value: String,
    },
    /// The value is a date without a time.
    #[error("{value:?} has no time of day")]
    Time {
        /// The value.
        value: String,
    },
    /// The value is no number.
    #[error("{value:?} is not a number")]
    Number {
        /// The value.
        value: String,
    },
}

impl std::str::FromStr for Part {
    type Err = PartError;

    fn from_str(text: &str) -> Result<Self, Self::Err> {
        let (word, argument) = match text.split_once(' ') {
            Some((word, argument)) => (word, Some(argument.trim())),
            None => (text, None),
        };
        let part = match (word, argument) {
            ("year", None) => Some(Self::Year),
            ("quarter", None) => Some(Self::Quarter),
            ("month", None) => Some(Self::Month),
            ("week", None) => Some(Self::Week),
            ("day", None) => Some(Self::Day),
            ("weekday", None) => Some(Self::Weekday),
            ("hour", None) => Some(Self::Hour),
            ("lower", None) => Some(Self::Lower),
            ("upper", None) => Some(Self::Upper),
            ("slug", None) => Some(Self::Slug),
            ("folders", None) => Some(Self::Folders),
            ("first", Some(count)) => count
                .parse()
                .ok()
                .filter(|count| *count > 0)
                .map(Self::First),
            ("band", Some(width)) => Number::parse(width.as_bytes())
                .filter(|width| width.units > 0)
                .map(Self::Band),
            _ if text.contains('%') => pattern(text),
            (digits, None) if digits.bytes().all(|byte| byte.is_ascii_digit()) => digits
                .parse()
                .ok()
                .filter(|width| (1..=64).contains(width))
                .map(Self::Width),
            _ => None,
        };
        part.ok_or_else(|| {
            let words = [
                "year", "quarter", "month", "week", "day", "weekday", "hour", "first", "band",
                "lower", "upper", "slug",
            ];
            let nearest = nearest(word, words).filter(|found| *found != word);
            PartError {
                part: text.to_owned(),
                nearest: nearest.map(str::to_owned),
            }
        })
    }
}

/// A date pattern, if every sign in it means something.
fn pattern(text: &str) -> Option<Part> {
    let sample = jiff::civil::date(2026, 3, 5).at(14, 20, 0, 0);
    jiff::fmt::strtime::format(text, sample)
        .ok()
        .map(|_| Part::Pattern(text.to_owned()))
}

impl fmt::Display for Part {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self {
            Self::Whole => Ok(()),
            Self::Year => f.write_str("year"),
            Self::Quarter => f.write_str("quarter"),
            Self::Month => f.write_str("month"),
            Self::Week => f.write_str("week"),
            Self::Day => f.write_str("day"),
            Self::Weekday => f.write_str("weekday"),
            Self::Hour => f.write_str("hour"),
            Self::Pattern(pattern) => f.write_str(pattern),
            Self::First(count) => write!(f, "first {count}"),
            Self::Band(width) => write!(f, "band {width}"),
            Self::Lower => f.write_str("lower"),
            Self::Upper => f.write_str("upper"),
            Self::Slug => f.write_str("slug"),
            Self::Folders => f.write_str("folders"),
            Self::Width(width) => write!(f, "0{width}"),
        }
    }
}

impl Part {
    /// Whether it is a part of a date or of a number, and not of any text.
    pub fn reads_value(&self) -> bool {
        !matches!(
            self,
            Self::Whole
                | Self::First(_)
                | Self::Lower
                | Self::Upper
                | Self::Slug
                | Self::Folders
                | Self::Width(_)
        )
    }

    /// Appends this part of `value` to `out`; nothing if the value is blank.
    ///
    /// # Errors
    ///
    /// If the value is no date or no number where the part needs one.
    pub fn of(&self, value: &[u8], cells: &Cells, out: &mut String) -> Result<(), ValueError> {
        self.of_column(value, usize::MAX, cells, out)
    }

    /// As [`Part::of`], for a value of the column at a place in batches.
    ///
    /// # Errors
    ///
    /// As [`Part::of`].
    pub fn of_column(
        &self,
        value: &[u8],
        slot: usize,
        cells: &Cells,
        out: &mut String,
    ) -> Result<(), ValueError> {
        use fmt::Write;
        if value.is_empty() {
            return Ok(());
        }
        let owned = || String::from_utf8_lossy(value).into_owned();
        let text = String::from_utf8_lossy(value);
        let moment = || {
            let moment = cells.moment_of(slot, value);
            moment.ok_or_else(|| ValueError::Date { value: owned() })
        };
        // Writing to a String cannot fail.
        let _ = match self {
            Self::Whole | Self::Folders => out.write_str(&text),
            Self::Year => write!(out, "{:04}", moment()?.date.year()),
            Self::Quarter => {
                let date = moment()?.date;
                write!(out, "{:04}-Q{}", date.year(), (date.month() - 1) / 3 + 1)
            }
            Self::Month => {
                let date = moment()?.date;
                write!(out, "{:04}-{:02}", date.year(), date.month())
            }
            Self::Week => {
                let week = moment()?.date.iso_week_date();
                write!(out, "{:04}-W{:02}", week.year(), week.week())
            }
            Self::Day => write!(out, "{}", moment()?.date),
            Self::Weekday => write!(out, "{:?}", moment()?.date.weekday()),
            Self::Hour => {
                let moment = moment()?;
                let time = moment
                    .time
                    .ok_or_else(|| ValueError::Time { value: owned() })?;
                write!(out, "{}T{:02}", moment.date, time.hour())
            }
            Self::Pattern(pattern) => {
                let moment = moment()?.datetime();
                let written = jiff::fmt::strtime::format(pattern, moment);
                out.write_str(&written.map_err(|_| ValueError::Date { value: owned() })?)
            }
            Self::First(count) => {
                out.extend(text.chars().take(*count));
                Ok(())
            }
            Self::Band(width) => {
                let number = cells.number_of(slot, value).ok();
                let band = number.and_then(|number| band(number, *width));
                out.write_str(&band.ok_or_else(|| ValueError::Number { value: owned() })?)
            }
            Self::Lower => out.write_str(&text.to_lowercase()),
            Self::Upper => out.write_str(&text.to_uppercase()),
            Self::Slug => out.write_str(&slug(&text)),
            Self::Width(width) => write!(out, "{text:0>width$}"),
        };
        Ok(())
    }
}

/// The band of `width` that begins at a multiple of it and holds `number`, named by its first and
/// last whole number, or by its bounds where the width is no whole number.
fn band(number: Number, width: Number) -> Option<String> {
    let Number { units, scale } = width;
    let common = number.scale.max(scale);
    let width = width.rescaled(common)?.units;
    let place = number.rescaled(common)?.units.div_euclid(width);
    let from = Number {
        units: place.checked_mul(units)?,
        scale,
    };
    let step = if scale == 0 { units - 1 } else { units };
    let to = Number {
        units: from.units.checked_add(step)?,
        scale,
    };
    Some(if from == to {
        from.to_string()
    } else {
        format!("{from}-{to}")
    })
}

fn slug(text: &str) -> String {
    let mut slug = String::with_capacity(text.len());
    for character in text.to_lowercase().chars() {
        if character.is_alphanumeric() {
            slug.push(character);
        } else if !slug.is_empty() && !slug.ends_with('-') {
            slug.push('-');
        }
    }
    if slug.ends_with('-') {
        slug.pop();
    }
    slug
}

#[cfg(test)]
mod tests {
    use super::*;

    fn part(part: &str, value: &str) -> Result<String, ValueError> {
        let mut out = String::new();
        part.parse::<Part>()
            .expect(part)
            .of(value.as_bytes(), &Cells::default(), &mut out)
            .map(|()| out)
    }

    #[test]
    fn parts_of_values() {
        for (name, value, expected) in [
            ("year", "2026-03-05", "2026"),
            ("quarter", "2026-03-31", "2026-Q1"),
            ("quarter", "2026-10-01", "2026-Q4"),
            ("month", "2026-03-05 14:20", "2026-03"),
            ("week", "2027-01-01", "2026-W53"),
            ("day", "5.3.2026", "2026-03-05"),
            ("weekday", "2026-03-05", "Thursday"),
            ("hour", "2026-03-05 14:20", "2026-03-05T14"),
            ("%Y-%m", "2026-03-05", "2026-03"),
            ("first 1", "Östra", "Ö"),
            ("first 9", "abc", "abc"),
            ("band 10000", "9999", "0-9999"),
            ("band 10000", "10000.5", "10000-19999"),
            ("band 10", "-1", "-10--1"),
            ("band 1", "7.3", "7"),
            ("band 0.5", "7.74", "7.5-8.0"),
            ("lower", "Östra KAJ", "östra kaj"),
            ("upper", "Östra", "ÖSTRA"),
            ("slug", " Ro/Ro  Terminal! ", "ro-ro-terminal"),
            ("03", "7", "007"),
            ("03", "1234", "1234"),
            ("month", "", ""),
        ] {
            assert_eq!(part(name, value).as_deref(), Ok(expected), "{value}:{name}");
        }
        assert!(matches!(
            part("month", "soon"),
            Err(ValueError::Date { .. })
        ));
        assert!(matches!(
            part("hour", "2026-03-05"),
            Err(ValueError::Time { .. })
        ));
        assert!(matches!(
            part("band 10", "1.234,5"),
            Err(ValueError::Number { .. })
        ));
    }

    #[test]
    fn unknown_parts() {
        let error = "moth".parse::<Part>().expect_err("no such part");
        assert_eq!(error.nearest.as_deref(), Some("month"));
        for text in [
            "first", "first 0", "band -1", "band x", "", "%Q", "years 3", "0",
        ] {
            assert!(text.parse::<Part>().is_err(), "{text}");
        }
    }

    #[test]
    fn parts_are_written_as_they_are_read() {
        for text in [
            "year",
            "first 3",
            "band 0.50",
            "03",
            "%d.%m.",
            "slug",
            "weekday",
        ] {
            assert_eq!(text.parse::<Part>().expect("a part").to_string(), text);
        }
    }
}
