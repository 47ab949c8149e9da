//! Splits made-up files and holds every part against the whole.

use std::collections::BTreeMap;
use std::fs;
use std::path::{Path, PathBuf};

use numerant_data::value::Size;
use numerant_engine::job::Job;
use numerant_engine::output::ExistingPolicy;
use numerant_engine::{Error, Refusal, plan, run};
use numerant_naming::parse_keys;
use numerant_steps::Step;
use proptest::prelude::*;

use crate::support::{context, tree};

fn quoted(value: &str) -> String {
    if value.contains([',', '"', '\n']) {
        format!("\"{}\"", value.replace('"', "\"\""))
    } else {
        value.to_owned()
    }
}

proptest! {
    #![proptest_config(ProptestConfig { cases: 120, ..ProptestConfig::default() })]
    #[test]
    fn the_parts_are_the_whole_record_by_record(
        rows in proptest::collection::vec(
            (0_usize..40, 0_usize..3, "[a-z\"\n, Å]{0,12}"), 0..300,
        ),
        keys in prop_oneof![Just("quay"), Just("quay,cargo"), Just("cargo,quay")],
        drop in any::<bool>(),
        crlf in any::<bool>(),
    ) {
        let folder = tempfile::tempdir().expect("a folder");
        let end = if crlf { "\r\n" } else { "\n" };
        let mut text = format!("quay,remarks,cargo{end}");
        let mut expected: BTreeMap<PathBuf, Vec<u8>> = BTreeMap::new();
        for (quay, cargo, remarks) in &rows {
            // A quoted key is the same key.
            let spelled = if remarks.len() % 3 == 0 { format!("\"Q{quay}\"") } else { format!("Q{quay}") };
            let record = format!("{spelled},{},C{cargo}{end}", quoted(remarks));
            text.push_str(&record);
            let name = match keys {
                "quay" => format!("Q{quay}.csv"),
                "quay,cargo" => format!("Q{quay}_C{cargo}.csv"),
                _ => format!("C{cargo}_Q{quay}.csv"),
            };
            let part = expected.entry(PathBuf::from(name)).or_insert_with(|| {
                let header = if drop { "quay,cargo" } else { "quay,remarks,cargo" };
                format!("{header}{end}").into_bytes()
            });
            let written = if drop { format!("{spelled},C{cargo}{end}") } else { record };
            part.extend_from_slice(written.as_bytes());
        }
        let source = folder.path().join("calls.csv");
        fs::write(&source, &text).expect("written");
        for jobs in [1, 2] {
            let out = folder.path().join(format!("out-{jobs}"));
            let job = Job {
                sources: vec![source.clone().into()],
                by: parse_keys(keys).expect("keys"),
                steps: if drop { vec![Step::Drop(vec!["remarks".into()])] } else { Vec::new() },
                out: Some(out.clone()),
                jobs,
                memory: Size(1 << 20),
                ..Job::default()
            };
            let planned = plan(&job, &context()).expect("planned").ledger;
            let done = run(&job, &context()).expect("split").ledger;
            prop_assert_eq!(done.totals.read, rows.len() as u64);
            prop_assert_eq!(done.totals.written, rows.len() as u64);
            prop_assert_eq!(planned.totals, done.totals);
            let found = if rows.is_empty() { BTreeMap::new() } else { tree(&out) };
            prop_assert_eq!(done.outputs.len(), found.len());
            for output in &done.outputs {
                let bytes = &found[Path::new(&output.path)];
                prop_assert_eq!(output.bytes, Some(bytes.len() as u64));
            }
            prop_assert!(found == expected, "with {} threads", jobs);
        }
        prop_assert_eq!(fs::read(&source).expect("still there"), text.into_bytes());
    }
}

/// A folder with a file of three records.
fn small() -> (tempfile::TempDir, Job) {
    let folder = tempfile::tempdir().expect("a folder");
    let source = folder.path().join("calls.csv");
    fs::write(&source, "quay,n\nNorth,1\nEast,2\nNorth,3\n").expect("written");
    let job = Job {
        sources: vec![source.into()],
        by: parse_keys("quay").expect("a key"),
        out: Some(folder.path().join("parts")),
        ..Job::default()
    };
    (folder, job)
}

