//! Puts records into complete messages again: with the envelope, head and tail that they had, counts that
//! fit, and totals by choice.
//!
//! Of each record is kept where in its file the parts around it are; those are read again when an output is
//! made, so that heads take no memory however many messages there are.

use numerant_data::narrow::{fit, to_usize};
use std::borrow::Cow;
use std::fs::File;
use std::io::{self, BufReader, Read, Seek, Write};
use std::sync::{Arc, Mutex};

use super::frame::{Frame, Source, Tail, next_frame};
use super::layout::Layout;
use super::marks::{Marks, Standard};
use super::segments::{Segment, amount, id_of, line_end, with_values};
use super::slots::is_called;
use super::stream::{bytes_at, opening_at, segment_at, segments_in};
use crate::options::{Balance, Miscounted};
use numerant_data::record::Batch;
use numerant_data::value::Number;
use numerant_format::messages::{BalanceNote, MessagesWritten, SegmentsWritten};
use numerant_format::{DeferredWriteError, DeferredWriter, EncodeError, Placed, RecordEncoder};
use numerant_naming::OutputFacts;

/// Writes records of messages as complete messages.
#[derive(Debug)]
pub(super) struct EdiEncoder {
    source: Arc<Source>,
    balance: Balance,
    facts: Mutex<MessagesWritten>,
}

impl EdiEncoder {
    pub(super) fn new(source: Arc<Source>, balance: Balance) -> Self {
        Self {
            source,
            balance,
            facts: Mutex::default(),
        }
    }
}

impl RecordEncoder for EdiEncoder {
    fn begin(&self, _out: &mut Vec<u8>) -> Result<(), EncodeError> {
        Ok(())
    }

    fn record(&self, batch: &Batch, record: usize, out: &mut Vec<u8>) -> Result<(), EncodeError> {
        let own = batch.of_document(record);
        out.extend_from_slice(&(own.len() as u64).to_le_bytes());
        out.extend_from_slice(own);
        Ok(())
    }

    fn moves_raw(&self) -> bool {
        false
    }

    fn late(&self) -> Option<&dyn DeferredWriter> {
        Some(self)
    }

    fn messages_written(&self) -> MessagesWritten {
        self.facts
            .lock()
            .map(|mut facts| std::mem::take(&mut *facts))
            .unwrap_or_default()
    }
}

/// Records of one message that follow each other in an output.
struct Part {
    records: u64,
    sum: Number,
}

impl DeferredWriter for EdiEncoder {
    fn write(
        &self,
        _facts: &OutputFacts,
        kept: &mut BufReader<File>,
        out: &mut dyn Write,
    ) -> Result<Placed, DeferredWriteError> {
        // Totals are before the records that they sum up, so those are gone through first.
        let mut parts: Vec<Part> = Vec::new();
        let mut last = None;
        while let Some((frame, path, length)) = next_frame(kept)? {
            kept.seek_relative(fit(length))?;
            let message = Some((frame.ordinal, path));
            if last != message {
                parts.push(Part {
                    records: 0,
                    sum: Number::ZERO,
                });
                last = message;
            }
            if let Some(part) = parts.last_mut() {
                part.records += 1;
                part.sum = part.sum.plus(frame.amount).unwrap_or(part.sum);
            }
        }
        kept.rewind()?;
        let mut writing = Writing {
            encoder: self,
            source: Arc::clone(&self.source),
            out,
            open: None,
            segments: SegmentsWritten::default(),
        };
        let own = self.source.again.clone().unwrap_or_default();
        let mut present = own.clone();
        let mut parts = parts.into_iter();
        let mut raw = Vec::new();
        while let Some((frame, path, length)) = next_frame(kept)? {
            if path != present {
                writing.close(Level::Interchange)?;
                writing.source = match path.as_os_str().is_empty() {
                    _ if path == own => Arc::clone(&self.source),
                    true => {
                        let what = "compressed messages cannot be written into one file with others; unpack them first";
                        return Err(io::Error::other(what).into());
                    }
                    false => self.source.other(&path)?,
                };
                present = path;
            }
            raw.resize(to_usize(length), 0);
            kept.read_exact(&mut raw)?;
            writing.record(&frame, &raw, &mut parts)?;
        }
        writing.close(Level::Interchange)?;
        let segments = writing.segments;
        if let Ok(mut facts) = self.facts.lock() {
            facts.segments.add(segments);
        }
        Ok(Placed::Unknown)
    }
}

