//! From records to addresses: which output each record belongs to.
//!
//! Records are told apart by the raw bytes of their key columns first: what was seen before is
//! found again without a look inside. What was not is taken apart into values and parts, and
//! those decide; so `"North"` and `North` end in one output.

mod cache;

use hashbrown::HashTable;

use cache::RawCache;

use crate::name::{Key, ValueError};
use crate::record::{Batch, ColumnError, Columns};
use crate::value::DateFormat;

/// The values of a group's keys, in the order of the router's keys.
pub type KeyValues = Vec<String>;

/// Stands for no group in a list of groups: the record goes nowhere.
pub const NOWHERE: u32 = u32::MAX;

/// Tells records apart by keys, and numbers the groups in the order of their first records.
#[derive(Debug)]
pub struct Router {
    keys: Vec<ResolvedKey>,
    formats: Vec<DateFormat>,
    cache: RawCache,
    groups: Vec<KeyValues>,
    /// Group numbers by the hash of their values.
    table: HashTable<u32>,
    most_groups: usize,
    /// What all records of the present source share beside their columns.
    source_values: KeyValues,
}

#[derive(Debug)]
struct ResolvedKey {
    key: Key,
    column: usize,
}

/// A key value that cannot be taken: the record's place in the batch, the column, and the reason.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct RouteError {
    /// Place of the record in its batch, from 0.
    pub record: usize,
    /// Name of the column.
    pub column: String,
    /// What is wrong with the value.
    pub problem: ValueError,
}

impl Router {
    /// A router by `keys`. Records of more than `most_groups` groups go [`NOWHERE`].
    ///
    /// # Errors
    ///
    /// [`ColumnError`] if a key names a column that is not there.
    pub fn new(
        keys: Vec<Key>,
        columns: &Columns,
        formats: Vec<DateFormat>,
        most_groups: usize,
    ) -> Result<Self, ColumnError> {
        let keys: Result<Vec<ResolvedKey>, ColumnError> = keys
            .into_iter()
            .map(|key| Ok(ResolvedKey { column: columns.find(&key.column)?, key }))
            .collect();
        Ok(Self {
            keys: keys?,
            formats,
            cache: RawCache::default(),
            groups: Vec::new(),
            table: HashTable::new(),
            most_groups,
            source_values: Vec::new(),
        })
    }

    /// Begins a source whose records share `values`; groups of other values stay apart from its.
    pub fn begin_source(&mut self, values: KeyValues) {
        if values != self.source_values {
            self.source_values = values;
        }
        self.cache.clear();
    }

    /// The groups so far: the values of their keys, with those shared by their source behind.
    pub fn groups(&self) -> &[KeyValues] {
        &self.groups
    }

    /// The place of `key` among the values of a group.
    pub fn place_of(&self, key: &Key) -> Option<usize> {
        self.keys.iter().position(|resolved| resolved.key == *key)
    }

    /// Replaces what is in `places` with the group of each record of `batch`. New groups are added
    /// to [`Router::groups`] in the order of their first records.
    ///
    /// # Errors
    ///
    /// [`RouteError`] for the first record whose key does not have the part that is wanted.
    pub fn route(&mut self, batch: &Batch, places: &mut Vec<u32>) -> Result<(), RouteError> {
        places.clear();
        places.reserve(batch.len());
        if self.keys.is_empty() {
            // One group for the source: the values that its records share are all there is.
            if !batch.is_empty() {
                let group = self.group_of(self.source_values.clone());
                places.resize(batch.len(), group);
            }
            return Ok(());
        }
        let first = self.keys[0].column;
        let consecutive =
            self.keys.iter().enumerate().all(|(place, key)| key.column == first + place);
        if consecutive {
            let last = first + self.keys.len() - 1;
            for record in 0..batch.len() {
                let raw = batch.raw_fields(record, first, last);
                let group = match self.cache.get(raw) {
                    Some(group) => group,
                    None => self.slow_group(batch, record, raw)?,
                };
                places.push(group);
            }
            return Ok(());
        }
        let mut raw = Vec::new();
        for record in 0..batch.len() {
            raw.clear();
            for key in &self.keys {
                raw.extend_from_slice(batch.raw_fields(record, key.column, key.column));
                // No text holds this byte, so the fields cannot run into each other.
                raw.push(0xff);
            }
            let group = match self.cache.get(&raw) {
                Some(group) => group,
                None => self.slow_group(batch, record, &raw)?,
            };
            places.push(group);
        }
        Ok(())
    }

    #[cold]
    #[inline(never)]
    fn slow_group(&mut self, batch: &Batch, record: usize, raw: &[u8]) -> Result<u32, RouteError> {
        let mut values = KeyValues::with_capacity(self.keys.len() + self.source_values.len());
        let mut scratch = Vec::new();
        for ResolvedKey { key, column } in &self.keys {
            let mut text = String::new();
            let value = batch.field(record, *column).value(&mut scratch);
            key.part.of(value, &self.formats, &mut text).map_err(|problem| RouteError {
                record,
                column: key.column.clone(),
                problem,
            })?;
            values.push(text);
        }
        values.extend_from_slice(&self.source_values);
        let group = self.group_of(values);
        self.cache.insert(raw, group);
        Ok(group)
    }

    fn group_of(&mut self, values: KeyValues) -> u32 {
        let hash = hash_values(&values);
        let groups = &self.groups;
        if let Some(group) = self.table.find(hash, |group| groups[*group as usize] == values) {
            return *group;
        }
        if self.groups.len() >= self.most_groups {
            return NOWHERE;
        }
        let group = self.groups.len() as u32;
        self.groups.push(values);
        let groups = &self.groups;
        self.table.insert_unique(hash, group, |group| hash_values(&groups[*group as usize]));
        group
    }
}

fn hash_values(values: &[String]) -> u64 {
    cache::hash(|hasher| std::hash::Hash::hash(values, hasher))
}

#[cfg(test)]
mod tests;
