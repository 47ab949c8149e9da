//! The first half of a run: reads records, takes the steps, and finds the output of each.

mod begin;
mod document;
mod finish;

use std::collections::HashMap;
use std::fmt;
use std::path::{Path, PathBuf};
use std::sync::Arc;
use std::sync::atomic::{AtomicU64, Ordering};

use begin::shared_values;
pub(super) use begin::{OutputMode, SourceBegins, SourceSheet};
pub(super) use finish::Produced;

use super::addresses::{Addresses, Disposition, protected};
use super::earlier::Earlier;
use super::notice::{note, sheet_notices};
use super::sources::{BATCH, Cursor, Sources};
use super::suspects::TotalFinder;
use super::{Context, Error, Notice, Shared, prepare};
use crate::job::{Formulas, Gathering, Job, JobError};
use crate::ledger::SourceEntry;
use numerant_data::dialect::Dialect;
use numerant_data::record::{Batch, ColumnError, RejectedRecord};
use numerant_data::source::{Compression, Place, ReadError, ReadProblem};
use numerant_data::value::Number;
use numerant_format::column::Found;
use numerant_format::sheet::{Types, Uncomputed};
use numerant_format::{Document, DocumentLanguage, Format, Ragged, RecordEncoder, RecordReader};
use numerant_formats::format_for_records;
use numerant_naming::Template;
use numerant_naming::route::{Divider, Division, KeyValues, NOWHERE, Router};
use numerant_shapes::{Shape, ShapeProblem};
use numerant_steps::{CASE_COLUMN, OnError, Pipeline, SortedBatches, Sorter, Step};
use numerant_text::Reindex;

/// Outputs that are counted at least, to say how many there would have been.
const COUNTED_OUTPUTS: u64 = 1_000_000;

/// How many outputs are counted before counting is given up: more than there may be.
pub(super) fn most_outputs(job: &Job) -> u64 {
    COUNTED_OUTPUTS
        .max(job.max_outputs.saturating_add(1))
        .min(u32::MAX.into())
}

/// Whether the types of columns have to be found out of their values before they are written.
pub(super) fn needs_types(job: &Job, format: &dyn Format) -> bool {
    format.capabilities().has_typed_values && job.write.types == Types::Auto
}

/// The job with what its shape computes, and the shape, if there is one.
fn shaped(job: &Job) -> Result<(Job, Option<Shape>), Error> {
    let mut job = job.clone();
    let Some(path) = &job.write.shape else {
        return Ok((job, None));
    };
    let shape = Shape::read(path).map_err(Box::new)?;
    let (_, format) = job.format(job.sources.first().ok_or(JobError::NoSource)?)?;
    let wanted = if shape.is_xml() {
        DocumentLanguage::Xml
    } else {
        DocumentLanguage::Json
    };
    let fits = format.capabilities().language == Some(wanted);
    if !fits {
        let problem = ShapeProblem::OtherFormat {
            shape: if shape.is_xml() { "XML" } else { "JSON" },
            wanted: format.name(),
        };
        return Err(Box::new(shape.error(1, problem)).into());
    }
    for (name, value) in shape.computed().map_err(Box::new)? {
        job.steps.push(Step::Set { name, value });
    }
    Ok((job, Some(shape)))
}

/// What the first half hands to the second.
pub(super) enum Message {
    /// The records that follow come from this source.
    Source(SourceBegins),
    /// Records, and the output of each.
    Records(Box<Routed>),
    /// Records of this source in which something is wrong.
    Rejected(Vec<RejectedRecord>),
}

/// A batch with the output of each record.
#[derive(Debug, Default)]
pub(super) struct Routed {
    pub(super) batch: Batch,
    pub(super) outputs: Vec<u32>,
    /// How many outputs there are up to this batch.
    pub(super) outputs_so_far: usize,
    /// The paths of the outputs that first appear in this batch, for messages.
    pub(super) new_paths: Vec<String>,
}

