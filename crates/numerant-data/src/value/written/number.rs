//! Numbers with groups, currencies, percent signs and signs of negative numbers.

use std::fmt::Write;

use serde::{Deserialize, Serialize};

use super::super::Number;
use super::super::currency::{GROUPS, is_certain};
use super::locale::format_language;

/// Digits that every double holds, and so every cell.
const MAX_DIGITS: usize = 15;

/// Blanks that may are between a number and its currency.
const BLANKS: [char; 3] = [' ', '\u{a0}', '\u{202f}'];

/// How a negative number is marked.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub enum Negative {
    /// `-$5`.
    Before,
    /// `$-5`.
    BeforeDigits,
    /// `5-`, after everything.
    Behind,
    /// `($5)`.
    Parentheses,
}

/// How the numbers of a column are written.
#[derive(Clone, Debug, PartialEq, Eq, Hash, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub struct NumberPattern {
    /// What is before the fraction: `.` or `,`.
    pub mark: char,
    /// What groups thousands; `None` if nothing does.
    pub group: Option<char>,
    /// Digits of the fraction, the same in all numbers.
    pub places: u8,
    /// A currency before the digits, with the blank between.
    pub prefix: String,
    /// A currency or percent sign after the digits, with the blank between.
    pub suffix: String,
    /// How negative numbers are marked.
    pub negative: Negative,
}

/// A number taken apart.
#[derive(Clone, Debug, PartialEq, Eq)]
pub(super) struct Parts<'t> {
    pub(super) negative: Option<Negative>,
    pub(super) prefix: &'t str,
    pub(super) suffix: &'t str,
    /// The digits before the fraction, with what groups them.
    pub(super) whole: &'t str,
    /// The digits of the fraction.
    pub(super) fraction: &'t str,
    /// What groups the digits, if there is a group.
    pub(super) group: Option<char>,
    /// Digits before the fraction.
    pub(super) digits: usize,
}

fn is_prefix(text: &str) -> bool {
    let bare = text.strip_suffix(BLANKS).unwrap_or(text);
    text.is_empty() || is_certain(bare, bare.len() < text.len())
}

fn is_suffix(text: &str) -> bool {
    let bare = text.strip_prefix(BLANKS).unwrap_or(text);
    text.is_empty() || bare == "%" || is_certain(bare, bare.len() < text.len())
}

impl<'t> Parts<'t> {
    /// Takes a text apart that is a number whose fraction is after `mark`; `None` for any other text.
    pub(super) fn of(text: &'t str, mark: char) -> Option<Self> {
        let first = text.bytes().position(|byte| byte.is_ascii_digit())?;
        let last = text.bytes().rposition(|byte| byte.is_ascii_digit())?;
        let (mut prefix, mut suffix) = (&text[..first], &text[last + 1..]);
        let mut negative = None;
        if let (Some(inside), Some(before)) = (prefix.strip_prefix('('), suffix.strip_suffix(')')) {
            negative = Some(Negative::Parentheses);
            (prefix, suffix) = (inside, before);
        } else if let Some(rest) = prefix.strip_prefix('-') {
            negative = Some(Negative::Before);
            prefix = rest;
        } else if let Some(rest) = prefix.strip_suffix('-') {
            negative = Some(Negative::BeforeDigits);
            prefix = rest;
        } else if let Some(rest) = suffix.strip_suffix('-') {
            negative = Some(Negative::Behind);
            suffix = rest;
        }
        if !is_prefix(prefix) || !is_suffix(suffix) || (!prefix.is_empty() && !suffix.is_empty()) {
            return None;
        }
        let digits = &text[first..=last];
        let (whole, fraction) = match digits.split_once(mark) {
            Some((_, "")) => return None,
            Some((whole, fraction)) => (whole, fraction),
            None => (digits, ""),
        };
        if !fraction.bytes().all(|byte| byte.is_ascii_digit()) {
            return None;
        }
        let mut group = None;
        let mut count = 0;
        let mut since = 0;
        for character in whole.chars() {
            if character.is_ascii_digit() {
                count += 1;
                since += 1;
                continue;
            }
            let fits = match group {
                None => since <= 3 && character != mark && GROUPS.contains(&character),
                Some(known) => since == 3 && character == known,
            };
            if !fits {
                return None;
            }
            group = Some(character);
            since = 0;
        }
        let has_nought = whole.len() > 1 && whole.starts_with('0');
        let digits = count + fraction.trim_end_matches('0').len();
        if (group.is_some() && since != 3) || has_nought || digits > MAX_DIGITS {
            return None;
        }
        let parts = Self {
            negative,
            prefix,
            suffix,
            whole,
            fraction,
            group,
            digits: count,
        };
        // A minus before zero would be lost.
        (negative.is_none() || !parts.is_zero()).then_some(parts)
    }

