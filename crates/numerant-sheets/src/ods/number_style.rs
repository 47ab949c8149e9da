//! Number formats of ECMA-376 as the number styles of OpenDocument 1.3 (part 3, 16.29).
//!
//! What both have is carried over: digits, groups, texts, percent signs, exponents, fractions, dates, times and
//! a section for negative numbers. Colours, conditions and sections of zero and of texts are left out.

use numerant_data::value::language_of_format;
use numerant_format::sheet::{FormatPart, Shown, sections_of_code};
use numerant_markup::push_escaped;

/// A piece of a section, as OpenDocument has elements for it.
#[derive(Clone, Debug, PartialEq, Eq)]
enum Piece {
    /// Shown as it is.
    Text(String),
    /// The placeholders of a number, in order: `#,##0.00`, `0.0E00` or `# ?/?`.
    Number(String),
    /// A run of a letter that represents a part of a date or time.
    Letters(char, usize),
    /// Digits after the point of the seconds in front of it.
    Fraction(usize),
    /// Hours that may be more than 23.
    Elapsed,
    /// AM or PM.
    HalfDay,
}

/// The number style for a format code.
pub(super) fn style_of_code(code: &str, name: &str) -> String {
    let sections = sections_of_code(code);
    let is_moment = matches!(Shown::of(code), Shown::Moment(_));
    match sections.as_slice() {
        [first, second, ..] if !is_moment => {
            let positive = format!("{name}P0");
            let map = format!(
                "<style:map style:condition=\"value()&gt;=0\" style:apply-style-name=\"{positive}\"/>"
            );
            style(first, false, &positive, "") + &style(second, false, name, &map)
        }
        [first, ..] => style(first, is_moment, name, ""),
        [] => String::new(),
    }
}

/// The pieces of a section. Texts that follow each other are one, as are the placeholders of a number.
fn pieces(section: &[FormatPart], is_moment: bool) -> Vec<Piece> {
    let mut pieces: Vec<Piece> = Vec::new();
    let is_placeholder =
        |part: Option<&FormatPart>| matches!(part, Some(FormatPart::Other('0' | '#' | '?')));
    for (place, part) in section.iter().enumerate() {
        let is_behind_number = matches!(pieces.last(), Some(Piece::Number(_)));
        if let (Some(Piece::Fraction(_)), true, FormatPart::Other('0')) =
            (pieces.last(), is_moment, part)
        {
            continue;
        }
        let text = match part {
            FormatPart::Other('.' | ',')
                if matches!(pieces.last(), Some(Piece::Letters('s', _)))
                    && section.get(place + 1) == Some(&FormatPart::Other('0')) =>
            {
                let behind = section[place + 1..].iter();
                let zeros = behind.take_while(|part| **part == FormatPart::Other('0'));
                pieces.push(Piece::Fraction(zeros.count()));
                continue;
            }
            FormatPart::Letters(letter @ ('d' | 'm' | 'y' | 'h' | 's'), count) if is_moment => {
                pieces.push(Piece::Letters(*letter, *count));
                continue;
            }
            FormatPart::Elapsed(_) => {
                pieces.push(Piece::Elapsed);
                continue;
            }
            FormatPart::HalfDay { .. } => {
                pieces.push(Piece::HalfDay);
                continue;
            }
            FormatPart::Language(_)
            | FormatPart::General
            | FormatPart::Condition(..)
            | FormatPart::Space => continue,
            FormatPart::Exponent { .. } => "E".to_owned(),
            FormatPart::Letters(letter, count) => letter.to_string().repeat(*count),
            FormatPart::Text(text) => text.clone(),
            FormatPart::Other(other) => other.to_string(),
        };
        let is_of_number = is_placeholder(Some(part))
            || (is_behind_number
                && match part {
                    FormatPart::Exponent { .. } | FormatPart::Other(',' | '.') => true,
                    // A fraction has a blank after its whole number, and a slash.
                    FormatPart::Other(' ' | '/') => is_placeholder(section.get(place + 1)),
                    _ => false,
                });
        match (pieces.last_mut(), is_of_number && !is_moment) {
            (Some(Piece::Number(digits)), true) => digits.push_str(&text),
            (_, true) => pieces.push(Piece::Number(text)),
            (Some(Piece::Text(last)), false) => last.push_str(&text),
            (_, false) => pieces.push(Piece::Text(text)),
        }
    }
    pieces
}

