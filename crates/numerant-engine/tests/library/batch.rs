//! Whole folders: files found, each converted by itself, and files gathered into one.

use std::fs;
use std::time::{Duration, SystemTime};

use numerant_data::value::Size;
use numerant_engine::gather::ColumnPolicy;
use numerant_engine::job::Job;
use numerant_engine::output::ExistingPolicy;
use numerant_engine::{
    Error, FileDisposition, PartsOptions, Refusal, plan_batch, run, run_batch, verify_parts,
};
use numerant_format::ReadOptions;
use numerant_steps::{OnError, SortColumn, Step};
use proptest::prelude::*;

use crate::support::{Folder, context, dispositions, files_below, job};

const NORTH: &str = "id,quay\n1,North\n";
const SOUTH: &str = "id;quay\n2;South\n3;South\n";

#[test]
fn folder_trees_are_mirrored() {
    let folder = Folder::with(&[("in/north.csv", NORTH), ("in/q1/south.txt", SOUTH)]);
    let job = Job {
        out: Some(folder.path("out")),
        ..folder.convert("in", "jsonl")
    };
    let planned = plan_batch(&job, &context()).expect("planned");
    assert_eq!(
        dispositions(&planned),
        [
            "north.csv: 1 to north.jsonl",
            "south.txt: 2 to q1/south.jsonl"
        ]
    );
    assert_eq!(folder.all().len(), 2, "a plan writes nothing");
    let done = run_batch(&job, &context()).expect("done");
    assert_eq!(dispositions(&done), dispositions(&planned));
    assert!(done.summary.ledger.balanced);
    assert_eq!(done.summary.ledger.totals.read, 3);
    assert_eq!(
        folder.read("out/north.jsonl"),
        "{\"id\":1,\"quay\":\"North\"}\n"
    );
    assert_eq!(
        folder.read("out/q1/south.jsonl"),
        "{\"id\":2,\"quay\":\"South\"}\n{\"id\":3,\"quay\":\"South\"}\n"
    );
    assert_eq!(folder.all().len(), 4, "nothing else is left behind");
}

#[test]
fn a_file_that_fails_stops_no_other() {
    let folder = Folder::with(&[
        ("in/a.csv", "id,quay\n1\n"),
        ("in/b.csv", NORTH),
        ("in/c.csv", ""),
    ]);
    let job = folder.convert("in", "json");
    let batch = run_batch(&job, &context()).expect("a batch");
    let dispositions = dispositions(&batch);
    assert!(
        dispositions[0].contains("line 2: the record has 1 field"),
        "{dispositions:?}"
    );
    assert_eq!(dispositions[1], "b.csv: 1 to b.json");
    assert!(dispositions[2].contains("empty"), "{dispositions:?}");
    assert_eq!((batch.failed(), batch.summary.ledger.failed.len()), (2, 2));
    assert_eq!(
        folder.all(),
        ["in/a.csv", "in/b.csv", "in/b.json", "in/c.csv"],
        "outputs beside their sources"
    );
    let stopping = Job {
        stop_on_error: true,
        jobs: 1,
        pick: vec!["*.csv".parse().expect("a pattern")],
        ..folder.convert("in", "xml")
    };
    folder.write(
        "in/a.csv",
        "id,quay\n1,the largest comes first and fails\n2\n",
    );
    let batch = run_batch(&stopping, &context()).expect("a batch");
    assert_eq!(batch.failed(), 1);
    let reached = batch
        .files
        .iter()
        .filter(|file| !matches!(file.disposition, FileDisposition::NotReached));
    assert_eq!(reached.count(), 1);
}

