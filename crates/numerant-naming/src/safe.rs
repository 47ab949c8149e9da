//! Names that every system can hold, whatever value they are made of.
//!
//! What is kept from a name: a path separator, what Windows, macOS or Linux forbid, characters
//! that cannot be seen or that turn the direction of writing, a dot in front (a hidden file, or
//! `..`), dots and spaces at the end, the names of Windows devices, more than 255 bytes.

use unicode_normalization::UnicodeNormalization;

/// The longest name of a file or folder, in bytes of UTF-8, that common systems hold.
const LONGEST: usize = 255;

/// A name or path that every system can hold.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct SafeSegment {
    pub text: String,
    /// Whether a value had to be changed.
    pub changed: bool,
}

/// A segment of a path in the making.
#[derive(Debug, Default)]
pub(super) struct Segment {
    text: String,
    changed: bool,
    begins_with_value: bool,
    /// Where the text begins that the template puts after the last value.
    tail: usize,
}

impl Segment {
    pub(super) fn literal(&mut self, literal: &str) {
        self.text.push_str(literal);
    }

    pub(super) fn value(&mut self, value: &str, blank: &str) {
        self.begins_with_value |= self.text.is_empty();
        if value.trim().is_empty() {
            self.changed |= !value.is_empty();
            self.text.push_str(blank);
        } else {
            for character in value.chars() {
                let kept = !is_forbidden(character) && character != '/';
                self.changed |= !kept;
                self.text.push(if kept { character } else { '_' });
            }
        }
        self.tail = self.text.len();
    }

    pub(super) fn finish(self) -> SafeSegment {
        let Self {
            text,
            mut changed,
            begins_with_value,
            tail,
        } = self;
        let mut name = text;
        let trimmed = name.trim_end_matches(['.', ' ']).len();
        let mut tail = tail.min(trimmed);
        changed |= trimmed < name.len();
        name.truncate(trimmed);
        if begins_with_value {
            let start = name.len() - name.trim_start().len();
            if start > 0 {
                name.drain(..start);
                tail = tail.saturating_sub(start);
                changed = true;
            }
            if name.starts_with('.') {
                name.replace_range(..1, "_");
                changed = true;
            }
        }
        if name.is_empty() {
            name.push('_');
            changed = true;
        }
        if is_device(&name) {
            let stem = name.find('.').unwrap_or(name.len());
            name.insert(stem, '_');
            tail += usize::from(stem <= tail);
            changed = true;
        }
        if name.len() > LONGEST {
            let ending = name.split_off(tail.min(name.len()));
            let ending = if ending.len() < LONGEST {
                ending
            } else {
                String::new()
            };
            let mut room = LONGEST - ending.len();
            while !name.is_char_boundary(room.min(name.len())) {
                room -= 1;
            }
            name.truncate(room);
            name.push_str(&ending);
            changed = true;
        }
        SafeSegment {
            text: name,
            changed,
        }
    }
}

/// Whether some system cannot have this character in a name, or a reader cannot see it.
pub(super) fn is_forbidden(character: char) -> bool {
    matches!(
        character,
        '\\' | ':' | '*' | '?' | '"' | '<' | '>' | '|'
            | '\u{200b}'..='\u{200f}'
            | '\u{2028}'..='\u{202e}'
            | '\u{2060}'..='\u{2069}'
            | '\u{ad}'
            | '\u{61c}'
            | '\u{feff}'
            | '\u{e0000}'..='\u{e007f}'
            | '\u{fffe}'..='\u{ffff}'
    ) || character.is_control()
}

/// Whether Windows takes a file of this name for a device, with any extension and in any case.
fn is_device(name: &str) -> bool {
    let stem = name
        .split('.')
        .next()
        .unwrap_or(name)
        .trim_end()
        .to_uppercase();
    if matches!(
        stem.as_str(),
        "CON" | "PRN" | "AUX" | "NUL" | "CONIN$" | "CONOUT$"
    ) {
        return true;
    }
    let port = stem
        .strip_prefix("COM")
        .or_else(|| stem.strip_prefix("LPT"));
    port.is_some_and(|port| {
        let mut characters = port.chars();
        let digit = matches!(characters.next(), Some('0'..='9' | '¹' | '²' | '³'));
        digit && characters.next().is_none()
    })
}

