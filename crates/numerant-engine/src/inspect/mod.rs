//! Looks at a source: its dialect, its columns, their types and values. Every record is read.

use std::collections::HashMap;
use std::sync::atomic::Ordering;

use serde::Serialize;

use super::notice::{not_as_named, sheet_notices};
use super::profile::{ColumnProfile, Profile, ValueCount};
use super::sources::{BATCH, Cursor, Sources, SourcesOpening};
use super::{Context, Error, Notice, prepare};
use crate::job::Job;
use numerant_data::dialect::{Dialect, LineEnd};
use numerant_data::record::{Batch, HeaderNote, Unit};
use numerant_data::source::{Place, ReadError, ReadProblem, SourcePath};
use numerant_data::workers::WorkerPool;
use numerant_format::sheet::{SheetFacts, Uncomputed};
use numerant_format::{
    DetectedDialect, MessageFacts, ReadTally, RecordReader, SchemaScan, Survey, TextNote, TreeFacts,
};
use numerant_naming::Key;
use numerant_steps::{
    OnError, Pipeline, SortedAsText, StepError, TidyTally, UnknownRecords, UnmatchedKeys,
};
use numerant_text::Reindex;

/// Bytes that a distinct value takes in memory.
const HASH: u64 = 40;

/// Distinct values of a column that are counted exactly at most.
const MOST_DISTINCT: usize = 100_000;

/// Distinct values that are listed with their counts at most.
const MOST_VALUES: usize = 1_000_000;

/// What was found in a source.
#[derive(Clone, Debug, Serialize)]
#[serde(rename_all = "kebab-case")]
pub struct Inspection {
    /// What its records are counted in.
    #[serde(skip_serializing_if = "Unit::is_line")]
    pub unit: Unit,
    /// As it was named.
    pub path: String,
    /// The format's name.
    pub format: &'static str,
    /// Bytes on disk, where they are known.
    pub bytes: Option<u64>,
    /// How it is compressed, if it is.
    pub compression: Option<&'static str>,
    /// How it is written, if it is text.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub dialect: Option<Dialect>,
    /// What of that was detected.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub detected: Option<DetectedDialect>,
    /// What its reader should know of how it is written.
    #[serde(skip_serializing_if = "Vec::is_empty")]
    pub text_notes: Vec<TextNote>,
    /// The sheet, if it is one.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub sheet: Option<SheetFacts>,
    /// The sheets of its workbook that are empty; they stand with the first that is not.
    #[serde(skip_serializing_if = "Vec::is_empty")]
    pub empty_sheets: Vec<String>,
    /// What is in the document, if it is one.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub tree: Option<TreeInspection>,
    /// Whether the first record names the columns.
    pub header: bool,
    /// Lines or rows that were skipped at the start.
    pub skipped: u64,
    /// The file's name says another format.
    pub not_as_named: bool,
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
    /// Columns of the source.
    pub source_columns: u64,
    /// The columns, in order, as the steps leave them.
    pub columns: Vec<ColumnProfile>,
    /// Records that the steps have kept.
    pub kept: u64,
    /// Records that the steps have rejected.
    pub rejected_by_steps: u64,
    /// What was tidied, if that was a step.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub tidied: Option<TidyTally>,
    /// Keys that tables did not have.
    #[serde(skip_serializing_if = "Vec::is_empty")]
    pub unmatched: Vec<UnmatchedKeys>,
    /// Records for which a condition is neither true nor false.
    #[serde(skip)]
    pub unknown: Vec<UnknownRecords>,
    /// Columns of which values were sorted as texts.
    #[serde(skip)]
    pub sorted_as_text: Vec<SortedAsText>,
    /// The first records as they would be written, each with a value for each column.
    pub records: Vec<Vec<String>>,
}

