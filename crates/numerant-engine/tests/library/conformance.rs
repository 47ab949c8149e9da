//! Documents of each kind that the specifications of XML 1.0 and JSON allow or forbid, a file a kind:
//! `conformance/FORMAT/well-formed` and `conformance/FORMAT/not-well-formed`.

use std::fmt::Write;
use std::fs;
use std::path::{Path, PathBuf};

use numerant_engine::inspect;
use numerant_engine::job::Job;

use crate::support::context;

/// The documents of a folder, in order of their names.
fn documents(folder: &str) -> Vec<PathBuf> {
    let folder = Path::new(env!("CARGO_MANIFEST_DIR"))
        .join("tests/conformance")
        .join(folder);
    let entries = fs::read_dir(folder).expect("a folder");
    let mut documents: Vec<PathBuf> = entries
        .map(|entry| entry.expect("an entry").path())
        .collect();
    documents.sort();
    assert!(documents.len() > 20, "there are documents");
    documents
}

/// Reads a document to its end, or says what is wrong with it.
fn read(document: &Path, format: &str) -> Result<(), String> {
    let mut job = Job::default();
    job.read.from = Some(format.to_owned());
    let found = inspect(&document.to_owned().into(), &job, 1, &context());
    found.map(|_| ()).map_err(|error| error.to_string())
}

fn refusals(folder: &str, format: &str) -> String {
    let mut lines = String::new();
    for document in documents(folder) {
        let name = document.file_stem().expect("a name").to_string_lossy();
        let outcome = read(&document, format);
        let error = outcome.expect_err(&name);
        let shown = document.display().to_string();
        writeln!(lines, "{name}: {}", error.replace(&shown, "FILE")).expect("written");
    }
    lines
}

fn assert_read(folder: &str, format: &str) {
    for document in documents(folder) {
        if let Err(error) = read(&document, format) {
            panic!("{error}");
        }
    }
}

#[test]
fn xml_that_is_well_formed_is_read() {
    assert_read("xml/well-formed", "xml");
}

#[test]
fn xml_that_is_not_well_formed_is_refused() {
    insta::assert_snapshot!(refusals("xml/not-well-formed", "xml"));
}

#[test]
fn json_that_is_well_formed_is_read() {
    assert_read("json/well-formed", "json");
}

#[test]
fn json_that_is_not_well_formed_is_refused() {
    insta::assert_snapshot!(refusals("json/not-well-formed", "json"));
}
