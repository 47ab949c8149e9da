//! `lookup`: the columns of a small table, added to the records whose key it has.

use std::collections::HashMap;
use std::path::{Path, PathBuf};

use serde::{Deserialize, Serialize};

use super::faults::Faults;
use super::problem::StepProblem;
use numerant_data::record::{Batch, ColumnError, Computed};
use numerant_data::source::{Input, ReadError, SourcePath};
use numerant_data::value::Size;
use numerant_format::{ReadOptions, RecordReader};

/// Opens a file that is one table: with options, bytes of a batch, bytes of the largest record, and a folder
/// for what does not fit into memory.
pub type OpenTable =
    fn(Input, &ReadOptions, usize, usize, &Path) -> Result<Box<dyn RecordReader>, ReadError>;

/// Keys that are kept to list.
const LISTED: usize = 1000;

/// A table, and the column that is looked up in it.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize, schemars::JsonSchema)]
#[serde(rename_all = "kebab-case", deny_unknown_fields)]
pub struct Lookup {
    /// The file of the table.
    pub file: PathBuf,
    /// The column of the table that holds the keys.
    pub key: String,
    /// The column of the records that is looked up; the one called like the key if not said.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub column: Option<String>,
    /// What to do with records whose key the table does not have.
    #[serde(default)]
    pub unmatched: Unmatched,
    /// What to do where the table has a key twice.
    #[serde(default)]
    pub repeated: Repeated,
}

/// What to do with records whose key the table does not have.
#[derive(
    Clone, Copy, Debug, Default, PartialEq, Eq, Serialize, Deserialize, schemars::JsonSchema,
)]
#[serde(rename_all = "lowercase")]
pub enum Unmatched {
    /// Refuse the run, with the list of the keys.
    #[default]
    Refuse,
    /// Leave the added columns blank, and say so.
    Blank,
    /// Reject the record.
    Reject,
}

/// What to do where a table has a key twice.
#[derive(
    Clone, Copy, Debug, Default, PartialEq, Eq, Serialize, Deserialize, schemars::JsonSchema,
)]
#[serde(rename_all = "lowercase")]
pub enum Repeated {
    /// Refuse the run, with the list of the keys.
    #[default]
    Refuse,
    /// Take the first.
    First,
    /// Take the last.
    Last,
}

