//! The way through an XML document: what is in it, and whether it is well-formed.

use numerant_data::narrow::to_usize;
use quick_xml::Reader;
use quick_xml::events::Event;

use super::attributes::Attributes;
use super::declaration::declared;
use super::doctype::DoctypeError;
use super::entities::{Entities, Replaced, character};
use super::scope::{AttributeNames, Prefixes};
use super::syntax::{wrong_comment, wrong_declaration, wrong_instruction};
use numerant_data::encoding::Encoding;
use numerant_data::source::{Input, ReadError, ReadProblem, SourcePath};
use numerant_markup::name::is_name;
use numerant_markup::{Flow, forbidden};
use numerant_trees::{MAX_DEPTH, OpenedTrees, Text};

/// What is wrong at a place in the text.
struct Wrong(usize, ReadProblem);

/// What becomes of an event.
enum Step {
    On,
    Pause,
    /// This text is to be read in place of the event.
    Replace(String),
}

impl From<Flow> for Step {
    fn from(flow: Flow) -> Self {
        match flow {
            Flow::On => Self::On,
            Flow::Pause => Self::Pause,
        }
    }
}

/// How far the way through a document is.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
enum Stage {
    /// Nothing was read.
    Start,
    /// Before the document type.
    Prolog,
    /// Behind it, and before the root element.
    Typed,
    /// In the root element, or after it.
    Root,
}

fn malformed(at: usize, what: impl Into<String>) -> Wrong {
    let problem = ReadProblem::Malformed {
        format: super::NAME,
        what: what.into(),
    };
    Wrong(at, problem)
}

/// Hears what is in a document. Places are those in the text.
pub(super) trait Handler {
    /// An element begins.
    fn open(&mut self, name: &str, from: usize);
    /// The open element has an attribute; where its value stands if that is as it is there.
    fn attribute(&mut self, name: &str, value: &[u8], at: Option<usize>);
    /// All attributes were named.
    fn opened(&mut self, to: usize);
    /// The open element has text; where that stands if it is as it is there.
    fn text(&mut self, text: &[u8], at: Option<usize>);
    /// The open element ends.
    fn close(&mut self, to: usize) -> Flow;
}

/// The way through a document.
pub(super) struct Walk {
    pub(super) text: Text,
    entities: Entities,
    /// Names of the open elements, one after the other, and where each begins.
    names: String,
    open: Vec<usize>,
    /// Prefixes that are declared, with the element that does it.
    prefixes: Prefixes,
    stage: Stage,
    most_depth: usize,
    scratch: Vec<u8>,
}

impl Walk {
    pub(super) fn new(input: Input, opened: &OpenedTrees) -> Result<Self, ReadError> {
        let (encoding, largest) = (opened.options.encoding, opened.largest_record);
        let text = Text::new(input, super::NAME, encoding, declared, largest)?;
        Ok(Self::through(text, opened.depth))
    }

    /// The way through a text.
    fn through(text: Text, most_depth: usize) -> Self {
        Self {
            text,
            entities: Entities::default(),
            names: String::new(),
            open: Vec::new(),
            prefixes: Prefixes::default(),
            stage: Stage::Start,
            most_depth,
            scratch: Vec::new(),
        }
    }

    /// Goes on until the handler pauses (`true`) or more text is needed.
    pub(super) fn pull(&mut self, handler: &mut dyn Handler) -> Result<bool, ReadError> {
        loop {
            if let Some(paused) = self.pull_piece(handler)? {
                return Ok(paused);
            }
        }
    }

