//! Counts the segments of messages: where those of a source are, and what was written of them.

use serde::{Deserialize, Serialize};

/// The segments of a source, by where they stand.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub struct SegmentCounts {
    /// All that were read.
    pub read: u64,
    /// Around messages: those that open and close interchanges and groups.
    pub envelopes: u64,
    /// In records.
    pub records: u64,
    /// Before the records of a message.
    pub heads: u64,
    /// At the beginning of loops that have records.
    pub loops: u64,
    /// Behind the records of a message.
    pub tails: u64,
    /// In messages without records, which are in no output.
    pub left_out: u64,
}

impl SegmentCounts {
    pub(super) fn add(&mut self, other: Self) {
        self.read += other.read;
        self.envelopes += other.envelopes;
        self.records += other.records;
        self.heads += other.heads;
        self.loops += other.loops;
        self.tails += other.tails;
        self.left_out += other.left_out;
    }

    /// Whether there are none.
    pub fn is_none(&self) -> bool {
        self.read == 0
    }

    /// Whether each segment that was read stands in one of the places.
    pub fn adds_up(&self) -> bool {
        let places = [
            self.envelopes,
            self.records,
            self.heads,
            self.loops,
            self.tails,
            self.left_out,
        ];
        places.iter().sum::<u64>() == self.read
    }
}

/// The segments of all outputs of a run.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub struct SegmentsWritten {
    /// All that were written.
    pub written: u64,
    /// Those in records; the others stand around them, and are written with each part.
    pub records: u64,
    /// Of the segments behind records: adjustments, and levels of a hierarchy that other parts have.
    pub left_out: u64,
}

impl SegmentsWritten {
    pub(crate) fn add(&mut self, other: Self) {
        self.written += other.written;
        self.records += other.records;
        self.left_out += other.left_out;
    }

    /// Whether the segments in records that were written are those that were read; fewer are allowed where
    /// records were left out.
    pub fn agrees(&self, read: u64, has_left_out: bool) -> bool {
        self.records == read || has_left_out && self.records < read
    }
}
