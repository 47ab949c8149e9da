//! Looks at a source: its dialect, its columns, their types and values. Every record is read.

use std::collections::HashMap;
use std::hash::{BuildHasher, Hasher};
use std::sync::atomic::Ordering;

use hashbrown::HashTable;
use serde::Serialize;

use super::produce::open_source;
use super::{Context, Error, Notice};
use crate::format::delimited::{self, Dialect, LineEnd, Told};
use crate::format::{ReadTally, RecordReader};
use crate::job::Job;
use crate::name::Key;
use crate::record::{Batch, HeaderNote};
use crate::source::SourcePath;
use crate::value::{Kind, KindTally};

/// Distinct values of a column that are counted exactly.
const MOST_DISTINCT: usize = 100_000;

/// Distinct values that are listed with their counts at most.
const MOST_VALUES: usize = 1_000_000;

/// Characters of an example.
const LONGEST_EXAMPLE: usize = 60;

/// What was found in a source.
#[derive(Clone, Debug, Serialize)]
#[serde(rename_all = "kebab-case")]
#[non_exhaustive]
pub struct Inspection {
    /// As it was named.
    pub path: String,
    /// The format's name.
    pub format: &'static str,
    /// Bytes on disk, where they are known.
    pub bytes: Option<u64>,
    /// How it is compressed, if it is.
    pub compression: Option<&'static str>,
    /// How it is written.
    pub dialect: Dialect,
    /// What of that was found out, and what was passed over.
    pub told: Told,
    /// What was counted.
    pub tally: ReadTally,
    /// Records whose line end is not the dialect's.
    pub other_line_ends: u64,
    /// Fields that are quoted, of all fields.
    pub quoted_fields: u64,
    /// All fields.
    pub fields: u64,
    /// What is odd about the header.
    pub header_notes: Vec<HeaderNote>,
    /// The columns, in order.
    pub columns: Vec<ColumnProfile>,
}

/// A column over all records.
#[derive(Clone, Debug, Serialize)]
#[serde(rename_all = "kebab-case")]
pub struct ColumnProfile {
    /// The name it goes by.
    pub name: String,
    /// The type of all its values.
    #[serde(rename = "type")]
    pub kind: Kind,
    /// Digits behind the point, where all values of a decimal column have as many.
    pub scale: Option<usize>,
    /// Records in which it is blank.
    pub blanks: u64,
    /// How many values differ; blank is none.
    pub distinct: Distinct,
    /// The first value that is not blank, up to 60 characters of it.
    pub example: Option<String>,
}

/// A number of distinct values.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize)]
#[serde(rename_all = "kebab-case")]
pub enum Distinct {
    /// Just so many.
    Exactly(u64),
    /// More than so many; counting was given up.
    MoreThan(u64),
}

/// The values of a column or of a part of it, with how often each stands.
#[derive(Clone, Debug, Serialize)]
#[serde(rename_all = "kebab-case")]
pub struct ValueCounts {
    /// The source.
    pub path: String,
    /// The column and part.
    pub key: Key,
    /// Records in all.
    pub records: u64,
    /// Values, those that stand most often first; among equals in the order of their text.
    pub values: Vec<ValueCount>,
    /// There are more distinct values than could be counted; their records are not in `values`.
    pub incomplete: bool,
}

/// A value and the records that have it.
#[derive(Clone, Debug, PartialEq, Eq, Serialize)]
pub struct ValueCount {
    /// The value; empty if blank.
    pub value: String,
    /// How many records.
    pub records: u64,
}

/// Reads all of `source` and says what is in it.
///
/// # Errors
///
/// If it cannot be read.
pub fn inspect(source: &SourcePath, job: &Job, context: &Context) -> Result<Inspection, Error> {
    let mut reader = open_source(source, job)?;
    context.observer.begins(reader.size());
    let taken = reader.taken();
    let mut profiles: Vec<Profile> = vec![Profile::default(); reader.columns().len()];
    let (mut fields, mut quoted, mut other_line_ends) = (0, 0, 0);
    let dialect = reader.dialect();
    let mut batch = Batch::default();
    while reader.next_batch(&mut batch)? {
        context.check_cancelled()?;
        for record in 0..batch.len() {
            let raw = batch.raw(record);
            let pair = raw.ends_with(b"\r\n");
            let expected_pair = dialect.line_end == LineEnd::CrLf;
            other_line_ends += u64::from(pair != expected_pair);
            for (column, profile) in profiles.iter_mut().enumerate() {
                let field = batch.field(record, column);
                quoted += u64::from(profile.add(field));
            }
        }
        fields += (batch.len() * batch.width()) as u64;
        context.observer.has_read(taken.load(Ordering::Relaxed));
    }
    let names = reader.columns().names().iter();
    let columns = names
        .zip(profiles)
        .map(|(name, profile)| profile.finish(name))
        .collect();
    Ok(Inspection {
        path: source.to_string(),
        format: delimited::NAME,
        bytes: reader.size(),
        compression: reader.compression(),
        dialect,
        told: reader.told(),
        tally: reader.tally(),
        other_line_ends,
        quoted_fields: quoted,
        fields,
        header_notes: reader.columns().notes().to_vec(),
        columns,
    })
}

