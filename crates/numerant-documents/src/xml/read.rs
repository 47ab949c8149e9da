//! Reads the records of an XML document: finds where they are, and hands them on one by one.

use super::path::{ElementPath, States};
use super::walk::{Handler, Walk, shown};
use super::write::INSTANCE;
use numerant_data::narrow::{to_u32, to_usize};
use numerant_data::source::{Input, ReadError, ReadProblem};
use numerant_data::tree::{Beside, Kind, Paths, ROOT, TOP, Tree};
use numerant_data::value::swar;
use numerant_format::{DocumentFrame, Redeclared};
use numerant_markup::Flow;
use numerant_trees::{Leaf, OpenedTrees, RecordPatterns, Trees};

/// Bytes around the records that are kept, at most.
const MOST_AROUND: usize = 1 << 26;

/// The plain text that a text begins with, up to the byte after it; `None` if there is none, or if
/// something in it represents something else.
#[inline(always)]
fn plain_value(text: &[u8], behind: u8) -> Option<(Leaf, usize)> {
    let special = |byte: u8| byte == behind || byte < 0x20 || matches!(byte, b'&' | b'<' | b']');
    let mut at = 0;
    let length = 'found: {
        while let Some(bytes) = text.get(at..at + 8) {
            let word = u64::from_le_bytes(bytes.try_into().ok()?);
            let mut found = swar::controls(word);
            for mark in [behind, b'&', b'<', b']'] {
                found |= swar::same(word, mark);
            }
            if found != 0 {
                break 'found at + swar::first(found);
            }
            at += 8;
        }
        at + text[at..].iter().position(|byte| special(*byte))?
    };
    let leaf = Leaf {
        kind: Kind::Text,
        text: (0, to_u32(length)),
    };
    (text[length] == behind && length > 0).then_some((leaf, length))
}

/// An element that is open.
#[derive(Debug, Clone, Copy)]
struct Open {
    states: States,
    /// Its path in the record; outside of records that among values next to them.
    path: u32,
    /// Others are in it, or attributes.
    branches: bool,
    /// It has text of its own, outside of records.
    has_text: bool,
    node: usize,
    /// It has no value, as `xsi:nil` says.
    nil: bool,
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
    /// Where the record is in the text.
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
    redeclared: Option<Redeclared>,
    /// The values of the record are in the text as they are, at these places.
    plain: bool,
    spans: Vec<(usize, usize)>,
    /// Pieces of text since the last tag, and where the latest stands.
    pieces: usize,
    latest: (usize, usize),
    /// The element that the record that was read last is in.
    last_parent: Option<u64>,
    beside: Beside,
}

impl Building {
    /// The open element declares a namespace.
    fn declare(&mut self, prefix: &str, uri: &str) {
        if self.no_prefixes {
            return;
        }
        let known = self.namespaces.iter().find(|(known, _)| known == prefix);
        let inside = self
            .record
            .is_some_and(|record| self.open.len() > record + 1);
        let other = match known {
            Some((_, known)) if known == uri => return,
            Some((_, known)) => Some(known.clone()),
            // Elements around this one have no prefix, and are in no namespace.
            None => (prefix.is_empty() && inside).then(String::new),
        };
        if let Some(other) = other {
            self.redeclared.get_or_insert_with(|| Redeclared {
                prefix: prefix.to_owned(),
                namespaces: [other, uri.to_owned()],
            });
        } else if self.namespaces.len() < 100 {
            self.namespaces.push((prefix.to_owned(), uri.to_owned()));
        }
    }

    /// Whether an element, which was closed, is not on the way to the records.
    fn is_beside(&self, open: &Open) -> bool {
        open.states == 0 || self.selector.descends() && !self.open.is_empty()
    }

    /// The path of an element outside of records, in the one that is open.
    fn path_beside(&mut self, name: &str) -> u32 {
        let parent = self.open.last_mut().map_or(TOP, |open| {
            open.branches = true;
            open.path
        });
        self.beside.child(parent, Some(name))
    }

