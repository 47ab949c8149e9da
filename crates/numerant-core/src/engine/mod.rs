//! The one place that knows all the parts: it wires sources, steps, routing, outputs and the
//! ledger into a run.
//!
//! A run has two halves. The first reads records and finds the output of each; the second turns
//! them into bytes and writes those. Each has a thread of its own where there is more than one to
//! be had, with a few batches going round between them; what is written is the same either way.

mod addresses;
mod batch;
mod books;
mod compress;
mod consume;
mod documents;
mod error;
mod header;
mod inspect;
mod prepare;
mod produce;
mod sources;
mod verify;

use std::collections::HashMap;
use std::path::{Path, PathBuf};
use std::sync::Arc;
use std::sync::atomic::{AtomicBool, Ordering};
use std::sync::mpsc::{self, RecvTimeoutError};
use std::thread;
use std::time::Duration;

use jiff::civil::DateTime;

pub use addresses::{ExistingOutput, NameClash, NamesChanged, NamesClashed, Refusal};
pub use batch::{BatchFile, BatchSummary, FileFate, SkipReason, plan_batch, run_batch};
use consume::Consumer;
pub use error::{Error, Fault};
pub use inspect::{
    ColumnProfile, Distinct, Inspection, TreeInspection, ValueCount, ValueCounts, inspect, values,
};
use produce::{Message, Produced, Producer, Routed};
pub use verify::{
    ChangedOutput, ChangedValue, FoundRecord, LedgerCheck, PartsCheck, PartsOptions, verify_ledger,
    verify_parts,
};

use crate::format::TreeFacts;
use crate::format::sheet::{SheetFacts, Visibility};
use crate::job::Job;
use crate::ledger::{Ledger, OutputEntry, TypedColumn};
use crate::output::{Destination, ExistingPolicy, OutputError, SideFile, Stage, commit};
use crate::record::{Batch, HeaderNote};
use crate::source::{Found, Identity, SelectError, Selected, Selection, SourcePath, select};
use crate::step::{TidyTally, UnmatchedKeys};

/// Batches that go round between the two halves of a run.
const BATCHES: usize = 4;

/// Bytes of stack for the thread that evaluates expressions, which may be nested.
const STACK: usize = 8 << 20;

/// Open files that are left to everything but outputs.
const FILES_KEPT_FREE: usize = 24;

/// What a run needs of the world around it.
#[derive(Clone)]
pub struct Context {
    /// The time of the run, for `{.date}` and `{.time}`.
    pub now: DateTime,
    /// Set to end the run early.
    pub cancel: Arc<AtomicBool>,
    /// Hears how the run is getting on.
    pub observer: Arc<dyn Observer>,
    /// Files that the process may have open.
    pub open_files: usize,
    /// Threads that the machine can run at the same time.
    pub processors: usize,
    /// A folder for what does not fit into memory.
    pub temporary: PathBuf,
}

impl Context {
    /// Threads that a job may use.
    fn threads(&self, job: &Job) -> usize {
        let threads = if job.jobs == 0 {
            self.processors
        } else {
            job.jobs
        };
        threads.clamp(1, 8)
    }

    fn check_cancelled(&self) -> Result<(), Error> {
        if self.cancel.load(Ordering::Relaxed) {
            Err(Error::Interrupted)
        } else {
            Ok(())
        }
    }
}

/// Hears how a run is getting on. It is called from the threads of the run, a few times for each
/// megabyte.
pub trait Observer: Send + Sync {
    /// The bytes that are to be read are known.
    fn begins(&self, bytes: Option<u64>);
    /// So many bytes are read so far.
    fn has_read(&self, bytes: u64);
    /// So many bytes are read besides.
    fn has_read_more(&self, _bytes: u64) {}
    /// So many files are to be done.
    fn begins_files(&self, _files: u64) {}
    /// A file of several begins.
    fn file_begins(&self, _name: &str) {}
    /// A file of several is done, or has failed.
    fn file_done(&self, _failed: bool) {}
    /// All is read; workbooks are made of so many records, and of so many of them so far.
    fn has_written(&self, _records: u64, _of: u64) {}
}

/// An observer that does not listen.
#[derive(Debug, Default)]
pub struct Unobserved;

impl Observer for Unobserved {
    fn begins(&self, _bytes: Option<u64>) {}
    fn has_read(&self, _bytes: u64) {}
}

