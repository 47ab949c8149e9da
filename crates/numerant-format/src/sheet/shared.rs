//! Texts that the cells of a workbook share: those that are written, and those that were read.

use numerant_data::narrow::to_u32;
use std::hash::{BuildHasher, Hasher};

use hashbrown::HashTable;

/// The table of shared texts.
#[derive(Default)]
pub struct SharedTexts {
    text: String,
    /// Where each text ends.
    ends: Vec<usize>,
    table: HashTable<u32>,
    uses: u64,
    memory: usize,
    longest: usize,
    hasher: foldhash::fast::FixedState,
}

impl SharedTexts {
    /// A table that may take `memory` bytes, of texts of at most `longest` bytes.
    pub fn new(memory: usize, longest: usize) -> Self {
        Self {
            memory,
            longest,
            ..Self::default()
        }
    }

    /// How many texts there are.
    pub fn len(&self) -> usize {
        self.ends.len()
    }

    /// How many cells hold one.
    pub fn uses(&self) -> u64 {
        self.uses
    }

    /// The texts, in the order of their numbers.
    pub fn texts(&self) -> impl Iterator<Item = &str> {
        let starts = std::iter::once(0).chain(self.ends.iter().copied());
        starts
            .zip(&self.ends)
            .map(|(start, end)| &self.text[start..*end])
    }

    fn hash(&self, text: &str) -> u64 {
        let mut hasher = self.hasher.build_hasher();
        hasher.write(text.as_bytes());
        hasher.finish()
    }

    /// The number of a text in the table; `None` if that has no room for it.
    pub fn number(&mut self, text: &str) -> Option<u32> {
        if text.len() > self.longest {
            return None;
        }
        let hash = self.hash(text);
        let known = |ends: &[usize], number: u32| {
            let number = number as usize;
            let start = if number == 0 { 0 } else { ends[number - 1] };
            start..ends[number]
        };
        let found = self
            .table
            .find(hash, |number| {
                &self.text[known(&self.ends, *number)] == text
            })
            .copied();
        if let Some(number) = found {
            self.uses += 1;
            return Some(number);
        }
        if self.text.len() + self.ends.len() * 32 + text.len() > self.memory {
            return None;
        }
        let number = to_u32(self.ends.len());
        self.text.push_str(text);
        self.ends.push(self.text.len());
        let (ends, all, hasher) = (&self.ends, &self.text, &self.hasher);
        self.table.insert_unique(hash, number, |number| {
            let mut hasher = hasher.build_hasher();
            hasher.write(all[known(ends, *number)].as_bytes());
            hasher.finish()
        });
        self.uses += 1;
        Some(number)
    }
}

/// Shared texts.
#[derive(Debug, Default)]
pub struct Strings {
    bytes: Vec<u8>,
    /// Where each text ends.
    ends: Vec<usize>,
}

impl Strings {
    /// Adds a text.
    pub fn push(&mut self, text: &str) {
        self.bytes.extend_from_slice(text.as_bytes());
        self.ends.push(self.bytes.len());
    }

    /// The text with this number, from 0.
    #[inline]
    pub fn get(&self, number: usize) -> Option<&[u8]> {
        let end = *self.ends.get(number)?;
        let start = if number == 0 {
            0
        } else {
            self.ends[number - 1]
        };
        Some(&self.bytes[start..end])
    }

    /// How many texts there are.
    pub fn len(&self) -> usize {
        self.ends.len()
    }

    /// Bytes that it takes.
    pub fn size(&self) -> usize {
        self.bytes.len() + self.ends.len() * size_of::<usize>()
    }
}
