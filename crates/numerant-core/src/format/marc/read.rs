//! Reads records of ISO 2709 one after the other, each up to the mark that ends it.

use std::cell::Cell;
use std::io::{BufRead, BufReader};
use std::sync::Arc;

use super::encode::{Form, RecordsEncoder};
use super::notation::{Slice, Wanted, push_tree};
use super::patch::{PatchColumn, patcher};
use super::record::{Decoding, RECORD_END, RawRecord, RecordError};
use crate::format::delimited::{Ragged, WriteOptions};
use crate::format::trees::{Around, OpenedTrees, RecordOddities, Trees};
use crate::format::{ControlSigns, EncodeError, RecordEncoder, TextFormat};
use crate::record::{RejectedRecord, Unit};
use crate::source::{Encoding, Input, Place, ReadError, ReadProblem, SourcePath};
use crate::tree::{Paths, Tree};

/// Some programs write it between records, and behind the last.
const END_MARK: u8 = 0x1a;

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
    encoding: Option<Encoding>,
    /// Only names of columns are asked for, so that values may be wrong.
    learns: bool,
    oddities: RecordOddities,
    /// The records go into MARCXML, with what becomes of characters that it cannot hold.
    as_xml: Cell<Option<ControlSigns>>,
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
            encoding: opened.options.encoding,
            learns: false,
            oddities: RecordOddities::default(),
            as_xml: Cell::new(None),
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
            let passed = |byte: &&u8| byte.is_ascii_whitespace() || matches!(**byte, 0 | END_MARK);
            let blank = waiting.iter().take_while(passed).count();
            let marks = waiting[..blank].iter().filter(|byte| **byte == END_MARK);
            self.oddities.end_marks += marks.count() as u64;
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
            let (wanted, slices) = (&self.wanted, &self.slices);
            let decoding = Decoding {
                encoding: self.encoding,
                wanted: &|tag| wanted.has(tag) || slices.iter().any(|slice| slice.is_of(tag)),
                lossy: self.learns,
            };
            let raw = RawRecord::parse(&self.record);
            let decoded = raw.and_then(|raw| {
                // A record that cannot be written is rejected where such records are.
                if let Some(signs) = self.as_xml.get().filter(|_| self.rejects) {
                    let (whole, _) = raw.decode(Decoding {
                        wanted: &|_| true,
                        ..decoding
                    })?;
                    whole.write_xml(signs, &mut Vec::new())?;
                }
                raw.decode(decoding)
            });
            match decoded {
                Ok((record, is_unlabelled)) => {
                    self.oddities.unlabelled += u64::from(is_unlabelled);
                    push_tree(&record, wanted, slices, tree, paths);
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

    fn writer(&self, to: TextFormat, options: &WriteOptions) -> Option<Arc<dyn RecordEncoder>> {
        let to = match to {
            TextFormat::Marc => Form::Iso2709,
            TextFormat::MarcXml | TextFormat::Xml => Form::Xml,
            _ => return None,
        };
        let signs = options.control_signs;
        if to == Form::Xml {
            self.as_xml.set(Some(signs));
        }
        Some(Arc::new(RecordsEncoder {
            from: Form::Iso2709,
            to,
            encoding: self.encoding,
            signs,
        }))
    }

    fn patcher(
        &self,
        to: TextFormat,
        columns: &[PatchColumn],
        source: &[String],
        options: &WriteOptions,
    ) -> Option<Result<Arc<dyn RecordEncoder>, EncodeError>> {
        let (encoding, signs) = (self.encoding, options.control_signs);
        patcher(Form::Iso2709, to, columns, source, encoding, signs)
    }

    fn learn(&mut self) {
        self.learns = true;
    }

    fn oddities(&self) -> RecordOddities {
        self.oddities
    }

    fn take_rejected(&mut self) -> Vec<RejectedRecord> {
        std::mem::take(&mut self.rejected)
    }
}