/// A whole message whose end has the count and control number that agree.
fn mended<'r>(raw: &'r [u8], count: u64, marks: &Marks) -> io::Result<Cow<'r, [u8]>> {
    let segments = segments_in(raw, *marks)?;
    let [first, .., last] = segments.as_slice() else {
        return Ok(Cow::Borrowed(raw));
    };
    let opened = Segment::parse(first, marks);
    let control = opened.value(marks.standard.control_of_message(), 1);
    let closes = Segment::parse(last, marks);
    if closes.value(1, 1).parse() == Ok(count) && closes.value(2, 1) == control {
        return Ok(Cow::Borrowed(raw));
    }
    let values = [(1, 1, count.to_string()), (2, 1, control.to_owned())];
    let last_from = raw.len() - last.len();
    let end = with_values(last, marks, &values);
    Ok(Cow::Owned([&raw[..last_from], &end].concat()))
}

#[derive(Clone, Copy, PartialEq, Eq, PartialOrd, Ord)]
enum Level {
    Message,
    Group,
    Interchange,
}

/// An output that is being written.
struct Writing<'a> {
    encoder: &'a EdiEncoder,
    /// The file that the records are of.
    source: Arc<Source>,
    out: &'a mut dyn Write,
    open: Option<Open>,
    segments: SegmentsWritten,
}

/// What is open in it.
struct Open {
    frame: Frame,
    marks: Marks,
    /// The line end that is after segments.
    line_end: Vec<u8>,
    interchange: Segment,
    group: Option<Segment>,
    message: Option<OpenMessage>,
    groups: u64,
    messages: u64,
    in_group: u64,
}

struct OpenMessage {
    opened: Segment,
    layout: Option<Arc<Layout>>,
    /// What opens the loops that are open.
    loops: Vec<(u64, u64)>,
    /// The levels of a hierarchy that were written: what they are called in the source, in order.
    levels: Vec<String>,
    segments: u64,
    part: Part,
    /// All records that the message has.
    all: u64,
    tail: Tail,
    stated: Option<Number>,
}

