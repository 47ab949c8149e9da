//! The second half of a run: turns records into bytes and writes them.

use std::path::{Path, PathBuf};
use std::sync::Arc;

use super::Error;
use super::produce::{Message, Routed, SourceBegins};
use crate::job::Job;
use crate::ledger::Reject;
use crate::output::{OutputError, SideFile, SinkError, Sinks};
use crate::record::RejectedRecord;
use crate::route::NOWHERE;

/// Rejected records that the ledger names.
const REJECTS_NAMED: usize = 1000;

pub(super) struct Consumer {
    sinks: Sinks,
    out: PathBuf,
    source: Option<SourceBegins>,
    paths: Vec<String>,
    records: Vec<u64>,
    encoded: Vec<u8>,
    rejects: Vec<Reject>,
    rejects_path: Option<PathBuf>,
    rejects_file: Option<SideFile>,
}

impl Consumer {
    pub(super) fn new(
        stage: &Path,
        out: &Path,
        job: &Job,
        open_files: usize,
        threads: usize,
    ) -> Self {
        let budget = usize::try_from(job.memory.0 / 4 * 3).unwrap_or(usize::MAX);
        let mut sinks = Sinks::new(stage, budget, open_files, threads);
        if job.ledger.is_some() {
            sinks.digest_all();
        }
        Self {
            sinks,
            out: out.to_owned(),
            source: None,
            paths: Vec::new(),
            records: Vec::new(),
            encoded: Vec::new(),
            rejects: Vec::new(),
            rejects_path: job.rejects.clone(),
            rejects_file: None,
        }
    }

    /// Writes what a message holds, and gives its batch back.
    pub(super) fn take(&mut self, message: Message) -> Result<Option<Box<Routed>>, Error> {
        match message {
            Message::Source(begins) => {
                self.source = Some(begins);
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
        let Some(source) = &self.source else {
            return Ok(());
        };
        let encoder = Arc::clone(&source.encoder);
        self.paths.append(&mut routed.new_paths);
        while self.sinks.len() < routed.outputs_so_far {
            let sink = match self.sinks.add() {
                Ok(sink) => sink,
                Err(error) => return Err(self.sink_error(error)),
            };
            self.records.push(0);
            self.encoded.clear();
            let begun = encoder.begin(&mut self.encoded);
            begun.map_err(|problem| self.encode_error(sink, problem))?;
            self.append(sink)?;
        }
        if encoder.moves_raw() {
            self.move_raw(routed)?;
        } else {
            for (record, &group) in routed.outputs.iter().enumerate() {
                if group != NOWHERE {
                    let sink = group as usize;
                    let batch = &routed.batch;
                    let written = self.sinks.append_with(sink, &mut self.encoded, |out| {
                        encoder.record(batch, record, out)
                    });
                    match written {
                        Ok(Ok(())) => self.records[sink] += 1,
                        Ok(Err(error)) => return Err(self.sink_error(error)),
                        Err(problem) => return Err(self.encode_error(sink, problem)),
                    }
                }
            }
        }
        let rejected = std::mem::take(&mut routed.batch.rejected);
        self.keep_rejected(rejected)
    }

    /// Appends records as they stand; those that follow each other into one output by one move.
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

    /// Appends what stands in `encoded`.
    fn append(&mut self, sink: usize) -> Result<(), Error> {
        match self.sinks.append(sink, &self.encoded) {
            Ok(()) => Ok(()),
            Err(error) => Err(self.sink_error(error)),
        }
    }

    /// Keeps rejected records, as they stand and in the encoding of their source.
    fn keep_rejected(&mut self, rejected: Vec<RejectedRecord>) -> Result<(), Error> {
        let Some(source) = &self.source else {
            return Ok(());
        };
        for rejected in rejected {
            if let Some(path) = &self.rejects_path {
                self.encoded.clear();
                let file = match &mut self.rejects_file {
                    Some(file) => file,
                    None => {
                        // What came out of an encoding goes back into it.
                        let _ = source.reject_encoder.begin(&mut self.encoded);
                        self.rejects_file.insert(SideFile::create(path)?)
                    }
                };
                let text = String::from_utf8_lossy(&rejected.raw);
                let _ = source.encoding.encode(&text, &mut self.encoded);
                file.write(&self.encoded)?;
            }
            if self.rejects.len() < REJECTS_NAMED {
                self.rejects.push(Reject {
                    source: source.name.clone(),
                    line: rejected.line,
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

    /// Writes what is left in buffers.
    pub(super) fn finish(&mut self, sync: bool) -> Result<(), Error> {
        self.sinks
            .finish(sync)
            .map_err(|error| self.sink_error(error))
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

    fn encode_error(&self, sink: usize, problem: crate::format::EncodeError) -> Error {
        Error::Encode {
            path: self.shown_path(sink).display().to_string(),
            source_name: self
                .source
                .as_ref()
                .map(|s| s.name.clone())
                .unwrap_or_default(),
            problem,
        }
    }
}
