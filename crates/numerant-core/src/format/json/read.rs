//! Reads the records of a JSON document: finds where they are, and hands them on one by one.

use serde_json::Value;

use super::descend::{Wrong, descend, unescape};
use super::path::{Reached, Selector, States, push_member};
use super::tokens::{Token, Tokens};
use crate::format::alike::Likenesses;
use crate::format::text::Text;
use crate::format::trees::{Around, Leaf, OpenedTrees, TreeFacts, Trees};
use crate::source::{Input, ReadError, ReadProblem};
use crate::tree::{Kind, Paths, Survey, Tree};

/// Bytes of a document that are looked at to find its records.
const SAMPLE: u64 = 1 << 22;

/// Places of records and values beside them that are named.
const NAMED: usize = 12;

/// An open container around the present place.
#[derive(Debug)]
struct Frame {
    list: bool,
    /// Values that were in it so far.
    values: u64,
    states: States,
    /// Its number among all containers.
    serial: u64,
    /// Bytes of the document up to its opening bracket, with that.
    head: usize,
}

/// The way through a document, from value to value.
struct Walk {
    text: Text,
    open: Vec<Frame>,
    /// Values at the top.
    documents: u64,
    serial: u64,
    most_depth: usize,
    /// The name of the member that comes next.
    name: String,
}

/// What comes next in a document.
enum Next {
    /// A value, which begins where the text is.
    Value,
    /// The end of the container that was open.
    Close(Frame),
    /// The end.
    End,
}

impl Walk {
    fn new(input: Input, opened: &OpenedTrees) -> Result<Self, ReadError> {
        Ok(Self {
            text: Text::new(
                input,
                super::NAME,
                opened.options.encoding,
                |_| None,
                opened.largest_record,
            )?,
            open: Vec::new(),
            documents: 0,
            serial: 0,
            most_depth: opened.depth,
            name: String::new(),
        })
    }

    /// Goes on to the next value or the end of a container.
    fn next(&mut self) -> Result<Next, ReadError> {
        let Some(frame) = self.open.last() else {
            return match self.text.next_byte(None)? {
                None => Ok(Next::End),
                Some(_) => {
                    self.documents += 1;
                    Ok(Next::Value)
                }
            };
        };
        let (list, first) = (frame.list, frame.values == 0);
        let Some(mut byte) = self.text.next_byte(None)? else {
            return Err(self.text.malformed(
                self.text.at,
                format!(
                    "the document ends within {}",
                    if list { "a list" } else { "an object" }
                ),
            ));
        };
        if byte == if list { b']' } else { b'}' } {
            self.text.at += 1;
            return match self.open.pop() {
                Some(frame) => Ok(Next::Close(frame)),
                None => Ok(Next::End),
            };
        }
        if !first {
            if byte != b',' {
                let what = format!(
                    "a comma or a '{}' is missing here",
                    if list { ']' } else { '}' }
                );
                return Err(self.text.malformed(self.text.at, what));
            }
            self.text.at += 1;
            byte = self.text.next_byte(None)?.unwrap_or(b' ');
            if matches!(byte, b']' | b'}') {
                let what = "a value is missing behind the comma";
                return Err(self.text.malformed(self.text.at, what));
            }
        }
        if !list {
            if byte != b'"' {
                let what = "a name in double quotes is missing here";
                return Err(self.text.malformed(self.text.at, what));
            }
            let length = self.text.value()?;
            let at = self.text.at;
            let name = unescape(self.text.rest(), 0, length).map(std::borrow::Cow::into_owned);
            self.name = name.map_err(|wrong| self.wrong(at, wrong))?;
            self.text.at += length;
            if self.text.token()? != Token::Colon {
                let what = "a colon is missing behind the name";
                return Err(self.text.malformed(self.text.at, what));
            }
            if self.text.next_byte(None)?.is_none() {
                let what = "the document ends within an object";
                return Err(self.text.malformed(self.text.at, what));
            }
        }
        if let Some(frame) = self.open.last_mut() {
            frame.values += 1;
        }
        Ok(Next::Value)
    }

    /// How the value that comes next is reached from its container.
    fn reached(&self) -> Option<Reached<'_>> {
        let frame = self.open.last()?;
        Some(match frame.list {
            true => Reached::Index(frame.values - 1),
            false => Reached::Name(&self.name),
        })
    }

    /// The kind of the value that comes next.
    fn kind(&self) -> Kind {
        match self.text.bytes().get(self.text.at) {
            Some(b'{') => Kind::Object,
            Some(b'[') => Kind::List,
            Some(b'"') => Kind::Text,
            Some(b't' | b'f') => Kind::Boolean,
            Some(b'n') => Kind::Null,
            _ => Kind::Number,
        }
    }

    /// Goes into the container that comes next.
    fn enter(&mut self, states: States) -> Result<(), ReadError> {
        if self.open.len() >= self.most_depth {
            let most = self.most_depth;
            return Err(self.text.error(self.text.at, ReadProblem::TooDeep { most }));
        }
        let list = self.kind() == Kind::List;
        self.text.at += 1;
        self.serial += 1;
        self.open.push(Frame {
            list,
            values: 0,
            states,
            serial: self.serial,
            head: 0,
        });
        Ok(())
    }

    fn wrong(&self, at: usize, wrong: Wrong) -> ReadError {
        match wrong {
            Wrong::Deep(offset) => {
                let most = self.most_depth;
                self.text.error(at + offset, ReadProblem::TooDeep { most })
            }
            Wrong::Escape(offset, what) => self.text.malformed(at + offset, what),
        }
    }
}

