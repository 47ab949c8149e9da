//! Dates, times and durations.

use jiff::civil::Date;

use super::push_literal;
use crate::sheet::format_code::FormatPart;
use numerant_data::value::{Clock, Language, Moment};

const DAY: i64 = 86_400_000;

/// What serial numbers of days count from.
const DAY_ZERO: Date = Date::constant(1899, 12, 30);

/// A moment, or a time of day or duration without a date.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(super) struct MomentValue {
    date: Date,
    /// Days after day zero.
    days: i64,
    /// Milliseconds since midnight, or all of a duration.
    time: i64,
}

impl MomentValue {
    /// Reads a moment after ISO 8601, or hours, minutes and seconds.
    pub(super) fn parse(text: &str) -> Option<Self> {
        if let Some(clock) = Clock::parse(text.as_bytes()) {
            return Self::of_milliseconds(0, clock.milliseconds);
        }
        let moment = Moment::parse_iso(text.as_bytes())?.datetime();
        let time = moment.time();
        let seconds = (i64::from(time.hour()) * 60 + i64::from(time.minute())) * 60
            + i64::from(time.second());
        let span = moment.date().since(DAY_ZERO).ok()?;
        Some(Self {
            date: moment.date(),
            days: i64::from(span.get_days()),
            time: seconds * 1000 + i64::from(time.subsec_nanosecond()) / 1_000_000,
        })
    }

    /// The moment of a serial number of days.
    pub(super) fn of_serial(serial: f64) -> Option<Self> {
        if !(0.0..2_958_466.0).contains(&serial) {
            return None;
        }
        #[allow(
            clippy::cast_possible_truncation,
            reason = "it is less than ten thousand years"
        )]
        let total = (serial * DAY as f64).round() as i64;
        Self::of_milliseconds(total / DAY, total % DAY)
    }

    fn of_milliseconds(days: i64, time: i64) -> Option<Self> {
        let span = jiff::Span::new().try_days(days).ok()?;
        Some(Self {
            date: DAY_ZERO.checked_add(span).ok()?,
            days,
            time,
        })
    }

    /// Days with the time as a fraction.
    pub(super) fn serial(&self) -> f64 {
        self.days as f64 + self.time as f64 / DAY as f64
    }
}

/// Whether a section is for moments.
pub(super) fn is_moment(parts: &[FormatPart]) -> bool {
    let is_digit = |part: &FormatPart| matches!(part, FormatPart::Other('#' | '?'));
    let has_part = parts.iter().any(|part| match part {
        FormatPart::Elapsed(_) | FormatPart::HalfDay { .. } => true,
        FormatPart::Letters(letter, _) => matches!(letter, 'y' | 'm' | 'd' | 'h' | 's' | 'e'),
        _ => false,
    });
    has_part && !parts.iter().any(is_digit)
}

/// What a section shows of a moment.
pub(super) fn show(
    parts: &[FormatPart],
    value: &MomentValue,
    language: Option<&Language>,
) -> String {
    let english = Language::english();
    let language = language.unwrap_or(&english);
    let is_half_day = |part: &FormatPart| matches!(part, FormatPart::HalfDay { .. });
    let has_half_days = parts.iter().any(is_half_day);
    let counts_on = parts
        .iter()
        .any(|part| matches!(part, FormatPart::Elapsed(_)));
    let has_fraction = parts.windows(2).any(|pair| {
        matches!(
            pair,
            [
                FormatPart::Letters('s', _) | FormatPart::Elapsed('s'),
                FormatPart::Other('.' | ',')
            ]
        )
    });
    // A duration is rounded to seconds, and a time of day is cut.
    let half = if counts_on && !has_fraction { 500 } else { 0 };
    let total = value.days * DAY + value.time + half;
    let in_day = total % DAY;
    let (hours, minutes, seconds) = (in_day / 3_600_000, in_day / 60_000 % 60, in_day / 1000 % 60);
    let mut out = String::new();
    let mut after_hours = false;
    let mut place = 0;
    while let Some(part) = parts.get(place) {
        place += 1;
        let two = |number: i64, count: usize| match count {
            1 => number.to_string(),
            _ => format!("{number:02}"),
        };
        match part {
            FormatPart::Elapsed(unit) => {
                let amount = match unit {
                    'h' => total / 3_600_000,
                    'm' => total / 60_000,
                    _ => total / 1000,
                };
                out.push_str(&two(amount, 1 + usize::from(*unit != 'h')));
                after_hours = *unit == 'h';
            }
            FormatPart::HalfDay { is_short } => {
                let name = if hours < 12 { "AM" } else { "PM" };
                out.push_str(if *is_short { &name[..1] } else { name });
            }
            FormatPart::Letters('h', count) => {
                let shown = match hours % 12 {
                    0 if has_half_days => 12,
                    twelve if has_half_days => twelve,
                    _ => hours,
                };
                out.push_str(&two(shown, *count));
                after_hours = true;
            }
            FormatPart::Letters('s', count) => {
                out.push_str(&two(seconds, *count));
                after_hours = false;
                if let Some(FormatPart::Other(mark @ ('.' | ','))) = parts.get(place) {
                    let zeros = parts[place + 1..]
                        .iter()
                        .take_while(|part| **part == FormatPart::Other('0'));
                    let count = zeros.count();
                    if count > 0 {
                        let fraction = format!("{:03}000000", in_day % 1000);
                        out.push(*mark);
                        out.push_str(&fraction[..count.min(9)]);
                        place += 1 + count;
                    }
                }
            }
            FormatPart::Letters('m', count) => {
                let next = parts[place..].iter().find_map(|part| match part {
                    FormatPart::Letters(letter, _) | FormatPart::Elapsed(letter) => Some(*letter),
                    _ => None,
                });
                if *count <= 2 && (after_hours || next == Some('s')) {
                    out.push_str(&two(minutes, *count));
                    after_hours = false;
                } else {
                    push_month(value.date, *count, language, &mut out);
                }
            }
            FormatPart::Letters('d', count @ (1 | 2)) => {
                out.push_str(&two(value.date.day().into(), *count));
            }
            FormatPart::Letters('d', count) => {
                let names = language.days(*count > 3);
                let day = value.date.weekday().to_sunday_zero_offset();
                let name = usize::try_from(day).ok().and_then(|day| names.get(day));
                out.push_str(name.unwrap_or(&""));
            }
            FormatPart::Letters('y' | 'e', count) => {
                let year = i64::from(value.date.year());
                if *count <= 2 && !matches!(part, FormatPart::Letters('e', _)) {
                    out.push_str(&two(year % 100, 2));
                } else {
                    out.push_str(&format!("{year:04}"));
                }
            }
            other => push_literal(other, &mut out),
        }
    }
    out
}

fn push_month(date: Date, count: usize, language: &Language, out: &mut String) {
    let month = i64::from(date.month());
    let names = language.months(count != 3);
    let name = usize::try_from(month - 1)
        .ok()
        .and_then(|month| names.get(month));
    let name = name.copied().unwrap_or_default();
    match count {
        1 => out.push_str(&month.to_string()),
        2 => out.push_str(&format!("{month:02}")),
        5 => out.extend(name.chars().next()),
        _ => out.push_str(name),
    }
}
