//! Reads the records of messages, with what is needed to put some of them into messages again.

mod again;
mod facts;
mod loops;
mod messages;

use std::collections::{HashMap, HashSet};
use std::sync::{Arc, Mutex};

use self::loops::{ComparedLoops, OpenLoops};
use super::frame::{Frame, Source};
use super::layout::{Layout, Layouts};
use super::marks::{Marks, is_named};
use super::names::{Extent, Found, Names};
use super::roles::{Finder, Role, Roles};
use super::segments::{Segment, amount, id_of};
use super::slots::is_called;
use super::stream::{SegmentError, Segments};
use super::write::EdiEncoder;
use crate::options::{Balance, Miscounted};
use numerant_data::record::Unit;
use numerant_data::source::{Input, Place, ReadError, ReadProblem, SharedFile, SourcePath};
use numerant_data::tree::{Beside, Paths, Tree};
use numerant_data::value::Number;
use numerant_format::{DocumentFrame, MessageFacts, RecordEncoder, SegmentCounts, WriteOptions};
use numerant_trees::{Leaf, OpenedTrees, RecordOddities, Trees};

/// Segments and values of records that are remembered, all together.
const REMEMBERED: usize = 1 << 18;

/// Maximum size of a record in bytes: positions in it and in what was made of it have separate ranges.
const LONGEST: usize = 1 << 30;

/// Reads a file of messages.
pub(crate) struct EdiTrees {
    path: SourcePath,
    segments: Segments<Input>,
    layouts: Layouts,
    /// Segments of the envelope of which a name, key, condition or step names an element.
    named: Vec<String>,
    names: Names,
    /// What stands around records is compared with them, too.
    compared: Option<ComparedLoops>,
    /// What is known of the segments of each kind of message, and which kind is open.
    kinds: Vec<KindOfMessage>,
    kind: usize,
    /// Records are whole messages.
    whole: bool,
    source: Arc<Source>,
    /// The segment that was read last is to be looked at again.
    pending: bool,
    /// Room for the next record.
    spare: Open,
    envelope: Envelope,
    /// The segments of messages without records.
    beside: Beside,
    message: Option<Message>,
    messages: u64,
    number: u64,
    /// The record that was read last, and what is wanted of it; its bytes are held, without or with the segment
    /// that was read last.
    frame: Frame,
    found: Found,
    /// What of it is of what is before the records.
    above: Extent,
    with_last: bool,
    /// Its bytes and those that were made, if there are any.
    with_made: Vec<u8>,
    /// It was looked at and not taken, or nothing could be read.
    waiting: Option<Result<bool, ReadError>>,
    /// What was found in records while their columns were looked for.
    met: HashSet<Vec<u32>>,
    /// How many segments and values are remembered.
    remembered: usize,
    /// The numbers of records that were flattened, by what was found in them, and the last of them.
    patterns: HashMap<Vec<u32>, usize>,
    last: Option<(Vec<u32>, usize)>,
    facts: Vec<MessageFacts>,
    counts: SegmentCounts,
    /// What there is to tell of what stood before the first message.
    early: Vec<String>,
}

/// The interchange and group that are open.
#[derive(Default)]
struct Envelope {
    interchange: Option<u64>,
    group: Option<u64>,
    /// UNA is before UNB.
    advice: Option<u64>,
    /// The segments that opened them, for columns.
    interchange_segment: Option<(Segment, Vec<u8>)>,
    group_segment: Option<(Segment, Vec<u8>)>,
    /// Groups and messages in the interchange, and messages in the group.
    groups: u64,
    messages: u64,
    in_group: u64,
}

/// What is known of the segments of messages of one layout and with the same marks.
struct KindOfMessage {
    layout: Option<Arc<Layout>>,
    marks: Marks,
    roles: Roles,
    finder: Option<Finder>,
}

/// Kinds of messages that are known at a time.
const KINDS: usize = 16;

/// A message that is being read.
struct Message {
    layout: Option<Arc<Layout>>,
    kind: String,
    offset: u64,
    opened: Segment,
    opened_raw: Vec<u8>,
    /// What of the head is columns of each record.
    head: Vec<Vec<u8>>,
    head_end: Option<u64>,
    /// The loop around records that is open: from and to.
    loops: OpenLoops,
    tail: Option<u64>,
    record: Option<Open>,
    segments: u64,
    /// Those of them that are in records, or else around them.
    counts: SegmentCounts,
    records: u64,
    stated: Option<Number>,
    found: Number,
}

