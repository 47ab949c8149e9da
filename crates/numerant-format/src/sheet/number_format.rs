//! What a number format says of the value under it: a plain number, a date, a time of day, a
//! duration, and with how many digits.
//!
//! The codes are those of ECMA-376 Part 1, 18.8.30 and 18.8.31, which the binary formats share.

use super::format_code::{FormatPart, sections_of_code};
use numerant_data::narrow::fit;

/// How a number reads that stands under a format.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Shown {
    /// As a number, with at least so many digits after the point.
    Number {
        /// Digits that are always shown; 0 where the format does not say.
        places: u8,
    },
    /// As a date, a time or both.
    Moment(Moments),
    /// As true or false, spelled out.
    Boolean(Spelling),
}

/// How true and false are spelled.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash, PartialOrd, Ord)]
pub enum Spelling {
    /// `TRUE`, as spreadsheet programs show it.
    Upper,
    /// `true`.
    Lower,
    /// `True`.
    Title,
}

impl Spelling {
    /// All there are.
    pub const ALL: [Self; 3] = [Self::Upper, Self::Lower, Self::Title];

    /// How a truth value is spelled.
    pub fn word(self, value: bool) -> &'static str {
        match (self, value) {
            (Self::Upper, true) => "TRUE",
            (Self::Upper, false) => "FALSE",
            (Self::Lower, true) => "true",
            (Self::Lower, false) => "false",
            (Self::Title, true) => "True",
            (Self::Title, false) => "False",
        }
    }

    /// A format code that spells them so; programs show booleans without a look at it.
    pub(crate) fn code(self) -> String {
        let (yes, no) = (self.word(true), self.word(false));
        format!("\"{yes}\";\"{yes}\";\"{no}\"")
    }
}

/// Which parts of a moment a format shows.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub struct Moments {
    /// Year, month or day.
    pub date: bool,
    /// Hour, minute or second.
    pub time: bool,
    /// Seconds.
    pub seconds: bool,
    /// Digits after the seconds.
    pub fraction: u8,
    /// Hours may be more than 23.
    pub elapsed: bool,
    /// A `T` is between date and time.
    pub letter: bool,
}

impl Shown {
    /// As a number, however many digits it has.
    pub const PLAIN: Self = Self::Number { places: 0 };

    /// What the format `id` shows, which is built in or among those that the workbook defines.
    pub fn under(id: u32, own: &[(u32, Self)]) -> Self {
        let defined = own.iter().find(|known| known.0 == id);
        let shown = defined.map(|known| known.1).or_else(|| Self::built_in(id));
        shown.unwrap_or(Self::PLAIN)
    }

    /// What the built-in format `id` shows; `None` for one that a workbook defines itself.
    pub(crate) fn built_in(id: u32) -> Option<Self> {
        let date = Moments {
            date: true,
            ..Moments::default()
        };
        let time = Moments {
            time: true,
            ..Moments::default()
        };
        let seconds = Moments {
            seconds: true,
            ..time
        };
        Some(match id {
            2 | 4 | 7 | 8 | 39 | 40 | 43 | 44 => Self::Number { places: 2 },
            0..=13 | 37 | 38 | 41 | 42 | 48 | 49 => Self::PLAIN,
            14..=17 | 27..=31 | 34..=36 | 50..=54 | 57 | 58 => Self::Moment(date),
            18 | 20 | 32 | 55 => Self::Moment(time),
            19 | 21 | 33 | 56 => Self::Moment(seconds),
            22 => Self::Moment(Moments { date: true, ..time }),
            45 => Self::Moment(seconds),
            46 => Self::Moment(Moments {
                elapsed: true,
                ..seconds
            }),
            47 => Self::Moment(Moments {
                fraction: 1,
                ..seconds
            }),
            _ => return None,
        })
    }

    /// What a format code such as `#,##0.00` or `[$-409]d/m/yyyy;@` shows.
    pub fn of(code: &str) -> Self {
        if let Some(spelling) = Spelling::ALL.into_iter().find(|known| known.code() == code) {
            return Self::Boolean(spelling);
        }
        let parts = sections_of_code(code).swap_remove(0);
        if parts.contains(&FormatPart::General) {
            return Self::PLAIN;
        }
        let is_digit = |part: &FormatPart| matches!(part, FormatPart::Other('0' | '#' | '?'));
        let digits = parts.iter().any(is_digit);
        if let Some(moments) = moments(&parts, digits) {
            return Self::Moment(moments);
        }
        let odd = |part: &FormatPart| {
            matches!(
                part,
                FormatPart::Other('%' | '/') | FormatPart::Exponent { .. }
            )
        };
        let point = parts
            .iter()
            .position(|part| *part == FormatPart::Other('.'));
        let (Some(point), false) = (point, parts.iter().any(odd)) else {
            return Self::PLAIN;
        };
        let behind = &parts[point + 1..];
        let places = behind
            .iter()
            .take_while(|part| is_digit(part))
            .filter(|part| **part == FormatPart::Other('0'))
            .count();
        // A comma after the digits divides by a thousand.
        let scaled = behind
            .iter()
            .skip_while(|part| is_digit(part))
            .any(|part| *part == FormatPart::Other(','));
        if scaled {
            return Self::PLAIN;
        }
        Self::Number {
            places: fit(places.min(30)),
        }
    }
}

