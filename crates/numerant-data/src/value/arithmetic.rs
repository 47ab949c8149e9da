//! Arithmetic with exact decimals: nothing is rounded unless it is asked for, and what does not
//! fit is an error.

use std::cmp::Ordering;

use super::Number;

/// Digits after the point to which a quotient is carried that does not come out.
pub const QUOTIENT_SCALE: u32 = 20;

/// The first number that has too many digits.
const LIMIT: u128 = 10_u128.pow(38);

/// Why there is no result.
#[derive(Clone, Copy, Debug, PartialEq, Eq, thiserror::Error)]
pub enum ArithmeticError {
    /// It has more digits than are kept.
    #[error("the result has more than 38 digits")]
    Overflow,
    /// There is nothing to divide by.
    #[error("division by zero")]
    DivisionByZero,
}

/// How a number is cut down to fewer digits.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Rounding {
    /// To the nearest; the half away from zero.
    HalfUp,
    /// Towards minus infinity.
    Floor,
    /// Towards plus infinity.
    Ceiling,
}

impl Number {
    /// Nothing.
    pub const ZERO: Self = Self { units: 0, scale: 0 };

    fn checked(units: Option<i128>, scale: u32) -> Result<Self, ArithmeticError> {
        match units {
            Some(units) if units.unsigned_abs() < LIMIT => Ok(Self { units, scale }),
            _ => Err(ArithmeticError::Overflow),
        }
    }

    /// Both numbers with as many digits after the point as the one that has more.
    fn aligned(self, other: Self) -> Result<(i128, i128, u32), ArithmeticError> {
        if self.scale == other.scale {
            return Ok((self.units, other.units, self.scale));
        }
        let scale = self.scale.max(other.scale);
        let units = |number: Self| number.rescaled(scale).map(|number| number.units);
        units(self)
            .zip(units(other))
            .map(|(one, other)| (one, other, scale))
            .ok_or(ArithmeticError::Overflow)
    }

    /// The sum, with as many digits after the point as the term that has more.
    ///
    /// # Errors
    ///
    /// [`ArithmeticError::Overflow`].
    #[inline]
    pub fn plus(self, other: Self) -> Result<Self, ArithmeticError> {
        let (one, other, scale) = self.aligned(other)?;
        Self::checked(one.checked_add(other), scale)
    }

    /// The difference, with as many digits after the point as the term that has more.
    ///
    /// # Errors
    ///
    /// [`ArithmeticError::Overflow`].
    #[inline]
    pub fn minus(self, other: Self) -> Result<Self, ArithmeticError> {
        let (one, other, scale) = self.aligned(other)?;
        Self::checked(one.checked_sub(other), scale)
    }

    /// The product, with as many digits after the point as both factors together.
    ///
    /// # Errors
    ///
    /// [`ArithmeticError::Overflow`].
    #[inline]
    pub fn times(self, other: Self) -> Result<Self, ArithmeticError> {
        let scale = self.scale + other.scale;
        if let (Ok(one), Ok(other)) = (i64::try_from(self.units), i64::try_from(other.units)) {
            return Ok(Self {
                units: i128::from(one) * i128::from(other),
                scale,
            });
        }
        let product = Self::checked(self.units.checked_mul(other.units), scale);
        product.or_else(|error| {
            // Zeros at the end of the factors need not be in the way.
            let (short, short_other) = (self.shortest(), other.shortest());
            if (short, short_other) == (self, other) {
                return Err(error);
            }
            let units = short.units.checked_mul(short_other.units);
            Self::checked(units, short.scale + short_other.scale)
        })
    }

