//! Numbers as they are in cells: an optional minus, digits, and digits after a point.

use crate::narrow::to_u32;

/// A decimal number, exactly: `units / 10^scale`.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash, Default)]
pub struct Number {
    /// The number without its point.
    pub units: i128,
    /// Digits after the point.
    pub scale: u32,
}

/// A decimal number with commas between groups of three digits before its point.
///
/// ```
/// use numerant_data::value::grouped;
///
/// assert_eq!(grouped("-1234567.50"), "-1,234,567.50");
/// assert_eq!(grouped("12"), "12");
/// ```
pub fn grouped(number: &str) -> String {
    let (sign, digits) = match number.strip_prefix('-') {
        Some(digits) => ("-", digits),
        None => ("", number),
    };
    let (whole, fraction) = digits.split_at(digits.find('.').unwrap_or(digits.len()));
    let mut text = String::with_capacity(number.len() + whole.len() / 3);
    text.push_str(sign);
    for (place, digit) in whole.chars().enumerate() {
        if place > 0 && (whole.len() - place).is_multiple_of(3) {
            text.push(',');
        }
        text.push(digit);
    }
    text.push_str(fraction);
    text
}

/// A text that is no number, or one with more digits than are kept.
#[derive(Clone, Debug, PartialEq, Eq, thiserror::Error)]
#[error("'{0}' is not a number of up to 38 digits, such as -12.50")]
pub struct NumberError(pub String);

impl From<u64> for Number {
    fn from(count: u64) -> Self {
        Self {
            units: count.into(),
            scale: 0,
        }
    }
}

impl Number {
    /// Reads `-12.50`, `7` or `0.001`: no blanks, no thousands, no exponent.
    #[inline]
    pub fn parse(text: &[u8]) -> Option<Self> {
        let (negative, digits) = match text {
            [b'-', rest @ ..] => (true, rest),
            _ => (false, text),
        };
        if digits.len() <= 18 {
            return Self::parse_short(negative, digits);
        }
        let mut units = 0_i128;
        let mut point = None;
        for (place, byte) in digits.iter().enumerate() {
            match byte {
                b'0'..=b'9' => {
                    units = units
                        .checked_mul(10)?
                        .checked_add(i128::from(byte - b'0'))?;
                }
                b'.' if point.is_none() && place > 0 => point = Some(place),
                _ => return None,
            }
        }
        let scale = point.map_or(0, |point| digits.len() - point - 1);
        if digits.is_empty() || (point.is_some() && scale == 0) {
            return None;
        }
        let units = if negative { -units } else { units };
        Some(Self {
            units,
            scale: u32::try_from(scale).ok()?,
        })
    }

    /// [`Number::parse`] of what fits 64 bits.
    #[inline]
    fn parse_short(negative: bool, digits: &[u8]) -> Option<Self> {
        let mut units = 0_i64;
        let mut point = None;
        for (place, byte) in digits.iter().enumerate() {
            let digit = byte.wrapping_sub(b'0');
            if digit < 10 {
                units = units * 10 + i64::from(digit);
            } else if *byte == b'.' && point.is_none() && place > 0 {
                point = Some(place);
            } else {
                return None;
            }
        }
        let scale = point.map_or(0, |point| digits.len() - point - 1);
        if digits.is_empty() || (point.is_some() && scale == 0) {
            return None;
        }
        let units = i128::from(if negative { -units } else { units });
        Some(Self {
            units,
            scale: to_u32(scale),
        })
    }

    /// The same number with `scale` digits after the point; `None` if it has more digits there,
    /// or too many in all.
    #[inline]
    pub fn rescaled(self, scale: u32) -> Option<Self> {
        let more = scale.checked_sub(self.scale)?;
        let units = self.units.checked_mul(10_i128.checked_pow(more)?)?;
        Some(Self { units, scale })
    }
}

impl std::str::FromStr for Number {
    type Err = NumberError;

    fn from_str(text: &str) -> Result<Self, Self::Err> {
        Self::parse(text.as_bytes()).ok_or_else(|| NumberError(text.to_owned()))
    }
}

impl serde::Serialize for Number {
    /// As text, so that no reader takes it for a binary fraction.
    fn serialize<S: serde::Serializer>(&self, serializer: S) -> Result<S::Ok, S::Error> {
        serializer.collect_str(self)
    }
}

impl<'de> serde::Deserialize<'de> for Number {
    fn deserialize<D: serde::Deserializer<'de>>(deserializer: D) -> Result<Self, D::Error> {
        let text = String::deserialize(deserializer)?;
        text.parse().map_err(serde::de::Error::custom)
    }
}

/// How numbers are written in cells: which sign is before the fraction.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub enum DecimalMark {
    /// `1234.50`, with groups `1,234.50`.
    #[default]
    Point,
    /// `1234,50`, with groups `1.234,50`.
    Comma,
}

/// Why a text is not read as a number.
#[derive(Clone, Copy, Debug, PartialEq, Eq, thiserror::Error)]
pub enum NumberProblem {
    /// It is none.
    #[error("is not a number")]
    Not,
    /// It has too many digits.
    #[error("has more than 38 digits")]
    TooLong,
    /// Its only sign may are before a fraction or between thousands.
    #[error("could be read in two ways")]
    Ambiguous,
    /// It has the other decimal mark.
    #[error("has another decimal mark than stated")]
    OtherMark,
}