/// Takes a message and gives back a batch to fill, if it has one to spare.
pub(super) type Emit<'a> = dyn FnMut(Message) -> Result<Option<Box<Routed>>, Error> + 'a;

pub(super) struct Producer {
    job: Job,
    context: Context,
    out: PathBuf,
    extension: String,
    format: &'static dyn Format,
    inputs: Sources,
    cursor: Cursor,
    /// Outputs hold records of one source each.
    apart: bool,
    /// The names of the columns that steps and keys are ready for.
    bound: Vec<String>,
    /// Sources that share the types of their columns, by what their records share: the number of
    /// such a set, and the name and columns of its first source.
    sets: HashMap<KeyValues, (usize, String, Vec<String>)>,
    /// Sheets come out as they are, where the source lets them.
    keeps: bool,
    /// Formulas without a computed value are refused in sheets that are not kept whole.
    refuses_uncomputed: bool,
    /// The form that documents are to have.
    shape: Option<Shape>,
    /// What is told of a source is told from all of it.
    thorough: bool,
    /// What the columns are, where all sources share that.
    types: Option<Vec<Found>>,
    pipeline: Pipeline,
    router: Router,
    divider: Divider,
    addresses: Addresses,
    template: Template,
    out_dialect: Option<Dialect>,
    /// The dialect of the first source; records that are put in order are all brought to it.
    first_dialect: Option<Dialect>,
    /// The encoder of the present source.
    encoder: Option<Arc<dyn RecordEncoder>>,
    sources: Vec<SourceEntry>,
    notices: Vec<Notice>,
    /// For each output: records that were found and not handed on, and the totals of all.
    diverted: Vec<u64>,
    sums: Vec<Vec<Number>>,
    read_before: u64,
    reindex: Reindex,
}

impl fmt::Debug for Producer {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.debug_struct("Producer")
            .field("job", &self.job)
            .finish_non_exhaustive()
    }
}

