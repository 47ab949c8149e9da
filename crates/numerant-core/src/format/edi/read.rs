//! Reads the records of messages, with what is needed to put some of them into messages again.

use std::sync::{Arc, Mutex};

use super::layout::{Address, Layout, Layouts};
use super::names::{Names, Roles};
use super::segments::{Marks, Segment, SegmentError, Segments, Standard, id_of};
use super::write::{EdiEncoder, Frame, Source, Tail};
use crate::format::delimited::WriteOptions;
use crate::format::trees::{Around, OpenedTrees, Trees};
use crate::format::{RecordEncoder, TextFormat};
use crate::record::Unit;
use crate::source::{Input, Place, ReadError, ReadProblem, SharedFile, SourcePath};
use crate::tree::{Kind, Paths, ROOT, Tree};
use crate::value::Number;

/// What was found of one kind of message.
#[derive(Clone, Debug, PartialEq, Eq, serde::Serialize)]
#[serde(rename_all = "kebab-case")]
#[non_exhaustive]
pub struct MessageFacts {
    /// The kind, such as 835 or REMADV.
    pub kind: String,
    /// The layout that says what its records are.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub layout: Option<String>,
    /// Messages.
    pub messages: u64,
    /// Records in them.
    pub records: u64,
    /// The totals that they state, summed up, where the layout knows of one.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub stated: Option<Number>,
    /// What their records and adjustments come to.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub found: Option<Number>,
    /// Messages whose total does not agree.
    pub unbalanced: u64,
    /// Counts and control numbers of the envelopes that do not agree.
    pub miscounted: u64,
    /// The first that does not agree, in words.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub first: Option<String>,
}

/// Reads a file of messages.
pub(crate) struct EdiTrees {
    path: SourcePath,
    segments: Segments<Input>,
    layouts: Layouts,
    /// Segments of the envelope of which a name, key, condition or step names an element.
    named: Vec<String>,
    names: Names,
    /// Of the message that is open.
    roles: Roles,
    /// Records are whole messages.
    whole: bool,
    source: Arc<Source>,
    /// The segment that was read last and is to be looked at again.
    pending: bool,
    /// Room for the next record.
    spare: Open,
    raw: Vec<u8>,
    offset: u64,
    envelope: Envelope,
    message: Option<Message>,
    messages: u64,
    /// The record that was read last, with its frame.
    own: Vec<u8>,
    number: u64,
    facts: Vec<MessageFacts>,
}

/// The interchange and group that are open.
#[derive(Default)]
struct Envelope {
    interchange: Option<u64>,
    group: Option<u64>,
    /// UNA stands before UNB.
    advice: Option<u64>,
    /// The segments that opened them, for columns.
    interchange_segment: Option<(Segment, Vec<u8>)>,
    group_segment: Option<Vec<u8>>,
    /// Groups and messages in the interchange, and messages in the group.
    groups: u64,
    messages: u64,
    in_group: u64,
}

/// A message that is being read.
struct Message {
    layout: Option<Layout>,
    kind: String,
    offset: u64,
    opened: Segment,
    opened_raw: Vec<u8>,
    /// What of the head is columns of each record.
    head: Vec<Vec<u8>>,
    head_end: Option<u64>,
    /// The loop around records that is open: from and to.
    looped: Option<(u64, u64)>,
    in_loop: bool,
    tail: Option<u64>,
    record: Option<Open>,
    segments: u64,
    records: u64,
    stated: Option<Number>,
    found: Number,
}

/// A record that is being read.
#[derive(Default)]
struct Open {
    bytes: Vec<u8>,
    /// Where its segments begin.
    begins: Vec<usize>,
}

impl Open {
    fn push(&mut self, raw: &[u8]) {
        self.begins.push(self.bytes.len());
        self.bytes.extend_from_slice(raw);
    }

    fn segments(&self) -> impl Iterator<Item = &[u8]> {
        let ends = self
            .begins
            .iter()
            .skip(1)
            .copied()
            .chain([self.bytes.len()]);
        self.begins
            .iter()
            .zip(ends)
            .map(|(from, to)| &self.bytes[*from..to])
    }
}

