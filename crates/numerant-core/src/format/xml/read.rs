//! Reads the records of an XML document: finds where they are, and hands them on one by one.

use quick_xml::Reader;
use quick_xml::events::attributes::AttrError;
use quick_xml::events::{BytesStart, Event};

use super::entities::{Entities, character};
use super::path::{ElementPath, States, is_name};
use crate::format::alike::Likenesses;
use crate::format::json::beside;
use crate::format::markup::Flow;
use crate::format::text::Text;
use crate::format::trees::{Around, Leaf, OpenedTrees, TreeFacts, Trees};
use crate::source::{Encoding, Input, ReadError, ReadProblem};
use crate::tree::{Kind, Paths, ROOT, Survey, Tree};

/// Bytes of a document that are looked at to find its records.
const SAMPLE: u64 = 1 << 22;

/// Bytes around the records that are kept, at most.
const MOST_AROUND: usize = 1 << 26;

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
trait Handler {
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
struct Walk {
    text: Text,
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

/// The encoding that an XML declaration names, if it can be so: the declaration itself is read byte by
/// byte.
fn declared(start: &[u8]) -> Option<Encoding> {
    let start = String::from_utf8_lossy(start);
    let declaration = start.strip_prefix("<?xml")?.split("?>").next()?;
    let rest = declaration.split("encoding").nth(1)?;
    let rest = rest.trim_start().strip_prefix('=')?.trim_start();
    let quote = rest.chars().next().filter(|c| matches!(c, '"' | '\''))?;
    let name = rest[1..].split(quote).next()?;
    let encoding = Encoding::named(name).ok()?;
    // What reads like ASCII cannot be UTF-16, whatever it says.
    (![Encoding::UTF_16LE, Encoding::UTF_16BE].contains(&encoding)).then_some(encoding)
}

impl Walk {
    fn new(input: Input, opened: &OpenedTrees) -> Result<Self, ReadError> {
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
    fn pull(&mut self, handler: &mut dyn Handler) -> Result<bool, ReadError> {
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
    fn check_end(&self) -> Result<(), ReadError> {
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

/// The plain text that a text begins with, up to the byte behind it; `None` if there is none, or if
/// something in it stands for something else.
#[inline(always)]
fn plain_value(text: &[u8], behind: u8) -> Option<(Leaf, usize)> {
    const ONES: u64 = 0x0101_0101_0101_0101;
    const HIGH: u64 = 0x8080_8080_8080_8080;
    let noughts = |word: u64| word.wrapping_sub(ONES) & !word & HIGH;
    let special = |byte: u8| byte == behind || byte < 0x20 || matches!(byte, b'&' | b'<' | b']');
    let mut at = 0;
    let length = 'found: {
        while let Some(eight) = text.get(at..at + 8) {
            let word = u64::from_le_bytes(eight.try_into().ok()?);
            let mut found = word.wrapping_sub(ONES * 0x20) & !word & HIGH;
            for mark in [behind, b'&', b'<', b']'] {
                found |= noughts(word ^ (ONES * u64::from(mark)));
            }
            if found != 0 {
                break 'found at + (found.trailing_zeros() / 8) as usize;
            }
            at += 8;
        }
        at + text[at..].iter().position(|byte| special(*byte))?
    };
    let leaf = Leaf {
        kind: Kind::Text,
        text: (0, length as u32),
    };
    (text[length] == behind && length > 0).then_some((leaf, length))
}

/// A name without its prefix, if those are left out.
fn shown(name: &str, no_prefixes: bool) -> &str {
    match name.split_once(':') {
        Some((_, local)) if no_prefixes => local,
        _ => name,
    }
}

/// Says what is in a document.
struct Surveyor {
    survey: Survey,
    no_prefixes: bool,
    /// The text of each open element, and whether others are in it.
    open: Vec<(Vec<u8>, bool)>,
}

impl Surveyor {
    fn has_children(&mut self) {
        if let Some((_, branches)) = self.open.last_mut()
            && !std::mem::replace(branches, true)
        {
            self.survey.has_children();
        }
    }

    fn leaf(&mut self, name: &str, value: &[u8]) {
        self.has_children();
        self.survey.open(Some(name), Kind::Text);
        self.survey.untyped(value);
        self.survey.close();
    }
}

impl Handler for Surveyor {
    fn open(&mut self, name: &str, _from: usize) {
        self.has_children();
        if self.open.is_empty() {
            self.survey.open(None, Kind::Object);
        }
        let name = shown(name, self.no_prefixes).to_owned();
        self.survey.open(Some(&name), Kind::Text);
        self.open.push((Vec::new(), false));
    }

    fn attribute(&mut self, name: &str, value: &[u8], _at: Option<usize>) {
        if name != "xmlns" && !name.starts_with("xmlns:") {
            let name = format!("@{}", shown(name, self.no_prefixes));
            self.leaf(&name, value);
        }
    }

    fn opened(&mut self, _to: usize) {}

    fn wants_text(&self) -> bool {
        true
    }

    fn text(&mut self, text: &[u8], _at: Option<usize>) {
        if let Some((kept, _)) = self.open.last_mut() {
            kept.extend_from_slice(text);
        }
    }

    fn close(&mut self, _to: usize) -> Flow {
        if let Some((text, branches)) = self.open.last_mut() {
            let text = std::mem::take(text);
            if !*branches {
                self.survey.untyped(&text);
            } else if !text.trim_ascii().is_empty() {
                self.leaf("#text", &text);
            }
        }
        self.open.pop();
        self.survey.close();
        if self.open.is_empty() {
            self.survey.close();
        }
        Flow::On
    }
}

/// Goes through a document, or so much of it, and says what is in it.
pub(crate) fn survey(input: Input, opened: &OpenedTrees, most: u64) -> Result<Survey, ReadError> {
    let mut walk = Walk::new(input, opened)?;
    let mut surveyor = Surveyor {
        survey: Survey::default(),
        no_prefixes: opened.options.no_prefixes,
        open: Vec::new(),
    };
    while walk.text.passed() < most {
        walk.pull(&mut surveyor)?;
        if walk.text.is_at_end() && !walk.text.more(walk.text.at)? {
            walk.check_end()?;
            break;
        }
        walk.text.more(walk.text.at)?;
    }
    Ok(surveyor.survey.finish())
}

/// Finds out where the records of a document are, if that is not said.
pub(crate) fn find_records(input: Input, opened: &OpenedTrees) -> Result<TreeFacts, ReadError> {
    let mut facts = opened.facts.clone();
    let failed = |problem| opened.path.error(problem);
    let survey = survey(input, opened, SAMPLE)?;
    let path_to = |place: usize| {
        let mut names = Vec::new();
        let mut at = place;
        while at != 0 {
            names.push(survey.nodes[at].name.as_str());
            at = survey.parent(at);
        }
        names
            .iter()
            .rev()
            .fold(String::new(), |path, name| format!("{path}/{name}"))
    };
    if let Some(path) = &opened.options.records {
        if let Err(what) = ElementPath::new(path) {
            let path = path.clone();
            return Err(failed(ReadProblem::RecordsPath { path, what }));
        }
        facts.records.clone_from(path);
        let names: Vec<&str> = path.split('/').filter(|name| !name.is_empty()).collect();
        let root = survey.nodes.get(1).map_or("", |node| node.name.as_str());
        if let Some(item) = names.last().filter(|name| **name != "*") {
            facts.elements = Some((root.to_owned(), (*item).to_owned()));
        }
        return Ok(facts);
    }
    facts.found = true;
    if survey.nodes.len() < 2 {
        facts.records = "/*".to_owned();
        return Ok(facts);
    }
    let element = |place: usize| {
        let name = &survey.nodes[place].name;
        !name.starts_with('@') && name != "#text"
    };
    let repeated = |place: usize| survey.nodes[place].most > 1 && element(place);
    let inside = |mut at: usize| {
        while at != 0 {
            at = survey.parent(at);
            if repeated(at) {
                return true;
            }
        }
        false
    };
    // Elements that stand several times in one and in none that does; the most of them first.
    let mut lists: Vec<usize> = (1..survey.nodes.len())
        .filter(|place| repeated(*place) && !inside(*place))
        .collect();
    lists.sort_by_key(|place| std::cmp::Reverse(survey.nodes[*place].times));
    // An element alone in the root may be the only record.
    let only = || {
        let children = &survey.nodes[1].children;
        let elements: Vec<usize> = children.iter().copied().filter(|c| element(*c)).collect();
        match elements[..] {
            [only] if survey.nodes[only].branches > 0 => only,
            _ => 1,
        }
    };
    let best = lists.first().copied().unwrap_or_else(only);
    facts.records = path_to(best);
    facts.others = lists.iter().skip(1).map(|place| path_to(*place)).collect();
    if best != 1 {
        facts.others.push(path_to(1));
        facts.beside = beside(&survey, best);
        let list = survey.path(best);
        let list = list.split_once('.').map(|(_, list)| list.to_owned());
        let list = list.filter(|_| !facts.beside.is_empty());
        facts.above = list.map(|list| (path_to(1), list));
    }
    let name = |place: usize| survey.nodes[place].name.clone();
    facts.elements = Some((
        if best == 1 {
            "records".to_owned()
        } else {
            name(1)
        },
        name(best),
    ));
    Ok(facts)
}

/// An element that is open.
#[derive(Debug, Clone, Copy)]
struct Open {
    states: States,
    path: u32,
    node: usize,
    /// Where its text begins among what waits.
    waits: usize,
    serial: u64,
}

/// Makes trees of the elements that are records.
struct Builder<'a> {
    tree: &'a mut Tree,
    paths: &'a mut Paths,
    state: &'a mut Building,
}

/// What the builder keeps from record to record.
#[derive(Debug)]
struct Building {
    selector: ElementPath,
    no_prefixes: bool,
    open: Vec<Open>,
    /// How many elements are open around the record that is being read, with itself.
    record: Option<usize>,
    /// Where the record stands in the text.
    from: usize,
    to: usize,
    waiting: Vec<u8>,
    name: String,
    serial: u64,
    parent: Option<u64>,
    records: u64,
    /// Elements since the last record.
    others: u64,
    scattered: bool,
    namespaces: Vec<(String, String)>,
    /// The values of the record stand in the text as they are, at these places.
    plain: bool,
    spans: Vec<(usize, usize)>,
    /// Pieces of text since the last tag, and where the latest stands.
    pieces: usize,
    latest: (usize, usize),
    /// The element that the record that was read last is in.
    last_parent: Option<u64>,
}

impl Builder<'_> {
    fn in_record(&self) -> bool {
        self.state.record.is_some()
    }
}

impl Handler for Builder<'_> {
    #[inline]
    fn open(&mut self, name: &str, from: usize) {
        let state = &mut *self.state;
        state.serial += 1;
        let name = shown(name, state.no_prefixes);
        let mut open = Open {
            states: 0,
            path: ROOT,
            node: 0,
            waits: state.waiting.len(),
            serial: state.serial,
        };
        if state.record.is_some() {
            let parent = state.open.last().map_or(ROOT, |parent| parent.path);
            open.path = self.paths.child(parent, name);
            open.node = self.tree.open(open.path, Kind::Object);
            state.pieces = 0;
        } else {
            let parent = state.open.last();
            open.states = state
                .selector
                .step(parent.map_or(1, |open| open.states), name);
            if state.selector.selects(open.states) {
                let serial = parent.map(|open| open.serial);
                if state.records > 0 {
                    state.scattered |= state.parent != serial || state.others > 0;
                } else {
                    state.parent = serial;
                    state.scattered = serial.is_none();
                }
                state.record = Some(state.open.len());
                state.from = from;
                state.last_parent = serial;
                state.plain = true;
                state.spans.clear();
                state.pieces = 0;
                self.tree.clear();
                open.node = self.tree.open(ROOT, Kind::Object);
            } else {
                state.others += 1;
            }
        }
        state.open.push(open);
    }

