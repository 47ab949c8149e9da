//! `numerant inspect`.

use std::sync::Arc;

use numerant_data::source::SourcePath;
use numerant_engine::Fault;
use numerant_schema::sample_of;

use super::{page, saved};
use crate::args::{InspectRequest, Report};
use crate::failure::Failure;
use crate::report::{Progress, Reporter, page as pages};
use crate::surroundings::Interrupts;

pub(super) fn inspect(
    request: &InspectRequest,
    reporter: &Reporter,
    interrupts: &Interrupts,
) -> Result<(), Failure> {
    if let Some((path, work)) = &request.save {
        return saved::save(work, path, reporter);
    }
    let page = page::place(request.job.job.page.as_ref())?;
    let (job, values) = (&request.job.job, &request.job.values);
    let mut inspections = Vec::new();
    let mut counts = Vec::new();
    let mut failed = Vec::new();
    let sources = numerant_engine::files(job)?;
    for source in &sources {
        if let (SourcePath::File(path), None, None, Report::Text) =
            (source, values, &job.read.from, request.report.report)
            && page.is_none()
            && let Some(sample) = sample_of(path).map_err(numerant_engine::Error::from)?
        {
            reporter.sample(&sample)?;
            continue;
        }
        let progress = Arc::new(Progress::new(request.report.quiet));
        let context = interrupts.context(Arc::clone(&progress) as _);
        let result = match values {
            Some(key) => {
                numerant_engine::values(source, key, job, &context).map(|found| counts.push(found))
            }
            None => numerant_engine::inspect(source, job, request.job.show, &context)
                .map(|found| inspections.extend(found)),
        };
        progress.clear();
        match result {
            Ok(()) => {}
            // Only what is wrong with one file leaves the others to be looked at.
            Err(error) if error.fault() == Fault::Data => failed.push(error),
            Err(error) => return Err(error.into()),
        }
    }
    if failed.len() == sources.len() {
        // A program gets one document.
        failed.truncate(match request.report.report {
            Report::Text => failed.len(),
            Report::Json => 1,
        });
        let last = failed.pop();
        for error in failed {
            reporter.failure(&error.into())?;
        }
        return last.map_or(Ok(()), |error| Err(error.into()));
    }
    if let Some(page) = page.filter(|_| failed.is_empty()) {
        page.write(|_, made| match values {
            Some(_) => pages::values(&counts, made),
            None => pages::look(&inspections, made),
        })?;
    }
    if values.is_some() {
        reporter.values(&counts, &failed)?;
    } else {
        reporter.inspections(&inspections, request.job.details, &failed)?;
    }
    if failed.is_empty() {
        Ok(())
    } else {
        Err(Failure::SomeFailed)
    }
}
