//! What a reader counts, and what there is to say of it.

use serde::Serialize;

use super::SegmentCounts;
use numerant_data::dialect::Delimiter;

/// Something about how a text is written that its reader should know.
#[derive(Clone, Debug, PartialEq, Eq, Serialize)]
#[serde(rename_all = "kebab-case", tag = "note")]
pub enum TextNote {
    /// It is not UTF-8, and nothing in it states its encoding.
    Encoding {
        /// The encoding that was detected.
        encoding: &'static str,
    },
    /// A second byte-order mark was dropped.
    SecondMark,
    /// Its first line names the delimiter, and is no record.
    SeparatorLine {
        /// The delimiter.
        delimiter: Delimiter,
    },
    /// It has a delimiter that few files have.
    UnusualDelimiter {
        /// The delimiter.
        delimiter: Delimiter,
    },
    /// Blanks between delimiters and quotes were skipped.
    PaddedQuotes,
    /// Its first record is most likely a title above the header.
    Title {
        /// The line of the header.
        header: u64,
    },
    /// Its first record is most likely data.
    NoHeader,
    /// Quotes stand where RFC 4180 has none; such values are read with all their quotes.
    StrayQuotes {
        /// Fields with such quotes.
        fields: u64,
    },
    /// Line ends have more than one carriage return.
    ExtraReturns {
        /// How many.
        lines: u64,
    },
    /// End marks of DOS (0x1A) are after the text, or between records, and were dropped.
    EndMarks {
        /// How many.
        count: u64,
    },
    /// Columns that the job names and no record has.
    Absent {
        /// Their names.
        columns: Vec<String>,
    },
    /// Records in UTF-8 say another encoding.
    Unlabelled {
        /// How many.
        records: u64,
    },
    /// The last segment of messages has no terminator; it was read as if it had one.
    Unterminated,
    /// Escape characters are before letters or digits, which were read as they are.
    EscapedLetters {
        /// How often.
        count: u64,
    },
    /// Values were read as blank.
    BlankValues {
        /// How many.
        values: u64,
    },
}

/// What a reader counted.
#[derive(Clone, Debug, Default, PartialEq, Eq, Serialize)]
#[serde(rename_all = "kebab-case")]
pub struct ReadTally {
    /// Records, the rejected ones among them.
    pub records: u64,
    /// Records that were rejected, the first of them with their lines.
    pub rejected: u64,
    /// Records to which blank fields were added, or from which blank ones were taken.
    pub padded: u64,
    /// Lines with nothing on them, which are no records.
    pub blank_lines: u64,
    /// Lines that are comments.
    pub comments: u64,
    /// Fields with a quote where RFC 4180 has none, read with all their quotes.
    pub stray_quotes: u64,
    /// Line ends with more than one carriage return.
    pub extra_returns: u64,
    /// End marks of DOS after the text.
    pub end_marks: u64,
    /// Escape characters before letters or digits.
    pub escaped_letters: u64,
    /// Values that were read as blank.
    pub blank_values: u64,
    /// Records in UTF-8 that say another encoding.
    pub unlabelled: u64,
    /// Last segments whose terminator was missing.
    pub unterminated: u64,
    /// The segments of messages; all zero where there are none.
    #[serde(skip_serializing_if = "SegmentCounts::is_none")]
    pub segments: SegmentCounts,
}

impl ReadTally {
    /// What a user should know of what was counted.
    pub fn notes(&self) -> Vec<TextNote> {
        let counted = [
            (
                self.stray_quotes,
                TextNote::StrayQuotes {
                    fields: self.stray_quotes,
                },
            ),
            (
                self.extra_returns,
                TextNote::ExtraReturns {
                    lines: self.extra_returns,
                },
            ),
            (
                self.end_marks,
                TextNote::EndMarks {
                    count: self.end_marks,
                },
            ),
            (
                self.escaped_letters,
                TextNote::EscapedLetters {
                    count: self.escaped_letters,
                },
            ),
            (
                self.blank_values,
                TextNote::BlankValues {
                    values: self.blank_values,
                },
            ),
            (
                self.unlabelled,
                TextNote::Unlabelled {
                    records: self.unlabelled,
                },
            ),
            (self.unterminated, TextNote::Unterminated),
        ];
        let notes = counted.into_iter().filter(|(count, _)| *count > 0);
        notes.map(|(_, note)| note).collect()
    }
}
