//! Records that are like one before them, but for their values, are read without a parser: what
//! is between the values is compared, and the values are looked for where it ends.
//!
//! A record that differs in anything, be it white space, is left to the parser. So is a text with an
//! escape in it. The formats say what a plain value is.

use super::Leaf;
use numerant_data::narrow::to_u32;

/// Likenesses that are remembered.
const MOST: usize = 8;

/// What is between the values of a record.
#[derive(Debug)]
struct RecordPattern {
    /// Before each value.
    before: Vec<Box<[u8]>>,
    /// Behind the last.
    behind: Box<[u8]>,
    /// Line ends among that.
    lines: u64,
}

/// The records that are remembered.
#[derive(Debug, Default)]
pub struct RecordPatterns {
    known: Vec<RecordPattern>,
    /// The one that the record before was like.
    latest: usize,
    /// The one that is forgotten next.
    oldest: usize,
}

impl RecordPatterns {
    /// Remembers a record with values at these places.
    pub fn remember(&mut self, record: &[u8], values: &[(u32, u32)]) -> usize {
        let mut from = 0;
        let mut before = Vec::with_capacity(values.len());
        for (start, end) in values {
            before.push(record[from..*start as usize].into());
            from = *end as usize;
        }
        let pattern = RecordPattern {
            before,
            behind: record[from..].into(),
            lines: memchr::memchr_iter(b'\n', record).count() as u64,
        };
        if self.known.len() < MOST {
            self.known.push(pattern);
            self.latest = self.known.len() - 1;
        } else {
            self.known[self.oldest] = pattern;
            self.latest = self.oldest;
            self.oldest = (self.oldest + 1) % MOST;
        }
        self.latest
    }

    /// The line ends of the records that are like one.
    pub fn lines(&self, place: usize) -> u64 {
        self.known[place].lines
    }

    /// Whether none is remembered.
    pub fn is_empty(&self) -> bool {
        self.known.is_empty()
    }

    /// Which of those the text begins with a record like, and how many bytes that takes. `value` finds
    /// the plain value that a text begins with, where what is after it begins with a byte: what it
    /// is, and how many bytes it takes.
    #[inline]
    pub fn find(
        &mut self,
        text: &[u8],
        leaves: &mut Vec<Leaf>,
        value: impl Fn(&[u8], u8) -> Option<(Leaf, usize)>,
    ) -> Option<(usize, usize)> {
        for turn in 0..self.known.len() {
            let place = (self.latest + turn) % self.known.len();
            if let Some(length) = self.known[place].fits(text, leaves, &value) {
                self.latest = place;
                return Some((place, length));
            }
        }
        None
    }
}

impl RecordPattern {
    #[inline]
    fn fits(
        &self,
        text: &[u8],
        leaves: &mut Vec<Leaf>,
        value: &impl Fn(&[u8], u8) -> Option<(Leaf, usize)>,
    ) -> Option<usize> {
        leaves.clear();
        let mut at = 0;
        for (place, before) in self.before.iter().enumerate() {
            if !text[at..].starts_with(before) {
                return None;
            }
            at += before.len();
            let behind = self.before.get(place + 1).unwrap_or(&self.behind);
            let (leaf, length) = value(&text[at..], behind.first().copied()?)?;
            leaves.push(Leaf {
                text: (leaf.text.0 + to_u32(at), leaf.text.1 + to_u32(at)),
                ..leaf
            });
            at += length;
        }
        text[at..]
            .starts_with(&self.behind)
            .then(|| at + self.behind.len())
    }
}
