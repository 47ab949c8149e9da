//! The commands that run a job: `numerant split` and `numerant combine`.

use std::io::{self, BufRead, Write};
use std::sync::Arc;

use numerant_core::engine::{self, Context, Error, Summary};
use numerant_core::job::Job;
use numerant_core::source::SourcePath;

use super::Failure;
use crate::args::{Mode, RunRequest};
use crate::report::{Progress, Reporter};
use crate::surroundings::Interrupts;

pub(super) fn run(
    request: &RunRequest,
    reporter: &Reporter,
    interrupts: &Interrupts,
) -> Result<(), Failure> {
    let job = &request.job;
    let with_progress = |work: fn(&Job, &Context) -> Result<Summary, Error>| {
        let progress = Arc::new(Progress::new(request.report.quiet));
        let result = work(job, &interrupts.context(Arc::clone(&progress) as _));
        progress.clear();
        result
    };
    if request.mode == Mode::Ask && job.sources.contains(&SourcePath::Standard) {
        return Err(Failure::Usage {
            message: "--ask reads the answer from standard input, which is the data here".into(),
            hint: "name a file, or look with --plan first".into(),
        });
    }
    if request.mode != Mode::Run {
        let summary = with_progress(engine::plan)?;
        reporter.plan(&summary, request.mode == Mode::Ask)?;
        if request.mode == Mode::Plan {
            return Ok(());
        }
        if !interrupts.at_once(|| confirmed(&summary))? {
            return Err(Failure::Declined);
        }
    }
    let summary = with_progress(engine::run)?;
    reporter.split(&summary, job.ledger.as_deref(), request.mode == Mode::Ask)?;
    Ok(())
}

/// Asks, on standard error, and takes anything but a yes for a no.
fn confirmed(summary: &Summary) -> io::Result<bool> {
    let mut question = io::stderr().lock();
    let out = crate::report::folder(&summary.out);
    write!(
        question,
        "Write {} to {out}? [y/N] ",
        crate::report::outputs_in_words(&summary.ledger)
    )?;
    question.flush()?;
    let mut answer = String::new();
    io::stdin().lock().read_line(&mut answer)?;
    Ok(matches!(answer.trim().to_lowercase().as_str(), "y" | "yes"))
}