fn style(section: &[FormatPart], is_moment: bool, name: &str, map: &str) -> String {
    let pieces = pieces(section, is_moment);
    let has = |wanted: &[char]| {
        let is =
            |piece: &Piece| matches!(piece, Piece::Letters(letter, _) if wanted.contains(letter));
        pieces.iter().any(is)
    };
    let is_percent = pieces
        .iter()
        .any(|piece| matches!(piece, Piece::Text(text) if text.contains('%')));
    let is_elapsed = pieces.contains(&Piece::Elapsed);
    let has_time = has(&['h', 's']) || is_elapsed;
    let element = match (is_moment, is_percent) {
        (true, _) if has_time && !has(&['d', 'y']) => "time-style",
        (true, _) => "date-style",
        (false, true) => "percentage-style",
        (false, false) => "number-style",
    };
    let mut out = format!("<number:{element} style:name=\"{name}\"");
    let mut languages = section.iter().filter_map(|part| match part {
        FormatPart::Language(number) => language_of_format(*number),
        _ => None,
    });
    if let Some((language, country)) = languages.next() {
        out.push_str(&format!(
            " number:language=\"{language}\" number:country=\"{country}\""
        ));
    }
    if is_elapsed {
        out.push_str(" number:truncate-on-overflow=\"false\"");
    }
    out.push('>');
    let mut after_hours = false;
    for (place, piece) in pieces.iter().enumerate() {
        match piece {
            Piece::Text(text) => {
                let mut escaped = Vec::new();
                push_escaped(text, false, &mut escaped);
                let text = String::from_utf8_lossy(&escaped);
                out.push_str(&format!("<number:text>{text}</number:text>"));
            }
            Piece::Number(digits) => out.push_str(&number(digits)),
            Piece::Elapsed => {
                after_hours = true;
                out.push_str("<number:hours number:style=\"long\"/>");
            }
            Piece::HalfDay => out.push_str("<number:am-pm/>"),
            // It is in the element of the seconds.
            Piece::Fraction(_) => {}
            Piece::Letters(letter, count) => {
                let next = pieces[place + 1..].iter().find_map(|piece| match piece {
                    Piece::Letters(letter, _) => Some(*letter),
                    _ => None,
                });
                let is_minute = *letter == 'm' && *count <= 2 && (after_hours || next == Some('s'));
                after_hours = *letter == 'h';
                let places = match pieces.get(place + 1) {
                    Some(Piece::Fraction(places)) => *places,
                    _ => 0,
                };
                out.push_str(&letters(*letter, *count, is_minute, places));
            }
        }
    }
    out.push_str(map);
    out.push_str(&format!("</number:{element}>"));
    out
}

/// The element for a part of a date or time.
fn letters(letter: char, count: usize, is_minute: bool, places: usize) -> String {
    let (element, is_long) = match (letter, count) {
        ('d', 3 | 4) => ("day-of-week", count == 4),
        ('d', _) => ("day", count == 2),
        ('m', _) if is_minute => ("minutes", count == 2),
        ('m', 3 | 4) => ("month number:textual=\"true\"", count == 4),
        ('m', _) => ("month", count == 2),
        ('y', _) => ("year", count > 2),
        ('h', _) => ("hours", count == 2),
        _ => ("seconds", count == 2),
    };
    let style = if is_long {
        " number:style=\"long\""
    } else {
        ""
    };
    let places = match places {
        0 => String::new(),
        places => format!(" number:decimal-places=\"{places}\""),
    };
    format!("<number:{element}{style}{places}/>")
}

