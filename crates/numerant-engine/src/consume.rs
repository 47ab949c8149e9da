//! The second half of a run: turns records into bytes and writes them.

use std::collections::HashMap;
use std::path::PathBuf;
use std::sync::Arc;

use super::Error;
use super::cut_rows::{CutRows, KeepError};
use super::plan::RunPlan;
use super::produce::{Message, OutputMode, Routed, SourceBegins, SourceSheet};
use super::traced::Traced;
use crate::job::Formulas;
use crate::ledger::Reject;
use crate::output::{OutputError, SideFile, SinkError, Sinks, Stage};
use numerant_data::dialect::Dialect;
use numerant_data::record::{At, Batch, RejectedRecord};
use numerant_data::source::SourcePath;
use numerant_format::sheet::{ColumnTally, Spooler};
use numerant_format::{MessagesWritten, RecordEncoder};
use numerant_naming::route::NOWHERE;

/// Rejected records that the ledger names.
const REJECTS_NAMED: usize = 1000;

/// Sources whose columns are typed together.
pub(super) struct Set {
    /// The first of them.
    pub(super) source: String,
    pub(super) spooler: Arc<Spooler>,
    pub(super) tallies: Vec<ColumnTally>,
    /// For each column, whether its values have types of their own in all sources.
    pub(super) stored: Vec<bool>,
}

pub(super) struct Consumer<'a> {
    stage: &'a Stage,
    sinks: Sinks,
    out: PathBuf,
    source: Option<SourceBegins>,
    paths: Vec<String>,
    records: Vec<u64>,
    encoded: Vec<u8>,
    /// What has written outputs of text, with the source that each is for, and the one of each
    /// output.
    encoders: Vec<(Arc<dyn RecordEncoder>, SourcePath)>,
    encoder_of: Vec<u32>,
    /// What is known of the columns of each set of sources, where outputs are workbooks.
    sets: Vec<Option<Set>>,
    /// The set that each output belongs to.
    set_of: Vec<u32>,
    /// The present source has begun in its set.
    has_begun: bool,
    /// Outputs that are sheets as they are in their sources.
    kept: HashMap<usize, Arc<SourceSheet>>,
    /// The rows of a sheet that are copied verbatim.
    cut_rows: Option<CutRows>,
    formulas: Formulas,
    rejects: Vec<Reject>,
    rejects_path: Option<PathBuf>,
    rejects_file: Option<SideFile>,
    /// Where each record was written, by output, if that is wanted; and the sources.
    traced: Option<Vec<Vec<Traced>>>,
    source_names: Vec<String>,
}

impl<'a> Consumer<'a> {
    pub(super) fn new(plan: &RunPlan, stage: &'a Stage) -> Self {
        let job = &plan.job;
        let budget = usize::try_from(job.memory.0 / 4 * 3).unwrap_or(usize::MAX);
        let (files, workers) = (plan.open_outputs, plan.workers.clone());
        let mut sinks = Sinks::new(stage.dir(), stage.disk(), budget, files, workers);
        if plan.has_digests {
            sinks.digest_all();
        }
        Self {
            stage,
            sinks,
            out: plan.out.clone(),
            source: None,
            paths: Vec::new(),
            records: Vec::new(),
            encoded: Vec::new(),
            encoders: Vec::new(),
            encoder_of: Vec::new(),
            sets: Vec::new(),
            set_of: Vec::new(),
            has_begun: false,
            kept: HashMap::new(),
            cut_rows: None,
            formulas: job.formulas,
            rejects: Vec::new(),
            rejects_path: job.rejects.clone(),
            rejects_file: None,
            traced: job.write.schema.is_some().then(Vec::new),
            source_names: Vec::new(),
        }
    }

    /// Where the records of an output were written.
    pub(super) fn traced(&self, output: usize) -> &[Traced] {
        let traced = self.traced.as_ref().and_then(|traced| traced.get(output));
        traced.map_or(&[], Vec::as_slice)
    }

    /// The name of a source, by its number.
    pub(super) fn source_name(&self, source: u32) -> String {
        self.source_names[source as usize].clone()
    }

    /// Takes note of where a record was written.
    fn trace(&mut self, sink: usize, at: At) {
        let end = self.sinks.bytes(sink);
        if let Some(traced) = &mut self.traced {
            if traced.len() <= sink {
                traced.resize_with(sink + 1, Vec::new);
            }
            let source = self.source_names.len().saturating_sub(1) as u32;
            traced[sink].push(Traced { end, source, at });
        }
    }

