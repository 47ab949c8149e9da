//! `numerant verify`.

use std::path::PathBuf;
use std::sync::Arc;

use numerant_core::engine::{self, PartsOptions};
use numerant_core::job::Job;
use numerant_core::source::SourcePath;

use super::Failure;
use crate::args::{VerifyRequest, What};
use crate::report::{Progress, Reporter};
use crate::surroundings::Interrupts;

pub(super) fn verify(
    request: &VerifyRequest,
    reporter: &Reporter,
    interrupts: &Interrupts,
) -> Result<(), Failure> {
    let progress = Arc::new(Progress::new(request.report.quiet));
    let context = interrupts.context(Arc::clone(&progress) as _);
    let holds = match &request.what {
        What::Ledger { ledger, out } => {
            let result = engine::verify_ledger(ledger, out.as_deref(), &request.read, &context);
            progress.clear();
            let check = result?;
            reporter.ledger_check(&check)?;
            check.holds
        }
        What::Parts {
            whole,
            parts,
            keep,
            ignore,
        } => {
            let options = PartsOptions {
                whole: files(whole)?,
                parts: files(parts)?,
                read: request.read.clone(),
                keep: keep.clone(),
                ignore: ignore.clone(),
                memory: request.memory,
                list: request.list,
                jobs: request.jobs,
            };
            let result = engine::verify_parts(&options, &context);
            progress.clear();
            let check = result?;
            reporter.parts_check(&check)?;
            check.holds
        }
    };
    if holds {
        Ok(())
    } else {
        Err(Failure::DoesNotHold)
    }
}

/// The files that names, folders and patterns stand for.
fn files(names: &[String]) -> Result<Vec<SourcePath>, Failure> {
    let job = Job {
        sources: names
            .iter()
            .map(|name| PathBuf::from(name).into())
            .collect(),
        recursive: true,
        ..Job::default()
    };
    let found = engine::find(&job)?.files.into_iter();
    Ok(found.map(|file| file.path).collect())
}