/// A record that is being read; its bytes are held.
#[derive(Default)]
struct Open {
    segments: u64,
    /// Where those of its segments are that are looked at, and what they are.
    marked: Vec<(usize, usize, Role)>,
}

impl Open {
    fn push(&mut self, (from, to): (usize, usize), role: Role) {
        self.segments += 1;
        if role.wanted || role.adds {
            self.marked.push((from, to, role));
        }
    }
}

impl EdiTrees {
    pub(crate) fn new(
        input: Input,
        opened: &OpenedTrees,
        file: SharedFile,
    ) -> Result<Self, ReadError> {
        let layouts =
            Layouts::read(&opened.options.context.layouts).map_err(|(number, reason)| {
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
            name: Source::name_of(again.as_deref()),
            again,
            file,
            tails: Mutex::new(Vec::new()),
            layouts,
            whole,
            most: opened.largest_record.min(LONGEST),
            miscounted: Miscounted::of(&opened.options.of_formats),
            by_layout: opened.options.context.by_layout,
            ends: Mutex::default(),
        };
        let mut trees = Self::of(source, input);
        let segments = ["ISA", "GS", "ST", "UNB", "UNG", "UNH"];
        let of_envelope = segments.iter().filter(|segment| {
            let mut named = opened.options.context.named.iter();
            named.any(|name| {
                name.strip_prefix(**segment)
                    .is_some_and(|rest| rest.starts_with(|sign: char| sign.is_ascii_digit()))
            })
        });
        if opened.options.context.as_one {
            trees.names = Names::without_totals(trees.layouts.totals());
            trees.compared = Some(ComparedLoops::new());
        }
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
            compared: None,
            kinds: Vec::new(),
            kind: 0,
            whole: source.whole,
            source: Arc::new(source),
            pending: false,
            spare: Open::default(),
            envelope: Envelope::default(),
            beside: Beside::default(),
            message: None,
            messages: 0,
            number: 0,
            frame: Frame::default(),
            found: Found::default(),
            above: Extent::default(),
            with_last: false,
            with_made: Vec::new(),
            waiting: None,
            met: HashSet::new(),
            remembered: 0,
            patterns: HashMap::new(),
            last: None,
            facts: Vec::new(),
            counts: SegmentCounts::default(),
            early: Vec::new(),
        }
    }

    /// Goes through all of it; the source with what is after the records of each message.
    pub(super) fn gone_through(mut self) -> Result<Arc<Source>, ReadError> {
        let (mut tree, mut paths) = (Tree::default(), Paths::default());
        while self.next(&mut tree, &mut paths)? {}
        Ok(self.source)
    }

    fn wrong(&self, what: impl Into<String>) -> ReadError {
        self.wrong_at(self.segments.offset(), what)
    }

