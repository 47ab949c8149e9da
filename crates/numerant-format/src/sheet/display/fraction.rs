//! Numbers as fractions: `# ?/?`, `# ??/16`.

use super::digits::Digits;
use super::push_literal;
use crate::sheet::format_code::FormatPart;
use numerant_data::narrow::to_u32;

/// The most digits of a denominator that is looked for.
const MAX_DIGITS: usize = 4;

/// The largest whole number whose fractions a double holds.
const MAX_WHOLE: usize = 15;

/// Where the parts of a fraction are in a section.
#[derive(Clone, Debug, PartialEq, Eq)]
struct Places {
    /// The placeholders of the whole number.
    whole: Vec<usize>,
    /// The first placeholder of the numerator.
    numerator: usize,
    slash: usize,
    /// The part after the denominator.
    end: usize,
    /// The denominator, if it is stated.
    fixed: Option<u64>,
}

fn is_placeholder(part: &FormatPart) -> bool {
    matches!(part, FormatPart::Other('0' | '#' | '?'))
}

impl Places {
    fn find(parts: &[FormatPart]) -> Option<Self> {
        let slash = parts
            .iter()
            .position(|part| *part == FormatPart::Other('/'))?;
        let before = parts[..slash].iter().rev();
        let width = before.take_while(|part| is_placeholder(part)).count();
        let numerator = slash - width;
        let behind = &parts[slash + 1..];
        let stated: String = behind
            .iter()
            .map_while(|part| match part {
                FormatPart::Other(digit @ '0'..='9') => Some(*digit),
                _ => None,
            })
            .collect();
        let is_fixed = stated.starts_with(|first: char| first != '0');
        let length = if is_fixed {
            stated.len()
        } else {
            behind
                .iter()
                .take_while(|part| is_placeholder(part))
                .count()
        };
        let fixed = stated.parse().ok().filter(|_| is_fixed);
        let whole = (0..numerator)
            .filter(|place| is_placeholder(&parts[*place]))
            .collect();
        (width > 0 && length > 0).then_some(Self {
            whole,
            numerator,
            slash,
            end: slash + 1 + length,
            fixed,
        })
    }
}

/// The number as a fraction, if the section is for one.
pub(super) fn show(parts: &[FormatPart], digits: &Digits, has_sign: bool) -> Option<String> {
    let places = Places::find(parts)?;
    let whole_digits = digits.whole();
    if whole_digits.len() > MAX_WHOLE {
        return None;
    }
    let mut whole = whole_digits
        .iter()
        .fold(0_u64, |sum, digit| sum * 10 + u64::from(*digit));
    let fraction = digits.fraction().number();
    let (mut numerator, denominator) = match places.fixed {
        #[allow(
            clippy::cast_possible_truncation,
            clippy::cast_sign_loss,
            reason = "a fraction of a denominator is less than that"
        )]
        Some(fixed) => ((fraction * fixed as f64).round() as u64, fixed),
        None => nearest(fraction, (places.end - places.slash - 1).min(MAX_DIGITS)),
    };
    if numerator == denominator {
        whole += 1;
        numerator = 0;
    }
    if places.whole.is_empty() {
        numerator += whole * denominator;
    }
    let is_whole = numerator == 0 && !places.whole.is_empty();
    let mut out = String::new();
    if digits.is_negative && has_sign && (whole > 0 || numerator > 0) {
        out.push('-');
    }
    let pad = |digits: String, from: usize, to: usize| {
        let fill: String = parts[from..to]
            .iter()
            .map(|part| match part {
                FormatPart::Other('0') => '0',
                FormatPart::Other('?') => ' ',
                _ => '\u{0}',
            })
            .collect();
        let missing = (to - from).saturating_sub(digits.len());
        let fill: String = fill
            .chars()
            .take(missing)
            .filter(|fill| *fill != '\u{0}')
            .collect();
        (fill, digits)
    };
    let mut whole_is_out = false;
    for (place, part) in parts.iter().enumerate() {
        if places.whole.contains(&place) {
            if !whole_is_out {
                whole_is_out = true;
                let has_zero = places
                    .whole
                    .iter()
                    .any(|place| parts[*place] == FormatPart::Other('0'));
                if whole > 0 || has_zero || is_whole {
                    out.push_str(&whole.to_string());
                }
            }
        } else if place == places.numerator {
            if is_whole {
                out.extend(std::iter::repeat_n(' ', places.slash - place));
            } else {
                let (fill, digits) = pad(numerator.to_string(), place, places.slash);
                out.push_str(&fill);
                out.push_str(&digits);
            }
        } else if place == places.slash {
            out.push(if is_whole { ' ' } else { '/' });
        } else if place == places.slash + 1 {
            let (fill, digits) = pad(denominator.to_string(), place, places.end);
            match (is_whole, places.fixed) {
                (true, None) => out.extend(std::iter::repeat_n(' ', places.end - place)),
                (true, Some(_)) => {}
                (false, Some(_)) => out.push_str(&digits),
                // A denominator is at the left of its place.
                (false, None) => {
                    out.push_str(&digits);
                    out.push_str(&fill);
                }
            }
        } else if place < places.numerator || place >= places.end {
            push_literal(part, &mut out);
        }
    }
    Some(out)
}

/// The fraction nearest to a number from 0 to 1 whose denominator has at most so many digits.
fn nearest(number: f64, digits: usize) -> (u64, u64) {
    let most = 10_u32.pow(to_u32(digits)) - 1;
    let mut best = (0, 1);
    let mut distance = f64::INFINITY;
    for denominator in 1..=most {
        let numerator = (number * f64::from(denominator)).round();
        let its_distance = (number - numerator / f64::from(denominator)).abs();
        if its_distance < distance - 1e-15 {
            distance = its_distance;
            #[allow(
                clippy::cast_possible_truncation,
                clippy::cast_sign_loss,
                reason = "it is not more than the denominator"
            )]
            let numerator = numerator as u64;
            best = (numerator, u64::from(denominator));
        }
    }
    best
}
