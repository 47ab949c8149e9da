//! XML as a stream of events, in memory that does not grow with the document.
//!
//! `quick-xml` parses slices of text fastest, so the text is handed to it piece by piece; an event
//! that a piece cuts through is read again with the next piece after it.
//!
//! ```
//! use numerant_markup::{Flow, Markup};
//! use quick_xml::events::Event;
//!
//! let text = b"<calls><call/><call/></calls>";
//! let mut markup = Markup::new(Box::new(&text[..]), "calls.xml");
//! let mut calls = 0;
//! let more = markup.pull(|event| {
//!     calls += usize::from(matches!(event, Event::Empty(_)));
//!     Ok(Flow::On)
//! });
//! assert!(!more.expect("well-formed"), "all is read");
//! assert_eq!(calls, 2);
//! ```

pub mod name;

use std::io::Read;

use quick_xml::Reader;
use quick_xml::events::attributes::Attribute;
use quick_xml::events::{BytesRef, BytesStart, Event};
use quick_xml::name::QName;

use numerant_data::record::holds_any;
use numerant_data::source::ReadProblem;
use numerant_data::value::swar;

/// What may are before a document.
const BYTE_ORDER_MARK: &[u8] = "\u{feff}".as_bytes();

/// Bytes that are read at a time.
const PIECE: usize = 1 << 18;

/// Bytes of a single tag or text, at most.
const LONGEST_EVENT: usize = 64 << 20;

/// What comes of an event.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Flow {
    /// Go on.
    On,
    /// Stop after it.
    Pause,
}

/// An XML document that is read event by event.
pub struct Markup {
    input: Box<dyn Read + Send>,
    /// What is read and not skipped.
    text: String,
    /// How much of that is done with.
    at: usize,
    /// The start of a character whose end is still to come.
    cut: Vec<u8>,
    at_end: bool,
    /// The first piece was read.
    is_begun: bool,
    /// The part of the package that the document is, for messages.
    part: String,
}

impl Markup {
    /// Reads a document; `part` is what it is called in messages.
    pub fn new(input: Box<dyn Read + Send>, part: &str) -> Self {
        Self {
            input,
            text: String::new(),
            at: 0,
            cut: Vec::new(),
            at_end: false,
            is_begun: false,
            part: part.to_owned(),
        }
    }

    pub(crate) fn damaged(&self, what: impl std::fmt::Display) -> ReadProblem {
        ReadProblem::Damaged {
            what: format!("{what} (in {})", self.part),
        }
    }

