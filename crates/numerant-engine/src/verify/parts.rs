//! Holds parts against the whole: they must have the same records, in any order.
//!
//! One pass over both makes their digests. Where those differ, a second one counts the records of
//! the buckets that differ, as many buckets at a time as memory has room for, and a third one finds
//! where the records are that make the difference.

use std::collections::HashMap;
use std::sync::Arc;
use std::sync::atomic::{AtomicU64, Ordering};

use serde::Serialize;

use super::super::sources::{Cursor, Sources};
use super::super::{Context, Error};
use super::compared::{Compared, columns_of, compared_columns, find_compared, job, opening};
use crate::job::Job;
use crate::ledger::{BUCKETS, Bag, BagDigest, RecordHasher, bucket};
use numerant_data::record::{Batch, ColumnError, Columns, Unit};
use numerant_data::source::SourcePath;
use numerant_data::value::Size;
use numerant_data::workers::WorkerPool;
use numerant_format::sheet::CellContent;
use numerant_format::{Ragged, ReadOptions, SchemaScan, TreeFacts};
use numerant_formats::{format_named, format_read};
use numerant_steps::StepError;

/// The part of the memory that the values of named records may take, on each side.
const LISTED: u64 = 8;

/// Bytes that a hash that is counted takes.
const COUNTED: u64 = 64;

/// Records of each kind that are held against each other to find what was changed.
const COMPARED: usize = 200;

/// What is to be held against what.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct PartsOptions {
    /// The whole, in one file or several.
    pub whole: Vec<SourcePath>,
    /// The parts.
    pub parts: Vec<SourcePath>,
    /// How the whole is read, and the parts, unless that is stated.
    pub read: ReadOptions,
    /// How the parts are read, where not as the whole.
    pub parts_read: Option<ReadOptions>,
    /// What is done to the records of the whole before they are compared: the steps of a job, its cases,
    /// and the columns that names of files give. Its sources are not looked at.
    pub job: Job,
    /// Only these columns count; all if there are none.
    pub keep: Vec<String>,
    /// These columns do not count, and need not be there.
    pub ignore: Vec<String>,
    /// Memory for records that have to be counted.
    pub memory: Size,
    /// Records of each kind that are named.
    pub list: usize,
    /// Threads that may work at the same time; 0 for as many as the machine has.
    pub jobs: usize,
}

/// What came of holding parts against the whole.
#[derive(Clone, Debug, Serialize)]
#[serde(rename_all = "kebab-case")]
pub struct PartsCheck {
    /// The columns that were compared.
    pub columns: Vec<String>,
    /// Files of the whole.
    pub whole_files: u64,
    /// Files of the parts.
    pub parts_files: u64,
    /// The digest of the whole.
    pub whole: BagDigest,
    /// The digest of the parts.
    pub parts: BagDigest,
    /// Records of the whole that the parts have less often.
    pub missing_records: u64,
    /// Records of the parts that are nowhere in the whole.
    pub extra_records: u64,
    /// Records of the whole that the parts have more often.
    pub doubled_records: u64,
    /// The first of the missing ones.
    pub missing: Vec<FoundRecord>,
    /// The first of those that are nowhere in the whole.
    pub extra: Vec<FoundRecord>,
    /// The first of those that are there too often.
    pub doubled: Vec<FoundRecord>,
    /// Whether both have the same records.
    pub holds: bool,
    /// Whether values of workbooks were compared as their sheets show them, as the whole has them so.
    #[serde(skip_serializing_if = "std::ops::Not::not")]
    pub as_shown: bool,
}

/// A record that makes a difference.
#[derive(Clone, Debug, PartialEq, Eq, Serialize)]
#[serde(rename_all = "kebab-case")]
pub struct FoundRecord {
    /// Its source.
    pub source: String,
    /// What the source is counted in.
    #[serde(skip_serializing_if = "Unit::is_line")]
    pub unit: Unit,
    /// Its line or row there, from 1.
    pub line: u64,
    /// How often the whole has it.
    pub in_whole: u64,
    /// How often the parts have it.
    pub in_parts: u64,
    /// Its values, in the order of the columns that were compared.
    pub values: Vec<String>,
    /// Where a missing and an extra record differ in one column only: most likely one is the
    /// other, changed.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub changed: Option<ChangedValue>,
}

