//! Conditions that are neither true nor false for a record, as a value in them is blank.

use crate::expr::Compiled;
use numerant_data::record::Batch;

/// Records for which a condition is unknown.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct UnknownRecords {
    /// The condition, or the name of the case.
    pub condition: String,
    /// It is that of a case.
    pub is_case: bool,
    /// How many records.
    pub records: u64,
    /// Columns that the condition names, each with how many of those records have a blank there.
    pub columns: Vec<(String, u64)>,
}

/// Counts the records for which one condition is unknown.
#[derive(Clone, Debug, Default)]
pub(super) struct UnknownTally {
    /// The columns that the condition names, by their places in batches.
    columns: Vec<(usize, String)>,
    records: u64,
    blanks: Vec<u64>,
}

impl UnknownTally {
    pub(super) fn new(condition: &Compiled) -> Self {
        let columns = condition.columns();
        Self {
            blanks: vec![0; columns.len()],
            columns,
            records: 0,
        }
    }

    /// Counts a record.
    pub(super) fn add(&mut self, batch: &Batch, record: usize) {
        self.records += 1;
        for ((slot, _), blanks) in self.columns.iter().zip(&mut self.blanks) {
            let value = batch.field(record, *slot).text();
            *blanks += u64::from(value.trim_ascii().is_empty());
        }
    }

    /// Takes over what was counted before, by a condition on columns of the same names.
    pub(super) fn carry(&mut self, before: &Self) {
        self.records += before.records;
        for (blanks, before) in self.blanks.iter_mut().zip(&before.blanks) {
            *blanks += before;
        }
    }

    /// What was counted of the condition called so; `None` if there is nothing.
    pub(super) fn finish(&self, condition: &str, is_case: bool) -> Option<UnknownRecords> {
        let named = self.columns.iter().zip(&self.blanks);
        (self.records > 0).then(|| UnknownRecords {
            condition: condition.to_owned(),
            is_case,
            records: self.records,
            columns: named
                .filter(|(_, blanks)| **blanks > 0)
                .map(|((_, name), blanks)| (name.clone(), *blanks))
                .collect(),
        })
    }
}
