//! What a sheet shows of a value under its number format, after ECMA-376 Part 1, 18.8.31.
//!
//! Where the standard is silent, it is what LibreOffice shows, but for two things: dates before March 1900 follow
//! the standard, and a number for which a section states a condition keeps its sign unless all numbers under that
//! condition are negative. Names of days and months, decimal marks and groups are those of the language that a
//! format states, else English.

mod color;
mod digits;
mod fraction;
mod moment;
mod number;

use self::digits::Digits;
use self::moment::MomentValue;
use super::Rgb;
use super::format_code::{Condition, FormatPart, sections_of_code};
use numerant_data::value::{Language, language_of_format, separators_of_format};

/// A number format, ready to show values.
///
/// ```
/// use numerant_format::sheet::DisplayFormat;
///
/// let money = DisplayFormat::new("$#,##0.00;[Red]($#,##0.00);\"none\"");
/// assert_eq!(money.number("-1234.5"), "($1,234.50)");
/// assert_eq!(money.number("0"), "none");
/// assert_eq!(DisplayFormat::new("ddd d mmm yyyy").number("2026-03-05"), "Thu 5 Mar 2026");
/// ```
#[derive(Clone, Debug)]
pub struct DisplayFormat {
    sections: Vec<Section>,
    /// What texts are shown as; as they are if there is nothing.
    text: Option<Vec<FormatPart>>,
}

/// What is shown of some of the numbers.
#[derive(Clone, Debug)]
struct Section {
    parts: Vec<FormatPart>,
    condition: Option<(Condition, f64)>,
    language: Option<Language>,
    /// What is before the fraction and between groups of digits.
    separators: (char, Option<char>),
    is_moment: bool,
    color: Option<Rgb>,
}

impl DisplayFormat {
    /// The format with a code.
    pub fn new(code: &str) -> Self {
        let mut sections: Vec<Section> = Vec::new();
        let mut text = None;
        let all = sections_of_code(code);
        let colors = color::colors(code);
        let count = all.len();
        for (place, mut parts) in all.into_iter().enumerate() {
            let shows_text = parts.contains(&FormatPart::Other('@'));
            if (place == 3 || (place + 1 == count && place > 0)) && shows_text {
                text = Some(parts);
                continue;
            }
            if place >= 3 {
                continue;
            }
            if shows_text {
                text = Some(parts.clone());
            }
            let condition = parts.iter().find_map(|part| match part {
                FormatPart::Condition(condition, bound) => Some((*condition, *bound)),
                _ => None,
            });
            parts.retain(|part| !matches!(part, FormatPart::Condition(..)));
            // Behind a currency it is that of the currency.
            let number = match parts.first() {
                Some(FormatPart::Language(number)) => Some(*number),
                _ => None,
            };
            let separators = number.map_or(('.', Some(',')), separators_of_format);
            let language = number.and_then(language_of_format);
            let language = language.and_then(|(language, country)| {
                format!("{language}-{country}").parse::<Language>().ok()
            });
            parts.retain(|part| !matches!(part, FormatPart::Language(_)));
            sections.push(Section {
                is_moment: moment::is_moment(&parts),
                color: colors.get(place).copied().flatten(),
                parts,
                condition,
                language,
                separators,
            });
        }
        Self { sections, text }
    }

    /// Whether numbers are shown as dates or times.
    pub fn is_moment(&self) -> bool {
        self.sections
            .first()
            .is_some_and(|section| section.is_moment)
    }

    /// The color in which a number is shown, if the format states one.
    pub fn color(&self, value: &str) -> Option<Rgb> {
        let (section, _) = self.section(&Digits::parse(value)?)?;
        section.color
    }

    /// What is shown of a text.
    pub fn text(&self, value: &str) -> String {
        let Some(parts) = &self.text else {
            return value.to_owned();
        };
        let mut out = String::new();
        for part in parts {
            match part {
                FormatPart::Other('@') => out.push_str(value),
                part => push_literal(part, &mut out),
            }
        }
        out
    }

