//! Number formats of ECMA-376 as the number styles of OpenDocument 1.3 (part 3, 16.29), as far as both
//! have the same: digits, groups, texts, percent signs, dates, times and a section for negative numbers.

use numerant_markup::push_escaped;

/// A piece of a section.
#[derive(Clone, Debug, PartialEq, Eq)]
enum Piece {
    /// Shown as it is.
    Text(String),
    /// Digits of a number.
    Number {
        places: usize,
        min_places: usize,
        min_digits: usize,
        is_grouped: bool,
    },
    /// A run of one letter: day, month, year, hour, minute or second.
    Letters(char, usize),
    /// Hours that may be more than 23.
    Elapsed,
    /// AM or PM.
    HalfDay,
}

/// The languages of number formats by their numbers, after ISO 639 and ISO 3166.
const LANGUAGES: [(u32, &str, &str); 9] = [
    (0x407, "de", "DE"),
    (0x409, "en", "US"),
    (0x809, "en", "GB"),
    (0x40c, "fr", "FR"),
    (0x41d, "sv", "SE"),
    (0x405, "cs", "CZ"),
    (0x807, "de", "CH"),
    (0x810, "it", "CH"),
    (0x1c09, "en", "ZA"),
];

/// The number style for a format code.
pub(super) fn style_of_code(code: &str, name: &str) -> String {
    let sections = sections(code);
    let style = |section: &str, name: &str, map: &str| {
        let (pieces, language) = pieces(section);
        style(&pieces, language, name, map)
    };
    match sections.as_slice() {
        [first, second, ..] => {
            let positive = format!("{name}P0");
            let map = format!(
                "<style:map style:condition=\"value()&gt;=0\" style:apply-style-name=\"{positive}\"/>"
            );
            style(first, &positive, "") + &style(second, name, &map)
        }
        [first] => style(first, name, ""),
        [] => String::new(),
    }
}

/// The sections of a code, between semicolons that are not quoted.
fn sections(code: &str) -> Vec<String> {
    let mut sections = vec![String::new()];
    let mut is_quoted = false;
    let mut characters = code.chars();
    while let Some(character) = characters.next() {
        let section = sections.len() - 1;
        match character {
            ';' if !is_quoted => sections.push(String::new()),
            '\\' if !is_quoted => {
                sections[section].push('\\');
                sections[section].extend(characters.next());
            }
            other => {
                is_quoted ^= other == '"';
                sections[section].push(other);
            }
        }
    }
    sections
}

/// The pieces of a section, and its language.
fn pieces(section: &str) -> (Vec<Piece>, Option<(&'static str, &'static str)>) {
    let mut pieces = Vec::new();
    let mut language = None;
    let mut rest = section.chars().peekable();
    let push_text = |pieces: &mut Vec<Piece>, text: &str| {
        if let Some(Piece::Text(last)) = pieces.last_mut() {
            last.push_str(text);
        } else if !text.is_empty() {
            pieces.push(Piece::Text(text.to_owned()));
        }
    };
    while let Some(character) = rest.next() {
        match character {
            '"' => {
                let text: String = rest.by_ref().take_while(|c| *c != '"').collect();
                push_text(&mut pieces, &text);
            }
            '\\' => {
                let text: String = rest.next().into_iter().collect();
                push_text(&mut pieces, &text);
            }
            '_' | '*' => {
                rest.next();
            }
            '[' => {
                let inside: String = rest.by_ref().take_while(|c| *c != ']').collect();
                if let Some(currency) = inside.strip_prefix('$') {
                    let (sign, number) = currency.split_once('-').unwrap_or((currency, ""));
                    let number = u32::from_str_radix(number, 16).unwrap_or(0);
                    let known = LANGUAGES.iter().find(|known| known.0 == number);
                    language = known
                        .map(|(_, language, country)| (*language, *country))
                        .or(language);
                    push_text(&mut pieces, sign);
                } else if inside.chars().all(|c| c.eq_ignore_ascii_case(&'h')) {
                    pieces.push(Piece::Elapsed);
                }
            }
            '0' | '#' | '?' => {
                let mut digits = character.to_string();
                while let Some(next) = rest.next_if(|c| matches!(c, '0' | '#' | '?' | ',' | '.')) {
                    digits.push(next);
                }
                let (whole, fraction) = digits.split_once('.').unwrap_or((&digits, ""));
                pieces.push(Piece::Number {
                    places: fraction.chars().filter(|c| *c != ',').count(),
                    min_places: fraction.matches('0').count(),
                    min_digits: whole.matches('0').count(),
                    is_grouped: whole.contains(','),
                });
            }
            'A' | 'a'
                if rest
                    .clone()
                    .take(4)
                    .collect::<String>()
                    .eq_ignore_ascii_case("M/PM") =>
            {
                rest.by_ref().take(4).for_each(drop);
                pieces.push(Piece::HalfDay);
            }
            letter @ ('d' | 'D' | 'm' | 'M' | 'y' | 'Y' | 'h' | 'H' | 's' | 'S') => {
                let letter = letter.to_ascii_lowercase();
                let mut count = 1;
                while rest.next_if(|c| c.to_ascii_lowercase() == letter).is_some() {
                    count += 1;
                }
                pieces.push(Piece::Letters(letter, count));
            }
            other => push_text(&mut pieces, &other.to_string()),
        }
    }
    (pieces, language)
}

