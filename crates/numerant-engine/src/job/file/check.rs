//! What can be known of a job file without reading any data.

use std::path::Path;

use super::{JobFile, JobFileError, JobFileProblem, VerifyJob, Work};
use crate::job::{DeliverJob, Job, JobError};
use numerant_data::source::{SourcePath, plain};

impl JobFile {
    /// Holds all entries against what can be known without reading any data.
    ///
    /// # Errors
    ///
    /// [`JobFileError`] with the line of the job that is wrong.
    pub fn check(&self) -> Result<(), JobFileError> {
        for entry in &self.entries {
            let problem = match &entry.work {
                Work::Split(job) | Work::Combine(job) | Work::Convert(job) | Work::Fill(job) => job
                    .check()
                    .map_err(JobFileProblem::Job)
                    .and_then(|()| reads_own_output(job)),
                Work::Inspect(inspect) if inspect.job.sources.is_empty() => {
                    Err(JobFileProblem::Job(JobError::NoSource))
                }
                Work::Inspect(_) => Ok(()),
                Work::Verify(verify) => check_verify(verify),
                Work::Deliver(deliver) => check_deliver(deliver),
            };
            problem.map_err(|problem| JobFileError {
                path: self.path.clone(),
                line: Some(entry.line),
                problem,
            })?;
        }
        Ok(())
    }
}

/// An error if a job would write to one of its own sources.
fn reads_own_output(job: &Job) -> Result<(), JobFileProblem> {
    let Some(output) = job.only_output() else {
        return Ok(());
    };
    let own = plain(&output);
    let is_own = |source: &SourcePath| source.on_disk().is_some_and(|path| plain(path) == own);
    if job.sources.iter().any(is_own) {
        Err(JobFileProblem::OwnOutput(output))
    } else {
        Ok(())
    }
}

fn check_verify(verify: &VerifyJob) -> Result<(), JobFileProblem> {
    match (
        &verify.ledger,
        verify.whole.is_empty(),
        verify.parts.is_empty(),
    ) {
        (Some(_), true, true) | (None, false, false) => Ok(()),
        _ => Err(JobFileProblem::Verify),
    }
}

fn check_deliver(deliver: &DeliverJob) -> Result<(), JobFileProblem> {
    let is_missing = |path: &Path| path.as_os_str().is_empty();
    if is_missing(&deliver.ledger) || is_missing(&deliver.routes) {
        return Err(JobFileProblem::Deliver);
    }
    Ok(())
}
