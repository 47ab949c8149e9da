//! Whether two bags of records hold the same records, in any order, in one pass and with constant
//! memory.
//!
//! A record is brought to one form whatever it was written in: its values, joined by commas, or if a
//! value holds a comma, by NUL, which no value holds. So most records of a file with commas are in
//! that form verbatim. The digest of a bag is the sum, modulo 2^128, of the XXH3 hashes (128 bits) of its
//! records, with their number. Sums are kept apart for 4,096 buckets of hashes as well, so that a
//! second pass has to look only at records of buckets in which the bags differ.

use serde::Serialize;
use xxhash_rust::xxh3::xxh3_128;

use numerant_data::record::Batch;

/// Buckets of hashes.
pub(crate) const BUCKETS: usize = 1 << 12;

/// The bucket of a hash.
pub(crate) fn bucket(hash: u128) -> usize {
    (hash >> (128 - BUCKETS.trailing_zeros())) as usize
}

/// A bag of records, as far as its digest goes.
#[derive(Clone, Debug)]
pub(crate) struct Bag {
    records: u64,
    buckets: Vec<(u128, u64)>,
}

/// The digest of a bag, for people to compare.
#[derive(Clone, Debug, PartialEq, Eq, Serialize)]
#[serde(rename_all = "kebab-case")]
pub struct BagDigest {
    /// Records.
    pub records: u64,
    /// The sum of their hashes in hexadecimal.
    pub digest: String,
}

impl Default for Bag {
    fn default() -> Self {
        Self {
            records: 0,
            buckets: vec![(0, 0); BUCKETS],
        }
    }
}

impl Bag {
    /// Puts a record in, by its hash.
    #[inline]
    pub(crate) fn add(&mut self, hash: u128) {
        self.records += 1;
        let (sum, count) = &mut self.buckets[bucket(hash)];
        *sum = sum.wrapping_add(hash);
        *count += 1;
    }

    pub(crate) fn digest(&self) -> BagDigest {
        let sum = self
            .buckets
            .iter()
            .fold(0_u128, |sum, (bucket, _)| sum.wrapping_add(*bucket));
        BagDigest {
            records: self.records,
            digest: format!("{sum:032x}"),
        }
    }

    /// The buckets in which two bags differ, each with how many records both have in it.
    pub(crate) fn differing(&self, other: &Self) -> Vec<(usize, u64)> {
        let pairs = self.buckets.iter().zip(&other.buckets).enumerate();
        pairs
            .filter(|(_, (one, other))| one != other)
            .map(|(bucket, (one, other))| (bucket, one.1 + other.1))
            .collect()
    }
}

/// Hashes records by the values of some of their columns.
#[derive(Debug)]
pub(crate) struct RecordHasher {
    /// The places of the columns; `None` for all verbatim.
    columns: Option<Vec<usize>>,
    joined: Vec<u8>,
    /// Where quotes are in a batch.
    quotes: Vec<usize>,
}

const COMMA: u8 = b',';

impl RecordHasher {
    pub(crate) fn new(columns: Vec<usize>, width: usize) -> Self {
        let all = columns.len() == width && columns.iter().enumerate().all(|(at, c)| at == *c);
        Self {
            columns: (!all).then_some(columns),
            joined: Vec::new(),
            quotes: Vec::new(),
        }
    }

    /// Replaces what is in `hashes` with those of the records of a batch.
    pub(crate) fn hash_all(&mut self, batch: &Batch, hashes: &mut Vec<u128>) {
        hashes.clear();
        let as_it_stands = self.columns.is_none() && batch.delimiter == COMMA;
        self.quotes.clear();
        if let Some(quote) = batch.quote.filter(|_| as_it_stands) {
            self.quotes.extend(memchr::memchr_iter(quote, &batch.bytes));
        }
        let mut next = 0;
        for record in 0..batch.len() {
            if as_it_stands {
                let (start, end) = batch.bounds(record);
                // Copies lie after all others, so places may go back once.
                if next > 0 && self.quotes[next - 1] >= start {
                    next = self.quotes.partition_point(|quote| *quote < start);
                }
                while self.quotes.get(next).is_some_and(|quote| *quote < start) {
                    next += 1;
                }
                if self.quotes.get(next).is_none_or(|quote| *quote >= end) {
                    hashes.push(xxh3_128(batch.raw_fields(record, 0, batch.width() - 1)));
                    continue;
                }
            }
            self.join(batch, record);
            hashes.push(xxh3_128(&self.joined));
        }
    }