    /// Goes on until the handler pauses (`true`), more text is needed (`false`), or an entity was
    /// replaced.
    fn pull_piece(&mut self, handler: &mut dyn Handler) -> Result<Option<bool>, ReadError> {
        let Self {
            text,
            entities,
            names,
            open,
            prefixes,
            stage,
            most_depth,
            scratch,
        } = self;
        // The parser would take it for the mark before a document, and count its place without it.
        if text.rest().starts_with('\u{feff}') {
            if open.is_empty() {
                return Err(text.malformed(text.at, "text outside of the root element"));
            }
            handler.text("\u{feff}".as_bytes(), None);
            text.at += '\u{feff}'.len_utf8();
        }
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
            stage,
            most_depth: *most_depth,
            scratch,
            start: rest.as_ptr() as usize,
            base,
        };
        let mut done = 0;
        let mut replacement = None;
        let outcome = loop {
            let result = reader.read_event();
            let to = to_usize(reader.buffer_position());
            match result {
                Ok(Event::Eof) => break Ok(false),
                Ok(Event::Text(_)) if to == rest.len() && !at_end => break Ok(false),
                Ok(event) => {
                    let raw = &rest[done..to];
                    match state.take(event, raw, base + done, base + to, handler) {
                        Ok(Step::On) => done = to,
                        Ok(Step::Pause) => {
                            done = to;
                            break Ok(true);
                        }
                        Ok(Step::Replace(text)) => {
                            replacement = Some((base + done..base + to, text));
                            break Ok(false);
                        }
                        Err(wrong) => break Err(wrong),
                    }
                }
                Err(_) if !at_end => break Ok(false),
                Err(error) => break Err(malformed(base + done, error.to_string())),
            }
        };
        match outcome {
            Ok(paused) => {
                text.at = base + done;
                let Some((place, replacement)) = replacement else {
                    return Ok(Some(paused));
                };
                text.replace(place, &replacement);
                Ok(None)
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
        if self.stage != Stage::Root {
            return Err(self.text.malformed(self.text.at, "it has no element"));
        }
        Ok(())
    }
}

/// Hears nothing.
struct Unheard;

impl Handler for Unheard {
    fn open(&mut self, _name: &str, _from: usize) {}
    fn attribute(&mut self, _name: &str, _value: &[u8], _at: Option<usize>) {}
    fn opened(&mut self, _to: usize) {}
    fn text(&mut self, _text: &[u8], _at: Option<usize>) {}