fn style(pieces: &[Piece], language: Option<(&str, &str)>, name: &str, map: &str) -> String {
    let has = |wanted: &[char]| {
        let is =
            |piece: &Piece| matches!(piece, Piece::Letters(letter, _) if wanted.contains(letter));
        pieces.iter().any(is)
    };
    let is_percent = pieces
        .iter()
        .any(|piece| matches!(piece, Piece::Text(text) if text.contains('%')));
    let is_elapsed = pieces.contains(&Piece::Elapsed);
    let element = if has(&['d', 'y']) {
        "date-style"
    } else if has(&['h', 's']) || is_elapsed {
        "time-style"
    } else if is_percent {
        "percentage-style"
    } else {
        "number-style"
    };
    let mut out = format!("<number:{element} style:name=\"{name}\"");
    if let Some((language, country)) = language {
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
            Piece::Number {
                places,
                min_places,
                min_digits,
                is_grouped,
            } => out.push_str(&format!(
                "<number:number number:decimal-places=\"{places}\" \
                 number:min-decimal-places=\"{min_places}\" \
                 number:min-integer-digits=\"{min_digits}\"{}/>",
                if *is_grouped {
                    " number:grouping=\"true\""
                } else {
                    ""
                }
            )),
            Piece::Elapsed => {
                after_hours = true;
                out.push_str("<number:hours number:style=\"long\"/>");
            }
            Piece::HalfDay => out.push_str("<number:am-pm/>"),
            Piece::Letters(letter, count) => {
                let next = pieces[place + 1..].iter().find_map(|piece| match piece {
                    Piece::Letters(letter, _) => Some(*letter),
                    _ => None,
                });
                let is_minute = *letter == 'm' && *count <= 2 && (after_hours || next == Some('s'));
                after_hours = *letter == 'h';
                let long = |is_long: bool| {
                    if is_long {
                        " number:style=\"long\""
                    } else {
                        ""
                    }
                };
                out.push_str(&match (*letter, *count) {
                    ('d', 3 | 4) => format!("<number:day-of-week{}/>", long(*count == 4)),
                    ('d', _) => format!("<number:day{}/>", long(*count == 2)),
                    ('m', _) if is_minute => format!("<number:minutes{}/>", long(*count == 2)),
                    ('m', 3 | 4) => format!(
                        "<number:month number:textual=\"true\"{}/>",
                        long(*count == 4)
                    ),
                    ('m', _) => format!("<number:month{}/>", long(*count == 2)),
                    ('y', _) => format!("<number:year{}/>", long(*count > 2)),
                    ('h', _) => format!("<number:hours{}/>", long(*count == 2)),
                    _ => format!("<number:seconds{}/>", long(*count == 2)),
                });
            }
        }
    }
    out.push_str(map);
    out.push_str(&format!("</number:{element}>"));
    out
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn codes_become_styles() {
        assert_eq!(
            style_of_code("m/d/yyyy", "N1"),
            "<number:date-style style:name=\"N1\"><number:month/><number:text>/</number:text>\
             <number:day/><number:text>/</number:text><number:year number:style=\"long\"/>\
             </number:date-style>"
        );
        assert_eq!(
            style_of_code("[$-407]#,##0.00\" €\"", "N2"),
            "<number:number-style style:name=\"N2\" number:language=\"de\" number:country=\"DE\">\
             <number:number number:decimal-places=\"2\" number:min-decimal-places=\"2\" \
             number:min-integer-digits=\"1\" number:grouping=\"true\"/><number:text> €</number:text>\
             </number:number-style>"
        );
        let negative = style_of_code("$0;($0)", "N3");
        assert!(negative.contains("style:name=\"N3P0\""), "{negative}");
        assert!(
            negative.contains("<number:text>($</number:text>"),
            "{negative}"
        );
        assert!(
            style_of_code("h:mm AM/PM", "N4").contains("<number:minutes number:style=\"long\"/>")
        );
    }
}