    /// Brings a record to the form that is hashed.
    fn join(&mut self, batch: &Batch, record: usize) {
        for joiner in [COMMA, 0] {
            self.joined.clear();
            let mut ambiguous = false;
            let mut add = |place: usize, column: usize| {
                let value = batch.field(record, column).text();
                ambiguous |= value.contains(&COMMA);
                if place > 0 {
                    self.joined.push(joiner);
                }
                self.joined.extend_from_slice(&value);
            };
            match &self.columns {
                Some(columns) => {
                    for (place, column) in columns.iter().enumerate() {
                        add(place, *column);
                    }
                }
                None => (0..batch.width()).for_each(|column| add(column, column)),
            }
            if !ambiguous {
                return;
            }
        }
    }
}

#[cfg(test)]
mod tests {
    use std::path::PathBuf;

    use super::*;
    use numerant_data::source::{Input, SourcePath};
    use numerant_format::{ReadOptions, RecordReader};
    use numerant_text::DelimitedReader;

    fn bag(text: &str, columns: &[usize]) -> BagDigest {
        let path = SourcePath::from(PathBuf::from("calls.csv"));
        let input = Input::from_reader(
            path,
            Box::new(std::io::Cursor::new(text.as_bytes().to_vec())),
            None,
        );
        let options = ReadOptions {
            ragged: numerant_format::Ragged::Pad,
            ..ReadOptions::default()
        };
        let mut reader =
            DelimitedReader::open(input.expect("opens"), &options, 40, 1 << 20).expect("opens");
        let mut hasher = RecordHasher::new(columns.to_vec(), reader.columns().len());
        let (mut bag, mut hashes, mut batch) = (Bag::default(), Vec::new(), Batch::default());
        while reader.next_batch(&mut batch).expect("readable") {
            hasher.hash_all(&batch, &mut hashes);
            hashes.iter().for_each(|hash| bag.add(*hash));
        }
        bag.digest()
    }

    #[test]
    fn bags_are_the_same_however_they_are_written() {
        let all = [0, 1, 2];
        let whole = bag("a,b,c\n1,x,2\n1,\"y,z\",2\n3,\"say \"\"ho\"\"\",\n", &all);
        for same in [
            "a,b,c\n3,\"say \"\"ho\"\"\",\n1,\"y,z\",2\n1,x,2\n",
            "a;b;c\r\n1;y,z;2\r\n\"1\";\"x\";\"2\"\r\n3;\"say \"\"ho\"\"\";\r\n",
            "a\tb\tc\n3\t\"say \"\"ho\"\"\"\n1\tx\t2\n1\ty,z\t2\n",
        ] {
            assert_eq!(bag(same, &all), whole, "{same}");
        }
        for other in [
            "a,b,c\n1,x,2\n1,\"y,z\",2\n",
            "a,b,c\n1,x,2\n1,y,\"z,2\"\n3,\"say \"\"ho\"\"\",\n",
            "a,b,c\n1,x,2\n1,x,2\n3,\"say \"\"ho\"\"\",\n",
        ] {
            assert_ne!(bag(other, &all).digest, whole.digest, "{other}");
        }
        assert_eq!(
            bag("a,b,c\n1,x,2\n", &[2, 0]),
            bag("c;a\n2;1\n", &[0, 1]),
            "columns by their names"
        );
    }
}
