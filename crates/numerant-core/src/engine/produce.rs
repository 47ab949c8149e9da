//! The first half of a run: reads records, takes the steps, and finds the output of each.

use std::collections::HashMap;
use std::fmt;
use std::path::{Path, PathBuf};
use std::sync::Arc;
use std::sync::atomic::{AtomicU64, Ordering};

use super::addresses::{Addresses, Fate, NamesChanged, SourceNames};
use super::header::header;
use super::prepare;
use super::sources::{BATCH, Cursor, Sources};
use super::{Context, Error, Notice};
use crate::format::delimited::{DelimitedEncoder, Delimiter, Dialect, Quote, Reindex};
use crate::format::sheet::{SpooledColumn, Spooler};
use crate::format::{BookFormat, Format, RecordEncoder, RecordReader};
use crate::job::Job;
use crate::ledger::{LeftOut, LeftOutReason, SourceEntry};
use crate::name::{RunField, Template};
use crate::record::{Batch, ColumnError, RejectedRecord, Unit};
use crate::route::{Divider, Division, KeyValues, NOWHERE, Router};
use crate::source::{ReadError, ReadProblem};
use crate::step::{LeftOutStep, OnError, Pipeline, SortedBatches, Sorter};
use crate::value::{ColumnType, DecimalMark, Number};

/// Outputs that are counted at least, to say how many there would have been.
const COUNTED_OUTPUTS: u64 = 1_000_000;