    /// The quotient: all digits of it if it comes out within 20 after the point, and if not that
    /// many, the half away from zero.
    ///
    /// # Errors
    ///
    /// [`ArithmeticError::DivisionByZero`] and [`ArithmeticError::Overflow`].
    pub fn divided_by(self, other: Self) -> Result<Self, ArithmeticError> {
        if other.units == 0 {
            return Err(ArithmeticError::DivisionByZero);
        }
        let (dividend, divisor, _) = self.shortest().aligned(other.shortest())?;
        let negative = (dividend < 0) != (divisor < 0);
        let (dividend, divisor) = (dividend.unsigned_abs(), divisor.unsigned_abs());
        let mut quotient = dividend / divisor;
        let mut rest = dividend % divisor;
        let mut scale = 0;
        let overflow = ArithmeticError::Overflow;
        while rest > 0 && scale < QUOTIENT_SCALE {
            rest = rest.checked_mul(10).ok_or(overflow)?;
            quotient = quotient
                .checked_mul(10)
                .and_then(|tens| tens.checked_add(rest / divisor))
                .ok_or(overflow)?;
            rest %= divisor;
            scale += 1;
        }
        if rest >= divisor - rest {
            quotient += 1;
        }
        let units = i128::try_from(quotient).ok();
        let units = units.map(|units| if negative { -units } else { units });
        Self::checked(units, scale)
    }

    /// What is left of a division into whole parts, with the sign of the dividend (ISO/IEC 9075-2,
    /// `MOD`).
    ///
    /// # Errors
    ///
    /// [`ArithmeticError::DivisionByZero`] and [`ArithmeticError::Overflow`].
    #[inline]
    pub fn remainder(self, other: Self) -> Result<Self, ArithmeticError> {
        if other.units == 0 {
            return Err(ArithmeticError::DivisionByZero);
        }
        let (dividend, divisor, scale) = self.aligned(other)?;
        Self::checked(Some(dividend % divisor), scale)
    }

    /// The number with the other sign.
    #[inline]
    pub fn negated(self) -> Self {
        Self {
            units: -self.units,
            ..self
        }
    }

    /// The number with `scale` digits after the point: cut down as `rounding` says, or filled
    /// with zeros. A negative `scale` rounds to tens, hundreds and so on.
    ///
    /// # Errors
    ///
    /// [`ArithmeticError::Overflow`].
    pub fn rounded(self, scale: i32, rounding: Rounding) -> Result<Self, ArithmeticError> {
        let surplus = i64::from(self.scale) - i64::from(scale);
        if surplus <= 0 {
            let wanted = u32::try_from(scale).map_err(|_| ArithmeticError::Overflow)?;
            let filled = self.rescaled(wanted).ok_or(ArithmeticError::Overflow)?;
            return Self::checked(Some(filled.units), filled.scale);
        }
        let places = u32::try_from(scale).unwrap_or(0);
        let Some(step) = u32::try_from(surplus)
            .ok()
            .and_then(|surplus| 10_i128.checked_pow(surplus))
        else {
            // The whole number is less than half a step.
            return match (rounding, self.units.signum()) {
                (Rounding::Floor, -1) | (Rounding::Ceiling, 1) => Err(ArithmeticError::Overflow),
                _ => Ok(Self {
                    units: 0,
                    scale: places,
                }),
            };
        };
        let below = self.units.div_euclid(step);
        let rest = self.units.rem_euclid(step);
        let up = match rounding {
            Rounding::Floor => false,
            Rounding::Ceiling => rest > 0,
            Rounding::HalfUp if self.units >= 0 => rest >= step - rest,
            Rounding::HalfUp => rest > step - rest,
        };
        let units = below + i128::from(up);
        let units = if scale < 0 {
            10_i128
                .checked_pow(scale.unsigned_abs())
                .and_then(|tens| units.checked_mul(tens))
        } else {
            Some(units)
        };
        Self::checked(units, places)
    }

    /// The same number without zeros at the end of its fraction.
    #[inline]
    pub fn shortest(self) -> Self {
        let mut number = self;
        while number.scale > 0 && number.units % 10 == 0 {
            number.units /= 10;
            number.scale -= 1;
        }
        number
    }

    /// As a whole number, if it is one.
    #[inline]
    pub fn whole(self) -> Option<i128> {
        let shortest = self.shortest();
        (shortest.scale == 0).then_some(shortest.units)
    }