/// What was found in a document.
#[derive(Clone, Debug, Serialize)]
#[serde(rename_all = "kebab-case")]
pub struct TreeInspection {
    /// Where its records are.
    #[serde(flatten)]
    pub facts: TreeFacts,
    /// Its paths.
    pub survey: Survey,
    /// What was found of each kind of message, if its records are in messages.
    #[serde(skip_serializing_if = "Vec::is_empty")]
    pub messages: Vec<MessageFacts>,
    /// A list with so many items that they were not flattened as columns.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub long_list: Option<String>,
}

/// The values of a column or of a part of it, with how often each stands.
#[derive(Clone, Debug, Serialize)]
#[serde(rename_all = "kebab-case")]
pub struct ValueCounts {
    /// The source.
    pub path: String,
    /// The column and part.
    pub key: Key,
    /// Records in all, without rejected ones.
    pub records: u64,
    /// Records that were rejected.
    pub rejected: u64,
    /// Values, those that stand most often first; among equals in the order of their text.
    pub values: Vec<ValueCount>,
    /// There are more distinct values than could be counted; their records are not in `values`.
    pub incomplete: bool,
}

/// Reads all of `source` and says what is in it, after the steps of the job: once for a text, and for
/// each sheet of a workbook that is shown or chosen. The first `show` records are kept as they would
/// be written.
///
/// # Errors
///
/// If it cannot be read, or a step cannot be taken.
pub fn inspect(
    source: &SourcePath,
    job: &Job,
    show: usize,
    context: &Context,
) -> Result<Vec<Inspection>, Error> {
    let mut job = Job {
        sources: vec![source.clone()],
        per_sheet: true,
        ..job.clone()
    };
    refuse_no_formula(&mut job);
    let twice = prepare::reads_twice(&job);
    let (sources, mut cursor) = Sources::open(&job, opening(twice, !twice), context)?;
    context.observer.begins(sources.size());
    let mut inspections = Vec::new();
    while let Some(reader) = sources.next(&mut cursor, &job, context)? {
        let pipeline = if reader.columns() == sources.columns() {
            prepare::pipeline(&job, &sources, context)?
        } else {
            prepare::pipeline_for(&job, reader.columns(), &sources, context)?
        };
        inspections.push(inspect_one(reader, pipeline, &job, show, context)?);
    }
    let empty = cursor.empty.into_iter().flat_map(|(_, sheets)| sheets);
    if let Some(first) = inspections.first_mut() {
        first.empty_sheets.extend(empty);
    }
    Ok(inspections)
}

/// Lets formulas without a computed value be counted, and not refused.
fn refuse_no_formula(job: &mut Job) {
    if job.read.on_uncomputed == Uncomputed::Error {
        job.read.on_uncomputed = Uncomputed::Blank;
    }
}