impl Producer {
    /// Checks the job, opens its first source and resolves what the job names.
    pub(super) fn open(
        job: &Job,
        context: &Context,
        thorough: bool,
        shared: &Shared<'_>,
    ) -> Result<Self, Error> {
        job.check()?;
        let keeps = job.keeps_sheets();
        let (mut job, shape) = shaped(job)?;
        job.read.may_be_empty = job.is_by_sheet();
        job.read.by_layout = true;
        if job.gathering == Gathering::Sheets && job.read.read_sheet.is_empty() {
            // Hidden ones, too: formulas may lead to them.
            job.read.read_sheet = vec!["all".to_owned().into()];
        }
        if keeps || job.like_source {
            // Records are only counted.
            job.read.ragged = Ragged::Pad;
        }
        let keeps_formulas = keeps && job.formulas == Formulas::Keep && job.total.is_empty();
        let refuses_uncomputed = keeps_formulas && job.read.on_uncomputed == Uncomputed::Error;
        if refuses_uncomputed {
            // Those of sheets that do not stay as they are, are refused at their end.
            job.read.on_uncomputed = Uncomputed::Blank;
        }
        let (job, shape) = (&mut job, &shape);
        let twice = prepare::reads_twice(job);
        let Some(first_source) = job.sources.first().cloned() else {
            return Err(JobError::NoSource.into());
        };
        let template = job.template(&first_source);
        let (extension, format) = job.format(&first_source)?;
        let apart = template.names_source()
            || job.sheet.as_ref().is_some_and(Template::names_source)
            || job.is_by_sheet()
            || job.fill.template.is_some();
        prepare::check_template(job, &extension)?;
        // What is found out of all records is found out for all columns alike.
        let keep = twice || format.capabilities().has_typed_values;
        let (inputs, cursor) = Sources::open(job, keep, apart && !twice, thorough, context)?;
        prepare::hold_for_any(job, &inputs);
        let job = &*job;
        let out = job
            .out
            .clone()
            .unwrap_or_else(|| job.base.join(first_source.stem()));
        let keys = job.keys(&template);
        let room = format.capabilities().workbook;
        let rows = room.map(|room| room.rows - u64::from(!job.read.no_header));
        let own = || Arc::new(protected(&job.sources, job, context));
        let protected = shared.protected.map_or_else(own, Arc::clone);
        let addresses = Addresses::new(
            job,
            template.clone(),
            keys.clone(),
            &out,
            context.now,
            rows,
            protected,
        )
        .with_earlier(Earlier::read(job, &out)?.paths());
        let first = cursor.first.as_ref();
        let format = match first {
            Some(first) if !job.write.chooses_elements() => {
                format_for_records(format, first.facts().format)
            }
            _ => format,
        };
        let likely_header = first.and_then(|reader| reader.facts().likely_header);
        let unknown = |problem: ColumnError| Error::Column {
            source_name: first_source.to_string(),
            problem,
            likely_header,
        };
        let most = most_outputs(job) as usize;
        context.observer.begins(inputs.size());
        let pipeline = prepare::pipeline(job, &inputs, context)?;
        let router = prepare::router(keys.clone(), &pipeline, most).map_err(unknown)?;
        addresses.check_before(job.out.is_some())?;
        let mut division = prepare::division(job, rows);
        if let Division::Parts { records, .. } = &mut division {
            let shared = |reader: &dyn RecordReader| shared_values(&template, job, reader);
            let counting = prepare::router(keys, &pipeline, most).map_err(unknown)?;
            *records = prepare::count_groups(job, &inputs, &pipeline, counting, &shared, context)?;
        }
        let mut types = None;
        if needs_types(job, format) && !apart {
            let found = prepare::types(job, &inputs, &pipeline, None, thorough, context)?;
            types = Some(found);
        }
        let totals = job.total.len();
        Ok(Self {
            thorough,
            keeps,
            refuses_uncomputed,
            shape: shape.clone(),
            types,
            job: job.clone(),
            context: context.clone(),
            out,
            extension,
            format,
            inputs,
            cursor,
            apart,
            bound: Vec::new(),
            sets: HashMap::new(),
            pipeline,
            router,
            divider: Divider::new(division, most),
            addresses,
            template,
            out_dialect: None,
            first_dialect: None,
            encoder: None,
            sources: Vec::new(),
            notices: Vec::new(),
            diverted: Vec::new(),
            sums: vec![Vec::new(); totals],
            read_before: 0,
            reindex: Reindex::default(),
        })
    }

    /// How outputs are compressed, if they are.
    pub(super) fn compression(&self) -> Option<Compression> {
        self.template.compression()
    }

    pub(super) fn out(&self) -> &Path {
        &self.out
    }

    /// The columns that show where in the order of its source an output begins and ends, with
    /// their places: those that are sorted by, or else the first one that is written.
    pub(super) fn order_columns(&self) -> Vec<(String, usize)> {
        let sort = self.pipeline.sort();
        if !sort.is_empty() {
            return sort
                .iter()
                .map(|key| (key.name.clone(), key.slot))
                .collect();
        }
        let first = self.pipeline.layout().columns().first();
        first
            .map(|column| (column.name.clone(), column.slot))
            .into_iter()
            .collect()
    }