impl EdiTrees {
    pub(crate) fn new(
        input: Input,
        opened: &OpenedTrees,
        file: SharedFile,
    ) -> Result<Self, ReadError> {
        let layouts = Layouts::read(&opened.options.layouts).map_err(|(number, reason)| {
            let layout = opened
                .options
                .layout
                .get(number)
                .map(|path| path.display().to_string());
            opened.path.error(ReadProblem::Layout {
                layout: layout.unwrap_or_default(),
                reason,
            })
        })?;
        let whole = opened.facts.records == super::MESSAGES;
        let again = match (opened.is_kept(), &opened.path) {
            (false, SourcePath::File(path)) => Some(path.clone()),
            _ => None,
        };
        let source = Source {
            path: opened.path.clone(),
            again,
            file,
            tails: Mutex::new(Vec::new()),
            layouts,
            whole,
            most: opened.largest_record,
        };
        let mut trees = Self::of(source, input);
        let segments = ["ISA", "GS", "ST", "UNB", "UNG", "UNH"];
        let of_envelope = segments.iter().filter(|segment| {
            let mut named = opened.options.named.iter();
            named.any(|name| {
                name.strip_prefix(**segment)
                    .is_some_and(|rest| rest.starts_with(|sign: char| sign.is_ascii_digit()))
            })
        });
        trees.named = of_envelope.map(|segment| (*segment).to_owned()).collect();
        Ok(trees)
    }

    /// Reads a source from its start.
    pub(super) fn of(source: Source, input: Input) -> Self {
        Self {
            path: source.path.clone(),
            segments: Segments::new(input, source.most),
            layouts: source.layouts.clone(),
            named: Vec::new(),
            names: Names::default(),
            roles: Roles::default(),
            whole: source.whole,
            source: Arc::new(source),
            pending: false,
            spare: Open::default(),
            raw: Vec::new(),
            offset: 0,
            envelope: Envelope::default(),
            message: None,
            messages: 0,
            own: Vec::new(),
            number: 0,
            facts: Vec::new(),
        }
    }

    /// Goes through all of it; the source with what stands behind the records of each message.
    pub(super) fn gone_through(mut self) -> Result<Arc<Source>, ReadError> {
        let (mut tree, mut paths) = (Tree::default(), Paths::default());
        while self.next(&mut tree, &mut paths)? {}
        Ok(self.source)
    }

    fn wrong(&self, what: impl Into<String>) -> ReadError {
        let offset = self.offset;
        let place = Place::record(self.number + 1);
        self.path.error_at(
            place,
            ReadProblem::BrokenMessage {
                offset,
                what: what.into(),
            },
        )
    }

    /// Reads the next segment; `false` at the end.
    fn segment(&mut self) -> Result<bool, ReadError> {
        if std::mem::take(&mut self.pending) {
            return Ok(true);
        }
        let opens = self.envelope.interchange.is_none();
        self.offset = self.segments.offset();
        let read = self.segments.next(opens, &mut self.raw);
        // Blanks before it are passed over.
        self.offset = self.segments.offset() - self.raw.len() as u64;
        read.map_err(|error| match error {
            SegmentError::Io(error) => self.path.error(ReadProblem::Io(error)),
            SegmentError::NoInterchange => {
                self.wrong("an interchange should begin here, with ISA, UNA or UNB")
            }
            SegmentError::Cut => self.wrong("the file ends in the middle of a segment"),
            SegmentError::TooLong => self.wrong("a segment without an end"),
        })
    }

    fn marks(&self) -> Result<Marks, ReadError> {
        self.segments
            .marks
            .ok_or_else(|| self.wrong("an interchange should begin here, with ISA, UNA or UNB"))
    }

    fn end(&self) -> u64 {
        self.offset + self.raw.len() as u64
    }

    fn fact(&mut self, kind: &str, layout: Option<&Layout>) -> &mut MessageFacts {
        if let Some(place) = self.facts.iter().position(|fact| fact.kind == kind) {
            return &mut self.facts[place];
        }
        let knows = layout.and_then(|layout| layout.balance.as_ref());
        self.facts.push(MessageFacts {
            kind: kind.to_owned(),
            layout: layout.map(|layout| layout.name.clone()),
            messages: 0,
            records: 0,
            stated: knows.map(|_| Number::ZERO),
            found: knows.map(|_| Number::ZERO),
            unbalanced: 0,
            miscounted: 0,
            first: None,
        });
        let last = self.facts.len() - 1;
        &mut self.facts[last]
    }