    /// Which of two numbers is greater; `1.0` and `1` are the same.
    #[inline]
    pub fn compare(self, other: Self) -> Ordering {
        if self.scale == other.scale {
            return self.units.cmp(&other.units);
        }
        match self.aligned(other) {
            Ok((one, other, _)) => one.cmp(&other),
            // The one that cannot be filled up is the greater one without its sign.
            Err(_) if self.scale < other.scale => self.units.cmp(&0),
            Err(_) => 0.cmp(&other.units),
        }
    }
}

#[cfg(test)]
mod tests {
    use proptest::prelude::*;

    use super::*;

    fn number(text: &str) -> Number {
        text.parse().expect(text)
    }

    #[test]
    fn results_are_exact() {
        let shown = |result: Result<Number, ArithmeticError>| result.expect("a number").to_string();
        assert_eq!(shown(number("10.10").times(number("1.2"))), "12.120");
        assert_eq!(shown(number("0.1").plus(number("0.25"))), "0.35");
        assert_eq!(shown(number("1").minus(number("1.10"))), "-0.10");
        assert_eq!(shown(number("7").divided_by(number("2"))), "3.5");
        assert_eq!(shown(number("-1").divided_by(number("8.0"))), "-0.125");
        assert_eq!(
            shown(number("2").divided_by(number("3"))),
            "0.66666666666666666667"
        );
        assert_eq!(shown(number("-7.5").remainder(number("2"))), "-1.5");
    }

    #[test]
    fn what_does_not_fit_is_an_error() {
        let nines = number(&"9".repeat(38));
        let overflow = Err(ArithmeticError::Overflow);
        assert_eq!(nines.plus(number("1")), overflow);
        assert_eq!(nines.times(number("11")), overflow);
        assert_eq!(nines.times(number("1.0")), Ok(nines));
        assert_eq!(nines.divided_by(number("0.1")), overflow);
        let zero = number("0.00");
        assert_eq!(nines.divided_by(zero), Err(ArithmeticError::DivisionByZero));
        assert_eq!(nines.remainder(zero), Err(ArithmeticError::DivisionByZero));
        assert_eq!(nines.rounded(1, Rounding::HalfUp), overflow);
    }

    #[test]
    fn rounding() {
        let round = |text: &str, scale, rounding| {
            let rounded = number(text).rounded(scale, rounding);
            rounded.expect("a number").to_string()
        };
        for (text, scale, expected) in [
            ("2.345", 2, "2.35"),
            ("-2.345", 2, "-2.35"),
            ("2.3449", 2, "2.34"),
            ("2.5", 0, "3"),
            ("-2.5", 0, "-3"),
            ("2", 2, "2.00"),
            ("1250", -2, "1300"),
            ("12", -40, "0"),
        ] {
            assert_eq!(round(text, scale, Rounding::HalfUp), expected, "{text}");
        }
        assert_eq!(round("-2.1", 0, Rounding::Floor), "-3");
        assert_eq!(round("-2.9", 0, Rounding::Ceiling), "-2");
        assert_eq!(round("2.1", 0, Rounding::Ceiling), "3");
    }

    proptest! {
        #[test]
        fn numbers_keep_the_laws(
            (a, b) in (-1_000_000_i64..1_000_000, -1_000_000_i64..1_000_000),
            (scale_a, scale_b) in (0_u32..6, 0_u32..6),
        ) {
            let a = Number { units: a.into(), scale: scale_a };
            let b = Number { units: b.into(), scale: scale_b };
            let sum = a.plus(b).expect("small");
            prop_assert_eq!(sum.minus(b).expect("small").compare(a), Ordering::Equal);
            prop_assert_eq!(a.compare(b), b.compare(a).reverse());
            let product = a.times(b).expect("small");
            if b.units != 0 {
                let back = product.divided_by(b).expect("small");
                prop_assert_eq!(back.compare(a), Ordering::Equal);
                let rest = a.remainder(b).expect("small");
                let whole = a.minus(rest).expect("small").divided_by(b).expect("small");
                prop_assert!(whole.whole().is_some());
            }
        }
    }
}
