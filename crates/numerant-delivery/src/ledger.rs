//! The outputs in the ledger of a run.

use std::collections::BTreeMap;
use std::path::Path;

use crate::Deliverable;
use numerant_data::value::{ArithmeticError, Number};
use numerant_engine::ledger::Ledger;

/// A ledger whose outputs cannot be handed over.
#[derive(Clone, Debug, PartialEq, Eq, thiserror::Error)]
pub enum LedgerError {
    /// It has no digest of an output.
    #[error("{0}: the ledger has no digest of it")]
    NoDigest(String),
    /// Control totals of the sheets of a file cannot be added up.
    #[error("{path}: its control totals cannot be added up: {problem}")]
    Sum {
        /// The file.
        path: String,
        /// Why.
        problem: ArithmeticError,
    },
}

/// The files of a ledger, which are in the folder `out`. A file with several sheets has the keys that these have in
/// common.
///
/// # Errors
///
/// If the ledger has no digest of a file.
pub fn deliverables(ledger: &Ledger, out: &Path) -> Result<Vec<Deliverable>, LedgerError> {
    let columns: Vec<&str> = ledger.sums.iter().map(|sum| sum.column.as_str()).collect();
    let mut outputs: Vec<Deliverable> = Vec::new();
    let mut places: BTreeMap<&str, usize> = BTreeMap::new();
    for entry in &ledger.outputs {
        let totals = columns.iter().zip(&entry.sums);
        let totals: Vec<(String, Number)> = totals
            .map(|(column, sum)| ((*column).to_owned(), *sum))
            .collect();
        let Some(place) = places.get(entry.path.as_str()) else {
            let no_digest = || LedgerError::NoDigest(entry.path.clone());
            places.insert(&entry.path, outputs.len());
            outputs.push(Deliverable {
                path: entry.path.clone(),
                file: out.join(&entry.path),
                keys: entry.keys.clone(),
                records: entry.records,
                totals,
                bytes: entry.bytes.unwrap_or(0),
                blake3: entry.blake3.clone().ok_or_else(no_digest)?,
            });
            continue;
        };
        let output = &mut outputs[*place];
        output
            .keys
            .retain(|key, value| entry.keys.get(key) == Some(value));
        output.records += entry.records;
        for ((_, sum), (_, more)) in output.totals.iter_mut().zip(totals) {
            *sum = sum.plus(more).map_err(|problem| LedgerError::Sum {
                path: entry.path.clone(),
                problem,
            })?;
        }
    }
    Ok(outputs)
}

#[cfg(test)]
mod tests {
    use super::*;
    use numerant_engine::ledger::{OutputEntry, SumEntry};

    fn entry(path: &str, quay: &str, digest: Option<&str>) -> OutputEntry {
        OutputEntry {
            path: path.to_owned(),
            records: 2,
            bytes: digest.map(|_| 10),
            blake3: digest.map(str::to_owned),
            keys: [("quay", quay), ("year", "2026")]
                .map(|(key, value)| (key.to_owned(), value.to_owned()))
                .into(),
            sums: vec!["1.50".parse().expect("a number")],
            ..OutputEntry::default()
        }
    }

    #[test]
    fn sheets_of_a_file_are_one_output_with_what_they_share() {
        let ledger = Ledger {
            outputs: vec![
                entry("a.xlsx", "North", Some("00")),
                entry("b.csv", "East", Some("11")),
                entry("a.xlsx", "West", None),
            ],
            sums: vec![SumEntry {
                column: "dues".to_owned(),
                ..SumEntry::default()
            }],
            ..Ledger::default()
        };
        let found = deliverables(&ledger, Path::new("parts")).expect("outputs");
        assert_eq!(found.len(), 2);
        assert_eq!((found[0].records, found[0].bytes), (4, 10));
        assert_eq!(found[0].totals[0].1.to_string(), "3.00");
        let keys: Vec<&str> = found[0].keys.keys().map(String::as_str).collect();
        assert_eq!(keys, ["year"]);
        assert_eq!(found[1].file, Path::new("parts/b.csv"));
        let unkept = Ledger {
            outputs: vec![entry("a.csv", "North", None)],
            ..Ledger::default()
        };
        assert_eq!(
            deliverables(&unkept, Path::new("")),
            Err(LedgerError::NoDigest("a.csv".to_owned()))
        );
    }
}