    /// Takes note of a count or control number that does not agree.
    fn expect(&mut self, segment: &Segment, element: usize, expected: &str, what: &str) {
        let said = segment.value(element, 1);
        let same = match (said.parse::<u64>(), expected.parse::<u64>()) {
            (Ok(said), Ok(expected)) => said == expected,
            _ => said == expected,
        };
        if same {
            return;
        }
        let told = format!(
            "{}{element:02} says {said}, and {what} {expected}",
            segment.id
        );
        let kind = self
            .facts
            .last()
            .map_or_else(String::new, |fact| fact.kind.clone());
        let fact = self.fact(&kind, None);
        fact.miscounted += 1;
        fact.first.get_or_insert(told);
    }

    /// Takes note of a segment that opens or closes an interchange or group; whether it was one.
    fn take_envelope(&mut self, segment: &Segment, marks: Marks) -> Result<bool, ReadError> {
        let [
            (opens, closes),
            (opens_group, closes_group),
            (opens_message, _),
        ] = marks.standard.envelope();
        let id = segment.id.as_str();
        if id == "UNA" && marks.standard == Standard::Edifact {
            self.envelope.advice = Some(self.offset);
            return Ok(true);
        }
        if id == opens {
            if self.envelope.interchange.is_some() {
                return Err(self.wrong(format!("{opens} within an interchange that is not closed")));
            }
            let offset = self.envelope.advice.take().unwrap_or(self.offset);
            self.envelope = Envelope {
                interchange: Some(offset),
                interchange_segment: Some((segment.clone(), self.raw.clone())),
                ..Envelope::default()
            };
            return Ok(true);
        }
        if self.envelope.interchange.is_none() {
            return Err(self.wrong(format!("{id} stands outside of an interchange")));
        }
        if id == opens_group {
            if self.envelope.group.is_some() {
                return Err(self.wrong(format!("{id} within a group that is not closed")));
            }
            self.envelope.group = Some(self.offset);
            self.envelope.group_segment = Some(self.raw.clone());
            self.envelope.groups += 1;
            self.envelope.in_group = 0;
            return Ok(true);
        }
        if id == closes_group {
            let count = self.envelope.in_group.to_string();
            self.expect(segment, 1, &count, "the messages of the group are");
            self.envelope.group = None;
            self.envelope.group_segment = None;
            return Ok(true);
        }
        if id == closes {
            let count = match (marks.standard, self.envelope.groups) {
                (Standard::Edifact, 0) => self.envelope.messages,
                (_, groups) => groups,
            };
            self.expect(segment, 1, &count.to_string(), "there are");
            let control = self.envelope.interchange_segment.take();
            let place = if marks.standard == Standard::X12 {
                13
            } else {
                5
            };
            let control = control.map(|(segment, _)| segment.value(place, 1).trim().to_owned());
            self.expect(
                segment,
                2,
                &control.unwrap_or_default(),
                "the interchange has the number",
            );
            self.envelope = Envelope::default();
            return Ok(true);
        }
        if id == opens_message {
            let kind = match marks.standard {
                Standard::X12 => segment.value(1, 1),
                Standard::Edifact => segment.value(2, 1),
            };
            let kind = kind.to_owned();
            let layout = self
                .layouts
                .of(marks.standard, &kind)
                .filter(|_| !self.whole)
                .cloned();
            self.fact(&kind, layout.as_ref()).messages += 1;
            self.envelope.messages += 1;
            self.envelope.in_group += 1;
            let record = layout.is_none().then(|| {
                let mut open = Open::default();
                open.push(&self.raw);
                open
            });
            self.roles = Roles::default();
            self.message = Some(Message {
                layout,
                kind,
                offset: self.offset,
                opened: segment.clone(),
                opened_raw: self.raw.clone(),
                head: Vec::new(),
                head_end: None,
                looped: None,
                in_loop: false,
                tail: None,
                record,
                segments: 1,
                records: 0,
                stated: None,
                found: Number::ZERO,
            });
            return Ok(true);
        }
        Err(self.wrong(format!("{id} stands outside of a message")))
    }

