//! One value of a record: as it is in its source, as what it represents, and as delimited text
//! has it.

use std::borrow::Cow;

use super::tag::{Blank, Tag};
use crate::value::swar;

/// One field as it is in its source.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct Field<'a> {
    raw: &'a [u8],
    quote: Option<u8>,
    tag: Tag,
}

/// Whether a value holds one of four bytes. Most values are short, so eight bytes are looked at
/// at a time and nothing is set up for it.
#[inline]
pub fn holds_any(value: &[u8], marks: [u8; 4]) -> bool {
    let (eights, rest) = value.as_chunks::<8>();
    let mut found = 0;
    for bytes in eights {
        let word = u64::from_le_bytes(*bytes);
        for mark in marks {
            found |= swar::same(word, mark);
        }
    }
    found != 0 || rest.iter().any(|byte| marks.contains(byte))
}

/// Appends a value, in quotes where it holds a delimiter, a quote or a line end, or where it is
/// blank and `lonely` on its line.
pub fn push_quoted(
    value: &[u8],
    delimiter: u8,
    quote: Option<u8>,
    lonely: bool,
    out: &mut Vec<u8>,
) {
    let Some(quote) = quote else {
        out.extend_from_slice(value);
        return;
    };
    let needed = holds_any(value, [delimiter, quote, b'\n', b'\r']);
    let needed = needed || (lonely && value.is_empty());
    if !needed {
        out.extend_from_slice(value);
        return;
    }
    out.push(quote);
    let mut rest = value;
    while let Some(at) = memchr::memchr(quote, rest) {
        out.extend_from_slice(&rest[..=at]);
        out.push(quote);
        rest = &rest[at + 1..];
    }
    out.extend_from_slice(rest);
    out.push(quote);
}

impl<'a> Field<'a> {
    /// A field of a text in which values may be enclosed by `quote`.
    #[inline]
    pub fn new(raw: &'a [u8], quote: Option<u8>) -> Self {
        let tag = Tag::PLAIN;
        Self { raw, quote, tag }
    }

    /// A field of a sheet or document.
    #[inline]
    pub fn tagged(raw: &'a [u8], tag: Tag) -> Self {
        let quote = None;
        Self { raw, quote, tag }
    }

    /// The field's text as it is in its source, quotes included.
    #[inline]
    pub fn raw(&self) -> &'a [u8] {
        self.raw
    }

    /// The field's value: `raw` without the quotes around it, doubled quotes taken as one.
    ///
    /// Where text is after the closing quote, nobody can say what the quotes are for, and the
    /// value is `raw`. `scratch` is used where the value is not a slice of the source.
    #[inline]
    pub fn value<'s>(&self, scratch: &'s mut Vec<u8>) -> &'s [u8]
    where
        'a: 's,
    {
        match self.enclosed() {
            Enclosed::No => self.raw,
            Enclosed::Plain(value) => value,
            Enclosed::Doubled(inside, quote) => {
                undouble(inside, quote, scratch);
                scratch
            }
        }
    }

    /// The field's value as [`Field::value`] has it, on its own.
    #[inline]
    pub fn text(self) -> Cow<'a, [u8]> {
        match self.enclosed() {
            Enclosed::No => Cow::Borrowed(self.raw),
            Enclosed::Plain(value) => Cow::Borrowed(value),
            Enclosed::Doubled(inside, quote) => {
                let mut value = Vec::new();
                undouble(inside, quote, &mut value);
                Cow::Owned(value)
            }
        }
    }

    /// What is between the quotes of the field, if it is quoted.
    #[inline]
    fn enclosed(&self) -> Enclosed<'a> {
        match (self.quote, self.raw) {
            (Some(quote), [first, rest @ ..]) if *first == quote => self.enclosed_by(quote, rest),
            _ => Enclosed::No,
        }
    }

    /// What is before the closing quote in `rest`, which begins after the opening one.
    fn enclosed_by(&self, quote: u8, rest: &'a [u8]) -> Enclosed<'a> {
        match memchr::memchr(quote, rest) {
            Some(close) if close + 1 == rest.len() => Enclosed::Plain(&rest[..close]),
            None => Enclosed::Plain(rest),
            Some(first) => {
                let mut at = first;
                loop {
                    if at + 1 == rest.len() {
                        return Enclosed::Doubled(&rest[..at], quote);
                    }
                    if rest[at + 1] != quote {
                        return Enclosed::No;
                    }
                    match memchr::memchr(quote, &rest[at + 2..]) {
                        Some(next) => at += 2 + next,
                        None => return Enclosed::No,
                    }
                }
            }
        }
    }

    /// Whether a quote is in the field where RFC 4180 has none, so that it is read as text.
    #[inline]
    pub fn has_stray_quote(&self) -> bool {
        let has_quote = |quote| memchr::memchr(quote, self.raw).is_some();
        matches!(self.enclosed(), Enclosed::No) && self.quote.is_some_and(has_quote)
    }

    /// Whether the value is empty.
    #[inline]
    pub fn is_blank(&self) -> bool {
        self.raw.is_empty() || self.quote.is_some_and(|quote| self.raw == [quote, quote])
    }

    /// What stands next to the bytes, in the records of sheets and documents.
    #[inline]
    pub fn tag(&self) -> Tag {
        self.tag
    }

    /// Whether there is nothing: no value, and no kind of blank either.
    #[inline]
    pub fn is_absent(&self) -> bool {
        self.raw.is_empty() && self.tag.as_blank() == Blank::Absent
    }
}

