//! Goes through envelopes and messages, segment by segment, and tells where records begin and end.

use std::sync::Arc;

use super::loops::OpenLoops;
use super::{EdiTrees, Envelope, KINDS, KindOfMessage, Message, Open};
use crate::frame::{End, Tail};
use crate::layout::{Address, Layout};
use crate::marks::{Marks, Standard};
use crate::options::Miscounted;
use crate::roles::{Finder, Role, Roles};
use crate::segments::{Segment, amount, id_of};
use crate::stream::SegmentError;
use numerant_data::source::{Place, ReadError, ReadProblem};
use numerant_data::tree::TOP;
use numerant_data::value::Number;
use numerant_format::SegmentCounts;

impl EdiTrees {
    /// Takes note of a segment that opens or closes an interchange or group, or opens a message.
    pub(super) fn take_envelope(
        &mut self,
        segment: &Segment,
        marks: Marks,
    ) -> Result<(), ReadError> {
        let [
            (opens, closes),
            (opens_group, closes_group),
            (opens_message, _),
        ] = marks.standard.envelope();
        let offset = self.segments.offset();
        let id = segment.id.as_str();
        if id == "UNA" && marks.standard == Standard::Edifact {
            self.envelope.advice = Some(offset);
            return Ok(());
        }
        if id == opens {
            if self.envelope.interchange.is_some() {
                return Err(self.wrong(format!("{opens} within an interchange that is not closed")));
            }
            let offset = self.envelope.advice.take().unwrap_or(offset);
            self.envelope = Envelope {
                interchange: Some(offset),
                interchange_segment: Some((segment.clone(), self.segments.raw().to_vec())),
                ..Envelope::default()
            };
            return Ok(());
        }
        let Some(interchange) = self.envelope.interchange else {
            return Err(self.wrong(format!("{id} is outside of an interchange")));
        };
        if id == opens_group {
            if self.envelope.group.is_some() {
                return Err(self.wrong(format!("{id} within a group that is not closed")));
            }
            self.envelope.group = Some(offset);
            self.envelope.group_segment = Some((segment.clone(), self.segments.raw().to_vec()));
            self.envelope.groups += 1;
            self.envelope.in_group = 0;
            return Ok(());
        }
        if id == closes_group {
            let control = self.envelope.group_segment.take();
            let place = marks.standard.control_of_group();
            let control = control.map(|(segment, _)| segment.value(place, 1).trim().to_owned());
            let count = self.envelope.in_group;
            self.expect(
                segment,
                1,
                &count.to_string(),
                "the messages of the group are",
            )?;
            self.expect(
                segment,
                2,
                &control.unwrap_or_default(),
                "the group has the number",
            )?;
            if let Some(group) = self.envelope.group.take() {
                self.ends(group, count);
            }
            return Ok(());
        }
        if id == closes {
            let count = match (marks.standard, self.envelope.groups) {
                (Standard::Edifact, 0) => self.envelope.messages,
                (_, groups) => groups,
            };
            self.expect(segment, 1, &count.to_string(), "there are")?;
            let control = self.envelope.interchange_segment.take();
            let place = marks.standard.control_of_interchange();
            let control = control.map(|(segment, _)| segment.value(place, 1).trim().to_owned());
            self.expect(
                segment,
                2,
                &control.unwrap_or_default(),
                "the interchange has the number",
            )?;
            self.ends(interchange, count);
            self.envelope = Envelope::default();
            return Ok(());
        }
        if id == opens_message {
            let kind = segment.kind(marks.standard).to_owned();
            let layout = self
                .layouts
                .of(marks.standard, &kind)
                .filter(|_| !self.whole)
                .cloned();
            if layout.is_none() && self.source.by_layout && !self.whole {
                let standard = marks.standard.name();
                let place = Place::record(self.number + 1);
                return Err(self
                    .path
                    .error_at(place, ReadProblem::NoLayout { standard, kind }));
            }
            self.fact(&kind, layout.as_deref()).messages += 1;
            self.early(&kind);
            self.envelope.messages += 1;
            self.envelope.in_group += 1;
            self.kind = self.kind_of(layout.as_ref(), marks);
            let mut message = Message {
                layout,
                kind,
                offset,
                opened: segment.clone(),
                opened_raw: self.segments.raw().to_vec(),
                head: Vec::new(),
                head_end: None,
                loops: OpenLoops::default(),
                tail: None,
                record: None,
                segments: 1,
                counts: SegmentCounts::default(),
                records: 0,
                stated: None,
                found: Number::ZERO,
            };
            if message.layout.is_none() {
                let raw = self.segments.raw();
                let roles = &mut self.kinds[self.kind].roles;
                let role = roles.of(raw, None, &marks, &self.names);
                self.segments.hold();
                let mut open = Open::default();
                open.push(self.segments.place_in_held(), role);
                message.record = Some(open);
            } else {
                message.counts.heads = 1;
            }
            self.counts.envelopes -= 1;
            self.message = Some(message);
            return Ok(());
        }
        Err(self.wrong(format!("{id} is outside of a message")))
    }