impl Writing<'_> {
    fn bytes(&self, from: u64, to: u64) -> io::Result<Vec<u8>> {
        bytes_at(&self.source.file, from, to)
    }

    fn record(
        &mut self,
        frame: &Frame,
        raw: &[u8],
        parts: &mut dyn Iterator<Item = Part>,
    ) -> Result<(), DeferredWriteError> {
        let known = self.open.as_ref().map(|open| &open.frame);
        let same_interchange = known.is_some_and(|known| known.interchange == frame.interchange);
        let same_group = same_interchange && known.is_some_and(|known| known.group == frame.group);
        let same_message = same_group && known.is_some_and(|known| known.ordinal == frame.ordinal);
        if !same_interchange {
            self.close(Level::Interchange)?;
            self.begin(frame)?;
        } else if !same_group {
            self.close(Level::Group)?;
        } else if !same_message {
            self.close(Level::Message)?;
        }
        if !same_group {
            self.begin_group(frame)?;
        }
        if !same_message {
            let part = parts.next().unwrap_or(Part {
                records: 0,
                sum: Number::ZERO,
            });
            self.begin_message(frame, part)?;
        }
        let Some(open) = &mut self.open else {
            return Ok(());
        };
        open.frame = frame.clone();
        if let Some(message) = &mut open.message
            && message.loops != frame.loops
        {
            let same = message.loops.iter().zip(&frame.loops);
            let same = same.take_while(|(one, other)| one == other).count();
            message.loops.clone_from(&frame.loops);
            for (from, to) in &frame.loops[same..] {
                let bytes = bytes_at(&self.source.file, *from, *to)?;
                for raw in segments_in(&bytes, open.marks)? {
                    message.segments += 1;
                    self.segments.written += 1;
                    self.out
                        .write_all(&message.in_hierarchy(raw, &open.marks))?;
                }
            }
        }
        if let Some(message) = &mut open.message {
            message.segments += frame.segments;
        }
        self.segments.written += frame.segments;
        self.segments.records += frame.segments;
        if frame.whole && self.source.miscounted == Miscounted::Correct {
            let mended = mended(raw, frame.segments, &open.marks)?;
            return Ok(self.out.write_all(&mended)?);
        }
        Ok(self.out.write_all(raw)?)
    }

    /// Begins an interchange as it begins in the source.
    fn begin(&mut self, frame: &Frame) -> Result<(), DeferredWriteError> {
        let (segments, marks) = opening_at(&self.source.file, frame.interchange)?;
        for segment in &segments {
            self.out.write_all(segment)?;
        }
        self.segments.written += segments.len() as u64;
        let raw = segments.last().cloned().unwrap_or_default();
        self.open = Some(Open {
            interchange: Segment::parse(&raw, &marks),
            line_end: line_end(&raw).to_vec(),
            marks,
            frame: frame.clone(),
            group: None,
            message: None,
            groups: 0,
            messages: 0,
            in_group: 0,
        });
        Ok(())
    }

    fn begin_group(&mut self, frame: &Frame) -> Result<(), DeferredWriteError> {
        let (Some(from), Some(open)) = (frame.group, &mut self.open) else {
            return Ok(());
        };
        let raw = segment_at(&self.source.file, from, open.marks)?;
        open.group = Some(Segment::parse(&raw, &open.marks));
        open.groups += 1;
        open.in_group = 0;
        self.segments.written += 1;
        Ok(self.out.write_all(&raw)?)
    }

    fn begin_message(&mut self, frame: &Frame, part: Part) -> Result<(), DeferredWriteError> {
        let head = self.bytes(frame.message, frame.head_end)?;
        let tails = self.source.tails.lock();
        let tail = tails
            .ok()
            .and_then(|tails| tails.get(to_usize(frame.ordinal)).copied());
        let tail = tail.ok_or_else(|| io::Error::other("the source has changed"))?;
        let Some(open) = &mut self.open else {
            return Ok(());
        };
        open.messages += 1;
        open.in_group += 1;
        if frame.whole {
            return Ok(());
        }
        let marks = open.marks;
        let segments = segments_in(&head, marks)?;
        let opened = segments
            .first()
            .map(|raw| Segment::parse(raw, &marks))
            .unwrap_or_default();
        let kind = opened.kind(marks.standard);
        let layout = self.source.layouts.of(marks.standard, kind).cloned();
        let mut message = OpenMessage {
            opened,
            layout,
            loops: Vec::new(),
            levels: Vec::new(),
            segments: segments.len() as u64,
            part,
            all: tail.records,
            tail,
            stated: None,
        };
        for raw in segments {
            let written = message.with_totals(&raw, &marks, self.encoder.balance);
            self.out.write_all(&written)?;
        }
        self.segments.written += message.segments;
        open.message = Some(message);
        Ok(())
    }

    /// Closes what is open, up to a level.
    fn close(&mut self, level: Level) -> Result<(), DeferredWriteError> {
        let Some(open) = &mut self.open else {
            return Ok(());
        };
        let marks = open.marks;
        if let Some(mut message) = open.message.take() {
            let bytes = bytes_at(&self.source.file, message.tail.from, message.tail.to)?;
            let tail = segments_in(&bytes, marks)?;
            let how = (self.encoder.balance, self.source.miscounted);
            let (before, all) = (message.segments, tail.len() as u64);
            let note = message.write_tail(tail, &marks, how, self.out)?;
            let written = message.segments - before;
            self.segments.written += written;
            self.segments.left_out += all - written;
            if let (Some(note), Ok(mut facts)) = (note, self.encoder.facts.lock()) {
                facts.notes.push(note);
            }
        }
        let [(_, closes), (_, closes_group), _] = marks.standard.envelope();
        if level >= Level::Group
            && let Some(group) = open.group.take()
        {
            let control = group.value(marks.standard.control_of_group(), 1);
            let raw = open.ending(closes_group, open.in_group, control);
            let kept = self
                .source
                .kept_end(open.frame.group, open.in_group, marks)?;
            self.segments.written += 1;
            self.out.write_all(&kept.unwrap_or(raw))?;
        }
        if level >= Level::Interchange {
            let count = match marks.standard {
                Standard::Edifact if open.groups == 0 => open.messages,
                _ => open.groups,
            };
            let place = marks.standard.control_of_interchange();
            let raw = open.ending(closes, count, open.interchange.value(place, 1).trim());
            let begins = Some(open.frame.interchange);
            let kept = self.source.kept_end(begins, count, marks)?;
            self.segments.written += 1;
            self.out.write_all(&kept.unwrap_or(raw))?;
            self.open = None;
        }
        Ok(())
    }
}

impl Open {
    /// What closes a group or an interchange.
    fn ending(&self, id: &str, count: u64, control: &str) -> Vec<u8> {
        let element = char::from(self.marks.element);
        let segment = char::from(self.marks.segment);
        let text = format!("{id}{element}{count}{element}{control}{segment}");
        [text.as_bytes(), &self.line_end].concat()
    }
}

impl OpenMessage {
    /// Whether only some of its records are taken.
    fn is_cut(&self) -> bool {
        self.part.records != self.all
    }

    /// Whether a segment after the records belongs to a level that is in one which only another part has;
    /// `before` says so of the segment before it.
    fn is_elsewhere(&self, segment: &Segment, closes: &str, before: bool) -> bool {
        let layout = self.layout.as_ref().filter(|_| self.is_cut());
        let Some((layout, hierarchy)) =
            layout.and_then(|layout| layout.hierarchy.as_ref().map(|known| (layout, known)))
        else {
            return false;
        };
        let id = segment.id.as_bytes();
        if is_called(id, hierarchy) {
            let parent = segment.value(2, 1);
            return !parent.is_empty() && !self.levels.iter().any(|known| known == parent);
        }
        let is_tail = layout.tail.iter().any(|known| is_called(id, known));
        before && !is_tail && !is_called(id, closes)
    }

