//! Many files, each a run of its own: several at the same time, and one that fails stops no other.
//!
//! Problems of all of them are reported before the first is read: outputs that two of them would
//! share, outputs that exist. Each output takes its place when its file is done, so that a batch that
//! is interrupted leaves whole files only.

mod merged;
mod tasks;

use std::collections::HashMap;
use std::sync::atomic::{AtomicBool, AtomicU64, Ordering};
use std::sync::{Arc, Mutex, PoisonError};

use merged::Merged;
use tasks::{Task, root, tasks};

use super::addresses::check_beside;
use super::found::{find, source_format};
use super::pack::{packed, planned};
use super::plan::Pass;
use super::protect::protected;
use super::recovery::{before_plan, before_run};
use super::run::keep_ledger;
use super::{
    Context, Error, FILES_KEPT_FREE, Observer, Shared, Summary, dated, plan_outputs, run_plan,
    with_plan,
};
use crate::job::Job;
use crate::ledger::{FailedFile, out_of_ledger};
use crate::output::{Changes, ExistingPolicy, Stage};
use numerant_data::source::{Identity, Selected, SourcePath};
use numerant_data::value::Size;
use numerant_data::workers::WorkerPool;

/// Memory that a file gets at least.
const LEAST_MEMORY: u64 = 8 << 20;

/// What came of a batch.
#[derive(Debug)]
pub struct BatchSummary {
    /// The books of all files that were done.
    pub summary: Summary,
    /// What became of each file, in order.
    pub files: Vec<BatchFile>,
}

/// A file of a batch.
#[derive(Debug)]
pub struct BatchFile {
    /// As it was found.
    pub source: String,
    /// What became of it.
    pub disposition: FileDisposition,
}

/// What became of a file of a batch.
#[derive(Debug)]
pub enum FileDisposition {
    /// It was written, or would be: so many records of it to these paths below the output folder.
    Done {
        /// Records that were written.
        records: u64,
        /// Bytes of the outputs; not known of what is only planned.
        bytes: Option<u64>,
        /// The outputs.
        outputs: Vec<String>,
    },
    /// It was left as it is.
    Skipped(SkipReason),
    /// It could not be done.
    Failed(Box<Error>),
    /// Another one had failed before, and the batch was to stop then.
    NotReached,
}

/// Why a file of a batch was left as it is.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum SkipReason {
    /// Its output exists, and was to stay.
    OutputExists,
    /// Its output is newer than it.
    NotChanged,
    /// It is its own output, as one of an earlier run is.
    IsOutput,
    /// It is the output of this other file.
    OutputOf(String),
}

impl BatchSummary {
    /// How many files could not be done.
    pub fn failed(&self) -> usize {
        let failed = |file: &&BatchFile| matches!(file.disposition, FileDisposition::Failed(_));
        self.files.iter().filter(failed).count()
    }
}

/// Runs each file of a job by itself.
///
/// # Errors
///
/// [`Error`], and then nothing was written, unless it is [`Error::BatchInterrupted`]. What goes
/// wrong with a file is reported for that file.
pub fn run_batch(job: &Job, context: &Context) -> Result<BatchSummary, Error> {
    let job = &dated(job, context);
    let selected = find(job)?;
    let job = &with_found(job, &selected, context);
    match &job.pack {
        None => batch(job, selected, context, false),
        Some(pack) => {
            job.check()?;
            let work = |inner: &Job| batch(inner, selected, context, false);
            packed(job, pack, context, work, |batch| &mut batch.summary)
        }
    }
}

/// Shows what [`run_batch`] would do, and writes nothing.
///
/// # Errors
///
/// As [`run_batch`].
pub fn plan_batch(job: &Job, context: &Context) -> Result<BatchSummary, Error> {
    let job = &dated(job, context);
    let selected = find(job)?;
    let job = &with_found(job, &selected, context);
    let Some(pack) = &job.pack else {
        return batch(job, selected, context, true);
    };
    job.check()?;
    let mut planned = batch(&planned(job, pack, context)?, selected, context, true)?;
    planned.summary.out.clone_from(pack);
    Ok(planned)
}

fn with_found(job: &Job, selected: &Selected, context: &Context) -> Job {
    let files = selected.files.iter();
    Job {
        sources: files.map(|file| file.path.clone()).collect(),
        source_format: source_format(job, selected.files.first().map(|file| &file.path), context),
        ..job.clone()
    }
}

