//! What a run must know of all records before it can write the first: which columns are blank, and
//! how many records each group has.

use std::collections::HashMap;
use std::path::{Path, PathBuf};

use super::profile::Profile;
use super::sources::{BATCH, Sources};
use super::{Context, Error};
use crate::job::{Job, Overflow};
use numerant_data::record::Columns;
use numerant_data::source::{ReadProblem, SourcePath};
use numerant_data::value::Kind;
use numerant_format::column::Found;
use numerant_format::{FillOptions, PutPlace, RecordReader, SchemaScan};
use numerant_formats::open_reader;
use numerant_naming::Key;
use numerant_naming::route::{Division, KeyValues, NOWHERE, Router};
pub(crate) use numerant_sheets::{FillError, TemplateProblem, WorkbookTemplate};
use numerant_steps::{BlankColumns, OnError, Pipeline, PipelineOptions, Sorter, Step};

/// Whether the sources have to be read twice.
pub(super) fn reads_twice(job: &Job) -> bool {
    let reads = |step: &Step| matches!(step, Step::Tidy | Step::Normalize | Step::KeepType(_));
    job.steps.iter().any(reads) || job.parts.is_some()
}

/// The steps of a job, made ready for columns that are not those of its first source.
pub(super) fn pipeline_for(
    job: &Job,
    columns: &Columns,
    sources: &Sources,
    context: &Context,
) -> Result<Pipeline, Error> {
    let options = options(job, sources, context);
    Ok(Pipeline::new(&job.steps, columns, options)?)
}

fn options(job: &Job, sources: &Sources, context: &Context) -> PipelineOptions {
    PipelineOptions {
        cells: job.cells(),
        on_error: job.on_error,
        occurrences: sources.occurrences(),
        written: sources.written().to_vec(),
        cases: job.case.clone(),
        rest: job.others.clone(),
        totals: job.total.clone(),
        blank_columns: Vec::new(),
        column_kinds: Vec::new(),
        open: open_reader,
        temporary: context.temporary.clone(),
        memory: Some(job.memory),
    }
}

/// The steps of a job, made ready for its sources. Sources are read for it where columns without
/// any value are to be left out.
pub(super) fn pipeline(job: &Job, sources: &Sources, context: &Context) -> Result<Pipeline, Error> {
    let mut options = options(job, sources, context);
    if job
        .steps
        .iter()
        .any(|step| matches!(step, Step::KeepType(_)))
    {
        options.column_kinds = column_kinds(job, sources, context)?;
    }
    // What is wrong with the steps shows before a record is read.
    let pipeline = Pipeline::new(&job.steps, sources.columns(), options.clone())?;
    if !job.steps.contains(&Step::Tidy) {
        return Ok(pipeline);
    }
    let mut blank = BlankColumns::new(sources.columns().len());
    sources.read_all(job, context, &mut |batch, _| Ok(blank.look(batch)))?;
    let mut places = blank.into_places();
    if places.len() == sources.columns().len() {
        // There are no records, or none with a value, and so nothing to tell columns apart by.
        places.clear();
    }
    if places.is_empty() {
        return Ok(pipeline);
    }
    let options = PipelineOptions {
        blank_columns: places,
        ..options
    };
    Ok(Pipeline::new(&job.steps, sources.columns(), options)?)
}

/// The types of the columns of the sources, over all records.
fn column_kinds(
    job: &Job,
    sources: &Sources,
    context: &Context,
) -> Result<Vec<(String, Kind)>, Error> {
    let names = sources.columns().names();
    let hints = job.written_hints();
    // How many values differ is of no concern.
    let mut profiles = vec![Profile::new(0); names.len()];
    sources.read_all(job, context, &mut |batch, _| {
        for record in 0..batch.len() {
            for (column, profile) in profiles.iter_mut().enumerate() {
                profile.add(batch.field(record, column), &hints, || batch.line(record));
            }
        }
        Ok(true)
    })?;
    let kinds = names.iter().zip(profiles);
    Ok(kinds
        .map(|(name, profile)| (name.clone(), profile.finish(name).kind))
        .collect())
}

/// What puts the records in order, if the steps want that.
pub(super) fn sorter(job: &Job, pipeline: &Pipeline, context: &Context) -> Option<Sorter> {
    let keys = pipeline.sort();
    (!keys.is_empty()).then(|| {
        Sorter::new(
            keys.to_vec(),
            pipeline.cells().clone(),
            context.temporary.clone(),
            job.memory.0,
            context.threads(job) > 1,
        )
    })
}

/// A router by `keys`, which may be columns that steps have made or dropped.
pub(super) fn router(
    keys: Vec<Key>,
    pipeline: &Pipeline,
    most_groups: usize,
) -> Result<Router, numerant_data::record::ColumnError> {
    let place = |name: &str| {
        let column = pipeline.layout().find(name)?;
        Ok((column.slot, column.computed))
    };
    Router::new(keys, place, pipeline.cells().clone(), most_groups)
}