/// How many outputs are counted before counting is given up: more than there may be.
pub(super) fn most_outputs(job: &Job) -> u64 {
    COUNTED_OUTPUTS
        .max(job.max_outputs.saturating_add(1))
        .min(u32::MAX.into())
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

/// A source begins.
pub(super) struct SourceBegins {
    pub(super) name: String,
    /// What its records become.
    pub(super) becomes: Becomes,
    /// Turns its rejected records into bytes of the rejects file.
    pub(super) reject_encoder: Arc<dyn RecordEncoder>,
    /// The dialect of its batches.
    pub(super) dialect: Dialect,
    /// The dialect of the rejects file.
    pub(super) reject_dialect: Dialect,
    pub(super) unit: Unit,
}

/// What records become.
#[derive(Clone)]
pub(super) enum Becomes {
    /// Bytes of outputs, at once.
    Bytes(Arc<dyn RecordEncoder>),
    /// Rows of sheets, when all are known. Sources with the same number share the types of their
    /// columns.
    Rows(Arc<Spooler>, usize),
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

/// What the first half knows at the end.
pub(super) struct Produced {
    pub(super) out: PathBuf,
    pub(super) sources: Vec<SourceEntry>,
    pub(super) notices: Vec<Notice>,
    /// The path of each output; `None` where it is not to be written.
    pub(super) paths: Vec<Option<String>>,
    /// The sheet of each output; empty where outputs are text.
    pub(super) sheets: Vec<String>,
    /// How workbooks are written.
    pub(super) book: Option<&'static BookFormat>,
    /// Control totals of each output.
    pub(super) sums: Vec<Vec<Number>>,
    pub(super) left_out: Vec<LeftOut>,
    /// Columns that were summed up, with their sums over what was read and what was rejected.
    pub(super) totals: Vec<(String, Number, Number)>,
}

/// Takes a message and gives back a batch to fill, if it has one to spare.
pub(super) type Emit<'a> = dyn FnMut(Message) -> Result<Option<Box<Routed>>, Error> + 'a;

pub(super) struct Producer {
    job: Job,
    context: Context,
    out: PathBuf,
    extension: String,
    format: &'static Format,
    inputs: Sources,
    cursor: Cursor,
    /// Outputs hold records of one source each.
    apart: bool,
    /// The names of the columns that steps and keys are ready for.
    bound: Vec<String>,
    /// Sources that share the types of their columns, by what their records share: the number of
    /// such a set, and the name and columns of its first source.
    sets: HashMap<KeyValues, (usize, String, Vec<String>)>,
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
    pub(super) fn open(job: &Job, context: &Context) -> Result<Self, Error> {
        job.check()?;
        let twice = prepare::reads_twice(job);
        let Some(first_source) = job.sources.first().cloned() else {
            return Err(crate::job::JobError::NoSource.into());
        };
        let template = job.template(&first_source);
        let (extension, format) = job.format(&first_source)?;
        let apart =
            template.names_source() || job.sheet.as_ref().is_some_and(Template::names_source);
        // What is found out of all records is found out for all columns alike.
        let (inputs, cursor) = Sources::open(job, twice, apart && !twice, context)?;
        let out = job
            .out
            .clone()
            .unwrap_or_else(|| PathBuf::from(first_source.stem()));
        let keys = job.keys(&template);
        let rows = format
            .book
            .as_ref()
            .map(|book| book.limits.rows - u64::from(!job.read.no_header));
        let addresses =
            Addresses::new(job, template.clone(), keys.clone(), &out, context.now, rows);
        let unknown = |problem: ColumnError| Error::Column {
            source_name: first_source.to_string(),
            problem,
        };
        let most = most_outputs(job) as usize;
        context.observer.begins(inputs.size());
        let pipeline = prepare::pipeline(job, &inputs, context)?;
        let router = prepare::router(keys.clone(), &pipeline, most).map_err(unknown)?;
        addresses.check_before(job.out.is_some())?;
        let mut division = prepare::division(job, rows);
        if let Division::Parts { records, .. } = &mut division {
            let shared =
                |reader: &dyn RecordReader| shared_values(&template, job.sheet.as_ref(), reader);
            let counting = prepare::router(keys, &pipeline, most).map_err(unknown)?;
            *records = prepare::count_groups(job, &inputs, &pipeline, counting, &shared, context)?;
        }
        let totals = job.total.len();
        Ok(Self {
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
            if let Some(reader) = &next
                && self.rebind(reader.as_ref())?
            {
                sorter = prepare::sorter(&self.job, &self.pipeline, &self.context);
            }
        }
        for (workbook, sheets) in std::mem::take(&mut self.cursor.passed_over) {
            self.notices
                .push(Notice::SheetsPassedOver { workbook, sheets });
        }
        Ok(())
    }

    /// Makes steps and keys ready for a source, if its columns are not those of the one before.
    fn rebind(&mut self, reader: &dyn RecordReader) -> Result<bool, Error> {
        if !self.apart || self.bound == reader.columns().names() {
            return Ok(false);
        }
        let mut pipeline = prepare::pipeline_for(&self.job, reader.columns(), &self.context)?;
        pipeline
            .carry(&self.pipeline)
            .map_err(|problem| Error::step(reader.name(), crate::record::At::header(), problem))?;
        let layout = pipeline.layout();
        let place = |name: &str| {
            layout
                .find(name)
                .map(|column| (column.slot, column.computed))
        };
        self.router.rebind(place).map_err(|problem| Error::Column {
            source_name: reader.name(),
            problem,
        })?;
        self.pipeline = pipeline;
        self.first_dialect = None;
        Ok(true)
    }

    /// The number of the set of sources that a source shares the types of its columns with, which
    /// then must have its columns.
    fn set_of(&mut self, reader: &dyn RecordReader, shared: &KeyValues) -> Result<usize, Error> {
        let names = reader.columns().names();
        let shared = if self.apart {
            shared.clone()
        } else {
            KeyValues::new()
        };
        let new = self.sets.len();
        let set = self.sets.entry(shared);
        let (set, first, columns) = set.or_insert_with(|| (new, reader.name(), names.to_vec()));
        if columns != names {
            let first = first.clone();
            let difference = "the records of both would go into the same outputs".to_owned();
            return Err(Error::Read(ReadError {
                source_name: reader.name(),
                place: crate::source::Place::default(),
                problem: ReadProblem::OtherColumns { first, difference },
            }));
        }
        Ok(*set)
    }

    fn begin_source(&mut self, reader: &dyn RecordReader) -> Result<SourceBegins, Error> {
        let name = reader.name();
        let facts = reader.facts().clone();
        let path = reader.path();
        if let Some(notice) = super::not_as_named(reader)
            && !self.notices.contains(&notice)
        {
            self.notices.push(notice);
        }
        for note in reader.columns().notes() {
            self.notices.push(Notice::Header {
                source: name.clone(),
                note: note.clone(),
            });
        }
        if facts.told.is_some_and(|told| told.single_column) {
            self.notices.push(Notice::SingleColumn {
                source: name.clone(),
            });
        }
        let shared = shared_values(&self.template, self.job.sheet.as_ref(), reader);
        let set = self.set_of(reader, &shared)?;
        reader.columns().names().clone_into(&mut self.bound);
        self.router.begin_source(shared);
        self.addresses.begin_source(SourceNames {
            stem: path.stem(),
            extension: path.extension(),
            folder: path.folder(),
            sheet: facts.sheet.clone().unwrap_or_else(|| path.stem()),
        });
        let dialect = facts.dialect;
        // An output can hold records of several sources, so all outputs follow the first.
        let out = *self.out_dialect.get_or_insert_with(|| {
            self.job
                .write
                .dialect(&self.extension, dialect, &path.extension())
        });
        let first = *self.first_dialect.get_or_insert(dialect);
        let from = if self.pipeline.sort().is_empty() {
            dialect
        } else {
            first
        };
        let keep_line_ends = self.job.write.line_end.is_none() && out.line_end == from.line_end;
        let layout = self.pipeline.layout();
        let width = reader.columns().len();
        let mut above = header(reader.header(), layout);
        if let Some((header, _)) = &mut above {
            from.bring(header);
        }
        self.encoder = None;
        let becomes = match &self.format.book {
            Some(book) => {
                let spooler = self.spooler(book, from, above.as_ref());
                spooler.check().map_err(|problem| Error::Encode {
                    path: self.out.display().to_string(),
                    source_name: name.clone(),
                    problem: Box::new(problem),
                })?;
                Becomes::Rows(Arc::new(spooler), set)
            }
            None => {
                let encoder: Arc<dyn RecordEncoder> = Arc::new(DelimitedEncoder::new(
                    from,
                    out,
                    layout.selection(width),
                    width,
                    above,
                    keep_line_ends,
                ));
                self.encoder = Some(Arc::clone(&encoder));
                Becomes::Bytes(encoder)
            }
        };
        let as_it_stands = reader
            .header()
            .map(|header| (header.first_as_batch(), None));
        let reject_dialect = match dialect.is_cells() {
            true => Dialect {
                delimiter: Delimiter::COMMA,
                quote: Quote::Byte(b'"'),
                ..dialect
            },
            false => dialect,
        };
        let reject_encoder =
            DelimitedEncoder::new(dialect, reject_dialect, None, width, as_it_stands, true);
        Ok(SourceBegins {
            name,
            becomes,
            reject_encoder: Arc::new(reject_encoder),
            dialect,
            reject_dialect,
            unit: facts.unit,
        })
    }

    /// What keeps the records of a source for the sheets of `book`.
    fn spooler(
        &self,
        book: &BookFormat,
        dialect: Dialect,
        above: Option<&super::header::Header>,
    ) -> Spooler {
        let layout = self.pipeline.layout();
        let header = above.map(|(header, places)| {
            let text = |place: usize| {
                let text = header.field(0, place).text();
                String::from_utf8_lossy(&text).into_owned()
            };
            match places {
                Some(places) => places.iter().map(|place| text(*place)).collect(),
                None => (0..header.width()).map(text).collect(),
            }
        });
        let commas = self.pipeline.cells().mark == DecimalMark::Comma;
        let columns = layout.columns().iter().map(|column| {
            // Computed numbers are written with a comma where that was said of the source.
            let number = column.computed && commas && column.kind == crate::expr::Type::Number;
            SpooledColumn {
                slot: column.slot,
                stored: dialect.is_cells() && !column.computed,
                declared: column.declared.or(number.then_some(ColumnType::Decimal)),
            }
        });
        Spooler {
            columns: columns.collect(),
            header,
            cells: self.pipeline.cells().clone(),
            limits: book.limits,
            format: self.format.name,
            control_signs: self.job.write.control_signs,
        }
    }

    fn run_source(
        &mut self,
        mut reader: Box<dyn RecordReader>,
        mut spare: Box<Routed>,
        mut sorter: Option<&mut Sorter>,
        emit: &mut Emit<'_>,
    ) -> Result<Box<Routed>, Error> {
        let path = reader.name();
        let begins = self.begin_source(reader.as_ref())?;
        if self.job.max_size.is_some() {
            self.measure_header(&begins)?;
        }
        emit(Message::Source(begins))?;
        let taken: Arc<AtomicU64> = Arc::clone(&reader.facts().taken);
        let rejected_before = self.pipeline.rejected();
        while reader.next_batch(&mut spare.batch)? {
            self.context.check_cancelled()?;
            self.pipeline
                .apply(&mut spare.batch)
                .map_err(|(at, problem)| Error::step(path.clone(), at, problem))?;
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
        self.read_before += taken.load(Ordering::Relaxed);
        let tally = reader.tally();
        let name = path;
        if let Some(sheet) = reader.sheet() {
            self.notices.extend(super::sheet_notices(&name, &sheet));
        }
        if tally.stray_quotes > 0 {
            let fields = tally.stray_quotes;
            self.notices.push(Notice::StrayQuotes {
                source: name.clone(),
                fields,
            });
        }
        self.sources.push(SourceEntry {
            path: reader.path().to_string(),
            sheet: reader.facts().sheet.clone(),
            bytes: reader.facts().size,
            records: tally.records,
            rejected: tally.rejected + self.pipeline.rejected() - rejected_before,
            padded: tally.padded,
            blank_lines: tally.blank_lines,
            skipped_lines: reader.facts().told.map_or(0, |told| told.skipped_lines),
        });
        Ok(spare)
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
                let mut bytes = Vec::new();
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
                most: self.job.max_size.unwrap_or(crate::value::Size(0)),
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
                    Fate::Write => {}
                    Fate::Joined(other) => {
                        self.diverted[*output as usize] += 1;
                        *output = other;
                    }
                    Fate::Exists | Fate::NameTaken => {
                        self.diverted[*output as usize] += 1;
                        *output = NOWHERE;
                    }
                }
            }
        }
        Ok(())
    }

    /// Tells the divider how many bytes stand before the first record of an output.
    fn measure_header(&mut self, begins: &SourceBegins) -> Result<(), Error> {
        let mut bytes = Vec::new();
        let Becomes::Bytes(encoder) = &begins.becomes else {
            return Ok(());
        };
        encoder.begin(&mut bytes).map_err(|problem| Error::Encode {
            path: self.out.display().to_string(),
            source_name: begins.name.clone(),
            problem: Box::new(problem),
        })?;
        self.divider.set_header(bytes.len() as u64);
        Ok(())
    }

    /// Names what is left to name and refuses the run if there is a reason. `records` are the
    /// records of each output that were handed on; those of outputs that are not to be written
    /// are taken from it.
    pub(super) fn finish(mut self, records: &mut Vec<u64>) -> Result<Produced, Error> {
        self.notices.extend(
            self.pipeline
                .unmatched()
                .map_err(crate::step::StepError::from)?
                .into_iter()
                .map(Notice::Unmatched),
        );
        let outputs = self.divider.outputs().len();
        records.resize(outputs, 0);
        self.addresses
            .finish(&self.router, &self.divider, records)?;
        let named = self.addresses.into_named();
        let totals = self.sums.len();
        let sums_of =
            |output: usize| -> Vec<Number> { self.sums.iter().map(|sums| sums[output]).collect() };
        let mut sums: Vec<Vec<Number>> = (0..outputs).map(sums_of).collect();
        let mut left_out = Vec::new();
        for entry in self.pipeline.left_out() {
            let (reason, condition) = match &entry.reason {
                LeftOutStep::Empty => (LeftOutReason::Empty, None),
                LeftOutStep::Where(text) => (LeftOutReason::Condition, Some(text.clone())),
                LeftOutStep::NoCase => (LeftOutReason::NoCase, None),
            };
            left_out.push(LeftOut {
                reason,
                condition,
                path: None,
                records: entry.records,
                sums: entry.totals.clone(),
            });
        }
        let mut paths = Vec::with_capacity(outputs);
        let sheets = named.sheets.clone();
        // Several outputs may want one name.
        let mut places: HashMap<(LeftOutReason, String), usize> = HashMap::new();
        for (output, (path, fate)) in named.paths.into_iter().zip(named.fates).enumerate() {
            let reason = match fate {
                Fate::Write => {
                    paths.push(Some(path));
                    continue;
                }
                Fate::Joined(other) => {
                    paths.push(None);
                    let joined = std::mem::take(&mut sums[output]);
                    for (sum, number) in sums[other as usize].iter_mut().zip(joined) {
                        *sum = sum.plus(number).map_err(|_| Error::Sum {
                            column: self.job.total.join(", "),
                        })?;
                    }
                    continue;
                }
                Fate::Exists => LeftOutReason::OutputExists,
                Fate::NameTaken => LeftOutReason::NameTaken,
            };
            paths.push(None);
            // Some were handed on before it was known that the output would not be written.
            let handed_on = std::mem::take(&mut records[output]);
            let of_output = std::mem::take(&mut sums[output]);
            let place = *places
                .entry((reason, path))
                .or_insert_with_key(|(reason, path)| {
                    left_out.push(LeftOut {
                        reason: *reason,
                        condition: None,
                        path: Some(path.clone()),
                        records: 0,
                        sums: vec![Number::ZERO; totals],
                    });
                    left_out.len() - 1
                });
            left_out[place].records += self.diverted[output] + handed_on;
            for (sum, number) in left_out[place].sums.iter_mut().zip(of_output) {
                *sum = sum.plus(number).map_err(|_| Error::Sum {
                    column: self.job.total.join(", "),
                })?;
            }
        }
        if named.changed != NamesChanged::default() {
            self.notices.push(Notice::NamesChanged(named.changed));
        }
        if named.clashed.count > 0 {
            self.notices.push(Notice::NamesClashed(named.clashed));
        }
        if let Some(tidied) = self.pipeline.tidied().filter(|tidied| !tidied.is_empty()) {
            self.notices.push(Notice::Tidied(tidied.clone()));
        }
        let unused = self.pipeline.unused_cases();
        if !unused.is_empty() {
            self.notices.push(Notice::UnusedCases(unused));
        }
        let totals = self
            .pipeline
            .totals()
            .map(|(name, all, rejected)| (name.to_owned(), all, rejected))
            .collect();
        Ok(Produced {
            out: self.out,
            sources: self.sources,
            notices: self.notices,
            paths,
            sheets,
            book: self.format.book.as_ref(),
            sums,
            left_out,
            totals,
        })
    }
}

/// What all records of a source share in the names of outputs.
fn shared_values(
    template: &Template,
    sheet: Option<&Template>,
    reader: &dyn RecordReader,
) -> KeyValues {
    let path = reader.path();
    let named = |field| template.names(field) || sheet.is_some_and(|sheet| sheet.names(field));
    let mut shared = Vec::new();
    if named(RunField::Stem) {
        shared.push(path.stem());
    }
    if named(RunField::Extension) {
        shared.push(path.extension());
    }
    if named(RunField::Folder) {
        shared.push(path.folder());
    }
    if named(RunField::Sheet) {
        let sheet = reader.facts().sheet.clone();
        shared.push(sheet.unwrap_or_else(|| path.stem()));
    }
    shared
}

/// Records that could not be put in order.
fn sorting(source_name: &str, error: std::io::Error) -> ReadError {
    ReadError {
        source_name: source_name.to_owned(),
        place: crate::source::Place::default(),
        problem: ReadProblem::Sorting(error),
    }
}
