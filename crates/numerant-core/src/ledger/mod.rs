//! The books of a run: what was read, what was written, and that the two agree.

use serde::Serialize;

/// The form of the ledger document; it grows when a reader of older ledgers would be misled.
pub const LEDGER_FORM: u32 = 1;

/// The ledger of a finished run. Its JSON is described in `docs/ledger.md`.
#[derive(Clone, Debug, Default, PartialEq, Eq, Serialize)]
#[serde(rename_all = "kebab-case")]
#[non_exhaustive]
pub struct Ledger {
    /// The form of this document.
    pub form: u32,
    /// What was read, source by source in the order they were named.
    pub sources: Vec<SourceEntry>,
    /// What was written, in the order of first records.
    pub outputs: Vec<OutputEntry>,
    /// Records that were read and are in no output, by reason.
    pub left_out: Vec<LeftOut>,
    /// Records in which something is wrong, the first of them.
    pub rejects: Vec<Reject>,
    /// The sums.
    pub totals: Totals,
    /// Whether records read are records written, left out and rejected.
    pub balanced: bool,
}

/// One source.
#[derive(Clone, Debug, Default, PartialEq, Eq, Serialize)]
#[serde(rename_all = "kebab-case")]
pub struct SourceEntry {
    /// As it was named.
    pub path: String,
    /// Bytes on disk, where they are known.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub bytes: Option<u64>,
    /// Records, the rejected ones among them; the header is none.
    pub records: u64,
    /// Records that were rejected.
    pub rejected: u64,
    /// Records to which blank fields were added, or from which blank ones were taken.
    pub padded: u64,
    /// Lines with nothing on them, which are no records.
    pub blank_lines: u64,
    /// Lines that were skipped at the start.
    pub skipped_lines: u64,
}

/// One output.
#[derive(Clone, Debug, Default, PartialEq, Eq, Serialize)]
#[serde(rename_all = "kebab-case")]
pub struct OutputEntry {
    /// Below the output folder, with `/` between folders.
    pub path: String,
    /// Records in it.
    pub records: u64,
    /// Bytes of it, the header among them; not known of an output that is only planned.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub bytes: Option<u64>,
}

/// Records that are in no output.
#[derive(Clone, Debug, PartialEq, Eq, Serialize)]
#[serde(rename_all = "kebab-case")]
pub struct LeftOut {
    /// Why.
    pub reason: LeftOutReason,
    /// Which output they would have gone to, where that is the reason.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub path: Option<String>,
    /// How many.
    pub records: u64,
}

/// Why records are in no output.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize)]
#[serde(rename_all = "kebab-case")]
#[non_exhaustive]
pub enum LeftOutReason {
    /// Their output exists and was to stay as it is.
    OutputExists,
}

/// A record in which something is wrong.
#[derive(Clone, Debug, PartialEq, Eq, Serialize)]
#[serde(rename_all = "kebab-case")]
pub struct Reject {
    /// Its source.
    pub source: String,
    /// Its line there, from 1.
    pub line: u64,
    /// What is wrong.
    pub reason: String,
}

/// The sums of a run, in records.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, Serialize)]
#[serde(rename_all = "kebab-case")]
pub struct Totals {
    /// Read from all sources.
    pub read: u64,
    /// Written to all outputs.
    pub written: u64,
    /// Read and in no output.
    pub left_out: u64,
    /// Read and wrong.
    pub rejected: u64,
}

impl Ledger {
    /// Sums up the entries and says whether they balance.
    pub fn close(
        sources: Vec<SourceEntry>,
        outputs: Vec<OutputEntry>,
        left_out: Vec<LeftOut>,
        rejects: Vec<Reject>,
    ) -> Self {
        let totals = Totals {
            read: sources.iter().map(|source| source.records).sum(),
            written: outputs.iter().map(|output| output.records).sum(),
            left_out: left_out.iter().map(|entry| entry.records).sum(),
            rejected: sources.iter().map(|source| source.rejected).sum(),
        };
        let balanced = totals.read == totals.written + totals.left_out + totals.rejected;
        Self {
            form: LEDGER_FORM,
            sources,
            outputs,
            left_out,
            rejects,
            totals,
            balanced,
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn books_balance_or_say_that_they_do_not() {
        let source = SourceEntry {
            records: 10,
            rejected: 1,
            ..SourceEntry::default()
        };
        let output = OutputEntry {
            records: 6,
            ..OutputEntry::default()
        };
        let left_out = LeftOut {
            reason: LeftOutReason::OutputExists,
            path: Some("a.csv".into()),
            records: 3,
        };
        let ledger = Ledger::close(
            vec![source.clone()],
            vec![output],
            vec![left_out.clone()],
            vec![],
        );
        assert!(ledger.balanced);
        assert_eq!(
            ledger.totals,
            Totals {
                read: 10,
                written: 6,
                left_out: 3,
                rejected: 1
            }
        );
        assert!(!Ledger::close(vec![source], vec![], vec![left_out], vec![]).balanced);
    }
}
