//! The way through an XML document: what stands in it, and whether it is well-formed.

use quick_xml::Reader;
use quick_xml::events::attributes::AttrError;
use quick_xml::events::{BytesStart, Event};

use super::entities::{Entities, character};
use super::path::is_name;
use crate::format::markup::Flow;
use crate::format::text::Text;
use crate::format::trees::OpenedTrees;
use crate::source::{Encoding, EncodingError, Input, ReadError, ReadProblem};

/// What is wrong at a place in the text.
struct Wrong(usize, ReadProblem);

fn malformed(at: usize, what: impl Into<String>) -> Wrong {
    let problem = ReadProblem::Malformed {
        format: super::NAME,
        what: what.into(),
    };
    Wrong(at, problem)
}

/// Hears what stands in a document. Places are those in the text.
pub(super) trait Handler {
    /// An element begins.
    fn open(&mut self, name: &str, from: usize);
    /// The open element has an attribute; where its value stands if that is as it is there.
    fn attribute(&mut self, name: &str, value: &[u8], at: Option<usize>);
    /// All attributes were named.
    fn opened(&mut self, to: usize);
    /// Whether texts are wanted.
    fn wants_text(&self) -> bool;
    /// The open element has text; where that stands if it is as it is there.
    fn text(&mut self, text: &[u8], at: Option<usize>);
    /// The open element ends.
    fn close(&mut self, to: usize) -> Flow;
}

/// The way through a document.
pub(super) struct Walk {
    pub(super) text: Text,
    entities: Entities,
    /// Names of the open elements, one behind the other, and where each begins.
    names: String,
    open: Vec<usize>,
    /// Prefixes that are declared, with the element that does it.
    prefixes: Vec<(usize, String)>,
    had_root: bool,
    most_depth: usize,
    scratch: Vec<u8>,
}

/// The name of an encoding in an XML declaration.
pub(super) fn declared_name(start: &str) -> Option<&str> {
    let declaration = start.strip_prefix("<?xml")?.split("?>").next()?;
    let rest = declaration.split("encoding").nth(1)?;
    let rest = rest.trim_start().strip_prefix('=')?.trim_start();
    let quote = rest.chars().next().filter(|c| matches!(c, '"' | '\''))?;
    rest[1..].split(quote).next()
}

/// The encoding that an XML declaration names, if it can be so: the declaration itself is read byte by
/// byte.
fn declared(start: &[u8]) -> Result<Option<Encoding>, EncodingError> {
    let start = String::from_utf8_lossy(start);
    let Some(name) = declared_name(&start) else {
        return Ok(None);
    };
    let encoding = Encoding::named(name)?;
    // What reads like ASCII cannot be UTF-16, whatever it says.
    let is_utf16 = [Encoding::UTF_16LE, Encoding::UTF_16BE].contains(&encoding);
    Ok((!is_utf16).then_some(encoding))
}

impl Walk {
    pub(super) fn new(input: Input, opened: &OpenedTrees) -> Result<Self, ReadError> {
        let encoding = opened.options.encoding;
        Ok(Self {
            text: Text::new(
                input,
                super::NAME,
                encoding,
                declared,
                opened.largest_record,
            )?,
            entities: Entities::default(),
            names: String::new(),
            open: Vec::new(),
            prefixes: Vec::new(),
            had_root: false,
            most_depth: opened.depth,
            scratch: Vec::new(),
        })
    }

    /// Goes on until the handler pauses (`true`) or more text is needed.
    pub(super) fn pull(&mut self, handler: &mut dyn Handler) -> Result<bool, ReadError> {
        let Self {
            text,
            entities,
            names,
            open,
            prefixes,
            had_root,
            most_depth,
            scratch,
        } = self;
        let base = text.at;
        let at_end = text.is_at_end();
        let rest = text.rest();
        let mut reader = Reader::from_str(rest);
        let config = reader.config_mut();
        config.check_end_names = false;
        config.allow_unmatched_ends = true;
        let mut state = State {
            entities,
            names,
            open,
            prefixes,
            had_root,
            most_depth: *most_depth,
            scratch,
            start: rest.as_ptr() as usize,
            base,
        };
        let mut done = 0;
        let outcome = loop {
            let result = reader.read_event();
            let to = reader.buffer_position() as usize;
            match result {
                Ok(Event::Eof) => break Ok(false),
                Ok(Event::Text(_)) if to == rest.len() && !at_end => break Ok(false),
                Ok(event) => match state.take(event, base + done, base + to, handler) {
                    Ok(Flow::On) => done = to,
                    Ok(Flow::Pause) => {
                        done = to;
                        break Ok(true);
                    }
                    Err(wrong) => break Err(wrong),
                },
                Err(_) if !at_end => break Ok(false),
                Err(error) => break Err(malformed(base + done, error.to_string())),
            }
        };
        match outcome {
            Ok(paused) => {
                text.at = base + done;
                Ok(paused)
            }
            Err(Wrong(at, problem)) => Err(text.error(at, problem)),
        }
    }

