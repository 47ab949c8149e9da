//! Headers and footers of sheets, in the codes of ECMA-376 Part 1, 18.3.1.46.

use jiff::civil::DateTime;

use super::face::{Face, face};
use numerant_format::sheet::FontLook;

/// What the codes of a page represent.
pub(super) struct PageFacts<'p> {
    pub(super) page: usize,
    pub(super) pages: usize,
    pub(super) sheet: &'p str,
    /// The name of the output.
    pub(super) file: &'p str,
    pub(super) now: DateTime,
}

/// A part of a line in one font.
#[derive(Clone, Debug)]
pub(super) struct Run {
    pub(super) text: String,
    pub(super) look: FontLook,
}

impl Run {
    pub(super) fn face(&self) -> Face {
        face(&self.look)
    }
}

/// The lines at the left, in the middle and at the right.
pub(super) fn sections(code: &str, facts: &PageFacts<'_>) -> [Vec<Vec<Run>>; 3] {
    let usual = FontLook {
        size: 10.0,
        ..FontLook::default()
    };
    let mut sections: [Vec<Vec<Run>>; 3] = Default::default();
    let mut look = usual.clone();
    let mut section = 1;
    let mut push = |section: usize, text: &str, look: &FontLook| {
        let lines = &mut sections[section];
        for (place, piece) in text.split('\n').enumerate() {
            if place > 0 || lines.is_empty() {
                lines.push(Vec::new());
            }
            if let Some(line) = lines.last_mut().filter(|_| !piece.is_empty()) {
                line.push(Run {
                    text: piece.to_owned(),
                    look: look.clone(),
                });
            }
        }
    };
    let mut rest = code;
    while let Some(at) = rest.find('&') {
        push(section, &rest[..at], &look);
        rest = &rest[at + 1..];
        let Some(sign) = rest.chars().next() else {
            break;
        };
        let behind = &rest[sign.len_utf8()..];
        match sign {
            'L' | 'C' | 'R' => {
                section = "LCR".find(sign).unwrap_or(1);
                look = usual.clone();
            }
            'P' => push(section, &facts.page.to_string(), &look),
            'N' => push(section, &facts.pages.to_string(), &look),
            'D' => push(section, &facts.now.date().to_string(), &look),
            'T' => push(section, &facts.now.strftime("%H:%M").to_string(), &look),
            'F' => push(section, facts.file, &look),
            'A' => push(section, facts.sheet, &look),
            '&' => push(section, "&", &look),
            'B' => look.is_bold = !look.is_bold,
            'I' => look.is_italic = !look.is_italic,
            'U' | 'E' => look.is_underlined = !look.is_underlined,
            'S' => look.is_struck = !look.is_struck,
            'K' => {
                let digits = behind.get(..6).unwrap_or_default();
                if let Ok(color) = u32::from_str_radix(digits, 16) {
                    let [_, red, green, blue] = color.to_be_bytes();
                    look.color = [red, green, blue];
                }
                rest = behind.get(6..).unwrap_or_default();
                continue;
            }
            '"' => {
                let end = behind.find('"').unwrap_or(behind.len());
                let (family, style) = behind[..end]
                    .split_once(',')
                    .unwrap_or((&behind[..end], ""));
                if family != "-" {
                    family.clone_into(&mut look.family);
                }
                look.is_bold = style.contains("Bold");
                look.is_italic = style.contains("Italic") || style.contains("Oblique");
                rest = behind.get(end + 1..).unwrap_or_default();
                continue;
            }
            digit if digit.is_ascii_digit() => {
                let end = rest
                    .find(|sign: char| !sign.is_ascii_digit())
                    .unwrap_or(rest.len());
                look.size = rest[..end].parse::<f32>().unwrap_or(10.0).clamp(1.0, 100.0);
                rest = &rest[end..];
                continue;
            }
            // The path of the file and pictures are not known here.
            _ => {}
        }
        rest = behind;
    }
    push(section, rest, &look);
    sections
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn codes_are_put_in() {
        let facts = PageFacts {
            page: 2,
            pages: 5,
            sheet: "Calls",
            file: "calls.pdf",
            now: jiff::civil::date(2026, 3, 5).at(9, 30, 0, 0),
        };
        let shown = |code: &str| {
            sections(code, &facts).map(|lines| {
                let line =
                    |runs: &Vec<Run>| runs.iter().map(|run| run.text.as_str()).collect::<String>();
                lines.iter().map(line).collect::<Vec<_>>().join("|")
            })
        };
        assert_eq!(shown("&LPage &P of &N&R&A"), ["Page 2 of 5", "", "Calls"]);
        assert_eq!(shown("plain && simple"), ["", "plain & simple", ""]);
        assert_eq!(
            shown("&L&\"Arial,Bold\"&14Big\nsmall&C&D &T&R&F"),
            ["Big|small", "2026-03-05 09:30", "calls.pdf"]
        );
        assert_eq!(shown("&"), ["", "", ""]);
        let [left, ..] = sections("&L&\"Arial,Bold\"&14Big", &facts);
        assert!(left[0][0].look.is_bold && left[0][0].look.size > 13.0);
    }
}