    /// The number of a kind of message.
    pub(super) fn kind_of(&mut self, layout: Option<&Arc<Layout>>, marks: Marks) -> usize {
        let is = |kind: &KindOfMessage| kind.layout.as_ref() == layout && kind.marks == marks;
        if let Some(known) = self.kinds.iter().position(is) {
            return known;
        }
        if self.kinds.len() == KINDS {
            self.kinds.clear();
        }
        self.kinds.push(KindOfMessage {
            layout: layout.cloned(),
            marks,
            roles: Roles::default(),
            finder: Finder::new(layout.map(Arc::as_ref), &marks, &self.names),
        });
        self.kinds.len() - 1
    }

    /// Takes note of where an interchange or group ends that began at `from`, with so many in it.
    pub(super) fn ends(&self, from: u64, count: u64) {
        if self.source.miscounted == Miscounted::Keep
            && let Ok(mut ends) = self.source.ends.lock()
        {
            let offset = self.segments.offset();
            ends.insert(from, End { offset, count });
        }
    }

    /// Takes a segment of the open message; whether a record is complete, in front of it.
    #[inline]
    pub(super) fn take(&mut self, marks: &Marks) -> Result<bool, ReadError> {
        let Some(message) = &mut self.message else {
            return Ok(false);
        };
        let raw = self.segments.raw();
        let roles = &mut self.kinds[self.kind].roles;
        let role = roles.of(raw, message.layout.as_deref(), marks, &self.names);
        self.take_other(role, marks)
    }

    /// Passes over the segments that are parts of the record that is open and nothing else; whether another one
    /// was read, and which.
    #[inline]
    pub(super) fn pass(&mut self, marks: &Marks) -> Result<Option<Role>, SegmentError> {
        let Some(message) = &mut self.message else {
            return Ok(None);
        };
        let Some(open) = &mut message.record else {
            return Ok(None);
        };
        let before = open.segments;
        let mut other = None;
        let KindOfMessage { roles, finder, .. } = &mut self.kinds[self.kind];
        loop {
            if let Some(finder) = finder {
                open.segments += self.segments.skip(finder, marks);
            }
            if !self.segments.next_inside(marks)? {
                break;
            }
            let raw = self.segments.raw();
            let layout = message.layout.as_deref();
            let role = roles.of(raw, layout, marks, &self.names);
            if !role.plain {
                other = Some(role);
                break;
            }
            open.push(self.segments.place_in_held(), role);
        }
        message.segments += open.segments - before;
        Ok(other)
    }

