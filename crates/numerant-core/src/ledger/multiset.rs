//! Whether two bags of records hold the same records, in any order, in one pass and with constant
//! memory.
//!
//! A record is brought to one form whatever it was written in: its values, joined by NUL, which no
//! value holds. The digest of a bag is the sum, modulo 2^128, of the XXH3 hashes (128 bits) of its
//! records, with their number. Sums are kept apart for 4,096 buckets of hashes as well, so that a
//! second pass has to look only at records of buckets in which the bags differ.

use serde::Serialize;
use xxhash_rust::xxh3::xxh3_128;

use crate::record::Batch;

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
    /// The places of the columns; `None` for all as they stand.
    columns: Option<Vec<usize>>,
    scratch: Vec<u8>,
}

impl RecordHasher {
    pub(crate) fn new(columns: Vec<usize>, width: usize) -> Self {
        let all = columns.len() == width && columns.iter().enumerate().all(|(at, c)| at == *c);
        Self {
            columns: (!all).then_some(columns),
            scratch: Vec::new(),
        }
    }

    /// Replaces what is in `hashes` with those of the records of a batch. The batch can be used
    /// for nothing else afterwards.
    pub(crate) fn hash_all(&mut self, batch: &mut Batch, hashes: &mut Vec<u128>) {
        hashes.clear();
        for record in 0..batch.len() {
            if self.columns.is_none() && !batch.may_be_quoted(record) {
                hashes.push(xxh3_128(batch.join_with_nul(record)));
                continue;
            }
            self.scratch.clear();
            let mut add = |place: usize, column: usize| {
                if place > 0 {
                    self.scratch.push(0);
                }
                self.scratch
                    .extend_from_slice(&batch.field(record, column).text());
            };
            match &self.columns {
                Some(columns) => {
                    for (place, column) in columns.iter().enumerate() {
                        add(place, *column);
                    }
                }
                None => (0..batch.width()).for_each(|column| add(column, column)),
            }
            hashes.push(xxh3_128(&self.scratch));
        }
    }
}
