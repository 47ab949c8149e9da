//! Merges runs: the least of their first records is the next.

use std::fs::File;
use std::io::{self, Read};

use super::run::{RunFile, key_of, length_of};

/// Bytes of a run that are in memory at a time, at least: few enough for those of many runs to stay
/// in a processor's cache.
const BUFFER: usize = 1 << 16;

#[derive(Debug)]
pub(crate) struct Merge {
    sources: Vec<Source>,
    /// Places of sources that have records, a heap with the least in front.
    heap: Vec<usize>,
}

#[derive(Debug)]
struct Source {
    file: File,
    buffer: Vec<u8>,
    start: usize,
    filled: usize,
    /// Bytes of the record that is next; 0 at the end.
    length: usize,
    /// The first bytes of its key, which tell most records apart.
    prefix: u128,
    at_end: bool,
}

impl Source {
    fn record(&self) -> &[u8] {
        &self.buffer[self.start..self.start + self.length]
    }

    /// Makes the next record ready; `false` at the end.
    fn advance(&mut self) -> io::Result<bool> {
        self.start += self.length;
        loop {
            let there = &self.buffer[self.start..self.filled];
            let length = length_of(there);
            if let Some(length) = length.filter(|length| *length <= there.len()) {
                self.length = length;
                let key = key_of(&there[..length]);
                let mut prefix = [0; 16];
                let known = key.len().min(16);
                prefix[..known].copy_from_slice(&key[..known]);
                self.prefix = u128::from_be_bytes(prefix);
                return Ok(true);
            }
            if self.at_end {
                self.length = 0;
                return Ok(false);
            }
            self.buffer.copy_within(self.start..self.filled, 0);
            self.filled -= self.start;
            self.start = 0;
            let wanted = length.unwrap_or(0).max(BUFFER);
            if self.buffer.len() < wanted {
                self.buffer.resize(wanted, 0);
            }
            while self.filled < self.buffer.len() {
                let read = self.file.read(&mut self.buffer[self.filled..])?;
                if read == 0 {
                    self.at_end = true;
                    break;
                }
                self.filled += read;
            }
        }
    }
}

impl Merge {
    pub(super) fn new(files: Vec<RunFile>) -> io::Result<Self> {
        let mut sources = Vec::new();
        for RunFile { file } in files {
            let mut source = Source {
                file,
                buffer: Vec::new(),
                start: 0,
                filled: 0,
                length: 0,
                prefix: 0,
                at_end: false,
            };
            source.advance()?;
            sources.push(source);
        }
        let heap = (0..sources.len())
            .filter(|place| sources[*place].length > 0)
            .collect();
        let mut merge = Self { sources, heap };
        for place in (0..merge.heap.len() / 2).rev() {
            merge.sift_down(place);
        }
        Ok(merge)
    }

    /// The next record, packed.
    pub(super) fn next(&self) -> io::Result<Option<&[u8]>> {
        Ok(self.heap.first().map(|place| self.sources[*place].record()))
    }

    /// Leaves the next record after.
    pub(super) fn advance(&mut self) -> io::Result<()> {
        let Some(first) = self.heap.first().copied() else {
            return Ok(());
        };
        if !self.sources[first].advance()? {
            self.heap.swap_remove(0);
        }
        self.sift_down(0);
        Ok(())
    }

    /// Whether the record of one run comes before that of another. Runs are in the order of the
    /// source, so among equal records the earlier run comes first.
    fn before(&self, one: usize, other: usize) -> bool {
        let (first, second) = (&self.sources[one], &self.sources[other]);
        if first.prefix != second.prefix {
            return first.prefix < second.prefix;
        }
        key_of(first.record())
            .cmp(key_of(second.record()))
            .then_with(|| one.cmp(&other))
            .is_lt()
    }

    fn sift_down(&mut self, from: usize) {
        let mut place = from;
        loop {
            let mut least = place;
            for child in [2 * place + 1, 2 * place + 2] {
                if child < self.heap.len() && self.before(self.heap[child], self.heap[least]) {
                    least = child;
                }
            }
            if least == place {
                return;
            }
            self.heap.swap(place, least);
            place = least;
        }
    }
}
