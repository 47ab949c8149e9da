//! Segments: what messages are made of, in X12 and in UN/EDIFACT (ISO 9735).

use std::borrow::Cow;
use std::io::{self, Read};

use crate::source::SharedFile;

/// Which of the two it is.
#[derive(Clone, Copy, Debug, PartialEq, Eq, serde::Deserialize)]
#[serde(rename_all = "lowercase")]
pub(crate) enum Standard {
    X12,
    Edifact,
}

impl Standard {
    /// The segments that open and close an interchange, a group and a message.
    pub(super) fn envelope(self) -> [(&'static str, &'static str); 3] {
        match self {
            Self::X12 => [("ISA", "IEA"), ("GS", "GE"), ("ST", "SE")],
            Self::Edifact => [("UNB", "UNZ"), ("UNG", "UNE"), ("UNH", "UNT")],
        }
    }
}

/// The marks that divide an interchange.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(super) struct Marks {
    pub(super) standard: Standard,
    pub(super) element: u8,
    pub(super) component: u8,
    repetition: Option<u8>,
    pub(super) segment: u8,
    release: Option<u8>,
    /// The decimal mark besides the point.
    pub(super) decimal: u8,
}

/// The marks of EDIFACT where no UNA says otherwise.
const EDIFACT: Marks = Marks {
    standard: Standard::Edifact,
    element: b'+',
    component: b':',
    repetition: None,
    segment: b'\'',
    release: Some(b'?'),
    decimal: b'.',
};

/// Bytes of ISA, whose elements have fixed lengths, and of UNA.
const ISA: usize = 106;
const UNA: usize = 9;

impl Marks {
    /// The marks that an interchange begins with, if it begins here.
    pub(super) fn found(start: &[u8]) -> Option<Self> {
        if start.starts_with(b"ISA") && start.len() >= ISA && !start[3].is_ascii_alphanumeric() {
            let repetition = start[82];
            let divides = !repetition.is_ascii_alphanumeric() && repetition != b' ';
            return Some(Self {
                standard: Standard::X12,
                element: start[3],
                component: start[104],
                repetition: divides.then_some(repetition),
                segment: start[105],
                release: None,
                decimal: b'.',
            });
        }
        if start.starts_with(b"UNA") && start.len() >= UNA {
            let sign = |place: usize| (start[place] != b' ').then_some(start[place]);
            return Some(Self {
                standard: Standard::Edifact,
                component: start[3],
                element: start[4],
                decimal: start[5],
                release: sign(6),
                repetition: sign(7),
                segment: start[8],
            });
        }
        start.starts_with(b"UNB+").then_some(EDIFACT)
    }
}

/// A segment that was taken apart.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub(super) struct Segment {
    pub(super) id: String,
    /// Its elements, each with its repetitions and their components.
    pub(super) elements: Vec<Vec<Vec<String>>>,
}

impl Segment {
    /// Takes a segment apart, with or without its terminator and what stands behind.
    pub(super) fn parse(raw: &[u8], marks: &Marks) -> Self {
        let raw = content(raw, marks);
        let mut pieces = divided(raw, marks.element, marks.release).into_iter();
        let id = pieces.next().map(text).unwrap_or_default();
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

    /// What tells it apart from others of its name: its first component.
    pub(super) fn qualifier(&self) -> &str {
        self.value(1, 1)
    }
}

/// The name of a segment.
pub(super) fn id_of<'r>(raw: &'r [u8], marks: &Marks) -> &'r [u8] {
    let end = raw
        .iter()
        .take(8)
        .position(|byte| *byte == marks.element || *byte == marks.segment);
    &raw[..end.unwrap_or(raw.len().min(8))]
}