    fn close(&mut self, _to: usize) -> Flow {
        Flow::On
    }
}

/// Checks that a text of UTF-8 is a well-formed document; the line of what is wrong and that, if it
/// is not.
pub fn check(text: &str) -> Result<(), (u64, String)> {
    let bytes = std::io::Cursor::new(text.as_bytes().to_vec());
    let checked =
        Input::from_reader(SourcePath::Standard, Box::new(bytes), None).and_then(|input| {
            let utf8 = Some(Encoding::UTF_8);
            let text = Text::new(input, super::NAME, utf8, declared, usize::MAX)?;
            let mut walk = Walk::through(text, MAX_DEPTH);
            loop {
                walk.pull(&mut Unheard)?;
                if walk.text.is_at_end() {
                    return walk.check_end();
                }
                walk.text.more(walk.text.at)?;
            }
        });
    checked.map_err(|error| {
        let line = error.place.at.map_or(1, |at| at.number);
        match error.problem {
            ReadProblem::Malformed { what, .. } => (line, what),
            problem => (line, problem.to_string()),
        }
    })
}

/// What an event is held against.
struct State<'a> {
    entities: &'a mut Entities,
    names: &'a mut String,
    open: &'a mut Vec<usize>,
    prefixes: &'a mut Prefixes,
    stage: &'a mut Stage,
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
        raw: &str,
        from: usize,
        to: usize,
        handler: &mut dyn Handler,
    ) -> Result<Step, Wrong> {
        let stage = *self.stage;
        if stage == Stage::Start {
            *self.stage = Stage::Prolog;
        }
        let checked = |wrong: Option<String>| match wrong {
            None => Ok(Step::On),
            Some(what) => Err(malformed(from, what)),
        };
        match event {
            Event::Start(tag) => {
                self.start(&tag, tag.name().as_ref().len(), from, to, handler)?;
                Ok(Step::On)
            }
            Event::Empty(tag) => {
                self.start(&tag, tag.name().as_ref().len(), from, to, handler)?;
                Ok(self.end(to, handler).into())
            }
            Event::End(tag) => {
                let name = tag.name();
                let name = name.as_ref();
                match self.open.last() {
                    Some(start) if self.names[*start..] == *name => {
                        Ok(self.end(to, handler).into())
                    }
                    Some(start) => Err(malformed(
                        from,
                        format!("</{name}> does not match <{}>", &self.names[*start..]),
                    )),
                    None => Err(malformed(from, format!("</{name}> closes nothing"))),
                }
            }
            Event::Text(text) => {
                let text = text.into_inner();
                self.characters(&text, from, true, handler)?;
                Ok(Step::On)
            }
            Event::CData(text) => {
                if self.open.is_empty() {
                    return Err(malformed(from, "text outside of the root element"));
                }
                let text = text.into_inner();
                self.characters(&text, from, false, handler)?;
                Ok(Step::On)
            }
            Event::GeneralRef(reference) => {
                if self.open.is_empty() {
                    return Err(malformed(from, "a reference outside of the root element"));
                }
                let name = reference.into_inner();
                self.scratch.clear();
                if push_character(&name, self.scratch).map_err(|what| malformed(from, what))? {
                    handler.text(self.scratch, None);
                    return Ok(Step::On);
                }
                let replaced = self.entities.in_content(&name, self.scratch);
                match replaced.map_err(|what| malformed(from, what))? {
                    Replaced::Text => {
                        handler.text(self.scratch, None);
                        Ok(Step::On)
                    }
                    Replaced::Markup(text) => Ok(Step::Replace(text)),
                }
            }
            Event::DocType(_) => {
                if matches!(stage, Stage::Typed | Stage::Root) {
                    return Err(malformed(
                        from,
                        "a document type is allowed once, before the root element",
                    ));
                }
                *self.stage = Stage::Typed;
                let defined = self.entities.define(raw);
                defined.map_err(|DoctypeError(at, what)| malformed(from + at, what))?;
                Ok(Step::On)
            }
            Event::Comment(text) => checked(wrong_comment(&text.into_inner())),
            Event::Decl(_) if stage == Stage::Start => {
                checked(wrong_declaration(&raw[2..raw.len() - 2]))
            }
            Event::Decl(_) | Event::PI(_) => checked(wrong_instruction(&raw[2..raw.len() - 2])),
            Event::Eof => Ok(Step::On),
        }
    }

    /// A start tag, without its brackets; its name has so many bytes.
    fn start(
        &mut self,
        tag: &str,
        name: usize,
        from: usize,
        to: usize,
        handler: &mut dyn Handler,
    ) -> Result<(), Wrong> {
        let (name, attributes) = tag.split_at(name);
        if self.open.is_empty() && *self.stage == Stage::Root {
            let what = format!("<{name}> comes after the end of the root element");
            return Err(malformed(from, what));
        }
        *self.stage = Stage::Root;
        if !is_name(name) {
            return Err(malformed(
                from,
                format!("'{name}' is not a name of an element"),
            ));
        }
        if self.open.len() >= self.most_depth {
            let most = self.most_depth;
            return Err(Wrong(from, ReadProblem::TooDeep { most }));
        }
        self.open.push(self.names.len());
        self.names.push_str(name);
        handler.open(name, from);
        if !attributes.is_empty() || self.entities.have_attributes() {
            self.attributes(name, attributes, from, handler)?;
        }
        if let Some((prefix, _)) = name.split_once(':') {
            self.check_prefix(prefix, from)?;
        }
        handler.opened(to);
        Ok(())
    }

    fn attributes(
        &mut self,
        element: &str,
        text: &str,
        from: usize,
        handler: &mut dyn Handler,
    ) -> Result<(), Wrong> {
        let mut attributes = Attributes::new(text);
        let mut names = AttributeNames::default();
        while let Some((name, value)) = attributes.next().map_err(|what| malformed(from, what))? {
            if !names.insert(name) {
                let what = format!("a tag has the attribute '{name}' twice");
                return Err(malformed(from, what));
            }
            let rule = self.entities.attributes(element).get(name);
            let is_cdata = rule.is_none_or(|rule| rule.is_cdata);
            let at = (value.as_ptr() as usize).wrapping_sub(self.start);
            let place = Some(self.base + at);
            self.attribute(name, value, is_cdata, place, from, handler)?;
        }
        let rules = self.entities.attributes(element).in_order.iter();
        let defaults: Vec<(String, bool, String)> = rules
            .filter(|rule| !names.contains(&rule.name))
            .filter_map(|rule| {
                let default = rule.default.clone()?;
                Some((rule.name.clone(), rule.is_cdata, default))
            })
            .collect();
        for (name, is_cdata, value) in &defaults {
            self.attribute(name, value, *is_cdata, None, from, handler)?;
        }
        let defaults = defaults.iter().map(|(name, ..)| name.as_str());
        for name in names.iter().chain(defaults) {
            if let Some((prefix, _)) = name.split_once(':') {
                self.check_prefix(prefix, from)?;
            }
        }
        Ok(())
    }

    /// An attribute with its verbatim value; `place` is where that is, if it is in the tag.
    fn attribute(
        &mut self,
        name: &str,
        raw: &str,
        is_cdata: bool,
        place: Option<usize>,
        from: usize,
        handler: &mut dyn Handler,
    ) -> Result<(), Wrong> {
        if memchr::memchr(b'<', raw.as_bytes()).is_some() {
            let what = format!("the attribute '{name}' holds a '<', which is written &lt;");
            return Err(malformed(from, what));
        }
        check_characters(raw, from)?;
        if let Some(prefix) = name.strip_prefix("xmlns:") {
            self.prefixes.declare(self.open.len(), prefix);
        }
        if is_cdata
            && memchr::memchr2(b'&', b'\n', raw.as_bytes()).is_none()
            && memchr::memchr2(b'\r', b'\t', raw.as_bytes()).is_none()
        {
            handler.attribute(name, raw.as_bytes(), place);
            return Ok(());
        }
        // White space is normalised (XML 1.0, 3.3.3), but for that of references.
        self.scratch.clear();
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
                    format!("'&' in the attribute '{name}' is not an entity; write &amp;"),
                )
            })?;
            let reference = &behind[..end];
            let wrong = |what: String| malformed(from, what);
            if !push_character(reference, self.scratch).map_err(wrong)? {
                let pushed = self.entities.in_attribute(reference, self.scratch);
                pushed.map_err(wrong)?;
            }
            rest = &behind[end + 1..];
        }
        self.scratch.extend_from_slice(rest.as_bytes());
        if !is_cdata {
            let words = self.scratch.split(|byte| *byte == b' ');
            let words: Vec<&[u8]> = words.filter(|word| !word.is_empty()).collect();
            *self.scratch = words.join(&b' ');
        }
        handler.attribute(name, self.scratch, None);
        Ok(())
    }

    fn check_prefix(&self, prefix: &str, from: usize) -> Result<(), Wrong> {
        if self.prefixes.contains(prefix) || matches!(prefix, "xml" | "xmlns") {
            return Ok(());
        }
        let what = format!("the prefix {prefix}: is not declared");
        Err(malformed(from, what))
    }

    fn end(&mut self, to: usize, handler: &mut dyn Handler) -> Flow {
        self.prefixes.close(self.open.len());
        if let Some(start) = self.open.pop() {
            self.names.truncate(start);
        }
        handler.close(to)
    }

    #[inline]
    fn characters(
        &mut self,
        text: &str,
        from: usize,
        normal: bool,
        handler: &mut dyn Handler,
    ) -> Result<(), Wrong> {
        if self.open.is_empty() {
            let blank = |c: char| matches!(c, ' ' | '\t' | '\n' | '\r');
            if !text.chars().all(blank) {
                return Err(malformed(from, "text outside of the root element"));
            }
            return Ok(());
        }
        check_characters(text, from)?;
        let text = text.as_bytes();
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

/// Checks that all characters are such as XML has.
#[inline]
fn check_characters(text: &str, from: usize) -> Result<(), Wrong> {
    let Some(found) = forbidden(text) else {
        return Ok(());
    };
    let at = text.find(found).unwrap_or_default();
    let code = u32::from(found);
    let what = if found.is_control() {
        format!("the control character U+{code:04X}, which XML cannot hold")
    } else {
        format!("the character U+{code:04X}, which XML cannot hold")
    };
    Err(malformed(from + at, what))
}

/// Appends the character that a reference represents, from after its `&` to before its `;`;
/// `false` if it names an entity.
fn push_character(name: &str, out: &mut Vec<u8>) -> Result<bool, String> {
    if let Some(character) = character(name) {
        out.extend_from_slice(character.encode_utf8(&mut [0; 4]).as_bytes());
        return Ok(true);
    }
    if name.starts_with('#') {
        return Err(format!("&{name}; is not a character of XML"));
    }
    if !is_name(name) {
        return Err("a '&' does not begin a reference; it is written &amp;".to_owned());
    }
    Ok(false)
}

/// A name without its prefix, if those are left out.
pub(super) fn shown(name: &str, no_prefixes: bool) -> &str {
    match name.split_once(':') {
        Some((_, local)) if no_prefixes => local,
        _ => name,
    }
}
