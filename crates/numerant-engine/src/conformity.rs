//! Holds outputs against a schema before any of them takes its place.

use std::collections::HashMap;
use std::fmt;
use std::path::PathBuf;

use super::consume::Consumer;
use super::documents::WrittenDocument;
use super::plan::RunPlan;
use super::produce::Produced;
use super::traced::Traced;
use super::{Context, Error};
use crate::output::OutputError;
use numerant_data::record::At;
use numerant_format::Placed;
use numerant_schema::{DocumentSchema, Violation};

/// Violations that are listed.
const MAX_LISTED: usize = 20;

/// Outputs that do not fit their schema.
#[derive(Debug)]
pub struct Unfit {
    /// The schema.
    pub schema: PathBuf,
    /// How many outputs do not fit.
    pub outputs: u64,
    /// What does not fit, the first of it.
    pub violations: Vec<UnfitPlace>,
    /// There is more.
    pub has_more: bool,
}

/// A place in an output that does not fit.
#[derive(Debug)]
pub struct UnfitPlace {
    /// The output.
    pub output: String,
    /// The source of the record that it is in, and where that is there.
    pub record: Option<(String, At)>,
    /// What does not fit.
    pub violation: Violation,
}

impl fmt::Display for Unfit {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        let outputs = match self.outputs {
            1 => "1 output is".to_owned(),
            count => format!("{count} outputs are"),
        };
        write!(f, "{outputs} not valid against {}", self.schema.display())
    }
}

impl Unfit {
    /// A line for each place that does not fit.
    pub(super) fn lines(&self) -> Vec<String> {
        self.violations.iter().map(ToString::to_string).collect()
    }
}

impl fmt::Display for UnfitPlace {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        let Violation {
            line,
            path,
            rule,
            what,
            ..
        } = &self.violation;
        write!(f, "{}, line {line}", self.output)?;
        if let Some((source, at)) = &self.record {
            write!(f, ", from {source}, {at}")?;
        }
        write!(f, ": {what} (at {path}, by {rule})")
    }
}

/// Checks that all outputs fit the schema of a job, if it has one.
pub(super) fn check(
    plan: &RunPlan,
    schema: Option<&DocumentSchema>,
    consumer: &Consumer<'_>,
    produced: &Produced,
    late: &HashMap<usize, WrittenDocument>,
    context: &Context,
) -> Result<(), Error> {
    let (Some(schema), Some(path)) = (schema, &plan.job.write.schema) else {
        return Ok(());
    };
    let as_lines = plan.format.capabilities().is_line_by_line;
    let mut unfit = Unfit {
        schema: path.clone(),
        outputs: 0,
        violations: Vec::new(),
        has_more: false,
    };
    for (output, name) in produced.paths.iter().enumerate() {
        let Some(name) = name else { continue };
        context.check_cancelled()?;
        let staged = match late.get(&output) {
            Some(written) => written.staged.clone(),
            None => consumer.path(output),
        };
        let found = schema.violations(&staged, as_lines);
        let found = found.map_err(|cause| OutputError::new("checking", name.as_ref(), cause))?;
        unfit.outputs += u64::from(!found.is_empty());
        for violation in found {
            if unfit.violations.len() >= MAX_LISTED {
                unfit.has_more = true;
                break;
            }
            let placed = late.get(&output).map(|written| &written.placed);
            let offset = violation.offset;
            let record = offset.and_then(|at| record_at(at, placed, consumer.traced(output)));
            unfit.violations.push(UnfitPlace {
                output: name.clone(),
                record: record.map(|(source, at)| (consumer.source_name(source), at)),
                violation,
            });
        }
    }
    match unfit.outputs {
        0 => Ok(()),
        _ => Err(Error::Unfit(Box::new(unfit))),
    }
}

/// The record that is at a byte of an output: the number of its source, and where it stands
/// there.
fn record_at(offset: u64, placed: Option<&Placed>, traced: &[Traced]) -> Option<(u32, At)> {
    let source = traced.first().map(|traced| traced.source)?;
    match placed {
        Some(Placed::Unknown) => None,
        Some(Placed::Within(places)) => {
            let one_source = traced.iter().all(|traced| traced.source == source);
            let mut within = places.iter().filter(|(place, _)| place.contains(&offset));
            let record = within.next_back().map(|(_, at)| (source, *at));
            record.filter(|_| one_source)
        }
        Some(Placed::Behind(head)) => find(offset.checked_sub(*head)?, traced),
        None => find(offset, traced),
    }
}

fn find(offset: u64, traced: &[Traced]) -> Option<(u32, At)> {
    let place = traced.partition_point(|traced| traced.end <= offset);
    traced.get(place).map(|traced| (traced.source, traced.at))
}
