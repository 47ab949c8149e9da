//! What to do about values that are not read as what they look like.

use numerant_data::value::{Moment, ReadingOption, suggest};
use numerant_naming::ValueError;

/// What to do about a value that does not have the part that was asked for.
pub(super) fn of_value(error: &ValueError) -> Option<String> {
    match error {
        ValueError::Date { value } => Some(date_hint(value)),
        ValueError::Number { value } => number_hint(value),
        ValueError::Time { .. } => None,
    }
}

/// An option of reading as it is typed.
pub(crate) fn reading_option(option: &ReadingOption) -> String {
    match option {
        ReadingOption::DateFormat(pattern) => format!("--date-format {}", quoted(pattern)),
        ReadingOption::EitherDateFormat(one, other) => {
            format!("--date-format {} (or {})", quoted(one), quoted(other))
        }
        ReadingOption::NumberFormat(example) => {
            format!("--number-format '{}'", example.replace('\'', "'\\''"))
        }
        ReadingOption::DecimalComma => "--decimal-comma".to_owned(),
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
pub(super) fn date_hint(value: &str) -> String {
    match suggest(&[value]) {
        Some(option @ (ReadingOption::DateFormat(_) | ReadingOption::EitherDateFormat(..))) => {
            format!("{} reads such values", reading_option(&option))
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
pub(super) fn number_hint(value: &str) -> Option<String> {
    match suggest(&[value]) {
        Some(option) if option.is_number() => {
            Some(format!("{} reads such values", reading_option(&option)))
        }
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