    /// Takes a segment of the open message; whether a record is complete, in front of it.
    fn take(&mut self, marks: Marks) -> Result<bool, ReadError> {
        let (offset, end) = (self.offset, self.end());
        let Some(message) = &mut self.message else {
            return Ok(false);
        };
        let raw = &self.raw;
        let id = id_of(raw, &marks);
        let role = self.roles.of(id, message.layout.as_ref(), &marks);
        if role.envelope {
            let [_, _, (_, closes)] = marks.standard.envelope();
            let what = format!(
                "{} within a message that no {closes} has closed",
                String::from_utf8_lossy(id)
            );
            return Err(self.wrong(what));
        }
        let Some(layout) = &message.layout else {
            message.segments += 1;
            if let Some(open) = &mut message.record {
                open.push(raw);
            }
            return Ok(role.ends);
        };
        let (is_record, is_loop) = (role.record, role.looped);
        let is_tail = role.tail || message.tail.is_some();
        if (is_record || is_loop || is_tail) && message.record.is_some() {
            self.pending = true;
            return Ok(true);
        }
        message.segments += 1;
        if is_record || is_loop || is_tail {
            message.head_end.get_or_insert(offset);
        }
        if let Some(balance) = &layout.balance
            && role.balances
            && (is_tail || message.head_end.is_none())
        {
            let number = |address: &Address| {
                let text = address.value_in(raw, &marks);
                text.and_then(|text| amount(&text, &marks))
            };
            if let Some(total) = number(&balance.total) {
                message.stated = Some(total);
            }
            for adjustment in balance
                .adjustments
                .iter()
                .filter(|_| is_tail)
                .filter_map(number)
            {
                message.found = message.found.minus(adjustment).unwrap_or(message.found);
            }
        }
        if is_tail {
            message.tail.get_or_insert(offset);
        } else if is_loop {
            message.looped = Some((offset, end));
            message.in_loop = true;
        } else if is_record {
            message.in_loop = false;
            let mut open = std::mem::take(&mut self.spare);
            open.bytes.clear();
            open.begins.clear();
            open.push(raw);
            message.record = Some(open);
        } else if let Some(open) = &mut message.record {
            open.push(raw);
        } else if let (true, Some((_, to))) = (message.in_loop, &mut message.looped) {
            *to = end;
        } else if role.head {
            message.head.push(raw.clone());
        }
        if role.ends {
            let segment = Segment::parse(&self.raw, &marks);
            self.close(&segment, marks);
        }
        Ok(false)
    }

    /// A message ends.
    fn close(&mut self, segment: &Segment, marks: Marks) {
        let Some(message) = self.message.take() else {
            return;
        };
        if let Ok(mut tails) = self.source.tails.lock() {
            tails.push(Tail {
                from: message.tail.unwrap_or(self.offset),
                to: self.end(),
                records: message.records,
            });
        }
        let segments = message.segments.to_string();
        self.expect(segment, 1, &segments, "the segments of the message are");
        let control = match marks.standard {
            Standard::X12 => message.opened.value(2, 1),
            Standard::Edifact => message.opened.value(1, 1),
        };
        self.expect(segment, 2, control, "the message has the number");
        let (stated, found) = (message.stated, message.found);
        let fact = self.fact(&message.kind, message.layout.as_ref());
        fact.records += message.records;
        if let (Some(all), Some(sum), Some(stated)) = (&mut fact.stated, &mut fact.found, stated) {
            *all = all.plus(stated).unwrap_or(*all);
            *sum = sum.plus(found).unwrap_or(*sum);
            if stated.compare(found).is_ne() {
                fact.unbalanced += 1;
                let told =
                    format!("message {control} states {stated}, and its records come to {found}");
                fact.first.get_or_insert(told);
            }
        }
        self.messages += 1;
    }

