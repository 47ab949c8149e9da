//! Sizes in bytes, as people write them.

use std::fmt;
use std::str::FromStr;

use serde::{Deserialize, Serialize};

/// A number of bytes, written as `64M`, `1.5GB` or `65536`. The units are powers of 1000, as those of reports and
/// disks; `Ki`, `Mi` and so on are powers of 1024 (IEC 80000-13). A `B` after them changes nothing.
#[derive(
    Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord, Serialize, Deserialize, schemars::JsonSchema,
)]
#[serde(try_from = "String", into = "String")]
pub struct Size(pub u64);

/// A text that is no size.
#[derive(Clone, Debug, PartialEq, Eq, thiserror::Error)]
#[error("'{0}' is not a size; write one such as 64M, 1.5G or 65536")]
pub struct SizeError(String);

const UNITS: [(&str, u64); 8] = [
    ("TI", 1 << 40),
    ("GI", 1 << 30),
    ("MI", 1 << 20),
    ("KI", 1 << 10),
    ("T", 1_000_000_000_000),
    ("G", 1_000_000_000),
    ("M", 1_000_000),
    ("K", 1_000),
];

impl FromStr for Size {
    type Err = SizeError;

    fn from_str(text: &str) -> Result<Self, Self::Err> {
        let failed = || SizeError(text.to_owned());
        let upper = text.trim().to_uppercase();
        let plain = upper.strip_suffix('B').unwrap_or(&upper);
        let unit = UNITS.iter().find(|(letter, _)| plain.ends_with(*letter));
        let (number, unit) = match unit {
            Some((letters, unit)) => (&plain[..plain.len() - letters.len()], *unit),
            None => (plain, 1),
        };
        let (whole, fraction) = number
            .trim()
            .split_once('.')
            .unwrap_or((number.trim(), "0"));
        let digits = |text: &str| {
            let valid = !text.is_empty() && text.len() <= 18;
            valid.then(|| text.parse::<u64>().ok()).flatten()
        };
        let whole = digits(whole)
            .and_then(|whole| whole.checked_mul(unit))
            .ok_or_else(failed)?;
        let thousandths = digits(&format!("{fraction:0<3}")[..3]).ok_or_else(failed)?;
        let part = thousandths * unit / 1000;
        whole.checked_add(part).map(Self).ok_or_else(failed)
    }
}

impl fmt::Display for Size {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        // The fewest digits.
        let fits = |(_, unit): &&(&str, u64)| self.0 >= *unit && self.0.is_multiple_of(*unit);
        let unit = UNITS.iter().filter(fits).max_by_key(|(_, unit)| *unit);
        match unit {
            Some((letters, unit)) => write!(f, "{}{}", self.0 / unit, letters.replace('I', "i")),
            None => write!(f, "{}", self.0),
        }
    }
}

impl TryFrom<String> for Size {
    type Error = SizeError;

    fn try_from(text: String) -> Result<Self, Self::Error> {
        text.parse()
    }
}

impl From<Size> for String {
    fn from(size: Size) -> Self {
        size.to_string()
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn sizes() {
        for (text, bytes) in [
            ("65536", 65_536),
            ("64M", 64_000_000),
            ("64mb", 64_000_000),
            ("64MiB", 64 << 20),
            ("1.5G", 1_500_000_000),
            ("1.5Gi", 3 << 29),
            ("2 K", 2000),
            ("2 kib", 2048),
            ("7B", 7),
        ] {
            assert_eq!(text.parse(), Ok(Size(bytes)), "{text}");
        }
        for text in ["", "M", "-1", "1e9", "12X", "99999999999T", "½G"] {
            assert!(text.parse::<Size>().is_err(), "{text}");
        }
        assert_eq!(Size(64 << 20).to_string(), "64Mi");
        assert_eq!(Size(64_000_000).to_string(), "64M");
        assert_eq!(Size(1000).to_string(), "1K");
        assert_eq!(Size(1001).to_string(), "1001");
    }
}