    /// Hands events to `visit` until that pauses; `false` at the end of the document.
    pub fn pull<F>(&mut self, mut visit: F) -> Result<bool, ReadProblem>
    where
        F: FnMut(Event<'_>) -> Result<Flow, ReadProblem>,
    {
        loop {
            let rest = &self.text[self.at..];
            let mut reader = Reader::from_str(rest);
            let config = reader.config_mut();
            config.check_end_names = false;
            config.allow_unmatched_ends = true;
            let mut done = 0;
            let failed = loop {
                match reader.read_event() {
                    Ok(Event::Eof) => break None,
                    Ok(Event::Text(_))
                        if reader.buffer_position() as usize == rest.len() && !self.at_end =>
                    {
                        break None;
                    }
                    Ok(Event::DocType(_)) => return Err(ReadProblem::DocumentType),
                    Ok(event) => {
                        let flow = visit(event)?;
                        done = reader.buffer_position() as usize;
                        if flow == Flow::Pause {
                            self.at += done;
                            return Ok(true);
                        }
                    }
                    Err(error) => break Some(error.to_string()),
                }
            };
            self.at += done;
            if self.at_end {
                return match failed {
                    Some(error) => Err(self.damaged(error)),
                    None => Ok(false),
                };
            }
            self.more()?;
        }
    }

    /// What is read and not skipped.
    pub fn rest(&self) -> &str {
        &self.text[self.at..]
    }

    /// Passes over so many bytes.
    pub fn pass(&mut self, bytes: usize) {
        self.at += bytes;
    }

    /// Whether more may come.
    pub fn has_more(&self) -> bool {
        !self.at_end
    }

    /// Reads the next piece.
    pub fn more(&mut self) -> Result<(), ReadProblem> {
        self.text.drain(..self.at);
        self.at = 0;
        if self.text.len() > LONGEST_EVENT && !self.at_end {
            return Err(self.damaged("a tag or text without an end"));
        }
        // A long event is read in ever larger pieces, so that it is not looked at too often.
        let wanted = PIECE.max(self.text.len());
        let mut bytes = std::mem::take(&mut self.cut);
        let before = bytes.len();
        let read = (&mut self.input)
            .take((wanted - before.min(wanted)) as u64)
            .read_to_end(&mut bytes)
            .map_err(|error| unreadable(error, &self.part))?;
        self.at_end = read == 0;
        if !std::mem::replace(&mut self.is_begun, true) && bytes.starts_with(BYTE_ORDER_MARK) {
            // The parser would drop it, too, and count its place without it.
            bytes.drain(..BYTE_ORDER_MARK.len());
        }
        match simdutf8::compat::from_utf8(&bytes) {
            Ok(text) => self.text.push_str(text),
            Err(error) if error.error_len().is_none() && !self.at_end => {
                let (whole, cut) = bytes.split_at(error.valid_up_to());
                self.text.push_str(&String::from_utf8_lossy(whole));
                self.cut = cut.to_vec();
            }
            Err(_) => return Err(self.damaged("bytes that are not UTF-8")),
        }
        Ok(())
    }
}

/// What went wrong while a part was unpacked.
pub fn unreadable(error: std::io::Error, part: &str) -> ReadProblem {
    if error.raw_os_error().is_some() {
        return ReadProblem::Io(error);
    }
    match error.downcast::<ReadProblem>() {
        Ok(problem) => problem,
        Err(error) => ReadProblem::Damaged {
            what: format!("{part} cannot be unpacked: {error}"),
        },
    }
}

/// The value of an attribute, by its name without prefix; verbatim but for entities.
pub fn attribute(tag: &BytesStart<'_>, name: &str) -> Option<String> {
    let mut attributes = tag.attributes();
    let found = attributes
        .with_checks(false)
        .flatten()
        .find(|attribute| attribute.key.local_name().as_ref() == name)?;
    let value = found.value.as_ref();
    match quick_xml::escape::unescape(value) {
        Ok(text) => Some(text.into_owned()),
        Err(_) => Some(value.to_owned()),
    }
}

/// The value of an attribute of this name without prefix, verbatim.
pub fn plain_attribute(tag: &BytesStart<'_>, name: &str) -> Option<String> {
    let mut attributes = tag.attributes();
    let found = attributes
        .with_checks(false)
        .flatten()
        .find(|attribute| attribute.key.local_name().as_ref() == name)?;
    Some(found.value.as_ref().to_owned())
}

/// Adds an attribute whose value is escaped, in whatever quotes it stood.
pub fn push_raw(tag: &mut BytesStart<'_>, key: &str, value: &str) {
    let value = if value.contains('"') {
        value.replace('"', "&quot;").into()
    } else {
        value.into()
    };
    tag.push_attribute(Attribute {
        key: QName(key),
        value,
    });
}

/// Appends what `&name;` or `&#number;` represents.
pub fn push_reference(reference: &BytesRef<'_>, out: &mut String) -> Result<(), ReadProblem> {
    if let Ok(Some(character)) = reference.resolve_char_ref() {
        out.push(character);
        return Ok(());
    }
    let name = reference.clone().into_inner();
    match quick_xml::escape::resolve_predefined_entity(&name) {
        Some(text) => out.push_str(text),
        None => {
            return Err(ReadProblem::Damaged {
                what: format!("the entity &{name}; is not known"),
            });
        }
    }
    Ok(())
}

/// Appends text for XML, with `<`, `>`, `&` and line ends that would not come back as references.
pub fn push_escaped(text: &str, attribute: bool, out: &mut Vec<u8>) {
    let mut rest = text.as_bytes();
    let marks = [b'<', b'>', b'&', b'\r'];
    let more = [b'"', b'\n', b'\t', b'\r'];
    if !(holds_any(rest, marks) || attribute && holds_any(rest, more)) {
        out.extend_from_slice(rest);
        return;
    }
    let special = |byte: &u8| {
        matches!(byte, b'<' | b'>' | b'&' | b'\r')
            || (attribute && matches!(byte, b'"' | b'\n' | b'\t'))
    };
    while let Some(at) = rest.iter().position(special) {
        out.extend_from_slice(&rest[..at]);
        out.extend_from_slice(match rest[at] {
            b'<' => b"&lt;",
            b'>' => b"&gt;",
            b'&' => b"&amp;",
            b'"' => b"&quot;",
            b'\n' => b"&#10;",
            b'\t' => b"&#9;",
            _ => b"&#13;",
        });
        rest = &rest[at + 1..];
    }
    out.extend_from_slice(rest);
}

/// The first character of a text that XML 1.0 cannot hold.
pub fn forbidden(text: &str) -> Option<char> {
    let (eights, rest) = text.as_bytes().as_chunks::<8>();
    // Those are control characters, and two that begin with this byte.
    let mut found = 0;
    for bytes in eights {
        let word = u64::from_le_bytes(*bytes);
        found |= swar::controls(word) | swar::same(word, 0xef);
    }
    let plain = |byte: &u8| *byte >= 0x20 && *byte != 0xef;
    if found == 0 && rest.iter().all(plain) {
        None
    } else {
        text.chars().find(|character| !is_allowed(*character))
    }
}

/// Whether XML 1.0 can hold a character.
pub fn is_allowed(character: char) -> bool {
    !matches!(character, '\0'..='\u{8}' | '\u{b}' | '\u{c}' | '\u{e}'..='\u{1f}' | '\u{fffe}' | '\u{ffff}')
}

/// A text as XML holds it in an attribute.
pub fn escaped(text: &str) -> String {
    let mut out = Vec::new();
    push_escaped(text, true, &mut out);
    String::from_utf8_lossy(&out).into_owned()
}

#[cfg(test)]
mod tests {
    use super::*;

