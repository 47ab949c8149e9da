//! `numerant verify`.

use std::sync::Arc;

use numerant_core::engine::{self, PartsOptions};
use numerant_core::format::known_extensions;
use numerant_core::source::{self, SourcePath};

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

/// The files that names and patterns stand for.
fn files(names: &[String]) -> Result<Vec<SourcePath>, Failure> {
    let extensions = known_extensions();
    let mut all: Vec<SourcePath> = Vec::new();
    for name in names {
        let found = source::files(name, &extensions).map_err(|error| Failure::Usage {
            message: error.to_string(),
            hint: "name files, folders, or patterns such as 'parts/**/*.csv'".into(),
        })?;
        for file in found {
            if !all.contains(&file) {
                all.push(file);
            }
        }
    }
    Ok(all)
}