    fn wrong_at(&self, offset: u64, what: impl Into<String>) -> ReadError {
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
    #[inline]
    fn segment(&mut self) -> Result<bool, ReadError> {
        if std::mem::take(&mut self.pending) {
            return Ok(true);
        }
        let opens = self.envelope.interchange.is_none();
        self.segments
            .next(opens)
            .map_err(|error| self.unreadable(error))
    }

    #[cold]
    fn unreadable(&self, error: SegmentError) -> ReadError {
        match error {
            SegmentError::Io(error) => self.path.error(ReadProblem::Io(error)),
            SegmentError::NoInterchange => {
                self.wrong("an interchange should begin here, with ISA, UNA or UNB")
            }
            SegmentError::Cut => self.wrong("the file ends in the middle of a segment"),
            SegmentError::TooLong => self.wrong("a segment without an end"),
            SegmentError::TooMuch => {
                let limit = numerant_data::value::Size(self.source.most as u64);
                let place = Place::record(self.number + 1);
                self.path
                    .error_at(place, ReadProblem::RecordTooLarge { limit })
            }
        }
    }

    fn marks(&self) -> Result<Marks, ReadError> {
        self.segments
            .marks
            .ok_or_else(|| self.wrong("an interchange should begin here, with ISA, UNA or UNB"))
    }

    /// Hands on the record that is complete.
    fn emit(&mut self, paths: &mut Paths, marks: &Marks) -> Result<(), ReadError> {
        let Some(message) = &mut self.message else {
            return Ok(());
        };
        let Some(open) = message.record.take() else {
            return Ok(());
        };
        // A record that is a whole message has what closes that; others end before what comes next.
        self.with_last = message.layout.is_none();
        let held = self.segments.held(self.with_last);
        message.records += 1;
        message.counts.records += open.segments;
        self.number += 1;
        let layout = message.layout.as_deref();
        let mut amount_of = Number::ZERO;
        if let Some(balance) = layout.and_then(|layout| layout.balance.as_ref()) {
            for (from, to, _) in open.marked.iter().filter(|(_, _, role)| role.adds) {
                let value = balance.records.value_in(&held[*from..*to], marks);
                if let Some(number) = value.and_then(|value| amount(&value, marks)) {
                    amount_of = amount_of.plus(number).unwrap_or(amount_of);
                }
            }
            message.found = message.found.plus(amount_of).unwrap_or(message.found);
        }
        self.frame = Frame {
            ordinal: self.messages,
            interchange: self.envelope.interchange.unwrap_or(0),
            group: self.envelope.group,
            message: message.offset,
            head_end: message.head_end.unwrap_or(message.offset),
            loops: message.loops.spans(),
            whole: layout.is_none(),
            segments: open.segments,
            amount: amount_of,
        };
        // What is before the records of a message is the same for all of them.
        if message.records == 1 {
            self.found.cut(Extent::default());
            let mut find = |raw: &[u8]| {
                let how = (marks, false);
                self.names.find(raw, None, how, paths, &mut self.found);
            };
            if !self.named.is_empty() {
                let opened = [
                    &self.envelope.interchange_segment,
                    &self.envelope.group_segment,
                ];
                let of_message = layout.map(|_| message.opened_raw.as_slice());
                let envelope = opened.into_iter().flatten().map(|(_, raw)| raw.as_slice());
                for raw in envelope.chain(of_message) {
                    let id = id_of(raw, marks);
                    if self.named.iter().any(|named| is_called(id, named)) {
                        find(raw);
                    }
                }
            }
            message.head.iter().for_each(|raw| find(raw));
            self.above = self.found.extent();
        } else {
            self.found.cut(self.above);
        }
        for (from, to, role) in open.marked.iter().filter(|(_, _, role)| role.wanted) {
            let (raw, how) = (&held[*from..*to], (marks, role.qualified));
            self.names
                .find(raw, Some(*from), how, paths, &mut self.found);
        }
        if let Some(compared) = &mut self.compared {
            let (spans, file) = (&self.frame.loops, &self.source.file);
            let found = &mut self.found;
            compared
                .find(spans, file, (marks, layout), paths, found)
                .map_err(|error| self.path.error(ReadProblem::Io(error)))?;
        }
        if !self.found.made.is_empty() {
            self.with_made.clear();
            self.with_made.extend_from_slice(held);
            self.with_made.extend_from_slice(&self.found.made);
        }
        self.spare = open;
        Ok(())
    }

    /// Reads up to the end of the next record; `false` if there is none.
    fn advance(&mut self, paths: &mut Paths) -> Result<bool, ReadError> {
        self.segments.release();
        loop {
            if let Some(marks) = self.segments.marks.filter(|_| !self.pending)
                && let Some(role) = self.pass(&marks).map_err(|error| self.unreadable(error))?
            {
                if self.take_other(role, &marks)? {
                    return self.emitted(paths, &marks);
                }
                continue;
            }
            if !self.segment()? {
                let end = self.segments.end();
                if self.message.is_some() {
                    return Err(self.wrong_at(end, "the file ends in a message that is not closed"));
                }
                if self.envelope.interchange.is_some() {
                    let what = "the file ends in an interchange that is not closed";
                    return Err(self.wrong_at(end, what));
                }
                self.counts.read = self.segments.count;
                if !self.counts.adds_up() {
                    let what = "segments are in no record and not around one";
                    return Err(self.wrong_at(end, what));
                }
                return Ok(false);
            }
            let marks = self.marks()?;
            if self.message.is_none() {
                let raw = self.segments.raw();
                let advises = is_named(raw, b"UNA") && self.envelope.interchange.is_none();
                let segment = if advises {
                    Segment {
                        id: "UNA".to_owned(),
                        elements: Vec::new(),
                    }
                } else {
                    Segment::parse(raw, &marks)
                };
                self.counts.envelopes += 1;
                let id = String::from_utf8_lossy(id_of(raw, &marks)).into_owned();
                self.take_envelope(&segment, marks)?;
                if !advises && id != segment.id {
                    self.small(&id);
                }
                continue;
            }
            if self.take(&marks)? {
                return self.emitted(paths, &marks);
            }
        }
    }

    /// Whether one more kind of record can be remembered, as that which was read last is.
    fn has_room(&mut self) -> bool {
        self.remembered += self.found.paths.len();
        self.remembered <= REMEMBERED
    }

    /// Hands on a record, and closes its message if it was the whole of that.
    fn emitted(&mut self, paths: &mut Paths, marks: &Marks) -> Result<bool, ReadError> {
        self.emit(paths, marks)?;
        if !self.pending {
            self.close(marks)?;
        }
        Ok(true)
    }
}

impl Trees for EdiTrees {
    fn next(&mut self, tree: &mut Tree, paths: &mut Paths) -> Result<bool, ReadError> {
        let read = match self.waiting.take() {
            Some(read) => read?,
            None => self.advance(paths)?,
        };
        if read {
            self.found.tree(self.text(), tree);
        }
        Ok(read)
    }