/// What is between the quotes of a field.
enum Enclosed<'a> {
    /// The field is not quoted, or not as RFC 4180 has it.
    No,
    /// A value without quotes in it.
    Plain(&'a [u8]),
    /// A value in which this quote is doubled.
    Doubled(&'a [u8], u8),
}

fn undouble(inside: &[u8], quote: u8, value: &mut Vec<u8>) {
    value.clear();
    let mut rest = inside;
    while let Some(at) = memchr::memchr(quote, rest) {
        value.extend_from_slice(&rest[..=at]);
        rest = rest.get(at + 2..).unwrap_or_default();
    }
    value.extend_from_slice(rest);
}

#[cfg(test)]
mod tests {
    use super::*;

    proptest::proptest! {
        #[test]
        fn eight_bytes_at_a_time_are_as_good_as_one(
            value in proptest::collection::vec(0_u8..8, 0..40), marks in proptest::array::uniform4(0_u8..12),
        ) {
            let plain = value.iter().any(|byte| marks.contains(byte));
            proptest::prop_assert_eq!(holds_any(&value, marks), plain);
        }
    }

    #[test]
    fn values_of_quoted_fields() {
        let cases: [(&[u8], &[u8]); 13] = [
            (b"plain", b"plain"),
            (b"", b""),
            (b"\"\"", b""),
            (b"\"a,b\"", b"a,b"),
            (b"\"say \"\"ho\"\"\"", b"say \"ho\""),
            (b"\"\"\"\"", b"\""),
            (b"\"text\" behind", b"\"text\" behind"),
            (b"\"text\" and \"more\"", b"\"text\" and \"more\""),
            (b"\"5\" pipe\"", b"\"5\" pipe\""),
            (b"\"a\"\"b\"\"", b"\"a\"\"b\"\""),
            (b"\"a\"\"b\"", b"a\"b"),
            (b"6\" rope", b"6\" rope"),
            (b" \"padded\"", b" \"padded\""),
        ];
        for (raw, value) in cases {
            let field = Field::new(raw, Some(b'"'));
            assert_eq!(
                field.value(&mut Vec::new()),
                value,
                "{}",
                String::from_utf8_lossy(raw)
            );
            assert_eq!(field.is_blank(), value.is_empty());
            let literal = Field::new(raw, None);
            assert_eq!(literal.value(&mut Vec::new()), raw);
        }
    }
}