    /// Writes what a message holds, and gives its batch back.
    pub(super) fn take(&mut self, message: Message) -> Result<Option<Box<Routed>>, Error> {
        match message {
            Message::Source(begins) => {
                if let OutputMode::Bytes(encoder) = &begins.mode {
                    self.encoders
                        .push((Arc::clone(encoder), begins.path.clone()));
                }
                self.source_names.push(begins.name.clone());
                self.source = Some(begins);
                self.has_begun = false;
                Ok(None)
            }
            Message::Records(mut routed) => {
                self.write(&mut routed)?;
                Ok(Some(routed))
            }
            Message::Rejected(rejected) => {
                self.keep_rejected(rejected)?;
                Ok(None)
            }
        }
    }

    fn write(&mut self, routed: &mut Routed) -> Result<(), Error> {
        let Some(mode) = self.source.as_ref().map(|source| source.mode.clone()) else {
            return Ok(());
        };
        self.paths.append(&mut routed.new_paths);
        while self.sinks.len() < routed.outputs_so_far {
            let sink = match self.sinks.add() {
                Ok(sink) => sink,
                Err(error) => return Err(self.sink_error(error)),
            };
            self.records.push(0);
            match &mode {
                OutputMode::Bytes(encoder) => {
                    self.encoded.clear();
                    let begun = encoder.begin(&mut self.encoded);
                    begun.map_err(|problem| self.encode_error(sink, problem))?;
                    self.append(sink)?;
                    self.encoder_of.push(self.encoders.len() as u32 - 1);
                }
                OutputMode::Rows(_, set) => self.set_of.push(*set as u32),
                OutputMode::Sheet(sheet) => {
                    self.set_of.push(u32::MAX);
                    self.kept.insert(sink, Arc::clone(sheet));
                }
                OutputMode::OwnRows(..) => self.set_of.push(u32::MAX),
            }
        }
        let encoder = match mode {
            OutputMode::Bytes(encoder) => encoder,
            OutputMode::Sheet(_) => {
                for &output in routed.outputs.iter().filter(|output| **output != NOWHERE) {
                    self.records[output as usize] += 1;
                }
                let rejected = std::mem::take(&mut routed.batch.rejected);
                return self.keep_rejected(rejected);
            }
            OutputMode::OwnRows(sheet, spooler) => {
                self.note_rows(&sheet, spooler.as_ref(), routed)?;
                let rejected = std::mem::take(&mut routed.batch.rejected);
                return self.keep_rejected(rejected);
            }
            OutputMode::Rows(spooler, set) => {
                if self.sets.len() <= set {
                    self.sets.resize_with(set + 1, || None);
                }
                let source = self.source.as_ref();
                let known = self.sets[set].get_or_insert_with(|| Set {
                    source: source.map(|source| source.name.clone()).unwrap_or_default(),
                    tallies: vec![ColumnTally::default(); spooler.columns.len()],
                    stored: vec![true; spooler.columns.len()],
                    spooler: Arc::clone(&spooler),
                });
                if !self.has_begun {
                    self.has_begun = true;
                    for (stored, column) in known.stored.iter_mut().zip(&spooler.columns) {
                        *stored &= column.stored;
                    }
                }
                self.keep_rows(routed, &spooler, set)?;
                let rejected = std::mem::take(&mut routed.batch.rejected);
                return self.keep_rejected(rejected);
            }
        };
        if encoder.moves_raw() {
            self.move_raw(routed)?;
        } else {
            for (record, &group) in routed.outputs.iter().enumerate() {
                if group != NOWHERE {
                    let sink = group as usize;
                    let batch = &routed.batch;
                    let first = self.records[sink] == 0;
                    let written = self.sinks.append_with(sink, &mut self.encoded, |out| {
                        if !first {
                            out.extend_from_slice(encoder.between());
                        }
                        encoder.record(batch, record, out)
                    });
                    match written {
                        Ok(Ok(())) => self.records[sink] += 1,
                        Ok(Err(error)) => return Err(self.sink_error(error)),
                        Err(problem) => return Err(self.encode_error(sink, problem)),
                    }
                    if self.traced.is_some() {
                        self.trace(sink, routed.batch.at(record));
                    }
                }
            }
        }
        let rejected = std::mem::take(&mut routed.batch.rejected);
        self.keep_rejected(rejected)
    }

