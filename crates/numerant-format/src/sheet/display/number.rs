//! Numbers in digits: placeholders, groups, percent signs, scales and exponents.

use super::digits::Digits;
use super::{fraction, push_literal};
use crate::sheet::format_code::FormatPart;
use numerant_data::narrow::to_i64;

/// What the placeholders of a section ask for.
struct Layout {
    /// The places of the placeholders in front of the point, after it, and of the exponent.
    whole: Vec<usize>,
    behind: Vec<usize>,
    exponent: Vec<usize>,
    point: Option<usize>,
    exponent_mark: Option<usize>,
    has_groups: bool,
    /// Commas that are no groups: those that divide by a thousand, and those between groups.
    commas: Vec<usize>,
    /// The power of ten that percent signs and commas multiply by.
    scale: i64,
}

impl Layout {
    fn of(parts: &[FormatPart]) -> Self {
        let is_placeholder = |part: &FormatPart| matches!(part, FormatPart::Other('0' | '#' | '?'));
        let mark = parts
            .iter()
            .position(|part| matches!(part, FormatPart::Exponent { .. }));
        let end = mark.unwrap_or(parts.len());
        let point = parts[..end]
            .iter()
            .position(|part| *part == FormatPart::Other('.'));
        let places = |from: usize, to: usize| -> Vec<usize> {
            (from..to)
                .filter(|place| is_placeholder(&parts[*place]))
                .collect()
        };
        let whole = places(0, point.unwrap_or(end));
        let behind = point.map_or_else(Vec::new, |point| places(point, end));
        let last = behind.last().or(whole.last()).copied();
        let mut commas = Vec::new();
        let mut has_groups = false;
        let mut scale = 0;
        for (place, part) in parts[..end].iter().enumerate() {
            if *part != FormatPart::Other(',') {
                continue;
            }
            let is_behind = |places: &[usize]| places.iter().any(|known| *known < place);
            let is_before = |places: &[usize]| places.iter().any(|known| *known > place);
            if is_behind(&whole) && is_before(&whole) {
                has_groups = true;
                commas.push(place);
            } else if is_behind(&whole)
                && (last.is_some_and(|last| place > last)
                    || point.is_some_and(|point| place < point))
            {
                scale -= 3;
                commas.push(place);
            }
        }
        let percents = parts.iter().filter(|part| **part == FormatPart::Other('%'));
        Self {
            exponent: mark.map_or_else(Vec::new, |mark| places(mark, parts.len())),
            whole,
            behind,
            point,
            exponent_mark: mark,
            has_groups,
            commas,
            scale: scale + 2 * to_i64(percents.count()),
        }
    }
}

/// What a section shows of a number. `value` is its text, which represents `General`.
pub(super) fn show(
    parts: &[FormatPart],
    digits: &Digits,
    has_sign: bool,
    (mark, group): (char, Option<char>),
    value: &str,
) -> String {
    if parts.contains(&FormatPart::General) {
        let text = value.trim_start_matches('-');
        let mut out = if digits.is_negative && has_sign {
            "-".to_owned()
        } else {
            String::new()
        };
        for part in parts {
            match part {
                FormatPart::General => out.push_str(text),
                part => push_literal(part, &mut out),
            }
        }
        return out;
    }
    if let Some(shown) = fraction::show(parts, digits, has_sign) {
        return shown;
    }
    let layout = Layout::of(parts);
    let scaled = digits.shifted(layout.scale);
    let places = layout.behind.len();
    let (number, exponent) = match layout.exponent_mark {
        None => (scaled.rounded(places), 0),
        Some(_) => {
            // With several digits in front of the point, exponents are multiples of their number.
            let step = to_i64(layout.whole.len().max(1));
            let exponent = scaled.exponent().div_euclid(step) * step;
            let rounded = scaled.shifted(-exponent).rounded(places);
            if rounded.exponent() >= step {
                (rounded.shifted(-step), exponent + step)
            } else {
                (rounded, exponent)
            }
        }
    };
    let mut out = String::new();
    let shows_digits = !layout.whole.is_empty() || !layout.behind.is_empty();
    if digits.is_negative && has_sign && (!number.is_zero() || !shows_digits) {
        out.push('-');
    }
    let whole = number.whole();
    let is_optional = |place: &usize| parts[*place] == FormatPart::Other('#');
    let first = layout.whole.first();
    for (place, part) in parts.iter().enumerate() {
        if let Some(position) = layout.whole.iter().position(|known| *known == place) {
            let behind = layout.whole.len() - 1 - position;
            // The first placeholder has all digits that the others have no room for.
            let from = if first == Some(&place) {
                0
            } else {
                whole.len().saturating_sub(behind + 1)
            };
            let to = whole.len().saturating_sub(behind);
            if to > from || whole.len() > behind {
                for at in from..to {
                    push_digit(
                        whole[at],
                        whole.len() - 1 - at,
                        layout.has_groups.then_some(group).flatten(),
                        &mut out,
                    );
                }
            } else {
                match part {
                    FormatPart::Other('0') => {
                        push_digit(
                            0,
                            behind,
                            layout.has_groups.then_some(group).flatten(),
                            &mut out,
                        );
                    }
                    FormatPart::Other('?') => out.push(' '),
                    _ => {}
                }
            }
        } else if let Some(position) = layout.behind.iter().position(|known| *known == place) {
            match part {
                FormatPart::Other('#') if number.ends_before(position) => {}
                FormatPart::Other('?') if number.ends_before(position) => out.push(' '),
                _ => out.push(char::from(b'0' + number.behind(position))),
            }
        } else if layout.point == Some(place) {
            let is_empty = layout.behind.iter().all(is_optional) && number.ends_before(0);
            if !is_empty || layout.behind.is_empty() {
                out.push(mark);
            }
        } else if layout.exponent_mark == Some(place) {
            // A language has no mark of its own for exponents.
            if !out.contains(|character: char| character.is_ascii_digit()) {
                out.push('0');
            }
            out.push('E');
            match part {
                _ if exponent < 0 => out.push('-'),
                FormatPart::Exponent { has_plus: true } => out.push('+'),
                _ => {}
            }
        } else if let Some(position) = layout.exponent.iter().position(|known| *known == place) {
            if position == 0 {
                let width = layout.exponent.len();
                out.push_str(&format!("{:0width$}", exponent.abs()));
            }
        } else if !layout.commas.contains(&place) {
            push_literal(part, &mut out);
        }
    }
    out
}

/// Appends a digit with so many after it, and what is between groups of three.
fn push_digit(digit: u8, behind: usize, group: Option<char>, out: &mut String) {
    out.push(char::from(b'0' + digit));
    if behind > 0 && behind.is_multiple_of(3) {
        out.extend(group);
    }
}
