//! Numbers as people write them: `$1,234.50`, `1 234,50 €`, `(12.5)`, `12.5 %`, by an example.

use std::fmt;
use std::str::FromStr;

use serde::{Deserialize, Serialize};

use super::currency::{self, GROUPS};
use super::{DecimalMark, Number, NumberProblem};

/// How numbers are written, by an example such as `1,234.50`: which character groups thousands, and
/// which is before the fraction.
///
/// With such an example a currency before or after a number is skipped, parentheses and a minus
/// after it make it negative, and a percent sign divides it by 100.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize, schemars::JsonSchema)]
#[serde(try_from = "String", into = "String")]
pub struct NumberFormat {
    text: String,
    mark: DecimalMark,
    group: Option<char>,
}

/// A text that is no example of a number.
#[derive(Clone, Debug, PartialEq, Eq, thiserror::Error)]
#[error(
    "'{0}' is not a number; write an example with separators, such as '1,234.50' or '1.234,50'"
)]
pub struct NumberFormatError(pub String);

/// The length of the currency that a text begins with.
fn currency(text: &str) -> Option<usize> {
    let ends = text
        .char_indices()
        .map(|(at, character)| at + character.len_utf8());
    let all = |end: &usize| currency::is_possible(&text[..*end]);
    ends.take(currency::LONGEST).filter(all).last()
}

/// The length of the currency that a text ends with.
fn currency_behind(text: &str) -> Option<usize> {
    let starts = text.char_indices().rev().map(|(at, _)| at);
    let all = |at: &usize| currency::is_possible(&text[*at..]);
    let start = starts.take(currency::LONGEST).filter(all).last();
    start.map(|at| text.len() - at)
}

impl FromStr for NumberFormat {
    type Err = NumberFormatError;

    fn from_str(text: &str) -> Result<Self, Self::Err> {
        let failed = || NumberFormatError(text.to_owned());
        let (_, _, digits) = unadorned(text).ok_or_else(failed)?;
        let separators: Vec<(usize, char)> = digits
            .char_indices()
            .filter(|(_, character)| !character.is_ascii_digit())
            .collect();
        let behind = |at: usize, separator: char| digits.len() - at - separator.len_utf8();
        let (mark, group) = match separators.as_slice() {
            [] => (DecimalMark::Point, None),
            [(at, only)] => match (only, behind(*at, *only) == 3) {
                (',', false) => (DecimalMark::Comma, None),
                ('.', false) => (DecimalMark::Point, None),
                ('.', true) => (DecimalMark::Comma, Some('.')),
                (group, _) => (DecimalMark::Point, Some(*group)),
            },
            [(_, group), .., (_, last)] if group == last => match group {
                '.' => (DecimalMark::Comma, Some('.')),
                group => (DecimalMark::Point, Some(*group)),
            },
            [(_, group), .., (_, ',')] => (DecimalMark::Comma, Some(*group)),
            [(_, group), .., (_, '.')] => (DecimalMark::Point, Some(*group)),
            _ => return Err(failed()),
        };
        let format = Self {
            text: text.to_owned(),
            mark,
            group,
        };
        format.read(text.as_bytes()).map_err(|_| failed())?;
        Ok(format)
    }
}

impl TryFrom<String> for NumberFormat {
    type Error = NumberFormatError;

    fn try_from(text: String) -> Result<Self, Self::Error> {
        text.parse()
    }
}

impl From<NumberFormat> for String {
    fn from(format: NumberFormat) -> Self {
        format.text
    }
}

impl fmt::Display for NumberFormat {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str(&self.text)
    }
}

impl NumberFormat {
    /// What is before the fraction.
    pub fn mark(&self) -> DecimalMark {
        self.mark
    }