/// What came of a run.
#[derive(Clone, Debug)]
#[non_exhaustive]
pub struct Summary {
    /// The books.
    pub ledger: Ledger,
    /// The folder that the outputs are in.
    pub out: PathBuf,
    /// Where the ledger is kept, if it is.
    pub kept_ledger: Option<PathBuf>,
    /// The columns whose values a plan shows of the first and last record of each output.
    pub order: Vec<String>,
    /// What the user should know besides.
    pub notices: Vec<Notice>,
}

/// Something that did not stop a run and that its user should know.
#[derive(Clone, Debug, PartialEq, Eq)]
#[non_exhaustive]
pub enum Notice {
    /// Something about a source's header.
    Header {
        /// The source.
        source: String,
        /// What.
        note: HeaderNote,
    },
    /// No delimiter was found; each line of the source is one field.
    SingleColumn {
        /// The source.
        source: String,
    },
    /// Quotes stand where RFC 4180 has none; they were read as they stand.
    StrayQuotes {
        /// The source.
        source: String,
        /// Fields with such quotes.
        fields: u64,
    },
    /// Values that are no file names were changed for the names of outputs.
    NamesChanged(NamesChanged),
    /// Names of outputs fell together, and a policy has settled it.
    NamesClashed(NamesClashed),
    /// Values were trimmed, and columns without any value left out.
    Tidied(TidyTally),
    /// A table does not have all keys.
    Unmatched(UnmatchedKeys),
    /// Cases that held for no record.
    UnusedCases(Vec<String>),
    /// A source is in another format than its name says.
    NotAsNamed {
        /// The file.
        file: String,
        /// The format that it is in.
        format: &'static str,
    },
    /// Only some sheets of a workbook were read.
    SheetsPassedOver {
        /// The workbook.
        workbook: String,
        /// The sheets that were not read.
        sheets: Vec<String>,
    },
    /// Something about the cells of a sheet.
    Sheet {
        /// The source.
        source: String,
        /// What.
        note: SheetNote,
    },
    /// The records of a document were looked for and found.
    Records {
        /// The source.
        source: String,
        /// Sources besides of which the same holds.
        more: u64,
        /// Where they are.
        found: TreeFacts,
    },
    /// Names of columns that no element can have, with those that were written instead.
    NamesMadeLegal(Vec<(String, String)>),
    /// Columns of workbooks that were kept text because of a value.
    KeptText(Vec<TypedColumn>),
}

/// Something about the cells of a sheet that its reader should know.
#[derive(Clone, Debug, PartialEq, Eq)]
#[non_exhaustive]
pub enum SheetNote {
    /// Formulas without a kept value were read as blank.
    FormulasWithoutValue(u64),
    /// Cells hold errors, such as `#N/A`.
    Errors(u64),
    /// Ranges of cells are merged; the first cell of each has the value.
    Merged(u64),
    /// Rows that are hidden were read.
    HiddenRows(u64),
    /// The sheet itself is hidden.
    Hidden,
}

/// That a source is in another format than its name says, if it is.
fn not_as_named(reader: &dyn crate::format::RecordReader) -> Option<Notice> {
    let named = crate::format::format_read(&reader.path().extension())?;
    let format = reader.facts().format;
    let json = [crate::format::JSON, crate::format::JSON_LINES];
    let same = named.name == format || (json.contains(&named.name) && json.contains(&format));
    (!same).then(|| Notice::NotAsNamed {
        file: reader.path().to_string(),
        format,
    })
}

/// What a user should know of a sheet.
fn sheet_notices(source: &str, facts: &SheetFacts) -> Vec<Notice> {
    let info = facts.sheets.iter().find(|info| info.name == facts.sheet);
    let hidden = info.is_some_and(|info| info.visibility != Visibility::Visible);
    let counted = [
        (
            facts.formulas_without_value,
            SheetNote::FormulasWithoutValue as fn(u64) -> SheetNote,
        ),
        (facts.errors, SheetNote::Errors),
        (facts.merged, SheetNote::Merged),
        (facts.hidden_rows, SheetNote::HiddenRows),
    ];
    let notes = counted.into_iter().filter(|(count, _)| *count > 0);
    notes
        .map(|(count, note)| note(count))
        .chain(hidden.then_some(SheetNote::Hidden))
        .map(|note| Notice::Sheet {
            source: source.to_owned(),
            note,
        })
        .collect()
}

/// Shows which outputs a job would write, and writes nothing.
///
/// # Errors
///
/// As [`run`], without what comes of writing.
pub fn plan(job: &Job, context: &Context) -> Result<Summary, Error> {
    let job = &with_files(&dated(job, context))?;
    foreseen(|thorough| plan_once(job, context, thorough, &Shared::default()))
}

