//! Remembers which group the raw bytes of a key belong to.

use std::hash::{BuildHasher, Hasher};

use foldhash::fast::FixedState;
use hashbrown::HashTable;

/// Bytes of keys that are remembered at most. Keys that never come again (a part of a time stamp,
/// say) would fill any memory; past this the cache starts anew.
const LARGEST: usize = 8 << 20;

/// A key longer than this is looked up the slow way each time.
const LONGEST_KEY: usize = 4096;

#[derive(Debug, Default)]
pub(super) struct RawCache {
    arena: Vec<u8>,
    table: HashTable<Entry>,
}

#[derive(Clone, Copy, Debug)]
struct Entry {
    start: u32,
    length: u32,
    group: u32,
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

impl RawCache {
    pub(super) fn clear(&mut self) {
        self.arena.clear();
        self.table.clear();
    }

    #[inline]
    pub(super) fn get(&self, raw: &[u8]) -> Option<u32> {
        let arena = &self.arena;
        let same = |entry: &Entry| {
            let start = entry.start as usize;
            arena[start..start + entry.length as usize] == *raw
        };
        self.table.find(hash_bytes(raw), same).map(|entry| entry.group)
    }

    pub(super) fn insert(&mut self, raw: &[u8], group: u32) {
        if raw.len() > LONGEST_KEY {
            return;
        }
        if self.arena.len() + raw.len() > LARGEST {
            self.clear();
        }
        let hash = hash_bytes(raw);
        let entry = Entry {
            start: self.arena.len() as u32,
            length: raw.len() as u32,
            group,
        };
        self.arena.extend_from_slice(raw);
        let arena = &self.arena;
        self.table.insert_unique(hash, entry, |entry| {
            let start = entry.start as usize;
            hash_bytes(&arena[start..start + entry.length as usize])
        });
    }
}
