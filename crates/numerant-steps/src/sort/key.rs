//! Sort keys as bytes: the order of the bytes is the order of the values.
//!
//! Each column gives a byte for its class (number, date, text, blank), and then:
//! * a number: a byte for its sign, one for how many digits are before its point, and its digits;
//! * a date: its seconds and nanoseconds, 12 bytes;
//! * a text: its bytes, those below 2 escaped, and a 0.
//!
//! Columns that are sorted from the greatest down have all of that inverted, but for blanks.

use super::SortKey;
use crate::expr::Type;
use numerant_data::value::{Cells, DecimalMark, LongDecimal, Moment, Number};

const NUMBER: u8 = 1;
const MOMENT: u8 = 2;
const TEXT: u8 = 3;
const BLANK: u8 = 0xff;

/// What a value is sorted as.
#[derive(Clone, Debug, PartialEq)]
pub(super) enum Sorted<'v> {
    Number(Number),
    /// A number with more digits than [`Number`] keeps, or with an exponent or groups.
    Long(LongDecimal),
    /// Seconds and nanoseconds of a second since the year 0 in UTC.
    Moment(i64, u32),
    Text(&'v [u8]),
    Blank,
}

/// What `value` is sorted as in a column of this type.
///
/// Where no type is declared, a value is a number or a date if it reads as one: `007` comes between 6 and
/// 8.
pub(super) fn sorted<'v>(value: &'v [u8], key: &SortKey, cells: &Cells) -> Sorted<'v> {
    if value.is_empty() {
        return Sorted::Blank;
    }
    let (numbers, moments) = match key.kind {
        Type::Text | Type::Boolean => return Sorted::Text(value),
        Type::Number => (true, false),
        Type::Moment => (false, true),
        _ => (true, true),
    };
    if let Some(format) = cells.written(key.slot)
        && let Ok(text) = std::str::from_utf8(value)
    {
        if let Some(number) = format.value(text).filter(|_| numbers) {
            return Sorted::Number(number);
        }
        if let Some(moment) = cells.moment_of(key.slot, value).filter(|_| moments) {
            let (seconds, nanoseconds) = moment.since_year_0();
            return Sorted::Moment(seconds, nanoseconds);
        }
    }
    // No number is written like `2026-03-05`, and most dates are.
    let is_iso = value.len() >= 10 && value[4] == b'-' && value[..4].iter().all(u8::is_ascii_digit);
    if numbers && !(is_iso && moments) {
        if cells.mark == DecimalMark::Point
            && let Some(number) = Number::parse(value)
        {
            return Sorted::Number(number);
        }
        // Most texts show at once that they are none.
        if !value.iter().any(u8::is_ascii_digit) {
            return Sorted::Text(value);
        }
        if let Some(number) = LongDecimal::parse(value, cells.mark) {
            return Sorted::Long(number);
        }
        if let Some(format) = cells.numbers.as_ref().filter(|_| !key.computed)
            && let Ok(number) = format.read(value)
        {
            return Sorted::Number(number);
        }
    }
    if moments {
        let moment = if key.computed {
            Moment::parse(value.trim_ascii(), &[])
        } else {
            cells.moment(value)
        };
        if let Some(moment) = moment {
            let (seconds, nanoseconds) = moment.since_year_0();
            return Sorted::Moment(seconds, nanoseconds);
        }
    }
    Sorted::Text(value)
}