fn batch(
    job: &Job,
    selected: Selected,
    context: &Context,
    planned: bool,
) -> Result<BatchSummary, Error> {
    job.check()?;
    let out = root(job, &selected);
    if let Some(ledger) = &job.ledger {
        check_beside(ledger, &protected(&job.sources, job, context), job.existing)?;
    }
    let mut recovered = if planned {
        Vec::from_iter(before_plan(&out))
    } else {
        before_run(&out, job, context)?
    };
    let (tasks, mut files) = tasks(job, selected, &out, context)?;
    context
        .observer
        .begins(Some(tasks.iter().map(|task| task.size).sum()));
    context.observer.begins_files(tasks.len() as u64);
    let stage = if planned {
        None
    } else {
        Some(Stage::beside(&out, &context.disk)?)
    };
    // What is the output of another file may be replaced.
    let kept = job.sources.iter().zip(&files).filter(|(_, file)| {
        !matches!(
            file.disposition,
            FileDisposition::Skipped(SkipReason::OutputOf(_))
        )
    });
    let sources = Arc::new(protected(kept.map(|(source, _)| source), job, context));
    let mut results = work(&tasks, job, &sources, stage.as_ref(), context)?;
    results.sort_by_key(|(task, _)| *task);
    let mut done = Merged::new(job);
    let cancelled = context.check_cancelled().is_err();
    for (task, result) in results {
        let Task { place, below, .. } = &tasks[task];
        files[*place].disposition = match result {
            Ok(summary) => done.take(summary, below, &files[*place].source),
            Err(Error::Interrupted) if cancelled => FileDisposition::NotReached,
            Err(error) => FileDisposition::Failed(Box::new(error)),
        };
    }
    if cancelled {
        let finished = |file: &&BatchFile| matches!(file.disposition, FileDisposition::Done { .. });
        return Err(Error::BatchInterrupted {
            done: files.iter().filter(finished).count() as u64,
            files: files.len() as u64,
        });
    }
    let mut summary = done.close(out)?;
    let failed = files.iter().filter_map(|file| match &file.disposition {
        FileDisposition::Failed(error) => Some(FailedFile {
            path: file.source.clone(),
            reason: error.to_string(),
        }),
        _ => None,
    });
    summary.ledger.failed = failed.collect();
    recovered.append(&mut summary.notices);
    summary.notices = recovered;
    if let (Some(path), Some(stage)) = (&job.ledger, &stage) {
        summary.ledger.out = out_of_ledger(path, &summary.out);
        let kept = keep_ledger(&mut summary.ledger, job, path, stage)
            .and_then(|ledger| Ok(ledger.finish(job.sync)?))
            .and_then(|ledger| {
                let changes = Changes {
                    root: &summary.out,
                    outputs: Vec::new(),
                    removed: &[],
                    beside: vec![ledger],
                    replace: !matches!(job.existing, ExistingPolicy::Refuse | ExistingPolicy::Skip),
                    sync: job.sync,
                };
                context.commit(stage, &changes)
            });
        // The outputs are in place by now.
        kept.map_err(|cause| Error::LedgerNotKept {
            out: summary.out.clone(),
            cause: Box::new(cause),
        })?;
        summary.kept_ledger = Some(path.clone());
    }
    Ok(BatchSummary { summary, files })
}

/// A task by its place, and what came of it.
type Outcome = (usize, Result<Summary, Error>);

/// Does all tasks, the largest first, so that no thread is left alone with one at the end.
fn work(
    tasks: &[Task],
    job: &Job,
    protected: &Arc<HashMap<Identity, SourcePath>>,
    stage: Option<&Stage>,
    context: &Context,
) -> Result<Vec<Outcome>, Error> {
    let mut order: Vec<usize> = (0..tasks.len()).collect();
    order.sort_by_key(|task| std::cmp::Reverse(tasks[*task].size));
    let threads = context.threads(job).min(tasks.len()).max(1);
    // One file alone may have all threads.
    let threads_each = if threads == 1 { job.jobs } else { 1 };
    let memory = (job.memory.0 / threads as u64).max(LEAST_MEMORY.min(job.memory.0));
    let stopped = AtomicBool::new(false);
    // A stage for each thread, which whoever takes up a file borrows.
    let stages = (0..threads).filter_map(|number| Some(stage?.within(&number.to_string())));
    let stages = Mutex::new(stages.collect::<Result<Vec<Stage>, _>>()?);
    let workers = WorkerPool::new(threads);
    let done = workers.try_map(&order, |task| -> Result<Option<Outcome>, Error> {
        if stopped.load(Ordering::Relaxed) || context.check_cancelled().is_err() {
            return Ok(None);
        }
        let file = &tasks[*task];
        context
            .observer
            .file_begins(&file.job.sources[0].to_string());
        let part = Arc::new(FileProgress {
            outer: Arc::clone(&context.observer),
            before: AtomicU64::new(0),
        });
        let own = Context {
            observer: Arc::clone(&part) as Arc<dyn Observer>,
            open_files: (context.open_files / threads).max(FILES_KEPT_FREE + 8),
            ..context.clone()
        };
        let shared = Shared {
            protected: Some(protected),
            digest: job.ledger.is_some(),
        };
        let single = Job {
            jobs: threads_each,
            memory: Size(memory),
            ..file.job.clone()
        };
        let stages = || stages.lock().unwrap_or_else(PoisonError::into_inner);
        let stage = stages().pop();
        let result = with_plan(&single, &own, &shared, |plan| match &stage {
            Some(stage) => {
                let result = run_plan(plan, &own, Some(stage));
                if leaves_something(&single, &result) {
                    stage.clear();
                }
                result
            }
            None => plan_outputs(plan, &own),
        });
        stages().extend(stage);
        // What was not read of it is done with, too.
        let seen = part.before.load(Ordering::Relaxed);
        context
            .observer
            .has_read_more(file.size.saturating_sub(seen));
        context.observer.file_done(result.is_err());
        if result.is_err() && job.stop_on_error {
            stopped.store(true, Ordering::Relaxed);
        }
        Ok(Some((*task, result)))
    })?;
    Ok(done.into_iter().flatten().collect())
}

/// Whether a run may have left files on its stage.
fn leaves_something(job: &Job, result: &Result<Pass<Summary>, Error>) -> bool {
    match result {
        Err(_) | Ok(Pass::OutgrewSample) => true,
        Ok(Pass::Complete(summary)) => {
            job.existing == ExistingPolicy::Replace
                || summary
                    .ledger
                    .left_out
                    .iter()
                    .any(|entry| entry.path.is_some())
        }
    }
}

/// Hears of one file and tells of the bytes of all.
struct FileProgress {
    outer: Arc<dyn Observer>,
    before: AtomicU64,
}

impl Observer for FileProgress {
    fn begins(&self, _bytes: Option<u64>) {}

    fn has_read(&self, bytes: u64) {
        let before = self.before.fetch_max(bytes, Ordering::Relaxed);
        self.outer.has_read_more(bytes.saturating_sub(before));
    }
}