/// What differs between a missing and an extra record.
#[derive(Clone, Debug, PartialEq, Eq, Serialize)]
#[serde(rename_all = "kebab-case")]
pub struct ChangedValue {
    /// The column.
    pub column: String,
    /// Its value in the whole.
    pub whole: String,
    /// Its value in the part.
    pub part: String,
    /// Where the other record is: its source and line or row.
    pub other: (String, u64),
    /// What that source is counted in.
    #[serde(skip_serializing_if = "Unit::is_line")]
    pub unit: Unit,
}

/// How often a record is there.
#[derive(Clone, Copy, Debug, Default)]
struct Counts {
    whole: u32,
    parts: u32,
    /// How often it has been passed in the parts while looking for it.
    passed: u32,
}

impl Counts {
    fn is_missing(self) -> bool {
        self.whole > self.parts
    }

    fn is_surplus(self) -> bool {
        self.parts > self.whole
    }
}

/// Compares parts with the whole. Where they differ and parts are workbooks, their values are compared once more as
/// the sheets show them: a text `$1,234.50` of the whole may be a number under a number format there.
///
/// # Errors
///
/// If a file cannot be read, or does not have the columns.
pub fn verify_parts(options: &PartsOptions, context: &Context) -> Result<PartsCheck, Error> {
    let check = compare(options, context)?;
    let read = options.parts_read.as_ref().unwrap_or(&options.read);
    let is_workbook = |path: &SourcePath| {
        let format = format_read(&path.extension());
        format.is_some_and(|format| format.capabilities().workbook.is_some())
    };
    let are_shown = !check.holds
        && read.cells == CellContent::Value
        && options.parts.iter().any(is_workbook)
        && !options.whole.iter().any(is_workbook);
    if !are_shown {
        return Ok(check);
    }
    let shown = PartsOptions {
        parts_read: Some(ReadOptions {
            cells: CellContent::Shown,
            ..read.clone()
        }),
        list: 0,
        ..options.clone()
    };
    let again = compare(&shown, context)?;
    if !again.holds {
        return Ok(check);
    }
    Ok(PartsCheck {
        as_shown: true,
        ..again
    })
}

fn compare(options: &PartsOptions, context: &Context) -> Result<PartsCheck, Error> {
    if options.read.ragged == Ragged::Reject {
        return Err(Error::RejectsCompared);
    }
    let first = options
        .whole
        .first()
        .ok_or(Error::Job(crate::job::JobError::NoSource))?;
    // What can be read only once is kept, as it may be read again.
    let open = |paths: &[SourcePath], read: &ReadOptions, is_whole: bool| {
        let mut job = job(options, paths, read);
        if is_whole {
            job = Job {
                sources: job.sources,
                read: job.read,
                memory: job.memory,
                ..options.job.clone()
            };
        }
        Compared::open(job, context)
    };
    let mut read = options.read.clone();
    let mut parts_read = options.parts_read.clone().unwrap_or_else(|| read.clone());
    // A path that was not stated for the parts is that of the whole, which they may not have.
    let parts_path = options
        .parts_read
        .as_ref()
        .and_then(|read| read.records.as_ref());
    parts_read.context.records_elsewhere = parts_path.is_none();
    let document = documents(options, &mut read, &mut parts_read, context)?;
    let whole = open(&options.whole, &read, true)?;
    let columns = compared_columns(first, options, &whole.columns())?;
    if !document {
        // What no record of a part has is blank everywhere of them.
        parts_read.context.also.clone_from(&columns);
    }
    let side = Side {
        options,
        context,
        whole,
        parts: open(&options.parts, &parts_read, false)?,
        columns,
        read: AtomicU64::new(0),
    };
    let sizes = options.whole.iter().chain(&options.parts);
    let size: Option<u64> = sizes.map(SourcePath::bytes_on_disk).sum();
    context.observer.begins(size);
    let job = Job {
        jobs: options.jobs,
        ..Job::default()
    };
    let workers = WorkerPool::new(context.threads(&job));
    let (whole, parts) = side.both(&workers, Bag::default, |bag: &mut Bag, hashes, _| {
        for hash in hashes {
            bag.add(*hash);
        }
    })?;
    let mut check = PartsCheck {
        columns: side.columns.clone(),
        whole_files: options.whole.len() as u64,
        parts_files: options.parts.len() as u64,
        whole: whole.digest(),
        parts: parts.digest(),
        missing_records: 0,
        extra_records: 0,
        doubled_records: 0,
        missing: Vec::new(),
        extra: Vec::new(),
        doubled: Vec::new(),
        holds: whole.digest() == parts.digest(),
        as_shown: false,
    };
    let differing = whole.differing(&parts);
    if differing.is_empty() {
        return Ok(check);
    }
    check.holds = false;
    let most = (options.memory.0 / COUNTED).max(1);
    let mut left = differing.as_slice();
    while !left.is_empty() {
        let mut room = most;
        let mut count = 0;
        let mut wanted = vec![false; BUCKETS];
        for (bucket, records) in left {
            if count > 0 && *records > room {
                break;
            }
            room = room.saturating_sub(*records);
            wanted[*bucket] = true;
            count += 1;
        }
        left = &left[count..];
        side.name(&wanted, &mut check)?;
    }
    pair_changed(&mut check);
    Ok(check)
}

