//! What there is to say of messages in envelopes: facts, counts of segments, and policies.

use serde::{Deserialize, Serialize};

use numerant_data::value::Number;

/// What was found of one kind of message.
#[derive(Clone, Debug, PartialEq, Eq, serde::Serialize)]
#[serde(rename_all = "kebab-case")]
pub struct MessageFacts {
    /// The kind, such as 835 or REMADV.
    pub kind: String,
    /// The layout that says what its records are.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub layout: Option<String>,
    /// Messages.
    pub messages: u64,
    /// Records in them.
    pub records: u64,
    /// The totals that they state, summed up, where the layout knows of one.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub stated: Option<Number>,
    /// What their records and adjustments come to.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub found: Option<Number>,
    /// Messages whose total does not agree.
    pub unbalanced: u64,
    /// Counts and control numbers of the envelopes that do not agree.
    pub miscounted: u64,
    /// Segments whose names are not written in capitals; they are read as if they were.
    pub lower_case: u64,
    /// The first that does not agree, in words.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub first: Option<String>,
}

/// A message of which only some records were taken.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct BalanceNote {
    /// Its control number.
    pub message: String,
    /// Records that were taken, and that there are.
    pub records: (u64, u64),
    /// The total that it stated.
    pub stated: Number,
    /// The sum of the records that were taken.
    pub sum: Number,
    /// Adjustments that were left out, as they stood.
    pub dropped: Vec<String>,
    /// Total and adjustments stayed as they were.
    pub kept: bool,
}

/// What was written of messages.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct MessagesWritten {
    /// Messages of which only some records were taken.
    pub notes: Vec<BalanceNote>,
    /// Segments in all outputs.
    pub segments: SegmentsWritten,
}

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
    /// Adds the counts of another source.
    pub fn add(&mut self, other: Self) {
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

    /// Whether each segment that was read is in one of the places.
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
    /// Of the segments after records: adjustments, and levels of a hierarchy that other parts have.
    pub left_out: u64,
}

impl SegmentsWritten {
    /// Adds the counts of another output.
    pub fn add(&mut self, other: Self) {
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