    fn is_zero(&self) -> bool {
        let mut digits = self.whole.bytes().chain(self.fraction.bytes());
        !digits.any(|byte| (b'1'..=b'9').contains(&byte))
    }

    /// The number, a percentage as hundredths.
    fn number(&self) -> Option<Number> {
        let mut units = 0_i128;
        for byte in self.whole.bytes().chain(self.fraction.bytes()) {
            if byte.is_ascii_digit() {
                units = units.checked_mul(10)? + i128::from(byte - b'0');
            }
        }
        let percent = if self.suffix.ends_with('%') { 2 } else { 0 };
        Some(Number {
            units: if self.negative.is_some() {
                -units
            } else {
                units
            },
            scale: u32::try_from(self.fraction.len()).ok()? + percent,
        })
    }
}

impl NumberPattern {
    /// Whether numbers are divided by 100 to be what they mean.
    pub fn is_percent(&self) -> bool {
        self.suffix.ends_with('%')
    }

    /// Whether a number taken apart is written so, whatever digits its fraction has.
    pub(super) fn fits(&self, parts: &Parts<'_>) -> bool {
        let is_grouped = parts.group.is_some();
        parts.prefix == self.prefix
            && parts.suffix == self.suffix
            && parts
                .negative
                .is_none_or(|negative| negative == self.negative)
            && (parts.digits <= 3 || is_grouped == self.group.is_some())
            && (!is_grouped || parts.group == self.group)
    }

    /// The number that a text is; `None` if it is not written so.
    pub fn read(&self, text: &str) -> Option<Number> {
        let parts = Parts::of(text, self.mark)?;
        let has_places = parts.fraction.len() == usize::from(self.places);
        (has_places && self.fits(&parts)).then(|| parts.number())?
    }

    /// The number that a text is that is written so, but for the digits of its fraction; `None` if it is
    /// not.
    pub fn value(&self, text: &str) -> Option<Number> {
        let parts = Parts::of(text, self.mark)?;
        self.fits(&parts).then(|| parts.number())?
    }

    /// Writes a number; `None` if the pattern has no room for all its digits.
    pub fn write(&self, number: Number) -> Option<String> {
        let places = u32::from(self.places) + if self.is_percent() { 2 } else { 0 };
        let mut number = number;
        while number.scale > places && number.units % 10 == 0 {
            number.units /= 10;
            number.scale -= 1;
        }
        let number = number.rescaled(places)?;
        let digits = format!(
            "{:0>width$}",
            number.units.unsigned_abs(),
            width = usize::from(self.places) + 1
        );
        let (whole, fraction) = digits.split_at(digits.len() - usize::from(self.places));
        let mut body = String::new();
        for (place, digit) in whole.chars().enumerate() {
            if place > 0 && (whole.len() - place).is_multiple_of(3) {
                body.extend(self.group);
            }
            body.push(digit);
        }
        if !fraction.is_empty() {
            body.push(self.mark);
            body.push_str(fraction);
        }
        let (prefix, suffix) = (&self.prefix, &self.suffix);
        Some(match self.negative {
            _ if number.units >= 0 => format!("{prefix}{body}{suffix}"),
            Negative::Before => format!("-{prefix}{body}{suffix}"),
            Negative::BeforeDigits => format!("{prefix}-{body}{suffix}"),
            Negative::Behind => format!("{prefix}{body}{suffix}-"),
            Negative::Parentheses => format!("({prefix}{body}{suffix})"),
        })
    }

