//! Reads the records of a JSON document: finds where they are, and hands them on one by one.

use super::descend::descend;
use super::path::Selector;
use super::tokens::Tokens;
use super::walk::{Frame, Next, Walk};
use crate::options::key_column;
use numerant_data::narrow::{to_u32, to_usize};
use numerant_data::source::{Input, ReadError, ReadProblem};
use numerant_data::tree::{Beside, Kind, Node, Paths, ROOT, TOP, Tree};
use numerant_format::DocumentFrame;
use numerant_trees::{Leaf, OpenedTrees, RecordPatterns, Trees};

/// Bytes around the records that are kept.
const MAX_AROUND: usize = 1 << 26;

/// Reads the records of a document.
pub(crate) struct JsonTrees {
    walk: Walk,
    selector: Selector,
    path: String,
    /// One document is all that there may be.
    single: bool,
    /// Each line is a value, and there may be none.
    lines: bool,
    patterns: RecordPatterns,
    /// Where the values of the record that was read last are in it.
    spans: Vec<(u32, u32)>,
    /// From and to of the record that was read last.
    record: (usize, usize),
    /// A place in the text, counted from its start, and the line there.
    counted: (u64, u64),
    /// The line on which the record begins that was read last.
    line: u64,
    records: u64,
    /// Begins of the document, as long as there was no record.
    head: Head,
    around: DocumentFrame,
    /// The container that the records are in.
    parent: Option<u64>,
    beside: Beside,
    /// The column of the names of members that are records.
    key_column: String,
    /// The record that was read last has one.
    is_keyed: bool,
}

/// Makes the name of the member that a record is its first value. What is no object becomes one,
/// with the record in `value`.
fn add_key(column: &str, name: &str, tree: &mut Tree, paths: &mut Paths) {
    let mut keyed = Tree::default();
    let root = keyed.open(ROOT, Kind::Object);
    keyed.push(paths.child(ROOT, column), Kind::Text, name.as_bytes());
    let (nodes, text) = (to_u32(keyed.nodes.len()), to_u32(keyed.text.len()));
    let is_object = tree.nodes[0].kind == Kind::Object;
    let value = paths.child(ROOT, "value");
    for (place, node) in tree.nodes.iter().enumerate() {
        if is_object && place == 0 {
            continue;
        }
        // The root of an object is there already.
        let moved = nodes - u32::from(is_object);
        keyed.nodes.push(Node {
            path: if place == 0 { value } else { node.path },
            text: (node.text.0 + text, node.text.1 + text),
            next: node.next + moved,
            ..*node
        });
    }
    keyed.text.extend_from_slice(&tree.text);
    keyed.close(root);
    *tree = keyed;
}

/// The beginning of a document, up to its first record.
#[derive(Debug, Default)]
struct Head {
    kept: Vec<u8>,
    /// Up to where in the document that is.
    upto: u64,
}

impl JsonTrees {
    pub(crate) fn new(input: Input, opened: &OpenedTrees) -> Result<Self, ReadError> {
        let mut trees = Self::at(input, opened, &opened.facts.records)?;
        trees.single = opened.facts.found && !trees.selector.is_document();
        Ok(trees)
    }

    /// Reads what is at a path.
    pub(super) fn at(input: Input, opened: &OpenedTrees, path: &str) -> Result<Self, ReadError> {
        let path = path.to_owned();
        let selector = Selector::new(&path).map_err(|what| {
            let path = path.clone();
            opened.path.error(ReadProblem::RecordsPath { path, what })
        })?;
        let mut walk = Walk::new(input, opened)?;
        let mut around = DocumentFrame::default();
        if opened.facts.header.is_some() {
            walk.next()?;
            let length = walk.text.value()?;
            around.head = walk.text.bytes()[..walk.text.at + length].to_vec();
            around.head.push(b'\n');
            walk.text.at += length;
        }
        Ok(Self {
            head: Head {
                upto: walk.text.passed(),
                ..Head::default()
            },
            walk,
            single: false,
            lines: opened.facts.lines,
            selector,
            path,
            patterns: RecordPatterns::default(),
            spans: Vec::new(),
            record: (0, 0),
            counted: (0, 1),
            line: 1,
            records: 0,
            around,
            parent: None,
            beside: Beside::default(),
            key_column: key_column(&opened.options.of_formats).to_owned(),
            is_keyed: false,
        })
    }

