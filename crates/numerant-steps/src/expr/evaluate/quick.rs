//! Calculations that fit 64 bits, which nearly all do. What does not, what is blank and what is
//! wrong is left to the plain way, which gives the same results and says what is wrong.

use std::cmp::Ordering;

use super::Row;
use crate::expr::node::{Node, Operation, Reading, Value};
use numerant_data::value::{DecimalMark, Number};

/// A number of up to 18 digits: `units / 10^scale`.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(super) struct Quick {
    units: i64,
    scale: u32,
}

const POWERS: [i64; 19] = {
    let mut powers = [1_i64; 19];
    let mut place = 1;
    while place < 19 {
        powers[place] = powers[place - 1] * 10;
        place += 1;
    }
    powers
};

impl Quick {
    fn of(number: Number) -> Option<Self> {
        let units = i64::try_from(number.units).ok()?;
        (number.scale <= 18).then_some(Self {
            units,
            scale: number.scale,
        })
    }

    /// Reads `-12.50` or `7`, of at most 18 digits and signs.
    #[inline]
    fn parse(text: &[u8]) -> Option<Self> {
        let (negative, digits) = match text {
            [b'-', rest @ ..] => (true, rest),
            _ => (false, text),
        };
        if digits.is_empty() || digits.len() > 18 {
            return None;
        }
        let mut units = 0_i64;
        let mut behind = None;
        for (place, byte) in digits.iter().enumerate() {
            let digit = byte.wrapping_sub(b'0');
            if digit < 10 {
                units = units * 10 + i64::from(digit);
            } else if *byte == b'.' && behind.is_none() && place > 0 && place + 1 < digits.len() {
                behind = Some(place + 1);
            } else {
                return None;
            }
        }
        let scale = behind.map_or(0, |behind| digits.len() - behind) as u32;
        let units = if negative { -units } else { units };
        Some(Self { units, scale })
    }

    #[inline]
    fn aligned(self, other: Self) -> Option<(i64, i64, u32)> {
        if self.scale == other.scale {
            return Some((self.units, other.units, self.scale));
        }
        let scale = self.scale.max(other.scale);
        let units = |quick: Self| {
            let power = POWERS.get((scale - quick.scale) as usize)?;
            quick.units.checked_mul(*power)
        };
        Some((units(self)?, units(other)?, scale))
    }

    #[inline]
    pub(super) fn compare(self, other: Self) -> Option<Ordering> {
        let (one, other, _) = self.aligned(other)?;
        Some(one.cmp(&other))
    }

    pub(super) fn number(self) -> Number {
        Number {
            units: self.units.into(),
            scale: self.scale,
        }
    }
}

impl Row<'_> {
    /// The value of a node, if it is a number and all of the way to it fits.
    #[inline]
    pub(super) fn quick(&self, node: &Node) -> Option<Quick> {
        match node {
            Node::Column(column)
                if column.reading == Reading::Number
                    && self.cells.mark == DecimalMark::Point
                    && self.cells.written(column.slot).is_none() =>
            {
                Quick::parse(self.batch.field(self.record, self.slot(column)?).raw())
            }
            Node::Constant(Value::Number(number)) => Quick::of(*number),
            Node::Calculate(operation, one, other) => {
                let (one, other) = (self.quick(one)?, self.quick(other)?);
                match operation {
                    Operation::Times => {
                        let scale = one.scale + other.scale;
                        let units = one.units.checked_mul(other.units)?;
                        (scale <= 18).then_some(Quick { units, scale })
                    }
                    Operation::Plus | Operation::Minus => {
                        let (one, other, scale) = one.aligned(other)?;
                        let units = if *operation == Operation::Plus {
                            one.checked_add(other)?
                        } else {
                            one.checked_sub(other)?
                        };
                        Some(Quick { units, scale })
                    }
                    Operation::Divide => None,
                }
            }
            _ => None,
        }
    }
}

#[cfg(test)]
mod tests {
    use proptest::prelude::*;

    use super::*;

    proptest! {
        #[test]
        fn the_quick_way_is_the_plain_way(
            one in "-?[0-9]{1,12}(\\.[0-9]{1,7})?",
            other in prop_oneof!["-?[0-9]{1,19}", "-?[0-9]{1,3}\\.[0-9]{1,9}", "[0-9.-]{0,6}"],
        ) {
            let plain = |text: &str| Number::parse(text.as_bytes());
            for text in [&one, &other] {
                if let Some(quick) = Quick::parse(text.as_bytes()) {
                    prop_assert_eq!(Some(quick.number()), plain(text));
                } else {
                    let digits = text.trim_start_matches('-').len();
                    prop_assert!(plain(text).is_none() || digits > 18, "{}", text);
                }
            }
            let quick = |text: &str| Quick::parse(text.as_bytes());
            if let (Some(one), Some(other)) = (quick(&one), quick(&other))
                && let Some(ordering) = one.compare(other)
            {
                prop_assert_eq!(ordering, one.number().compare(other.number()));
            }
        }
    }
}