    /// Whether an attribute is `xsi:nil` of XML Schema, under whatever prefix, which says that the
    /// element has no value and is none itself.
    fn is_nil(&self, name: &str) -> bool {
        let Some((prefix, "nil")) = name.split_once(':') else {
            return false;
        };
        let mut known = self.namespaces.iter();
        known.any(|(known, uri)| known == prefix && uri == INSTANCE)
    }
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
            branches: false,
            has_text: false,
            node: 0,
            nil: false,
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
                open.path = state.path_beside(name);
            }
        }
        state.open.push(open);
    }

    fn attribute(&mut self, name: &str, value: &[u8], at: Option<usize>) {
        if name == "xmlns" || name.starts_with("xmlns:") {
            let prefix = name.strip_prefix("xmlns:").unwrap_or_default();
            self.state.declare(prefix, &String::from_utf8_lossy(value));
            return;
        }
        if !self.in_record() {
            let state = &mut *self.state;
            state.name.clear();
            state.name.push('@');
            state.name.push_str(shown(name, state.no_prefixes));
            let name = std::mem::take(&mut state.name);
            if let Some(open) = state.open.last_mut() {
                open.branches = true;
                let path = state.beside.child(open.path, Some(&name));
                state.beside.value(path);
            }
            state.name = name;
            return;
        }
        let state = &mut *self.state;
        if state.is_nil(name) {
            if let Some(open) = state.open.last_mut() {
                open.nil = matches!(value, b"true" | b"1");
            }
            state.plain = false;
            return;
        }
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

    fn text(&mut self, text: &[u8], at: Option<usize>) {
        let state = &mut *self.state;
        if state.record.is_none() {
            if let Some(open) = state.open.last_mut() {
                open.has_text |= text.iter().any(|byte| !byte.is_ascii_whitespace());
            }
            return;
        }
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
            match open.branches {
                true => {
                    state.beside.branch(open.path);
                    if open.has_text {
                        let text = state.beside.child(open.path, Some("#text"));
                        state.beside.value(text);
                    }
                }
                // An element on the way to the records is no value though it has none.
                false if open.has_text || state.is_beside(&open) => state.beside.value(open.path),
                false => {}
            }
            return Flow::On;
        };
        let text = &state.waiting[open.waits..];
        let leaf = self.tree.nodes.len() == open.node + 1;
        if leaf || text.iter().any(|byte| !byte.is_ascii_whitespace()) {
            let start = to_u32(self.tree.text.len());
            self.tree.text.extend_from_slice(text);
            let node = &mut self.tree.nodes[open.node];
            node.text = (start, to_u32(self.tree.text.len()));
            if leaf {
                node.kind = if open.nil && text.is_empty() {
                    Kind::Null
                } else {
                    Kind::Text
                };
                if text.is_empty() {
                    // Nothing is there to be looked for.
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
pub struct XmlTrees {
    walk: Walk,
    building: Building,
    patterns: RecordPatterns,
    /// The line on which the record begins.
    line: u64,
    counted: (u64, u64),
    around: DocumentFrame,
    /// What stands since the last record, or the start.
    gap: Vec<u8>,
    gap_upto: u64,
    records: u64,
}

impl XmlTrees {
    /// Begins to read the records of a document.
    pub fn new(input: Input, opened: &OpenedTrees) -> Result<Self, ReadError> {
        Self::at(input, opened, &opened.facts.records)
    }

    /// Reads what is at a path.
    pub(super) fn at(input: Input, opened: &OpenedTrees, path: &str) -> Result<Self, ReadError> {
        let selector = ElementPath::new(path).map_err(|what| {
            let path = path.to_owned();
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
                redeclared: None,
                plain: false,
                spans: Vec::new(),
                pieces: 0,
                latest: (0, 0),
                last_parent: None,
                beside: Beside::default(),
            },
            patterns: RecordPatterns::default(),
            line: 1,
            counted: (0, 1),
            around: DocumentFrame::default(),
            gap: Vec::new(),
            gap_upto: start,
            records: 0,
        })
    }

    /// Keeps what is before a place in the text, since the last record.
    fn keep_gap(&mut self, upto: usize) {
        let text = &self.walk.text;
        let passed = text.passed() - text.at as u64 + upto as u64;
        let new = to_usize(passed.saturating_sub(self.gap_upto));
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
            Some(from) if to_usize(from) <= place => {
                let between = &text.bytes()[to_usize(from)..place];
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
            if building.record.is_none() {
                // Those of the record before are gone with it.
                building.spans.clear();
            }
            for span in &mut building.spans {
                *span = (span.0 - keep, span.1 - keep);
            }
            let (from, to) = building.latest;
            building.latest = (from.saturating_sub(keep), to.saturating_sub(keep));
        }
    }

    #[inline]
    fn next_like(&mut self, leaves: &mut Vec<Leaf>, _: &mut Paths) -> Option<usize> {
        let parent = self.building.open.last().map(|open| open.serial);
        let ready = !self.patterns.is_empty()
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
        let (place, length) = self.patterns.find(&bytes[at..], leaves, plain_value)?;
        self.building.from = at;
        self.building.to = at + length;
        self.building.records += 1;
        self.records += 1;
        self.line = self.counted.1 + lines;
        let passed = dropped + (at + length) as u64;
        self.counted = (passed, self.line + self.patterns.lines(place));
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
        let offset = |place: usize| to_u32(place - from);
        let spans = building.spans.iter();
        let spans: Vec<(u32, u32)> = spans.map(|(a, b)| (offset(*a), offset(*b))).collect();
        let record = &self.walk.text.bytes()[from..building.to];
        Some(self.patterns.remember(record, &spans))
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

    fn frame(&self) -> DocumentFrame {
        let encoding = self.walk.text.encoding();
        DocumentFrame {
            encoding: (!encoding.is_utf8()).then_some(encoding),
            ..self.around.clone()
        }
    }

    fn beside(&self) -> Option<&Beside> {
        Some(&self.building.beside)
    }

    fn redeclared(&self) -> Option<Redeclared> {
        self.building.redeclared.clone()
    }

    fn namespaces(&self) -> Vec<(String, String)> {
        self.building.namespaces.clone()
    }
}
