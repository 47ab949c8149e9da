//! Sort keys as bytes: the order of the bytes is the order of the values.
//!
//! Each column gives a byte for its class (number, text, blank), and then:
//! * a number: a byte for its sign, one for how many digits stand before its point, and its digits;
//! * a text: its bytes, those below 2 escaped, and a 0.
//!
//! Columns that are sorted from the greatest down have all of that inverted, but for blanks.

use super::SortKey;
use crate::expr::Type;
use crate::value::{Cells, Kind, Moment, Number};

const NUMBER: u8 = 1;
const TEXT: u8 = 2;
const BLANK: u8 = 0xff;

/// What a value is sorted as.
#[derive(Clone, Copy, Debug, PartialEq)]
pub(super) enum Sorted<'v> {
    Number(Number),
    Text(&'v [u8]),
    Blank,
}

/// What `value` is sorted as in a column of this type.
pub(super) fn sorted<'v>(value: &'v [u8], key: &SortKey, cells: &Cells) -> Sorted<'v> {
    if value.is_empty() {
        return Sorted::Blank;
    }
    let number = match key.kind {
        Type::Text | Type::Boolean => None,
        Type::Number => Number::read(value, cells.mark).ok(),
        Type::Moment => {
            let formats = if key.computed {
                &[]
            } else {
                cells.formats.as_slice()
            };
            Moment::parse(value.trim_ascii(), formats).map(|moment| {
                let since = moment
                    .datetime()
                    .duration_since(jiff::civil::DateTime::ZERO);
                Number {
                    units: since.as_secs().into(),
                    scale: 0,
                }
            })
        }
        // A number is one that would be written the same way again: 007 is a text.
        _ => match Kind::of(value) {
            Kind::Integer | Kind::Decimal => Number::parse(value),
            _ => None,
        },
    };
    number.map_or(Sorted::Text(value), Sorted::Number)
}

/// Appends the bytes of one column's key.
pub(super) fn encode(sorted: Sorted<'_>, descending: bool, out: &mut Vec<u8>) {
    let start = out.len();
    match sorted {
        Sorted::Blank => {
            out.push(BLANK);
            return;
        }
        Sorted::Number(number) => {
            out.push(NUMBER);
            encode_number(number, out);
        }
        Sorted::Text(text) => {
            out.push(TEXT);
            if text.iter().any(|byte| *byte < 2) {
                for byte in text {
                    if *byte < 2 {
                        out.push(1);
                    }
                    out.push(byte + u8::from(*byte < 2));
                }
            } else {
                out.extend_from_slice(text);
            }
            out.push(0);
        }
    }
    if descending {
        // Classes stay below that of blanks: 1 becomes 0xfe, 2 becomes 0xfd.
        out[start..].iter_mut().for_each(|byte| *byte = !*byte);
    }
}

fn encode_number(number: Number, out: &mut Vec<u8>) {
    if number.units == 0 {
        out.push(1);
        return;
    }
    out.push(if number.units < 0 { 0 } else { 2 });
    let start = out.len();
    let mut digits = [0_u8; 40];
    let mut at = digits.len();
    let mut left = number.units.unsigned_abs();
    while left > u128::from(u64::MAX) {
        at -= 1;
        digits[at] = (left % 10) as u8;
        left /= 10;
    }
    let mut left = left as u64;
    while left > 0 {
        at -= 1;
        digits[at] = (left % 10) as u8;
        left /= 10;
    }
    let digits = &digits[at..];
    // Digits before the point; below 0 for zeros behind it.
    let magnitude = digits.len() as i32 - number.scale as i32;
    out.push((magnitude + 128).clamp(1, 255) as u8);
    let significant = digits
        .iter()
        .rposition(|digit| *digit != 0)
        .map_or(0, |last| last + 1);
    // Two digits to a byte, from 1, so that a shorter number comes before a longer one.
    for pair in digits[..significant].chunks(2) {
        let tens = pair[0] * 10;
        out.push(1 + tens + pair.get(1).copied().unwrap_or(0));
    }
    out.push(0);
    if number.units < 0 {
        out[start..].iter_mut().for_each(|byte| *byte = !*byte);
    }
}

/// A number that sorts as the value does, or the same as its neighbours: with it most pairs are
/// told apart without a look at their keys. The second is false if it may be the same for two
/// values that differ.
pub(super) fn code(sorted: Sorted<'_>, descending: bool) -> (u64, bool) {
    const SCALE: u32 = 6;
    const LARGEST: i128 = 1 << 60;
    let (code, exact) = match sorted {
        Sorted::Blank => return (u64::MAX, true),
        Sorted::Number(number) => {
            let (units, exact) = if number.scale <= SCALE {
                let power = 10_i128.pow(SCALE - number.scale);
                (number.units.saturating_mul(power), true)
            } else {
                let power = 10_i128.checked_pow(number.scale - SCALE);
                (number.units.div_euclid(power.unwrap_or(i128::MAX)), false)
            };
            let clamped = units.clamp(-LARGEST, LARGEST);
            ((clamped + LARGEST) as u64, exact && clamped == units)
        }
        Sorted::Text(text) => {
            let mut first = [0; 8];
            let length = text.len().min(8);
            first[..length].copy_from_slice(&text[..length]);
            (text_code(u64::from_be_bytes(first) >> 2), false)
        }
    };
    (if descending { !code - 1 } else { code }, exact)
}

/// The code of a text from its rank among the texts of a run.
pub(super) fn rank_code(rank: u32, descending: bool) -> u64 {
    let code = text_code(rank.into());
    if descending { !code - 1 } else { code }
}

fn text_code(place: u64) -> u64 {
    1 << 62 | place
}