/// A table that cannot be used.
#[derive(Debug, thiserror::Error)]
pub enum LookupError {
    /// It cannot be read.
    #[error("lookup: {0}")]
    Read(#[from] ReadError),
    /// It does not have the key column.
    #[error("lookup: column '{}' is not in {table}", .problem.name)]
    Key {
        /// The table.
        table: String,
        /// The name.
        problem: ColumnError,
    },
    /// It has nothing to add.
    #[error("lookup: {table} has no column but '{key}', so there is nothing to add")]
    NothingToAdd {
        /// The table.
        table: String,
        /// The key column.
        key: String,
    },
    /// It takes more memory than there is.
    #[error("lookup: {table} takes more than {limit} of memory")]
    TooLarge {
        /// The table.
        table: String,
        /// What there is.
        limit: Size,
    },
    /// It has keys twice.
    #[error("lookup: {table} has {count} {} more than once", if *.count == 1 { "key" } else { "keys" })]
    Repeated {
        /// The table.
        table: String,
        /// Keys and the lines on which they are first and again, the first of them.
        keys: Vec<(String, u64, u64)>,
        /// How many.
        count: u64,
    },
    /// Keys of records are not in it.
    #[error("lookup: {} of column '{}' {} not in {}; nothing was written", .0.keys_in_words(), .0.column, if .0.keys == 1 { "is" } else { "are" }, .0.table)]
    Unmatched(UnmatchedKeys),
}

/// Bytes that a key and its place take in memory besides the key itself, and a value besides its text.
const ROW: usize = 88;
const PLACE: usize = 8;

/// Keys of records that a table does not have.
#[derive(Clone, Debug, Default, PartialEq, Eq, Serialize)]
#[serde(rename_all = "kebab-case")]
pub struct UnmatchedKeys {
    /// The table.
    pub table: String,
    /// The column of the records.
    pub column: String,
    /// The first of the keys, and how many records have each; blank is a key as well.
    pub examples: Vec<(String, u64)>,
    /// How many keys.
    pub keys: u64,
    /// How many records.
    pub records: u64,
}

impl UnmatchedKeys {
    fn keys_in_words(&self) -> String {
        format!(
            "{} value{}",
            self.keys,
            if self.keys == 1 { "" } else { "s" }
        )
    }
}

impl LookupError {
    /// Lines that list the keys.
    pub fn details(&self) -> Vec<String> {
        match self {
            Self::Repeated { keys, .. } => keys
                .iter()
                .map(|(key, first, again)| {
                    format!("{} on lines {first} and {again}", shown_key(key))
                })
                .collect(),
            Self::Unmatched(unmatched) => unmatched
                .examples
                .iter()
                .map(|(key, records)| {
                    format!(
                        "{} in {records} record{}",
                        shown_key(key),
                        if *records == 1 { "" } else { "s" }
                    )
                })
                .collect(),
            _ => Vec::new(),
        }
    }
}

fn shown_key(key: &str) -> String {
    if key.is_empty() {
        "(blank)".to_owned()
    } else {
        format!("'{key}'")
    }
}

/// A table in memory.
#[derive(Clone, Debug)]
pub(super) struct Table {
    shown: String,
    lookup: Lookup,
    column: String,
    /// Place of the column that is looked up.
    slot: usize,
    /// Names of the columns to add.
    names: Vec<String>,
    /// Places that they get.
    slots: Vec<usize>,
    rows: HashMap<Vec<u8>, usize>,
    /// The values of each column to add, row by row.
    values: Vec<Computed>,
    unmatched: HashMap<Vec<u8>, u64>,
    unmatched_order: Vec<Vec<u8>>,
    unmatched_records: u64,
}

impl Table {
    /// Reads a table.
    pub(super) fn read(
        lookup: &Lookup,
        open: OpenTable,
        temporary: &Path,
        memory: usize,
    ) -> Result<Self, LookupError> {
        const BATCH: usize = 1 << 16;
        const LARGEST: usize = 1 << 24;
        let source = SourcePath::File(lookup.file.clone());
        let shown = source.to_string();
        let input = Input::open(&source)?;
        let mut reader = open(input, &ReadOptions::default(), BATCH, LARGEST, temporary)?;
        let columns = reader.columns().clone();
        let key = columns
            .find(&lookup.key)
            .map_err(|problem| LookupError::Key {
                table: shown.clone(),
                problem,
            })?;
        let added: Vec<usize> = (0..columns.len()).filter(|place| *place != key).collect();
        if added.is_empty() {
            return Err(LookupError::NothingToAdd {
                table: shown,
                key: lookup.key.clone(),
            });
        }
        let mut values = vec![Computed::default(); added.len()];
        let mut rows: HashMap<Vec<u8>, usize> = HashMap::new();
        let mut lines = Vec::new();
        let mut repeated = (Vec::new(), 0_u64);
        let mut batch = Batch::default();
        let mut taken = 0;
        while reader.next_batch(&mut batch)? {
            taken += batch.bytes.len() + batch.len() * (ROW + PLACE * added.len());
            // Positions of values have 32 bits.
            if taken > memory.min(u32::MAX as usize) {
                return Err(LookupError::TooLarge {
                    table: shown,
                    limit: Size(memory as u64),
                });
            }
            for record in 0..batch.len() {
                let row = lines.len();
                lines.push(batch.line(record));
                for (values, column) in values.iter_mut().zip(&added) {
                    values.push(&batch.field(record, *column).text());
                }
                let key = batch.field(record, key).text().into_owned();
                match rows.entry(key) {
                    std::collections::hash_map::Entry::Vacant(place) => {
                        place.insert(row);
                    }
                    std::collections::hash_map::Entry::Occupied(mut place) => {
                        repeated.1 += 1;
                        if repeated.0.len() < LISTED {
                            let shown = String::from_utf8_lossy(place.key()).into_owned();
                            repeated.0.push((shown, lines[*place.get()], lines[row]));
                        }
                        if lookup.repeated == Repeated::Last {
                            place.insert(row);
                        }
                    }
                }
            }
        }
        if lookup.repeated == Repeated::Refuse && repeated.1 > 0 {
            let (keys, count) = repeated;
            return Err(LookupError::Repeated {
                table: shown,
                keys,
                count,
            });
        }
        Ok(Self {
            shown,
            column: lookup.column.clone().unwrap_or_else(|| lookup.key.clone()),
            lookup: lookup.clone(),
            slot: 0,
            names: added
                .iter()
                .map(|place| columns.names()[*place].clone())
                .collect(),
            slots: Vec::new(),
            rows,
            values,
            unmatched: HashMap::new(),
            unmatched_order: Vec::new(),
            unmatched_records: 0,
        })
    }

