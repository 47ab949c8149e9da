//! A run: records in memory, each packed with its key, and the order to bring them into.
//!
//! Sorting looks at two numbers a record, the codes of its first two columns, and at its key only
//! where those are the same. The code of a text is its rank among the texts of the run, unless
//! there are too many of them; then it is their first eight bytes.

use std::fs::File;
use std::io::{self, BufWriter, Seek, Write};
use std::path::Path;

use hashbrown::HashTable;

use super::SortBy;
use super::key::{self, Sorted};
use numerant_data::record::{Arena, Batch, Span, Tag, Tagging};
use numerant_data::value::Number;

/// Texts of a column whose ranks are known.
const MOST_TEXTS: usize = 1 << 16;

/// Columns that have codes.
const CODES: usize = 2;

/// Records that are asked for together, and bytes that a processor fetches at a time.
const TOGETHER: usize = 32;
const LINE: usize = 64;

/// Stands for no text.
const NO_TEXT: u32 = u32::MAX;

#[derive(Debug)]
pub(crate) struct Run {
    /// Records, packed one after the other.
    packed: Arena,
    entries: Vec<Entry>,
    texts: Vec<Texts>,
    columns: usize,
    /// For each of the first columns: no two values that differ have the same code.
    exact: [bool; CODES],
    key: Vec<u8>,
    /// The record that is being packed.
    record: Vec<u8>,
}

#[derive(Clone, Copy, Debug)]
struct Entry {
    codes: [u64; CODES],
    start: u32,
}

/// The texts of one column, and which of them each record has.
#[derive(Debug, Default)]
struct Texts {
    bytes: Vec<u8>,
    ends: Vec<u32>,
    table: HashTable<u32>,
    of_records: Vec<u32>,
    overflowed: bool,
}

impl Texts {
    fn clear(&mut self) {
        self.bytes.clear();
        self.ends.clear();
        self.table.clear();
        self.of_records.clear();
        self.overflowed = false;
    }

    fn place(ends: &[u32], number: u32) -> std::ops::Range<usize> {
        let number = number as usize;
        let start = if number == 0 { 0 } else { ends[number - 1] };
        start as usize..ends[number] as usize
    }

    fn number(&mut self, text: &[u8]) -> u32 {
        if self.overflowed {
            return NO_TEXT;
        }
        let (bytes, ends) = (&self.bytes, &self.ends);
        let hash = xxhash_rust::xxh3::xxh3_64(text);
        let same = |number: &u32| bytes[Self::place(ends, *number)] == *text;
        if let Some(number) = self.table.find(hash, same) {
            return *number;
        }
        if self.ends.len() >= MOST_TEXTS {
            self.overflowed = true;
            return NO_TEXT;
        }
        let number = self.ends.len() as u32;
        self.bytes.extend_from_slice(text);
        self.ends.push(self.bytes.len() as u32);
        let (bytes, ends) = (&self.bytes, &self.ends);
        self.table.insert_unique(hash, number, |number| {
            xxhash_rust::xxh3::xxh3_64(&bytes[Self::place(ends, *number)])
        });
        number
    }

    /// The rank of each text.
    fn ranks(&self) -> Vec<u32> {
        let mut order: Vec<u32> = (0..self.ends.len() as u32).collect();
        let text = |number: u32| &self.bytes[Self::place(&self.ends, number)];
        order.sort_unstable_by(|one, other| text(*one).cmp(text(*other)));
        let mut ranks = vec![0; order.len()];
        for (rank, number) in order.into_iter().enumerate() {
            ranks[number as usize] = rank as u32;
        }
        ranks
    }
}

/// A run on the disk.
#[derive(Debug)]
pub(super) struct RunFile {
    pub(super) file: File,
}

impl Run {
    pub(super) fn new(columns: usize) -> Self {
        Self {
            packed: Arena::default(),
            record: Vec::new(),
            entries: Vec::new(),
            texts: (0..columns.min(CODES)).map(|_| Texts::default()).collect(),
            columns,
            exact: [true; CODES],
            key: Vec::new(),
        }
    }

    pub(super) fn clear(&mut self) {
        self.packed.clear();
        self.entries.clear();
        self.texts.iter_mut().for_each(Texts::clear);
        self.exact = [true; CODES];
    }