#[test]
fn a_second_run_reads_none_of_its_outputs() {
    let folder = Folder::with(&[("in/a.csv", NORTH), ("in/b.json", "[{\"id\":4}]")]);
    let to_csv = Job {
        existing: ExistingPolicy::Replace,
        ..folder.convert("in", "csv")
    };
    let first = run_batch(&to_csv, &context()).expect("a batch");
    assert_eq!(
        dispositions(&first),
        ["a.csv: IsOutput", "b.json: 1 to b.csv"]
    );
    let second = run_batch(&to_csv, &context()).expect("a batch");
    assert_eq!(
        dispositions(&second),
        [
            "a.csv: IsOutput",
            "b.csv: output of b.json",
            "b.json: 1 to b.csv"
        ]
    );
    let named = Job {
        to: None,
        name: Some("{.stem}-new.csv".parse().expect("a template")),
        pick: vec!["a*".parse().expect("a pattern")],
        ..to_csv.clone()
    };
    run_batch(&named, &context()).expect("a batch");
    let again = run_batch(&named, &context()).expect("a batch");
    assert_eq!(
        dispositions(&again),
        ["a-new.csv: output of a.csv", "a.csv: 1 to a-new.csv"]
    );
    let inside = Job {
        out: Some(folder.path("in/out")),
        ..folder.convert("in", "xlsx")
    };
    let Err(Error::Refused(Refusal::FilesClash { clashes, count })) =
        run_batch(&inside, &context())
    else {
        panic!("b.csv and b.json would become one");
    };
    assert_eq!((clashes.len(), count), (1, 1));
    assert!(!folder.path("in/out").exists(), "nothing was written");
    let inside = Job {
        skip: vec!["b.json".parse().expect("a pattern")],
        ..inside
    };
    let first = run_batch(&inside, &context()).expect("a batch");
    let again = Job {
        existing: ExistingPolicy::Replace,
        ..inside
    };
    let second = run_batch(&again, &context()).expect("a batch");
    assert_eq!(
        dispositions(&first),
        dispositions(&second),
        "the output folder is not read"
    );
}

#[test]
fn what_exists_is_refused_kept_or_done_anew() {
    let folder = Folder::with(&[("in/a.csv", NORTH), ("in/b.csv", SOUTH)]);
    let job = Job {
        out: Some(folder.path("out")),
        ..folder.convert("in", "json")
    };
    let with = |existing| {
        let job = Job {
            existing,
            ..job.clone()
        };
        run_batch(&job, &context())
    };
    with(ExistingPolicy::Refuse).expect("a batch");
    let Err(Error::Refused(Refusal::Existing { count, .. })) = with(ExistingPolicy::Refuse) else {
        panic!("both exist");
    };
    assert_eq!(count, 2);
    let skipped = dispositions(&with(ExistingPolicy::Skip).expect("a batch"));
    assert_eq!(skipped, ["a.csv: OutputExists", "b.csv: OutputExists"]);
    folder.write("in/b.csv", "id,quay\n9,New\n");
    let later = SystemTime::now() + Duration::from_secs(60);
    let file = fs::File::options()
        .write(true)
        .open(folder.path("in/b.csv"));
    file.expect("open").set_modified(later).expect("set");
    let newer = dispositions(&with(ExistingPolicy::Newer).expect("a batch"));
    assert_eq!(newer, ["a.csv: NotChanged", "b.csv: 1 to b.json"]);
    assert!(folder.read("out/b.json").contains("New"));
}

#[test]
fn rejects_and_the_ledger_of_a_batch() {
    let folder = Folder::with(&[
        ("in/a.csv", "id,dues\n1,5\n2,x\n"),
        ("in/q/b.csv", "id,dues\n3,7\n"),
    ]);
    let job = Job {
        out: Some(folder.path("out")),
        on_error: OnError::Reject,
        rejects: Some(folder.path("wrong")),
        ledger: Some(folder.path("{.date}.json")),
        total: vec!["dues".into()],
        ..folder.convert("in", "tsv")
    };
    let batch = run_batch(&job, &context()).expect("a batch");
    let ledger = &batch.summary.ledger;
    assert_eq!(
        (
            ledger.totals.read,
            ledger.totals.written,
            ledger.totals.rejected
        ),
        (3, 2, 1)
    );
    assert_eq!(ledger.sums[0].read.to_string(), "12");
    assert_eq!(folder.read("wrong/a.csv"), "id,dues\n2,x\n");
    assert!(!folder.path("wrong/q/b.csv").exists());
    let kept = folder.read("2026-03-05.json");
    let check = numerant_engine::verify_ledger(
        &folder.path("2026-03-05.json"),
        None,
        &ReadOptions::default(),
        &context(),
    );
    assert!(check.expect("a ledger").holds, "{kept}");
}

