//! Dates and durations of cells, as they are read.

use numerant_format::sheet::{Shown, write_clock};

/// Appends a date such as `2026-03-05` or `2026-03-05T14:20:00.25`, as its style shows it.
pub(super) fn write_date(value: &str, shown: Shown, out: &mut Vec<u8>) {
    let Shown::Moment(moments) = shown else {
        out.extend_from_slice(value.replace('T', " ").as_bytes());
        return;
    };
    let (date, time) = value.split_once('T').unwrap_or((value, "00:00:00"));
    let milliseconds = clock(time);
    out.extend_from_slice(date.as_bytes());
    match milliseconds {
        Some(0) if !moments.time => {}
        Some(milliseconds) => {
            out.push(if moments.letter { b'T' } else { b' ' });
            write_clock(milliseconds, moments, false, out);
        }
        None => {
            out.push(b' ');
            out.extend_from_slice(time.as_bytes());
        }
    }
}

/// Milliseconds of `14:20:00.25`.
fn clock(time: &str) -> Option<i64> {
    let mut parts = time.split(':');
    let hours: i64 = parts.next()?.parse().ok()?;
    let minutes: i64 = parts.next()?.parse().ok()?;
    let seconds = milliseconds(parts.next().unwrap_or("0"))?;
    Some((hours * 60 + minutes) * 60_000 + seconds)
}

/// Thousandths of a number of seconds, to the nearest.
#[allow(clippy::cast_possible_truncation, reason = "it is below 1e12")]
fn milliseconds(seconds: &str) -> Option<i64> {
    let seconds: f64 = seconds.replace(',', ".").parse().ok()?;
    (0.0..1e9)
        .contains(&seconds)
        .then(|| (seconds * 1000.0).round() as i64)
}

/// Appends a duration such as `PT14H20M00S`; `false` if it is none.
pub(super) fn write_duration(value: &str, shown: Shown, out: &mut Vec<u8>) -> bool {
    let Some(rest) = value.strip_prefix("PT") else {
        // Some programs write `09:55:33`.
        let (Some(total), Shown::Moment(moments)) = (clock(value), shown) else {
            return false;
        };
        write_clock(total, moments, moments.elapsed, out);
        return true;
    };
    let mut total = 0;
    let mut number = String::new();
    for sign in rest.chars() {
        let unit = match sign {
            'H' => 3_600_000.0,
            'M' => 60_000.0,
            'S' => 1000.0,
            _ => {
                number.push(if sign == ',' { '.' } else { sign });
                continue;
            }
        };
        let Ok(count) = number.parse::<f64>() else {
            return false;
        };
        if !(0.0..1e9).contains(&count) {
            return false;
        }
        #[allow(clippy::cast_possible_truncation, reason = "it is below 4e15")]
        let whole = (count * unit).round() as i64;
        let Some(more) = i64::checked_add(total, whole) else {
            return false;
        };
        total = more;
        number.clear();
    }
    let moments = match shown {
        Shown::Moment(moments) => moments,
        _ => Default::default(),
    };
    let long = moments.elapsed || total >= 86_400_000;
    write_clock(total, moments, long, out);
    number.is_empty()
}