    /// Keeps what was skipped since it was last asked to.
    fn keep_head(&mut self) {
        if self.records > 0 {
            return;
        }
        let text = &self.walk.text;
        let passed = text.passed();
        let new = to_usize(passed - self.head.upto);
        if self.head.kept.len() + new > MAX_AROUND {
            self.around.scattered = true;
        } else if new <= text.at {
            self.head
                .kept
                .extend_from_slice(&text.bytes()[text.at - new..text.at]);
        }
        self.head.upto = passed;
        self.walk.text.hold = self.walk.text.at;
    }

    /// A record begins here: what is around it is settled with the first.
    fn settle_around(&mut self) {
        let frame = self.walk.open.last();
        let parent = frame.map(|frame| frame.serial);
        if self.records > 0 {
            self.around.scattered |= self.parent != parent;
            return;
        }
        self.parent = parent;
        match frame {
            None => {
                self.around.between = b"\n".to_vec();
                self.around.foot = b"\n".to_vec();
            }
            Some(frame) => {
                self.around.scattered = !frame.list || self.walk.documents > 1;
                let mut head = self.head.kept.clone();
                head.truncate(frame.head);
                let blank = |byte: &&u8| byte.is_ascii_whitespace();
                let text = &self.walk.text;
                let before = &text.bytes()[..text.at];
                let white: usize = before.iter().rev().take_while(blank).count();
                let white = before[before.len() - white..].to_vec();
                head.extend_from_slice(&white);
                self.around.between = [b",", &white[..]].concat();
                self.around.head = head;
            }
        }
    }

    /// What is after the list of the records, with its closing bracket.
    fn settle_foot(&mut self, closed: &Frame) {
        if self.parent != Some(closed.serial) || self.records == 0 {
            return;
        }
        let text = &self.walk.text;
        let before = &text.bytes()[..text.at - 1];
        let blank = |byte: &&u8| byte.is_ascii_whitespace();
        let white = before.iter().rev().take_while(blank).count();
        self.around.foot = text.bytes()[before.len() - white..text.at].to_vec();
        self.head.upto = text.passed();
        self.walk.text.hold = self.walk.text.at;
    }

    fn take(&mut self, tree: &mut Tree, paths: &mut Paths) -> Result<bool, ReadError> {
        let length = self.walk.text.value()?;
        let at = self.walk.text.at;
        let text = &self.walk.text.rest()[..length];
        if !self.selector.passes(text) {
            self.walk.text.at += length;
            return Ok(false);
        }
        descend(text, tree, paths, self.walk.most_depth, &mut self.spans)
            .map_err(|wrong| self.walk.wrong(at, wrong))?;
        let in_object = self.walk.open.last().is_some_and(|frame| !frame.list);
        self.is_keyed = in_object && self.selector.takes_any_name();
        if self.is_keyed {
            let is_key = |child: usize| paths.name(tree.nodes[child].path) == self.key_column;
            if tree.children(0).any(is_key) {
                let name = self.key_column.clone();
                return Err(self.walk.text.error(at, ReadProblem::KeyColumn { name }));
            }
            add_key(&self.key_column, &self.walk.name, tree, paths);
        }
        self.settle_around();
        self.count_lines();
        self.line = self.counted.1;
        self.took(at, length);
        self.count_lines();
        Ok(true)
    }

    fn took(&mut self, at: usize, length: usize) {
        let text = &mut self.walk.text;
        text.at = at + length;
        text.hold = usize::MAX;
        self.record = (at, at + length);
        self.records += 1;
    }
}

impl Trees for JsonTrees {
    fn next(&mut self, tree: &mut Tree, paths: &mut Paths) -> Result<bool, ReadError> {
        self.count_lines();
        loop {
            self.keep_head();
            match self.walk.next()? {
                Next::End => {
                    if self.records == 0 && self.walk.documents == 0 && !self.lines {
                        return Err(self.walk.text.malformed(0, "there is nothing in it"));
                    }
                    self.keep_foot();
                    return Ok(false);
                }
                Next::Close(frame) => {
                    self.keep_foot();
                    self.settle_foot(&frame);
                    if frame.values == 0 && frame.states == 0 {
                        self.beside.value(frame.path);
                    }
                }
                Next::Value => {
                    if self.single && self.walk.documents > 1 && self.walk.open.is_empty() {
                        let what = format!(
                            "there is more text after the end of the document, whose records are at {}",
                            self.path
                        );
                        return Err(self.walk.text.malformed(self.walk.text.at, what));
                    }
                    let states = match (self.walk.open.last(), self.walk.reached()) {
                        (Some(frame), Some(reached)) => self.selector.step(frame.states, reached),
                        _ => self.selector.start(),
                    };
                    if self.selector.selects(states) {
                        if self.take(tree, paths)? {
                            return Ok(true);
                        }
                        continue;
                    }
                    let path = self.path_beside();
                    match self.walk.kind() {
                        kind @ (Kind::Object | Kind::List) => {
                            if kind == Kind::Object {
                                self.beside.branch(path);
                            }
                            self.walk.enter(states)?;
                            self.keep_head();
                            let head = self.head.kept.len();
                            if let Some(frame) = self.walk.open.last_mut() {
                                frame.head = head;
                                frame.path = path;
                            }
                        }
                        _ => {
                            self.beside.value(path);
                            self.walk.text.at += self.walk.text.value()?;
                        }
                    }
                }
            }
        }
    }

