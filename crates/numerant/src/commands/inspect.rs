//! `numerant inspect`.

use std::sync::Arc;

use numerant_core::engine;

use super::Failure;
use crate::args::{InspectRequest, Report};
use crate::report::{Progress, Reporter};
use crate::surroundings::Interrupts;

pub(super) fn inspect(
    request: &InspectRequest,
    reporter: &Reporter,
    interrupts: &Interrupts,
) -> Result<(), Failure> {
    let mut inspections = Vec::new();
    let mut counts = Vec::new();
    let mut failure = None;
    for source in &engine::files(&request.job)? {
        let progress = Arc::new(Progress::new(request.report.quiet));
        let context = interrupts.context(Arc::clone(&progress) as _);
        let result = match &request.values {
            Some(key) => {
                engine::values(source, key, &request.job, &context).map(|found| counts.push(found))
            }
            None => engine::inspect(source, &request.job, request.show, &context)
                .map(|found| inspections.extend(found)),
        };
        progress.clear();
        if let Err(error) = result {
            failure = Some(error);
            break;
        }
    }
    // People see what was found before a file failed; a program gets one document, the error.
    if failure.is_none() || request.report.report == Report::Text {
        if request.values.is_some() {
            reporter.values(&counts)?;
        } else {
            reporter.inspections(&inspections)?;
        }
    }
    failure.map_or(Ok(()), |error| Err(error.into()))
}
