//! Segments: what messages are made of, in X12 and in UN/EDIFACT (ISO 9735).

use std::borrow::Cow;

use super::marks::{Marks, Standard};
use numerant_data::value::Number;

/// A segment that was taken apart.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub(super) struct Segment {
    /// In capitals.
    pub(super) id: String,
    /// Its elements, each with its repetitions and their components.
    pub(super) elements: Vec<Vec<Vec<String>>>,
}

impl Segment {
    /// Takes a segment apart, with or without its terminator and what is after.
    pub(super) fn parse(raw: &[u8], marks: &Marks) -> Self {
        let raw = content(raw, marks);
        let mut pieces = divided(raw, marks.element, marks.release).into_iter();
        let id = pieces.next().map(text).unwrap_or_default();
        let id = id.to_ascii_uppercase();
        let element = |piece: &[u8]| -> Vec<Vec<String>> {
            let repetitions = match marks.repetition {
                Some(mark) if id != "ISA" => divided(piece, mark, marks.release),
                _ => vec![piece],
            };
            let components = |piece: &[u8]| match id.as_str() {
                // ISA says what divides components, and has none.
                "ISA" => vec![text(piece)],
                _ => {
                    let parts = divided(piece, marks.component, marks.release);
                    parts
                        .into_iter()
                        .map(|part| text(&released(part, marks.release)))
                        .collect()
                }
            };
            repetitions.into_iter().map(components).collect()
        };
        Self {
            elements: pieces.map(element).collect(),
            id,
        }
    }

    /// A component of an element, both from 1; blank if it is not there.
    pub(super) fn value(&self, element: usize, component: usize) -> &str {
        let element = element
            .checked_sub(1)
            .and_then(|place| self.elements.get(place));
        let components = element.and_then(|repetitions| repetitions.first());
        let component = components.and_then(|components| components.get(component.checked_sub(1)?));
        component.map_or("", String::as_str)
    }

    /// The kind of message that it opens.
    pub(super) fn kind(&self, standard: Standard) -> &str {
        match standard {
            Standard::X12 => self.value(1, 1),
            Standard::Edifact => self.value(2, 1),
        }
    }

    /// What tells it apart from others of its name: its first component.
    pub(super) fn qualifier(&self) -> &str {
        self.value(1, 1)
    }
}

/// The name of a segment, verbatim.
pub(super) fn id_of<'r>(raw: &'r [u8], marks: &Marks) -> &'r [u8] {
    let end = raw
        .iter()
        .take(8)
        .position(|byte| *byte == marks.element || *byte == marks.segment);
    &raw[..end.unwrap_or(raw.len().min(8))]
}

/// A component of a segment.
pub(super) enum Part<'p> {
    /// From and to in the segment.
    Stands(usize, usize),
    /// What it represents.
    Made(&'p [u8]),
}

impl<'p> Part<'p> {
    pub(super) fn of<'v>(&self, raw: &'v [u8]) -> &'v [u8]
    where
        'p: 'v,
    {
        match self {
            Self::Stands(from, to) => &raw[*from..*to],
            Self::Made(value) => value,
        }
    }
}

/// Hands the components of the first elements of a segment, `most` of them, to `take`, with the numbers of their
/// elements from 1, and of the components from 1 or 0 where an element has only one.
#[inline]
pub(super) fn each_component(
    raw: &[u8],
    marks: &Marks,
    most: usize,
    take: &mut dyn FnMut(usize, usize, Part<'_>),
) {
    let inside = content(raw, marks);
    if marks.needs_care(inside) {
        let segment = Segment::parse(raw, marks);
        for (element, repetitions) in segment.elements.iter().enumerate().take(most) {
            for components in repetitions {
                for (component, value) in components.iter().enumerate() {
                    let number = if components.len() == 1 {
                        0
                    } else {
                        component + 1
                    };
                    take(element + 1, number, Part::Made(value.as_bytes()));
                }
            }
        }
        return;
    }
    let (mut number, mut from) = (0, 0);
    for element in inside.split(|byte| *byte == marks.element) {
        let to = from + element.len();
        if number > most {
            return;
        }
        if number > 0 && element.contains(&marks.component) {
            let (mut component, mut from) = (1, from);
            for value in element.split(|byte| *byte == marks.component) {
                take(number, component, Part::Stands(from, from + value.len()));
                component += 1;
                from += value.len() + 1;
            }
        } else if number > 0 {
            take(number, 0, Part::Stands(from, to));
        }
        number += 1;
        from = to + 1;
    }
}

/// A component of an element of a segment, both from 1, without taking all of it apart where that can be avoided.
pub(super) fn value_of<'r>(
    raw: &'r [u8],
    marks: &Marks,
    element: usize,
    component: usize,
) -> Cow<'r, str> {
    let inside = content(raw, marks);
    if marks.needs_care(inside) {
        let segment = Segment::parse(raw, marks);
        return Cow::Owned(segment.value(element, component).to_owned());
    }
    let element = inside.split(|byte| *byte == marks.element).nth(element);
    let component = element
        .zip(component.checked_sub(1))
        .and_then(|(element, place)| element.split(|byte| *byte == marks.component).nth(place))
        .unwrap_or_default();
    std::str::from_utf8(component).map_or_else(|_| Cow::Owned(text(component)), Cow::Borrowed)
}

