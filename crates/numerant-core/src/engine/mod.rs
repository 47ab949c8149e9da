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
mod conformity;
mod consume;
mod documents;
mod earlier;
mod error;
mod found;
mod header;
mod inspect;
mod notice;
mod once;
mod pack;
mod prepare;
mod produce;
mod sources;
mod suspects;
mod verify;

use std::path::PathBuf;
use std::sync::Arc;
use std::sync::atomic::{AtomicBool, Ordering};

use jiff::civil::DateTime;

pub use addresses::{ExistingOutput, NameClash, NamesChanged, NamesClashed, Refusal};
pub use batch::{BatchFile, BatchSummary, FileFate, SkipReason, plan_batch, run_batch};
pub use conformity::{Unfit, UnfitPlace};
pub use error::{Error, Fault};
use found::{dated, with_files};
pub use found::{dated_path, files};
pub use inspect::{
    ColumnProfile, Distinct, Inspection, TreeInspection, ValueCount, ValueCounts, inspect, values,
};
pub use notice::{Notice, SheetNote, ValuesBecause};
use once::{Shared, foreseen, plan_once, run_once};
pub use suspects::{SimilarKeys, TotalRecords};
pub use verify::{
    ChangedOutput, ChangedValue, FoundRecord, LedgerCheck, PartsCheck, PartsOptions, parts_of_run,
    verify_ledger, verify_parts,
};

use crate::job::Job;
use crate::ledger::Ledger;

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

/// Shows which outputs a job would write, and writes nothing.
///
/// # Errors
///
/// As [`run`], without what comes of writing.
pub fn plan(job: &Job, context: &Context) -> Result<Summary, Error> {
    let job = &with_files(&dated(job, context), context)?;
    let Some(pack) = &job.pack else {
        return foreseen(|thorough| plan_once(job, context, thorough, &Shared::default()));
    };
    job.check()?;
    let inner = pack::planned(job, pack)?;
    let planned = foreseen(|thorough| plan_once(&inner, context, thorough, &Shared::default()))?;
    Ok(Summary {
        out: pack.clone(),
        ..planned
    })
}

/// Runs a job: reads its sources, writes its outputs, and closes the books.
///
/// # Errors
///
/// [`Error`], and then nothing was written: what was there before is there still.
pub fn run(job: &Job, context: &Context) -> Result<Summary, Error> {
    let job = &with_files(&dated(job, context), context)?;
    let work =
        |job: &Job| foreseen(|thorough| run_once(job, context, thorough, &Shared::default()));
    match &job.pack {
        None => work(job),
        Some(pack) => {
            job.check()?;
            pack::packed(job, pack, context, work, |summary| summary)
        }
    }
}
