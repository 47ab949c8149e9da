//! Splits made-up files in every way there is, and proves that the parts are the whole.

use std::collections::BTreeMap;
use std::fs;
use std::path::{Path, PathBuf};

use numerant_data::value::{Number, Size};
use numerant_engine::job::Job;
use numerant_engine::{
    Error, PartsCheck, PartsOptions, Refusal, plan, run, verify_ledger, verify_parts,
};
use numerant_format::ReadOptions;
use numerant_naming::{ClashPolicy, parse_keys};
use numerant_steps::{Case, OnError, Step};
use proptest::prelude::*;

use crate::support::{context, files_below, tree};

/// A folder with `calls.csv`.
struct Bench {
    folder: tempfile::TempDir,
}

impl Bench {
    fn new(text: &str) -> Self {
        let folder = tempfile::tempdir().expect("a folder");
        fs::write(folder.path().join("calls.csv"), text).expect("written");
        Self { folder }
    }

    fn path(&self, name: &str) -> PathBuf {
        self.folder.path().join(name)
    }

    fn job(&self) -> Job {
        Job {
            sources: vec![self.path("calls.csv").into()],
            out: Some(self.path("parts")),
            ledger: Some(self.path("ledger.json")),
            max_outputs: 10_000,
            ..Job::default()
        }
    }

    /// The outputs by path.
    fn parts(&self) -> BTreeMap<String, String> {
        let text = |bytes| String::from_utf8(bytes).expect("text");
        let parts = tree(&self.path("parts")).into_iter();
        parts
            .map(|(name, bytes)| (name.display().to_string(), text(bytes)))
            .collect()
    }

    fn verify(&self, ignore: &[&str]) -> PartsCheck {
        let options = PartsOptions {
            parts_read: None,
            job: Job {
                per_sheet: true,
                ..Job::default()
            },
            whole: vec![self.path("calls.csv").into()],
            parts: files_below(&self.path("parts")),
            read: ReadOptions::default(),
            keep: Vec::new(),
            ignore: ignore.iter().map(|name| (*name).to_owned()).collect(),
            memory: Size(1 << 20),
            list: 20,
            jobs: 0,
        };
        verify_parts(&options, &context()).expect("comparable")
    }

    fn ledger_holds(&self) -> bool {
        let check = verify_ledger(
            &self.path("ledger.json"),
            None,
            &ReadOptions::default(),
            &context(),
        );
        check.expect("a ledger").holds
    }
}

/// The lines after the header.
fn lines(text: &str) -> Vec<&str> {
    text.lines().skip(1).collect()
}

fn calls(rows: &[(u8, u16, u8)]) -> String {
    let mut text = "id,quay,dues,remarks\n".to_owned();
    for (place, (quay, dues, remark)) in rows.iter().enumerate() {
        let quay = match quay % 5 {
            0 => String::new(),
            number => format!("Q{number}"),
        };
        let remark = match remark % 4 {
            0 => "\"a, b\"".to_owned(),
            1 => "\"say \"\"ho\"\"\"".to_owned(),
            number => format!("r{number}"),
        };
        text.push_str(&format!(
            "{:05},{quay},{}.{:02},{remark}\n",
            place + 1,
            dues / 100,
            dues % 100
        ));
    }
    text
}

#[derive(Clone, Copy, Debug)]
enum Way {
    By,
    Rows(u64),
    Parts(u64),
    Size(u64),
    Each,
    Cases,
}

fn ways() -> impl Strategy<Value = Way> {
    prop_oneof![
        Just(Way::By),
        (1_u64..40).prop_map(Way::Rows),
        (1_u64..12).prop_map(Way::Parts),
        (80_u64..900).prop_map(Way::Size),
        Just(Way::Each),
        Just(Way::Cases),
    ]
}

