//! Numbers as they stand in cells: an optional minus, digits, and digits behind a point.

/// A decimal number, exactly: `units / 10^scale`.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash)]
pub struct Number {
    /// The number without its point.
    pub units: i128,
    /// Digits behind the point.
    pub scale: u32,
}

/// A text that is no number, or one with more digits than are kept.
#[derive(Clone, Debug, PartialEq, Eq, thiserror::Error)]
#[error("'{0}' is not a number of up to 38 digits, such as -12.50")]
pub struct NumberError(pub String);

impl Number {
    /// Reads `-12.50`, `7` or `0.001`: no blanks, no thousands, no exponent.
    pub fn parse(text: &[u8]) -> Option<Self> {
        let (negative, digits) = match text {
            [b'-', rest @ ..] => (true, rest),
            _ => (false, text),
        };
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

    /// The same number with `scale` digits behind the point; `None` if it has more digits there,
    /// or too many in all.
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

impl std::fmt::Display for Number {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        let sign = if self.units < 0 { "-" } else { "" };
        let digits = self.units.unsigned_abs().to_string();
        let scale = self.scale as usize;
        if scale == 0 {
            return write!(f, "{sign}{digits}");
        }
        let padded = format!("{digits:0>width$}", width = scale + 1);
        let (whole, fraction) = padded.split_at(padded.len() - scale);
        write!(f, "{sign}{whole}.{fraction}")
    }
}

#[cfg(test)]
mod tests {
    use super::*;

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