    /// What is shown of a number, or of a moment after ISO 8601; of what is neither, the text itself.
    pub fn number(&self, value: &str) -> String {
        let moment = MomentValue::parse(value);
        let digits = match &moment {
            Some(moment) => Digits::of_serial(moment.serial()),
            None => match Digits::parse(value) {
                Some(digits) => digits,
                None => return value.to_owned(),
            },
        };
        let Some((section, has_sign)) = self.section(&digits) else {
            return String::new();
        };
        if section.is_moment {
            let moment = moment.or_else(|| MomentValue::of_serial(digits.number()));
            return match moment {
                Some(moment) => moment::show(&section.parts, &moment, section.language.as_ref()),
                None => value.to_owned(),
            };
        }
        if section.parts.contains(&FormatPart::Other('@')) {
            return self.text(value);
        }
        number::show(&section.parts, &digits, has_sign, section.separators, value)
    }

    /// The section for a number, and whether a negative number has a sign under it.
    fn section(&self, digits: &Digits) -> Option<(&Section, bool)> {
        let number = digits.number();
        let is_usual = self
            .sections
            .iter()
            .all(|section| section.condition.is_none());
        let place = match (is_usual, self.sections.len()) {
            (true, 0 | 1) => 0,
            (true, 2) => usize::from(number < 0.0),
            (true, _) if number == 0.0 => 2,
            (true, _) => usize::from(number < 0.0),
            (false, count) => {
                let holds = |section: &Section| {
                    let holds =
                        |(condition, bound): (Condition, f64)| condition.holds(number, bound);
                    section.condition.map(holds)
                };
                let last = count - 1;
                let place = self
                    .sections
                    .iter()
                    .enumerate()
                    .position(|(place, section)| {
                        // A second section of three without a condition is for negative numbers.
                        holds(section).unwrap_or(place == last || (place == 1 && number < 0.0))
                    });
                place.unwrap_or(last)
            }
        };
        let section = self.sections.get(place)?;
        let is_negative_only = match section.condition {
            Some((Condition::Less | Condition::LessOrEqual, bound)) => place > 0 && bound <= 0.0,
            Some(_) => false,
            None => is_usual && place == 1,
        };
        Some((section, !is_negative_only))
    }
}

/// Appends a part that shows something whatever the value is.
fn push_literal(part: &FormatPart, out: &mut String) {
    match part {
        FormatPart::Text(text) => out.push_str(text),
        FormatPart::Space => out.push(' '),
        FormatPart::Other(other) => out.push(*other),
        FormatPart::Letters(letter, count) => out.extend(std::iter::repeat_n(*letter, *count)),
        _ => {}
    }
}

#[cfg(test)]
mod tests {
    use super::DisplayFormat;

    /// What LibreOffice shows: a format code, a value as it is read from a cell, and the text.
    const SHOWN: &str = include_str!("../../../tests/data/shown.tsv");

    #[test]
    fn values_are_shown_as_a_spreadsheet_program_shows_them() {
        let mut wrong = Vec::new();
        let mut count = 0;
        for line in SHOWN.lines() {
            let [code, value, expected] = line.split('\t').collect::<Vec<_>>()[..] else {
                panic!("{line}");
            };
            let format = DisplayFormat::new(code);
            let shown = match value.strip_prefix('\'') {
                Some(text) => format.text(text.trim_end_matches('\'')),
                None => format.number(value),
            };
            count += 1;
            if shown != expected {
                wrong.push(format!("{code}\t{value}\t[{shown}], not [{expected}]"));
            }
        }
        assert!(
            wrong.is_empty(),
            "{} of {count}:\n{}",
            wrong.len(),
            wrong.join("\n")
        );
        assert!(count > 900, "{count}");
    }

    #[test]
    fn signs_are_kept_where_a_condition_is_for_all_numbers() {
        let format = DisplayFormat::new("[>=1000]#,##0,\"k\";0");
        assert_eq!(format.number("-1"), "-1");
        assert_eq!(format.number("4000"), "4k");
        let format = DisplayFormat::new("[>100]\"high\" 0;[<-100]\"low\" 0;0.0");
        assert_eq!(format.number("-1234.5"), "low 1235");
        assert_eq!(format.number("-1"), "-1.0");
    }

    #[test]
    fn hostile_formats_show_something() {
        for code in [
            "", ";", ";;;;;;", "0/", "/0", "?/0", "E+", "0E+", "[", "\\", "\"", "[>]0", "0.0.0",
            "@@", ",,,", "#,", "%",
        ] {
            for value in [
                "",
                "0",
                "-1.5",
                "1e300",
                "-",
                "x",
                "2026-03-05",
                "99999:00:00",
                "0.000000000000000000001",
            ] {
                let format = DisplayFormat::new(code);
                let _ = format.number(value);
                let _ = format.text(value);
            }
        }
    }
}