/// Hands the components of a segment to `take`, with the numbers of their elements from 1, of the
/// components from 1 or 0 where an element has only one, and their texts.
pub(super) fn each_component(raw: &[u8], marks: &Marks, take: &mut dyn FnMut(usize, usize, &[u8])) {
    let inside = content(raw, marks);
    let released_somewhere = marks
        .release
        .is_some_and(|release| memchr::memchr(release, inside).is_some());
    let whole = inside.starts_with(b"ISA");
    let divides = |byte: u8| !whole && (byte == marks.component || Some(byte) == marks.repetition);
    let repeats = marks
        .repetition
        .is_some_and(|mark| memchr::memchr(mark, inside).is_some());
    if released_somewhere || repeats {
        let segment = Segment::parse(raw, marks);
        for (element, repetitions) in segment.elements.iter().enumerate() {
            for components in repetitions {
                for (component, value) in components.iter().enumerate() {
                    let number = if components.len() == 1 {
                        0
                    } else {
                        component + 1
                    };
                    take(element + 1, number, value.as_bytes());
                }
            }
        }
        return;
    }
    for (number, element) in inside
        .split(|byte| *byte == marks.element)
        .enumerate()
        .skip(1)
    {
        if element.iter().any(|byte| divides(*byte)) {
            for (component, value) in element.split(|byte| divides(*byte)).enumerate() {
                take(number, component + 1, value);
            }
        } else {
            take(number, 0, element);
        }
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
    let released = marks
        .release
        .is_some_and(|mark| memchr::memchr(mark, inside).is_some());
    let repeats = marks
        .repetition
        .is_some_and(|mark| memchr::memchr(mark, inside).is_some());
    if released || repeats || inside.starts_with(b"ISA") {
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

/// A segment's bytes without its terminator and what stands behind that.
fn content<'r>(raw: &'r [u8], marks: &Marks) -> &'r [u8] {
    let raw = raw.trim_ascii_end();
    raw.strip_suffix(&[marks.segment]).unwrap_or(raw)
}

/// The line end that stands behind a segment's terminator.
pub(super) fn line_end(raw: &[u8]) -> &[u8] {
    &raw[raw.trim_ascii_end().len()..]
}

/// What stands between marks that are not released.
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
        match *byte == release {
            true => plain.extend(bytes.next()),
            false => plain.push(*byte),
        }
    }
    plain
}