    fn attribute(&mut self, name: &str, value: &[u8], at: Option<usize>) {
        if name == "xmlns" || name.starts_with("xmlns:") {
            let prefix = name.strip_prefix("xmlns:").unwrap_or_default();
            let uri = String::from_utf8_lossy(value).into_owned();
            let namespaces = &mut self.state.namespaces;
            if !namespaces.iter().any(|(known, _)| known == prefix) && namespaces.len() < 100 {
                namespaces.push((prefix.to_owned(), uri));
            }
            return;
        }
        if !self.in_record() {
            return;
        }
        let state = &mut *self.state;
        let parent = state.open.last().map_or(ROOT, |parent| parent.path);
        state.name.clear();
        state.name.push('@');
        state.name.push_str(shown(name, state.no_prefixes));
        let path = self.paths.child(parent, &state.name);
        self.tree.push(path, Kind::Text, value);
        match at {
            _ if value.is_empty() => {}
            Some(at) => state.spans.push((at, at + value.len())),
            None => state.plain = false,
        }
    }

    fn opened(&mut self, _to: usize) {}

    fn wants_text(&self) -> bool {
        self.in_record()
    }

    fn text(&mut self, text: &[u8], at: Option<usize>) {
        let state = &mut *self.state;
        state.waiting.extend_from_slice(text);
        state.pieces += 1;
        match at {
            Some(at) => state.latest = (at, at + text.len()),
            None => state.plain = false,
        }
    }

