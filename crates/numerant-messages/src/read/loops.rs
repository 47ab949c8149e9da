//! The loops that are open around records.
//!
//! # Invariants
//!
//! No segment is lost: a loop that ends before a record has come stays open with the loops that it is in, so
//! that it goes with the records after it, or with the tail if there are none.

use std::collections::HashMap;
use std::io;

use crate::layout::Layout;
use crate::marks::Marks;
use crate::names::{Found, Names};
use crate::segments::{id_of, with_values};
use crate::slots::is_called;
use crate::stream::{bytes_at, segments_in};
use numerant_data::source::SharedFile;
use numerant_data::tree::Paths;

/// What opens a loop: its segment and those after it, before the first record or the next loop.
#[derive(Clone, Debug)]
struct OpenLoop {
    from: u64,
    to: u64,
    segments: u64,
    /// Its number among the loops of the layout, the outermost first.
    level: usize,
    /// What a hierarchy calls it, and the one that it is in.
    id: String,
    parent: String,
    /// A record has come in it.
    is_used: bool,
}

/// The loops that are open, from the outermost on.
#[derive(Clone, Debug, Default)]
pub(super) struct OpenLoops {
    open: Vec<OpenLoop>,
    /// Segments that come now belong to the innermost.
    is_opening: bool,
    /// All levels of a hierarchy so far, by what they are called: one can be in any that came before.
    levels: HashMap<String, OpenLoop>,
}

impl OpenLoops {
    /// Opens a loop with a segment. `place` has its identifier in a hierarchy and that of the loop it is in.
    pub(super) fn begin(&mut self, level: usize, place: (String, String), span: (u64, u64)) {
        let (id, parent) = place;
        let within = self
            .open
            .iter()
            .rposition(|open| !parent.is_empty() && open.id == parent);
        let beside = || self.open.iter().position(|open| open.level >= level);
        let at = match within {
            Some(parent) => parent + 1,
            None => beside().unwrap_or(self.open.len()),
        };
        let ended = self.open.split_off(at);
        let mut stays = vec![false; ended.len()];
        for (place, open) in ended.iter().enumerate().rev() {
            let holds = |(inner, stays): (&OpenLoop, &bool)| {
                *stays
                    && (inner.level > open.level
                        || (!open.id.is_empty() && inner.parent == open.id))
            };
            let behind = ended[place + 1..].iter().zip(&stays[place + 1..]);
            stays[place] = !open.is_used || behind.into_iter().any(holds);
        }
        let left = ended.into_iter().zip(stays).filter(|(_, stays)| *stays);
        self.open.extend(left.map(|(open, _)| open));
        self.open_above(&parent);
        self.open.push(OpenLoop {
            from: span.0,
            to: span.1,
            segments: 1,
            level,
            id,
            parent,
            is_used: false,
        });
        self.is_opening = true;
        if let Some(open) = self.open.last().filter(|open| !open.id.is_empty()) {
            self.levels.insert(open.id.clone(), open.clone());
        }
    }

    /// Where the level with this name is among those that are open.
    fn position(&self, id: &str) -> Option<usize> {
        let is_it = |open: &OpenLoop| !id.is_empty() && open.id == id;
        self.open.iter().rposition(is_it)
    }

    /// Opens a level that was closed, and those that it is in.
    fn open_above(&mut self, id: &str) {
        let mut above = Vec::new();
        let mut id = id.to_owned();
        while self.position(&id).is_none()
            && let Some(level) = self.levels.remove(&id)
        {
            id.clone_from(&level.parent);
            above.push(level);
        }
        for mut level in above.into_iter().rev() {
            level.is_used = true;
            self.levels.insert(level.id.clone(), level.clone());
            self.open.push(level);
        }
    }

    /// Takes a segment that ends there into the innermost loop, if it is before the records in it.
    pub(super) fn take(&mut self, end: u64) -> bool {
        match self.open.last_mut().filter(|_| self.is_opening) {
            Some(open) => {
                open.to = end;
                open.segments += 1;
                if let Some(level) = self.levels.get_mut(&open.id) {
                    level.to = end;
                }
                true
            }
            None => false,
        }
    }

