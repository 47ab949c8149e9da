//! Options that would read values which are no numbers or dates as they are read now.

use super::{DateFormat, DecimalMark, Moment, Number, NumberFormat};

/// An option that reads some values.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum ReadingOption {
    /// `--date-format` with this pattern.
    DateFormat(&'static str),
    /// Either of two patterns for `--date-format`: day and month are ambiguous.
    EitherDateFormat(&'static str, &'static str),
    /// `--number-format` with this example.
    NumberFormat(&'static str),
    /// `--decimal-comma`.
    DecimalComma,
}

/// Patterns of dates that are tried, those of one order next to each other.
const DATES: [&str; 26] = [
    "%m/%d/%Y",
    "%d/%m/%Y",
    "%m/%d/%y",
    "%d/%m/%y",
    "%d-%m-%Y",
    "%m-%d-%Y",
    "%d.%m.%y",
    "%Y/%m/%d",
    "%Y.%m.%d",
    "%d %b %Y",
    "%d-%b-%Y",
    "%d-%b-%y",
    "%b %d, %Y",
    "%B %d, %Y",
    "%d %B %Y",
    "%m/%d/%Y %H:%M",
    "%d/%m/%Y %H:%M",
    "%m/%d/%Y %H:%M:%S",
    "%d/%m/%Y %H:%M:%S",
    "%m/%d/%Y %I:%M %p",
    "%d/%m/%Y %I:%M %p",
    "%m/%d/%Y %I:%M:%S %p",
    "%m/%d/%y %H:%M",
    "%d/%m/%y %H:%M",
    "%Y/%m/%d %H:%M",
    "%Y/%m/%d %H:%M:%S",
];

/// Examples of numbers that are tried.
const NUMBERS: [&str; 4] = ["1,234.50", "1.234,50", "1 234,50", "1'234.50"];

/// The option that reads all of `values` as dates or numbers; `None` if there is none.
pub fn suggest<'v>(values: &(impl IntoIterator<Item = &'v str> + Clone)) -> Option<ReadingOption> {
    let values = || {
        values
            .clone()
            .into_iter()
            .filter(|value| !value.trim().is_empty())
    };
    let has_digits = |value: &str| value.bytes().any(|byte| byte.is_ascii_digit());
    if values().next().is_none() || !values().all(has_digits) {
        return None;
    }
    let reads = |pattern: &&str| {
        let format: Option<DateFormat> = pattern.parse().ok();
        let formats: Vec<DateFormat> = format.into_iter().collect();
        values().all(|value| Moment::parse(value.trim().as_bytes(), &formats).is_some())
    };
    let mut dates = DATES.into_iter().filter(reads);
    if let Some(first) = dates.next() {
        let turned = |pattern: &str| {
            pattern
                .replacen("%m", "%_", 1)
                .replacen("%d", "%m", 1)
                .replacen("%_", "%d", 1)
        };
        let other = dates.find(|other| turned(first) == **other);
        return Some(match other {
            Some(other) => ReadingOption::EitherDateFormat(first, other),
            None => ReadingOption::DateFormat(first),
        });
    }
    let comma = |value: &str| Number::read(value.as_bytes(), DecimalMark::Comma).is_ok();
    let plain = |value: &str| Number::read(value.as_bytes(), DecimalMark::Point).is_ok();
    if values().all(comma) && !values().all(plain) {
        return Some(ReadingOption::DecimalComma);
    }
    let reads = |example: &&str| {
        let format: Option<NumberFormat> = example.parse().ok();
        format.is_some_and(|format| values().all(|value| format.read(value.as_bytes()).is_ok()))
    };
    let found = NUMBERS.into_iter().find(reads);
    found.map(ReadingOption::NumberFormat)
}

impl ReadingOption {
    /// Whether it reads numbers, and not dates.
    pub fn is_number(&self) -> bool {
        matches!(self, Self::NumberFormat(_) | Self::DecimalComma)
    }

    /// The option as it is typed.
    pub fn shown(&self) -> String {
        match self {
            Self::DateFormat(pattern) => format!("--date-format {}", quoted(pattern)),
            Self::EitherDateFormat(one, other) => {
                format!("--date-format {} (or {})", quoted(one), quoted(other))
            }
            Self::NumberFormat(example) => {
                format!("--number-format '{}'", example.replace('\'', "'\\''"))
            }
            Self::DecimalComma => "--decimal-comma".to_owned(),
        }
    }
}

/// How a value without digits, such as `NA`, is read as blank.
fn blank_hint(value: &str) -> Option<String> {
    const LONGEST: usize = 12;
    let is_word = !value.is_empty() && !value.bytes().any(|byte| byte.is_ascii_digit());
    (is_word && value.len() <= LONGEST)
        .then(|| format!("--blank-values '{value}' reads it as blank"))
}

/// What to do about a value that is no date.
pub fn date_hint(value: &str) -> String {
    match suggest(&[value]) {
        Some(option @ (ReadingOption::DateFormat(_) | ReadingOption::EitherDateFormat(..))) => {
            format!("{} reads such values", option.shown())
        }
        _ if Moment::parse_iso(value.as_bytes()).is_some() => {
            "an additional --date-format %Y-%m-%d reads such values".to_owned()
        }
        _ => blank_hint(value).unwrap_or_else(|| {
            "dates are read as 2026-03-05 or 5.3.2026, or as --date-format states".to_owned()
        }),
    }
}

/// What to do about a value that is no number.
pub fn number_hint(value: &str) -> Option<String> {
    match suggest(&[value]) {
        Some(option) if option.is_number() => Some(format!("{} reads such values", option.shown())),
        _ => blank_hint(value),
    }
}

fn quoted(pattern: &str) -> String {
    if pattern.contains([' ', ',']) {
        format!("'{pattern}'")
    } else {
        pattern.to_owned()
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn options_that_read_all_values() {
        for (values, expected) in [
            (&["8/19/2025"][..], Some("--date-format %m/%d/%Y")),
            (&["9/10/2023"], Some("--date-format %m/%d/%Y (or %d/%m/%Y)")),
            (&["9/10/2023", "13/10/2023"], Some("--date-format %d/%m/%Y")),
            (&["5 Mar 2026"], Some("--date-format '%d %b %Y'")),
            (
                &["8/19/2025 2:05 PM"],
                Some("--date-format '%m/%d/%Y %I:%M %p'"),
            ),
            (&["$49,442.00", "$5"], Some("--number-format '1,234.50'")),
            (&["2,5", "1.000,00"], Some("--decimal-comma")),
            (&["1 234,50"], Some("--number-format '1 234,50'")),
            (&["Coal Dock"], None),
            (&["", " "], None),
            (&["A1", "B2"], None),
        ] {
            let found = suggest(&values.iter().copied()).map(|option| option.shown());
            assert_eq!(found.as_deref(), expected, "{values:?}");
        }
    }
}
