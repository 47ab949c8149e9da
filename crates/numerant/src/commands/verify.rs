//! `numerant verify`.

use std::sync::Arc;

use jiff::Zoned;
use numerant_data::source::SourcePath;
use numerant_engine::job::{Job, VerifyJob};
use numerant_engine::{PartsOptions, dated_path};

use super::{page, saved};
use crate::args::{Report, VerifyRequest};
use crate::failure::Failure;
use crate::report::{Progress, Reporter, page as pages};
use crate::surroundings::Interrupts;

pub(super) fn verify(
    request: &VerifyRequest,
    reporter: &Reporter,
    interrupts: &Interrupts,
) -> Result<(), Failure> {
    if let Some((path, work)) = &request.save {
        return saved::save(work, path, reporter);
    }
    let job = &VerifyJob {
        ledger: request
            .job
            .ledger
            .as_deref()
            .map(|path| dated_path(path, Zoned::now().datetime())),
        ..request.job.clone()
    };
    let page = page::place(job.page.as_ref())?;
    let progress = Arc::new(Progress::new(request.report.quiet));
    let context = interrupts.context(Arc::clone(&progress) as _);
    let holds = if let Some(ledger) = job.ledger.as_ref().filter(|_| job.whole.is_empty()) {
        let result =
            numerant_engine::verify_ledger(ledger, job.out.as_deref(), &job.read, &context);
        progress.clear();
        let check = result?;
        if let Some(page) = page {
            page.write(|_, made| pages::ledger(&check, made))?;
        }
        reporter.ledger_check(&check)?;
        check.holds
    } else {
        let options = PartsOptions {
            whole: files(&job.whole)?,
            parts: files(&job.parts)?,
            read: job.read.clone(),
            parts_read: job.parts_read.clone(),
            job: Job {
                steps: job.steps.clone(),
                date_format: job.date_format.clone(),
                decimal_comma: job.decimal_comma,
                number_format: job.number_format.clone(),
                locale: job.locale.clone(),
                per_sheet: true,
                ..Job::default()
            },
            keep: job.keep.clone(),
            ignore: job.ignore.clone(),
            memory: job.memory,
            // People are shown the first ones, programs get all.
            list: match request.report.report {
                Report::Text => job.list,
                Report::Json => usize::MAX,
            },
            jobs: job.jobs,
        };
        let options = match &job.ledger {
            None => options,
            Some(ledger) => {
                let whole = options.whole.clone();
                numerant_engine::parts_of_run(ledger, job.out.as_deref(), whole, options)?
            }
        };
        let result = numerant_engine::verify_parts(&options, &context);
        progress.clear();
        let check = result?;
        if let Some(page) = page {
            page.write(|_, made| pages::parts(&check, made))?;
        }
        reporter.parts_check(&check)?;
        check.holds
    };
    if holds {
        Ok(())
    } else {
        Err(Failure::DoesNotHold)
    }
}

/// The files that names, folders and patterns represent.
fn files(names: &[SourcePath]) -> Result<Vec<SourcePath>, Failure> {
    let job = Job {
        sources: names.to_vec(),
        recursive: true,
        ..Job::default()
    };
    Ok(numerant_engine::files(&job)?)
}