    /// The number format of a cell, after ECMA-376 Part 1, 18.8.31. A language of its own is before it
    /// where numbers are not written as in English.
    pub fn code(&self) -> String {
        let mut digits = if self.group.is_some() { "#,##0" } else { "0" }.to_owned();
        if self.places > 0 {
            digits.push('.');
            digits.extend(std::iter::repeat_n('0', self.places.into()));
        }
        let (prefix, suffix) = (quoted(&self.prefix), quoted(&self.suffix));
        let plain = format!("{prefix}{digits}{suffix}");
        // Without a fraction and a group nothing depends on a language.
        let language = match (self.places, self.group) {
            (0, None) => String::new(),
            _ => language_code(self.mark, self.group),
        };
        let mut code = format!("{language}{plain}");
        match self.negative {
            Negative::Before => {}
            Negative::BeforeDigits if prefix.is_empty() => {}
            Negative::BeforeDigits => {
                let _ = write!(code, ";{language}{prefix}-{digits}{suffix}");
            }
            Negative::Behind => {
                let _ = write!(code, ";{language}{plain}-");
            }
            Negative::Parentheses => {
                let _ = write!(code, ";{language}({plain})");
            }
        }
        code
    }
}

/// A text as it is in a number format: characters that are shown as they are need no quotes.
fn quoted(text: &str) -> String {
    let is_plain = |character: char| matches!(character, '$' | '%' | ' ' | '-');
    if text.chars().all(is_plain) {
        return text.to_owned();
    }
    format!("\"{text}\"")
}

/// The language at the start of a number format; none for English.
fn language_code(mark: char, group: Option<char>) -> String {
    let is_english = mark == '.' && group.is_none_or(|group| group == ',');
    match format_language(mark, group) {
        Some(number) if !is_english => format!("[$-{number:X}]"),
        _ => String::new(),
    }
}

impl NumberPattern {
    /// Whether a number format of workbooks has a language for these separators.
    pub(super) fn has_language(mark: char, group: Option<char>) -> bool {
        let is_english = mark == '.' && group.is_none_or(|group| group == ',');
        is_english || !language_code(mark, group).is_empty()
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn pattern(mark: char, group: Option<char>, places: u8) -> NumberPattern {
        NumberPattern {
            mark,
            group,
            places,
            prefix: String::new(),
            suffix: String::new(),
            negative: Negative::Before,
        }
    }

    #[test]
    fn numbers_are_read_and_written_again() {
        let dollars = NumberPattern {
            prefix: "$".to_owned(),
            negative: Negative::Parentheses,
            ..pattern('.', Some(','), 2)
        };
        let euros = NumberPattern {
            suffix: " €".to_owned(),
            ..pattern(',', Some('.'), 2)
        };
        let percent = NumberPattern {
            suffix: " %".to_owned(),
            ..pattern('.', None, 1)
        };
        for (pattern, text, value, code) in [
            (&dollars, "$49,442.00", "49442.00", "$#,##0.00;($#,##0.00)"),
            (&dollars, "($1,250.50)", "-1250.50", "$#,##0.00;($#,##0.00)"),
            (
                &euros,
                "1.234.567,89 €",
                "1234567.89",
                "[$-407]#,##0.00\" €\"",
            ),
            (&euros, "-0,05 €", "-0.05", "[$-407]#,##0.00\" €\""),
            (&percent, "12.5 %", "0.125", "0.0 %"),
        ] {
            let number = pattern.read(text).expect(text);
            assert_eq!(number.to_string(), value, "{text}");
            assert_eq!(pattern.write(number).as_deref(), Some(text));
            assert_eq!(pattern.code(), code);
        }
        for text in [
            "$49442.00",
            "$1,2.00",
            "49,442.00",
            "$1.5",
            "-$5.00",
            "$007.00",
            "n/a",
            "",
        ] {
            assert_eq!(dollars.read(text), None, "{text}");
        }
        // A cell holds 15 digits.
        assert_eq!(
            pattern('.', Some(','), 0).read("1,234,567,890,123,456"),
            None
        );
    }
}