    fn next_new(
        &mut self,
        until: u64,
        tree: &mut Tree,
        paths: &mut Paths,
    ) -> Result<bool, ReadError> {
        while self.segments.end() < until && self.advance(paths)? {
            if self.met.contains(&self.found.paths) {
                continue;
            }
            if self.has_room() {
                self.met.insert(self.found.paths.clone());
            }
            self.found.tree(self.text(), tree);
            return Ok(true);
        }
        Ok(false)
    }

    fn next_like(&mut self, leaves: &mut Vec<Leaf>, paths: &mut Paths) -> Option<usize> {
        if self.patterns.is_empty() {
            return None;
        }
        let read = self.advance(paths);
        if !matches!(read, Ok(true)) || self.found.hard {
            self.waiting = Some(read);
            return None;
        }
        let known = match &self.last {
            Some((found, number)) if *found == self.found.paths => Some(*number),
            _ => self.patterns.get(&self.found.paths).copied(),
        };
        match known {
            Some(number) => {
                if self.last.as_ref().is_none_or(|(_, last)| *last != number) {
                    self.last = Some((self.found.paths.clone(), number));
                }
                let length = self.segments.held(self.with_last).len();
                self.found.leaves(length, leaves);
            }
            None => self.waiting = Some(read),
        }
        known
    }

    fn remember(&mut self, values: usize) -> Option<usize> {
        let new = self.patterns.len();
        if values != self.found.len() || self.found.hard || !self.has_room() {
            return None;
        }
        Some(*self.patterns.entry(self.found.paths.clone()).or_insert(new))
    }

    fn text(&self) -> &[u8] {
        if self.found.made.is_empty() {
            self.segments.held(self.with_last)
        } else {
            &self.with_made
        }
    }

    fn push_original(&self, out: &mut Vec<u8>) {
        self.frame.write(out);
        out.extend_from_slice(&self.source.name);
        out.extend_from_slice(self.segments.held(self.with_last));
    }

    fn line(&self) -> u64 {
        self.number
    }

    fn read(&self) -> u64 {
        self.segments.end()
    }

    fn frame(&self) -> DocumentFrame {
        DocumentFrame::default()
    }

    fn unit(&self) -> Unit {
        Unit::Record
    }

    fn oddities(&self) -> RecordOddities {
        RecordOddities {
            unterminated: u64::from(!self.segments.is_terminated),
            segments: self.counts,
            ..RecordOddities::default()
        }
    }

    fn messages(&self) -> &[MessageFacts] {
        &self.facts
    }

    fn only(&mut self, columns: &[String]) {
        self.names = Names::of(columns);
        self.kinds.clear();
        self.patterns.clear();
        self.remembered = 0;
        self.last = None;
    }

    fn beside(&self) -> Option<&Beside> {
        Some(&self.beside)
    }

    fn writer(&self, to: &str, options: &WriteOptions) -> Option<Arc<dyn RecordEncoder>> {
        let source = Arc::clone(&self.source);
        let encoder = || {
            Arc::new(EdiEncoder::new(source, Balance::of(&options.of_formats)))
                as Arc<dyn RecordEncoder>
        };
        [super::Standard::X12.name(), super::Standard::Edifact.name()]
            .contains(&to)
            .then(encoder)
    }
}