    /// The column of the records that is looked up.
    pub(super) fn column(&self) -> &str {
        &self.column
    }

    /// Names of the columns that are added.
    pub(super) fn names(&self) -> &[String] {
        &self.names
    }

    /// Whether it adds the column at place `slot` of batches.
    pub(super) fn makes(&self, slot: usize) -> bool {
        self.slots.contains(&slot)
    }

    /// Says where the keys are, and where the added columns go.
    pub(super) fn place(&mut self, slot: usize, slots: Vec<usize>) {
        self.slot = slot;
        self.slots = slots;
    }

    pub(super) fn apply(
        &mut self,
        batch: &mut Batch,
        faults: &mut Faults<'_>,
    ) -> Result<(), StepProblem> {
        let mut added: Vec<Computed> = self
            .slots
            .iter()
            .map(|slot| batch.take_computed(*slot))
            .collect();
        for record in 0..batch.len() {
            let key = batch.field(record, self.slot).text();
            let row = self.rows.get(&*key).copied();
            if row.is_none() {
                self.unmatched_records += 1;
                if let Some(count) = self.unmatched.get_mut(&*key) {
                    *count += 1;
                } else {
                    self.unmatched.insert(key.to_vec(), 1);
                    if self.unmatched_order.len() < LISTED {
                        self.unmatched_order.push(key.to_vec());
                    }
                }
                if self.lookup.unmatched == Unmatched::Reject {
                    faults.reject(
                        record,
                        StepProblem::Unmatched {
                            column: self.column.clone(),
                            value: String::from_utf8_lossy(&key).into_owned(),
                            table: self.shown.clone(),
                        },
                    );
                }
            }
            for (added, values) in added.iter_mut().zip(&self.values) {
                let value = row.map_or(&[][..], |row| {
                    let (start, end) = values.spans[row];
                    &values.bytes[start as usize..end as usize]
                });
                added.push(value);
            }
        }
        for (slot, added) in self.slots.iter().zip(added) {
            batch.put_back(*slot, added);
        }
        Ok(())
    }

    /// Takes over the keys that were missing before.
    pub(super) fn carry(&mut self, before: &Self) {
        self.unmatched.clone_from(&before.unmatched);
        self.unmatched_order.clone_from(&before.unmatched_order);
        self.unmatched_records = before.unmatched_records;
    }

    /// The keys that the table does not have, if any record had one.
    fn unmatched(&self) -> Option<UnmatchedKeys> {
        (self.unmatched_records > 0).then(|| UnmatchedKeys {
            table: self.shown.clone(),
            column: self.column.clone(),
            examples: self
                .unmatched_order
                .iter()
                .map(|key| {
                    let count = self.unmatched.get(key).copied().unwrap_or_default();
                    (String::from_utf8_lossy(key).into_owned(), count)
                })
                .collect(),
            keys: self.unmatched.len() as u64,
            records: self.unmatched_records,
        })
    }

    /// Refuses the run if keys are missing and that is not allowed; else says which they are.
    pub(super) fn finish(&self) -> Result<Option<UnmatchedKeys>, LookupError> {
        match (self.unmatched(), self.lookup.unmatched) {
            (Some(unmatched), Unmatched::Refuse) => Err(LookupError::Unmatched(unmatched)),
            (unmatched, _) => Ok(unmatched),
        }
    }
}