    /// Reads a number that is written like the example.
    ///
    /// # Errors
    ///
    /// [`NumberProblem`].
    pub fn read(&self, text: &[u8]) -> Result<Number, NumberProblem> {
        let text = std::str::from_utf8(text).map_err(|_| NumberProblem::Not)?;
        let (negative, percent, digits) = unadorned(text).ok_or(NumberProblem::Not)?;
        let decimal = match self.mark {
            DecimalMark::Point => '.',
            DecimalMark::Comma => ',',
        };
        let (whole, fraction) = match digits.split_once(decimal) {
            Some((whole, fraction)) => (whole, Some(fraction)),
            None => (digits, None),
        };
        let mut plain = Vec::with_capacity(digits.len());
        for (place, group) in whole.split(|c| self.is_group(c)).enumerate() {
            let fits = match place {
                0 => !whole.contains(|c| self.is_group(c)) || (1..=3).contains(&group.len()),
                _ => group.len() == 3,
            };
            if !fits || group.is_empty() {
                return Err(NumberProblem::Not);
            }
            plain.extend_from_slice(group.as_bytes());
        }
        if let Some(fraction) = fraction {
            plain.push(b'.');
            plain.extend_from_slice(fraction.as_bytes());
        }
        let number = Number::parse(&plain).ok_or(if plain.len() > 38 {
            NumberProblem::TooLong
        } else {
            NumberProblem::Not
        })?;
        let number = if negative { number.negated() } else { number };
        Ok(if percent {
            Number {
                scale: number.scale + 2,
                ..number
            }
        } else {
            number
        })
    }

    /// Blanks of all kinds and apostrophes of both are alike.
    fn is_group(&self, character: char) -> bool {
        let alike = |one: char| match one {
            '\u{a0}' | '\u{202f}' => ' ',
            '\u{2019}' => '\'',
            other => other,
        };
        self.group
            .is_some_and(|group| alike(group) == alike(character))
    }
}

/// The digits of a number with what is between them, without its signs, currency and percent sign:
/// whether it is negative and a percentage. `None` if something else is there.
fn unadorned(text: &str) -> Option<(bool, bool, &str)> {
    let mut text = text.trim();
    let (mut negative, mut percent, mut has_currency) = (false, false, false);
    if let Some(inside) = text
        .strip_prefix('(')
        .and_then(|text| text.strip_suffix(')'))
    {
        negative = true;
        text = inside.trim();
    }
    loop {
        let first = text.chars().next()?;
        if first.is_ascii_digit() {
            break;
        }
        let length = match first {
            '-' | '\u{2212}' if !negative => {
                negative = true;
                first.len_utf8()
            }
            '+' if !negative => 1,
            _ if !has_currency => {
                has_currency = true;
                currency(text)?
            }
            _ => return None,
        };
        text = text[length..].trim_start();
    }
    loop {
        let last = text.chars().next_back()?;
        if last.is_ascii_digit() {
            break;
        }
        let length = match last {
            '-' | '\u{2212}' if !negative => {
                negative = true;
                last.len_utf8()
            }
            '%' if !percent => {
                percent = true;
                1
            }
            _ if !has_currency => {
                has_currency = true;
                currency_behind(text)?
            }
            _ => return None,
        };
        text = text[..text.len() - length].trim_end();
    }
    let fits = |character: char| character.is_ascii_digit() || GROUPS.contains(&character);
    text.chars().all(fits).then_some((negative, percent, text))
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn numbers_by_an_example() {
        for (example, text, expected) in [
            ("1,234.50", "$49,442.00", Some("49442.00")),
            ("1,234.50", "1,250", Some("1250")),
            ("1,234.50", "(1,250)", Some("-1250")),
            ("1,234.50", "12.5 %", Some("0.125")),
            ("1,234.50", "-$5", Some("-5")),
            ("1,234.50", "5-", Some("-5")),
            ("1,234.50", "1.234,50", None),
            ("1,234.50", "12,34", None),
            ("1,234.50", "USD 1,000", Some("1000")),
            ("1,234.50", "Pier 4", None),
            ("1,234.50", "A1", None),
            ("1,234.50", "R$ 5", Some("5")),
            ("1,234.50", "5 kr", Some("5")),
            ("1,234.50", "$5 EUR", None),
            ("1,234.50", "", None),
            ("$1,234", "7", Some("7")),
            ("1.234,50", "1.234,50 €", Some("1234.50")),
            ("1.234,50", "10,00", Some("10.00")),
            ("1.234", "1.234,5", Some("1234.5")),
            ("1 234,50", "1\u{a0}234,50", Some("1234.50")),
            ("1'234.50", "1\u{2019}234.50", Some("1234.50")),
            ("12,5", "1234,5", Some("1234.5")),
        ] {
            let format: NumberFormat = example.parse().expect(example);
            let found = format.read(text.as_bytes()).ok().map(|n| n.to_string());
            assert_eq!(found.as_deref(), expected, "{text} like {example}");
        }
        for wrong in ["", "x", "1;234", "1,2,34.5", "1.2,3.4"] {
            assert!(wrong.parse::<NumberFormat>().is_err(), "{wrong}");
        }
    }
}
