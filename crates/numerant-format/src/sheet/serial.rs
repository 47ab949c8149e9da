//! Dates and times as spreadsheets keep them: days since an epoch, with the time as a fraction.
//!
//! In the 1900 system day 1 is 1900-01-01, and day 60 is 1900-02-29, which never was. In the 1904
//! system day 0 is 1904-01-01.

use jiff::Span;
use jiff::civil::Date;
use numerant_data::narrow::{fit, whole};

use super::number_format::Moments;

/// The system that days are counted in.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub enum Epoch {
    /// Day 1 is 1900-01-01.
    #[default]
    Year1900,
    /// Day 0 is 1904-01-01.
    Year1904,
}

const MILLISECONDS: i64 = 86_400_000;

/// The day after 9999-12-31, in the 1900 system.
const END: i64 = 2_958_466;

/// What day 61 and later count from.
const DAY_ZERO: Date = Date::constant(1899, 12, 30);

/// Days from day 0 of the 1900 system to day 0 of the 1904 system.
const TO_1904: i64 = 1462;

/// Appends the moment that `serial` is under a format; `false`, and nothing appended, if it is
/// none.
///
/// Nothing is rounded but below the millisecond: a time of day shows even under a format that has
/// none, and seconds under one without seconds.
pub(crate) fn write_moment(serial: f64, epoch: Epoch, shown: Moments, out: &mut Vec<u8>) -> bool {
    if !(0.0..=END as f64).contains(&serial) {
        return false;
    }
    let total = whole((serial * MILLISECONDS as f64).round());
    // Only formats of elapsed time count hours beyond a day; under others that is a date.
    if shown.elapsed || (!shown.date && total < MILLISECONDS) {
        write_clock(total, shown, shown.elapsed, out);
        return true;
    }
    let (mut days, time) = (total / MILLISECONDS, total % MILLISECONDS);
    if epoch == Epoch::Year1904 {
        days += TO_1904;
    }
    if days >= END {
        return false;
    }
    match days {
        0 if time > 0 => {
            write_clock(time, shown, false, out);
            return true;
        }
        0 => return false,
        60 => out.extend_from_slice(b"1900-02-29"),
        _ => {
            let shift = i64::from(days < 60);
            let span = Span::new().try_days(days + shift);
            let Ok(date) = span.and_then(|span| DAY_ZERO.checked_add(span)) else {
                return false;
            };
            digits(fit(date.year()), 4, out);
            out.push(b'-');
            digits(fit(date.month()), 2, out);
            out.push(b'-');
            digits(fit(date.day()), 2, out);
        }
    }
    if shown.time || time > 0 {
        out.push(if shown.letter { b'T' } else { b' ' });
        write_clock(time, shown, false, out);
    }
    true
}

/// Appends `hh:mm`, with seconds and their fraction where they are shown or not zero.
pub fn write_clock(milliseconds: i64, shown: Moments, long: bool, out: &mut Vec<u8>) {
    let milliseconds = milliseconds.unsigned_abs();
    let hours = milliseconds / 3_600_000;
    if long && hours > 99 {
        out.extend_from_slice(hours.to_string().as_bytes());
    } else {
        digits(hours, 2, out);
    }
    out.push(b':');
    digits(milliseconds / 60_000 % 60, 2, out);
    let seconds = milliseconds % 60_000;
    if !shown.seconds && seconds == 0 {
        return;
    }
    out.push(b':');
    digits(seconds / 1000, 2, out);
    let fraction = seconds % 1000;
    let needed = match fraction {
        0 => 0,
        _ if fraction.is_multiple_of(100) => 1,
        _ if fraction.is_multiple_of(10) => 2,
        _ => 3,
    };
    let places = needed.max(usize::from(shown.fraction));
    if places > 0 {
        out.push(b'.');
        digits(fraction / [100, 10, 1][places - 1], places, out);
    }
}

