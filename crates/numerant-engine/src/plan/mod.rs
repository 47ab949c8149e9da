//! A job, resolved before a record is read into what its run does.
//!
//! # Invariants
//!
//! Nothing changes a plan. What only the records can show is in the stages that read them; where a
//! sample of the records was not enough, the run is done again with a plan for a full scan.

use std::collections::HashMap;
use std::path::PathBuf;
use std::sync::Arc;

use super::protect::protected;
use super::{Context, Error, FILES_KEPT_FREE, prepare};
use crate::job::{Formulas, Gathering, Job, JobError};
use crate::output::ExistingPolicy;
use numerant_data::source::{Compression, Identity, SourcePath};
use numerant_data::workers::WorkerPool;
use numerant_format::sheet::{Types, Uncomputed};
use numerant_format::{DocumentLanguage, Format, Ragged, ReadContext, SchemaScan};
use numerant_naming::route::Division;
use numerant_naming::{Key, Template};
use numerant_schema::{DocumentSchema, SchemaError, SchemaProblem};
use numerant_shapes::{Shape, ShapeProblem};
use numerant_steps::Step;

/// Outputs that are counted at least, to say how many there would have been.
const COUNTED_OUTPUTS: u64 = 1_000_000;

/// What a run shares with others of its batch.
#[derive(Clone, Copy, Default)]
pub(crate) struct Shared<'a> {
    /// The sources of all of them, none of which may be written to.
    pub(crate) protected: Option<&'a Arc<HashMap<Identity, SourcePath>>>,
    /// A ledger of all of them is kept.
    pub(crate) digest: bool,
}

/// Which records an output holds.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(crate) enum OutputScope {
    /// Those of one source.
    OneSource,
    /// Those of all sources.
    AllSources,
}

/// What a run does.
#[derive(Clone, Debug)]
pub(crate) struct RunPlan {
    /// The job, with the steps that its shape adds and the reading options that hold.
    pub(crate) job: Job,
    /// The job as people stated it, for the ledger.
    pub(crate) stated: Job,
    /// How much of a source is read before its columns and their types are final.
    pub(crate) scan: SchemaScan,
    /// The folder of the outputs.
    pub(crate) out: PathBuf,
    /// The names of the outputs.
    pub(crate) template: Template,
    /// What records belong together by.
    pub(crate) keys: Vec<Key>,
    /// The extension of the outputs.
    pub(crate) extension: String,
    /// The format of the outputs, as far as the job says it.
    pub(crate) format: &'static dyn Format,
    /// Which records an output holds.
    pub(crate) scope: OutputScope,
    /// Sheets come out verbatim, where their source allows it.
    pub(crate) keeps_sheets: bool,
    /// Formulas without a computed value are refused in sheets that are not kept whole.
    pub(crate) refuses_uncomputed: bool,
    /// All records are read once before the first is written.
    pub(crate) reads_twice: bool,
    /// The form of documents.
    pub(crate) shape: Option<Shape>,
    /// Records that a sheet has room for; `None` if outputs are no workbooks.
    pub(crate) rows_of_a_sheet: Option<u64>,
    /// Files that no output may replace.
    pub(crate) protected: Arc<HashMap<Identity, SourcePath>>,
    /// Outputs that are counted before counting is given up: more than there may be.
    pub(crate) max_counted: u64,
    /// The threads that all parts of the run share.
    pub(crate) workers: WorkerPool,
    /// Outputs that may be open at the same time.
    pub(crate) open_outputs: usize,
    /// Digests of the outputs are wanted.
    pub(crate) has_digests: bool,
    /// Other runs of a batch write at the same time.
    pub(crate) is_of_batch: bool,
    /// Outputs may take the place of files that exist.
    pub(crate) replaces: bool,
}