/// Goes through a document, or so much of it, and says what is in it.
pub(crate) fn survey(input: Input, opened: &OpenedTrees, most: u64) -> Result<Survey, ReadError> {
    let mut walk = Walk::new(input, opened)?;
    survey_walk(&mut walk, most).map(|(survey, _)| survey)
}

/// The survey, and whether a second value stands behind the first.
fn survey_walk(walk: &mut Walk, most: u64) -> Result<(Survey, bool), ReadError> {
    let mut survey = Survey::default();
    while walk.text.passed() < most {
        match walk.next()? {
            Next::End => break,
            Next::Close(_) => survey.close(),
            Next::Value => {
                let kind = walk.kind();
                let member = walk.open.last().is_some_and(|frame| !frame.list);
                let name = member.then_some(walk.name.as_str());
                survey.open(name, kind);
                if matches!(kind, Kind::Object | Kind::List) {
                    walk.enter(0)?;
                    continue;
                }
                let length = walk.text.value()?;
                let at = walk.text.at;
                if kind == Kind::Text {
                    let text = unescape(walk.text.rest(), 0, length);
                    let text = text.map(std::borrow::Cow::into_owned);
                    let text = text.map_err(|wrong| walk.wrong(at, wrong))?;
                    survey.value(kind, text.as_bytes());
                } else {
                    survey.value(kind, &walk.text.bytes()[at..at + length]);
                }
                survey.close();
                walk.text.at += length;
            }
        }
    }
    let several = walk.documents > 1;
    Ok((survey.finish(), several))
}

/// Finds out where the records of a document are, if that is not said.
pub(crate) fn find_records(input: Input, opened: &OpenedTrees) -> Result<TreeFacts, ReadError> {
    let mut facts = opened.facts.clone();
    let failed = |problem| opened.path.error(problem);
    if let Some(path) = &opened.options.records {
        let what = Selector::new(path).err();
        if let Some(what) = what {
            let path = path.clone();
            return Err(failed(ReadProblem::RecordsPath { path, what }));
        }
        facts.records.clone_from(path);
        return Ok(facts);
    }
    let mut walk = Walk::new(input, opened)?;
    let Some(first) = walk.text.next_byte(None)? else {
        return Err(failed(ReadProblem::Empty));
    };
    facts.found = true;
    // What is wrong further down is told when it is read.
    let (survey, several) = survey_walk(&mut walk, SAMPLE)?;
    if first == b'[' {
        facts.records = "$[*]".to_owned();
        return Ok(facts);
    }
    facts.records = "$".to_owned();
    facts.lines = several;
    if several || first != b'{' {
        return Ok(facts);
    }
    facts.single = true;
    // The lists of objects that are in no other list, and how many those are.
    let mut lists: Vec<(u64, String, usize)> = Vec::new();
    for (place, node) in survey.nodes.iter().enumerate() {
        let inside = |mut at: usize| {
            while at != 0 {
                at = survey.parent(at);
                if survey.nodes[at].items {
                    return true;
                }
            }
            false
        };
        if node.items && node.branches > node.lists && !inside(place) {
            lists.push((node.times, json_path(&survey, place), place));
        }
    }
    lists.sort_by_key(|(times, ..)| std::cmp::Reverse(*times));
    let Some((_, best, place)) = lists.first().cloned() else {
        return Ok(facts);
    };
    facts.others = lists[1..].iter().map(|(_, path, _)| path.clone()).collect();
    facts.others.push("$".to_owned());
    facts.single = false;
    facts.records = best;
    facts.beside = beside(&survey, place);
    let list = survey.path(survey.parent(place));
    facts.above = (!facts.beside.is_empty()).then(|| ("$".to_owned(), list));
    Ok(facts)
}

/// Values that stand beside the records at a place, by their paths.
pub(crate) fn beside(survey: &Survey, records: usize) -> Vec<String> {
    let under = |mut at: usize| {
        while at != 0 {
            if at == records {
                return true;
            }
            at = survey.parent(at);
        }
        false
    };
    let values = survey.nodes.iter().enumerate();
    values
        .filter(|(place, node)| *place != 0 && node.branches < node.times && !under(*place))
        .map(|(place, _)| survey.path(place))
        .take(NAMED)
        .collect()
}

fn json_path(survey: &Survey, place: usize) -> String {
    let mut way = Vec::new();
    let mut at = place;
    while at != 0 {
        way.push(at);
        at = survey.parent(at);
    }
    let mut path = "$".to_owned();
    for at in way.iter().rev() {
        let node = &survey.nodes[*at];
        if node.items {
            path.push_str("[*]");
        } else {
            push_member(&node.name, &mut path);
        }
    }
    path
}

