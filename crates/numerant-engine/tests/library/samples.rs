//! Large documents whose later records are not like the sample that is looked at first: the run begins anew with a
//! full scan, and nothing of the first pass is seen.

use std::collections::BTreeMap;
use std::fs;
use std::path::{Path, PathBuf};

use numerant_data::tree::ListLayout;
use numerant_engine::job::Job;
use numerant_engine::{plan, run, run_batch};
use numerant_format::OptionValue;

use crate::support::{Folder, context, job};

/// More than is looked at for columns before the first record is handed on.
const BEYOND_SAMPLE: usize = 5 << 20;

/// So many of a text that they go beyond the sample.
fn many(record: impl Fn(usize) -> String) -> (String, usize) {
    let mut text = String::new();
    let mut count = 0;
    while text.len() < BEYOND_SAMPLE {
        text.push_str(&record(count));
        count += 1;
    }
    (text, count)
}

/// A document of JSON with many records of one kind and then others.
fn json(late: &str) -> (String, usize) {
    let pad = "x".repeat(5_000);
    let (records, count) = many(|n| {
        format!(
            "{{\"call\":{n},\"quay\":\"North\",\"cargo\":{{\"kind\":\"fish\"}},\"pad\":\"{pad}\"}},\n"
        )
    });
    (format!("[{records}{late}]"), count)
}

/// One of XML.
fn xml(late: &str) -> (String, usize) {
    let pad = "x".repeat(5_000);
    let (records, count) = many(|n| {
        format!(
            "<call id=\"{n}\"><quay>North</quay><cargo><kind>fish</kind></cargo><pad>{pad}</pad></call>\n"
        )
    });
    (format!("<port>{records}{late}</port>"), count)
}

/// The columns of the last record of a table, by their names, without those that are blank.
fn last_record(table: &str) -> BTreeMap<String, String> {
    let mut lines = table.lines();
    let header: Vec<&str> = lines.next().expect("a header").split(',').collect();
    let last: Vec<&str> = lines.next_back().expect("a record").split(',').collect();
    assert_eq!(header.len(), last.len());
    let pairs = header
        .iter()
        .zip(last)
        .filter(|(_, value)| !value.is_empty());
    pairs
        .map(|(name, value)| ((*name).to_owned(), value.to_owned()))
        .collect()
}

fn written(folder: &Folder, source: &str, name: &str, change: impl Fn(&mut Job)) -> String {
    let out = folder.path("out");
    let _ = fs::remove_dir_all(&out);
    let mut job = job(&folder.path(source), name, &out);
    change(&mut job);
    let summary = run(&job, &context()).expect(name);
    assert!(summary.ledger.balanced);
    fs::read_to_string(out.join(name)).expect("UTF-8")
}

/// Converts a document, and compares its last record with what it should have.
fn assert_last(name: &str, (text, count): &(String, usize), expected: &[(&str, &str)]) {
    let folder = Folder::with(&[(name, text.as_str())]);
    let table = written(&folder, name, "all.csv", |_| {});
    assert_eq!(table.lines().count(), count + 2, "{expected:?}");
    let pairs = expected.iter();
    let expected: BTreeMap<String, String> = pairs
        .map(|(name, value)| ((*name).to_owned(), (*value).to_owned()))
        .collect();
    assert_eq!(last_record(&table), expected);
}