/// The job with the day and time of the run in the names of its ledger and rejects.
fn dated(job: &Job, context: &Context) -> Job {
    let dated = |path: &Option<PathBuf>| path.as_deref().map(|path| dated_path(path, context.now));
    Job {
        ledger: dated(&job.ledger),
        rejects: dated(&job.rejects),
        ..job.clone()
    }
}

/// A path with the day for `{.date}` and the time of day for `{.time}`, as names of outputs have
/// them.
pub fn dated_path(path: &Path, now: DateTime) -> PathBuf {
    let Some(text) = path.to_str().filter(|text| text.contains("{.")) else {
        return path.to_owned();
    };
    let time = now.strftime("%H-%M-%S").to_string();
    PathBuf::from(
        text.replace("{.date}", &now.date().to_string())
            .replace("{.time}", &time),
    )
}

/// The files that the sources of a job stand for.
///
/// # Errors
///
/// If a folder or pattern has none, or a folder that was named cannot be looked into.
pub fn find(job: &Job) -> Result<Selected, Error> {
    let extensions = crate::format::read_extensions();
    let selection = Selection {
        recursive: job.recursive,
        pick: &job.pick,
        skip: &job.skip,
        extensions: &extensions,
        out: job.out.as_deref(),
    };
    let mut selected = select(&job.sources, &selection)?;
    if let Some(output) = job.only_output().filter(|_| selected.searched) {
        // What an earlier run has written is not read again.
        let own = SourcePath::File(output).identity();
        let named = |found: &Found| job.sources.contains(&found.path);
        selected
            .files
            .retain(|found| named(found) || own.is_none() || found.path.identity() != own);
    }
    Ok(selected)
}

/// The job with files for the folders and patterns that it names.
fn with_files(job: &Job) -> Result<Job, Error> {
    let mut selected = find(job)?;
    if let Some((folder, cause)) = selected.closed.pop() {
        return Err(SelectError::Folder { folder, cause }.into());
    }
    Ok(Job {
        sources: selected.files.into_iter().map(|file| file.path).collect(),
        ..job.clone()
    })
}

/// What a run shares with others of its batch.
#[derive(Clone, Copy, Default)]
struct Shared<'a> {
    /// Where its outputs are written first.
    stage: Option<&'a Stage>,
    /// The sources of all of them, none of which may be written to.
    protected: Option<&'a Arc<HashMap<Identity, SourcePath>>>,
    /// A ledger of all of them is kept.
    digest: bool,
}

/// Does what is built on what the start of a source tells, and does it anew where a record further
/// down belies that, after a look at all of it.
fn foreseen(work: impl Fn(bool) -> Result<Summary, Error>) -> Result<Summary, Error> {
    match work(false) {
        Err(error) if error.is_unforeseen() => work(true),
        result => result,
    }
}

fn plan_once(
    job: &Job,
    context: &Context,
    thorough: bool,
    shared: &Shared<'_>,
) -> Result<Summary, Error> {
    let mut producer = Producer::open(job, context, thorough, shared)?;
    let (order, slots): (Vec<String>, Vec<usize>) = producer.order_columns().into_iter().unzip();
    let mut planned: Vec<Planned> = Vec::new();
    let mut touched: Vec<u32> = Vec::new();
    producer.run(&mut |message| {
        let Message::Records(routed) = message else {
            return Ok(None);
        };
        planned.resize_with(routed.outputs_so_far, Planned::default);
        for (record, output) in routed.outputs.iter().enumerate() {
            let Some(planned) = planned.get_mut(*output as usize) else {
                continue;
            };
            planned.records += 1;
            if planned.first.is_none() {
                planned.first = Some(order_values(&routed.batch, record, &slots));
            }
            if planned.latest.is_none() {
                touched.push(*output);
            }
            planned.latest = Some(record);
        }
        for output in touched.drain(..) {
            let planned = &mut planned[output as usize];
            if let Some(record) = planned.latest.take() {
                planned.last = Some(order_values(&routed.batch, record, &slots));
            }
        }
        Ok(Some(routed))
    })?;
    let mut records: Vec<u64> = planned.iter().map(|planned| planned.records).collect();
    let mut produced = producer.finish(&mut records)?;
    let mut outputs = Vec::new();
    for (output, path) in produced.paths.iter().enumerate() {
        let Some(path) = path else { continue };
        let planned = planned.get_mut(output).map(std::mem::take);
        let planned = planned.unwrap_or_default();
        outputs.push(OutputEntry {
            path: path.clone(),
            sheet: produced.sheets.get(output).cloned(),
            records: records[output],
            sums: std::mem::take(&mut produced.sums[output]),
            first: planned.first,
            last: planned.last,
            ..OutputEntry::default()
        });
    }
    let mut summary = summary(produced, outputs, Vec::new())?;
    summary.order = order;
    Ok(summary)
}

