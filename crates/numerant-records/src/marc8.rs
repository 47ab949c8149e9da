//! MARC-8 (MARC 21 Specifications, Character Sets): ASCII and the extended Latin of ANSEL (ANSI/NISO Z39.47)
//! with its combining marks, sub- and superscripts and the three Greek symbols, as Unicode in NFC.

use std::borrow::Cow;

use unicode_normalization::UnicodeNormalization;

const ESCAPE: u8 = 0x1b;

/// A text that cannot be read.
#[derive(Clone, Debug, PartialEq, Eq, thiserror::Error)]
pub(crate) enum Marc8Error {
    /// A set of characters that is not covered.
    #[error("the escape sequence ESC {0} chooses a set of characters that is not covered")]
    Set(String),
    /// A byte that represents nothing in its set.
    #[error("the byte {byte:02X} is undefined in {set}")]
    Byte {
        /// The byte.
        byte: u8,
        /// What the set is called.
        set: &'static str,
    },
    /// A combining mark without a character after it.
    #[error("a combining mark at the end has no base character")]
    Mark,
}

/// A set of characters for the lower half of bytes.
#[derive(Clone, Copy, PartialEq, Eq)]
enum Set {
    Ascii,
    Subscripts,
    Superscripts,
    Greek,
}

/// The text as Unicode.
pub(crate) fn decode(bytes: &[u8]) -> Result<Cow<'_, str>, Marc8Error> {
    const TABLE: Table = Table {
        name: "MARC-8",
        character: extended,
        mark,
    };
    TABLE.decode(bytes)
}

/// The upper half of a set of characters of seven or eight bits, whose marks are before their
/// character.
pub(super) struct Table {
    pub(super) name: &'static str,
    pub(super) character: fn(u8) -> Option<char>,
    pub(super) mark: fn(u8) -> Option<char>,
}

impl Table {
    pub(super) fn decode<'b>(&self, bytes: &'b [u8]) -> Result<Cow<'b, str>, Marc8Error> {
        if bytes.iter().all(|byte| byte.is_ascii() && *byte != ESCAPE) {
            return Ok(String::from_utf8_lossy(bytes));
        }
        let mut text = String::with_capacity(bytes.len());
        // Marks are before their character here, and after it in Unicode.
        let mut marks = String::new();
        let mut set = Set::Ascii;
        let mut at = 0;
        while let Some(&byte) = bytes.get(at) {
            at += 1;
            if byte == ESCAPE {
                (set, at) = escape(bytes, at, set)?;
                continue;
            }
            let wrong = Marc8Error::Byte {
                byte,
                set: self.name,
            };
            if let Some(mark) = (self.mark)(byte) {
                marks.push(mark);
                continue;
            }
            let character = match byte {
                0x88 => '\u{98}',
                0x89 => '\u{9c}',
                0x8d => '\u{200d}',
                0x8e => '\u{200c}',
                0x80.. => (self.character)(byte).ok_or(wrong)?,
                byte => lower(byte, set).ok_or(wrong)?,
            };
            text.push(character);
            text.push_str(&marks);
            marks.clear();
        }
        if marks.is_empty() {
            Ok(Cow::Owned(text.nfc().collect()))
        } else {
            Err(Marc8Error::Mark)
        }
    }
}

/// The set that an escape sequence chooses for the lower half, and the place after it.
fn escape(bytes: &[u8], at: usize, set: Set) -> Result<(Set, usize), Marc8Error> {
    let rest = &bytes[at..];
    let shown = |length: usize| {
        let signs = rest
            .iter()
            .take(length)
            .map(|byte| format!("{}", char::from(*byte)));
        signs.collect::<Vec<_>>().join(" ")
    };
    match rest {
        [b's', ..] => Ok((Set::Ascii, at + 1)),
        [b'b', ..] => Ok((Set::Subscripts, at + 1)),
        [b'p', ..] => Ok((Set::Superscripts, at + 1)),
        [b'g', ..] => Ok((Set::Greek, at + 1)),
        [b'(' | b',', b'B', ..] => Ok((Set::Ascii, at + 2)),
        // ANSEL in the upper half, where it is anyway.
        [b')' | b'-', b'E', ..] => Ok((set, at + 2)),
        [b')' | b'-', b'!', b'E', ..] => Ok((set, at + 3)),
        [b'(' | b',' | b')' | b'-', b'!', _, ..] | [b'$', b',' | b')' | b'-', _, ..] => {
            Err(Marc8Error::Set(shown(3)))
        }
        _ => Err(Marc8Error::Set(shown(2))),
    }
}

