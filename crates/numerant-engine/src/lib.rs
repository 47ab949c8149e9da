//! The one place that knows all the parts: it wires sources, steps, routing, outputs and the
//! ledger into a run.
//!
//! **Sources → records → steps → addresses → outputs → ledger.** A source yields records; steps
//! change them; a name template makes an address of each; every distinct address is one output;
//! and the ledger shows that all that was read was written, left out or rejected.
//!
//! A run has two halves. The first reads records and finds the output of each; the second turns
//! them into bytes and writes those. Each has a thread of its own where there is more than one to
//! be had, with a few batches going round between them; what is written is the same either way.
//! The engine prints nothing, never exits, and reads neither clock nor environment: they are handed in with
//! [`Context`].
//!
//! ```
//! use std::sync::Arc;
//!
//! use numerant_data::disk::Disk;
//! use numerant_engine::job::Job;
//! use numerant_engine::{Context, Unobserved, run};
//!
//! let folder = tempfile::tempdir()?;
//! std::fs::write(folder.path().join("calls.csv"), "id,quay\n1,North\n2,East\n")?;
//! let context = Context {
//!     now: jiff::civil::date(2026, 3, 5).at(14, 20, 0, 0),
//!     cancel: Arc::default(),
//!     observer: Arc::new(Unobserved),
//!     open_files: 64,
//!     processors: 1,
//!     temporary: folder.path().to_owned(),
//!     disk: Disk::default(),
//!     own_files: Vec::new(),
//!     commits: Arc::default(),
//! };
//! let job = Job {
//!     sources: vec![folder.path().join("calls.csv").into()],
//!     name: "{quay}.csv".parse().ok(),
//!     out: Some(folder.path().join("parts")),
//!     ..Job::default()
//! };
//! let summary = run(&job, &context).expect("a run that balances");
//! assert_eq!(summary.ledger.totals.written, 2);
//! assert_eq!(std::fs::read_to_string(folder.path().join("parts/East.csv"))?, "id,quay\n2,East\n");
//! # Ok::<(), std::io::Error>(())
//! ```

mod addresses;
mod batch;
mod compress;
mod conformity;
mod consume;
mod cut_rows;
mod documents;
mod earlier;
mod error;
mod found;
pub mod gather;
mod header;
mod inspect;
pub mod job;
mod keep;
pub mod ledger;
mod notice;
pub mod output;
mod pack;
mod plan;
mod prepare;
mod produce;
mod profile;
mod protect;
mod recovery;
mod run;
mod sources;
mod suspects;
mod table;
mod traced;
mod verify;
mod workbooks;

use std::path::PathBuf;
use std::sync::atomic::{AtomicBool, Ordering};
use std::sync::{Arc, Mutex, MutexGuard, PoisonError};

use jiff::civil::DateTime;

pub use addresses::{ExistingOutput, NameClash, NamesChanged, NamesClashed, Refusal, SideFileKind};
pub use batch::{BatchFile, BatchSummary, FileDisposition, SkipReason, plan_batch, run_batch};
pub use conformity::{Unfit, UnfitPlace};
pub use error::{Error, Fault};
use found::{dated, with_files};
pub use found::{dated_path, files};
pub use inspect::{Inspection, TreeInspection, ValueCounts, inspect, values};
pub use notice::{Notice, SheetNote, TypedOtherwise, ValuesBecause};
use plan::{Shared, with_plan};
pub use profile::{ColumnProfile, Distinct, Outliers, Range, ValueCount};
pub use recovery::recover;
use run::{plan_outputs, run_plan};
pub use suspects::{SimilarKeys, TotalRecords};
pub use table::{TextTable, read_table};
pub use verify::{
    ChangedOutput, ChangedValue, FoundRecord, LedgerCheck, PartsCheck, PartsOptions,
    outputs_of_ledger, parts_of_run, verify_ledger, verify_parts,
};

use crate::job::{Job, JobError};
use crate::ledger::Ledger;
use crate::output::{Changes, Stage, commit};
use numerant_data::disk::Disk;
use numerant_data::source::SourcePath;

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
    /// The file system that outputs are written to.
    pub disk: Disk,
    /// Files that the process reads or writes besides, such as a job file or a log.
    pub own_files: Vec<PathBuf>,
    /// The commits that are under way.
    pub commits: Arc<Commits>,
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

    /// Puts what a run has written in its place.
    fn commit(&self, stage: &Stage, changes: &Changes<'_>) -> Result<Vec<Notice>, Error> {
        self.check_cancelled()?;
        let root = changes.root.to_owned();
        // From here on a signal no longer ends the process at once.
        let _busy = self.commits.begin();
        let committed = commit::<Error>(stage, changes, || self.check_cancelled())?;
        let unlocked = committed.unlocked.then_some(Notice::Unlocked(root));
        Ok(unlocked.into_iter().collect())
    }

    fn check_cancelled(&self) -> Result<(), Error> {
        if self.cancel.load(Ordering::Relaxed) {
            Err(Error::Interrupted)
        } else {
            Ok(())
        }
    }
}

/// The commits that are under way: none is cut short by a signal.
#[derive(Debug, Default)]
pub struct Commits(Mutex<usize>);

impl Commits {
    /// Says that outputs take their places, until what it returns is dropped.
    fn begin(&self) -> Busy<'_> {
        *self.count() += 1;
        Busy(self)
    }

    /// Does something if no commit is under way, and lets none begin meanwhile.
    pub fn unless_under_way(&self, act: impl FnOnce()) {
        let count = self.count();
        if *count == 0 {
            act();
        }
    }

    fn count(&self) -> MutexGuard<'_, usize> {
        self.0.lock().unwrap_or_else(PoisonError::into_inner)
    }
}

struct Busy<'a>(&'a Commits);

impl Drop for Busy<'_> {
    fn drop(&mut self) {
        *self.0.count() -= 1;
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
/// As [`run()`], without what comes of writing.
pub fn plan(job: &Job, context: &Context) -> Result<Summary, Error> {
    let job = &with_files(&dated(job, context), context)?;
    let first = job.sources.first().ok_or(JobError::NoSource)?;
    let unfinished = recovery::before_plan(&recovery::folder_of_run(job, first));
    let mut planned = match &job.pack {
        None => with_plan(job, context, &Shared::default(), |plan| {
            plan_outputs(plan, context)
        })?,
        Some(pack) => {
            job.check()?;
            let inner = pack::planned(job, pack, context)?;
            let planned = with_plan(&inner, context, &Shared::default(), |plan| {
                plan_outputs(plan, context)
            })?;
            Summary {
                out: pack.clone(),
                ..planned
            }
        }
    };
    planned.notices.extend(unfinished);
    Ok(planned)
}

/// Runs a job: reads its sources, writes its outputs, and closes the books.
///
/// # Errors
///
/// [`Error`], and then nothing was written: what was there before is there still.
pub fn run(job: &Job, context: &Context) -> Result<Summary, Error> {
    let job = &with_files(&dated(job, context), context)?;
    let work = |job: &Job| {
        with_plan(job, context, &Shared::default(), |plan| {
            run_plan(plan, context, None)
        })
    };
    job.check()?;
    let first = job.sources.first().ok_or(JobError::NoSource)?;
    let mut notices = recovery::before_run(&recovery::folder_of_run(job, first), job, context)?;
    let mut summary = match &job.pack {
        None => work(job),
        Some(pack) => pack::packed(job, pack, context, work, |summary| summary),
    }?;
    notices.append(&mut summary.notices);
    Ok(Summary { notices, ..summary })
}