#[test]
fn a_cancelled_run_leaves_nothing() {
    let (folder, job) = small();
    for jobs in [1, 2] {
        let context = context();
        context
            .cancel
            .store(true, std::sync::atomic::Ordering::Relaxed);
        let error = run(
            &Job {
                jobs,
                ..job.clone()
            },
            &context,
        )
        .expect_err("cancelled");
        assert!(matches!(error, Error::Interrupted));
        assert_eq!(tree(folder.path()).len(), 1, "the source alone");
    }
}

#[test]
fn existing_outputs_are_refused_kept_or_replaced() {
    let (folder, job) = small();
    let parts = folder.path().join("parts");
    fs::create_dir(&parts).expect("made");
    fs::write(parts.join("North.csv"), "old").expect("written");
    let with = |existing| Job {
        existing,
        ..job.clone()
    };
    let error = run(&with(ExistingPolicy::Refuse), &context()).expect_err("it exists");
    assert!(matches!(
        error,
        Error::Refused(Refusal::Existing { count: 1, .. })
    ));
    assert_eq!(tree(&parts).len(), 1);
    let kept = run(&with(ExistingPolicy::Skip), &context())
        .expect("split")
        .ledger;
    assert_eq!((kept.totals.written, kept.totals.left_out), (1, 2));
    assert_eq!(tree(&parts)[Path::new("North.csv")], b"old");
    assert_eq!(tree(&parts)[Path::new("East.csv")], b"quay,n\nEast,2\n");
    run(&with(ExistingPolicy::Replace), &context()).expect("split");
    assert_eq!(
        tree(&parts)[Path::new("North.csv")],
        b"quay,n\nNorth,1\nNorth,3\n"
    );
}

#[test]
fn names_may_hold_the_number_of_records() {
    let (folder, job) = small();
    let name = Some("{quay}-{.rows:02}-{.n}.csv".parse().expect("a template"));
    let done = run(&Job { name, ..job }, &context()).expect("split");
    let paths: Vec<&str> = done
        .ledger
        .outputs
        .iter()
        .map(|output| output.path.as_str())
        .collect();
    assert_eq!(paths, ["North-02-1.csv", "East-01-2.csv"]);
    let found = tree(&folder.path().join("parts"));
    assert_eq!(
        found[Path::new("North-02-1.csv")],
        b"quay,n\nNorth,1\nNorth,3\n"
    );
}

#[test]
fn several_sources_of_the_same_columns() {
    let (folder, job) = small();
    let second = folder.path().join("more.csv");
    // Another dialect: it is written in the dialect of its own source's kind all the same.
    fs::write(&second, "quay,n\r\nEast,4\r\nWest,5\r\n").expect("written");
    let mut both = job.clone();
    both.sources.push(second.clone().into());
    let done = run(&both, &context()).expect("split").ledger;
    assert_eq!(
        done.sources
            .iter()
            .map(|source| source.records)
            .collect::<Vec<_>>(),
        [3, 2]
    );
    let found = tree(&folder.path().join("parts"));
    assert_eq!(found[Path::new("East.csv")], b"quay,n\nEast,2\nEast,4\n");
    assert_eq!(found[Path::new("West.csv")], b"quay,n\nWest,5\n");
    let mut twice = job.clone();
    twice
        .sources
        .push(folder.path().join("parts/../calls.csv").into());
    let error = run(&twice, &context()).expect_err("the same file");
    assert!(error.to_string().contains("are the same file"), "{error}");
    fs::write(&second, "quay,m\nEast,4\n").expect("written");
    let error = run(&both, &context()).expect_err("other columns");
    let (lines, _) = error.details(9);
    assert_eq!(lines.len(), 2, "{lines:?}");
    assert!(lines[0].ends_with(": 'n'"), "{lines:?}");
    assert!(lines[1].ends_with(": 'm'"), "{lines:?}");
}