    #[inline]
    fn close(&mut self, to: usize) -> Flow {
        let state = &mut *self.state;
        let Some(open) = state.open.pop() else {
            return Flow::On;
        };
        let Some(record) = state.record else {
            return Flow::On;
        };
        let text = &state.waiting[open.waits..];
        let leaf = self.tree.nodes.len() == open.node + 1;
        if leaf || text.iter().any(|byte| !byte.is_ascii_whitespace()) {
            let start = self.tree.text.len() as u32;
            self.tree.text.extend_from_slice(text);
            let node = &mut self.tree.nodes[open.node];
            node.text = (start, self.tree.text.len() as u32);
            if leaf {
                node.kind = Kind::Text;
                if text.is_empty() {
                    // Nothing stands there to be looked for.
                } else if state.pieces == 1 {
                    state.spans.push(state.latest);
                } else {
                    state.plain = false;
                }
            } else {
                state.plain = false;
            }
        }
        state.waiting.truncate(open.waits);
        state.pieces = 0;
        self.tree.close(open.node);
        if state.open.len() > record {
            return Flow::On;
        }
        state.record = None;
        state.to = to;
        state.records += 1;
        state.others = 0;
        Flow::Pause
    }
}

/// Reads the records of a document.
pub(crate) struct XmlTrees {
    walk: Walk,
    building: Building,
    likenesses: Likenesses,
    /// The line on which the record begins.
    line: u64,
    counted: (u64, u64),
    around: Around,
    /// What stands since the last record, or the start.
    gap: Vec<u8>,
    gap_upto: u64,
    records: u64,
}

impl XmlTrees {
    pub(crate) fn new(input: Input, opened: &OpenedTrees) -> Result<Self, ReadError> {
        let path = opened.facts.records.clone();
        let selector = ElementPath::new(&path).map_err(|what| {
            let path = path.clone();
            opened.path.error(ReadProblem::RecordsPath { path, what })
        })?;
        let walk = Walk::new(input, opened)?;
        let start = walk.text.passed();
        Ok(Self {
            walk,
            building: Building {
                selector,
                no_prefixes: opened.options.no_prefixes,
                open: Vec::new(),
                record: None,
                from: 0,
                to: 0,
                waiting: Vec::new(),
                name: String::new(),
                serial: 0,
                parent: None,
                records: 0,
                others: 0,
                scattered: false,
                namespaces: Vec::new(),
                plain: false,
                spans: Vec::new(),
                pieces: 0,
                latest: (0, 0),
                last_parent: None,
            },
            likenesses: Likenesses::default(),
            line: 1,
            counted: (0, 1),
            around: Around::default(),
            gap: Vec::new(),
            gap_upto: start,
            records: 0,
        })
    }