    pub(super) fn take_other(&mut self, role: Role, marks: &Marks) -> Result<bool, ReadError> {
        let (offset, end) = (self.segments.offset(), self.segments.end());
        let Some(message) = &mut self.message else {
            return Ok(false);
        };
        let raw = self.segments.raw();
        if role.envelope {
            let [_, _, (_, closes)] = marks.standard.envelope();
            let what = format!(
                "{} within a message that no {closes} has closed",
                String::from_utf8_lossy(id_of(raw, marks))
            );
            return Err(self.wrong(what));
        }
        let small = role
            .small
            .then(|| String::from_utf8_lossy(id_of(raw, marks)).into_owned());
        let Some(layout) = &message.layout else {
            message.segments += 1;
            if let Some(open) = &mut message.record {
                open.push(self.segments.place_in_held(), role);
            }
            if let Some(small) = small {
                self.small(&small);
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
                let text = address.value_in(raw, marks);
                text.and_then(|text| amount(&text, marks))
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
            // Loops in which no record has come go with what is after the records.
            let unused = message.loops.unused();
            if message.tail.is_none() {
                message.counts.tails += message.loops.unused_segments();
            }
            message.tail.get_or_insert(unused.unwrap_or(offset));
            message.counts.tails += 1;
        } else if is_loop {
            let (level, place) = layout.loop_of(raw, marks);
            message.loops.begin(level, place, (offset, end));
        } else if is_record {
            message.counts.loops += message.loops.record();
            self.segments.hold();
            let mut open = std::mem::take(&mut self.spare);
            open.segments = 0;
            open.marked.clear();
            open.push(self.segments.place_in_held(), role);
            message.record = Some(open);
        } else if let Some(open) = &mut message.record {
            open.push(self.segments.place_in_held(), role);
        } else if message.loops.take(end) {
            // What opens a loop goes with its records.
        } else {
            message.counts.heads += 1;
            if role.head && role.wanted || self.compared.is_some() {
                message.head.push(raw.to_vec());
            }
        }
        if let Some(small) = small {
            self.small(&small);
        }
        if role.ends {
            self.close(marks)?;
        }
        Ok(false)
    }

    /// A message ends with the segment that was read last.
    pub(super) fn close(&mut self, marks: &Marks) -> Result<(), ReadError> {
        let Some(message) = self.message.take() else {
            return Ok(());
        };
        let segment = Segment::parse(self.segments.raw(), marks);
        if let Ok(mut tails) = self.source.tails.lock() {
            tails.push(Tail {
                from: message.tail.unwrap_or_else(|| self.segments.offset()),
                to: self.segments.end(),
                records: message.records,
            });
        }
        let is_left_out = message.records == 0 && message.layout.is_some();
        self.counts.add(if is_left_out {
            SegmentCounts {
                left_out: message.segments,
                ..SegmentCounts::default()
            }
        } else {
            message.counts
        });
        let segments = message.segments.to_string();
        self.expect(&segment, 1, &segments, "the segments of the message are")?;
        let control = message.opened.value(marks.standard.control_of_message(), 1);
        self.expect(&segment, 2, control, "the message has the number")?;
        if is_left_out {
            // Nothing of it is in any record, nor around one.
            let name = format!("{} message {control} without records", message.kind);
            let place = self.beside.child(TOP, Some(&name));
            (0..message.segments).for_each(|_| self.beside.value(place));
        }
        let (stated, found) = (message.stated, message.found);
        let fact = self.fact(&message.kind, message.layout.as_deref());
        fact.records += message.records;
        if let (Some(all), Some(sum), Some(stated)) = (&mut fact.stated, &mut fact.found, stated) {
            *all = all.plus(stated).unwrap_or(*all);
            *sum = sum.plus(found).unwrap_or(*sum);
            if stated.compare(found).is_ne() {
                fact.unbalanced += 1;
                let text =
                    format!("message {control} states {stated}, and its records add up to {found}");
                fact.first.get_or_insert(text);
            }
        }
        self.messages += 1;
        Ok(())
    }
}
