//! What does not fit into the memory that a run may take is an error that says so, or is left out and counted.

pub(crate) use numerant_data::value::Size;
use numerant_engine::job::Job;
use numerant_engine::{Error, PartsOptions, inspect, run, verify_parts};
use numerant_format::ReadOptions;
use numerant_steps::{Lookup, Repeated, Step, Unmatched};

use crate::support::{Folder, context, job};

const LITTLE: Size = Size(1_000_000);

fn refused(folder: &Folder, steps: Vec<Step>) -> String {
    let job = Job {
        steps,
        memory: LITTLE,
        ..job(&folder.path("calls.csv"), "a.csv", &folder.path("out"))
    };
    let error = run(&job, &context()).expect_err("too much");
    assert!(!folder.path("out").exists());
    error.to_string()
}

#[test]
fn values_that_grow_with_each_step() {
    let folder = Folder::with(&[("calls.csv", "id,quay\n1,North\n2,South\n")]);
    let doubled = || Step::Set {
        name: "quay".to_owned(),
        value: "quay || quay || quay || quay"
            .parse()
            .expect("an expression"),
    };
    let said = refused(&folder, (0..20).map(|_| doubled()).collect());
    assert!(
        said.contains("line 2: set quay: the computed values"),
        "{said}"
    );
}

#[test]
fn a_table_that_is_too_large() {
    let rows: String = (0..40_000)
        .map(|key| format!("{key},Office {key}\n"))
        .collect();
    let folder = Folder::with(&[("calls.csv", "id,quay\n1,North\n")]);
    folder.write("table.csv", &format!("id,office\n{rows}"));
    let lookup = Lookup {
        file: folder.path("table.csv"),
        key: "id".to_owned(),
        column: None,
        unmatched: Unmatched::default(),
        repeated: Repeated::default(),
    };
    let said = refused(&folder, vec![Step::Lookup(lookup)]);
    assert!(
        said.contains("table.csv takes more than 1M of memory"),
        "{said}"
    );
}

#[test]
fn records_that_differ_are_all_counted_and_named_as_far_as_there_is_room() {
    let table = |by: usize| -> String {
        let record = |number: usize| format!("{},{}\n", number + by, "x".repeat(20_000));
        format!("id,note\n{}", (0..60).map(record).collect::<String>())
    };
    let folder = Folder::with(&[("whole.csv", &table(0)), ("part.csv", &table(1000))]);
    let options = PartsOptions {
        whole: vec![folder.path("whole.csv").into()],
        parts: vec![folder.path("part.csv").into()],
        read: ReadOptions::default(),
        parts_read: None,
        job: Job::default(),
        keep: Vec::new(),
        ignore: Vec::new(),
        memory: LITTLE,
        list: usize::MAX,
        jobs: 1,
    };
    let check = verify_parts(&options, &context()).expect("compared");
    assert_eq!((check.missing_records, check.extra_records), (60, 60));
    assert!(!check.holds && !check.missing.is_empty());
    assert!(check.missing.len() < 12, "{}", check.missing.len());
}

#[test]
fn distinct_values_of_many_columns() {
    let header: Vec<String> = (0..400).map(|column| format!("c{column}")).collect();
    let record = |number: usize| vec![number.to_string(); 400].join(",");
    let records: Vec<String> = (0..300).map(record).collect();
    let folder = Folder::with(&[(
        "wide.csv",
        &format!("{}\n{}\n", header.join(","), records.join("\n")),
    )]);
    let job = Job {
        memory: LITTLE,
        ..Job::default()
    };
    let found = inspect(&folder.path("wide.csv").into(), &job, 1, &context()).expect("readable");
    let distinct = format!("{:?}", found[0].columns[0].distinct);
    assert!(distinct.contains("MoreThan(31)"), "{distinct}");
}

#[test]
fn errors_name_no_fault_of_the_job() {
    let folder = Folder::with(&[("calls.csv", "id,quay\n1,North\n")]);
    let job = Job {
        memory: Size(10),
        ..job(&folder.path("calls.csv"), "a.csv", &folder.path("out"))
    };
    assert!(matches!(run(&job, &context()), Err(Error::Job(_))));
}

#[test]
fn a_workbook_in_which_one_part_is_several_sheets() {
    const RELATIONS: &str = "http://schemas.openxmlformats.org/officeDocument/2006/relationships";
    const PACKAGE: &str = "http://schemas.openxmlformats.org/package/2006";
    const MAIN: &str = "http://schemas.openxmlformats.org/spreadsheetml/2006/main";
    let relations = |entries: &str| {
        format!("<Relationships xmlns=\"{PACKAGE}/relationships\">{entries}</Relationships>")
    };
    let entry = |id: &str, kind: &str, target: &str| {
        format!("<Relationship Id=\"{id}\" Type=\"{RELATIONS}/{kind}\" Target=\"{target}\"/>")
    };
    let sheet = |number: u32| {
        format!("<sheet name=\"s{number}\" sheetId=\"{number}\" r:id=\"r{number}\"/>")
    };
    let folder = Folder::with(&[]);
    crate::support::package(
        &folder.path("calls.xlsx"),
        &[
            (
                "[Content_Types].xml",
                &format!("<Types xmlns=\"{PACKAGE}/content-types\"/>"),
            ),
            (
                "_rels/.rels",
                &relations(&entry("a", "officeDocument", "xl/workbook.xml")),
            ),
            (
                "xl/workbook.xml",
                &format!(
                    "<workbook xmlns=\"{MAIN}\" xmlns:r=\"{RELATIONS}\"><sheets>{}{}</sheets></workbook>",
                    sheet(1),
                    sheet(2)
                ),
            ),
            (
                "xl/_rels/workbook.xml.rels",
                &relations(&format!(
                    "{}{}",
                    entry("r1", "worksheet", "s.xml"),
                    entry("r2", "worksheet", "s.xml")
                )),
            ),
            (
                "xl/s.xml",
                &format!("<worksheet xmlns=\"{MAIN}\"><sheetData/></worksheet>"),
            ),
        ],
    );
    let error = inspect(
        &folder.path("calls.xlsx").into(),
        &Job::default(),
        1,
        &context(),
    )
    .expect_err("one part");
    assert!(
        error
            .to_string()
            .contains("'s1' and 's2' are one part, xl/s.xml"),
        "{error}"
    );
}