fn text(bytes: &[u8]) -> String {
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

/// Reads segments one after the other.
pub(super) struct Segments<R> {
    input: R,
    buffer: Vec<u8>,
    at: usize,
    ended: bool,
    /// Bytes before the buffer.
    before: u64,
    pub(super) marks: Option<Marks>,
    /// The marks are those of the UNA that was read last.
    advised: bool,
    most: usize,
}

/// Why the next segment could not be read.
#[derive(Debug)]
pub(super) enum SegmentError {
    Io(io::Error),
    /// Something stands where an interchange should begin.
    NoInterchange,
    /// The file ends in a segment.
    Cut,
    /// A segment is longer than a record may be.
    TooLong,
}

/// Bytes that are read at a time.
const PIECE: usize = 1 << 17;

impl<R: Read> Segments<R> {
    pub(super) fn new(input: R, most: usize) -> Self {
        Self {
            input,
            buffer: Vec::new(),
            at: 0,
            ended: false,
            before: 0,
            marks: None,
            advised: false,
            most,
        }
    }

    /// Where the next segment begins.
    pub(super) fn offset(&self) -> u64 {
        self.before + self.at as u64
    }

    fn more(&mut self) -> Result<(), SegmentError> {
        self.buffer.drain(..self.at);
        self.before += self.at as u64;
        self.at = 0;
        if self.buffer.len() > self.most {
            return Err(SegmentError::TooLong);
        }
        let wanted = PIECE.max(self.buffer.len());
        let read = (&mut self.input)
            .take(wanted as u64)
            .read_to_end(&mut self.buffer);
        self.ended = read.map_err(SegmentError::Io)? == 0;
        Ok(())
    }

    /// So many bytes at least are in the buffer, unless the input ends before.
    fn fill(&mut self, bytes: usize) -> Result<(), SegmentError> {
        while self.buffer.len() - self.at < bytes && !self.ended {
            self.more()?;
        }
        Ok(())
    }

    /// Replaces `raw` with the next segment, its terminator and the line end behind it; `false` at the end.
    /// `opens` says that an interchange begins or ends here.
    pub(super) fn next(&mut self, opens: bool, raw: &mut Vec<u8>) -> Result<bool, SegmentError> {
        raw.clear();
        loop {
            self.fill(ISA)?;
            let blank = self.buffer[self.at..]
                .iter()
                .take_while(|byte| byte.is_ascii_whitespace())
                .count();
            if blank == 0 {
                break;
            }
            self.at += blank;
        }
        if self.at == self.buffer.len() {
            return Ok(false);
        }
        let start = &self.buffer[self.at..];
        if (opens || self.marks.is_none())
            && let Some(marks) = Marks::found(start)
        {
            // UNA has said what divides the UNB behind it.
            let said = self
                .marks
                .filter(|_| self.advised && start.starts_with(b"UNB"));
            self.marks = Some(said.unwrap_or(marks));
            self.advised = start.starts_with(b"UNA");
        }
        let Some(marks) = self.marks else {
            return Err(SegmentError::NoInterchange);
        };
        if start.starts_with(b"UNA") {
            raw.extend_from_slice(&start[..UNA.min(start.len())]);
            self.at += raw.len();
            self.take_line_end(raw)?;
            return Ok(true);
        }
        let mut searched = 0;
        loop {
            let rest = &self.buffer[self.at + searched..];
            let found = match marks.release {
                None => memchr::memchr(marks.segment, rest),
                Some(release) => memchr::memchr2(marks.segment, release, rest),
            };
            match found {
                Some(place) if Some(rest[place]) == marks.release => {
                    searched += place + 2;
                    if self.at + searched > self.buffer.len() {
                        searched = self.buffer.len() - self.at;
                        self.more()?;
                        if self.ended {
                            return Err(SegmentError::Cut);
                        }
                        searched += 1;
                    }
                }
                Some(place) => {
                    let length = searched + place + 1;
                    raw.extend_from_slice(&self.buffer[self.at..self.at + length]);
                    self.at += length;
                    self.take_line_end(raw)?;
                    return Ok(true);
                }
                None if self.ended => return Err(SegmentError::Cut),
                None => {
                    searched = self.buffer.len() - self.at;
                    self.more()?;
                }
            }
        }
    }

    fn take_line_end(&mut self, raw: &mut Vec<u8>) -> Result<(), SegmentError> {
        loop {
            self.fill(1)?;
            match self.buffer.get(self.at) {
                Some(byte @ (b'\r' | b'\n')) => {
                    raw.push(*byte);
                    self.at += 1;
                }
                _ => return Ok(()),
            }
        }
    }
}

/// The segments in a piece of a file, as they stand.
pub(super) fn segments_in(bytes: &[u8], marks: Marks) -> io::Result<Vec<Vec<u8>>> {
    let mut segments = Segments::new(bytes, usize::MAX);
    segments.marks = Some(marks);
    let mut found = Vec::new();
    let mut raw = Vec::new();
    while segments
        .next(false, &mut raw)
        .map_err(|error| io::Error::other(format!("{error:?}")))?
    {
        found.push(raw.clone());
    }
    Ok(found)
}

/// Bytes of a file.
pub(super) fn bytes_at(file: &SharedFile, from: u64, to: u64) -> io::Result<Vec<u8>> {
    use std::io::Seek;
    let mut file = file.again();
    file.seek(io::SeekFrom::Start(from))?;
    let mut bytes = Vec::new();
    file.take(to.saturating_sub(from)).read_to_end(&mut bytes)?;
    Ok(bytes)
}

#[cfg(test)]
mod tests {
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

    #[test]
    fn segments_are_the_same_however_they_are_cut() {
        /// Hands out a byte at a time.
        struct Drops<'a>(&'a [u8]);
        impl Read for Drops<'_> {
            fn read(&mut self, buffer: &mut [u8]) -> io::Result<usize> {
                let most = buffer.len().min(1);
                (&mut self.0).take(most as u64).read(buffer)
            }
        }
        let text = b"\nUNA:+,?*~\nUNB+UNOA:1+A+B~UNH+1+REMADV:D:96A~BGM+?~x??~\r\nUNT+3+1~UNZ+1+9~";
        let read = |input: &mut dyn Read| {
            let mut segments = Segments::new(input, 1 << 20);
            let (mut all, mut raw) = (Vec::new(), Vec::new());
            while segments.next(all.is_empty(), &mut raw).expect("read") {
                all.push(String::from_utf8(raw.clone()).expect("text"));
            }
            all
        };
        let whole = read(&mut text.as_slice());
        assert_eq!(
            whole,
            [
                "UNA:+,?*~\n",
                "UNB+UNOA:1+A+B~",
                "UNH+1+REMADV:D:96A~",
                "BGM+?~x??~\r\n",
                "UNT+3+1~",
                "UNZ+1+9~"
            ]
        );
        assert_eq!(read(&mut Drops(text)), whole);
        let mut cut = Segments::new(&text[..40], 1 << 20);
        let mut raw = Vec::new();
        assert!(cut.next(true, &mut raw).is_ok() && cut.next(false, &mut raw).is_ok());
        assert!(matches!(cut.next(false, &mut raw), Err(SegmentError::Cut)));
        let mut none = Segments::new(b"hello".as_slice(), 1 << 20);
        assert!(matches!(
            none.next(true, &mut raw),
            Err(SegmentError::NoInterchange)
        ));
    }
}