#[test]
fn columns_are_matched_by_name() {
    let folder = Folder::with(&[
        ("in/part-10.csv", "quay,id,dues\nWest,3,\"12,5\"\n"),
        ("in/part-2.csv", "id,quay,dues\n1,North,10\n2,East,\n"),
        (
            "in/q/part-3.txt",
            "quay;id;dues;extra\r\nSouth;4;7;\"x;y\"\r\n",
        ),
    ]);
    let all = |columns, name: &str| Job {
        recursive: true,
        columns,
        ..job(&folder.path("in"), name, &folder.path("out"))
    };
    let refused = run(&all(None, "a.csv"), &context()).expect_err("they differ");
    let (lines, _) = refused.details(9);
    assert_eq!(lines.len(), 1);
    assert!(lines[0].ends_with(": 'extra'"), "{lines:?}");
    assert!(!folder.path("out").exists());
    for (columns, expected) in [
        (
            ColumnPolicy::Union,
            "id,quay,dues,extra\n1,North,10,\n2,East,,\n3,West,\"12,5\",\n4,South,7,\"x;y\"\n",
        ),
        (
            ColumnPolicy::Common,
            "id,quay,dues\n1,North,10\n2,East,\n3,West,\"12,5\"\n4,South,7\n",
        ),
    ] {
        let name = format!("{columns:?}.csv");
        run(&all(Some(columns), &name), &context()).expect("combined");
        assert_eq!(folder.read(&format!("out/{name}")), expected, "{columns:?}");
    }
    let sorted = Job {
        source_column: Some("origin".into()),
        from_name: Some("part-{no}.{.ext}".parse().expect("a pattern")),
        steps: vec![Step::Sort(vec![SortColumn {
            column: "no".into(),
            descending: true,
        }])],
        ..all(Some(ColumnPolicy::First), "sorted.csv")
    };
    run(&sorted, &context()).expect("combined");
    assert_eq!(
        folder.read("out/sorted.csv"),
        "id,quay,dues,no,origin\n3,West,\"12,5\",10,part-10\n4,South,7,3,q/part-3\n\
         1,North,10,2,part-2\n2,East,,2,part-2\n"
    );
}

#[test]
fn documents_are_gathered_as_they_stand() {
    let folder = Folder::with(&[
        (
            "in/a.json",
            "[{\"id\":1,\"crew\":{\"chief\":\"Ida\"}},\n {\"id\":2}]",
        ),
        ("in/b.jsonl", "{\"port\":null,\"id\":1.50}\n"),
    ]);
    let together = job(&folder.path("in"), "all.jsonl", &folder.path("out"));
    run(&together, &context()).expect("combined");
    assert_eq!(
        folder.read("out/all.jsonl"),
        "{\"id\":1,\"crew\":{\"chief\":\"Ida\"}}\n{\"id\":2}\n{\"port\":null,\"id\":1.50}\n"
    );
    let table = job(&folder.path("in"), "all.csv", &folder.path("out"));
    run(&table, &context()).expect("combined");
    assert_eq!(
        folder.read("out/all.csv"),
        "id,crew.chief,port\n1,Ida,\n2,,\n1.50,,\n"
    );
}

#[test]
fn an_output_in_the_folder_is_not_read_again() {
    let folder = Folder::with(&[("in/a.csv", NORTH), ("in/b.csv", "id,quay\n2,East\n")]);
    let together = Job {
        existing: ExistingPolicy::Replace,
        ..job(&folder.path("in"), "all.csv", &folder.path("in"))
    };
    for _ in 0..2 {
        run(&together, &context()).expect("combined");
        assert_eq!(folder.read("in/all.csv"), "id,quay\n1,North\n2,East\n");
    }
}