impl DecimalMark {
    fn bytes(self) -> (u8, u8) {
        match self {
            Self::Point => (b'.', b','),
            Self::Comma => (b',', b'.'),
        }
    }
}

impl Number {
    /// Reads a number as people write it: white space around it, a sign, groups of three digits
    /// where they cannot be taken for anything else (`1,234.50` and `1,234,567`, not `1,234`), and
    /// an exponent.
    ///
    /// # Errors
    ///
    /// [`NumberProblem`].
    #[inline]
    pub fn read(text: &[u8], mark: DecimalMark) -> Result<Self, NumberProblem> {
        if mark == DecimalMark::Point
            && let Some(number) = Self::parse(text)
        {
            return Ok(number);
        }
        Self::read_with_care(text.trim_ascii(), mark)
    }

    fn read_with_care(text: &[u8], mark: DecimalMark) -> Result<Self, NumberProblem> {
        let (decimal, group) = mark.bytes();
        let (sign, unsigned) = match text {
            [sign @ (b'-' | b'+'), rest @ ..] => (Some(*sign), rest),
            _ => (None, text),
        };
        let exponent_at = unsigned.iter().position(|byte| matches!(byte, b'e' | b'E'));
        let (digits, exponent) = match exponent_at {
            Some(at) => (&unsigned[..at], Some(&unsigned[at + 1..])),
            None => (unsigned, None),
        };
        let only = |bytes: &[u8], extra: &[u8]| {
            bytes
                .iter()
                .all(|byte| byte.is_ascii_digit() || extra.contains(byte))
        };
        if !digits.first().is_some_and(u8::is_ascii_digit) || !only(digits, &[decimal, group]) {
            return Err(NumberProblem::Not);
        }
        let (whole, fraction) = match digits.iter().position(|byte| *byte == decimal) {
            Some(at) => (&digits[..at], Some(&digits[at + 1..])),
            None => (digits, None),
        };
        if let Some(fraction) = fraction
            && (fraction.is_empty() || !only(fraction, &[]))
        {
            // Something like 1.234,50 where a point was said, or 1.2.3.
            let other = fraction.iter().filter(|byte| **byte == group).count() == 1
                && only(fraction, &[group]);
            return Err(if other {
                NumberProblem::OtherMark
            } else {
                NumberProblem::Not
            });
        }
        let groups: Vec<&[u8]> = whole.split(|byte| *byte == group).collect();
        if let [first, rest @ ..] = groups.as_slice()
            && !rest.is_empty()
        {
            let well_formed =
                (1..=3).contains(&first.len()) && rest.iter().all(|group| group.len() == 3);
            match (well_formed, rest.len(), fraction) {
                (true, 1, None) => return Err(NumberProblem::Ambiguous),
                (false, 1, None) if !rest[0].is_empty() => return Err(NumberProblem::OtherMark),
                (false, ..) => return Err(NumberProblem::Not),
                (true, ..) => {}
            }
        }
        let mut plain: Vec<u8> = groups.concat();
        if let Some(fraction) = fraction {
            plain.push(b'.');
            plain.extend_from_slice(fraction);
        }
        let count = plain.iter().filter(|byte| byte.is_ascii_digit()).count();
        let number = Self::parse(&plain).ok_or(if count > 38 {
            NumberProblem::TooLong
        } else {
            NumberProblem::Not
        })?;
        let number = if sign == Some(b'-') {
            number.negated()
        } else {
            number
        };
        match exponent {
            None => Ok(number),
            Some(exponent) => number.with_exponent(exponent),
        }
    }

    fn with_exponent(self, exponent: &[u8]) -> Result<Self, NumberProblem> {
        let exponent: i32 = std::str::from_utf8(exponent)
            .ok()
            .and_then(|text| text.parse().ok())
            .ok_or(NumberProblem::Not)?;
        let scale = i64::from(self.scale) - i64::from(exponent);
        if scale >= 0 {
            let scale = u32::try_from(scale)
                .ok()
                .filter(|scale| *scale <= 38)
                .ok_or(NumberProblem::TooLong)?;
            return Ok(Self {
                units: self.units,
                scale,
            });
        }
        u32::try_from(-scale)
            .ok()
            .and_then(|zeros| 10_i128.checked_pow(zeros))
            .and_then(|power| self.units.checked_mul(power))
            .filter(|units| units.unsigned_abs() < 10_u128.pow(38))
            .map(|units| Self { units, scale: 0 })
            .ok_or(NumberProblem::TooLong)
    }