/// A segment's bytes without its terminator and what is after that.
fn content<'r>(raw: &'r [u8], marks: &Marks) -> &'r [u8] {
    let raw = raw.trim_ascii_end();
    raw.strip_suffix(&[marks.segment]).unwrap_or(raw)
}

/// The line end that is after a segment's terminator.
pub(super) fn line_end(raw: &[u8]) -> &[u8] {
    &raw[raw.trim_ascii_end().len()..]
}

/// What is between marks that are not released.
fn divided(bytes: &[u8], mark: u8, release: Option<u8>) -> Vec<&[u8]> {
    let mut pieces = Vec::new();
    let (mut from, mut at) = (0, 0);
    while at < bytes.len() {
        if Some(bytes[at]) == release {
            at += 2;
            continue;
        }
        if bytes[at] == mark {
            pieces.push(&bytes[from..at]);
            from = at + 1;
        }
        at += 1;
    }
    pieces.push(&bytes[from.min(bytes.len())..]);
    pieces
}

/// The bytes without the marks that release others.
fn released(bytes: &[u8], release: Option<u8>) -> Vec<u8> {
    let Some(release) = release.filter(|release| bytes.contains(release)) else {
        return bytes.to_vec();
    };
    let mut plain = Vec::with_capacity(bytes.len());
    let mut bytes = bytes.iter();
    while let Some(byte) = bytes.next() {
        if *byte == release {
            plain.extend(bytes.next());
        } else {
            plain.push(*byte);
        }
    }
    plain
}

/// The characters of a value.
pub(super) fn text(bytes: &[u8]) -> String {
    match std::str::from_utf8(bytes) {
        Ok(text) => text.to_owned(),
        // The character sets of the standards before UTF-8 are those of Latin-1, most often.
        Err(_) => bytes.iter().map(|byte| char::from(*byte)).collect(),
    }
}

/// A segment with other values in some of its components: element, component and value.
pub(super) fn with_values(raw: &[u8], marks: &Marks, values: &[(usize, usize, String)]) -> Vec<u8> {
    let inside = content(raw, marks);
    let behind = &raw[inside.len()..];
    let mut elements: Vec<Vec<u8>> = divided(inside, marks.element, marks.release)
        .into_iter()
        .map(<[u8]>::to_vec)
        .collect();
    for (element, component, value) in values {
        if elements.len() <= *element {
            elements.resize(element + 1, Vec::new());
        }
        let own = &elements[*element];
        let mut parts: Vec<Vec<u8>> = divided(own, marks.component, marks.release)
            .into_iter()
            .map(<[u8]>::to_vec)
            .collect();
        if parts.len() < *component {
            parts.resize(*component, Vec::new());
        }
        parts[component - 1] = value.as_bytes().to_vec();
        elements[*element] = parts.join(&marks.component);
    }
    let mut written = elements.join(&marks.element);
    written.extend_from_slice(behind);
    written
}

/// An amount, with the decimal mark of its interchange.
pub(super) fn amount(text: &str, marks: &Marks) -> Option<Number> {
    let text = text.trim();
    let text = text.strip_prefix('+').unwrap_or(text);
    if text.bytes().all(|byte| byte.is_ascii_digit()) {
        return Number::parse(text.as_bytes());
    }
    let point = text
        .replacen(char::from(marks.decimal), ".", 1)
        .replacen(',', ".", 1);
    let padded = match point.strip_prefix('.') {
        Some(rest) => format!("0.{rest}"),
        None => point
            .strip_prefix("-.")
            .map_or(point.clone(), |rest| format!("-0.{rest}")),
    };
    Number::parse(padded.trim_end_matches('.').as_bytes())
}

#[cfg(test)]
mod tests {
    use super::super::marks::EDIFACT;
    use super::*;

    #[test]
    fn marks_release_others() {
        let raw = b"NAD+BY+5?+6:x??::?'+?:a'\r\n";
        let segment = Segment::parse(raw, &EDIFACT);
        assert_eq!((segment.id.as_str(), segment.qualifier()), ("NAD", "BY"));
        assert_eq!(
            (
                segment.value(2, 1),
                segment.value(2, 2),
                segment.value(2, 4)
            ),
            ("5+6", "x?", "'")
        );
        assert_eq!(
            (segment.value(3, 1), segment.value(9, 1), line_end(raw)),
            (":a", "", b"\r\n".as_slice())
        );
        for (raw, marks) in [
            (raw.as_slice(), EDIFACT),
            (b"DTM+137:2026:102'", EDIFACT),
            (b"MOA+12:+:'", EDIFACT),
        ] {
            let segment = Segment::parse(raw, &marks);
            for (element, component) in (1..5).flat_map(|of| (1..5).map(move |at| (of, at))) {
                let value = value_of(raw, &marks, element, component);
                assert_eq!(value, segment.value(element, component));
            }
        }
        let written = with_values(raw, &EDIFACT, &[(2, 2, "new".into()), (4, 1, "7".into())]);
        assert_eq!(written, b"NAD+BY+5?+6:new::?'+?:a+7'\r\n");
    }
}
