//! `numerant inspect`.

use std::sync::Arc;

use numerant_data::source::SourcePath;
use numerant_schema::sample_of;

use super::{Failure, page, saved};
use crate::args::{InspectRequest, Report};
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
    let mut failure = None;
    for source in &numerant_engine::files(job)? {
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
        if let Err(error) = result {
            failure = Some(error);
            break;
        }
    }
    if let Some(page) = page.filter(|_| failure.is_none()) {
        page.write(|_, made| match values {
            Some(_) => pages::values(&counts, made),
            None => pages::look(&inspections, made),
        })?;
    }
    // People see what was found before a file failed; a program gets one document, the error.
    if failure.is_none() || request.report.report == Report::Text {
        if values.is_some() {
            reporter.values(&counts)?;
        } else if !inspections.is_empty() {
            reporter.inspections(&inspections, request.job.details)?;
        }
    }
    failure.map_or(Ok(()), |error| Err(error.into()))
}