/// The parts of a moment that parts represent; `None` if they are for numbers or text.
fn moments(parts: &[FormatPart], digits: bool) -> Option<Moments> {
    let mut moments = Moments::default();
    let mut any = false;
    let mut after_time = false;
    for (place, part) in parts.iter().enumerate() {
        match *part {
            FormatPart::Elapsed(letter) => {
                any = true;
                moments.time = true;
                moments.elapsed = true;
                moments.seconds |= letter == 's';
                after_time = true;
            }
            FormatPart::HalfDay { .. } => {
                any = true;
                moments.time = true;
            }
            FormatPart::Letters(letter, length) => match letter {
                'y' | 'd' | 'e' | 'g' | 'b' => {
                    any = true;
                    moments.date = true;
                    after_time = false;
                }
                // Year and day as some programs spell them in other languages.
                'j' | 't' | 'a' if !digits && (length > 1 || letter != 'a') => {
                    let month = |part: &FormatPart| matches!(part, FormatPart::Letters('m', _));
                    if parts.iter().any(month) {
                        any = true;
                        moments.date = true;
                    }
                }
                'h' | 's' => {
                    any = true;
                    moments.time = true;
                    if letter == 's' {
                        moments.seconds = true;
                        moments.fraction = fraction(&parts[place + 1..]);
                    }
                    after_time = true;
                }
                'm' => {
                    any = true;
                    let next = parts[place + 1..].iter().find_map(|part| match part {
                        FormatPart::Letters(letter, _) | FormatPart::Elapsed(letter) => {
                            Some(*letter)
                        }
                        _ => None,
                    });
                    if length <= 2 && (after_time || next == Some('s')) {
                        moments.time = true;
                    } else {
                        moments.date = true;
                    }
                    after_time = false;
                }
                _ => {}
            },
            FormatPart::Text(ref text) if text == "T" => {
                let behind = |part: Option<&FormatPart>| {
                    matches!(
                        part,
                        Some(FormatPart::Letters('h', _) | FormatPart::Elapsed('h'))
                    )
                };
                moments.letter |= moments.date && behind(parts.get(place + 1));
            }
            _ => {}
        }
    }
    // Digits are part of a date only after seconds.
    let seconds_only = moments.fraction > 0 || !digits;
    (any && seconds_only).then_some(moments)
}

/// Zeros after a point that follows the seconds.
fn fraction(parts: &[FormatPart]) -> u8 {
    let [FormatPart::Other('.' | ','), behind @ ..] = parts else {
        return 0;
    };
    let zeros = behind
        .iter()
        .take_while(|part| **part == FormatPart::Other('0'))
        .count();
    fit(zeros.min(3))
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn numbers_and_their_places() {
        for (code, places) in [
            ("General", 0),
            ("0", 0),
            ("0.00", 2),
            ("#,##0.000", 3),
            ("0.0#", 1),
            ("#,##0.00\\ \"kr\";[Red]-#,##0.00\\ \"kr\"", 2),
            ("_-* #,##0.00_-;-* #,##0.00_-;_-* \"-\"??_-;_-@_-", 2),
            ("0.00%", 0),
            ("0.00E+00", 0),
            ("# ?/?", 0),
            ("0.0,", 0),
            ("@", 0),
            ("\"day \"0", 0),
            ("[Blue]0.0", 1),
        ] {
            assert_eq!(Shown::of(code), Shown::Number { places }, "{code}");
        }
    }

    #[test]
    fn dates_times_and_durations() {
        let shown = |code: &str| match Shown::of(code) {
            Shown::Moment(moments) => {
                let mut text = String::new();
                for (part, sign) in [
                    (moments.date, "date "),
                    (moments.letter, "T "),
                    (moments.elapsed, "elapsed "),
                    (moments.time, "time "),
                    (moments.seconds, "seconds "),
                ] {
                    text.push_str(if part { sign } else { "" });
                }
                format!("{text}{}", moments.fraction)
            }
            _ => "number".to_owned(),
        };
        for (code, expected) in [
            ("yyyy-mm-dd", "date 0"),
            ("m/d/yy", "date 0"),
            ("[$-409]mmmm d, yyyy;@", "date 0"),
            ("[$-F800]dddd\\,\\ mmmm\\ dd\\,\\ yyyy", "date 0"),
            ("[$-x-sysdate]", "date 0"),
            ("TT.MM.JJJJ", "date 0"),
            ("jj/mm/aaaa", "date 0"),
            ("mmm", "date 0"),
            ("yyyy\\-mm\\-dd\\ hh:mm", "date time 0"),
            ("yyyy-mm-dd\"T\"hh:mm:ss", "date T time seconds 0"),
            ("h:mm AM/PM", "time 0"),
            ("mm:ss.0", "time seconds 1"),
            ("hh:mm:ss.000", "time seconds 3"),
            ("[h]:mm:ss", "elapsed time seconds 0"),
            ("[mm]:ss", "elapsed time seconds 0"),
            ("[$-804]yyyy\"年\"m\"月\"d\"日\"", "date 0"),
        ] {
            assert_eq!(shown(code), expected, "{code}");
        }
        assert_eq!(
            Shown::built_in(22),
            Some(Shown::of("m/d/yy h:mm")),
            "built-in formats are like their codes"
        );
        assert_eq!(Shown::built_in(46), Some(Shown::of("[h]:mm:ss")));
        assert_eq!(Shown::built_in(4), Some(Shown::of("#,##0.00")));
        assert_eq!(Shown::built_in(164), None);
    }
}