/// The element for the placeholders of a number.
fn number(digits: &str) -> String {
    let zeros = |text: &str| text.matches('0').count();
    if let Some((whole, denominator)) = digits.split_once('/') {
        let (whole, numerator) = whole.rsplit_once(' ').unwrap_or(("", whole));
        return format!(
            "<number:fraction number:min-integer-digits=\"{}\" number:min-numerator-digits=\"{}\" \
             number:min-denominator-digits=\"{}\"/>",
            zeros(whole),
            numerator.len(),
            denominator.len()
        );
    }
    let (digits, exponent) = match digits.split_once('E') {
        Some((digits, exponent)) => (digits, Some(exponent)),
        None => (digits, None),
    };
    let (whole, fraction) = digits.split_once('.').unwrap_or((digits, ""));
    // Commas after the last digit divide by thousands.
    let last = if fraction.is_empty() { whole } else { fraction };
    let thousands = last.len() - last.trim_end_matches(',').len();
    let places = fraction.trim_end_matches(',').len();
    let mut out = format!(
        "number:decimal-places=\"{places}\" number:min-decimal-places=\"{}\" \
         number:min-integer-digits=\"{}\"",
        zeros(fraction),
        zeros(whole)
    );
    if let Some(exponent) = exponent {
        return format!(
            "<number:scientific-number {out} number:min-exponent-digits=\"{}\"/>",
            zeros(exponent).max(1)
        );
    }
    if whole.trim_end_matches(',').contains(',') {
        out.push_str(" number:grouping=\"true\"");
    }
    if thousands > 0 {
        out.push_str(&format!(
            " number:display-factor=\"1{}\"",
            "000".repeat(thousands)
        ));
    }
    format!("<number:number {out}/>")
}

#[cfg(test)]
mod tests {
    use super::*;

    /// A style without what every number has.
    fn shown(code: &str) -> String {
        style_of_code(code, "N")
            .replace("number:", "")
            .replace(" style:name=\"N\"", "")
    }

    #[test]
    fn codes_become_styles() {
        for (code, style) in [
            (
                "m/d/yyyy",
                "<date-style><month/><text>/</text><day/><text>/</text><year style=\"long\"/></date-style>",
            ),
            ("mmm", "<date-style><month textual=\"true\"/></date-style>"),
            (
                "dddd, d. mmmm yyyy",
                "<date-style><day-of-week style=\"long\"/><text>, </text><day/><text>. </text>\
                 <month textual=\"true\" style=\"long\"/><text> </text><year style=\"long\"/></date-style>",
            ),
            (
                "h:mm AM/PM",
                "<time-style><hours/><text>:</text><minutes style=\"long\"/><text> </text><am-pm/></time-style>",
            ),
            (
                "[h]:mm:ss",
                "<time-style truncate-on-overflow=\"false\"><hours style=\"long\"/><text>:</text>\
                 <minutes style=\"long\"/><text>:</text><seconds style=\"long\"/></time-style>",
            ),
            (
                "[$-407]#,##0.00\" €\"",
                "<number-style language=\"de\" country=\"DE\"><number decimal-places=\"2\" \
                 min-decimal-places=\"2\" min-integer-digits=\"1\" grouping=\"true\"/><text> €</text></number-style>",
            ),
            (
                "0.0%",
                "<percentage-style><number decimal-places=\"1\" min-decimal-places=\"1\" \
                 min-integer-digits=\"1\"/><text>%</text></percentage-style>",
            ),
            (
                "0.0##E+00",
                "<number-style><scientific-number decimal-places=\"3\" min-decimal-places=\"1\" \
                 min-integer-digits=\"1\" min-exponent-digits=\"2\"/></number-style>",
            ),
            (
                "# ?/??",
                "<number-style><fraction min-integer-digits=\"0\" min-numerator-digits=\"1\" \
                 min-denominator-digits=\"2\"/></number-style>",
            ),
            (
                "#,##0,\"k\"",
                "<number-style><number decimal-places=\"0\" min-decimal-places=\"0\" min-integer-digits=\"1\" \
                 grouping=\"true\" display-factor=\"1000\"/><text>k</text></number-style>",
            ),
        ] {
            assert_eq!(shown(code), style, "{code}");
        }
    }

    #[test]
    fn negative_numbers_have_a_style_of_their_own() {
        let style = style_of_code("$0;[Red]($0)", "N3");
        assert!(
            style.starts_with("<number:number-style style:name=\"N3P0\">"),
            "{style}"
        );
        assert!(style.contains("<number:text>($</number:text>"), "{style}");
        assert!(style.ends_with("style:apply-style-name=\"N3P0\"/></number:number-style>"));
    }
}