    /// Reads all sources. Once the run is refused, records are counted and not emitted.
    pub(super) fn run(&mut self, emit: &mut Emit<'_>) -> Result<(), Error> {
        let mut spare = Box::new(Routed::default());
        let mut sorter = prepare::sorter(&self.job, &self.pipeline, &self.context);
        let mut next = self
            .inputs
            .next(&mut self.cursor, &self.job, &self.context)?;
        while let Some(reader) = next {
            let name = reader.name();
            let columns = reader.columns().len();
            spare = self.run_source(reader, spare, sorter.as_mut(), emit)?;
            next = self
                .inputs
                .next(&mut self.cursor, &self.job, &self.context)?;
            if let Some(sorted) = sorter.as_mut().filter(|_| self.apart || next.is_none()) {
                spare = self.emit_sorted(&name, columns, sorted, spare, emit)?;
            }
            if next.is_none() {
                spare = self.emit_cases(&name, spare, emit)?;
            }
            if let Some(reader) = &next
                && self.rebind(reader.as_ref())?
            {
                sorter = prepare::sorter(&self.job, &self.pipeline, &self.context);
            }
        }
        let open_elsewhere = std::mem::take(&mut self.cursor.open_elsewhere);
        if !open_elsewhere.is_empty() {
            self.notices.push(Notice::OpenElsewhere(open_elsewhere));
        }
        for (workbook, sheets) in std::mem::take(&mut self.cursor.empty) {
            note(&mut self.notices, Notice::EmptySheets { workbook, sheets });
        }
        for (workbook, sheets) in std::mem::take(&mut self.cursor.without_cells) {
            let left_out = Notice::SheetsWithoutCells { workbook, sheets };
            note(&mut self.notices, left_out);
        }
        for (workbook, sheets) in std::mem::take(&mut self.cursor.passed_over) {
            let passed_over = Notice::SheetsPassedOver { workbook, sheets };
            note(&mut self.notices, passed_over);
        }
        Ok(())
    }

    fn run_source(
        &mut self,
        mut reader: Box<dyn RecordReader>,
        mut spare: Box<Routed>,
        mut sorter: Option<&mut Sorter>,
        emit: &mut Emit<'_>,
    ) -> Result<Box<Routed>, Error> {
        let path = reader.name();
        let (begins, foot) = self.begin_source(reader.as_mut())?;
        if self.job.max_size.is_some() {
            self.measure_header(&begins)?;
        }
        let kept = matches!(
            begins.becomes,
            OutputMode::Sheet(_) | OutputMode::OwnRows(_)
        );
        emit(Message::Source(begins))?;
        if self.job.fill.template.is_none() {
            // What has no columns in its name is written even if no record comes.
            self.router.announce();
            spare = self.emit_announced(&path, spare, emit)?;
        }
        let taken: Arc<AtomicU64> = Arc::clone(&reader.facts().taken);
        let rejected_before = self.pipeline.rejected();
        let mut totals = TotalFinder::new(reader.as_ref());
        while reader.next_batch(&mut spare.batch)? {
            self.context.check_cancelled()?;
            self.pipeline
                .apply(&mut spare.batch)
                .map_err(|(at, problem)| Error::step(path.clone(), at, problem))?;
            if let Some(totals) = &mut totals {
                totals.look(&spare.batch);
            }
            let taken = taken.load(Ordering::Relaxed);
            self.context.observer.has_read(self.read_before + taken);
            match &mut sorter {
                Some(sorter) => {
                    if !spare.batch.rejected.is_empty() {
                        let rejected = std::mem::take(&mut spare.batch.rejected);
                        emit(Message::Rejected(rejected))?;
                    }
                    let failed = |error| sorting(&path, error);
                    if let Some(first) = self.first_dialect {
                        first.bring(&mut spare.batch);
                    }
                    sorter.push(&spare.batch).map_err(failed)?;
                }
                None => spare = self.route_and_emit(&path, spare, emit)?,
            }
        }
        // What stands around records that are written verbatim is written, too.
        let is_framed = foot.is_some();
        if let (Some(foot), Some(document)) = (foot, reader.document()) {
            let around = document.around();
            if around.scattered {
                // Nothing is around all of its records, which shows only now.
                return Err(reader.path().error(ReadProblem::Unforeseen).into());
            }
            let _ = foot.set(around.foot);
        }
        let totals = totals.and_then(|totals| totals.finish(reader.as_ref()));
        self.notices.extend(totals.map(Notice::TotalRecords));
        let facts = reader
            .document()
            .map(Document::messages)
            .unwrap_or_default();
        for facts in facts
            .iter()
            .filter(|facts| facts.unbalanced + facts.miscounted + facts.lower_case > 0)
        {
            self.notices.push(Notice::Messages {
                source: path.clone(),
                facts: facts.clone(),
            });
        }
        self.read_before += taken.load(Ordering::Relaxed);
        let is_anew =
            self.format.capabilities().has_namespaces && !is_framed && self.shape.is_none();
        if is_anew && reader.document().and_then(Document::redeclared).is_some() {
            // It was not before records that were written as if it were none.
            return Err(reader.path().error(ReadProblem::Unforeseen).into());
        }
        let document = reader.document().filter(|_| !is_framed);
        let values_left_out = document.map(Document::values_beside).unwrap_or_default();
        let tally = reader.tally();
        let name = path;
        if let Some(sheet) = reader.sheet().filter(|_| !kept) {
            if let Some(cell) = sheet
                .first_without_value
                .clone()
                .filter(|_| self.refuses_uncomputed)
            {
                let count = sheet.formulas_without_value;
                return Err(Error::Read(ReadError {
                    source_name: name,
                    place: Place::default(),
                    problem: ReadProblem::Uncomputed { cell, count },
                }));
            }
            self.notices.extend(sheet_notices(&name, &sheet));
        }
        let notes = tally.notes().into_iter();
        self.notices
            .extend(notes.map(|note| Notice::text(&name, note)));
        self.sources.push(SourceEntry {
            path: reader.path().to_string(),
            sheet: reader.facts().sheet.clone(),
            bytes: reader.facts().size,
            records: tally.records,
            rejected: tally.rejected + self.pipeline.rejected() - rejected_before,
            padded: if kept { 0 } else { tally.padded },
            blank_lines: tally.blank_lines,
            comments: tally.comments,
            skipped_lines: reader.facts().skipped,
            values_left_out,
            segments: (tally.segments.read > 0).then_some(tally.segments),
        });
        Ok(spare)
    }

