//! The first half of a run: reads records, takes the steps, and finds the output of each.

mod begin;
mod document;
mod finish;

use std::collections::HashMap;
use std::fmt;
use std::sync::Arc;
use std::sync::atomic::{AtomicU64, Ordering};

use begin::shared_values;
pub(super) use begin::{OutputMode, SourceBegins, SourceSheet};
pub(super) use finish::Produced;

use super::addresses::{Addresses, Disposition};
use super::earlier::Earlier;
use super::notice::{note, sheet_notices};
use super::plan::RunPlan;
use super::sources::{BATCH, Cursor, Sources, SourcesOpening};
use super::suspects::TotalFinder;
use super::{Context, Error, Notice, prepare};
use crate::ledger::SourceEntry;
use numerant_data::dialect::Dialect;
use numerant_data::record::{Batch, ColumnError, RejectedRecord};
use numerant_data::source::{Place, ReadError, ReadProblem, SourcePath};
use numerant_data::value::Number;
use numerant_format::column::Found;
use numerant_format::{Document, Format, RecordEncoder, RecordReader, SchemaScan};
use numerant_formats::format_for_records;
use numerant_naming::route::{Divider, Division, KeyValues, NOWHERE, Router};
use numerant_steps::{CASE_COLUMN, OnError, Pipeline, SortedBatches, Sorter};
use numerant_text::Reindex;

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
    plan: Arc<RunPlan>,
    context: Context,
    /// The format of the outputs, which that of the first source may have settled.
    format: &'static dyn Format,
    inputs: Sources,
    cursor: Cursor,
    /// The names of the columns that steps and keys are ready for.
    bound: Vec<String>,
    /// Sources that share the types of their columns, by what their records share: the number of
    /// such a set, and the name and columns of its first source.
    sets: HashMap<KeyValues, (usize, String, Vec<String>)>,
    /// The types of the columns, where all sources share them.
    types: Option<Vec<Found>>,
    pipeline: Pipeline,
    router: Router,
    divider: Divider,
    addresses: Addresses,
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
            .field("plan", &self.plan)
            .finish_non_exhaustive()
    }
}

