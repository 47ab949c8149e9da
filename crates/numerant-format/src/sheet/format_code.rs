//! Format codes taken apart into what they are made of, after ECMA-376 Part 1, 18.8.31.

/// A part of a format code that means something.
#[derive(Clone, Debug, PartialEq)]
pub enum FormatPart {
    /// A run of one letter, in lower case, and its length: parts of dates and times.
    Letters(char, usize),
    /// Hours, minutes or seconds that count on: `[h]`.
    Elapsed(char),
    /// Shown as it is: quoted, escaped, or a currency.
    Text(String),
    /// `E+`, which shows every sign, or `E-`, which shows only that of negative exponents.
    Exponent {
        /// It is `E+`.
        has_plus: bool,
    },
    /// `AM/PM`, or `A/P` for short: hours count to twelve.
    HalfDay {
        /// It is `A/P`.
        is_short: bool,
    },
    /// A number as programs show it without a format.
    General,
    /// A language by its number: `[$-407]`.
    Language(u16),
    /// Numbers that a section is for: `[>=1000]`.
    Condition(Condition, f64),
    /// A blank as wide as a character: `_)`.
    Space,
    /// A placeholder of a digit, a separator, or anything else.
    Other(char),
}

/// How a number compares with that of a condition.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Condition {
    /// It is less.
    Less,
    /// It is less or equal.
    LessOrEqual,
    /// It is equal.
    Equal,
    /// It is not equal.
    NotEqual,
    /// It is more or equal.
    MoreOrEqual,
    /// It is more.
    More,
}

impl Condition {
    /// Whether it holds.
    pub(crate) fn holds(self, number: f64, bound: f64) -> bool {
        match self {
            Self::Less => number < bound,
            Self::LessOrEqual => number <= bound,
            Self::Equal => number == bound,
            Self::NotEqual => number != bound,
            Self::MoreOrEqual => number >= bound,
            Self::More => number > bound,
        }
    }
}

/// The sections of a code, between its semicolons. There is at least one.
///
/// ```
/// use numerant_format::sheet::{FormatPart, sections_of_code};
///
/// let sections = sections_of_code("0\" kr\";-0");
/// assert_eq!(sections[0], [FormatPart::Other('0'), FormatPart::Text(" kr".to_owned())]);
/// assert_eq!(sections[1], [FormatPart::Other('-'), FormatPart::Other('0')]);
/// ```
pub fn sections_of_code(code: &str) -> Vec<Vec<FormatPart>> {
    let mut sections = Vec::new();
    let mut parts = Vec::new();
    let mut rest = code.chars().peekable();
    while let Some(character) = rest.next() {
        match character {
            ';' => sections.push(std::mem::take(&mut parts)),
            '"' => {
                let text = rest.by_ref().take_while(|next| *next != '"').collect();
                parts.push(FormatPart::Text(text));
            }
            '\\' => parts.extend(rest.next().map(|next| FormatPart::Text(next.to_string()))),
            '_' => parts.extend(rest.next().map(|_| FormatPart::Space)),
            // What fills up a cell.
            '*' => {
                rest.next();
            }
            '[' => {
                let inside: String = rest.by_ref().take_while(|next| *next != ']').collect();
                push_bracket(&inside, &mut parts);
            }
            'E' | 'e' if matches!(rest.peek(), Some('+' | '-')) => {
                let has_plus = rest.next() == Some('+');
                parts.push(FormatPart::Exponent { has_plus });
            }
            'A' | 'a' if takes(&mut rest, "m/pm") => {
                parts.push(FormatPart::HalfDay { is_short: false });
            }
            'A' | 'a' if takes(&mut rest, "/p") => {
                parts.push(FormatPart::HalfDay { is_short: true });
            }
            'G' | 'g' if takes(&mut rest, "eneral") => parts.push(FormatPart::General),
            'S' | 's' if takes(&mut rest, "tandard") => parts.push(FormatPart::General),
            letter if letter.is_ascii_alphabetic() => {
                let letter = letter.to_ascii_lowercase();
                let is_same = |next: &char| next.to_ascii_lowercase() == letter;
                let mut length = 1;
                while rest.next_if(is_same).is_some() {
                    length += 1;
                }
                parts.push(FormatPart::Letters(letter, length));
            }
            other => parts.push(FormatPart::Other(other)),
        }
    }
    sections.push(parts);
    sections
}

/// Adds what brackets hold: a currency and a language, time that counts on, or a condition. Colors are left out.
fn push_bracket(inside: &str, parts: &mut Vec<FormatPart>) {
    let lower = inside.to_ascii_lowercase();
    if let Some(currency) = inside.strip_prefix('$') {
        let (sign, language) = currency.rsplit_once('-').unwrap_or((currency, ""));
        if !sign.is_empty() && !lower.contains("sysdate") {
            parts.push(FormatPart::Text(sign.to_owned()));
        }
        // The digits in front of the last four say how digits are drawn.
        let last = language.len().saturating_sub(4);
        let language = language.get(last..).unwrap_or_default();
        parts.extend(
            u16::from_str_radix(language, 16)
                .ok()
                .map(FormatPart::Language),
        );
    }
    let conditions = [
        ("<=", Condition::LessOrEqual),
        (">=", Condition::MoreOrEqual),
        ("<>", Condition::NotEqual),
        ("<", Condition::Less),
        (">", Condition::More),
        ("=", Condition::Equal),
    ];
    for (sign, condition) in conditions {
        if let Some(bound) = lower.strip_prefix(sign) {
            let bound = bound.trim().parse().ok();
            parts.extend(bound.map(|bound| FormatPart::Condition(condition, bound)));
            return;
        }
    }
    match lower.chars().next() {
        Some(letter @ ('h' | 'm' | 's')) if lower.chars().all(|next| next == letter) => {
            parts.push(FormatPart::Elapsed(letter));
        }
        _ if lower.contains("sysdate") => parts.push(FormatPart::Letters('d', 1)),
        _ => {}
    }
}

/// Takes these characters, in any case, if they come next.
fn takes(rest: &mut std::iter::Peekable<std::str::Chars<'_>>, wanted: &str) -> bool {
    let next: String = rest.clone().take(wanted.len()).collect();
    let is_there = next.eq_ignore_ascii_case(wanted);
    if is_there {
        rest.by_ref().take(wanted.len()).for_each(drop);
    }
    is_there
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn codes_are_taken_apart() {
        let parts = |code: &str| sections_of_code(code).remove(0);
        let text = |text: &str| FormatPart::Text(text.to_owned());
        assert_eq!(
            parts("[$-407]d. mmmm yyyy"),
            [
                FormatPart::Language(0x407),
                FormatPart::Letters('d', 1),
                FormatPart::Other('.'),
                FormatPart::Other(' '),
                FormatPart::Letters('m', 4),
                FormatPart::Other(' '),
                FormatPart::Letters('y', 4),
            ]
        );
        assert_eq!(
            parts("[$€-407]")[..],
            [text("€"), FormatPart::Language(0x407)]
        );
        assert_eq!(parts("[$kr.-x-1000407]")[..1], [text("kr.-x")]);
        assert_eq!(
            parts("[Red][h]\\;\"a;b\""),
            [FormatPart::Elapsed('h'), text(";"), text("a;b")]
        );
        assert_eq!(
            parts("AM/PM a/p"),
            [
                FormatPart::HalfDay { is_short: false },
                FormatPart::Other(' '),
                FormatPart::HalfDay { is_short: true }
            ]
        );
        assert_eq!(sections_of_code("").len(), 1);
        assert_eq!(sections_of_code("0;;;@").len(), 4);
    }
}