/// What a plan knows of an output.
#[derive(Debug, Default)]
struct Planned {
    records: u64,
    first: Option<String>,
    last: Option<String>,
    /// Its latest record in the batch that is being looked at.
    latest: Option<usize>,
}

/// The values of a record that show where it is in the order of its source.
fn order_values(batch: &Batch, record: usize, slots: &[usize]) -> String {
    let values: Vec<String> = slots
        .iter()
        .map(|slot| String::from_utf8_lossy(&batch.field(record, *slot).text()).into_owned())
        .collect();
    values.join(" / ")
}

/// Runs a job: reads its sources, writes its outputs, and closes the books.
///
/// # Errors
///
/// [`Error`], and then nothing was written: what was there before is there still.
pub fn run(job: &Job, context: &Context) -> Result<Summary, Error> {
    let job = &with_files(&dated(job, context))?;
    foreseen(|thorough| run_once(job, context, thorough, &Shared::default()))
}

fn run_once(
    job: &Job,
    context: &Context,
    thorough: bool,
    shared: &Shared<'_>,
) -> Result<Summary, Error> {
    let producer = Producer::open(job, context, thorough, shared)?;
    let out = producer.out().to_owned();
    let own_stage = match shared.stage {
        Some(_) => None,
        None => Some(Stage::beside(&out)?),
    };
    let stage = match (&own_stage, shared.stage) {
        (Some(stage), _) | (None, Some(stage)) => stage,
        (None, None) => return Err(Error::Interrupted),
    };
    let digest = shared.digest || job.ledger.is_some();
    let files = context.open_files.saturating_sub(FILES_KEPT_FREE).max(4);
    let threads = context.threads(job);
    let mut consumer = Consumer::new(stage.dir(), &out, job, digest, files, threads);
    let alone = threads == 1;
    let reads_standard_input = job.sources.contains(&crate::source::SourcePath::Standard);
    let producer = if alone && !reads_standard_input {
        let mut producer = producer;
        producer.run(&mut |message| consumer.take(message))?;
        producer
    } else {
        run_threads(producer, &mut consumer, context)?
    };
    let mut records = consumer.records().to_vec();
    let compression = producer.compression();
    let mut produced = producer.finish(&mut records)?;
    let replace = job.existing == ExistingPolicy::Replace;
    let new_folder = !out.exists();
    // What takes the place of a file must be on the disk before that file is gone.
    let sync = job.sync || (replace && !new_folder);
    let keep = Keep {
        sync,
        digest,
        stage,
    };
    let mut outputs = Vec::new();
    let mut destinations = Vec::new();
    let mut types = Vec::new();
    if produced.sheets.is_empty() {
        consumer.finish(sync)?;
        let mut late = documents::write(&consumer, &produced, &records, job, keep, context)?;
        if let Some(compression) = compression {
            compress::write(
                &consumer,
                &produced,
                &mut late,
                compression,
                job,
                keep,
                context,
            )?;
        }
        for (output, path) in produced.paths.iter().enumerate() {
            let Some(path) = path else { continue };
            let (staged, bytes, digest) = match late.remove(&output) {
                Some(written) => (written.staged, written.bytes, written.digest),
                None => (
                    consumer.path(output),
                    consumer.bytes(output),
                    consumer.digest(output),
                ),
            };
            outputs.push(OutputEntry {
                path: path.clone(),
                records: records[output],
                bytes: Some(bytes),
                blake3: digest,
                sums: std::mem::take(&mut produced.sums[output]),
                ..OutputEntry::default()
            });
            destinations.push(Destination {
                staged,
                path: path.clone(),
            });
        }
    } else {
        consumer.finish(false)?;
        let written = books::write(&consumer, &produced, &records, job, keep, context)?;
        for (output, path) in produced.paths.iter().enumerate() {
            let Some(path) = path else { continue };
            let file = written.files.iter().find(|file| file.first == output);
            outputs.push(OutputEntry {
                path: path.clone(),
                sheet: produced.sheets.get(output).cloned(),
                records: records[output],
                bytes: file.map(|file| file.bytes),
                blake3: file.and_then(|file| file.digest.clone()),
                sums: std::mem::take(&mut produced.sums[output]),
                ..OutputEntry::default()
            });
        }
        for file in written.files {
            destinations.push(Destination {
                staged: file.staged,
                path: file.path,
            });
        }
        types = written.types;
    }
    let kept_text: Vec<TypedColumn> = types
        .iter()
        .filter(|column| column.text_because.is_some())
        .cloned()
        .collect();
    if !kept_text.is_empty() {
        produced.notices.push(Notice::KeptText(kept_text));
    }
    let (rejects, rejects_file) = consumer.into_rejects();
    let mut summary = summary(produced, outputs, rejects)?;
    summary.ledger.types = types;
    let mut side_files = Vec::from_iter(rejects_file);
    if let Some(path) = &job.ledger {
        summary.ledger.out = Some(crate::ledger::from_folder_of(path, &out));
        summary.ledger.new_folder = new_folder;
        side_files.push(keep_ledger(&mut summary.ledger, job, path)?);
        summary.kept_ledger = Some(path.clone());
    }
    for side_file in &mut side_files {
        side_file.finish(sync)?;
    }
    context.check_cancelled()?;
    if own_stage.is_none() && !destinations.is_empty() {
        // Another file of the batch may be making the same folder now.
        std::fs::create_dir_all(&out)
            .map_err(|cause| OutputError::new("creating the folder", &out, cause))?;
    }
    commit(stage, &out, &destinations, replace, sync)?;
    for side_file in side_files {
        side_file.commit()?;
    }
    Ok(summary)
}