impl RunPlan {
    /// Checks a job and resolves it. Shapes, schemas, layouts and templates are read, and no source.
    ///
    /// # Errors
    ///
    /// For a job that cannot be done.
    pub(crate) fn resolve(
        job: &Job,
        context: &Context,
        shared: &Shared<'_>,
    ) -> Result<Self, Error> {
        job.check()?;
        let first = job.sources.first().ok_or(JobError::NoSource)?;
        let shape = shape_of(job, first)?;
        let keeps_sheets = job.keeps_sheets();
        let keeps_formulas = keeps_sheets && job.formulas == Formulas::Keep && job.total.is_empty();
        let refuses_uncomputed = keeps_formulas && job.read.on_uncomputed == Uncomputed::Error;
        let mut resolved = job.clone();
        if let Some(shape) = &shape {
            let computed = shape.computed().map_err(Box::new)?.into_iter();
            let computed = computed.map(|(name, value)| Step::Set { name, value });
            resolved.steps.extend(computed);
        }
        resolved.read.context = ReadContext {
            may_be_empty: job.is_by_sheet(),
            by_layout: true,
            ..ReadContext::default()
        };
        if job.gathering == Gathering::Sheets && job.read.read_sheet.is_empty() {
            // Hidden ones, too: formulas may lead to them.
            resolved.read.read_sheet = vec!["all".to_owned().into()];
        }
        if keeps_sheets || job.like_source {
            // Records are only counted.
            resolved.read.ragged = Ragged::Pad;
        }
        if refuses_uncomputed {
            // Those of sheets that do not stay as they are, are refused at their end.
            resolved.read.on_uncomputed = Uncomputed::Blank;
        }
        let template = resolved.template(first);
        let (extension, format) = resolved.format(first)?;
        let names_source = template.names_source()
            || job.sheet.as_ref().is_some_and(Template::names_source)
            || job.pages.templates().any(Template::names_source)
            || job.is_by_sheet()
            || job.fill.template.is_some();
        prepare::check_template(&resolved, &extension)?;
        let room = format.capabilities().workbook;
        let own = || Arc::new(protected(&job.sources, job, context));
        let max_counted = COUNTED_OUTPUTS
            .max(job.max_outputs.saturating_add(1))
            .min(u32::MAX.into());
        Ok(Self {
            stated: job.clone(),
            scan: SchemaScan::sample(),
            out: job
                .out
                .clone()
                .unwrap_or_else(|| job.base.join(first.stem())),
            keys: resolved.keys(&template),
            template,
            extension,
            format,
            scope: if names_source {
                OutputScope::OneSource
            } else {
                OutputScope::AllSources
            },
            keeps_sheets,
            refuses_uncomputed,
            reads_twice: prepare::reads_twice(&resolved),
            shape,
            rows_of_a_sheet: room.map(|room| room.rows - u64::from(!job.read.no_header)),
            protected: shared.protected.map_or_else(own, Arc::clone),
            max_counted,
            workers: WorkerPool::new(context.threads(job)),
            open_outputs: context.open_files.saturating_sub(FILES_KEPT_FREE).max(4),
            has_digests: shared.digest || job.ledger.is_some(),
            is_of_batch: shared.protected.is_some(),
            replaces: matches!(
                job.existing,
                ExistingPolicy::Replace | ExistingPolicy::Clear
            ),
            job: resolved,
        })
    }

    /// The same run, with all of a source read before its columns and their types are final.
    fn with_full_scan(&self) -> Self {
        Self {
            scan: SchemaScan::Full,
            ..self.clone()
        }
    }

    /// The schema that the outputs have to conform to.
    ///
    /// # Errors
    ///
    /// If it cannot be read, or is for documents of another language.
    pub(crate) fn schema(&self) -> Result<Option<DocumentSchema>, Error> {
        let Some(path) = &self.job.write.schema else {
            return Ok(None);
        };
        let schema = DocumentSchema::read(path)?;
        let is_xml = self.format.capabilities().language == Some(DocumentLanguage::Xml);
        if schema.is_xml() == is_xml {
            return Ok(Some(schema));
        }
        Err(Error::Schema(SchemaError {
            path: path.clone(),
            problem: SchemaProblem::OtherFormat {
                schema: if is_xml { "JSON" } else { "XML" },
                wanted: self.format.name(),
            },
        }))
    }

    /// Whether outputs hold records of one source each.
    pub(crate) fn is_by_source(&self) -> bool {
        self.scope == OutputScope::OneSource
    }

    /// How outputs are compressed, if they are.
    pub(crate) fn compression(&self) -> Option<Compression> {
        self.template.compression()
    }

    /// Whether the types of columns have to be inferred from their values before they are written in
    /// `format`.
    pub(crate) fn needs_types(&self, format: &dyn Format) -> bool {
        format.capabilities().has_typed_values && self.job.write.types == Types::Auto
    }

    /// What takes the place of a file must be on the disk before that file is gone.
    pub(crate) fn syncs(&self) -> bool {
        self.job.sync || (self.replaces && self.out.exists())
    }

    /// How the groups of records are divided into outputs, but for what only a source can show.
    pub(crate) fn division(&self) -> Division {
        prepare::division(&self.job, self.rows_of_a_sheet)
    }
}

/// How a pass over the sources ended.
#[derive(Debug)]
pub(crate) enum Pass<T> {
    /// All was read.
    Complete(T),
    /// Something was met that the sample of the plan did not show; nothing was committed.
    OutgrewSample,
}

/// Does a run after the plan of its job: in one pass, or in a second one with a full scan where a
/// record further down did not fit what a sample had shown.
pub(crate) fn with_plan<T>(
    job: &Job,
    context: &Context,
    shared: &Shared<'_>,
    work: impl Fn(&Arc<RunPlan>) -> Result<Pass<T>, Error>,
) -> Result<T, Error> {
    let mut plan = Arc::new(RunPlan::resolve(job, context, shared)?);
    loop {
        match work(&plan)? {
            Pass::Complete(done) => return Ok(done),
            Pass::OutgrewSample => plan = Arc::new(plan.with_full_scan()),
        }
    }
}

/// The shape of a job, if it has one that its outputs can have.
fn shape_of(job: &Job, source: &SourcePath) -> Result<Option<Shape>, Error> {
    let Some(path) = &job.write.shape else {
        return Ok(None);
    };
    let shape = Shape::read(path).map_err(Box::new)?;
    let (_, format) = job.format(source)?;
    let (named, language) = if shape.is_xml() {
        ("XML", DocumentLanguage::Xml)
    } else {
        ("JSON", DocumentLanguage::Json)
    };
    if format.capabilities().language == Some(language) {
        return Ok(Some(shape));
    }
    let problem = ShapeProblem::OtherFormat {
        shape: named,
        wanted: format.name(),
    };
    Err(Box::new(shape.error(1, problem)).into())
}

#[cfg(test)]
mod tests;