/// Reads all of one source.
fn inspect_one(
    mut reader: Box<dyn RecordReader>,
    mut pipeline: Pipeline,
    job: &Job,
    show: usize,
    context: &Context,
) -> Result<Inspection, Error> {
    let source = reader.name();
    let slots: Vec<usize> = pipeline
        .layout()
        .columns()
        .iter()
        .map(|column| column.slot)
        .collect();
    let mut sorter = prepare::sorter(job, &pipeline, context);
    let sorting = |error| {
        Error::Read(ReadError {
            source_name: source.clone(),
            place: Place::default(),
            problem: ReadProblem::Sorting(error),
        })
    };
    let facts = reader.facts().clone();
    let taken = &facts.taken;
    let room = job.memory.0 / 2 / (slots.len().max(1) as u64 * HASH);
    let most = usize::try_from(room).map_or(MOST_DISTINCT, |room| room.min(MOST_DISTINCT));
    let empty = Profile::new(most);
    let mut profiles: Vec<Profile> = vec![empty; slots.len()];
    let (mut fields, mut quoted, mut other_line_ends, mut kept) = (0, 0, 0, 0);
    let mut records: Vec<Vec<String>> = Vec::new();
    let dialect = facts.dialect;
    let width = reader.columns().len();
    let hints = job.written_hints();
    let workers = WorkerPool::new(context.threads(job));
    let (mut batch, mut next) = (Batch::default(), Batch::default());
    let mut is_read = reader.next_batch(&mut batch)?;
    while is_read {
        context.check_cancelled()?;
        for record in 0..batch.len() {
            let raw = batch.raw(record);
            let pair = raw.ends_with(b"\r\n");
            let expected_pair = dialect.line_end == LineEnd::CrLf;
            other_line_ends += u64::from(pair != expected_pair);
            quoted += batch.quoted_fields(record);
        }
        fields += (batch.len() * width) as u64;
        pipeline
            .apply(&mut batch)
            .map_err(|(at, problem)| Error::step(source.clone(), at, problem))?;
        kept += batch.len() as u64;
        // A column's values are looked at by one thread, in their order, while the next records are read.
        let look = || {
            workers.for_each(&mut profiles, |place, profile| {
                for record in 0..batch.len() {
                    let field = batch.field(record, slots[place]);
                    profile.add(field, &hints, || batch.line(record));
                }
            });
        };
        let ((), read) = workers.join(look, || reader.next_batch(&mut next));
        match &mut sorter {
            Some(sorter) => sorter.push(&batch).map_err(sorting)?,
            None => take_records(&batch, &slots, show, &mut records),
        }
        is_read = read?;
        std::mem::swap(&mut batch, &mut next);
        context.observer.has_read(taken.load(Ordering::Relaxed));
    }
    let mut sorted_as_text = Vec::new();
    if let Some(mut sorter) = sorter {
        let mut sorted = sorter.finish().map_err(sorting)?;
        sorted_as_text = sorter.sorted_as_text();
        dialect.prepare(&mut batch, width);
        batch.clear_computed(pipeline.computed(), 0);
        let mut reindex = Reindex::default();
        while records.len() < show && sorted.next_batch(&mut batch, BATCH).map_err(sorting)? {
            reindex.fill(&mut batch);
            take_records(&batch, &slots, show, &mut records);
            batch.clear_computed(pipeline.computed(), 0);
        }
    }
    let unmatched = pipeline.unmatched().map_err(StepError::from)?;
    let columns = pipeline
        .layout()
        .columns()
        .iter()
        .zip(profiles)
        .map(|(column, profile)| profile.finish(&column.name))
        .collect();
    Ok(Inspection {
        unit: facts.unit,
        path: source.clone(),
        format: facts.format,
        bytes: facts.size,
        compression: facts.compression,
        dialect: facts.detected.map(|_| facts.written),
        detected: facts.detected,
        text_notes: facts.notes.clone(),
        sheet: reader.sheet(),
        empty_sheets: Vec::new(),
        tree: match reader.document() {
            None => None,
            Some(document) => Some(TreeInspection {
                facts: document.facts().clone(),
                survey: document.survey()?,
                messages: document.messages().to_vec(),
                long_list: document
                    .long_list(&|_| true)
                    .and_then(|error| match error.problem {
                        ReadProblem::TooManyItems { path, .. } => Some(path),
                        _ => None,
                    }),
            }),
        },
        header: dialect.header,
        skipped: facts.skipped,
        not_as_named: not_as_named(reader.as_ref()).is_some(),
        tally: reader.tally(),
        other_line_ends,
        quoted_fields: quoted,
        fields,
        header_notes: reader.columns().notes().to_vec(),
        source_columns: width as u64,
        columns,
        kept,
        rejected_by_steps: pipeline.rejected(),
        tidied: pipeline
            .tidied()
            .filter(|tidied| !tidied.is_empty())
            .cloned(),
        unmatched,
        unknown: pipeline.unknown(),
        sorted_as_text,
        records,
    })
}

