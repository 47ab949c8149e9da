//! `LIKE`: `_` is any one character, `%` any number of them, and what follows the escape character
//! represents itself (ISO/IEC 9075-2, like predicate).

use super::error::EvalError;
use super::text;

/// A pattern made ready to be compared with many texts.
#[derive(Clone, Debug, PartialEq, Eq)]
pub(crate) struct Like {
    /// What is between the `%`, in order; with one, the pattern holds no `%`.
    segments: Vec<Vec<Piece>>,
}

#[derive(Clone, Debug, PartialEq, Eq)]
enum Piece {
    Text(Vec<u8>),
    AnyOne,
}

impl Like {
    pub(crate) fn new(pattern: &[u8], escape: Option<&[u8]>) -> Result<Self, EvalError> {
        let pattern_text = text::as_str(pattern);
        let escape = match escape {
            None => None,
            Some(escape) => {
                let escape_text = text::as_str(escape);
                let mut characters = escape_text.chars();
                match (characters.next(), characters.next()) {
                    (Some(character), None) => Some(character),
                    _ => {
                        return Err(EvalError::Argument {
                            what: "ESCAPE",
                            value: format!("'{escape_text}'"),
                            wanted: "a single character",
                        });
                    }
                }
            }
        };
        let mut segments = vec![Vec::new()];
        let mut literal = Vec::new();
        let mut characters = pattern_text.chars();
        let flush = |literal: &mut Vec<u8>, segments: &mut Vec<Vec<Piece>>| {
            if !literal.is_empty() {
                let text = Piece::Text(std::mem::take(literal));
                segments.last_mut().expect("one at least").push(text);
            }
        };
        while let Some(character) = characters.next() {
            let mut push = |character: char| {
                literal.extend_from_slice(character.encode_utf8(&mut [0; 4]).as_bytes());
            };
            if Some(character) == escape {
                match characters.next() {
                    Some(next) if next == '_' || next == '%' || Some(next) == escape => push(next),
                    _ => {
                        return Err(EvalError::Argument {
                            what: "the pattern of LIKE",
                            value: format!("'{pattern_text}'"),
                            wanted: "a pattern whose escape character comes before _, % or itself",
                        });
                    }
                }
            } else if character == '%' {
                flush(&mut literal, &mut segments);
                segments.push(Vec::new());
            } else if character == '_' {
                flush(&mut literal, &mut segments);
                segments
                    .last_mut()
                    .expect("one at least")
                    .push(Piece::AnyOne);
            } else {
                push(character);
            }
        }
        flush(&mut literal, &mut segments);
        Ok(Self { segments })
    }

    pub(crate) fn matches(&self, text: &[u8]) -> bool {
        let Some((first, rest)) = self.segments.split_first() else {
            return false;
        };
        let Some(mut text) = prefix(first, text) else {
            return false;
        };
        let Some((last, middle)) = rest.split_last() else {
            return text.is_empty();
        };
        // The first place where each of the middle ones fits is as good as any other.
        for segment in middle {
            match find(segment, text) {
                Some(behind) => text = behind,
                None => return false,
            }
        }
        suffix(last, text)
    }
}

/// What is left of `text` after `segment`, if it begins with that.
fn prefix<'t>(segment: &[Piece], text: &'t [u8]) -> Option<&'t [u8]> {
    segment.iter().try_fold(text, |text, piece| match piece {
        Piece::Text(literal) => text.strip_prefix(literal.as_slice()),
        Piece::AnyOne => {
            let length = text
                .iter()
                .skip(1)
                .position(|byte| byte & 0xc0 != 0x80)
                .map_or(text.len(), |next| next + 1);
            (!text.is_empty()).then(|| &text[length..])
        }
    })
}

fn suffix(segment: &[Piece], text: &[u8]) -> bool {
    let mut text = text;
    for piece in segment.iter().rev() {
        match piece {
            Piece::Text(literal) => match text.strip_suffix(literal.as_slice()) {
                Some(before) => text = before,
                None => return false,
            },
            Piece::AnyOne => match text.iter().rposition(|byte| byte & 0xc0 != 0x80) {
                Some(start) => text = &text[..start],
                None => return false,
            },
        }
    }
    true
}

/// What is left of `text` after the first place where `segment` fits.
fn find<'t>(segment: &[Piece], text: &'t [u8]) -> Option<&'t [u8]> {
    match segment {
        [] => Some(text),
        [Piece::Text(literal), rest @ ..] => {
            let mut text = text;
            loop {
                let at = memchr::memmem::find(text, literal)?;
                let behind = &text[at + literal.len()..];
                if let Some(left) = prefix(rest, behind) {
                    return Some(left);
                }
                text = &text[at + 1..];
            }
        }
        _ => {
            let starts = (0..text.len()).filter(|place| text[*place] & 0xc0 != 0x80);
            starts
                .into_iter()
                .find_map(|start| prefix(segment, &text[start..]))
        }
    }
}

#[cfg(test)]
mod tests {
    use proptest::prelude::*;

    use super::*;

    #[test]
    fn patterns() {
        for (text, pattern, expected) in [
            ("North Quay", "North%", true),
            ("North Quay", "%Quay", true),
            ("North Quay", "%th Q%", true),
            ("North Quay", "North", false),
            ("North", "N_r%h", true),
            ("Ö", "_", true),
            ("Ö", "__", false),
            ("aab", "%ab", true),
            ("abab", "%ab", true),
            ("", "%", true),
            ("", "_", false),
            ("a_b", "a!_b", true),
            ("axb", "a!_b", false),
            ("50%", "50!%", true),
            ("!", "!!", true),
        ] {
            let like = Like::new(pattern.as_bytes(), Some(b"!")).expect(pattern);
            assert_eq!(like.matches(text.as_bytes()), expected, "{text} {pattern}");
        }
        assert!(Like::new(b"a!b", Some(b"!")).is_err());
        assert!(Like::new(b"a!", Some(b"!")).is_err());
        assert!(Like::new(b"a", Some(b"!!")).is_err());
    }

    /// The rule as it is written down, without any haste.
    fn plainly(text: &[char], pattern: &[char]) -> bool {
        match pattern.split_first() {
            None => text.is_empty(),
            Some(('%', rest)) => (0..=text.len()).any(|from| plainly(&text[from..], rest)),
            Some(('_', rest)) => !text.is_empty() && plainly(&text[1..], rest),
            Some((character, rest)) => text.first() == Some(character) && plainly(&text[1..], rest),
        }
    }

    proptest! {
        #[test]
        fn like_is_what_its_rule_says(text in "[abÖ]{0,8}", pattern in "[abÖ_%]{0,6}") {
            let like = Like::new(pattern.as_bytes(), None).expect("no escape");
            let characters = |text: &str| text.chars().collect::<Vec<_>>();
            prop_assert_eq!(
                like.matches(text.as_bytes()),
                plainly(&characters(&text), &characters(&pattern))
            );
        }
    }
}