/// Reads the records of a document.
pub(crate) struct JsonTrees {
    walk: Walk,
    selector: Selector,
    path: String,
    /// One document is all that there may be.
    single: bool,
    likenesses: Likenesses,
    /// Where the values of the record that was read last stand in it.
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
    around: Around,
    /// The container that the records are in.
    parent: Option<u64>,
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
        let path = opened.facts.records.clone();
        let selector = Selector::new(&path).map_err(|what| {
            let path = path.clone();
            opened.path.error(ReadProblem::RecordsPath { path, what })
        })?;
        let walk = Walk::new(input, opened)?;
        Ok(Self {
            head: Head {
                upto: walk.text.passed(),
                ..Head::default()
            },
            walk,
            single: opened.facts.found && !selector.is_document(),
            selector,
            path,
            likenesses: Likenesses::default(),
            spans: Vec::new(),
            record: (0, 0),
            counted: (0, 1),
            line: 1,
            records: 0,
            around: Around::default(),
            parent: None,
        })
    }

    /// Keeps what was passed over since it was last asked to.
    fn keep_head(&mut self) {
        if self.records > 0 {
            return;
        }
        let text = &self.walk.text;
        let passed = text.passed();
        let new = (passed - self.head.upto) as usize;
        if new <= text.at {
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

    /// What stands behind the list of the records, with its closing bracket.
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
                    if self.records == 0 && self.walk.documents == 0 {
                        return Err(self.walk.text.malformed(0, "there is nothing in it"));
                    }
                    self.keep_foot();
                    return Ok(false);
                }
                Next::Close(frame) => {
                    self.keep_foot();
                    self.settle_foot(&frame);
                }
                Next::Value => {
                    if self.single && self.walk.documents > 1 && self.walk.open.is_empty() {
                        let what = format!(
                            "something stands behind the end of the document, whose records are at {}",
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
                    match self.walk.kind() {
                        Kind::Object | Kind::List => {
                            self.walk.enter(states)?;
                            self.keep_head();
                            let head = self.head.kept.len();
                            if let Some(frame) = self.walk.open.last_mut() {
                                frame.head = head;
                            }
                        }
                        _ => self.walk.text.at += self.walk.text.value()?,
                    }
                }
            }
        }
    }

    #[inline]
    fn next_alike(&mut self, leaves: &mut Vec<Leaf>) -> Option<usize> {
        if self.likenesses.is_empty() || self.selector.filters() {
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
            .likenesses
            .find(&bytes[at..], leaves, super::plain::value)?;
        match self.walk.open.last_mut() {
            Some(frame) => frame.values += 1,
            None => self.walk.documents += 1,
        }
        self.took(at, length);
        self.line = self.counted.1 + lines;
        self.counted = (
            self.walk.text.passed(),
            self.line + self.likenesses.lines(place),
        );
        Some(place)
    }

    fn remember(&mut self, values: usize) -> Option<usize> {
        if values != self.spans.len() {
            return None;
        }
        let (from, to) = self.record;
        let record = &self.walk.text.bytes()[from..to];
        Some(self.likenesses.remember(record, &self.spans))
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

    fn around(&self) -> Around {
        self.around.clone()
    }
}

impl JsonTrees {
    /// Counts lines up to where the text is, before any of it is dropped.
    #[inline]
    fn count_lines(&mut self) {
        let text = &self.walk.text;
        let passed = text.passed();
        let new = (passed - self.counted.0) as usize;
        if new <= text.at {
            let between = &text.bytes()[text.at - new..text.at];
            self.counted.1 += memchr::memchr_iter(b'\n', between).count() as u64;
            self.counted.0 = passed;
        } else {
            self.counted = (passed, text.line(text.at));
        }
    }

    /// Keeps what stands behind the list of the records.
    fn keep_foot(&mut self) {
        if self.around.foot.is_empty() || self.parent.is_none() {
            return;
        }
        let text = &self.walk.text;
        let new = (text.passed() - self.head.upto) as usize;
        if new <= text.at {
            let more = text.bytes()[text.at - new..text.at].to_vec();
            self.around.foot.extend_from_slice(&more);
        }
        self.head.upto = self.walk.text.passed();
        self.walk.text.hold = self.walk.text.at;
    }
}

/// Whether a text begins like a document; `claimed` says that its name says so, or says nothing.
pub(crate) fn begins(start: &[u8], claimed: bool) -> bool {
    let start = start.strip_prefix(b"\xef\xbb\xbf").unwrap_or(start);
    let start = start.trim_ascii_start();
    let behind = |rest: &[u8]| rest.trim_ascii_start().first().copied();
    match start.first() {
        Some(b'{') => matches!(behind(&start[1..]), Some(b'"' | b'}')) || claimed,
        Some(b'[') => {
            matches!(behind(&start[1..]), Some(b'{' | b'['))
                || (claimed && serde_json::from_slice::<Value>(start).is_ok())
        }
        _ => false,
    }
}