proptest! {
    #![proptest_config(ProptestConfig::with_cases(24))]

    /// Parts with columns in any order are the whole again.
    #[test]
    fn split_then_combined_is_the_whole(
        records in prop::collection::vec(("[a-c]", "[ \",;\\n0-9a-z]{0,6}", 0..9u32), 1..40),
        turned in any::<bool>(),
    ) {
        let folder = Folder::with(&[]);
        let mut text = String::from("key,note,count\n");
        for (key, note, count) in &records {
            text.push_str(&format!("{key},\"{}\",{count}\n", note.replace('"', "\"\"")));
        }
        folder.write("whole.csv", &text);
        let steps = if turned { vec![Step::Keep(["count", "key", "note"].map(str::to_owned).to_vec())] } else { Vec::new() };
        let whole = folder.path("whole.csv");
        let split = Job { steps, ..job(&whole, "{key}.csv", &folder.path("parts")) };
        run(&split, &context()).expect("split");
        folder.write("parts/d.csv", "note,key,count\nlast,d,1\n");
        text.push_str("d,last,1\n");
        folder.write("whole.csv", &text);
        run(&job(&folder.path("parts"), "all.csv", &folder.path("out")), &context())
            .expect("combined");
        let check = verify_parts(
            &PartsOptions {
                parts_read: None,
                job: Job {
                    per_sheet: true,
                    ..Job::default()
                },
                whole: vec![whole.into()],
                parts: files_below(&folder.path("out")),
                read: ReadOptions::default(),
                keep: Vec::new(),
                ignore: Vec::new(),
                memory: Size(1 << 20),
                list: 20,
                jobs: 0,
            },
            &context(),
        );
        prop_assert!(check.expect("comparable").holds);
    }
}

#[test]
fn a_ledger_and_rejects_never_take_the_place_of_a_source() {
    let folder = Folder::with(&[
        ("in/a.csv", "id,dues\n1,5\n2,x\n"),
        ("in/b.json", "[{\"id\":4}]"),
    ]);
    for existing in [ExistingPolicy::Replace, ExistingPolicy::Newer] {
        let job = Job {
            out: Some(folder.path("out")),
            ledger: Some(folder.path("in/../in/b.json")),
            existing,
            ..folder.convert("in", "xml")
        };
        let error = run_batch(&job, &context()).expect_err("a source");
        assert!(
            matches!(error, Error::Refused(Refusal::Source { .. })),
            "{error}"
        );
        assert_eq!(folder.read("in/b.json"), "[{\"id\":4}]");
        assert!(!folder.path("out").exists());
    }
    let rejects = Job {
        out: Some(folder.path("out")),
        pick: vec!["a.csv".parse().expect("a pattern")],
        total: vec!["dues".into()],
        on_error: OnError::Reject,
        rejects: Some(folder.path("in")),
        existing: ExistingPolicy::Replace,
        ..folder.convert("in", "xml")
    };
    let batch = run_batch(&rejects, &context()).expect("a batch");
    assert!(
        dispositions(&batch)[0].contains("a source is never written to"),
        "{:?}",
        dispositions(&batch)
    );
    assert_eq!(folder.read("in/a.csv"), "id,dues\n1,5\n2,x\n");
    // Of one file that is named, the rejects are a file.
    let single = Job {
        sources: vec![folder.path("in/a.csv").into()],
        pick: Vec::new(),
        rejects: Some(folder.path("wrong.csv")),
        ..rejects
    };
    run_batch(&single, &context()).expect("a batch");
    assert_eq!(folder.read("wrong.csv"), "id,dues\n2,x\n");
}

#[test]
fn names_that_only_records_tell_are_settled_file_by_file() {
    let folder = Folder::with(&[
        ("in/a.csv", "id,quay\n1,North\n2,East\n"),
        ("in/b.csv", "id,quay\n3,North\n"),
    ]);
    let job = Job {
        to: None,
        name: Some("{quay}.json".parse().expect("a template")),
        out: Some(folder.path("out")),
        jobs: 1,
        ..folder.convert("in", "")
    };
    let batch = run_batch(&job, &context()).expect("a batch");
    let reported = dispositions(&batch);
    assert_eq!(reported[0], "a.csv: 2 to North.json, East.json");
    assert!(reported[1].contains("exists already"), "{reported:?}");
    assert_eq!(
        folder.read("out/North.json"),
        "[\n{\"id\":1,\"quay\":\"North\"}\n]\n"
    );
}