    /// Bytes that it takes.
    pub(super) fn size(&self) -> usize {
        self.packed.len() + self.entries.len() * (size_of::<Entry>() + CODES * size_of::<u32>())
    }

    pub(super) fn len(&self) -> usize {
        self.entries.len()
    }

    /// A packed record, in order once the run is sorted.
    pub(super) fn record(&self, place: usize) -> &[u8] {
        packed_at(self.packed.as_slice(), self.entries[place].start as usize)
    }

    pub(super) fn push(
        &mut self,
        batch: &Batch,
        record: usize,
        line: u64,
        by: &mut SortBy,
        room: usize,
    ) -> io::Result<()> {
        let mut codes = [0; CODES];
        let mut sort_key = std::mem::take(&mut self.key);
        sort_key.clear();
        for (place, wanted) in by.keys.iter().enumerate() {
            let value = batch.field(record, wanted.slot).text();
            let sorted = key::sorted(&value, wanted, &by.cells);
            by.tallies[place].add(&sorted);
            key::encode(&sorted, wanted.descending, &mut sort_key);
            if place < CODES {
                let (code, exact) = key::code(&sorted, wanted.descending);
                codes[place] = code;
                let texts = &mut self.texts[place];
                let number = match sorted {
                    Sorted::Text(text) => texts.number(text),
                    _ => {
                        self.exact[place] &= exact;
                        NO_TEXT
                    }
                };
                texts.of_records.push(number);
            }
        }
        self.record.clear();
        pack(&sort_key, batch, record, line, &mut self.record);
        self.key = sort_key;
        let start = self.packed.len() as u32;
        self.packed
            .reserve(room.max(self.packed.len() + self.record.len()))?;
        self.packed.push(&self.record);
        self.entries.push(Entry { codes, start });
        Ok(())
    }

    /// Brings the entries into order.
    pub(super) fn sort(&mut self) {
        let mut exact = self.exact;
        for (place, texts) in self.texts.iter().enumerate() {
            if texts.overflowed {
                exact[place] = false;
                continue;
            }
            let ranks = texts.ranks();
            for (entry, number) in self.entries.iter_mut().zip(&texts.of_records) {
                if *number != NO_TEXT {
                    // What was a text has a code of one, in either direction.
                    let descending = entry.codes[place] > u64::MAX / 2;
                    entry.codes[place] = key::rank_code(ranks[*number as usize], descending);
                }
            }
        }
        // Records lie in the order of the source, so equal ones are distinguished by their place.
        if exact == [true; CODES] && self.columns <= CODES {
            self.entries
                .sort_unstable_by_key(|entry| (entry.codes, entry.start));
            return;
        }
        let packed = self.packed.as_slice();
        self.entries.sort_unstable_by(|one, other| {
            // The second code counts only among records whose first values are the same.
            let mut codes = one.codes[0].cmp(&other.codes[0]);
            if exact[0] {
                codes = codes.then(one.codes[1].cmp(&other.codes[1]));
            }
            codes.then_with(|| {
                let key = |entry: &Entry| key_of(packed_at(packed, entry.start as usize));
                key(one)
                    .cmp(key(other))
                    .then_with(|| one.start.cmp(&other.start))
            })
        });
    }

    /// Sorts the run and writes it to a file without a name.
    pub(super) fn write(&mut self, folder: &Path) -> io::Result<RunFile> {
        self.sort();
        let file = tempfile::tempfile_in(folder)?;
        let mut out = BufWriter::with_capacity(1 << 20, file);
        let packed = self.packed.as_slice();
        for entries in self.entries.chunks(TOGETHER) {
            // Records lie all over the place. Asking for many of them at once is faster than to
            // wait for one after the other.
            let mut seen = 0_u8;
            for entry in entries {
                let start = entry.start as usize;
                for line in [0, LINE, 2 * LINE] {
                    seen ^= packed.get(start + line).copied().unwrap_or_default();
                }
            }
            std::hint::black_box(seen);
            for entry in entries {
                out.write_all(packed_at(packed, entry.start as usize))?;
            }
        }
        let mut file = out.into_inner().map_err(io::IntoInnerError::into_error)?;
        file.rewind()?;
        Ok(RunFile { file })
    }
}

/// Lengths of the whole, of the key and of the text, and the line.
const HEAD: usize = 20;

