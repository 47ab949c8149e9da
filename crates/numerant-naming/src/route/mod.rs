//! From records to addresses: which output each record belongs to.
//!
//! Records are distinguished by the raw bytes of their key columns first: what was seen before is
//! found again without a look inside. What was not is taken apart into values and parts, and
//! those decide; so `"North"` and `North` end in one output.
//!
//! With one key its raw bytes lead to the group. With several, the raw bytes of each lead to a
//! number, and pairs of numbers lead to further numbers, the last of which is the group.

mod cache;
mod divide;

pub use divide::{Divider, Division, OutputKey, TooLarge};
use hashbrown::HashTable;

use cache::{PairCache, RawCache};

use crate::{Key, ValueError};
use numerant_data::record::{Batch, ColumnError};
use numerant_data::value::Cells;

/// The values of a group's keys, in the order of the router's keys.
pub type KeyValues = Vec<String>;

/// Stands for no group in a list of groups: the record goes nowhere.
pub const NOWHERE: u32 = u32::MAX;

/// Numbers that are given out before the caches start anew.
const MOST_NUMBERS: u32 = 1 << 20;

/// Tells records apart by keys, and numbers the groups in the order of their first records.
#[derive(Debug)]
pub struct Router {
    keys: Vec<ResolvedKey>,
    cells: Cells,
    /// How computed cells are read.
    computed_cells: Cells,
    /// What the raw bytes of each key represent: the group if there is one key, else a number.
    raw: Vec<RawCache>,
    /// The number or group that those of the keys so far and of the next represent.
    pairs: Vec<PairCache>,
    /// The next number that is not given out.
    next: u32,
    groups: Vec<KeyValues>,
    /// Group numbers by the hash of their values.
    table: HashTable<u32>,
    most_groups: usize,
    /// What all records of the present source share next to their columns.
    source_values: KeyValues,
}

#[derive(Debug)]
struct ResolvedKey {
    key: Key,
    column: usize,
    computed: bool,
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
    /// A router by `keys`. `place` says where in batches a column is, and whether it is computed.
    /// Records of more than `most_groups` groups go [`NOWHERE`].
    ///
    /// # Errors
    ///
    /// [`ColumnError`] if a key names a column that is not there.
    pub fn new(
        keys: Vec<Key>,
        place: impl Fn(&str) -> Result<(usize, bool), ColumnError>,
        cells: Cells,
        most_groups: usize,
    ) -> Result<Self, ColumnError> {
        let keys: Result<Vec<ResolvedKey>, ColumnError> = keys
            .into_iter()
            .map(|key| {
                let (column, computed) = place(&key.column)?;
                Ok(ResolvedKey {
                    key,
                    column,
                    computed,
                })
            })
            .collect();
        let keys = keys?;
        Ok(Self {
            raw: keys.iter().map(|_| RawCache::default()).collect(),
            pairs: keys.iter().skip(1).map(|_| PairCache::default()).collect(),
            next: 0,
            keys,
            computed_cells: cells.computed(),
            cells,
            groups: Vec::new(),
            table: HashTable::new(),
            most_groups,
            source_values: Vec::new(),
        })
    }

    /// Looks for the keys in other places, as the columns of a further source may be.
    ///
    /// # Errors
    ///
    /// [`ColumnError`] if a key names a column that is not there.
    pub fn rebind(
        &mut self,
        place: impl Fn(&str) -> Result<(usize, bool), ColumnError>,
    ) -> Result<(), ColumnError> {
        for resolved in &mut self.keys {
            (resolved.column, resolved.computed) = place(&resolved.key.column)?;
        }
        self.forget();
        Ok(())
    }

    /// Begins a source whose records share `values`; groups of other values stay apart from its.
    pub fn begin_source(&mut self, values: KeyValues) {
        if values != self.source_values {
            self.source_values = values;
        }
        self.forget();
    }

    /// Makes the group of the present source known, where it has only one, even if no record comes.
    pub fn announce(&mut self) {
        if self.keys.is_empty() {
            self.group_of(self.source_values.clone());
        }
    }

    /// Makes the groups of the only key known, which has no values but these, even if no record comes.
    pub fn announce_values(&mut self, values: impl IntoIterator<Item = String>) {
        for value in values {
            let mut group = vec![value];
            group.extend_from_slice(&self.source_values);
            self.group_of(group);
        }
    }

