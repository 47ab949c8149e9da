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
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn options_that_read_all_values() {
        for (values, expected) in [
            (
                &["8/19/2025"][..],
                Some(ReadingOption::DateFormat("%m/%d/%Y")),
            ),
            (
                &["9/10/2023"],
                Some(ReadingOption::EitherDateFormat("%m/%d/%Y", "%d/%m/%Y")),
            ),
            (
                &["9/10/2023", "13/10/2023"],
                Some(ReadingOption::DateFormat("%d/%m/%Y")),
            ),
            (&["5 Mar 2026"], Some(ReadingOption::DateFormat("%d %b %Y"))),
            (
                &["8/19/2025 2:05 PM"],
                Some(ReadingOption::DateFormat("%m/%d/%Y %I:%M %p")),
            ),
            (
                &["$49,442.00", "$5"],
                Some(ReadingOption::NumberFormat("1,234.50")),
            ),
            (&["2,5", "1.000,00"], Some(ReadingOption::DecimalComma)),
            (&["1 234,50"], Some(ReadingOption::NumberFormat("1 234,50"))),
            (&["Coal Dock"], None),
            (&["", " "], None),
            (&["A1", "B2"], None),
        ] {
            let found = suggest(&values.iter().copied());
            assert_eq!(found, expected, "{values:?}");
        }
    }
}