/// Bytes for the end and the tag of a field.
const FIELD: usize = 8;

/// Packs a record: a head, the key, the text verbatim, ends and tags of its fields, computed values with their lengths, the numbers
/// of totals, and the record as its document has it, if that is kept.
fn pack(key: &[u8], batch: &Batch, record: usize, line: u64, out: &mut Vec<u8>) {
    let start = out.len();
    let raw = batch.raw(record);
    out.extend_from_slice(&[0; 4]);
    out.extend_from_slice(&(key.len() as u32).to_le_bytes());
    out.extend_from_slice(&(raw.len() as u32).to_le_bytes());
    out.extend_from_slice(&line.to_le_bytes());
    out.extend_from_slice(key);
    out.extend_from_slice(raw);
    if batch.tagging != Tagging::None {
        let (first, _) = batch.bounds(record);
        for (end, tag) in batch.ends_of(record).iter().zip(batch.tags_of(record)) {
            out.extend_from_slice(&(end - first as u32).to_le_bytes());
            out.extend_from_slice(&tag.to_bytes());
        }
    }
    for column in &batch.computed {
        let (from, to) = column.spans.get(record).copied().unwrap_or_default();
        out.extend_from_slice(&(to - from).to_le_bytes());
        out.extend_from_slice(&column.bytes[from as usize..to as usize]);
    }
    for numbers in &batch.numbers {
        let number = numbers.get(record).copied().unwrap_or(Number::ZERO);
        out.extend_from_slice(&number.units.to_le_bytes());
        out.extend_from_slice(&number.scale.to_le_bytes());
    }
    if !batch.originals.spans.is_empty() {
        out.extend_from_slice(batch.of_document(record));
    }
    let length = (out.len() - start) as u32;
    out[start..start + 4].copy_from_slice(&length.to_le_bytes());
}

fn number_at(packed: &[u8], at: usize) -> usize {
    packed
        .get(at..at + 4)
        .and_then(|bytes| bytes.try_into().ok())
        .map_or(0, |bytes| u32::from_le_bytes(bytes) as usize)
}

/// The record that begins at `start`.
pub(super) fn packed_at(packed: &[u8], start: usize) -> &[u8] {
    &packed[start..start + number_at(packed, start)]
}

/// The length of the record that `packed` begins with, if that is there.
pub(super) fn length_of(packed: &[u8]) -> Option<usize> {
    (packed.len() >= 4).then(|| number_at(packed, 0))
}

pub(super) fn key_of(record: &[u8]) -> &[u8] {
    &record[HEAD..HEAD + number_at(record, 4)]
}

/// Appends a packed record to a batch, without its field ends where they are found in its text.
pub(super) fn unpack(record: &[u8], batch: &mut Batch) {
    let text = HEAD + number_at(record, 4);
    let mut at = text + number_at(record, 8);
    let start = batch.bytes.len() as u32;
    batch.bytes.extend_from_slice(&record[text..at]);
    let first = batch.ends.len() as u32;
    if batch.tagging != Tagging::None {
        for field in record[at..at + batch.width() * FIELD].chunks_exact(FIELD) {
            batch.ends.push(start + number_at(field, 0) as u32);
            batch
                .tags
                .push(Tag::from_bytes([field[4], field[5], field[6], field[7]]));
        }
        at += batch.width() * FIELD;
    }
    batch.spans.push(Span {
        start,
        first,
        last_byte: batch.bytes.len() as u32 - 1,
    });
    let line = record[12..20].try_into().map_or(0, u64::from_le_bytes);
    batch.lines.push(line);
    for column in &mut batch.computed {
        let length = number_at(record, at);
        column.push(&record[at + 4..at + 4 + length]);
        at += 4 + length;
    }
    for numbers in &mut batch.numbers {
        let units = record[at..at + 16]
            .try_into()
            .map_or(0, i128::from_le_bytes);
        let scale = number_at(record, at + 16) as u32;
        numbers.push(Number { units, scale });
        at += 20;
    }
    if at < record.len() {
        let start = batch.originals.bytes.len() as u32;
        batch.originals.bytes.extend_from_slice(&record[at..]);
        batch
            .originals
            .spans
            .push((start, batch.originals.bytes.len() as u32));
    }
}
