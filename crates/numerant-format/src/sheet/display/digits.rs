//! The digits of a number, rounded as people round.

use numerant_data::narrow::to_i64;

/// The most digits in front of the point.
const MAX_POINT: i64 = 400;

/// A number as its decimal digits: exact, as they are written.
#[derive(Clone, Debug, PartialEq, Eq)]
pub(super) struct Digits {
    pub(super) is_negative: bool,
    /// Digits from 0 to 9, without zeros at either end; none for zero.
    digits: Vec<u8>,
    /// Where the point is: after so many digits, before the first if it is less than one.
    point: i64,
}

impl Digits {
    /// Reads a number such as `-12.50` or `1E-7`.
    pub(super) fn parse(text: &str) -> Option<Self> {
        let (is_negative, rest) = match text.strip_prefix('-') {
            Some(rest) => (true, rest),
            None => (false, text),
        };
        let (mantissa, exponent) = match rest.split_once(['e', 'E']) {
            Some((mantissa, exponent)) => (mantissa, exponent.parse::<i64>().ok()?),
            None => (rest, 0),
        };
        let (whole, fraction) = mantissa.split_once('.').unwrap_or((mantissa, ""));
        let is_digits = |text: &str| text.bytes().all(|byte| byte.is_ascii_digit());
        if whole.is_empty() || !is_digits(whole) || !is_digits(fraction) {
            return None;
        }
        let all = whole.bytes().chain(fraction.bytes());
        let found = Self {
            is_negative,
            digits: all.map(|byte| byte - b'0').collect(),
            point: to_i64(whole.len()) + exponent,
        };
        let found = found.trimmed();
        (-MAX_POINT..=MAX_POINT)
            .contains(&found.point)
            .then_some(found)
    }

    /// The number of a moment in days.
    pub(super) fn of_serial(serial: f64) -> Self {
        let zero = Self {
            is_negative: false,
            digits: Vec::new(),
            point: 0,
        };
        Self::parse(&serial.to_string()).unwrap_or(zero)
    }

    fn trimmed(mut self) -> Self {
        let leading = self.digits.iter().take_while(|digit| **digit == 0).count();
        self.digits.drain(..leading);
        self.point -= to_i64(leading);
        while self.digits.last() == Some(&0) {
            self.digits.pop();
        }
        if self.digits.is_empty() {
            self.point = 0;
        }
        self
    }

    /// Whether it is zero.
    pub(super) fn is_zero(&self) -> bool {
        self.digits.is_empty()
    }

    /// The number as a double.
    pub(super) fn number(&self) -> f64 {
        let digits: String = self
            .digits
            .iter()
            .map(|digit| char::from(b'0' + digit))
            .collect();
        let sign = if self.is_negative { "-" } else { "" };
        let text = format!("{sign}0.{digits}0e{}", self.point);
        text.parse().unwrap_or(0.0)
    }

    /// The number times a power of ten.
    pub(super) fn shifted(&self, places: i64) -> Self {
        let point = if self.is_zero() {
            0
        } else {
            self.point + places
        };
        Self {
            point,
            ..self.clone()
        }
    }

    /// The power of ten of its first digit.
    pub(super) fn exponent(&self) -> i64 {
        if self.is_zero() { 0 } else { self.point - 1 }
    }

    /// The number with so many digits after the point; half a digit goes away from zero.
    pub(super) fn rounded(&self, places: usize) -> Self {
        let kept = self.point + to_i64(places);
        let mut rounded = self.clone();
        let Ok(kept) = usize::try_from(kept) else {
            rounded.digits.clear();
            return rounded.trimmed();
        };
        if kept >= rounded.digits.len() {
            return rounded;
        }
        let goes_up = rounded.digits[kept] >= 5;
        rounded.digits.truncate(kept);
        if goes_up {
            let mut carry = true;
            for digit in rounded.digits.iter_mut().rev() {
                *digit += 1;
                carry = *digit == 10;
                if !carry {
                    break;
                }
                *digit = 0;
            }
            if carry {
                rounded.digits.insert(0, 1);
                rounded.point += 1;
            }
        }
        rounded.trimmed()
    }

    /// The digits in front of the point, without leading zeros.
    pub(super) fn whole(&self) -> Vec<u8> {
        let length = usize::try_from(self.point).unwrap_or(0);
        let padded = self.digits.iter().copied().chain(std::iter::repeat(0));
        padded.take(length).collect()
    }

    /// The digit at a place after the point, from 0.
    pub(super) fn behind(&self, place: usize) -> u8 {
        let at = usize::try_from(self.point + to_i64(place)).ok();
        at.and_then(|at| self.digits.get(at)).copied().unwrap_or(0)
    }

    /// Whether all digits after the point are zero from a place on.
    pub(super) fn ends_before(&self, place: usize) -> bool {
        self.point + to_i64(place) >= to_i64(self.digits.len())
    }

    /// What is after the point.
    pub(super) fn fraction(&self) -> Self {
        let length = usize::try_from(self.point)
            .unwrap_or(0)
            .min(self.digits.len());
        let rest = Self {
            is_negative: false,
            digits: self.digits[length..].to_vec(),
            point: self.point.min(0),
        };
        rest.trimmed()
    }
}