    /// Hands on the record that is complete.
    fn emit(&mut self, tree: &mut Tree, paths: &mut Paths, marks: Marks) {
        let ordinal = self.messages;
        let (interchange, group) = (self.envelope.interchange, self.envelope.group);
        let Some(message) = &mut self.message else {
            return;
        };
        let Some(open) = message.record.take() else {
            return;
        };
        message.records += 1;
        self.number += 1;
        let mut amount_of = Number::ZERO;
        if let Some(balance) = message
            .layout
            .as_ref()
            .and_then(|layout| layout.balance.as_ref())
        {
            for raw in open.segments() {
                if !self
                    .roles
                    .of(id_of(raw, &marks), message.layout.as_ref(), &marks)
                    .adds
                {
                    continue;
                }
                let value = balance.records.value_in(raw, &marks);
                if let Some(number) = value.and_then(|value| amount(&value, &marks)) {
                    amount_of = amount_of.plus(number).unwrap_or(amount_of);
                }
            }
            message.found = message.found.plus(amount_of).unwrap_or(message.found);
        }
        let frame = Frame {
            ordinal,
            interchange: interchange.unwrap_or(0),
            group,
            message: message.offset,
            head_end: message.head_end.unwrap_or(message.offset),
            looped: message.looped,
            whole: message.layout.is_none(),
            segments: open.begins.len() as u64,
            amount: amount_of,
        };
        self.own.clear();
        frame.write(&mut self.own);
        self.source.name(&mut self.own);
        self.own.extend_from_slice(&open.bytes);
        tree.clear();
        let root = tree.open(ROOT, Kind::Object);
        let interchange = self
            .envelope
            .interchange_segment
            .as_ref()
            .map(|(_, raw)| raw);
        let opened = message.layout.as_ref().map(|_| &message.opened_raw);
        let envelope = [interchange, self.envelope.group_segment.as_ref(), opened];
        for raw in envelope.into_iter().flatten() {
            if self
                .named
                .iter()
                .any(|named| named.as_bytes() == id_of(raw, &marks))
            {
                self.names.push(raw, &marks, false, tree, paths);
            }
        }
        for raw in &message.head {
            self.names.push(raw, &marks, false, tree, paths);
        }
        for raw in open.segments() {
            let layout = message.layout.as_ref();
            let qualified = self.roles.of(id_of(raw, &marks), layout, &marks).qualified;
            self.names.push(raw, &marks, qualified, tree, paths);
        }
        self.spare = open;
        tree.close(root);
    }
}

/// An amount, with the decimal mark of its interchange.
pub(super) fn amount(text: &str, marks: &Marks) -> Option<Number> {
    let text = text.trim();
    let text = text.strip_prefix('+').unwrap_or(text);
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

impl Trees for EdiTrees {
    fn next(&mut self, tree: &mut Tree, paths: &mut Paths) -> Result<bool, ReadError> {
        loop {
            if !self.segment()? {
                if self.message.is_some() {
                    return Err(self.wrong("the file ends in a message that is not closed"));
                }
                if self.envelope.interchange.is_some() {
                    return Err(self.wrong("the file ends in an interchange that is not closed"));
                }
                return Ok(false);
            }
            let marks = self.marks()?;
            if self.message.is_none() {
                let segment =
                    match self.raw.starts_with(b"UNA") && self.envelope.interchange.is_none() {
                        true => Segment {
                            id: "UNA".to_owned(),
                            elements: Vec::new(),
                        },
                        false => Segment::parse(&self.raw, &marks),
                    };
                self.take_envelope(&segment, marks)?;
                continue;
            }
            if self.take(marks)? {
                self.emit(tree, paths, marks);
                if !self.pending {
                    // The record was the whole message.
                    let segment = Segment::parse(&self.raw, &marks);
                    self.close(&segment, marks);
                }
                return Ok(true);
            }
        }
    }

    fn text(&self) -> &[u8] {
        &self.own
    }

    fn line(&self) -> u64 {
        self.number
    }

    fn read(&self) -> u64 {
        self.segments.offset()
    }

    fn around(&self) -> Around {
        Around::default()
    }

    fn unit(&self) -> Unit {
        Unit::Record
    }

    fn messages(&self) -> &[MessageFacts] {
        &self.facts
    }

    fn only(&mut self, columns: &[String]) {
        self.names = Names::of(columns);
    }

    fn writer(&self, to: TextFormat, options: &WriteOptions) -> Option<Arc<dyn RecordEncoder>> {
        let source = Arc::clone(&self.source);
        let encoder =
            || Arc::new(EdiEncoder::new(source, options.balance)) as Arc<dyn RecordEncoder>;
        (to == TextFormat::Edi).then(encoder)
    }
}
