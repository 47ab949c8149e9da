//! Reads records of ISO 2709 one after the other, each up to the mark that ends it.

use std::io::{BufRead, BufReader};
use std::sync::Arc;

use super::encode::{Form, RecordsEncoder};
use super::notation::{Slice, Wanted, push_tree};
use super::record::{RECORD_END, Record, RecordError};
use crate::format::delimited::{Ragged, WriteOptions};
use crate::format::trees::{Around, OpenedTrees, Trees};
use crate::format::{RecordEncoder, TextFormat};
use crate::record::{RejectedRecord, Unit};
use crate::source::{Input, Place, ReadError, ReadProblem, SourcePath};
use crate::tree::{Paths, Tree};

/// Bytes that are read at a time.
const PIECE: usize = 1 << 17;

/// Reads a file of records.
pub(crate) struct MarcTrees {
    path: SourcePath,
    input: BufReader<Input>,
    record: Vec<u8>,
    number: u64,
    /// Bytes before the record, and behind it.
    offset: u64,
    read: u64,
    most: usize,
    rejects: bool,
    wanted: Wanted,
    slices: Vec<Slice>,
    rejected: Vec<RejectedRecord>,
}

impl MarcTrees {
    pub(crate) fn new(input: Input, opened: &OpenedTrees) -> Self {
        Self {
            path: opened.path.clone(),
            input: BufReader::with_capacity(PIECE, input),
            record: Vec::new(),
            number: 0,
            offset: 0,
            read: 0,
            most: opened.largest_record,
            wanted: Wanted::default(),
            slices: opened
                .options
                .named
                .iter()
                .filter_map(|name| Slice::parse(name))
                .collect(),
            rejects: opened.options.ragged == Ragged::Reject,
            rejected: Vec::new(),
        }
    }

    fn wrong(&self, problem: &RecordError) -> ReadError {
        let place = Place::record(self.number);
        let (offset, what) = (self.offset, problem.to_string());
        self.path
            .error_at(place, ReadProblem::BrokenRecord { offset, what })
    }

    /// Reads the bytes of the next record; `false` if there is none.
    fn fill(&mut self) -> Result<bool, ReadError> {
        self.record.clear();
        // Line ends and blanks between records belong to none.
        loop {
            let waiting = self
                .input
                .fill_buf()
                .map_err(|error| self.path.error(ReadProblem::Io(error)))?;
            let blank = waiting
                .iter()
                .take_while(|byte| byte.is_ascii_whitespace() || **byte == 0)
                .count();
            let (ends, all) = (waiting.is_empty(), blank == waiting.len());
            self.input.consume(blank);
            self.read += blank as u64;
            if ends {
                return Ok(false);
            }
            if !all {
                break;
            }
        }
        self.number += 1;
        self.offset = self.read;
        loop {
            let waiting = self
                .input
                .fill_buf()
                .map_err(|error| self.path.error(ReadProblem::Io(error)))?;
            let end = memchr::memchr(RECORD_END, waiting);
            let taken = end.map_or(waiting.len(), |end| end + 1);
            self.record.extend_from_slice(&waiting[..taken]);
            self.input.consume(taken);
            self.read += taken as u64;
            if end.is_some() || taken == 0 {
                return Ok(true);
            }
            if self.record.len() > self.most {
                let limit = crate::value::Size(self.most as u64);
                return Err(self.path.error_at(
                    Place::record(self.number),
                    ReadProblem::RecordTooLarge { limit },
                ));
            }
        }
    }
}

impl Trees for MarcTrees {
    fn next(&mut self, tree: &mut Tree, paths: &mut Paths) -> Result<bool, ReadError> {
        while self.fill()? {
            match Record::parse(&self.record) {
                Ok(record) => {
                    push_tree(&record, &self.wanted, &self.slices, tree, paths);
                    return Ok(true);
                }
                Err(problem) if self.rejects => self.rejected.push(RejectedRecord {
                    line: self.number,
                    reason: format!("at byte {}: {problem}", self.offset + 1),
                    raw: self.record.clone(),
                    as_it_is: true,
                }),
                Err(problem) => return Err(self.wrong(&problem)),
            }
        }
        Ok(false)
    }

    fn text(&self) -> &[u8] {
        &self.record
    }

    fn line(&self) -> u64 {
        self.number
    }

    fn read(&self) -> u64 {
        self.read
    }

    fn around(&self) -> Around {
        Around::default()
    }

    fn unit(&self) -> Unit {
        Unit::Record
    }

    fn only(&mut self, columns: &[String]) {
        self.wanted = Wanted::of(columns);
    }

    fn writer(&self, to: TextFormat, _: &WriteOptions) -> Option<Arc<dyn RecordEncoder>> {
        let to = match to {
            TextFormat::Marc => Form::Iso2709,
            TextFormat::MarcXml | TextFormat::Xml => Form::Xml,
            _ => return None,
        };
        Some(Arc::new(RecordsEncoder {
            from: Form::Iso2709,
            to,
        }))
    }

    fn take_rejected(&mut self) -> Vec<RejectedRecord> {
        std::mem::take(&mut self.rejected)
    }
}