/// Whether both sides are documents of one format, which are compared record by record, whatever
/// columns either would have; and where the records of the parts are, which one record alone does
/// not show.
fn documents(
    options: &PartsOptions,
    read: &mut ReadOptions,
    parts_read: &mut ReadOptions,
    context: &Context,
) -> Result<bool, Error> {
    let (Some(whole), Some(part)) = (options.whole.first(), options.parts.first()) else {
        return Ok(false);
    };
    let changes = !options.job.steps.is_empty() || !options.job.case.is_empty();
    let chosen = !options.keep.is_empty() || !options.ignore.is_empty();
    if changes || chosen || read.lists.is_some() || !read.blank_values.is_empty() {
        return Ok(false);
    }
    let facts = |path: &SourcePath| -> Result<Option<(TreeFacts, &'static str)>, Error> {
        if *path == SourcePath::Standard {
            return Ok(None);
        }
        let mut job = job(options, std::slice::from_ref(path), read);
        if path == part {
            job.read.context.records_elsewhere = parts_read.context.records_elsewhere;
            job.read.of_formats.clone_from(&parts_read.of_formats);
        }
        let (sources, mut cursor) =
            Sources::open(&job, opening(false, SchemaScan::sample()), context)?;
        let reader = sources.next(&mut cursor, &job, context)?;
        Ok(reader.and_then(|reader| {
            let tree = reader.document()?.facts().clone();
            Some((tree, reader.facts().format))
        }))
    };
    let (Some((whole_facts, whole_format)), Some((_, part_format))) = (facts(whole)?, facts(part)?)
    else {
        return Ok(false);
    };
    let same = format_named(whole_format).is_some_and(|format| format.has_records_of(part_format));
    if !same {
        return Ok(false);
    }
    read.context.as_one = true;
    parts_read.context.as_one = true;
    if parts_read.records.is_none() {
        parts_read.records = Some(whole_facts.records);
    }
    Ok(true)
}

/// Takes a batch: its source, its records and their hashes, the places of the columns that count, and the
/// bytes that were read for it.
type Take<'t> = dyn FnMut(&str, &Batch, &[u128], &[usize], u64) + 't;

/// What records are hashed by.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
enum Width {
    /// All of their bytes, where all columns of their source count in its order.
    Source,
    /// Their values, one by one.
    Any,
}

/// Both sides, and how they are read.
struct Side<'v> {
    options: &'v PartsOptions,
    context: &'v Context,
    whole: Compared,
    parts: Compared,
    columns: Vec<String>,
    read: AtomicU64,
}

