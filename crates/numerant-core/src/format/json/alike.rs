//! Records that are like one before them, but for their values, are read without a parser: what
//! stands between the values is compared, and the values are looked for where it ends.
//!
//! A record that differs in anything, be it white space, is left to the parser. So is a text with an
//! escape in it.

use crate::format::trees::Leaf;
use crate::tree::Kind;

/// Likenesses that are remembered.
const MOST: usize = 4;

/// What stands between the values of a record.
#[derive(Debug)]
struct Likeness {
    /// Before each value.
    before: Vec<Box<[u8]>>,
    /// Behind the last.
    behind: Box<[u8]>,
}

/// The records that are remembered.
#[derive(Debug, Default)]
pub(super) struct Likenesses {
    known: Vec<Likeness>,
    /// The one that the record before was like.
    latest: usize,
    /// The one that is forgotten next.
    oldest: usize,
}

impl Likenesses {
    /// Remembers a record with values at these places.
    pub(super) fn remember(&mut self, record: &[u8], values: &[(u32, u32)]) -> usize {
        let mut from = 0;
        let mut before = Vec::with_capacity(values.len());
        for (start, end) in values {
            before.push(record[from..*start as usize].into());
            from = *end as usize;
        }
        let likeness = Likeness {
            before,
            behind: record[from..].into(),
        };
        if self.known.len() < MOST {
            self.known.push(likeness);
            self.latest = self.known.len() - 1;
        } else {
            self.known[self.oldest] = likeness;
            self.latest = self.oldest;
            self.oldest = (self.oldest + 1) % MOST;
        }
        self.latest
    }

    pub(super) fn is_empty(&self) -> bool {
        self.known.is_empty()
    }

    /// Which of those the text begins with a record like, and how many bytes that takes.
    #[inline]
    pub(super) fn find(&mut self, text: &[u8], leaves: &mut Vec<Leaf>) -> Option<(usize, usize)> {
        for turn in 0..self.known.len() {
            let place = (self.latest + turn) % self.known.len();
            if let Some(length) = self.known[place].fits(text, leaves) {
                self.latest = place;
                return Some((place, length));
            }
        }
        None
    }
}

impl Likeness {
    #[inline]
    fn fits(&self, text: &[u8], leaves: &mut Vec<Leaf>) -> Option<usize> {
        leaves.clear();
        let mut at = 0;
        for before in &self.before {
            if !text[at..].starts_with(before) {
                return None;
            }
            at += before.len();
            let rest = &text[at..];
            let (kind, from, to, length) = match rest.first()? {
                b'"' => {
                    let length = plain_text(&rest[1..])?;
                    (Kind::Text, 1, length + 1, length + 2)
                }
                b't' if rest.starts_with(b"true") => (Kind::Boolean, 0, 4, 4),
                b'f' if rest.starts_with(b"false") => (Kind::Boolean, 0, 5, 5),
                b'n' if rest.starts_with(b"null") => (Kind::Null, 0, 0, 4),
                _ => {
                    let length = number(rest)?;
                    (Kind::Number, 0, length, length)
                }
            };
            leaves.push(Leaf {
                kind,
                text: ((at + from) as u32, (at + to) as u32),
            });
            at += length;
        }
        text[at..].starts_with(&self.behind).then(|| at + self.behind.len())
    }
}

const ONES: u64 = 0x0101_0101_0101_0101;
const HIGH: u64 = 0x8080_8080_8080_8080;

/// The high bit of each byte that is nought; bits above the first of them mean nothing.
#[inline(always)]
fn noughts(word: u64) -> u64 {
    word.wrapping_sub(ONES) & !word & HIGH
}

/// Bytes up to the closing quote; `None` if something comes first that is no plain text.
#[inline(always)]
fn plain_text(text: &[u8]) -> Option<usize> {
    let mut at = 0;
    while let Some(eight) = text.get(at..at + 8) {
        let word = u64::from_le_bytes(eight.try_into().ok()?);
        let quotes = noughts(word ^ (ONES * u64::from(b'"')));
        let backslashes = noughts(word ^ (ONES * u64::from(b'\\')));
        // Below a blank, in bytes without the high bit.
        let controls = word.wrapping_sub(ONES * 0x20) & !word & HIGH;
        let found = quotes | backslashes | controls;
        if found != 0 {
            let place = (found.trailing_zeros() / 8) as usize;
            return (text[at + place] == b'"').then_some(at + place);
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

/// Bytes of a number; `None` if it is none, or may go on behind the text.
#[inline(always)]
fn number(text: &[u8]) -> Option<usize> {
    let digits = |mut at: usize| {
        while text.get(at).is_some_and(u8::is_ascii_digit) {
            at += 1;
        }
        at
    };
    let whole = usize::from(text.first() == Some(&b'-'));
    let mut at = digits(whole);
    if at == whole || (text[whole] == b'0' && at > whole + 1) {
        return None;
    }
    if text.get(at) == Some(&b'.') {
        let fraction = digits(at + 1);
        if fraction == at + 1 {
            return None;
        }
        at = fraction;
    }
    if matches!(text.get(at), Some(b'e' | b'E')) {
        let sign = usize::from(matches!(text.get(at + 1), Some(b'+' | b'-')));
        let exponent = digits(at + 1 + sign);
        if exponent == at + 1 + sign {
            return None;
        }
        at = exponent;
    }
    (at < text.len()).then_some(at)
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
            let known = serde_json::from_str::<serde_json::Value>(&text[..end])
                .is_ok_and(|value| value.is_number()) && text[..end].trim() == &text[..end];
            prop_assert_eq!(number(text.as_bytes()) == Some(end), known, "{}", text);
        }
    }
}