    /// Keeps what stands before a place in the text, since the last record.
    fn keep_gap(&mut self, upto: usize) {
        let text = &self.walk.text;
        let passed = text.passed() - text.at as u64 + upto as u64;
        let new = passed.saturating_sub(self.gap_upto) as usize;
        if self.gap.len() + new > MOST_AROUND {
            self.around.scattered = true;
        } else if new <= upto {
            self.gap.extend_from_slice(&text.bytes()[upto - new..upto]);
        }
        self.gap_upto = passed;
    }

    /// The line of a place in the text.
    fn line_of(&mut self, place: usize) -> u64 {
        let text = &self.walk.text;
        let dropped = text.passed() - text.at as u64;
        let line = match self.counted.0.checked_sub(dropped) {
            Some(from) if from as usize <= place => {
                let between = &text.bytes()[from as usize..place];
                self.counted.1 + memchr::memchr_iter(b'\n', between).count() as u64
            }
            _ => text.line(place),
        };
        self.counted = (dropped + place as u64, line);
        line
    }

    fn found(&mut self) {
        let from = self.building.from;
        self.line = self.line_of(from);
        self.keep_gap(from);
        let gap = std::mem::take(&mut self.gap);
        match self.records {
            0 => {
                let blank = |byte: &&u8| byte.is_ascii_whitespace();
                let white = gap.iter().rev().take_while(blank).count();
                self.around.between = gap[gap.len() - white..].to_vec();
                self.around.head = gap;
            }
            _ => {
                self.gap = gap;
                self.gap.clear();
            }
        }
        self.records += 1;
        self.line_of(self.building.to);
        let text = &self.walk.text;
        self.gap_upto = text.passed() - text.at as u64 + self.building.to as u64;
        self.around.scattered |= self.building.scattered;
    }
}

impl Trees for XmlTrees {
    fn next(&mut self, tree: &mut Tree, paths: &mut Paths) -> Result<bool, ReadError> {
        loop {
            let mut builder = Builder {
                tree,
                paths,
                state: &mut self.building,
            };
            if self.walk.pull(&mut builder)? {
                self.found();
                return Ok(true);
            }
            let at = self.walk.text.at;
            let keep = match self.building.record {
                Some(_) => self.building.from,
                None => {
                    self.keep_gap(at);
                    at
                }
            };
            if self.walk.text.is_at_end() {
                self.walk.check_end()?;
                self.around.foot = std::mem::take(&mut self.gap);
                return Ok(false);
            }
            // Lines are counted before what they are in is gone.
            self.line_of(keep);
            self.walk.text.more(keep)?;
            let building = &mut self.building;
            building.from = building.from.saturating_sub(keep);
            for span in &mut building.spans {
                *span = (span.0 - keep, span.1 - keep);
            }
            let (from, to) = building.latest;
            building.latest = (from.saturating_sub(keep), to.saturating_sub(keep));
        }
    }