    /// Appends the number as text: a minus where it is negative, digits, and after `mark` as many
    /// as its scale says.
    pub fn write(self, mark: DecimalMark, out: &mut Vec<u8>) {
        if self.units < 0 {
            out.push(b'-');
        }
        let scale = self.scale as usize;
        if let Ok(units) = u64::try_from(self.units.unsigned_abs())
            && scale < 20
        {
            return write_short(units, scale, mark, out);
        }
        let mut buffer = [b'0'; 96];
        let mut at = buffer.len();
        let mut left = self.units.unsigned_abs();
        while left > 0 {
            at -= 1;
            buffer[at] = b'0' + (left % 10) as u8;
            left /= 10;
        }
        let least = buffer.len() - (scale + 1).min(buffer.len());
        at = at.min(least);
        let digits = &buffer[at..];
        let whole = digits.len().saturating_sub(scale);
        out.extend_from_slice(&digits[..whole]);
        if scale > 0 {
            out.push(mark.bytes().0);
            out.extend_from_slice(&digits[whole..]);
        }
    }
}

/// Appends what fits 64 bits, without its sign.
#[inline]
fn write_short(units: u64, scale: usize, mark: DecimalMark, out: &mut Vec<u8>) {
    let mut buffer = [b'0'; 24];
    let mut at = buffer.len();
    let mut left = units;
    while left > 0 {
        at -= 1;
        buffer[at] = b'0' + (left % 10) as u8;
        left /= 10;
    }
    let digits = &buffer[at.min(buffer.len() - scale - 1)..];
    let (whole, fraction) = digits.split_at(digits.len() - scale);
    out.extend_from_slice(whole);
    if scale > 0 {
        out.push(mark.bytes().0);
        out.extend_from_slice(fraction);
    }
}

impl std::fmt::Display for Number {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        let mut text = Vec::new();
        self.write(DecimalMark::Point, &mut text);
        f.write_str(&String::from_utf8_lossy(&text))
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn numbers_as_people_write_them() {
        use NumberProblem::{Ambiguous, Not, OtherMark, TooLong};
        let read =
            |text: &str, mark| Number::read(text.as_bytes(), mark).map(|number| number.to_string());
        let nines = "9".repeat(39);
        for (text, point, comma) in [
            ("1234.50", Ok("1234.50"), Err(OtherMark)),
            ("1234,50", Err(OtherMark), Ok("1234.50")),
            ("1,234.50", Ok("1234.50"), Err(OtherMark)),
            ("1.234,50", Err(OtherMark), Ok("1234.50")),
            ("1,234", Err(Ambiguous), Ok("1.234")),
            ("1.234", Ok("1.234"), Err(Ambiguous)),
            ("1,234,567", Ok("1234567"), Err(Not)),
            ("12,34,567", Err(Not), Err(Not)),
            (" 7 ", Ok("7"), Ok("7")),
            ("+7", Ok("7"), Ok("7")),
            ("-1.5E3", Ok("-1500"), Err(OtherMark)),
            ("15e-2", Ok("0.15"), Ok("0.15")),
            ("1e99", Err(TooLong), Err(TooLong)),
            (&nines, Err(TooLong), Err(TooLong)),
            ("", Err(Not), Err(Not)),
            ("n/a", Err(Not), Err(Not)),
            ("1e", Err(Not), Err(Not)),
            (".5", Err(Not), Err(Not)),
            ("5.", Err(Not), Err(Not)),
        ] {
            let expected = |result: Result<&str, NumberProblem>| result.map(str::to_owned);
            assert_eq!(read(text, DecimalMark::Point), expected(point), "{text:?}");
            assert_eq!(read(text, DecimalMark::Comma), expected(comma), "{text:?}");
        }
    }

    #[test]
    fn numbers_are_written_with_all_their_digits() {
        for (units, scale, point, comma) in [
            (0, 0, "0", "0"),
            (0, 2, "0.00", "0,00"),
            (-5, 3, "-0.005", "-0,005"),
            (1_234_567, 2, "12345.67", "12345,67"),
            (
                u64::MAX.into(),
                0,
                "18446744073709551615",
                "18446744073709551615",
            ),
            (
                10_i128.pow(30),
                30,
                "1.000000000000000000000000000000",
                "1,000000000000000000000000000000",
            ),
            (
                7,
                25,
                "0.0000000000000000000000007",
                "0,0000000000000000000000007",
            ),
        ] {
            let written = |mark| {
                let mut out = Vec::new();
                Number { units, scale }.write(mark, &mut out);
                String::from_utf8(out).expect("ASCII")
            };
            assert_eq!(written(DecimalMark::Point), point);
            assert_eq!(written(DecimalMark::Comma), comma);
        }
    }

    #[test]
    fn numbers_there_and_back() {
        for text in [
            "0",
            "7",
            "-12.50",
            "0.001",
            "170141183460469231731687303715884105727",
        ] {
            assert_eq!(text.parse::<Number>().expect("a number").to_string(), text);
        }
        for text in ["", "-", ".5", "5.", "1e5", "1,5", " 1", "+1", "1.2.3", "½"] {
            assert_eq!(Number::parse(text.as_bytes()), None, "{text}");
        }
        assert_eq!(
            Number::parse(&[b'9'; 40]),
            None,
            "more digits than are kept"
        );
        assert_eq!(
            "1.5"
                .parse::<Number>()
                .ok()
                .and_then(|n| n.rescaled(3))
                .map(|n| n.units),
            Some(1500)
        );
    }
}