#[test]
fn what_only_later_records_of_json_have_gets_its_columns() {
    for (late, expected) in [
        (
            r#"{"call":"C-1","agent":"Late"}"#,
            &[("call", "C-1"), ("agent", "Late")][..],
        ),
        (
            r#"{"cargo":{"kind":"coal","tonnes":9}}"#,
            &[("cargo.kind", "coal"), ("cargo.tonnes", "9")],
        ),
        (r#"{"cargo":"mixed"}"#, &[("cargo", "mixed")]),
        (
            r#"{"marks":["a","b"]}"#,
            &[("marks.1", "a"), ("marks.2", "b")],
        ),
        (
            r#"{"quay":{"name":"South","berth":{"depth":7}}}"#,
            &[("quay.name", "South"), ("quay.berth.depth", "7")],
        ),
        (
            r#"{"empty":{},"call":1}"#,
            &[("call", "1"), ("empty", "{}")],
        ),
    ] {
        assert_last("calls.json", &json(late), expected);
    }
}

#[test]
fn what_only_later_records_of_xml_have_gets_its_columns() {
    for (late, expected) in [
        (
            "<call id=\"x\"><agent>Late</agent></call>",
            &[("@id", "x"), ("agent", "Late")][..],
        ),
        ("<call kind=\"tug\"/>", &[("@kind", "tug")]),
        (
            "<call><cargo unit=\"t\"><kind>coal</kind></cargo></call>",
            &[("cargo.@unit", "t"), ("cargo.kind", "coal")],
        ),
        (
            "<call><quay>North</quay><quay>South</quay></call>",
            &[("quay.1", "North"), ("quay.2", "South")],
        ),
    ] {
        assert_last("calls.xml", &xml(late), expected);
    }
}

#[test]
fn columns_that_nobody_wants_are_no_reason_for_a_second_pass() {
    let (text, count) = json(r#"{"call":"C-1","quay":"South","agent":"Late"}"#);
    let folder = Folder::with(&[("calls.json", text.as_str())]);
    let table = written(&folder, "calls.json", "all.csv", |job| {
        job.steps = vec![numerant_steps::Step::Keep(vec![
            "call".into(),
            "quay".into(),
        ])];
    });
    assert_eq!(table.lines().count(), count + 2);
    assert_eq!(table.lines().next_back(), Some("C-1,South"));
}

#[test]
fn a_longer_list_further_down_holds_the_records() {
    let pad = "x".repeat(BEYOND_SAMPLE);
    let calls: Vec<String> = (0..50).map(|n| format!("{{\"call\":{n}}}")).collect();
    let text = format!(
        "{{\"notes\":[{{\"text\":\"{pad}\"}},{{\"text\":\"b\"}}],\"calls\":[{}]}}",
        calls.join(",")
    );
    let folder = Folder::with(&[("port.json", text.as_str())]);
    let table = written(&folder, "port.json", "all.csv", |_| {});
    assert_eq!(table.lines().count(), 51);
    assert_eq!(
        (table.lines().next(), table.lines().next_back()),
        (Some("call"), Some("49"))
    );
}

#[test]
fn a_type_that_only_later_values_have_is_that_of_all() {
    let pad = "x".repeat(5_000);
    let (records, count) = many(|n| format!("{n},North,{pad}\n"));
    let folder = Folder::with(&[(
        "calls.csv",
        &*format!("call,quay,pad\n{records}C-1,South,\n"),
    )]);
    let text = written(&folder, "calls.csv", "all.json", |_| {});
    let parsed: Vec<serde_json::Value> = serde_json::from_str(&text).expect("JSON");
    assert_eq!(parsed.len(), count + 1);
    assert!(parsed.iter().all(|call| call["call"].is_string()));
    let text = written(&folder, "calls.csv", "all.json", |job| {
        job.write.of_formats.put("indent", OptionValue::Number(1));
        job.steps = vec![numerant_steps::Step::Where(
            "quay = 'North'".parse().expect("a condition"),
        )];
    });
    assert!(text.contains("\"call\": 7,") && !text.contains("C-1"));
}

#[test]
fn records_that_are_copied_as_they_are_end_where_their_document_says() {
    // Records that are copied need no columns; what is around them shows only at the end.
    let (text, count) = xml("<call id=\"x\"/><!-- closed -->");
    let folder = Folder::with(&[("calls.xml", text.as_str())]);
    let copied = written(&folder, "calls.xml", "all.xml", |_| {});
    assert_eq!(copied.matches("<call ").count(), count + 1);
    assert!(
        copied.ends_with("</port>\n") || copied.ends_with("</port>"),
        "{}",
        &copied[copied.len() - 60..]
    );
    let parts = folder.path("parts");
    let by_quay = Job {
        by: numerant_naming::parse_keys("quay").expect("a key"),
        name: None,
        ..job(&folder.path("calls.xml"), "{quay}.xml", &parts)
    };
    let summary = run(&by_quay, &context()).expect("split");
    assert_eq!(summary.ledger.totals.written, count as u64 + 1);
    assert_eq!(fs::read_dir(&parts).expect("parts").count(), 2);
}

#[test]
fn a_namespace_that_is_declared_anew_further_down_is_kept() {
    let pad = "x".repeat(5_000);
    let (records, count) = many(|n| {
        format!("<p:call id=\"{n}\"><p:quay>North</p:quay><p:pad>{pad}</p:pad></p:call>\n")
    });
    let late = "<p:call xmlns:p=\"urn:varnholm:other\" id=\"x\"><p:quay>South</p:quay></p:call>";
    let text = format!("<p:port xmlns:p=\"urn:varnholm:port\">{records}{late}</p:port>");
    let folder = Folder::with(&[("calls.xml", text.as_str())]);
    let out = folder.path("out");
    let mut sorted = job(&folder.path("calls.xml"), "all.xml", &out);
    sorted.write.of_formats.set("root", "calls");
    // One prefix cannot stand for two namespaces in one output: the run says so, after its second pass.
    let error = run(&sorted, &context())
        .expect_err("two namespaces")
        .to_string();
    assert!(error.contains("urn:varnholm:other"), "{error}");
    assert!(!out.exists(), "nothing is written");
    let copied = written(&folder, "calls.xml", "all.xml", |_| {});
    assert_eq!(copied.matches("<p:call ").count(), count + 1);
    assert!(copied.contains("urn:varnholm:other"));
}

/// The names of the files in a folder.
fn names(folder: &Path) -> Vec<String> {
    let mut names: Vec<String> = fs::read_dir(folder)
        .expect("a folder")
        .map(|entry| {
            entry
                .expect("an entry")
                .file_name()
                .to_string_lossy()
                .into_owned()
        })
        .collect();
    names.sort();
    names
}

#[test]
fn plans_batches_and_archives_begin_anew_as_well() {
    let (text, count) = json(r#"{"call":"C-1","quay":"South","agent":"Late"}"#);
    let folder = Folder::with(&[("in/calls.json", text.as_str())]);
    let source = folder.path("in/calls.json");
    let planned =
        plan(&job(&source, "{quay}.csv", &folder.path("out")), &context()).expect("a plan");
    assert_eq!(planned.ledger.totals.written, count as u64 + 1);
    assert_eq!(planned.ledger.outputs.len(), 2);
    assert!(!folder.path("out").exists());

    let batch = Job {
        batch: true,
        to: Some("csv".into()),
        name: None,
        ..job(&source, "x.csv", &folder.path("converted"))
    };
    let done = run_batch(&batch, &context()).expect("a batch");
    assert!(done.summary.ledger.balanced);
    let table = fs::read_to_string(folder.path("converted/calls.csv")).expect("written");
    assert_eq!(last_record(&table)["agent"], "Late");

    let packed = Job {
        pack: Some(folder.path("parts.zip")),
        out: None,
        ..job(&source, "{quay}.csv", &PathBuf::new())
    };
    let summary = run(&packed, &context()).expect("an archive");
    assert_eq!(summary.ledger.totals.written, count as u64 + 1);
    let archive = fs::File::open(folder.path("parts.zip")).expect("an archive");
    let archive = zip::ZipArchive::new(archive).expect("a zip archive");
    assert_eq!(archive.len(), 2);
    assert_eq!(
        names(&folder.path("")),
        ["converted", "in", "parts.zip"],
        "no stage is left"
    );
}

#[test]
fn lists_that_are_rows_may_begin_late() {
    let (text, count) = json(r#"{"call":"C-1","marks":["a","b","c"]}"#);
    let folder = Folder::with(&[("calls.json", text.as_str())]);
    let table = written(&folder, "calls.json", "all.csv", |job| {
        job.read.lists = Some(ListLayout::Rows(Some("marks".into())));
    });
    // A record without the list stays one row.
    assert_eq!(table.lines().count(), 1 + count + 3);
    assert_eq!(last_record(&table)["marks"], "c");
}

#[test]
fn records_and_their_values_may_begin_late() {
    let pad = "x".repeat(BEYOND_SAMPLE);
    let text = format!("{{\"pad\":\"{pad}\",\"calls\":[{{\"call\":1}},{{\"call\":2}}]}}");
    let folder = Folder::with(&[("port.json", text.as_str())]);
    let table = written(&folder, "port.json", "all.csv", |job| {
        job.read.records = Some("$.calls[*]".into());
    });
    assert_eq!(table, "call\n1\n2\n");
    let text = format!("<port><pad>{pad}</pad><call id=\"1\"/><call id=\"2\"/></port>");
    let folder = Folder::with(&[("port.xml", text.as_str())]);
    let table = written(&folder, "port.xml", "all.csv", |job| {
        job.read.records = Some("/port/call".into());
    });
    assert_eq!(table, "@id\n1\n2\n");
    let (empty, count) = many(|_| format!("{{{}}},\n", " ".repeat(5_000)));
    let text = format!("[{empty}{{\"call\":1}}]");
    let folder = Folder::with(&[("calls.json", text.as_str())]);
    let table = written(&folder, "calls.json", "all.csv", |_| {});
    assert_eq!(table.lines().count(), count + 2);
    assert_eq!(last_record(&table)["call"], "1");
}