    /// Whether `key` is the only one.
    pub fn is_only_key(&self, column: &str) -> bool {
        matches!(self.keys.as_slice(), [only] if only.key.column == column)
    }

    /// Empties the caches.
    fn forget(&mut self) {
        self.raw.iter_mut().for_each(RawCache::clear);
        self.pairs.iter_mut().for_each(PairCache::clear);
        self.next = 0;
    }

    /// The groups so far: the values of their keys, with those shared by their source after.
    pub fn groups(&self) -> &[KeyValues] {
        &self.groups
    }

    /// The keys, in the order of the values of groups.
    pub fn keys(&self) -> impl Iterator<Item = &Key> {
        self.keys.iter().map(|resolved| &resolved.key)
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
        if self.next > MOST_NUMBERS
            || self
                .pairs
                .iter()
                .any(|pairs| pairs.len() > MOST_NUMBERS as usize)
        {
            self.forget();
        }
        let column = self.keys[0].column;
        if self.keys.len() == 1 {
            for record in 0..batch.len() {
                let raw = batch.raw_fields(record, column, column);
                let group = match self.raw[0].get(raw) {
                    Some(group) => group,
                    None => {
                        let group = self.group(batch, record)?;
                        self.raw[0].insert(raw, group);
                        group
                    }
                };
                places.push(group);
            }
            return Ok(());
        }
        for record in 0..batch.len() {
            places.push(self.number(0, batch.raw_fields(record, column, column)));
        }
        for key in 1..self.keys.len() {
            let column = self.keys[key].column;
            let last = key + 1 == self.keys.len();
            for (record, place) in places.iter_mut().enumerate() {
                let number = self.number(key, batch.raw_fields(record, column, column));
                *place = match self.pairs[key - 1].get(*place, number) {
                    Some(together) => together,
                    None => {
                        let together = if last {
                            self.group(batch, record)?
                        } else {
                            self.next_number()
                        };
                        self.pairs[key - 1].insert(*place, number, together);
                        together
                    }
                };
            }
        }
        Ok(())
    }

    /// The number that the raw bytes of key `key` represent.
    #[inline(always)]
    fn number(&mut self, key: usize, raw: &[u8]) -> u32 {
        match self.raw[key].get(raw) {
            Some(number) => number,
            None => {
                let number = self.next_number();
                self.raw[key].insert(raw, number);
                number
            }
        }
    }

    fn next_number(&mut self) -> u32 {
        self.next += 1;
        self.next - 1
    }

    /// The group of a record, by the values of its keys.
    #[cold]
    #[inline(never)]
    fn group(&mut self, batch: &Batch, record: usize) -> Result<u32, RouteError> {
        let mut values = KeyValues::with_capacity(self.keys.len() + self.source_values.len());
        let mut scratch = Vec::new();
        for ResolvedKey {
            key,
            column,
            computed,
        } in &self.keys
        {
            let cells = if *computed {
                &self.computed_cells
            } else {
                &self.cells
            };
            let mut text = String::new();
            let value = batch.field(record, *column).value(&mut scratch);
            key.part
                .of_column(value, *column, cells, &mut text)
                .map_err(|problem| RouteError {
                    record,
                    column: key.column.clone(),
                    problem,
                })?;
            values.push(text);
        }
        values.extend_from_slice(&self.source_values);
        Ok(self.group_of(values))
    }

    fn group_of(&mut self, values: KeyValues) -> u32 {
        let hash = hash_values(&values);
        let groups = &self.groups;
        if let Some(group) = self
            .table
            .find(hash, |group| groups[*group as usize] == values)
        {
            return *group;
        }
        if self.groups.len() >= self.most_groups {
            return NOWHERE;
        }
        let group = self.groups.len() as u32;
        self.groups.push(values);
        let groups = &self.groups;
        self.table
            .insert_unique(hash, group, |group| hash_values(&groups[*group as usize]));
        group
    }
}

fn hash_values(values: &[String]) -> u64 {
    cache::hash(|hasher| std::hash::Hash::hash(values, hasher))
}

#[cfg(test)]
mod tests;