impl Side<'_> {
    /// The places of the columns that count in a source.
    fn places(&self, name: &str, columns: &Columns) -> Result<Vec<usize>, Error> {
        let options = self.options;
        let find = |name: &String| find_compared(columns, name);
        let places: Result<Vec<usize>, ColumnError> = self.columns.iter().map(find).collect();
        let places = places.map_err(|problem| Error::ComparedColumn {
            source_name: name.to_owned(),
            problem,
        })?;
        if options.keep.is_empty() {
            let surplus =
                columns.names().iter().enumerate().find(|(place, name)| {
                    !places.contains(place) && !options.ignore.contains(name)
                });
            if let Some((_, column)) = surplus {
                return Err(Error::SurplusColumn {
                    source_name: name.to_owned(),
                    column: column.clone(),
                    whole: options
                        .whole
                        .first()
                        .map(ToString::to_string)
                        .unwrap_or_default(),
                });
            }
        }
        Ok(places)
    }

    /// Reads sources and hands on the hashes of the records of each batch.
    fn read(&self, side: &Compared, take: &mut dyn FnMut(&[u128])) -> Result<(), Error> {
        self.records(side, Width::Source, &mut |_, _, hashes, _, taken| {
            take(hashes);
            let all = self.read.fetch_add(taken, Ordering::Relaxed) + taken;
            self.context.observer.has_read(all);
        })
    }

    /// Reads sources and hands on each batch after the steps: its source, the places of the columns that
    /// count, and the hashes of its records; and how many bytes were read since the last one.
    fn records(&self, side: &Compared, width: Width, take: &mut Take<'_>) -> Result<(), Error> {
        let mut hashes = Vec::new();
        let mut batch = Batch::default();
        let mut cursor = Cursor::default();
        while let Some(mut reader) = side.sources.next(&mut cursor, &side.job, self.context)? {
            let name = reader.name();
            let mut pipeline = side.pipeline_for(reader.as_ref(), self.context)?;
            let places = match &pipeline {
                None => self.places(&name, reader.columns())?,
                Some(pipeline) => {
                    let found = self.places(&name, &columns_of(pipeline))?;
                    let columns = pipeline.layout().columns();
                    found.iter().map(|place| columns[*place].slot).collect()
                }
            };
            let width = match (&pipeline, width) {
                (None, Width::Source) => reader.columns().len(),
                _ => usize::MAX,
            };
            let mut hasher = RecordHasher::new(places.clone(), width);
            let taken = Arc::clone(&reader.facts().taken);
            let mut before = 0;
            while reader.next_batch(&mut batch)? {
                self.context.check_cancelled()?;
                if let Some(pipeline) = &mut pipeline {
                    pipeline
                        .apply(&mut batch)
                        .map_err(|(at, problem)| Error::step(name.clone(), at, problem))?;
                    batch.rejected.clear();
                }
                hasher.hash_all(&batch, &mut hashes);
                let now = taken.load(Ordering::Relaxed);
                take(&name, &batch, &hashes, &places, now - before);
                before = now;
            }
            if let Some(pipeline) = pipeline {
                pipeline.unmatched().map_err(StepError::from)?;
            }
        }
        Ok(())
    }

    /// Reads the whole and the parts, each into something of its own.
    fn both<T: Send>(
        &self,
        workers: &WorkerPool,
        start: impl Fn() -> T + Sync,
        take: impl Fn(&mut T, &[u128], bool) + Sync,
    ) -> Result<(T, T), Error> {
        let one = |is_whole: bool| -> Result<T, Error> {
            let sources = if is_whole { &self.whole } else { &self.parts };
            let mut state = start();
            self.read(sources, &mut |hashes| take(&mut state, hashes, is_whole))?;
            Ok(state)
        };
        let (whole, parts) = workers.join(|| one(true), || one(false));
        Ok((whole?, parts?))
    }

    /// Counts and names the records of some buckets.
    fn name(&self, wanted: &[bool], check: &mut PartsCheck) -> Result<(), Error> {
        let mut counts: HashMap<u128, Counts> = HashMap::new();
        for is_whole in [true, false] {
            let sources = if is_whole { &self.whole } else { &self.parts };
            self.read(sources, &mut |hashes| {
                for hash in hashes.iter().filter(|hash| wanted[bucket(**hash)]) {
                    let counts = counts.entry(*hash).or_default();
                    if is_whole {
                        counts.whole += 1;
                    } else {
                        counts.parts += 1;
                    }
                }
            })?;
        }
        counts.retain(|_, counts| counts.whole != counts.parts);
        for counts in counts.values() {
            let surplus = u64::from(counts.parts.saturating_sub(counts.whole));
            check.missing_records += u64::from(counts.whole.saturating_sub(counts.parts));
            if counts.whole == 0 {
                check.extra_records += surplus;
            } else {
                check.doubled_records += surplus;
            }
        }
        let list = self.options.list;
        if check.missing.len() < list && counts.values().any(|counts| counts.is_missing()) {
            self.find(&self.whole, &mut counts, true, check)?;
        }
        let surplus = counts.values().any(|counts| counts.is_surplus());
        if surplus && (check.extra.len() < list || check.doubled.len() < list) {
            self.find(&self.parts, &mut counts, false, check)?;
        }
        Ok(())
    }

    /// Finds where the records are that make the difference.
    fn find(
        &self,
        side: &Compared,
        counts: &mut HashMap<u128, Counts>,
        missing: bool,
        check: &mut PartsCheck,
    ) -> Result<(), Error> {
        let list = self.options.list;
        let (mut taken, room) = (0, self.options.memory.0 / LISTED);
        self.records(side, Width::Any, &mut |source, batch, hashes, places, _| {
            for (record, hash) in hashes.iter().enumerate() {
                let Some(counts) = counts.get_mut(hash) else {
                    continue;
                };
                counts.passed += 1;
                let named = if missing {
                    // The first of its kind represents all that are missing.
                    counts.is_missing() && counts.passed == 1
                } else {
                    counts.is_surplus() && counts.passed > counts.whole
                };
                let found = match (missing, counts.whole) {
                    (true, _) => &mut check.missing,
                    (false, 0) => &mut check.extra,
                    (false, _) => &mut check.doubled,
                };
                if !named || found.len() >= list || taken > room {
                    continue;
                }
                let values = places.iter().map(|column| {
                    String::from_utf8_lossy(&batch.field(record, *column).text()).into_owned()
                });
                let values: Vec<String> = values.collect();
                taken += values.iter().map(String::len).sum::<usize>() as u64;
                found.push(FoundRecord {
                    source: source.to_owned(),
                    unit: batch.at(record).unit,
                    line: batch.line(record),
                    in_whole: counts.whole.into(),
                    in_parts: counts.parts.into(),
                    values,
                    changed: None,
                });
            }
        })?;
        for counts in counts.values_mut() {
            counts.passed = 0;
        }
        Ok(())
    }
}

/// Finds missing and extra records that differ in a single column: most likely one is the other,
/// changed.
fn pair_changed(check: &mut PartsCheck) {
    if check.columns.len() < 2 {
        return;
    }
    let mut paired = vec![false; check.extra.len()];
    for missing in check.missing.iter_mut().take(COMPARED) {
        for (place, extra) in check.extra.iter_mut().take(COMPARED).enumerate() {
            if paired[place] {
                continue;
            }
            let pairs = missing.values.iter().zip(&extra.values).enumerate();
            let mut differing = pairs.filter(|(_, (one, other))| one != other);
            if let (Some((column, (one, other))), None) = (differing.next(), differing.next()) {
                let changed = ChangedValue {
                    column: check.columns[column].clone(),
                    whole: one.clone(),
                    part: other.clone(),
                    other: (missing.source.clone(), missing.line),
                    unit: missing.unit,
                };
                missing.changed = Some(ChangedValue {
                    other: (extra.source.clone(), extra.line),
                    unit: extra.unit,
                    ..changed.clone()
                });
                extra.changed = Some(changed);
                paired[place] = true;
                break;
            }
        }
    }
}