/// The name as a system sees it that ignores case, the two ways to write an accented letter, and what cannot be seen.
pub fn fold(name: &str) -> String {
    if name.is_ascii() {
        return name.to_ascii_lowercase();
    }
    // Through capitals, so that letters that share one are one: both small sigmas, the long s and the s.
    name.nfd()
        .filter(|character| !is_invisible(*character))
        .flat_map(char::to_uppercase)
        .flat_map(char::to_lowercase)
        .nfc()
        .collect()
}

/// Whether a character has no look of its own, so that names with it and without look the same (Unicode's
/// `Default_Ignorable_Code_Point`).
fn is_invisible(character: char) -> bool {
    matches!(
        character,
        '\u{ad}' | '\u{34f}' | '\u{61c}' | '\u{115f}'..='\u{1160}' | '\u{17b4}'..='\u{17b5}'
            | '\u{180b}'..='\u{180f}' | '\u{200b}'..='\u{200f}' | '\u{202a}'..='\u{202e}'
            | '\u{2060}'..='\u{206f}' | '\u{3164}' | '\u{fe00}'..='\u{fe0f}' | '\u{feff}'
            | '\u{ffa0}' | '\u{1bca0}'..='\u{1bca3}' | '\u{1d173}'..='\u{1d17a}'
            | '\u{e0000}'..='\u{e0fff}'
    )
}

/// A value with all that is not ASCII spelled out, for names that look the same.
pub fn spelled_out(value: &str) -> String {
    value
        .chars()
        .map(|character| match character {
            ' '..='~' => character.to_string(),
            _ => character.escape_unicode().to_string(),
        })
        .collect()
}

#[cfg(test)]
mod tests {
    use proptest::prelude::*;

    use super::*;

    fn safe(value: &str) -> String {
        let mut segment = Segment::default();
        segment.value(value, "blank");
        segment.literal(".csv");
        segment.finish().text
    }

    #[test]
    fn values_that_are_no_names() {
        for (value, name) in [
            ("North Quay", "North Quay.csv"),
            ("Ångkajen", "Ångkajen.csv"),
            ("../../x", "_._.._x.csv"),
            ("/etc/x", "_etc_x.csv"),
            ("a\\b", "a_b.csv"),
            ("CON", "CON_.csv"),
            ("con.txt", "con_.txt.csv"),
            ("Lpt1", "Lpt1_.csv"),
            ("COM²", "COM²_.csv"),
            ("COMET", "COMET.csv"),
            (".", "_.csv"),
            ("..", "_..csv"),
            (".hidden", "_hidden.csv"),
            ("end. . ", "end. . .csv"),
            (" lead", "lead.csv"),
            ("a\u{202e}b\u{7}c\nd", "a_b_c_d.csv"),
            ("", "blank.csv"),
        ] {
            assert_eq!(safe(value), name, "{value:?}");
        }
        let mut folder = Segment::default();
        folder.value("end. . ", "blank");
        assert_eq!(folder.finish().text, "end");
    }

    #[test]
    fn long_names_keep_their_ending_and_whole_characters() {
        let name = safe(&"Å".repeat(300));
        assert!(name.len() <= 255 && name.len() > 250, "{}", name.len());
        assert!(name.ends_with("Å.csv"));
        assert_eq!(safe(&"x".repeat(251)).len(), 255);
    }

    #[test]
    fn names_that_some_systems_hold_for_one() {
        assert_eq!(fold("NORTH.csv"), fold("north.csv"));
        assert_eq!(fold("\u{c4}.csv"), fold("a\u{308}.csv"));
        assert_eq!(fold("ΟΔΟΣ"), fold("οδος"));
        assert_eq!(fold("οδοσ"), fold("οδος"));
        assert_eq!(fold("No\u{ad}rth"), fold("North"));
        assert_eq!(fold("North\u{e0041}"), fold("North"));
        assert_ne!(fold("a.csv"), fold("b.csv"));
        assert_eq!(spelled_out("A\u{308}"), "A\\u{308}");
    }

    proptest! {
        #[test]
        fn no_value_leads_out(value in ".*", folder in ".*") {
            for name in [safe(&value), {
                let mut segment = Segment::default();
                segment.value(&folder, "blank");
                segment.finish().text
            }] {
                prop_assert!(!name.is_empty() && name.len() <= 255);
                prop_assert!(!name.contains(['/', '\\', ':', '\0', '\n']));
                prop_assert!(!name.starts_with('.') && !name.ends_with(['.', ' ']));
                prop_assert!(!is_device(&name));
                let mut again = Segment::default();
                again.value(&name, "blank");
                prop_assert_eq!(again.finish(), SafeSegment { text: name, changed: false });
            }
        }
    }
}
