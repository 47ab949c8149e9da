//! Decimal numbers of any length, to be put in order.

use super::DecimalMark;
use crate::narrow::to_i64;

/// A number as it is written, exactly: `0.DIGITS × 10^magnitude`.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct LongDecimal {
    /// A minus is in front.
    pub negative: bool,
    /// Digits from 0 to 9, the first and the last of which are not 0; none for zero.
    pub digits: Vec<u8>,
    /// Digits before the point; below 0 for zeros after it.
    pub magnitude: i64,
}

/// Digits of an exponent, at most.
const EXPONENT_DIGITS: usize = 9;

impl LongDecimal {
    /// Reads a number with a sign, groups of three digits and an exponent, of any length: white space
    /// around it is skipped, and a sign that may group digits does.
    pub fn parse(text: &[u8], mark: DecimalMark) -> Option<Self> {
        let (decimal, group) = match mark {
            DecimalMark::Point => (b'.', b','),
            DecimalMark::Comma => (b',', b'.'),
        };
        let text = text.trim_ascii();
        let (negative, unsigned) = match text {
            [b'-', rest @ ..] => (true, rest),
            [b'+', rest @ ..] => (false, rest),
            _ => (false, text),
        };
        let exponent_at = unsigned.iter().position(|byte| matches!(byte, b'e' | b'E'));
        let (mantissa, exponent) = match exponent_at {
            Some(at) => (&unsigned[..at], exponent(&unsigned[at + 1..])?),
            None => (unsigned, 0),
        };
        let (whole, fraction) = match mantissa.iter().position(|byte| *byte == decimal) {
            Some(at) => (&mantissa[..at], &mantissa[at + 1..]),
            None => (mantissa, &b""[..]),
        };
        let are_digits = |part: &[u8]| part.iter().all(u8::is_ascii_digit);
        if (whole.is_empty() && fraction.is_empty()) || !are_digits(fraction) {
            return None;
        }
        let mut digits = Vec::with_capacity(mantissa.len());
        let groups = whole.split(|byte| *byte == group);
        let several = whole.contains(&group);
        for (place, part) in groups.enumerate() {
            let fits = match place {
                0 => !several || (1..=3).contains(&part.len()),
                _ => part.len() == 3,
            };
            if !fits || !are_digits(part) {
                return None;
            }
            digits.extend(part.iter().map(|byte| byte - b'0'));
        }
        let mut magnitude = to_i64(digits.len()) + exponent;
        digits.extend(fraction.iter().map(|byte| byte - b'0'));
        let zeros = digits.iter().take_while(|digit| **digit == 0).count();
        digits.drain(..zeros);
        magnitude -= to_i64(zeros);
        while digits.last() == Some(&0) {
            digits.pop();
        }
        if digits.is_empty() {
            magnitude = 0;
        }
        Some(Self {
            negative: negative && !digits.is_empty(),
            digits,
            magnitude,
        })
    }
}

fn exponent(text: &[u8]) -> Option<i64> {
    let (negative, digits) = match text {
        [b'-', rest @ ..] => (true, rest),
        [b'+', rest @ ..] => (false, rest),
        _ => (false, text),
    };
    let known = (1..=EXPONENT_DIGITS).contains(&digits.len());
    if !known || !digits.iter().all(u8::is_ascii_digit) {
        return None;
    }
    let digit = |sum: i64, digit: &u8| sum * 10 + i64::from(digit - b'0');
    let value = digits.iter().fold(0, digit);
    Some(if negative { -value } else { value })
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn numbers_of_any_length() {
        let parsed = |text: &str, mark| {
            let found = LongDecimal::parse(text.as_bytes(), mark)?;
            let digits: String = found
                .digits
                .iter()
                .map(|digit| char::from(digit + b'0'))
                .collect();
            let sign = if found.negative { "-" } else { "" };
            Some(format!("{sign}{digits}e{}", found.magnitude))
        };
        let point = |text| parsed(text, DecimalMark::Point);
        for (text, expected) in [
            ("0.00056123456789012345", Some("56123456789012345e-3")),
            ("5", Some("5e1")),
            ("-007.50", Some("-75e1")),
            ("1E5", Some("1e6")),
            ("1.5e-07", Some("15e-6")),
            ("-0", Some("e0")),
            ("1,234.50", Some("12345e4")),
            ("1,234", Some("1234e4")),
            (" +5. ", Some("5e1")),
            (".5", Some("5e0")),
            ("10,00", None),
            ("1.2.3", None),
            ("5.3.2026", None),
            ("2026-03-05", None),
            ("1e", None),
            ("1e9999999999", None),
            (".", None),
            ("", None),
            ("Pier 4", None),
        ] {
            assert_eq!(point(text).as_deref(), expected, "{text}");
        }
        assert_eq!(
            parsed("1.000,50", DecimalMark::Comma).as_deref(),
            Some("10005e4")
        );
        assert_eq!(parsed("2,5", DecimalMark::Comma).as_deref(), Some("25e1"));
    }
}