    #[inline]
    fn next_alike(&mut self, leaves: &mut Vec<Leaf>) -> Option<usize> {
        let parent = self.building.open.last().map(|open| open.serial);
        let ready = !self.likenesses.is_empty()
            && self.building.record.is_none()
            && self.building.others == 0
            && parent.is_some()
            && parent == self.building.last_parent;
        if !ready {
            return None;
        }
        let text = &self.walk.text;
        let dropped = text.passed() - text.at as u64;
        let bytes = text.bytes();
        let mut at = text.at;
        if self.counted.0 != text.passed() {
            return None;
        }
        let mut lines = 0;
        while let Some(byte @ (b' ' | b'\t' | b'\n' | b'\r')) = bytes.get(at) {
            lines += u64::from(*byte == b'\n');
            at += 1;
        }
        let (place, length) = self.likenesses.find(&bytes[at..], leaves, plain_value)?;
        self.building.from = at;
        self.building.to = at + length;
        self.building.records += 1;
        self.records += 1;
        self.line = self.counted.1 + lines;
        let passed = dropped + (at + length) as u64;
        self.counted = (passed, self.line + self.likenesses.lines(place));
        self.gap_upto = passed;
        self.gap.clear();
        self.walk.text.at = at + length;
        Some(place)
    }

    fn remember(&mut self, values: usize) -> Option<usize> {
        let building = &self.building;
        if !building.plain || values != building.spans.len() {
            return None;
        }
        let from = building.from;
        let offset = |place: usize| (place - from) as u32;
        let spans = building.spans.iter();
        let spans: Vec<(u32, u32)> = spans.map(|(a, b)| (offset(*a), offset(*b))).collect();
        let record = &self.walk.text.bytes()[from..building.to];
        Some(self.likenesses.remember(record, &spans))
    }

    fn text(&self) -> &[u8] {
        &self.walk.text.bytes()[self.building.from..self.building.to]
    }

    fn line(&self) -> u64 {
        self.line
    }

    fn read(&self) -> u64 {
        self.walk.text.passed()
    }

    fn around(&self) -> Around {
        self.around.clone()
    }

    fn namespaces(&self) -> Vec<(String, String)> {
        self.building.namespaces.clone()
    }
}

/// Whether a text begins like a document; `claimed` says that its name says so, or says nothing.
pub(crate) fn begins(start: &[u8], claimed: bool) -> bool {
    let start = start.strip_prefix(b"\xef\xbb\xbf").unwrap_or(start);
    let start = start.trim_ascii_start();
    let starts = |word: &[u8]| start.len() >= word.len() && start.starts_with(word);
    let html = start
        .get(..5)
        .is_some_and(|tag| tag.eq_ignore_ascii_case(b"<html"))
        || start
            .get(..14)
            .is_some_and(|tag| tag.eq_ignore_ascii_case(b"<!doctype html"));
    if html {
        return false;
    }
    starts(b"<?xml")
        || starts(b"<!DOCTYPE")
        || starts(b"<!--")
        || (claimed && start.first() == Some(&b'<'))
        || (start.first() == Some(&b'<')
            && start.get(1).is_some_and(u8::is_ascii_alphabetic)
            && (memchr::memmem::find(start, b"</").is_some()
                || memchr::memmem::find(start, b"/>").is_some())
            && memchr::memchr(b'>', start).is_some_and(|end| {
                let tag = &start[1..end];
                !tag.contains(&b',') && !tag.contains(&b';') && !tag.contains(&b'\t')
            }))
}