    #[inline]
    fn next_like(&mut self, leaves: &mut Vec<Leaf>, _: &mut Paths) -> Option<usize> {
        if self.patterns.is_empty() || self.selector.filters() {
            return None;
        }
        let text = &self.walk.text;
        let bytes = text.bytes();
        let mut at = text.at;
        if self.counted.0 != text.passed() {
            return None;
        }
        let mut lines = 0;
        let mut skip = |mut at: usize| {
            while let Some(byte @ (b' ' | b'\t' | b'\n' | b'\r')) = bytes.get(at) {
                lines += u64::from(*byte == b'\n');
                at += 1;
            }
            at
        };
        at = skip(at);
        if let Some(frame) = self.walk.open.last() {
            let ready = frame.list
                && frame.values > 0
                && bytes.get(at) == Some(&b',')
                && self.selector.takes_all(frame.states);
            if !ready || self.parent != Some(frame.serial) {
                return None;
            }
            at = skip(at + 1);
        } else if !self.selector.is_document() || self.records == 0 {
            return None;
        }
        let (place, length) = self
            .patterns
            .find(&bytes[at..], leaves, super::plain::value)?;
        match self.walk.open.last_mut() {
            Some(frame) => frame.values += 1,
            None => self.walk.documents += 1,
        }
        self.took(at, length);
        self.line = self.counted.1 + lines;
        self.counted = (
            self.walk.text.passed(),
            self.line + self.patterns.lines(place),
        );
        Some(place)
    }

    fn remember(&mut self, values: usize) -> Option<usize> {
        if self.is_keyed || values != self.spans.len() {
            return None;
        }
        let (from, to) = self.record;
        let record = &self.walk.text.bytes()[from..to];
        Some(self.patterns.remember(record, &self.spans))
    }

    fn text(&self) -> &[u8] {
        &self.walk.text.bytes()[self.record.0..self.record.1]
    }

    fn line(&self) -> u64 {
        self.line
    }

    fn read(&self) -> u64 {
        self.walk.text.passed()
    }

    fn frame(&self) -> DocumentFrame {
        self.around.clone()
    }

    fn is_keyed(&self) -> bool {
        self.is_keyed
    }

    fn beside(&self) -> Option<&Beside> {
        Some(&self.beside)
    }
}

impl JsonTrees {
    /// The path of the value that comes next, which is in no record.
    fn path_beside(&mut self) -> u32 {
        match self.walk.open.last() {
            None => TOP,
            Some(frame) => {
                let name = (!frame.list).then_some(self.walk.name.as_str());
                self.beside.child(frame.path, name)
            }
        }
    }

    /// Counts lines up to where the text is, before any of it is dropped.
    #[inline]
    fn count_lines(&mut self) {
        let text = &self.walk.text;
        let passed = text.passed();
        let new = to_usize(passed - self.counted.0);
        if new <= text.at {
            let between = &text.bytes()[text.at - new..text.at];
            self.counted.1 += memchr::memchr_iter(b'\n', between).count() as u64;
            self.counted.0 = passed;
        } else {
            self.counted = (passed, text.line(text.at));
        }
    }

    /// Keeps what is after the list of the records.
    fn keep_foot(&mut self) {
        if self.around.foot.is_empty() || self.parent.is_none() {
            return;
        }
        let text = &self.walk.text;
        let new = to_usize(text.passed() - self.head.upto);
        if new <= text.at {
            let more = text.bytes()[text.at - new..text.at].to_vec();
            self.around.foot.extend_from_slice(&more);
        }
        self.head.upto = self.walk.text.passed();
        self.walk.text.hold = self.walk.text.at;
    }
}