    /// Hands on the outputs that are known before a record comes.
    fn emit_announced(
        &mut self,
        path: &str,
        mut spare: Box<Routed>,
        emit: &mut Emit<'_>,
    ) -> Result<Box<Routed>, Error> {
        self.divider.announce(self.router.groups());
        spare.batch.clear();
        spare
            .batch
            .clear_computed(self.pipeline.computed(), self.sums.len());
        self.route_and_emit(path, spare, emit)
    }

    /// Hands on the outputs of all cases, where no record has come to any.
    fn emit_cases(
        &mut self,
        path: &str,
        spare: Box<Routed>,
        emit: &mut Emit<'_>,
    ) -> Result<Box<Routed>, Error> {
        let is_by_case = self.router.is_only_key(CASE_COLUMN);
        if !is_by_case || !self.divider.outputs().is_empty() || self.job.fill.template.is_some() {
            return Ok(spare);
        }
        let names = self.job.case.iter().map(|case| case.name.clone());
        self.router
            .announce_values(names.chain(self.job.rest.clone()));
        self.emit_announced(path, spare, emit)
    }

    /// Routes records that were put in order.
    fn emit_sorted(
        &mut self,
        path: &str,
        width: usize,
        sorter: &mut Sorter,
        mut spare: Box<Routed>,
        emit: &mut Emit<'_>,
    ) -> Result<Box<Routed>, Error> {
        let failed = |error| sorting(path, error);
        let rejected_before = self.pipeline.rejected();
        let mut sorted: SortedBatches = sorter.finish().map_err(failed)?;
        for texts in sorter.sorted_as_text() {
            note(&mut self.notices, Notice::SortedAsText(texts));
        }
        let (computed, sums) = (self.pipeline.computed(), self.sums.len());
        loop {
            if let Some(first) = self.first_dialect {
                first.prepare(&mut spare.batch, width);
            }
            spare.batch.clear_computed(computed, sums);
            if !sorted.next_batch(&mut spare.batch, BATCH).map_err(failed)? {
                break;
            }
            self.context.check_cancelled()?;
            self.reindex.fill(&mut spare.batch);
            spare = self.route_and_emit(path, spare, emit)?;
        }
        if let Some(entry) = self.sources.last_mut() {
            entry.rejected += self.pipeline.rejected() - rejected_before;
        }
        Ok(spare)
    }