proptest! {
    #![proptest_config(ProptestConfig { cases: 100, ..ProptestConfig::default() })]
    #[test]
    fn whatever_the_way_nothing_is_lost(
        rows in proptest::collection::vec((any::<u8>(), 0_u16..30_000, any::<u8>()), 1..150),
        way in ways(),
        by in any::<bool>(),
        net in any::<bool>(),
        filter in any::<bool>(),
        sort in any::<bool>(),
        jobs in 1_usize..3,
    ) {
        let text = calls(&rows);
        let bench = Bench::new(&text);
        let mut job = Job { jobs, total: vec!["dues".into()], ..bench.job() };
        if net {
            let value = "dues * 0.80".parse().expect("an expression");
            job.steps.push(Step::Set { name: "net".into(), value });
        }
        if filter {
            job.steps.push(Step::Where("dues >= 100".parse().expect("a condition")));
        }
        if sort {
            let by = ["quay", "-dues"].map(|by| by.parse().expect("a column"));
            job.steps.push(Step::Sort(by.to_vec()));
        }
        if by || matches!(way, Way::By) {
            job.by = parse_keys("quay").expect("a key");
        }
        match way {
            Way::By => {}
            Way::Rows(rows) => job.rows = Some(rows),
            Way::Parts(parts) => job.parts = Some(parts),
            Way::Size(size) => job.max_size = Some(Size(size)),
            Way::Each => job.each = true,
            Way::Cases => {
                let when = "dues > 200".parse().expect("a condition");
                job.case = vec![Case { name: "large".into(), when }];
                job.others = Some("small".into());
            }
        }
        let planned = plan(&job, &context()).expect("planned").ledger;
        let ledger = run(&job, &context()).expect("run").ledger;
        let shown = |ledger: &numerant_engine::ledger::Ledger| -> Vec<(String, u64)> {
            let outputs = ledger.outputs.iter();
            outputs.map(|output| (output.path.clone(), output.records)).collect()
        };
        prop_assert_eq!(shown(&planned), shown(&ledger), "a plan is what a run does");

        // Every record that fits is in exactly one part, and the sums agree.
        let dues = |line: &str| -> Number {
            line.split(',').nth(2).expect("dues").parse().expect("a number")
        };
        let least: Number = "100".parse().expect("a number");
        let mut expected: Vec<String> = lines(&text)
            .iter()
            .filter(|line| !filter || dues(line).compare(least).is_ge())
            .map(|line| if net {
                let product = dues(line).times("0.80".parse().expect("a number"));
                format!("{line},{}", product.expect("small"))
            } else {
                (*line).to_owned()
            })
            .collect();
        let parts = bench.parts();
        let mut found: Vec<String> = parts
            .values()
            .flat_map(|part| lines(part))
            .map(str::to_owned)
            .collect();
        expected.sort();
        found.sort();
        prop_assert_eq!(&found, &expected);
        let sum = expected
            .iter()
            .map(|line| dues(line))
            .try_fold(Number::ZERO, Number::plus)
            .expect("small");
        prop_assert!(ledger.sums[0].written.compare(sum).is_eq());
        prop_assert_eq!(ledger.totals.written, expected.len() as u64);

        for (path, part) in &parts {
            let records = lines(part);
            match way {
                Way::Rows(rows) => prop_assert!(records.len() as u64 <= rows),
                Way::Size(size) => prop_assert!(part.len() as u64 <= size),
                Way::Each => prop_assert_eq!(records.len(), 1),
                Way::Cases => {
                    let large = path.contains("large");
                    let bound: Number = "200".parse().expect("a number");
                    let fits = |line: &&str| dues(line).compare(bound).is_gt() == large;
                    prop_assert!(records.iter().all(fits));
                }
                Way::By | Way::Parts(_) => {}
            }
            if sort {
                let key = |line: &str| {
                    let quay = line.split(',').nth(1).expect("quay").to_owned();
                    (quay.is_empty(), quay, dues(line))
                };
                let in_order = |pair: &[&str]| {
                    let (one, other) = (key(pair[0]), key(pair[1]));
                    let quays = (one.0, &one.1).cmp(&(other.0, &other.1));
                    quays.then(other.2.compare(one.2)).is_le()
                };
                prop_assert!(records.windows(2).all(in_order));
            } else {
                prop_assert!(records.windows(2).all(|pair| pair[0][..5] < pair[1][..5]));
            }
        }
        prop_assert!(bench.ledger_holds());
        if !filter {
            let ignore: &[&str] = if net { &["net"] } else { &[] };
            prop_assert!(bench.verify(ignore).holds);
        }
    }

    #[test]
    fn a_change_anywhere_is_found(
        rows in proptest::collection::vec((1_u8..5, 0_u16..30_000, any::<u8>()), 2..80),
        part in any::<prop::sample::Index>(),
        line in any::<prop::sample::Index>(),
        change in 0_u8..4,
    ) {
        let bench = Bench::new(&calls(&rows));
        let job = Job { by: parse_keys("quay").expect("a key"), ..bench.job() };
        run(&job, &context()).expect("run");
        prop_assert!(bench.verify(&[]).holds && bench.ledger_holds());
        let parts: Vec<(String, String)> = bench.parts().into_iter().collect();
        let (path, text) = &parts[part.index(parts.len())];
        let mut all: Vec<String> = text.lines().map(str::to_owned).collect();
        let at = 1 + line.index(all.len() - 1);
        let (mut missing, mut extra, mut doubled) = (0, 0, 0);
        match change {
            0 => {
                all.remove(at);
                missing = 1;
            }
            1 => {
                let line = all[at].clone();
                all.insert(at, line);
                doubled = 1;
            }
            2 => {
                // One byte.
                let changed = if all[at].starts_with('0') { '9' } else { '0' };
                all[at].replace_range(0..1, &changed.to_string());
                (missing, extra) = (1, 1);
            }
            _ => {
                // The values of two columns change places.
                let mut fields: Vec<&str> = all[at].splitn(4, ',').collect();
                fields.swap(0, 2);
                all[at] = fields.join(",");
                (missing, extra) = (1, 1);
            }
        }
        fs::write(bench.path("parts").join(path), all.join("\n") + "\n").expect("written");
        let check = bench.verify(&[]);
        prop_assert!(!check.holds && !bench.ledger_holds());
        prop_assert_eq!(
            (check.missing_records, check.extra_records, check.doubled_records),
            (missing, extra, doubled)
        );
        prop_assert_eq!(check.missing.len() as u64, missing);
        prop_assert_eq!(check.doubled.len() as u64, doubled);
        for found in check.missing.iter().filter(|_| change == 2) {
            prop_assert_eq!(found.changed.as_ref().map(|c| c.column.as_str()), Some("id"));
        }
    }
}

