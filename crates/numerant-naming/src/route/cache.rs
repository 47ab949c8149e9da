//! Remembers which number the raw bytes of a key represent.
//!
//! Short keys, which nearly all are, are looked up by themselves: up to sixteen bytes fit two
//! words, and two words and a length are compared faster than a slice. Longer ones are kept in an
//! arena.

use std::hash::{BuildHasher, Hasher};

use foldhash::fast::FixedState;
use hashbrown::HashTable;

/// Bytes of keys that are remembered at most. Keys that never come again (a part of a time stamp,
/// say) would fill any memory; past this the cache starts anew.
const LARGEST: usize = 8 << 20;

/// A key longer than this is looked up the slow way each time.
const LONGEST_KEY: usize = 4096;

/// Places for short keys. A key that finds its place taken takes it over.
const PLACES: usize = 1 << 12;

#[derive(Debug)]
pub(super) struct RawCache {
    short: Box<[Short; PLACES]>,
    arena: Vec<u8>,
    table: HashTable<Entry>,
}

/// A key of up to sixteen bytes.
#[derive(Clone, Copy, Debug, Default)]
struct Short {
    words: (u64, u64),
    /// Its length plus one; zero for nobody.
    mark: u32,
    group: u32,
}

#[derive(Clone, Copy, Debug)]
struct Entry {
    start: u32,
    length: u32,
    group: u32,
}

impl Default for RawCache {
    fn default() -> Self {
        Self {
            short: Box::new([Short::default(); PLACES]),
            arena: Vec::new(),
            table: HashTable::new(),
        }
    }
}

/// Hashes with a fixed seed: runs are to be the same, and keys come from the user's own files.
pub(super) fn hash(feed: impl FnOnce(&mut foldhash::fast::FoldHasher<'_>)) -> u64 {
    let state = FixedState::with_seed(0x6e75_6d65);
    let mut hasher = state.build_hasher();
    feed(&mut hasher);
    hasher.finish()
}

#[inline]
fn hash_bytes(raw: &[u8]) -> u64 {
    hash(|hasher| hasher.write(raw))
}

/// The bytes of a short key as two words; with its length they are the key. `None` if it is long.
#[inline(always)]
fn words(raw: &[u8]) -> Option<(u64, u64)> {
    // The two reads may overlap; with the length they still tell all bytes.
    if let (Some(first), Some(last)) = (raw.first_chunk::<8>(), raw.last_chunk::<8>()) {
        let both = (u64::from_le_bytes(*first), u64::from_le_bytes(*last));
        return (raw.len() <= 16).then_some(both);
    }
    if let (Some(first), Some(last)) = (raw.first_chunk::<4>(), raw.last_chunk::<4>()) {
        return Some((
            u32::from_le_bytes(*first).into(),
            u32::from_le_bytes(*last).into(),
        ));
    }
    let word = raw
        .iter()
        .fold(0, |word, byte| word << 8 | u64::from(*byte));
    Some((word, 0))
}

#[inline(always)]
fn place((first, last): (u64, u64), length: usize) -> usize {
    let mixed = (first ^ last.rotate_left(29) ^ length as u64).wrapping_mul(0x9e37_79b9_7f4a_7c15);
    (mixed >> (64 - PLACES.trailing_zeros())) as usize
}

impl RawCache {
    pub(super) fn clear(&mut self) {
        self.short.fill(Short::default());
        self.clear_long();
    }

    fn clear_long(&mut self) {
        self.arena.clear();
        self.table.clear();
    }

    #[inline(always)]
    pub(super) fn get(&self, raw: &[u8]) -> Option<u32> {
        if let Some(words) = words(raw) {
            let short = &self.short[place(words, raw.len()) & (PLACES - 1)];
            if short.mark as usize == raw.len() + 1 && short.words == words {
                return Some(short.group);
            }
        }
        self.get_long(raw)
    }

    #[inline(never)]
    fn get_long(&self, raw: &[u8]) -> Option<u32> {
        let arena = &self.arena;
        let same = |entry: &Entry| {
            let start = entry.start as usize;
            arena[start..start + entry.length as usize] == *raw
        };
        self.table
            .find(hash_bytes(raw), same)
            .map(|entry| entry.group)
    }

    pub(super) fn insert(&mut self, raw: &[u8], group: u32) {
        if let Some(words) = words(raw) {
            let mark = raw.len() as u32 + 1;
            self.short[place(words, raw.len())] = Short { words, mark, group };
        }
        if raw.len() > LONGEST_KEY {
            return;
        }
        if self.arena.len() + raw.len() > LARGEST {
            self.clear_long();
        }
        let entry = Entry {
            start: self.arena.len() as u32,
            length: raw.len() as u32,
            group,
        };
        self.arena.extend_from_slice(raw);
        let arena = &self.arena;
        self.table.insert_unique(hash_bytes(raw), entry, |entry| {
            let start = entry.start as usize;
            hash_bytes(&arena[start..start + entry.length as usize])
        });
    }
}

/// Remembers the number that two numbers together represent.
#[derive(Debug)]
pub(super) struct PairCache {
    short: Box<[(u64, u32); PLACES]>,
    table: HashTable<(u64, u32)>,
}

impl Default for PairCache {
    fn default() -> Self {
        // Nothing is numbered u32::MAX, so these represent nobody.
        Self {
            short: Box::new([(u64::MAX, 0); PLACES]),
            table: HashTable::new(),
        }
    }
}

impl PairCache {
    pub(super) fn clear(&mut self) {
        self.short.fill((u64::MAX, 0));
        self.table.clear();
    }

    pub(super) fn len(&self) -> usize {
        self.table.len()
    }

    #[inline(always)]
    fn key(first: u32, second: u32) -> (u64, usize, u64) {
        let key = u64::from(first) << 32 | u64::from(second);
        let mixed = key.wrapping_mul(0x9e37_79b9_7f4a_7c15);
        (
            key,
            (mixed >> (64 - PLACES.trailing_zeros())) as usize,
            mixed.rotate_left(32),
        )
    }

    #[inline(always)]
    pub(super) fn get(&self, first: u32, second: u32) -> Option<u32> {
        let (key, place, hash) = Self::key(first, second);
        let (known, number) = self.short[place & (PLACES - 1)];
        if known == key {
            return Some(number);
        }
        self.table
            .find(hash, |(known, _)| *known == key)
            .map(|(_, number)| *number)
    }

    pub(super) fn insert(&mut self, first: u32, second: u32, number: u32) {
        let (key, place, hash) = Self::key(first, second);
        self.short[place] = (key, number);
        self.table.insert_unique(hash, (key, number), |(key, _)| {
            key.wrapping_mul(0x9e37_79b9_7f4a_7c15).rotate_left(32)
        });
    }
}

#[cfg(test)]
mod tests {
    use proptest::prelude::*;

    use super::*;

    proptest! {
        #[test]
        fn what_is_found_is_what_was_put_in(
            keys in proptest::collection::vec(proptest::collection::vec(0_u8..4, 0..20), 1..200),
        ) {
            let mut cache = RawCache::default();
            let mut known = std::collections::HashMap::new();
            for key in &keys {
                let next = known.len() as u32;
                let group = *known.entry(key.clone()).or_insert(next);
                match cache.get(key) {
                    Some(found) => prop_assert_eq!(found, group),
                    None => cache.insert(key, group),
                }
            }
            for key in &keys {
                prop_assert_eq!(cache.get(key), Some(known[key]));
            }
        }
    }
}