#[inline]
fn digits(number: u64, width: usize, out: &mut Vec<u8>) {
    let at = out.len();
    out.resize(at + width, b'0');
    let mut number = number;
    for place in (at..at + width).rev() {
        out[place] = b'0' + (number % 10) as u8;
        number /= 10;
    }
}

/// The day of the 1900 system that a date is, for dates from 1900-03-01 to 9999-12-31; before that
/// programs do not agree.
pub(crate) fn day(date: Date) -> Option<i64> {
    let serial = date.duration_since(DAY_ZERO).as_hours() / 24;
    (61..END).contains(&serial).then_some(serial)
}

#[cfg(test)]
mod tests {
    use super::*;

    fn text(serial: f64, epoch: Epoch, code: &str) -> Option<String> {
        let super::super::Shown::Moment(moments) = super::super::Shown::of(code) else {
            panic!("{code}");
        };
        let mut out = Vec::new();
        write_moment(serial, epoch, moments, &mut out)
            .then(|| String::from_utf8(out).expect("ASCII"))
    }

    #[test]
    fn moments_of_both_systems() {
        let date = "yyyy-mm-dd";
        for (serial, epoch, code, expected) in [
            (46_086.0, Epoch::Year1900, date, "2026-03-05"),
            (44_624.0, Epoch::Year1904, date, "2026-03-05"),
            (1.0, Epoch::Year1900, date, "1900-01-01"),
            (59.0, Epoch::Year1900, date, "1900-02-28"),
            (60.0, Epoch::Year1900, date, "1900-02-29"),
            (61.0, Epoch::Year1900, date, "1900-03-01"),
            (0.0, Epoch::Year1904, date, "1904-01-01"),
            (2_958_465.0, Epoch::Year1900, date, "9999-12-31"),
            (46_086.5, Epoch::Year1900, date, "2026-03-05 12:00"),
            (
                46_086.597_222_222_22,
                Epoch::Year1900,
                "m/d/yy h:mm",
                "2026-03-05 14:20",
            ),
            (46_086.0, Epoch::Year1900, "m/d/yy h:mm", "2026-03-05 00:00"),
            (
                46_086.597_233_796_3,
                Epoch::Year1900,
                "m/d/yy h:mm",
                "2026-03-05 14:20:01",
            ),
            (
                46_086.25,
                Epoch::Year1900,
                "yyyy-mm-dd\"T\"hh:mm:ss",
                "2026-03-05T06:00:00",
            ),
            (0.597_222_222_22, Epoch::Year1900, "h:mm AM/PM", "14:20"),
            (1.5, Epoch::Year1900, "h:mm", "1900-01-01 12:00"),
            (39_066.668, Epoch::Year1900, "h:mm", "2006-12-15 16:01:55.2"),
            (46_086.25, Epoch::Year1900, "mm:ss", "2026-03-05 06:00:00"),
            (46_086.25, Epoch::Year1900, "h:mm AM/PM", "2026-03-05 06:00"),
            (46_086.25, Epoch::Year1900, "[h]:mm", "1106070:00"),
            (5.0, Epoch::Year1900, "[h]:mm:ss", "120:00:00"),
            (0.000_017_361_111, Epoch::Year1900, "mm:ss.0", "00:00:01.5"),
        ] {
            assert_eq!(
                text(serial, epoch, code).as_deref(),
                Some(expected),
                "{code}"
            );
        }
        assert_eq!(text(0.0, Epoch::Year1900, date), None);
        assert_eq!(text(-1.0, Epoch::Year1900, date), None);
        assert_eq!(text(2_958_466.0, Epoch::Year1900, date), None);
    }

    #[test]
    fn days_come_back() {
        for serial in (61..END).step_by(97) {
            let shown = text(serial as f64, Epoch::Year1900, "yyyy-mm-dd").expect("a date");
            assert_eq!(day(shown.parse().expect("a date")), Some(serial));
        }
        assert_eq!(day(Date::constant(1900, 2, 28)), None);
    }
}