    /// Keeps records for the sheets that they are for.
    fn keep_rows(&mut self, routed: &Routed, spooler: &Spooler, set: usize) -> Result<(), Error> {
        for (record, &group) in routed.outputs.iter().enumerate() {
            if group == NOWHERE {
                continue;
            }
            let sink = group as usize;
            let Some(Set { tallies, .. }) = &mut self.sets[set] else {
                continue;
            };
            let written = self.sinks.append_with(sink, &mut self.encoded, |out| {
                spooler.record(&routed.batch, record, tallies, out)
            });
            match written {
                Ok(Ok(())) => self.records[sink] += 1,
                Ok(Err(error)) => return Err(self.sink_error(error)),
                Err(problem) => return Err(self.encode_error(sink, problem)),
            }
        }
        Ok(())
    }

    /// Takes note of which output each row goes to.
    fn note_rows(
        &mut self,
        sheet: &Arc<SourceSheet>,
        spooler: Option<&Arc<Spooler>>,
        routed: &Routed,
    ) -> Result<(), Error> {
        let unwritten = |cause| OutputError::new("writing", &self.out, cause);
        let rows = match &mut self.cut_rows {
            Some(rows) => rows,
            None => {
                let rows = CutRows::new(Arc::clone(sheet), spooler.cloned(), self.stage);
                self.cut_rows.insert(rows.map_err(unwritten)?)
            }
        };
        let records = &mut self.records;
        let taken = rows.take(routed, |output| records[output] += 1);
        taken.map_err(|error| match error {
            KeepError::Write(cause) => OutputError::new("writing", &self.out, cause).into(),
            KeepError::Encode(problem) => self.encode_error(0, problem),
        })
    }

    /// Takes the rows of a sheet apart, each to its output.
    fn cut(&mut self) -> Result<(), Error> {
        let Some(rows) = &mut self.cut_rows else {
            return Ok(());
        };
        let values_only = self.formulas == Formulas::Values;
        let cut = rows.cut(values_only, &mut self.sinks, &self.out)?;
        cut.map_err(|error| self.sink_error(error))
    }

    /// The rows that are copied verbatim.
    pub(super) fn cut_rows(&self) -> Option<&CutRows> {
        self.cut_rows.as_ref()
    }

    /// The sheet that an output is as it is, if it is one.
    pub(super) fn kept(&self, output: usize) -> Option<&SourceSheet> {
        self.kept.get(&output).map(Arc::as_ref)
    }

    /// Sources whose columns are typed together, and the one of each output.
    pub(super) fn sets(&self) -> (&[Option<Set>], &[u32]) {
        (&self.sets, &self.set_of)
    }

    /// Appends records verbatim; those that follow each other into one output by one move.
    fn move_raw(&mut self, routed: &Routed) -> Result<(), Error> {
        let batch = &routed.batch;
        let mut record = 0;
        while let Some(&output) = routed.outputs.get(record) {
            let first = record;
            record += 1;
            if output == NOWHERE {
                continue;
            }
            let same = |record: usize| {
                routed.outputs.get(record) == Some(&output) && batch.follows(record)
            };
            while same(record) {
                record += 1;
            }
            let raw = batch.raw_records(first, record - 1);
            if let Err(error) = self.sinks.append(output as usize, raw) {
                return Err(self.sink_error(error));
            }
            self.records[output as usize] += (record - first) as u64;
        }
        Ok(())
    }

    /// Appends what is in `encoded`.
    fn append(&mut self, sink: usize) -> Result<(), Error> {
        match self.sinks.append(sink, &self.encoded) {
            Ok(()) => Ok(()),
            Err(error) => Err(self.sink_error(error)),
        }
    }

    /// Keeps rejected records, verbatim and in the encoding of their source.
    fn keep_rejected(&mut self, rejected: Vec<RejectedRecord>) -> Result<(), Error> {
        let Some(source) = &self.source else {
            return Ok(());
        };
        for rejected in rejected {
            if let Some(path) = self.rejects_path.as_ref().filter(|_| rejected.as_it_is) {
                let file = match &mut self.rejects_file {
                    Some(file) => file,
                    None => self
                        .rejects_file
                        .insert(SideFile::create(self.stage, path)?),
                };
                file.write(&rejected.raw)?;
            } else if let Some(path) = &self.rejects_path {
                self.encoded.clear();
                let file = match &mut self.rejects_file {
                    Some(file) => file,
                    None => {
                        // What came out of an encoding goes back into it.
                        let _ = source.reject_encoder.begin(&mut self.encoded);
                        self.rejects_file
                            .insert(SideFile::create(self.stage, path)?)
                    }
                };
                let is_moved = source.reject_dialect.delimiter != source.dialect.delimiter;
                let raw = if is_moved && !source.dialect.is_tagged() {
                    in_dialect(&rejected.raw, source.dialect, &source.reject_dialect)
                } else {
                    rejected.raw
                };
                let text = String::from_utf8_lossy(&raw);
                let encoding = source.reject_dialect.encoding;
                let _ = encoding.encode(&text, &mut self.encoded);
                file.write(&self.encoded)?;
            }
            if self.rejects.len() < REJECTS_NAMED {
                self.rejects.push(Reject {
                    source: source.name.clone(),
                    line: rejected.line,
                    unit: source.unit,
                    reason: rejected.reason,
                });
            }
        }
        Ok(())
    }