impl Producer {
    /// Opens the first source and makes ready what the plan says.
    pub(super) fn open(plan: Arc<RunPlan>, context: &Context) -> Result<Self, Error> {
        let job = &plan.job;
        let opening = SourcesOpening {
            reads_twice: plan.reads_twice || plan.format.capabilities().has_typed_values,
            // What is found out of all records is found out for all columns alike.
            has_own_columns: plan.is_by_source() && !plan.reads_twice,
            scan: plan.scan.clone(),
        };
        let (inputs, cursor) = Sources::open(job, opening, context)?;
        let addresses =
            Addresses::new(&plan, context.now).with_earlier(Earlier::read(job, &plan.out)?.paths());
        let first = cursor.first.as_ref();
        let is_chosen =
            job.write.shape.is_some() || plan.format.names_elements(&job.write.of_formats);
        let format = match first {
            Some(first) if !is_chosen => format_for_records(plan.format, first.facts().format),
            _ => plan.format,
        };
        let likely_header = first.and_then(|reader| reader.facts().likely_header);
        let source_name = inputs.first_name();
        let unknown = |problem: ColumnError| Error::Column {
            source_name: source_name.clone(),
            problem,
            likely_header,
        };
        let most = plan.max_counted as usize;
        context.observer.begins(inputs.size());
        let pipeline = prepare::pipeline(job, &inputs, context)?;
        let router = prepare::router(plan.keys.clone(), &pipeline, most).map_err(unknown)?;
        addresses.check_before(job.out.is_some())?;
        let mut division = plan.division();
        if let Division::Parts { records, .. } = &mut division {
            let shared = |reader: &dyn RecordReader| shared_values(&plan.template, job, reader);
            let counting = prepare::router(plan.keys.clone(), &pipeline, most).map_err(unknown)?;
            *records = prepare::count_groups(job, &inputs, &pipeline, counting, &shared, context)?;
        }
        let mut types = None;
        if plan.needs_types(format) && !plan.is_by_source() {
            let found = prepare::types(job, &inputs, &pipeline, None, &plan.scan, context)?;
            types = Some(found);
        }
        Ok(Self {
            types,
            context: context.clone(),
            format,
            inputs,
            cursor,
            bound: Vec::new(),
            sets: HashMap::new(),
            pipeline,
            router,
            divider: Divider::new(division, most),
            addresses,
            out_dialect: None,
            first_dialect: None,
            encoder: None,
            sources: Vec::new(),
            notices: Vec::new(),
            diverted: Vec::new(),
            sums: vec![Vec::new(); job.total.len()],
            read_before: 0,
            reindex: Reindex::default(),
            plan,
        })
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
        let mut sorter = prepare::sorter(&self.plan.job, &self.pipeline, &self.context);
        let mut next = self
            .inputs
            .next(&mut self.cursor, &self.plan.job, &self.context)?;
        while let Some(reader) = next {
            let name = reader.name();
            let columns = reader.columns().len();
            spare = self.run_source(reader, spare, sorter.as_mut(), emit)?;
            if self.plan.scan.is_outgrown() {
                return Ok(());
            }
            next = self
                .inputs
                .next(&mut self.cursor, &self.plan.job, &self.context)?;
            if let Some(sorted) = sorter
                .as_mut()
                .filter(|_| self.plan.is_by_source() || next.is_none())
            {
                spare = self.emit_sorted(&name, columns, sorted, spare, emit)?;
            }
            if next.is_none() {
                spare = self.emit_cases(&name, spare, emit)?;
            }
            if let Some(reader) = &next
                && self.rebind(reader.as_ref())?
            {
                sorter = prepare::sorter(&self.plan.job, &self.pipeline, &self.context);
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

    /// Ends the pass, as the plan rests on what the sample showed and the rest is not like it.
    fn outgrow_sample(
        &self,
        source: &SourcePath,
        spare: Box<Routed>,
    ) -> Result<Box<Routed>, Error> {
        match &self.plan.scan {
            SchemaScan::Sample(sample) => sample.outgrow(),
            SchemaScan::Full => return Err(source.error(ReadProblem::ChangedWhileRead).into()),
        }
        Ok(spare)
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
        if self.plan.job.max_size.is_some() {
            self.measure_header(&begins)?;
        }
        let kept = matches!(begins.mode, OutputMode::Sheet(_) | OutputMode::OwnRows(..));
        emit(Message::Source(begins))?;
        if self.plan.job.fill.template.is_none() {
            // What has no columns in its name is written even if no record comes.
            self.router.announce();
            spare = self.emit_announced(&path, spare, emit)?;
        }
        let taken: Arc<AtomicU64> = Arc::clone(&reader.facts().taken);
        let rejected_before = self.pipeline.rejected();
        let mut totals = TotalFinder::new(reader.as_ref());
        while reader.next_batch(&mut spare.batch)? {
            self.context.check_cancelled()?;
            if self.plan.scan.is_outgrown() {
                // An encoder found it.
                return Ok(spare);
            }
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
        if self.plan.scan.is_outgrown() {
            return Ok(spare);
        }
        // What stands around records that are written verbatim is written, too.
        let is_framed = foot.is_some();
        if let (Some(foot), Some(document)) = (foot, reader.document()) {
            let around = document.frame();
            if around.scattered {
                // Nothing is around all of its records, which shows only now.
                return self.outgrow_sample(reader.path(), spare);
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
            self.format.capabilities().has_namespaces && !is_framed && self.plan.shape.is_none();
        if is_anew && reader.document().and_then(Document::redeclared).is_some() {
            // It was not before records that were written as if it were none.
            return self.outgrow_sample(reader.path(), spare);
        }
        let document = reader.document().filter(|_| !is_framed);
        let values_left_out = document.map(Document::values_beside).unwrap_or_default();
        let tally = reader.tally();
        let name = path;
        if let Some(sheet) = reader.sheet().filter(|_| !kept) {
            if let Some(cell) = sheet
                .first_without_value
                .clone()
                .filter(|_| self.plan.refuses_uncomputed)
            {
                let count = sheet.formulas_without_value;
                return Err(Error::Read(ReadError {
                    source_name: name,
                    place: Place::default(),
                    problem: ReadProblem::Uncomputed { cell, count },
                }));
            }
            let job = &self.plan.job;
            let is_rewritten = self.format.capabilities().workbook.is_some()
                && job.fill.template.is_none()
                && !job.write.plain;
            let notices = sheet_notices(&name, &sheet, is_rewritten);
            self.notices.extend(notices);
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
        if !is_by_case
            || !self.divider.outputs().is_empty()
            || self.plan.job.fill.template.is_some()
        {
            return Ok(spare);
        }
        let names = self.plan.job.case.iter().map(|case| case.name.clone());
        self.router
            .announce_values(names.chain(self.plan.job.others.clone()));
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
            if self.plan.job.on_error == OnError::Error {
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
                // The second half reports what cannot be encoded.
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
                most: self
                    .plan
                    .job
                    .max_size
                    .unwrap_or(numerant_data::value::Size(0)),
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
                        column: self.plan.job.total[total].clone(),
                    })?;
                }
            }
        }
        if self.addresses.diverts_any() {
            for output in outputs.iter_mut().filter(|output| **output != NOWHERE) {
                match self.addresses.disposition(*output) {
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