    /// Checks that the document is whole.
    pub(super) fn check_end(&self) -> Result<(), ReadError> {
        if let Some(from) = self.open.last() {
            let what = format!("the element <{}> is never closed", &self.names[*from..]);
            return Err(self.text.malformed(self.text.at, what));
        }
        if !self.had_root {
            return Err(self
                .text
                .malformed(self.text.at, "there is no element in it"));
        }
        Ok(())
    }
}

/// What an event is held against.
struct State<'a> {
    entities: &'a mut Entities,
    names: &'a mut String,
    open: &'a mut Vec<usize>,
    prefixes: &'a mut Vec<(usize, String)>,
    had_root: &'a mut bool,
    most_depth: usize,
    scratch: &'a mut Vec<u8>,
    /// Where what is parsed lies in memory, and in the text.
    start: usize,
    base: usize,
}

impl State<'_> {
    #[inline]
    fn take(
        &mut self,
        event: Event<'_>,
        from: usize,
        to: usize,
        handler: &mut dyn Handler,
    ) -> Result<Flow, Wrong> {
        match event {
            Event::Start(tag) => {
                self.start(&tag, from, to, handler)?;
                Ok(Flow::On)
            }
            Event::Empty(tag) => {
                self.start(&tag, from, to, handler)?;
                self.end(to, handler)
            }
            Event::End(tag) => {
                let name = tag.name();
                let name = name.as_ref();
                match self.open.last() {
                    Some(start) if self.names[*start..] == *name => self.end(to, handler),
                    Some(start) => Err(malformed(
                        from,
                        format!("</{name}> stands where <{}> is open", &self.names[*start..]),
                    )),
                    None => Err(malformed(from, format!("</{name}> closes nothing"))),
                }
            }
            Event::Text(text) => {
                let text = text.into_inner();
                self.characters(text.as_bytes(), from, true, handler)?;
                Ok(Flow::On)
            }
            Event::CData(text) => {
                let text = text.into_inner();
                self.characters(text.as_bytes(), from, false, handler)?;
                Ok(Flow::On)
            }
            Event::GeneralRef(reference) => {
                if self.open.is_empty() {
                    return Err(malformed(from, "a reference outside of the root element"));
                }
                let name = reference.into_inner();
                self.scratch.clear();
                push_reference(&name, self.entities, self.scratch)
                    .map_err(|what| malformed(from, what))?;
                if handler.wants_text() {
                    handler.text(self.scratch, None);
                }
                Ok(Flow::On)
            }
            Event::DocType(doctype) => {
                self.entities.define(&doctype.into_inner());
                Ok(Flow::On)
            }
            _ => Ok(Flow::On),
        }
    }

    fn start(
        &mut self,
        tag: &BytesStart<'_>,
        from: usize,
        to: usize,
        handler: &mut dyn Handler,
    ) -> Result<(), Wrong> {
        let name = tag.name();
        let name = name.as_ref();
        if self.open.is_empty() && std::mem::replace(self.had_root, true) {
            let what = format!("<{name}> stands behind the end of the root element");
            return Err(malformed(from, what));
        }
        if self.open.len() >= self.most_depth {
            let most = self.most_depth;
            return Err(Wrong(from, ReadProblem::TooDeep { most }));
        }
        self.open.push(self.names.len());
        self.names.push_str(name);
        handler.open(name, from);
        let has_attributes = tag.len() > name.len();
        if has_attributes {
            self.attributes(tag, from, handler)?;
        }
        if let Some((prefix, _)) = name.split_once(':') {
            self.check_prefix(prefix, from)?;
        }
        handler.opened(to);
        Ok(())
    }

    fn attributes(
        &mut self,
        tag: &BytesStart<'_>,
        from: usize,
        handler: &mut dyn Handler,
    ) -> Result<(), Wrong> {
        let mut used: Option<String> = None;
        for attribute in tag.attributes() {
            let attribute = attribute.map_err(|error| malformed(from, said(&error)))?;
            let name = attribute.key.as_ref();
            let raw = attribute.value.as_ref();
            if !is_name(name) {
                return Err(malformed(
                    from,
                    format!("'{name}' is no name of an attribute"),
                ));
            }
            if raw.contains('<') {
                let what = format!("the attribute {name} holds a '<', which is written &lt;");
                return Err(malformed(from, what));
            }
            check_characters(raw.as_bytes(), from)?;
            if let Some(prefix) = name.strip_prefix("xmlns:") {
                self.prefixes.push((self.open.len(), prefix.to_owned()));
            } else if let Some((prefix, _)) = name.split_once(':')
                && used.is_none()
            {
                used = Some(prefix.to_owned());
            }
            self.scratch.clear();
            if memchr::memchr2(b'&', b'\n', raw.as_bytes()).is_none()
                && memchr::memchr2(b'\r', b'\t', raw.as_bytes()).is_none()
            {
                let at = (raw.as_ptr() as usize).wrapping_sub(self.start);
                handler.attribute(name, raw.as_bytes(), Some(self.base + at));
                continue;
            }
            // White space is normalised (XML 1.0, 3.3.3), but for that of references.
            let mut rest = raw;
            while let Some(at) = rest.find(['&', '\n', '\r', '\t']) {
                self.scratch.extend_from_slice(&rest.as_bytes()[..at]);
                let behind = &rest[at + 1..];
                if rest.as_bytes()[at] == b'\r' && behind.starts_with('\n') {
                    rest = behind;
                    continue;
                }
                if rest.as_bytes()[at] != b'&' {
                    self.scratch.push(b' ');
                    rest = behind;
                    continue;
                }
                let end = behind.find(';').ok_or_else(|| {
                    malformed(
                        from,
                        format!("a '&' in the attribute {name} stands for nothing"),
                    )
                })?;
                push_reference(&behind[..end], self.entities, self.scratch)
                    .map_err(|what| malformed(from, what))?;
                rest = &behind[end + 1..];
            }
            self.scratch.extend_from_slice(rest.as_bytes());
            handler.attribute(name, self.scratch, None);
        }
        match used {
            Some(prefix) => self.check_prefix(&prefix, from),
            None => Ok(()),
        }
    }

    fn check_prefix(&self, prefix: &str, from: usize) -> Result<(), Wrong> {
        let known = self.prefixes.iter().any(|(_, known)| known == prefix);
        if known || matches!(prefix, "xml" | "xmlns") {
            return Ok(());
        }
        let what = format!("the prefix {prefix}: is not declared");
        Err(malformed(from, what))
    }

    fn end(&mut self, to: usize, handler: &mut dyn Handler) -> Result<Flow, Wrong> {
        if !self.prefixes.is_empty() {
            let depth = self.open.len();
            self.prefixes.retain(|(declared, _)| *declared < depth);
        }
        if let Some(start) = self.open.pop() {
            self.names.truncate(start);
        }
        Ok(handler.close(to))
    }

    #[inline]
    fn characters(
        &mut self,
        text: &[u8],
        from: usize,
        normal: bool,
        handler: &mut dyn Handler,
    ) -> Result<(), Wrong> {
        if self.open.is_empty() {
            let mark = text.strip_prefix("\u{feff}".as_bytes()).unwrap_or(text);
            if mark.iter().any(|byte| !byte.is_ascii_whitespace()) {
                return Err(malformed(from, "text outside of the root element"));
            }
            return Ok(());
        }
        if !handler.wants_text() {
            return Ok(());
        }
        check_characters(text, from)?;
        if normal && memchr::memmem::find(text, b"]]>").is_some() {
            return Err(malformed(from, "']]>' in a text, which is written ]]&gt;"));
        }
        if memchr::memchr(b'\r', text).is_none() {
            handler.text(text, normal.then_some(from));
            return Ok(());
        }
        // Line ends are read as line feeds (XML 1.0, 2.11).
        self.scratch.clear();
        for (at, byte) in text.iter().enumerate() {
            match byte {
                b'\r' if text.get(at + 1) == Some(&b'\n') => {}
                b'\r' => self.scratch.push(b'\n'),
                byte => self.scratch.push(*byte),
            }
        }
        handler.text(self.scratch, None);
        Ok(())
    }
}