/// Appends the bytes of one column's key.
pub(super) fn encode(sorted: &Sorted<'_>, descending: bool, out: &mut Vec<u8>) {
    let start = out.len();
    match sorted {
        Sorted::Blank => {
            out.push(BLANK);
            return;
        }
        Sorted::Number(number) => {
            out.push(NUMBER);
            encode_number(*number, out);
        }
        Sorted::Long(LongDecimal {
            negative,
            digits,
            magnitude,
        }) => {
            out.push(NUMBER);
            encode_digits(*negative, digits, *magnitude, out);
        }
        Sorted::Moment(seconds, nanoseconds) => {
            out.push(MOMENT);
            out.extend_from_slice(&(*seconds as u64 ^ 1 << 63).to_be_bytes());
            out.extend_from_slice(&nanoseconds.to_be_bytes());
        }
        Sorted::Text(text) => {
            out.push(TEXT);
            if text.iter().any(|byte| *byte < 2) {
                for byte in *text {
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
        // Classes stay below that of blanks: 1 becomes 0xfe, 2 becomes 0xfd, 3 becomes 0xfc.
        out[start..].iter_mut().for_each(|byte| *byte = !*byte);
    }
}

fn encode_number(number: Number, out: &mut Vec<u8>) {
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
    let significant = digits
        .iter()
        .rposition(|digit| *digit != 0)
        .map_or(0, |last| last + 1);
    let magnitude = digits.len() as i64 - i64::from(number.scale);
    encode_digits(number.units < 0, &digits[..significant], magnitude, out);
}

/// Appends a number by its digits, the first and last of which are not 0, and how many of them stand
/// before its point.
fn encode_digits(negative: bool, digits: &[u8], magnitude: i64, out: &mut Vec<u8>) {
    /// Magnitudes that have a byte each; others have this byte and four more.
    const NEAR: i64 = 126;
    if digits.is_empty() {
        out.push(1);
        return;
    }
    out.push(if negative { 0 } else { 2 });
    let start = out.len();
    let far = (magnitude.clamp(i64::from(i32::MIN), i64::from(i32::MAX)) as i32 as u32) ^ (1 << 31);
    if magnitude.abs() <= NEAR {
        out.push((magnitude + 128) as u8);
    } else {
        out.push(if magnitude < 0 { 1 } else { 255 });
        out.extend_from_slice(&far.to_be_bytes());
    }
    // Two digits to a byte, from 1, so that a shorter number comes before a longer one.
    for pair in digits.chunks(2) {
        let tens = pair[0] * 10;
        out.push(1 + tens + pair.get(1).copied().unwrap_or(0));
    }
    out.push(0);
    if negative {
        out[start..].iter_mut().for_each(|byte| *byte = !*byte);
    }
}

/// A number that sorts as the value does, or the same as its neighbours: with it most pairs are
/// compared without their keys. The second is false if it may be the same for two
/// values that differ.
pub(super) fn code(sorted: &Sorted<'_>, descending: bool) -> (u64, bool) {
    let (code, exact) = match sorted {
        Sorted::Blank => return (u64::MAX, true),
        Sorted::Number(number) => {
            let (units, exact) = if number.scale <= SCALE {
                let power = 10_i128.pow(SCALE - number.scale);
                (number.units.saturating_mul(power), true)
            } else {
                let power = 10_i128.checked_pow(number.scale - SCALE);
                let power = power.unwrap_or(i128::MAX);
                (number.units.div_euclid(power), false)
            };
            number_code(units, exact)
        }
        Sorted::Long(number) => number_code(rounded_down(number), false),
        Sorted::Moment(seconds, nanoseconds) => {
            // The years that there are leave room on both sides.
            let code = MOMENTS + (1 << 40);
            (code.wrapping_add_signed(*seconds), *nanoseconds == 0)
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

/// Digits after the point that codes of numbers distinguish.
const SCALE: u32 = 6;

/// The largest number that has a code of its own, in units of that scale.
const LARGEST: i128 = 1 << 60;

/// Where the codes of dates begin, after those of numbers and before those of texts.
const MOMENTS: u64 = (1 << 61) + 1;

fn number_code(units: i128, exact: bool) -> (u64, bool) {
    let clamped = units.clamp(-LARGEST, LARGEST);
    ((clamped + LARGEST) as u64, exact && clamped == units)
}

/// A number in units of the scale of codes, rounded down.
fn rounded_down(number: &LongDecimal) -> i128 {
    // More digits than codes distinguish.
    const MAX_DIGITS: i64 = 30;
    let kept = number.magnitude + i64::from(SCALE);
    if kept > MAX_DIGITS {
        return if number.negative {
            -LARGEST - 1
        } else {
            LARGEST + 1
        };
    }
    let kept = usize::try_from(kept).unwrap_or(0);
    let digits = (0..kept).map(|place| number.digits.get(place).copied().unwrap_or(0));
    let units = digits.fold(0_i128, |sum, digit| sum * 10 + i128::from(digit));
    let cut = number.digits.len() > kept;
    if number.negative {
        -units - i128::from(cut)
    } else {
        units
    }
}

/// The code of a text from its rank among the texts of a run.
pub(super) fn rank_code(rank: u32, descending: bool) -> u64 {
    let code = text_code(rank.into());
    if descending { !code - 1 } else { code }
}

fn text_code(place: u64) -> u64 {
    1 << 62 | place
}