    /// The rejected records by name, and the file that holds them if there are any to hold.
    pub(super) fn into_rejects(self) -> (Vec<Reject>, Option<SideFile>) {
        (self.rejects, self.rejects_file)
    }

    /// Writes what is left in buffers, and what is at the end of outputs.
    pub(super) fn finish(&mut self, sync: bool) -> Result<(), Error> {
        for sink in 0..self.encoder_of.len() {
            let (encoder, _) = &self.encoders[self.encoder_of[sink] as usize];
            self.encoded.clear();
            let ended = encoder.end(self.records[sink], &mut self.encoded);
            ended.map_err(|problem| self.encode_error(sink, problem))?;
            if !self.encoded.is_empty() {
                self.append(sink)?;
            }
        }
        self.cut()?;
        self.sinks
            .finish(sync)
            .map_err(|error| self.sink_error(error))
    }

    /// What has written an output of text, and the source that it was for.
    pub(super) fn encoder(&self, output: usize) -> Option<&(Arc<dyn RecordEncoder>, SourcePath)> {
        self.encoders.get(*self.encoder_of.get(output)? as usize)
    }

    /// What was written of messages.
    pub(super) fn messages_written(&self) -> MessagesWritten {
        let mut all = MessagesWritten::default();
        for (encoder, _) in &self.encoders {
            let written = encoder.messages_written();
            all.notes.extend(written.notes);
            all.segments.add(written.segments);
        }
        all
    }

    pub(super) fn records(&self) -> &[u64] {
        &self.records
    }

    pub(super) fn bytes(&self, output: usize) -> u64 {
        self.sinks.bytes(output)
    }

    /// The digest of an output, if digests are wanted.
    pub(super) fn digest(&mut self, output: usize) -> Option<String> {
        self.sinks.digest(output)
    }

    /// Where the output of `group` is staged.
    pub(super) fn path(&self, group: usize) -> PathBuf {
        self.sinks.path(group)
    }

    fn shown_path(&self, sink: usize) -> PathBuf {
        self.out
            .join(self.paths.get(sink).map_or("", String::as_str))
    }

    fn sink_error(&self, error: SinkError) -> Error {
        OutputError::new("writing", &self.shown_path(error.sink), error.cause).into()
    }

    fn encode_error(&self, sink: usize, problem: numerant_format::EncodeError) -> Error {
        Error::Encode {
            path: self.shown_path(sink).display().to_string(),
            source_name: self
                .source
                .as_ref()
                .map(|s| s.name.clone())
                .unwrap_or_default(),
            problem: Box::new(problem),
        }
    }
}

/// A record in the dialect of its batch, however many fields it has, in another dialect.
fn in_dialect(raw: &[u8], dialect: Dialect, out: &Dialect) -> Vec<u8> {
    let mut batch = Batch::default();
    let raw = raw.strip_suffix(b"\n").unwrap_or(raw);
    let (delimiter, quote) = (dialect.delimiter.first(), dialect.quote.byte());
    let mut quoted = false;
    let mut ends: Vec<u32> = Vec::new();
    for (place, byte) in raw.iter().enumerate() {
        quoted ^= Some(*byte) == quote;
        if *byte == delimiter && !quoted {
            ends.push(place as u32);
        }
    }
    ends.push(raw.len() as u32);
    let width = ends.len();
    dialect.prepare(&mut batch, width);
    batch.bytes = raw.to_vec();
    batch.bytes.push(b'\n');
    batch.ends = ends;
    batch.spans.push(numerant_data::record::Span {
        start: 0,
        first: 0,
        last_byte: raw.len() as u32,
    });
    out.bring(&mut batch);
    batch.raw(0).to_vec()
}
