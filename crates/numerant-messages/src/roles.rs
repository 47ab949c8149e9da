//! What segments are in their message.

use std::collections::BTreeSet;

use aho_corasick::Span;
use aho_corasick::packed::{Config, MatchKind, Searcher};

use super::layout::Layout;
use super::marks::Marks;
use super::names::Names;
use super::segments::id_of;
use super::slots::{Slots, is_called, key_of};

/// What a segment of a message is, by its layout and by the envelope.
#[derive(Clone, Copy, Default)]
pub(super) struct Role {
    /// It has no role of its own: it is a part of what is open, and may be skipped.
    pub(super) plain: bool,
    /// It opens or closes what stands around messages, or opens one.
    pub(super) envelope: bool,
    /// It closes the message.
    pub(super) ends: bool,
    pub(super) record: bool,
    pub(super) looped: bool,
    pub(super) tail: bool,
    pub(super) head: bool,
    /// It states the total or an adjustment of it.
    pub(super) balances: bool,
    /// It holds what a record adds to the total.
    pub(super) adds: bool,
    /// Its name includes its qualifier.
    pub(super) qualified: bool,
    /// Any of its elements is a column that is wanted.
    pub(super) wanted: bool,
    /// Its name is not written in capitals, and it is more than a part of what is open.
    pub(super) small: bool,
}

impl Role {
    fn of(id: &[u8], layout: Option<&Layout>, marks: &Marks, names: &Names) -> Self {
        let [
            (interchange, interchange_end),
            (group, group_end),
            (opens, closes),
        ] = marks.standard.envelope();
        let envelope = [opens, interchange, interchange_end, group, group_end];
        let called = |known: &str| is_called(id, known);
        let role = Self {
            envelope: envelope.into_iter().any(called),
            ends: called(closes),
            wanted: names.wants(id),
            ..Self::default()
        };
        let small = id.iter().any(u8::is_ascii_lowercase);
        let Some(layout) = layout else {
            let plain = !role.envelope && !role.ends;
            return Self {
                plain,
                small: small && !plain,
                ..role
            };
        };
        let is = |known: &String| called(known);
        let balance = layout.balance.as_ref();
        let role = Self {
            record: is(&layout.record),
            looped: layout.loops.iter().any(is),
            tail: role.ends || layout.tail.iter().any(is),
            head: layout.head.iter().any(is),
            balances: balance.is_some_and(|balance| {
                let mut all = balance.adjustments.iter().chain([&balance.total]);
                all.any(|address| address.is_in_any(id))
            }),
            adds: balance.is_some_and(|balance| balance.records.is_in_any(id)),
            qualified: layout.qualified.iter().any(is),
            ..role
        };
        let part = !role.envelope && !role.record && !role.looped && !role.tail;
        let plain = part && !role.head && !role.balances;
        Self {
            plain,
            small: small && !plain,
            ..role
        }
    }
}

/// Finds the segments that are more than parts of what is open, so that those between are not looked at.
#[derive(Debug)]
pub(super) struct Finder(Searcher);

impl Finder {
    /// What finds the segments of messages of a layout that have a role, or that are named; nothing if there are
    /// too many of them.
    pub(super) fn new(layout: Option<&Layout>, marks: &Marks, names: &Names) -> Option<Self> {
        let wanted = names.ids()?;
        if marks.segment.is_ascii_whitespace() {
            return None;
        }
        let envelope = marks.standard.envelope();
        let mut ids: BTreeSet<&str> = envelope.into_iter().flat_map(|(a, b)| [a, b]).collect();
        ids.extend(wanted.iter().map(String::as_str));
        if let Some(layout) = layout {
            let all = layout.loops.iter().chain(&layout.tail).chain(&layout.head);
            ids.extend(all.chain([&layout.record]).map(String::as_str));
            let balance = layout.balance.as_ref();
            ids.extend(balance.into_iter().flat_map(|balance| {
                let all = balance.adjustments.iter();
                all.chain([&balance.total, &balance.records])
                    .map(|address| address.segment.as_str())
            }));
        }
        let patterns = ids.into_iter().flat_map(|id| {
            let small = id.to_ascii_lowercase();
            [marks.element, marks.segment]
                .into_iter()
                .flat_map(move |end| {
                    [
                        [id.as_bytes(), &[end]].concat(),
                        [small.as_bytes(), &[end]].concat(),
                    ]
                })
        });
        let mut config = Config::new();
        config.match_kind(MatchKind::LeftmostFirst);
        let searcher = config.builder().extend(patterns).build();
        searcher.map(Self)
    }

    /// Where the next of them begins and its name ends, from a place on.
    #[inline]
    pub(super) fn find(&self, bytes: &[u8], from: usize) -> Option<(usize, usize)> {
        let found = self.0.find_in(bytes, Span::from(from..bytes.len()))?;
        Some((found.start(), found.end()))
    }
}

/// The roles of the segments of messages of one layout, by their names.
#[derive(Default)]
pub(super) struct Roles(Slots<Role>);

impl Roles {
    /// The role of a segment. Layout, marks and names have to be the same each time.
    #[inline]
    pub(super) fn of(
        &mut self,
        raw: &[u8],
        layout: Option<&Layout>,
        marks: &Marks,
        names: &Names,
    ) -> Role {
        let key = key_of(raw, marks);
        if let Some(role) = self.0.get(key) {
            return role;
        }
        let role = Role::of(id_of(raw, marks), layout, marks, names);
        self.0.put(key, role);
        role
    }
}

#[cfg(test)]
mod tests {
    use super::super::layout::Layouts;
    use super::super::marks::Standard;
    use super::super::slots::NO_KEY;
    use super::*;

    #[test]
    fn names_of_segments_are_told_apart() {
        let marks = Marks::found(b"UNB+UNOA:1+A+B'").expect("marks");
        let all: [&[u8]; 7] = [
            b"+",
            b"A+",
            b"\0A+",
            b"ST'",
            b"STX+1",
            b"ABCDEFG+1",
            b"ABCDEF+12",
        ];
        for (place, one) in all.iter().enumerate() {
            for (other, two) in all.iter().enumerate() {
                let same = key_of(one, &marks) == key_of(two, &marks);
                assert_eq!(same, place == other, "{place} {other}");
            }
            let mut longer = one.to_vec();
            longer.extend_from_slice(b"more than eight");
            assert_eq!(key_of(&longer, &marks), key_of(one, &marks), "{place}");
        }
        assert_eq!(key_of(b"ABCDEFGHI+1", &marks), NO_KEY);
    }

    #[test]
    fn roles_are_the_same_when_they_are_remembered() {
        let marks = Marks::found(b"UNB+UNOA:1+A+B'").expect("marks");
        let layouts = Layouts::read(&[]).expect("layouts");
        let layout = layouts.of(Standard::Edifact, "REMADV").expect("a layout");
        let (mut roles, names) = (Roles::default(), Names::default());
        for _ in 0..2 {
            let mut of = |raw: &[u8]| roles.of(raw, Some(layout), &marks, &names);
            assert!(of(b"DOC+380+1'").record && !of(b"DOC+380+1'").plain);
            assert!(of(b"doc+380+1'").record && of(b"doc+380+1'").small);
            assert!(of(b"UNT+5+1'").ends && of(b"UNT+5+1'").tail);
            assert!(of(b"UNH+5+1'").envelope && of(b"FTX+AAI'").plain);
            assert!(of(b"ABCDEFGHI+1'").plain);
        }
    }
}