/// A ledger on its way to `path`.
fn keep_ledger(ledger: &mut Ledger, job: &Job, path: &Path) -> Result<SideFile, Error> {
    ledger.decimal_comma = job.decimal_comma;
    let mut text = serde_json::to_string_pretty(ledger).map_err(Error::Ledger)?;
    text.push('\n');
    let mut file = SideFile::create(path)?;
    file.write(text.as_bytes())?;
    Ok(file)
}

/// How finished outputs are kept until they take their places.
#[derive(Clone, Copy)]
struct Keep<'a> {
    /// They are to be on the disk.
    sync: bool,
    /// Their digests are wanted.
    digest: bool,
    stage: &'a Stage,
}

/// Closes the books.
fn summary(
    produced: Produced,
    outputs: Vec<OutputEntry>,
    rejects: Vec<crate::ledger::Reject>,
) -> Result<Summary, Error> {
    let ledger = Ledger::close(
        produced.sources,
        outputs,
        produced.left_out,
        rejects,
        &produced.totals,
    );
    if !ledger.balanced {
        return Err(Error::Unbalanced(ledger.totals));
    }
    Ok(Summary {
        ledger,
        out: produced.out,
        kept_ledger: None,
        order: Vec::new(),
        notices: produced.notices,
    })
}

/// Runs the first half on a thread of its own and the second here.
fn run_threads(
    producer: Producer,
    consumer: &mut Consumer,
    context: &Context,
) -> Result<Producer, Error> {
    let (messages, inbox) = mpsc::sync_channel::<Message>(BATCHES);
    let (give_back, returned) = mpsc::channel::<Box<Routed>>();
    // The thread is not scoped: one that waits for standard input cannot be waited for when the
    // run is cancelled.
    let first_half = thread::Builder::new()
        .name("reader".to_owned())
        .stack_size(STACK)
        .spawn(move || {
            let mut producer = producer;
            let mut batches = 1;
            let result = producer.run(&mut |message| {
                let is_batch = matches!(message, Message::Records(_));
                // Where nobody listens any more, the second half has failed and says why.
                messages.send(message).map_err(|_| Error::Interrupted)?;
                if !is_batch {
                    return Ok(None);
                }
                if batches < BATCHES {
                    batches += 1;
                    return Ok(returned.try_recv().ok());
                }
                returned.recv().map(Some).map_err(|_| Error::Interrupted)
            });
            result.map(|()| producer)
        });
    let first_half = first_half.map_err(Error::Thread)?;
    loop {
        match inbox.recv_timeout(Duration::from_millis(50)) {
            Ok(message) => {
                if let Some(batch) = consumer.take(message)? {
                    // The first half may be done and not want it back.
                    let _ = give_back.send(batch);
                }
            }
            Err(RecvTimeoutError::Timeout) => {}
            Err(RecvTimeoutError::Disconnected) => break,
        }
        context.check_cancelled()?;
    }
    match first_half.join() {
        Ok(result) => result,
        Err(panic) => std::panic::resume_unwind(panic),
    }
}
