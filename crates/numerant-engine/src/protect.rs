//! The files that nothing may be written to.

use std::collections::HashMap;

use super::Context;
use crate::job::Job;
use numerant_data::source::{Identity, SourcePath};

/// The files that a run reads, none of which may be written to: `sources`, and all that its job and its process
/// read besides.
pub(crate) fn protected<'a>(
    sources: impl IntoIterator<Item = &'a SourcePath>,
    job: &Job,
    context: &Context,
) -> HashMap<Identity, SourcePath> {
    let own = context.own_files.iter().cloned();
    let besides = job.files_besides().into_iter().chain(own);
    let besides = besides.map(SourcePath::File);
    let all = sources.into_iter().cloned().chain(besides);
    let known = all.filter_map(|source| Some((source.identity()?, source)));
    known.collect()
}