/// Keeps the first records as they would be written.
fn take_records(batch: &Batch, slots: &[usize], show: usize, records: &mut Vec<Vec<String>>) {
    for record in 0..batch.len().min(show.saturating_sub(records.len())) {
        let text = |slot: &usize| {
            let value = batch.field(record, *slot).text();
            String::from_utf8_lossy(&value).into_owned()
        };
        records.push(slots.iter().map(text).collect());
    }
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
        if !self.empty_sheets.is_empty() {
            notices.push(Notice::EmptySheets {
                workbook: source(),
                sheets: self.empty_sheets.clone(),
            });
        }
        if self.not_as_named {
            notices.push(Notice::NotAsNamed {
                file: source(),
                format: self.format,
            });
        }
        let notes = self.text_notes.iter().cloned().chain(self.tally.notes());
        notices.extend(notes.map(|note| Notice::text(&self.path, note)));
        if self.detected.is_some_and(|found| found.single_column) {
            notices.push(Notice::SingleColumn { source: source() });
        }
        if let Some(sheet) = &self.sheet {
            notices.extend(sheet_notices(&self.path, sheet, false));
        }
        notices.extend(self.tidied.clone().map(Notice::Tidied));
        notices.extend(self.unmatched.iter().cloned().map(Notice::Unmatched));
        notices.extend(self.unknown.iter().cloned().map(Notice::Unknown));
        notices.extend(
            self.sorted_as_text
                .iter()
                .cloned()
                .map(Notice::SortedAsText),
        );
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
    let mut job = Job {
        sources: vec![source.clone()],
        by: vec![key.clone()],
        ..job.clone()
    };
    refuse_no_formula(&mut job);
    let (sources, mut cursor): (Sources, Cursor) =
        Sources::open(&job, opening(prepare::reads_twice(&job), false), context)?;
    context.observer.begins(sources.size());
    let mut pipeline = prepare::pipeline(&job, &sources, context)?;
    let found = pipeline
        .layout()
        .find(&key.column)
        .map_err(|problem| Error::Column {
            likely_header: None,
            source_name: source.to_string(),
            problem,
        })?;
    let column = found.slot;
    let cells = if found.computed {
        pipeline.cells().computed()
    } else {
        pipeline.cells().clone()
    };
    let mut counts: HashMap<String, u64> = HashMap::new();
    let (mut records, mut rejected, mut incomplete) = (0, 0, false);
    let mut batch = Batch::default();
    let mut text = String::new();
    let mut names = Vec::new();
    while let Some(mut reader) = sources.next(&mut cursor, &job, context)? {
        names.push(reader.name());
        let name = reader.name();
        let taken = std::sync::Arc::clone(&reader.facts().taken);
        while reader.next_batch(&mut batch)? {
            context.check_cancelled()?;
            pipeline
                .apply(&mut batch)
                .map_err(|(at, problem)| Error::step(name.clone(), at, problem))?;
            for record in 0..batch.len() {
                text.clear();
                let value = batch.field(record, column).text();
                if let Err(problem) = key.part.of_column(&value, column, &cells, &mut text) {
                    if job.on_error == OnError::Reject {
                        rejected += 1;
                        continue;
                    }
                    return Err(Error::Value {
                        source_name: name.clone(),
                        at: batch.at(record),
                        column: key.column.clone(),
                        problem,
                    });
                }
                records += 1;
                if let Some(count) = counts.get_mut(&text) {
                    *count += 1;
                } else if counts.len() < MOST_VALUES {
                    counts.insert(text.clone(), 1);
                } else {
                    incomplete = true;
                }
            }
            context.observer.has_read(taken.load(Ordering::Relaxed));
        }
        rejected += reader.tally().rejected;
    }
    // Keys that a table does not have are refused here as they are in a run.
    pipeline.unmatched().map_err(StepError::from)?;
    rejected += pipeline.rejected();
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
        path: match names.as_slice() {
            [name] => name.clone(),
            _ => source.to_string(),
        },
        key: key.clone(),
        records,
        rejected,
        values,
        incomplete,
    })
}

/// How sources are opened to look at all of them.
fn opening(reads_twice: bool, has_own_columns: bool) -> SourcesOpening {
    SourcesOpening {
        reads_twice,
        has_own_columns,
        scan: SchemaScan::Full,
    }
}
