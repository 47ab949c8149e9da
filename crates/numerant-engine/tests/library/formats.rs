//! Every format that is written, to every other: values and types.

use std::path::Path;

use numerant_data::value::Kind;
use numerant_engine::{Inspection, inspect};
use numerant_formats::{FORMATS, format_of, known_extensions};

use crate::support::{context, convert, job};

/// A value of each type, a blank, and what looks like a number and is none.
const CALLS: &str = "id,quay,tonnes,dues,arrived,pilot,remarks\n\
    0007,Ångkajen,1200,10.50,2026-03-05,true,\"late, then \"\"early\"\"\"\n\
    0012,Ro/Ro <1>,-7,0.25,2026-03-31,false,\n\
    0003,North & East,98765432,1.75,2025-12-24,true,1E5x\n";

fn look(path: &Path, of: &Path) -> Inspection {
    let job = job(of, "x.csv", of);
    let mut found = inspect(&path.to_owned().into(), &job, 9, &context()).expect("readable");
    found.remove(0)
}

/// Values as they were; a truth is written in capitals by some.
fn values(inspection: &Inspection) -> Vec<Vec<String>> {
    let lower = |value: &String| match value.as_str() {
        "TRUE" | "FALSE" => value.to_lowercase(),
        other => other.to_owned(),
    };
    let records = inspection.records.iter();
    records
        .map(|record| record.iter().map(lower).collect())
        .collect()
}

fn kinds(inspection: &Inspection) -> Vec<Kind> {
    inspection
        .columns
        .iter()
        .map(|column| column.kind)
        .collect()
}

#[test]
fn all_formats_to_all_formats() {
    let folder = tempfile::tempdir().expect("a folder");
    let source = folder.path().join("calls.csv");
    std::fs::write(&source, CALLS).expect("written");
    let expected = look(&source, folder.path());
    // Bibliographic records have columns of their own, messages are made of messages only, and fixed widths need a
    // layout; they have tests of their own. Pages are not read.
    let is_of_records = |extension: &&str| {
        let format = format_of(extension);
        format
            .is_some_and(|format| format.capabilities().has_own_columns || format.read().is_empty())
    };
    let (records, extensions): (Vec<&str>, Vec<&str>) =
        known_extensions().into_iter().partition(is_of_records);
    assert!(extensions.len() > 8, "{extensions:?}");
    for from in &extensions {
        let out = folder.path().join(from);
        let (first, _) = convert(&source, &format!("calls.{from}"), &out);
        let there = look(&first, folder.path());
        let way = format!("csv to {from}");
        assert_eq!(values(&there), values(&expected), "{way}");
        assert_eq!(kinds(&there), kinds(&expected), "{way}");
        for to in &extensions {
            let out = out.join(to);
            let (second, summary) = convert(&first, &format!("again.{to}"), &out);
            let way = format!("csv to {from} to {to}");
            assert_eq!(summary.ledger.totals.written, 3, "{way}");
            let again = look(&second, folder.path());
            assert_eq!(values(&again), values(&expected), "{way}");
            assert_eq!(kinds(&again), kinds(&expected), "{way}");
            assert!(!again.not_as_named, "{way}");
        }
    }
    let written = FORMATS.iter().flat_map(|format| format.written());
    assert_eq!(written.count(), extensions.len() + records.len());
}