/// What is wrong with an attribute, in words of ours where the parser's speak of its own places.
fn said(error: &AttrError) -> String {
    match error {
        AttrError::Duplicated(..) => "an attribute stands twice in one tag".to_owned(),
        AttrError::UnquotedValue(_) => "the value of an attribute has no quotes".to_owned(),
        AttrError::ExpectedEq(_) => "an attribute has no value".to_owned(),
        other => other.to_string(),
    }
}

/// Checks that all characters are such as XML has.
#[inline]
fn check_characters(text: &[u8], from: usize) -> Result<(), Wrong> {
    let controls = |byte: &u8| *byte < 0x20 && !matches!(byte, b'\t' | b'\n' | b'\r');
    match text.iter().find(|byte| controls(byte)) {
        None => Ok(()),
        Some(byte) => Err(malformed(
            from,
            format!("the control character U+{byte:04X}, which XML cannot hold"),
        )),
    }
}

/// Appends what a reference stands for, from behind its `&` to before its `;`.
fn push_reference(name: &str, entities: &mut Entities, out: &mut Vec<u8>) -> Result<(), String> {
    if let Some(character) = character(name) {
        out.extend_from_slice(character.encode_utf8(&mut [0; 4]).as_bytes());
        return Ok(());
    }
    if name.starts_with('#') {
        return Err(format!("&{name}; stands for no character of XML"));
    }
    entities.push(name, out)
}

/// A name without its prefix, if those are left out.
pub(super) fn shown(name: &str, no_prefixes: bool) -> &str {
    match name.split_once(':') {
        Some((_, local)) if no_prefixes => local,
        _ => name,
    }
}
