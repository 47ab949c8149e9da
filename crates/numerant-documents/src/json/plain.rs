//! Values that are found without a parser: texts without escapes, numbers, and words.

use numerant_data::narrow::to_u32;
use numerant_data::tree::Kind;
use numerant_data::value::swar;
use numerant_format::column::json_number;
use numerant_trees::Leaf;

/// The value that a text begins with, and how many bytes it takes; `None` if it is none of those, or
/// may go on after the text.
#[inline(always)]
pub(super) fn value(text: &[u8], _behind: u8) -> Option<(Leaf, usize)> {
    let (kind, from, to, length) = match text.first()? {
        b'"' => {
            let length = plain_text(&text[1..])?;
            (Kind::Text, 1, length + 1, length + 2)
        }
        b't' if text.starts_with(b"true") => (Kind::Boolean, 0, 4, 4),
        b'f' if text.starts_with(b"false") => (Kind::Boolean, 0, 5, 5),
        b'n' if text.starts_with(b"null") => (Kind::Null, 0, 0, 4),
        _ => {
            let length = number(text)?;
            (Kind::Number, 0, length, length)
        }
    };
    let text = (from, to_u32(to));
    Some((Leaf { kind, text }, length))
}

/// Bytes up to the closing quote; `None` if something comes first that is no plain text.
#[inline(always)]
fn plain_text(text: &[u8]) -> Option<usize> {
    let mut at = 0;
    while let Some(bytes) = text.get(at..at + 8) {
        let word = u64::from_le_bytes(bytes.try_into().ok()?);
        let found = swar::same(word, b'"') | swar::same(word, b'\\') | swar::controls(word);
        if found != 0 {
            let place = at + swar::first(found);
            return (text[place] == b'"').then_some(place);
        }
        at += 8;
    }
    loop {
        match text.get(at)? {
            b'"' => return Some(at),
            b'\\' | 0..=0x1f => return None,
            _ => at += 1,
        }
    }
}

/// Bytes of a number; `None` if it is none, or may go on after the text.
#[inline(always)]
fn number(text: &[u8]) -> Option<usize> {
    json_number(text).filter(|length| *length < text.len())
}

#[cfg(test)]
mod tests {
    use proptest::prelude::*;

    use super::*;

    proptest! {
        #[test]
        fn texts_end_where_a_plain_search_says(text in proptest::collection::vec(
            prop_oneof![4 => 0x20_u8..0x7f, 1 => Just(b'"'), 1 => 0_u8..0xff], 0..40,
        )) {
            let special = |byte: &u8| matches!(byte, b'"' | b'\\' | 0..=0x1f);
            let first = text.iter().position(special);
            let expected = first.filter(|at| text[*at] == b'"');
            prop_assert_eq!(plain_text(&text), expected);
        }

        #[test]
        fn numbers_are_those_of_the_parser(text in "-?[0-9.eE+-]{0,8}[, }x]") {
            let end = text.len() - 1;
            let known = !text[..end].starts_with([' ', 't', 'f', 'n', '"'])
                && serde_json::from_str::<serde::de::IgnoredAny>(&text[..end]).is_ok();
            prop_assert_eq!(number(text.as_bytes()) == Some(end), known, "{}", text);
        }
    }
}
