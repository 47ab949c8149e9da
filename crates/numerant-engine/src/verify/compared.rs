//! Files that are compared: how they are opened, with which columns and after which steps.

use super::super::sources::{Sources, SourcesOpening};
use super::super::{Context, Error, prepare};
use super::parts::PartsOptions;
use crate::job::Job;
use numerant_data::record::{ColumnError, Columns};
use numerant_data::source::SourcePath;
use numerant_data::tree::with_plain_dots;
use numerant_format::{ReadOptions, RecordReader, SchemaScan};
use numerant_steps::{Pipeline, Step};

/// The columns of the whole that count.
pub(super) fn compared_columns(
    first: &SourcePath,
    options: &PartsOptions,
    columns: &Columns,
) -> Result<Vec<String>, Error> {
    let unknown = |problem: ColumnError| Error::Column {
        likely_header: None,
        source_name: first.to_string(),
        problem,
    };
    let names: Vec<String> = if options.keep.is_empty() {
        columns.names().to_vec()
    } else {
        for name in &options.keep {
            columns.find(name).map_err(unknown)?;
        }
        options.keep.clone()
    };
    let names: Vec<String> = names
        .into_iter()
        .filter(|name| !options.ignore.contains(name))
        .collect();
    if names.is_empty() {
        return Err(Error::NothingToCompare);
    }
    Ok(names)
}

/// The place of a column. Dots in names are alike, whether they nest in one of the formats or not.
pub(super) fn find_compared(columns: &Columns, name: &str) -> Result<usize, ColumnError> {
    let found = columns.find(name);
    if found.is_ok() || !(name.contains('.')) {
        return found;
    }
    let plain = with_plain_dots(name);
    let mut alike = columns
        .names()
        .iter()
        .enumerate()
        .filter(|(_, name)| with_plain_dots(name) == plain);
    match (alike.next(), alike.next()) {
        (Some((place, _)), None) => Ok(place),
        _ => found,
    }
}

/// The way through sources; of workbooks all sheets that are shown count, or those that are chosen.
pub(super) fn job(options: &PartsOptions, sources: &[SourcePath], read: &ReadOptions) -> Job {
    Job {
        sources: sources.to_vec(),
        read: read.clone(),
        memory: options.memory,
        per_sheet: true,
        ..Job::default()
    }
}

/// How sources are opened of which each may have columns of its own.
pub(super) fn opening(reads_twice: bool, scan: SchemaScan) -> SourcesOpening {
    SourcesOpening {
        reads_twice,
        has_own_columns: true,
        scan,
    }
}

/// Files that are compared, with what is done to their records before.
pub(super) struct Compared {
    pub(super) job: Job,
    pub(super) sources: Sources,
    /// The steps, made ready for the columns of the first source; none if there are none.
    pub(super) pipeline: Option<Pipeline>,
}

impl Compared {
    pub(super) fn open(mut job: Job, context: &Context) -> Result<Self, Error> {
        // Order does not matter here.
        job.steps.retain(|step| !matches!(step, Step::Sort(_)));
        job.total.clear();
        let (sources, _) = Sources::open(&job, opening(true, SchemaScan::Full), context)?;
        let changes = !job.steps.is_empty() || !job.case.is_empty();
        let pipeline = if changes {
            Some(prepare::pipeline(&job, &sources, context)?)
        } else {
            None
        };
        Ok(Self {
            job,
            sources,
            pipeline,
        })
    }

    /// The columns after the steps.
    pub(super) fn columns(&self) -> Columns {
        match &self.pipeline {
            None => self.sources.columns().clone(),
            Some(pipeline) => columns_of(pipeline),
        }
    }

    /// The steps, made ready for one source.
    pub(super) fn pipeline_for(
        &self,
        reader: &dyn RecordReader,
        context: &Context,
    ) -> Result<Option<Pipeline>, Error> {
        match &self.pipeline {
            None => Ok(None),
            Some(pipeline) if reader.columns() == self.sources.columns() => {
                Ok(Some(pipeline.clone()))
            }
            Some(_) => {
                prepare::pipeline_for(&self.job, reader.columns(), &self.sources, context).map(Some)
            }
        }
    }
}

pub(super) fn columns_of(pipeline: &Pipeline) -> Columns {
    let columns = pipeline.layout().columns().iter();
    let names: Vec<&str> = columns.map(|column| column.name.as_str()).collect();
    Columns::from_header(&names)
}
