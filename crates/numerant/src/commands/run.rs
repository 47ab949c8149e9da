//! The commands that run a job: `split`, `combine` and `convert`.

use std::sync::Arc;

use numerant_data::source::SourcePath;
use numerant_engine::job::Job;
use numerant_engine::{BatchSummary, Context, Error, FileDisposition, Summary};

use super::confirm::confirmed;
use super::page::{self, PagePlace};
use super::{preview, saved, standard_output};
use crate::args::{Mode, RunRequest};
use crate::failure::Failure;
use crate::report::{Progress, Reporter, page as pages};
use crate::surroundings::Interrupts;

pub(super) fn run(
    request: &RunRequest,
    reporter: &Reporter,
    interrupts: &Interrupts,
) -> Result<(), Failure> {
    let job = &request.job;
    if let Some((path, work)) = &request.save {
        return saved::save(work, path, reporter);
    }
    if request.mode == Mode::Ask && job.sources.contains(&SourcePath::Standard) {
        return Err(Failure::Usage {
            message: "--ask reads the answer from standard input, which is the data here".into(),
            hint: "name a file, or use --plan first".into(),
        });
    }
    if request.show > 0 {
        preview::check(job)?;
    }
    if standard_output::is_wanted(job) {
        return standard_output::run_job(request, reporter, interrupts);
    }
    let page = page::place(job.page.as_ref())?;
    if job.batch {
        return batch(request, page.as_ref(), reporter, interrupts);
    }
    if request.mode != Mode::Run {
        let summary = with_progress(request, interrupts, numerant_engine::plan)?;
        reporter.plan(&summary, request.mode == Mode::Ask)?;
        if request.mode == Mode::Plan {
            return shown_records(request, reporter, interrupts);
        }
        if !interrupts.at_once(|| confirmed(&question(&summary)))? {
            return Err(Failure::Declined);
        }
    }
    let summary = with_progress(request, interrupts, numerant_engine::run)?;
    if let Some(page) = page {
        page.write(|folder, made| pages::run(&summary, folder, made))?;
    }
    reporter
        .split(&summary, request.mode == Mode::Ask)
        .map_err(Failure::ShowDone)
}

/// Runs each file by itself.
fn batch(
    request: &RunRequest,
    page: Option<&PagePlace>,
    reporter: &Reporter,
    interrupts: &Interrupts,
) -> Result<(), Failure> {
    if request.mode != Mode::Run {
        let planned = one_failure(with_progress(
            request,
            interrupts,
            numerant_engine::plan_batch,
        )?)?;
        if request.mode == Mode::Plan {
            reporter.batch(&planned, true)?;
            done(&planned)?;
            return shown_records(request, reporter, interrupts);
        }
        reporter.batch_to_confirm(&planned)?;
        if !interrupts.at_once(|| confirmed(&question(&planned.summary)))? {
            return Err(Failure::Declined);
        }
    }
    let batch = one_failure(with_progress(
        request,
        interrupts,
        numerant_engine::run_batch,
    )?)?;
    if let Some(page) = page {
        page.write(|folder, made| pages::run(&batch.summary, folder, made))?;
    }
    reporter.batch(&batch, false).map_err(Failure::ShowDone)?;
    done(&batch)
}

/// Shows the first records of each output, if they are wanted.
fn shown_records(
    request: &RunRequest,
    reporter: &Reporter,
    interrupts: &Interrupts,
) -> Result<(), Failure> {
    match request.show {
        0 => Ok(()),
        count => preview::show(request, count, reporter, interrupts),
    }
}

/// The summary of a job whose output is one.
pub(super) fn summary(request: &RunRequest, interrupts: &Interrupts) -> Result<Summary, Failure> {
    let is_plan = request.mode == Mode::Plan;
    if !request.job.batch {
        let work = if is_plan {
            numerant_engine::plan
        } else {
            numerant_engine::run
        };
        return Ok(with_progress(request, interrupts, work)?);
    }
    let work = if is_plan {
        numerant_engine::plan_batch
    } else {
        numerant_engine::run_batch
    };
    Ok(one_failure(with_progress(request, interrupts, work)?)?.summary)
}

/// A file that was the only one and has failed is an error like that of any run.
fn one_failure(mut batch: BatchSummary) -> Result<BatchSummary, Error> {
    if let [single] = batch.files.as_slice()
        && let FileDisposition::Failed(_) = single.disposition
        && let Some(FileDisposition::Failed(error)) = batch.files.pop().map(|file| file.disposition)
    {
        return Err(*error);
    }
    Ok(batch)
}

fn done(batch: &BatchSummary) -> Result<(), Failure> {
    match batch.failed() {
        0 => Ok(()),
        _ => Err(Failure::SomeFailed),
    }
}

fn with_progress<T>(
    request: &RunRequest,
    interrupts: &Interrupts,
    work: fn(&Job, &Context) -> Result<T, Error>,
) -> Result<T, Error> {
    let progress = Arc::new(Progress::new(request.report.quiet));
    let result = work(
        &request.job,
        &interrupts.context(Arc::clone(&progress) as _),
    );
    progress.clear();
    result
}

fn question(summary: &Summary) -> String {
    let out = crate::report::folder(&summary.out);
    let outputs = crate::report::outputs_in_words(&summary.ledger);
    format!("Write {outputs} to {out}?")
}