    fn route_and_emit(
        &mut self,
        path: &str,
        mut spare: Box<Routed>,
        emit: &mut Emit<'_>,
    ) -> Result<Box<Routed>, Error> {
        self.route(path, &mut spare)?;
        if self.addresses.is_refused() {
            return Ok(spare);
        }
        let mut emitted = emit(Message::Records(spare))?.unwrap_or_default();
        emitted.new_paths.clear();
        Ok(emitted)
    }

    fn route(&mut self, path: &str, routed: &mut Routed) -> Result<(), Error> {
        let Routed {
            batch,
            outputs,
            outputs_so_far,
            new_paths,
        } = routed;
        while let Err(error) = self.router.route(batch, outputs) {
            if self.job.on_error == OnError::Error {
                return Err(Error::value(path.to_owned(), batch, error));
            }
            let reason = format!("column '{}': {}", error.column, error.problem);
            let at = batch.at(error.record);
            self.pipeline
                .reject(batch, error.record, reason)
                .map_err(|problem| Error::step(path.to_owned(), at, problem))?;
        }
        let encoder = self.encoder.clone();
        let size = |record: usize| match &encoder {
            Some(encoder) if !encoder.moves_raw() => {
                let mut bytes = encoder.between().to_vec();
                // What cannot be encoded is told by the second half.
                let _ = encoder.record(batch, record, &mut bytes);
                bytes.len() as u64
            }
            _ => batch.raw(record).len() as u64,
        };
        self.divider
            .divide(outputs, self.router.groups(), size)
            .map_err(|error| Error::TooLarge {
                source_name: path.to_owned(),
                at: batch.at(error.record),
                bytes: error.bytes,
                most: self.job.max_size.unwrap_or(numerant_data::value::Size(0)),
            })?;
        let known = self.divider.outputs().len();
        new_paths.clear();
        if known > self.diverted.len() {
            let before = self.diverted.len();
            self.addresses.name_new(&self.router, &self.divider);
            self.diverted.resize(known, 0);
            for sums in &mut self.sums {
                sums.resize(known, Number::ZERO);
            }
            new_paths.extend((before..known).map(|output| self.addresses.shown(output)));
        }
        *outputs_so_far = known;
        for (total, sums) in self.sums.iter_mut().enumerate() {
            for (output, number) in outputs.iter().zip(&batch.numbers[total]) {
                if let Some(sum) = sums.get_mut(*output as usize) {
                    *sum = sum.plus(*number).map_err(|_| Error::Sum {
                        column: self.job.total[total].clone(),
                    })?;
                }
            }
        }
        if self.addresses.diverts_any() {
            for output in outputs.iter_mut().filter(|output| **output != NOWHERE) {
                match self.addresses.fate(*output) {
                    Disposition::Write => {}
                    Disposition::Joined(other) => {
                        self.diverted[*output as usize] += 1;
                        *output = other;
                    }
                    Disposition::Exists | Disposition::NameTaken | Disposition::Incomplete => {
                        self.diverted[*output as usize] += 1;
                        *output = NOWHERE;
                    }
                }
            }
        }
        Ok(())
    }
}

/// Records that could not be put in order.
fn sorting(source_name: &str, error: std::io::Error) -> ReadError {
    ReadError {
        source_name: source_name.to_owned(),
        place: Place::default(),
        problem: ReadProblem::Sorting(error),
    }
}