    /// A record begins; how many segments open the loops of which it is the first.
    pub(super) fn record(&mut self) -> u64 {
        let segments = self.unused_segments();
        self.is_opening = false;
        for open in &mut self.open {
            open.is_used = true;
        }
        segments
    }

    /// Where what opens each loop is, from and to.
    pub(super) fn spans(&self) -> Vec<(u64, u64)> {
        self.open.iter().map(|open| (open.from, open.to)).collect()
    }

    /// How many segments open the loops in which no record has come.
    pub(super) fn unused_segments(&self) -> u64 {
        let unused = self.open.iter().filter(|open| !open.is_used);
        unused.map(|open| open.segments).sum()
    }

    /// Where the first loop begins in which no record has come.
    pub(super) fn unused(&self) -> Option<u64> {
        let unused = self.open.iter().filter(|open| !open.is_used);
        unused.map(|open| open.from).min()
    }
}

/// What opens the loops around records, where it is compared with them.
pub(super) struct ComparedLoops {
    names: Names,
    spans: Vec<(u64, u64)>,
    /// The segments in those spans.
    segments: Vec<Vec<u8>>,
}

impl ComparedLoops {
    pub(super) fn new() -> Self {
        Self {
            names: Names::prefixed("loop "),
            spans: Vec::new(),
            segments: Vec::new(),
        }
    }

    /// Adds what opens the loops in these spans of the file. Numbers of levels are left out, as they are others
    /// in each part.
    pub(super) fn find(
        &mut self,
        spans: &[(u64, u64)],
        file: &SharedFile,
        (marks, layout): (&Marks, Option<&Layout>),
        paths: &mut Paths,
        found: &mut Found,
    ) -> io::Result<()> {
        if self.spans != spans {
            self.segments.clear();
            for (from, to) in spans {
                let segments = segments_in(&bytes_at(file, *from, *to)?, *marks)?;
                self.segments.extend(segments);
            }
            if let Some(hierarchy) = layout.and_then(|layout| layout.hierarchy.as_ref()) {
                let numbers = [(1, 1, String::new()), (2, 1, String::new())];
                for raw in &mut self.segments {
                    if is_called(id_of(raw, marks), hierarchy) {
                        *raw = with_values(raw, marks, &numbers);
                    }
                }
            }
            self.spans = spans.to_vec();
        }
        for raw in &self.segments {
            let how = (marks, false);
            self.names.find(raw, None, how, paths, found);
        }
        Ok(())
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn begin(loops: &mut OpenLoops, level: usize, id: &str, parent: &str, at: u64) {
        loops.begin(level, (id.to_owned(), parent.to_owned()), (at, at + 1));
    }

    fn starts(loops: &OpenLoops) -> Vec<u64> {
        loops.spans().into_iter().map(|(from, _)| from).collect()
    }

    #[test]
    fn loops_without_records_stay_until_one_comes() {
        let mut loops = OpenLoops::default();
        begin(&mut loops, 0, "", "", 1);
        begin(&mut loops, 0, "", "", 2);
        assert_eq!(starts(&loops), [1, 2]);
        loops.record();
        begin(&mut loops, 0, "", "", 3);
        assert_eq!(starts(&loops), [3]);
        assert!(loops.take(9));
        assert_eq!(loops.spans(), [(3, 9)]);
        loops.record();
        assert!(!loops.take(12));
        begin(&mut loops, 0, "", "", 15);
        assert_eq!(loops.unused(), Some(15));
    }

    #[test]
    fn a_hierarchy_keeps_its_parents() {
        let mut loops = OpenLoops::default();
        begin(&mut loops, 0, "1", "", 1);
        begin(&mut loops, 0, "2", "1", 2);
        loops.record();
        begin(&mut loops, 0, "3", "1", 3);
        assert_eq!(starts(&loops), [1, 3]);
        // The third has none, and goes with the records of the fourth, as its child would.
        begin(&mut loops, 0, "4", "3", 4);
        begin(&mut loops, 0, "5", "1", 5);
        assert_eq!(starts(&loops), [1, 3, 4, 5]);
        loops.record();
        begin(&mut loops, 0, "6", "", 6);
        assert_eq!(starts(&loops), [6]);
    }
}