#[test]
fn two_records_of_one_name_never_become_one_file_in_silence() {
    let mut text = "number,title\n".to_owned();
    for number in 0..40 {
        let number = if number == 17 { 3 } else { number };
        text.push_str(&format!("C{number:03},Chart {}\n", number * 7));
    }
    let bench = Bench::new(&text);
    let job = |clash| Job {
        each: true,
        name: Some("{number}.csv".parse().expect("a template")),
        clash,
        existing: numerant_engine::output::ExistingPolicy::Replace,
        ..bench.job()
    };
    match run(&job(ClashPolicy::Refuse), &context()) {
        Err(Error::Refused(Refusal::Clashes { clashes, count })) => {
            assert_eq!((count, clashes[0].path.as_str()), (1, "C003.csv"));
            assert_eq!(clashes[0].outputs, 2);
        }
        other => panic!("{other:?}"),
    }
    for (clash, files, left_out, of_first) in [
        (ClashPolicy::Number, 40, 0, "C003,Chart 21\n"),
        (ClashPolicy::First, 39, 1, "C003,Chart 21\n"),
        (ClashPolicy::Last, 39, 1, "C003,Chart 21\n"),
        (
            ClashPolicy::Together,
            39,
            0,
            "C003,Chart 21\nC003,Chart 21\n",
        ),
    ] {
        let _ = fs::remove_dir_all(bench.path("parts"));
        let ledger = run(&job(clash), &context()).expect("decided").ledger;
        let parts = bench.parts();
        assert_eq!(parts.len(), files, "{clash:?}");
        assert_eq!(ledger.totals.left_out, left_out, "{clash:?}");
        assert!(ledger.balanced);
        assert_eq!(parts["C003.csv"], format!("number,title\n{of_first}"));
        assert!(bench.ledger_holds());
    }
}

#[test]
fn several_sources_of_different_dialects_are_sorted_together() {
    let bench = Bench::new("id,quay\n3,North\n1,\"East, new\"\n");
    fs::write(
        bench.path("more.csv"),
        "id;quay\r\n2;North\r\n0;\"a;b\"\r\n",
    )
    .expect("written");
    let job = Job {
        sources: vec![
            bench.path("calls.csv").into(),
            bench.path("more.csv").into(),
        ],
        rows: Some(10),
        name: Some("all-{.n}.csv".parse().expect("a template")),
        steps: vec![Step::Sort(vec!["id".parse().expect("a column")])],
        ..bench.job()
    };
    run(&job, &context()).expect("run");
    assert_eq!(
        bench.parts()["all-1.csv"],
        "id,quay\n0,a;b\n1,\"East, new\"\n2,North\n3,North\n"
    );
}

#[test]
fn a_record_without_the_wanted_part_is_rejected_if_that_is_said() {
    let bench = Bench::new("id,arrived\n1,2026-03-05\n2,soon\n3,2026-03-09\n4,31.02.2025\n");
    let job = Job {
        by: parse_keys("arrived:month").expect("a key"),
        rejects: Some(bench.path("rejects.csv")),
        on_error: OnError::Reject,
        ..bench.job()
    };
    let ledger = run(&job, &context()).expect("run").ledger;
    assert_eq!((ledger.totals.written, ledger.totals.rejected), (2, 2));
    let rejects = fs::read_to_string(bench.path("rejects.csv")).expect("kept");
    assert_eq!(rejects, "id,arrived\n2,soon\n4,31.02.2025\n");
    assert_eq!(ledger.rejects[1].line, 5);
}