impl Inspection {
    /// What its readers should be warned of, in the words that a run has for them.
    pub fn notices(&self) -> Vec<Notice> {
        let source = || self.path.clone();
        let mut notices: Vec<Notice> = self
            .header_notes
            .iter()
            .map(|note| Notice::Header {
                source: source(),
                note: note.clone(),
            })
            .collect();
        if self.told.single_column {
            notices.push(Notice::SingleColumn { source: source() });
        }
        if self.tally.stray_quotes > 0 {
            let fields = self.tally.stray_quotes;
            notices.push(Notice::StrayQuotes {
                source: source(),
                fields,
            });
        }
        notices
    }
}

/// Reads all of `source` and counts the values of `key`.
///
/// # Errors
///
/// If it cannot be read, has no such column, or a value does not have the part.
pub fn values(
    source: &SourcePath,
    key: &Key,
    job: &Job,
    context: &Context,
) -> Result<ValueCounts, Error> {
    let mut reader = open_source(source, job)?;
    context.observer.begins(reader.size());
    let taken = reader.taken();
    let column = reader
        .columns()
        .find(&key.column)
        .map_err(|problem| Error::Column {
            source_name: source.to_string(),
            problem,
        })?;
    let mut counts: HashMap<String, u64> = HashMap::new();
    let (mut records, mut incomplete) = (0, false);
    let mut batch = Batch::default();
    let mut scratch = Vec::new();
    let mut text = String::new();
    while reader.next_batch(&mut batch)? {
        context.check_cancelled()?;
        for record in 0..batch.len() {
            text.clear();
            let value = batch.field(record, column).value(&mut scratch);
            key.part
                .of(value, &job.date_format, &mut text)
                .map_err(|problem| Error::Value {
                    source_name: source.to_string(),
                    line: batch.line(record),
                    column: key.column.clone(),
                    problem,
                })?;
            if let Some(count) = counts.get_mut(&text) {
                *count += 1;
            } else if counts.len() < MOST_VALUES {
                counts.insert(text.clone(), 1);
            } else {
                incomplete = true;
            }
        }
        records += batch.len() as u64;
        context.observer.has_read(taken.load(Ordering::Relaxed));
    }
    let mut values: Vec<ValueCount> = counts
        .into_iter()
        .map(|(value, records)| ValueCount { value, records })
        .collect();
    values.sort_by(|one, other| {
        other
            .records
            .cmp(&one.records)
            .then_with(|| one.value.cmp(&other.value))
    });
    Ok(ValueCounts {
        path: source.to_string(),
        key: key.clone(),
        records,
        values,
        incomplete,
    })
}

/// A column in the making.
#[derive(Clone, Debug, Default)]
struct Profile {
    kinds: KindTally,
    distinct: HashTable<u128>,
    overflowed: bool,
    example: Option<String>,
    scratch: Vec<u8>,
}

impl Profile {
    /// Takes note of a field; says whether it is quoted.
    fn add(&mut self, field: crate::record::Field<'_>) -> bool {
        let value = field.value(&mut self.scratch);
        let quoted = field.raw().len() > value.len();
        if self.kinds.add(value) == Kind::Blank {
            return quoted;
        }
        if self.example.is_none() {
            let text = String::from_utf8_lossy(value);
            self.example = Some(text.chars().take(LONGEST_EXAMPLE).collect());
        }
        if !self.overflowed {
            let hash = wide_hash(value);
            if self
                .distinct
                .find(hash as u64, |known| *known == hash)
                .is_none()
            {
                if self.distinct.len() == MOST_DISTINCT {
                    self.overflowed = true;
                    self.distinct = HashTable::new();
                } else {
                    self.distinct
                        .insert_unique(hash as u64, hash, |known| *known as u64);
                }
            }
        }
        quoted
    }

    fn finish(self, name: &str) -> ColumnProfile {
        let distinct = if self.overflowed {
            Distinct::MoreThan(MOST_DISTINCT as u64)
        } else {
            Distinct::Exactly(self.distinct.len() as u64)
        };
        ColumnProfile {
            name: name.to_owned(),
            kind: self.kinds.kind(),
            scale: self.kinds.scale(),
            blanks: self.kinds.blanks(),
            distinct,
            example: self.example,
        }
    }
}

/// 128 bits of hash: among the values of a column no two will ever share one by chance.
fn wide_hash(value: &[u8]) -> u128 {
    let half = |seed: u64| {
        let mut hasher = foldhash::quality::FixedState::with_seed(seed).build_hasher();
        hasher.write(value);
        u128::from(hasher.finish())
    };
    half(0x7661_726e) << 64 | half(0x686f_6c6d)
}