    /// Hands out a byte at a time.
    struct Drops(std::io::Cursor<Vec<u8>>);

    impl Read for Drops {
        fn read(&mut self, buffer: &mut [u8]) -> std::io::Result<usize> {
            let most = buffer.len().min(1);
            self.0.read(&mut buffer[..most])
        }
    }

    fn texts(xml: &str) -> Result<String, ReadProblem> {
        let input = Drops(std::io::Cursor::new(xml.as_bytes().to_vec()));
        let mut markup = Markup::new(Box::new(input), "test.xml");
        let mut seen = String::new();
        while markup.pull(|event| {
            match event {
                Event::Start(tag) => seen.push_str(&format!("<{}", tag.local_name().as_ref())),
                Event::Text(text) => seen.push_str(&text.into_inner()),
                Event::GeneralRef(reference) => push_reference(&reference, &mut seen)?,
                Event::End(_) => {
                    seen.push('/');
                    return Ok(Flow::Pause);
                }
                _ => {}
            }
            Ok(Flow::On)
        })? {}
        Ok(seen)
    }

    #[test]
    fn events_come_whole_however_the_text_is_cut() {
        let xml = "<?xml version=\"1.0\"?><a:x q=\"ø>\">Ærø &amp; &#x41;<!-- no --><y/></a:x> ";
        assert_eq!(texts(xml).expect("read"), "<xÆrø & A/ ");
        assert!(matches!(
            texts("<!DOCTYPE x [<!ENTITY a \"b\">]><x/>"),
            Err(ReadProblem::DocumentType)
        ));
        assert!(matches!(
            texts("<x>&other;</x>"),
            Err(ReadProblem::Damaged { .. })
        ));
        assert!(matches!(texts("<x a='"), Err(ReadProblem::Damaged { .. })));
    }
}