#[test]
fn a_size_that_holds_no_record_names_it() {
    let bench = Bench::new("id,remarks\n1,short\n2,a much longer remark\n");
    let job = |size| Job {
        max_size: Some(Size(size)),
        ..bench.job()
    };
    let error = run(&job(20), &context()).expect_err("too small");
    assert!(
        error.to_string().ends_with(
            "calls.csv, line 3: with the header this record takes 34 bytes, and an output may have 20"
        ),
        "{error}"
    );
    assert!(!bench.path("parts").exists());
    let error = run(&job(5), &context()).expect_err("smaller than the header");
    assert!(error.to_string().contains("line 2"), "{error}");
}

#[test]
fn a_ledger_goes_with_its_files() {
    let bench = Bench::new(&calls(&[(1, 5, 2), (2, 6, 2)]));
    let job = Job {
        by: parse_keys("quay").expect("a key"),
        ..bench.job()
    };
    run(&job, &context()).expect("run");
    let moved = bench.path("moved");
    fs::create_dir(&moved).expect("made");
    fs::rename(bench.path("parts"), moved.join("parts")).expect("moved");
    fs::rename(bench.path("ledger.json"), moved.join("ledger.json")).expect("moved");
    let check = |path: &Path, out: Option<&Path>| {
        verify_ledger(path, out, &ReadOptions::default(), &context()).expect("a ledger")
    };
    assert!(check(&moved.join("ledger.json"), None).holds);
    let empty = check(&moved.join("ledger.json"), Some(&bench.path("parts")));
    assert_eq!(empty.missing.len(), 2);
    fs::write(moved.join("parts/new.csv"), "").expect("written");
    let extra = check(&moved.join("ledger.json"), None);
    assert_eq!(extra.extra, ["new.csv"]);
    let text = fs::read_to_string(moved.join("ledger.json")).expect("read");
    let tampered = text.replacen("\"records\": 1", "\"records\": 2", 1);
    fs::write(moved.join("ledger.json"), tampered).expect("written");
    assert!(check(&moved.join("ledger.json"), None).unbalanced);
}

proptest! {
    #![proptest_config(ProptestConfig { cases: 60, ..ProptestConfig::default() })]
    #[test]
    fn computed_values_come_back_in_any_dialect(
        values in proptest::collection::vec("[a-z,;\"\n\r Å.0-9]{0,8}", 1..30),
        delimiter in prop_oneof![Just("comma"), Just("semicolon"), Just("tab"), Just("a"), Just(".")],
        only in any::<bool>(),
        sort in any::<bool>(),
    ) {
        let mut text = "id,remarks\n".to_owned();
        for (place, value) in values.iter().enumerate() {
            text.push_str(&format!("{:04},\"{}\"\n", place, value.replace('"', "\"\"")));
        }
        let bench = Bench::new(&text);
        let set = |name: &str, value: &str| Step::Set {
            name: name.into(),
            value: value.parse().expect(value),
        };
        let mut job = Job {
            rows: Some(1000),
            steps: vec![set("copy", "remarks"), set("twice", "id * 2")],
            ..bench.job()
        };
        if sort {
            job.steps.push(Step::Sort(vec!["-id".parse().expect("a column")]));
        }
        if only {
            job.steps.push(Step::Keep(vec!["copy".into()]));
        }
        job.write.out_delimiter = Some(delimiter.parse().expect("a delimiter"));
        let written = run(&job, &context()).expect("run").ledger;
        prop_assert_eq!(written.totals.written, values.len() as u64);
        let read = Job {
            read: ReadOptions { delimiter: job.write.out_delimiter, ..ReadOptions::default() },
            ..Job::default()
        };
        let part = bench.path("parts/calls-001.csv").into();
        let found = numerant_engine::inspect(&part, &read, 1000, &context());
        let mut records = found.expect("readable").remove(0).records;
        if sort {
            records.reverse();
        }
        let expected: Vec<Vec<String>> = values
            .iter()
            .enumerate()
            .map(|(place, value)| if only {
                vec![value.clone()]
            } else {
                let id = format!("{place:04}");
                vec![id, value.clone(), value.clone(), (place * 2).to_string()]
            })
            .collect();
        prop_assert_eq!(records, expected);
    }
}