    /// A level of a hierarchy with the number that it has in this message, and that of the level it is in. Where
    /// all records are taken the numbers stay.
    fn in_hierarchy(&mut self, raw: Vec<u8>, marks: &Marks) -> Vec<u8> {
        let layout = self
            .layout
            .as_ref()
            .filter(|_| self.part.records != self.all);
        let hierarchy = layout.and_then(|layout| layout.hierarchy.as_ref());
        let Some(hierarchy) = hierarchy.filter(|known| is_called(id_of(&raw, marks), known)) else {
            return raw;
        };
        let segment = Segment::parse(&raw, marks);
        let (id, parent) = (segment.value(1, 1), segment.value(2, 1));
        debug_assert!(segment.id.eq_ignore_ascii_case(hierarchy), "it is one");
        self.levels.push(id.to_owned());
        let mut values = vec![(1, 1, self.levels.len().to_string())];
        let above = self.levels.iter().rposition(|known| known == parent);
        if let Some(above) = above.filter(|_| !parent.is_empty()) {
            values.push((2, 1, (above + 1).to_string()));
        }
        with_values(&raw, marks, &values)
    }

    /// A segment with the total and counts that it is to have.
    fn with_totals(&mut self, raw: &[u8], marks: &Marks, balance: Balance) -> Vec<u8> {
        let Some(layout) = &self.layout else {
            return raw.to_vec();
        };
        let segment = Segment::parse(raw, marks);
        let mut values = Vec::new();
        for count in layout.count.iter().filter(|count| count.at.is_in(&segment)) {
            values.push((
                count.at.element,
                count.at.component,
                self.part.records.to_string(),
            ));
        }
        if let Some(known) = &layout.balance
            && let Some(stated) = known.total.value(&segment)
        {
            self.stated = amount(stated, marks);
            if self.part.records != self.all && balance == Balance::Recompute {
                let decimal = char::from(marks.decimal).to_string();
                let sum = self.part.sum.to_string().replace('.', &decimal);
                values.push((known.total.element, known.total.component, sum));
            }
        }
        if values.is_empty() || !self.is_cut() {
            raw.to_vec()
        } else {
            with_values(raw, marks, &values)
        }
    }

    /// Writes what is after the records, with the counts that fit; what there is to tell of totals.
    fn write_tail(
        &mut self,
        tail: Vec<Vec<u8>>,
        marks: &Marks,
        (balance, miscounted): (Balance, Miscounted),
        out: &mut dyn Write,
    ) -> Result<Option<BalanceNote>, DeferredWriteError> {
        let [_, _, (_, closes)] = marks.standard.envelope();
        let mut dropped = Vec::new();
        let place = marks.standard.control_of_message();
        let control = self.opened.value(place, 1).to_owned();
        let mut is_elsewhere = false;
        for raw in tail {
            let segment = Segment::parse(&raw, marks);
            is_elsewhere = self.is_elsewhere(&segment, closes, is_elsewhere);
            if is_elsewhere {
                continue;
            }
            let known = self
                .layout
                .as_ref()
                .and_then(|layout| layout.balance.as_ref());
            let adjusts = known.is_some_and(|known| {
                known
                    .adjustments
                    .iter()
                    .any(|address| address.is_in(&segment))
            });
            if adjusts && self.is_cut() && balance == Balance::Recompute {
                dropped.push(String::from_utf8_lossy(raw.trim_ascii_end()).into_owned());
                continue;
            }
            self.segments += 1;
            let written = match segment.id == closes {
                true if miscounted == Miscounted::Keep && !self.is_cut() => raw,
                true => {
                    let values = [(1, 1, self.segments.to_string()), (2, 1, control.clone())];
                    with_values(&raw, marks, &values)
                }
                false => {
                    let raw = self.in_hierarchy(raw, marks);
                    self.with_totals(&raw, marks, balance)
                }
            };
            out.write_all(&written)?;
        }
        let Some(stated) = self.stated.filter(|_| self.is_cut()) else {
            return Ok(None);
        };
        if balance == Balance::Refuse && stated.compare(self.part.sum).is_ne() {
            return Err(EncodeError::Unbalanced {
                message: control,
                stated,
                sum: self.part.sum,
            }
            .into());
        }
        Ok(Some(BalanceNote {
            message: control,
            records: (self.part.records, self.all),
            stated,
            sum: self.part.sum,
            dropped,
            kept: balance == Balance::Keep,
        }))
    }
}