#[test]
fn where_records_come_from_is_told_apart() {
    let folder = Folder::with(&[
        ("in/q1/a.csv", "id\n1\n"),
        ("in/q2/a.csv", "id\n2\n"),
        ("in/q2/a.tsv", "id\n3\n"),
    ]);
    let of = |pick: &str| Job {
        recursive: true,
        pick: vec![pick.parse().expect("a pattern")],
        source_column: Some("from".into()),
        existing: ExistingPolicy::Replace,
        ..job(&folder.path("in"), "all.csv", &folder.path("out"))
    };
    run(&of("*.csv"), &context()).expect("combined");
    assert_eq!(folder.read("out/all.csv"), "id,from\n1,q1/a\n2,q2/a\n");
    run(&of("a.*"), &context()).expect("combined");
    assert_eq!(
        folder.read("out/all.csv"),
        "id,from\n1,q1/a.csv\n2,q2/a.csv\n3,q2/a.tsv\n",
        "two would be the same without extension"
    );
}

#[cfg(unix)]
#[test]
fn what_is_no_file_is_not_taken_of_a_folder() {
    let folder = Folder::with(&[("in/a.csv", NORTH)]);
    fs::create_dir(folder.path("in/x.csv")).expect("made");
    let listener = std::os::unix::net::UnixListener::bind(folder.path("in/socket.csv"));
    let batch = run_batch(&folder.convert("in", "json"), &context()).expect("a batch");
    assert_eq!(dispositions(&batch), ["a.csv: 1 to a.json"]);
    drop(listener);
}

#[cfg(unix)]
#[test]
fn a_file_that_is_gone_fails_alone() {
    let folder = Folder::with(&[("in/a.csv", NORTH)]);
    // As one that vanishes between being found and being read.
    std::os::unix::fs::symlink(folder.path("nil.csv"), folder.path("in/gone.csv")).expect("linked");
    let batch = run_batch(&folder.convert("in", "json"), &context()).expect("a batch");
    let reported = dispositions(&batch);
    assert_eq!(reported[0], "a.csv: 1 to a.json");
    assert!(
        reported[1].contains("failed: ") && reported[1].contains("No such file"),
        "{reported:?}"
    );
}

proptest! {
    #![proptest_config(ProptestConfig::with_cases(32))]

    /// What is moved verbatim and what is flattened and encoded are the same.
    #[test]
    fn gathered_records_are_those_of_a_plain_run(
        records in prop::collection::vec(("[a-c \",;\n]{0,6}", "[0-9]{0,4}"), 1..30),
        delimiter in prop::sample::select(vec![',', ';', '\t', '|']),
        crlf in any::<bool>(),
        turned in any::<bool>(),
    ) {
        let end = if crlf { "\r\n" } else { "\n" };
        let quoted = |value: &str| format!("\"{}\"", value.replace('"', "\"\""));
        let text = |turned: bool| {
            let row = |note: &str, count: &str| if turned { format!("{count}{delimiter}{note}{end}") } else { format!("{note}{delimiter}{count}{end}") };
            let mut text = row("note", "count");
            for (note, count) in &records {
                text.push_str(&row(&quoted(note), count));
            }
            text
        };
        let folder = Folder::with(&[
            ("in/1.csv", &text(false)),
            ("in/2.csv", &text(turned)),
            ("plain/1.csv", &text(false)),
            ("plain/2.csv", &text(false)),
        ]);
        for (from, name) in [("in", "a.csv"), ("plain", "b.csv")] {
            run(&job(&folder.path(from), name, &folder.path("out")), &context()).expect("combined");
        }
        prop_assert_eq!(folder.read("out/a.csv"), folder.read("out/b.csv"));
        for (from, name) in [("in", "a.jsonl"), ("plain", "b.jsonl")] {
            run(&job(&folder.path(from), name, &folder.path("out")), &context()).expect("combined");
        }
        prop_assert_eq!(folder.read("out/a.jsonl"), folder.read("out/b.jsonl"));
    }

    /// Compressed outputs hold what plain ones do.
    #[test]
    fn compressed_outputs_read_back(values in prop::collection::vec("[a-z]{1,8}", 1..60)) {
        let folder = Folder::with(&[("a.csv", &format!("value\n{}\n", values.join("\n")))]);
        let source = folder.path("a.csv");
        for ending in ["gz", "zst"] {
            let out = folder.path(ending);
            run(&job(&source, &format!("b.csv.{ending}"), &out), &context()).expect("packed");
            let packed = out.join(format!("b.csv.{ending}"));
            run(&job(&packed, "c.csv", &out), &context()).expect("read again");
            prop_assert_eq!(&fs::read(out.join("c.csv")).expect("there"), &fs::read(&source).expect("there"));
        }
    }
}