/// Records of each group, for outputs that are to be as equal as can be. `shared` are the values
/// that the records of a source share.
pub(super) fn count_groups(
    job: &Job,
    sources: &Sources,
    pipeline: &Pipeline,
    mut router: Router,
    shared: &dyn Fn(&dyn RecordReader) -> KeyValues,
    context: &Context,
) -> Result<HashMap<KeyValues, u64>, Error> {
    let mut pipeline = pipeline.clone();
    let mut counts: Vec<u64> = Vec::new();
    let mut places = Vec::new();
    let mut source = None;
    sources.read_all(job, context, &mut |batch, reader| {
        let name = || reader.name();
        if source != Some(name()) {
            router.begin_source(shared(reader));
            source = Some(name());
        }
        pipeline
            .apply(batch)
            .map_err(|(at, problem)| Error::step(name(), at, problem))?;
        // A key without the wanted part is reported when the record is read again.
        while let Err(error) = router.route(batch, &mut places) {
            if job.on_error == OnError::Error {
                return Err(Error::value(name(), batch, error));
            }
            let mut keep = vec![true; batch.len()];
            keep[error.record] = false;
            batch.retain(&keep);
        }
        counts.resize(router.groups().len(), 0);
        for place in &places {
            if *place != NOWHERE {
                counts[*place as usize] += 1;
            }
        }
        Ok(true)
    })?;
    Ok(router.groups().iter().cloned().zip(counts).collect())
}

/// The types of the columns, over all records of one file or of all. Those of a sample are held
/// against what is written.
pub(super) fn types(
    job: &Job,
    sources: &Sources,
    pipeline: &Pipeline,
    only: Option<&SourcePath>,
    scan: &SchemaScan,
    context: &Context,
) -> Result<Vec<Found>, Error> {
    let mut pipeline = pipeline.clone();
    let slots: Vec<usize> = pipeline.layout().columns().iter().map(|c| c.slot).collect();
    let mut found = vec![Found::default(); slots.len()];
    let mut seen = 0;
    let mut scratch = Vec::new();
    sources.read(job, context, only, &mut |batch, reader| {
        seen += batch.bytes.len();
        pipeline
            .apply(batch)
            .map_err(|(at, problem)| Error::step(reader.name(), at, problem))?;
        for (slot, found) in slots.iter().zip(&mut found) {
            for record in 0..batch.len() {
                found.add(batch.field(record, *slot).value(&mut scratch));
            }
        }
        Ok(matches!(scan, SchemaScan::Full) || seen < BATCH * 8)
    })?;
    Ok(found)
}

/// How the groups of a job are cut into outputs, but for what only a source's dialect can tell.
pub(super) fn division(job: &Job, rows_of_a_sheet: Option<u64>) -> Division {
    if let Some(rows) = job.rows {
        return Division::Rows(rows);
    }
    if let Some(parts) = job.parts {
        return Division::Parts {
            parts,
            records: HashMap::new(),
        };
    }
    if let Some(most) = job.max_size {
        return Division::Bytes {
            most: most.0,
            header: 0,
        };
    }
    if job.each {
        return Division::Each;
    }
    if let Some(rows) = rows_of_a_sheet.filter(|_| job.overflow != Overflow::Refuse) {
        return Division::Overflow(rows);
    }
    Division::Whole
}

/// A template, with the places that are to be filled.
pub(super) fn form(template: &Path, fill: &FillOptions) -> Result<WorkbookTemplate, Error> {
    let places: Vec<PutPlace> = fill.put.iter().map(|put| put.place.clone()).collect();
    WorkbookTemplate::open(template, &places).map_err(|error| match error {
        FillError::Form(problem) => Error::Form {
            template: template.to_owned(),
            output: None,
            problem: Box::new(problem),
        },
        FillError::Read(problem) => SourcePath::File(template.to_owned()).error(problem).into(),
        FillError::Write(cause) => SourcePath::File(template.to_owned())
            .error(ReadProblem::Io(cause))
            .into(),
    })
}

/// Files that an error names.
const NAMED: usize = 10;

/// Refuses a template that does not fit the job, or files that fit none of its tables.
pub(super) fn check_template(job: &Job, extension: &str) -> Result<(), Error> {
    let Some(template) = &job.fill.template else {
        return Ok(());
    };
    let wrong = |problem| Error::Form {
        template: template.clone(),
        output: None,
        problem: Box::new(problem),
    };
    if form(template, &job.fill)?.has_macros() && extension != "xlsm" {
        return Err(wrong(TemplateProblem::Macros));
    }
    if !job.case.is_empty() || job.fill.tables().next().is_none() {
        return Ok(());
    }
    let mut without: Vec<String> = Vec::new();
    for source in &job.sources {
        let path = PathBuf::from(source.clone());
        let tables = job.fill.tables();
        let fits = tables.filter(|(_, of)| of.is_none_or(|of| of.fits(&path)));
        let fits: Vec<String> = fits
            .map(|(number, _)| job.fill.put[number].place.to_string())
            .collect();
        match fits.as_slice() {
            [] => without.push(source.to_string()),
            [_] => {}
            [first, second, ..] => {
                return Err(wrong(TemplateProblem::TwoTables {
                    file: source.to_string(),
                    first: first.clone(),
                    second: second.clone(),
                }));
            }
        }
    }
    if without.is_empty() {
        return Ok(());
    }
    let count = without.len() as u64;
    without.truncate(NAMED);
    Err(wrong(TemplateProblem::NoTable {
        files: without,
        count,
    }))
}
