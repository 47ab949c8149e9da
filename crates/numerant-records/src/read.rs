//! Reads records of ISO 2709 one after the other, each up to the mark that ends it.

use std::cell::Cell;
use std::io::{self, BufRead, BufReader};
use std::sync::Arc;

use super::encode::{RecordSyntax, RecordsEncoder};
use super::notation::{Slice, Wanted, push_tree};
use super::patch::patcher;
use super::record::{Decoding, RECORD_END, RawRecord, RecordError};
use numerant_data::encoding::Encoding;
use numerant_data::record::{RejectedRecord, Unit};
use numerant_data::source::{Input, Place, ReadError, ReadProblem, SourcePath};
use numerant_data::tree::{Paths, Tree};
use numerant_format::{
    ControlCharacters, DocumentFrame, EncodeError, Patch, Ragged, RecordEncoder, WriteOptions,
};
use numerant_trees::{OpenedTrees, RecordOddities, Trees};

/// Some programs write it between records, and after the last.
const END_MARK: u8 = 0x1a;

/// Bytes that are read at a time.
const PIECE: usize = 1 << 17;

/// Reads a file of records.
pub struct MarcTrees {
    path: SourcePath,
    input: Returning,
    record: Vec<u8>,
    number: u64,
    /// Bytes before the record, and after it.
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
    as_xml: Cell<Option<ControlCharacters>>,
}

impl MarcTrees {
    pub(crate) fn new(input: Input, opened: &OpenedTrees) -> Self {
        Self {
            path: opened.path.clone(),
            input: Returning {
                returned: Vec::new(),
                at: 0,
                input: BufReader::with_capacity(PIECE, input),
            },
            record: Vec::new(),
            number: 0,
            offset: 0,
            read: 0,
            most: opened.largest_record,
            wanted: Wanted::default(),
            slices: opened
                .options
                .context
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
            if end.is_some() {
                self.complete()?;
                return Ok(true);
            }
            if taken == 0 {
                return Ok(true);
            }
            if self.record.len() > self.most {
                let limit = numerant_data::value::Size(self.most as u64);
                return Err(self.path.error_at(
                    Place::record(self.number),
                    ReadProblem::RecordTooLarge { limit },
                ));
            }
        }
    }
}

impl MarcTrees {
    /// Takes what belongs to the record by its length, where a text of it holds the mark that ends records.
    fn complete(&mut self) -> Result<(), ReadError> {
        let stated = self
            .record
            .get(..5)
            .and_then(|digits| std::str::from_utf8(digits).ok());
        let stated = stated.and_then(|digits| digits.parse::<usize>().ok());
        let Some(missing) = stated.and_then(|stated| stated.checked_sub(self.record.len())) else {
            return Ok(());
        };
        let mut more: Vec<u8> = Vec::new();
        while more.len() < missing {
            let waiting = self
                .input
                .fill_buf()
                .map_err(|error| self.path.error(ReadProblem::Io(error)))?;
            let taken = waiting.len().min(missing - more.len());
            more.extend_from_slice(&waiting[..taken]);
            self.input.consume(taken);
            if taken == 0 {
                break;
            }
        }
        let before = self.record.len();
        self.record.extend_from_slice(&more);
        // A wrong length may reach to the end of another record, where no field of this one is.
        let is_whole = more.len() == missing
            && more.last() == Some(&RECORD_END)
            && RawRecord::parse(&self.record).is_ok_and(|raw| raw.is_filled());
        if is_whole {
            self.read += more.len() as u64;
        } else {
            self.record.truncate(before);
            self.input.give_back(more);
        }
        Ok(())
    }
}

/// An input that takes back what was read too far.
struct Returning {
    returned: Vec<u8>,
    at: usize,
    input: BufReader<Input>,
}

impl Returning {
    fn fill_buf(&mut self) -> io::Result<&[u8]> {
        if self.at < self.returned.len() {
            Ok(&self.returned[self.at..])
        } else {
            self.input.fill_buf()
        }
    }

    fn consume(&mut self, count: usize) {
        if self.at < self.returned.len() {
            self.at += count;
        } else {
            self.input.consume(count);
        }
    }

    /// Takes back what was read last.
    fn give_back(&mut self, mut bytes: Vec<u8>) {
        bytes.extend_from_slice(&self.returned[self.at..]);
        self.returned = bytes;
        self.at = 0;
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
                if let Some(policy) = self.as_xml.get().filter(|_| self.rejects) {
                    let (whole, _) = raw.decode(Decoding {
                        wanted: &|_| true,
                        ..decoding
                    })?;
                    whole.write_xml(policy, &mut Vec::new())?;
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

    fn frame(&self) -> DocumentFrame {
        DocumentFrame::default()
    }

    fn unit(&self) -> Unit {
        Unit::Record
    }

    fn only(&mut self, columns: &[String]) {
        self.wanted = Wanted::of(columns);
    }

    fn writer(&self, to: &str, options: &WriteOptions) -> Option<Arc<dyn RecordEncoder>> {
        let to = RecordSyntax::of(to)?;
        let policy = options.control_characters;
        if to == RecordSyntax::Xml {
            self.as_xml.set(Some(policy));
        }
        Some(Arc::new(RecordsEncoder {
            from: RecordSyntax::Iso2709,
            to,
            encoding: self.encoding,
            policy,
        }))
    }

    fn patcher(&self, patch: &Patch<'_>) -> Option<Result<Arc<dyn RecordEncoder>, EncodeError>> {
        patcher(RecordSyntax::Iso2709, patch, self.encoding)
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