fn lower(byte: u8, set: Set) -> Option<char> {
    if set == Set::Ascii || byte <= b' ' {
        return Some(char::from(byte));
    }
    let digit = byte.is_ascii_digit().then(|| u32::from(byte - b'0'));
    match (set, byte) {
        (Set::Subscripts, b'(') => Some('₍'),
        (Set::Subscripts, b')') => Some('₎'),
        (Set::Subscripts, b'+') => Some('₊'),
        (Set::Subscripts, b'-') => Some('₋'),
        (Set::Subscripts, _) => digit.and_then(|digit| char::from_u32(0x2080 + digit)),
        (Set::Superscripts, b'(') => Some('⁽'),
        (Set::Superscripts, b')') => Some('⁾'),
        (Set::Superscripts, b'+') => Some('⁺'),
        (Set::Superscripts, b'-') => Some('⁻'),
        (Set::Superscripts, b'1') => Some('¹'),
        (Set::Superscripts, b'2') => Some('²'),
        (Set::Superscripts, b'3') => Some('³'),
        (Set::Superscripts, _) => digit.and_then(|digit| char::from_u32(0x2070 + digit)),
        (Set::Greek, b'a') => Some('α'),
        (Set::Greek, b'b') => Some('β'),
        (Set::Greek, b'c') => Some('γ'),
        _ => None,
    }
}

fn extended(byte: u8) -> Option<char> {
    Some(match byte {
        0xa1 => 'Ł',
        0xa2 => 'Ø',
        0xa3 => 'Đ',
        0xa4 => 'Þ',
        0xa5 => 'Æ',
        0xa6 => 'Œ',
        0xa7 => 'ʹ',
        0xa8 => '·',
        0xa9 => '♭',
        0xaa => '®',
        0xab => '±',
        0xac => 'Ơ',
        0xad => 'Ư',
        0xae => 'ʼ',
        0xb0 => 'ʻ',
        0xb1 => 'ł',
        0xb2 => 'ø',
        0xb3 => 'đ',
        0xb4 => 'þ',
        0xb5 => 'æ',
        0xb6 => 'œ',
        0xb7 => 'ʺ',
        0xb8 => 'ı',
        0xb9 => '£',
        0xba => 'ð',
        0xbc => 'ơ',
        0xbd => 'ư',
        0xc0 => '°',
        0xc1 => 'ℓ',
        0xc2 => '℗',
        0xc3 => '©',
        0xc4 => '♯',
        0xc5 => '¿',
        0xc6 => '¡',
        0xc7 => 'ß',
        0xc8 => '€',
        _ => return None,
    })
}

fn mark(byte: u8) -> Option<char> {
    char::from_u32(match byte {
        0xe0 => 0x309,
        0xe1 => 0x300,
        0xe2 => 0x301,
        0xe3 => 0x302,
        0xe4 => 0x303,
        0xe5 => 0x304,
        0xe6 => 0x306,
        0xe7 => 0x307,
        0xe8 => 0x308,
        0xe9 => 0x30c,
        0xea => 0x30a,
        0xeb => 0xfe20,
        0xec => 0xfe21,
        0xed => 0x315,
        0xee => 0x30b,
        0xef => 0x310,
        0xf0 => 0x327,
        0xf1 => 0x328,
        0xf2 => 0x323,
        0xf3 => 0x324,
        0xf4 => 0x325,
        0xf5 => 0x333,
        0xf6 => 0x332,
        0xf7 => 0x326,
        0xf8 => 0x31c,
        0xf9 => 0x32e,
        0xfa => 0xfe22,
        0xfb => 0xfe23,
        0xfe => 0x313,
        _ => return None,
    })
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn texts_become_unicode() {
        for (bytes, text) in [
            (b"Skarv Sound".as_slice(), "Skarv Sound"),
            (b"\xeaAngkajen \xb2st", "Ångkajen øst"),
            (b"f\xe2ee\xe8u", "féeü"),
            (b"\xf2\xe4o", "ọ̃"),
            (b"H\x1bb2\x1bsO 10\x1bp-3\x1bs \x1bga\x1bs", "H₂O 10⁻³ α"),
            (b"\x1b(B\x1b)!E\xc3 1893", "© 1893"),
        ] {
            let expected: String = text.nfc().collect();
            assert_eq!(decode(bytes).as_deref(), Ok(expected.as_str()));
        }
        assert_eq!(decode(b"a\x1b(N\xc1"), Err(Marc8Error::Set("( N".into())));
        assert_eq!(decode(b"a\x1b$1ABC"), Err(Marc8Error::Set("$ 1".into())));
        let (byte, set) = (0xaf, "MARC-8");
        assert_eq!(decode(b"\xaf"), Err(Marc8Error::Byte { byte, set }));
        assert_eq!(decode(b"a\xe2"), Err(Marc8Error::Mark));
    }
}
