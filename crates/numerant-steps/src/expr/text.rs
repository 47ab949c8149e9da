//! Functions on texts. Texts are UTF-8; positions and lengths count characters, from 1.

use std::borrow::Cow;

use super::error::EvalError;

/// Byte places where the characters of `text` begin, and its end.
fn char_starts(text: &[u8]) -> impl Iterator<Item = usize> + '_ {
    let starts = text
        .iter()
        .enumerate()
        .filter(|(_, byte)| **byte & 0xc0 != 0x80)
        .map(|(place, _)| place);
    starts.chain([text.len()])
}

pub(super) fn char_length(text: &[u8]) -> usize {
    text.iter().filter(|byte| **byte & 0xc0 != 0x80).count()
}

/// The byte place of character `place` (from 0), or the end.
fn byte_of(text: &[u8], place: usize) -> usize {
    char_starts(text).nth(place).unwrap_or(text.len())
}

/// The place of the first `part` in `text`, from 1; 0 if there is none.
pub(super) fn position(part: &[u8], text: &[u8]) -> usize {
    match memchr::memmem::find(text, part) {
        Some(at) => char_length(&text[..at]) + 1,
        None => 0,
    }
}

/// Characters `from` up to `from + length`; those before 1 and after the end are none.
pub(super) fn substring(
    text: &[u8],
    from: i128,
    length: Option<i128>,
) -> Result<std::ops::Range<usize>, EvalError> {
    if let Some(length) = length.filter(|length| *length < 0) {
        return Err(EvalError::Argument {
            what: "the length of SUBSTRING",
            value: length.to_string(),
            wanted: "at least 0",
        });
    }
    let end = length.map_or(i128::MAX, |length| from.saturating_add(length));
    let begin = from.max(1);
    if end <= begin {
        return Ok(0..0);
    }
    let clamp = |place: i128| usize::try_from(place - 1).unwrap_or(usize::MAX);
    let start = byte_of(text, clamp(begin));
    let stop = if length.is_some() {
        byte_of(text, clamp(end))
    } else {
        text.len()
    };
    Ok(start..stop)
}

/// `text` with the characters from `from`, `length` of them, replaced by `by`.
pub(super) fn overlay(
    text: &[u8],
    by: &[u8],
    from: i128,
    length: Option<i128>,
) -> Result<Vec<u8>, EvalError> {
    let length = length.unwrap_or_else(|| char_length(by) as i128);
    let before = substring(text, 1, Some((from - 1).max(0)))?;
    let behind = substring(text, from.saturating_add(length), None)?;
    Ok([&text[before], by, &text[behind]].concat())
}

/// Which side of a text.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(crate) enum Side {
    Both,
    Leading,
    Trailing,
}

/// `text` without `character` at its sides.
pub(super) fn trim<'t>(
    text: &'t [u8],
    character: &[u8],
    side: Side,
) -> Result<&'t [u8], EvalError> {
    if char_length(character) != 1 {
        return Err(EvalError::Argument {
            what: "what TRIM removes",
            value: format!("'{}'", String::from_utf8_lossy(character)),
            wanted: "a single character",
        });
    }
    let mut text = text;
    if side != Side::Trailing {
        while let Some(rest) = text.strip_prefix(character) {
            text = rest;
        }
    }
    if side != Side::Leading {
        while let Some(rest) = text.strip_suffix(character) {
            text = rest;
        }
    }
    Ok(text)
}

/// `text` filled with `filling` to `length` characters at one side, or cut to it.
pub(super) fn pad(
    text: &[u8],
    length: i128,
    filling: &[u8],
    side: Side,
) -> Result<Vec<u8>, EvalError> {
    const LONGEST: i128 = 1 << 20;
    if !(0..=LONGEST).contains(&length) {
        return Err(EvalError::Argument {
            what: "the length to fill to",
            value: length.to_string(),
            wanted: "between 0 and 1,048,576",
        });
    }
    let length = length as usize;
    let count = char_length(text);
    if count >= length || filling.is_empty() {
        return Ok(text[..byte_of(text, length)].to_vec());
    }
    let missing = length - count;
    let mut filled = Vec::new();
    let each = char_length(filling);
    for _ in 0..missing / each {
        filled.extend_from_slice(filling);
    }
    filled.extend_from_slice(&filling[..byte_of(filling, missing % each)]);
    Ok(if side == Side::Leading {
        [filled.as_slice(), text].concat()
    } else {
        [text, filled.as_slice()].concat()
    })
}

pub(super) fn upper(text: &[u8]) -> Vec<u8> {
    if text.is_ascii() {
        return text.to_ascii_uppercase();
    }
    as_str(text).to_uppercase().into_bytes()
}

pub(super) fn lower(text: &[u8]) -> Vec<u8> {
    if text.is_ascii() {
        return text.to_ascii_lowercase();
    }
    as_str(text).to_lowercase().into_bytes()
}

pub(super) fn as_str(text: &[u8]) -> Cow<'_, str> {
    String::from_utf8_lossy(text)
}

/// A text for a message: its first 60 characters.
pub(super) fn shown(text: &[u8]) -> String {
    let text = as_str(text);
    let mut shown: String = text.chars().take(60).collect();
    if shown.len() < text.len() {
        shown.push('…');
    }
    shown
}
