//! Zip archives: as sources, and as what all outputs of a run go into.

pub(crate) use std::fs;
use std::io::{Read, Write};
use std::path::{Path, PathBuf};

use numerant_data::source::ReadProblem;
use numerant_data::value::Size;
use numerant_engine::job::{Job, JobError};
use numerant_engine::output::ExistingPolicy;
use numerant_engine::{
    Context, Error, PartsOptions, Refusal, plan, run, run_batch, verify_ledger, verify_parts,
};
use numerant_format::ReadOptions;
use numerant_steps::OnError;
use proptest::prelude::*;
use zip::write::SimpleFileOptions;

use crate::support::{Folder, context, dispositions, files_below, job, package, tree};

const NORTH: &str = "id,quay\n1,North\n";
const SOUTH: &str = "id;quay\n2;South\n3;South\n";

/// The members of an archive with their texts.
fn members(path: &Path) -> Vec<(String, String)> {
    let mut archive = zip::ZipArchive::new(fs::File::open(path).expect("there")).expect("a zip");
    let mut members = Vec::new();
    for place in 0..archive.len() {
        let mut member = archive.by_index(place).expect("a member");
        let mut bytes = Vec::new();
        member.read_to_end(&mut bytes).expect("readable");
        let name = member.name().expect("a name").into_owned();
        members.push((name, String::from_utf8_lossy(&bytes).into_owned()));
    }
    members
}

fn pair(name: &str, text: &str) -> (String, String) {
    (name.to_owned(), text.to_owned())
}

#[test]
fn each_member_is_a_source() {
    let folder = Folder::with(&[]);
    package(
        &folder.path("post.zip"),
        &[
            ("part-10.csv", "id,quay\n9,West\n"),
            ("south/part-2.txt", SOUTH),
            ("part-2.csv", NORTH),
            ("readme.md", "not read"),
            ("__MACOSX/part-2.csv", "not read"),
            (".hidden.csv", "not read"),
        ],
    );
    let done = run_batch(&folder.convert("post.zip", "jsonl"), &context()).expect("done");
    assert_eq!(
        dispositions(&done),
        [
            "part-2.csv: 1 to part-2.jsonl",
            "part-10.csv: 1 to part-10.jsonl",
            "part-2.txt: 2 to south/part-2.jsonl"
        ]
    );
    assert_eq!(
        folder.all(),
        [
            "post/part-10.jsonl",
            "post/part-2.jsonl",
            "post/south/part-2.jsonl",
            "post.zip"
        ]
    );
    assert_eq!(
        folder.read("post/south/part-2.jsonl"),
        "{\"id\":2,\"quay\":\"South\"}\n{\"id\":3,\"quay\":\"South\"}\n"
    );
    let single = folder.convert("post.zip/south/*.txt", "csv");
    let done = run_batch(&single, &context()).expect("done");
    assert_eq!(dispositions(&done), ["part-2.txt: 2 to part-2.csv"]);
}

#[test]
fn archives_in_folders_are_folders() {
    let folder = Folder::with(&[("in/a.csv", NORTH), ("in/b.zip", "no archive")]);
    package(
        &folder.path("in/post.zip"),
        &[("q/b.csv", NORTH), ("c.tsv", "id\n1\n")],
    );
    let out = Job {
        out: Some(folder.path("out")),
        skip: vec!["b.zip".parse().expect("a pattern")],
        ..folder.convert("in", "jsonl")
    };
    let done = run_batch(&out, &context()).expect("done");
    assert_eq!(
        dispositions(&done),
        [
            "a.csv: 1 to a.jsonl",
            "c.tsv: 1 to post/c.jsonl",
            "b.csv: 1 to post/q/b.jsonl"
        ]
    );
    let gathered = Job {
        source_column: Some("from".to_owned()),
        pick: vec!["*.csv".parse().expect("a pattern")],
        ..job(&folder.path("in"), "all.csv", &folder.path("whole"))
    };
    run(&gathered, &context()).expect("combined");
    assert_eq!(
        folder.read("whole/all.csv"),
        "id,quay,from\n1,North,a\n1,North,post/q/b\n"
    );
}

#[test]
fn members_may_be_workbooks_documents_and_compressed() {
    let folder = Folder::with(&[("a.csv", NORTH)]);
    let book = crate::support::convert(&folder.path("a.csv"), "book.xlsx", &folder.path("made")).0;
    let packed =
        crate::support::convert(&folder.path("a.csv"), "text.csv.gz", &folder.path("made2")).0;
    let mut archive = zip::ZipWriter::new(fs::File::create(folder.path("post.zip")).expect("made"));
    for (name, bytes) in [
        ("book.xlsx", fs::read(book).expect("there")),
        ("text.csv.gz", fs::read(packed).expect("there")),
        (
            "document.json",
            b"[{\"id\": 1, \"quay\": \"North\"}]".to_vec(),
        ),
    ] {
        let options =
            SimpleFileOptions::default().compression_method(zip::CompressionMethod::Stored);
        archive.start_file(name, options).expect("begun");
        archive.write_all(&bytes).expect("written");
    }
    archive.finish().expect("finished");
    let whole = job(&folder.path("post.zip"), "all.csv", &folder.path("out"));
    run(&whole, &context()).expect("combined");
    assert_eq!(
        folder.read("out/all.csv"),
        "id,quay\n1,North\n1,North\n1,North\n"
    );
}

#[test]
fn archives_that_do_harm_are_refused() {
    let folder = Folder::with(&[]);
    let refused = |parts: &[(&str, &str)]| {
        package(&folder.path("post.zip"), parts);
        let error = run_batch(&folder.convert("post.zip", "jsonl"), &context());
        error.expect_err("refused").to_string()
    };
    for name in [
        "../x.csv",
        "/x.csv",
        "q/../../x.csv",
        "c:x.csv",
        "..\\x.csv",
    ] {
        let error = refused(&[("a.csv", NORTH), (name, NORTH)]);
        assert!(error.contains("outside the archive"), "{name}: {error}");
    }
    assert!(refused(&[("a.md", "")]).contains("no file of a known format"));
    // A member that says less of itself than it is.
    package(&folder.path("post.zip"), &[("a.csv", NORTH)]);
    let mut bytes = fs::read(folder.path("post.zip")).expect("there");
    let listed = bytes
        .windows(4)
        .rposition(|four| four == b"PK\x01\x02")
        .expect("listed");
    bytes[listed + 24] -= 1;
    fs::write(folder.path("post.zip"), &bytes).expect("written");
    let done = run_batch(&folder.convert("post.zip", "jsonl"), &context()).expect("a batch");
    assert!(
        dispositions(&done)[0].contains("longer than the archive states"),
        "{:?}",
        dispositions(&done)
    );
    bytes[listed + 24] += 1;
    bytes[listed + 16] ^= 1;
    fs::write(folder.path("post.zip"), &bytes).expect("written");
    let done = run_batch(&folder.convert("post.zip", "jsonl"), &context()).expect("a batch");
    assert!(
        dispositions(&done)[0].contains("check sum"),
        "{:?}",
        dispositions(&done)
    );
    fs::write(folder.path("post.zip"), &bytes[..bytes.len() - 9]).expect("written");
    let error = run_batch(&folder.convert("post.zip", "jsonl"), &context()).expect_err("cut off");
    assert!(error.to_string().contains("archive is damaged"), "{error}");
    assert_eq!(folder.all(), ["post.zip"], "nothing was written");
}

#[test]
fn a_bomb_is_refused_before_it_goes_off() {
    let folder = Folder::with(&[]);
    let mut archive = zip::ZipWriter::new(fs::File::create(folder.path("post.zip")).expect("made"));
    archive
        .start_file("a.csv", SimpleFileOptions::default())
        .expect("begun");
    let zeros = vec![b'0'; 1 << 20];
    for _ in 0..300 {
        archive.write_all(&zeros).expect("written");
    }
    archive.finish().expect("finished");
    let error = run(
        &job(&folder.path("post.zip"), "all.csv", &folder.path("out")),
        &context(),
    );
    let Err(Error::Select(numerant_data::source::SelectError::Archive(error))) = error else {
        panic!("{error:?}");
    };
    assert!(matches!(error.problem, ReadProblem::Bomb { .. }), "{error}");
}

#[test]
fn all_outputs_go_into_one_archive() {
    let folder = Folder::with(&[("calls.csv", "id,quay\n1,North\n2,South\n3,North\n")]);
    let split = Job {
        name: Some("{quay}/calls.csv".parse().expect("a template")),
        out: None,
        pack: Some(folder.path("parts.zip")),
        ledger: Some(folder.path("kept/ledger.json")),
        ..job(&folder.path("calls.csv"), "x", Path::new(""))
    };
    let planned = plan(&split, &context()).expect("planned");
    assert_eq!(planned.out, folder.path("parts.zip"));
    assert_eq!(folder.all(), ["calls.csv"], "a plan writes nothing");
    let done = run(&split, &context()).expect("done");
    assert_eq!(done.out, folder.path("parts.zip"));
    assert_eq!(folder.all(), ["calls.csv", "kept/ledger.json", "parts.zip"]);
    let expected = [
        pair("North/calls.csv", "id,quay\n1,North\n3,North\n"),
        pair("South/calls.csv", "id,quay\n2,South\n"),
    ];
    assert_eq!(members(&folder.path("parts.zip")), expected);
    let ledger_holds = || {
        let (ledger, read) = (folder.path("kept/ledger.json"), ReadOptions::default());
        verify_ledger(&ledger, None, &read, &context()).expect("a ledger")
    };
    assert!(ledger_holds().holds);
    let again = run(&split, &context()).expect_err("it exists");
    assert!(
        matches!(again, Error::Refused(Refusal::FileExists { .. })),
        "{again}"
    );
    let replaced = Job {
        existing: ExistingPolicy::Replace,
        ..split.clone()
    };
    run(&replaced, &context()).expect("replaced");
    assert_eq!(members(&folder.path("parts.zip")), expected);
    let (parts, read) = (
        files_below(&folder.path("parts.zip")),
        ReadOptions::default(),
    );
    let options = PartsOptions {
        parts_read: None,
        job: Job {
            per_sheet: true,
            ..Job::default()
        },
        whole: vec![folder.path("calls.csv").into()],
        parts,
        read,
        keep: Vec::new(),
        ignore: Vec::new(),
        memory: Size(1 << 20),
        list: 20,
        jobs: 0,
    };
    assert!(
        verify_parts(&options, &context())
            .expect("comparable")
            .holds
    );
    package(
        &folder.path("parts.zip"),
        &[
            ("North/calls.csv", "id,quay\n1,North\n"),
            ("more.csv", "x\n"),
        ],
    );
    let check = ledger_holds();
    assert_eq!(
        (check.missing, check.changed[0].records, check.extra),
        (
            vec!["South/calls.csv".to_owned()],
            Some((2, 1)),
            vec!["more.csv".to_owned()]
        )
    );
}

#[test]
fn an_archive_has_the_same_bytes_each_time() {
    let folder = Folder::with(&[("calls.csv", "id,quay\n1,North\n2,South\n3,North\n")]);
    let pack = |name: &str, hour: i8| {
        let split = Job {
            name: Some("{quay}.csv".parse().expect("a template")),
            out: None,
            pack: Some(folder.path(name)),
            ..job(&folder.path("calls.csv"), "x", Path::new(""))
        };
        let now = jiff::civil::date(2026, 3, 5).at(hour, 0, 0, 0);
        run(&split, &Context { now, ..context() }).expect("done");
        fs::read(folder.path(name)).expect("there")
    };
    assert!(pack("morning.zip", 6) == pack("evening.zip", 18));
}

#[test]
fn an_archive_is_refused_where_it_cannot_be_one() {
    let folder = Folder::with(&[("calls.csv", NORTH)]);
    let pack = |name: &str| Job {
        name: Some("{quay}.csv".parse().expect("a template")),
        out: None,
        pack: Some(folder.path(name)),
        ..job(&folder.path("calls.csv"), "x", Path::new(""))
    };
    let refused = |job: &Job| match run(job, &context()) {
        Err(Error::Job(error)) => error,
        other => panic!("{other:?}"),
    };
    assert!(matches!(refused(&pack("parts.tar")), JobError::PackName(_)));
    let both = Job {
        out: Some(PathBuf::from("x")),
        ..pack("parts.zip")
    };
    assert!(matches!(refused(&both), JobError::NotTogether { .. }));
    let skip = Job {
        existing: ExistingPolicy::Skip,
        ..pack("parts.zip")
    };
    assert_eq!(refused(&skip), JobError::PackAsItIs);
    let same = Job {
        ledger: Some(folder.path("parts.zip")),
        ..pack("parts.zip")
    };
    assert_eq!(refused(&same), JobError::SameSideFile);
    // Nothing to write makes no archive, and a failure leaves nothing.
    folder.write("bad.csv", "id,quay\n1\n");
    let bad = Job {
        sources: vec![folder.path("bad.csv").into()],
        ..pack("parts.zip")
    };
    run(&bad, &context()).expect_err("ragged");
    assert_eq!(folder.all(), ["bad.csv", "calls.csv"]);
}

#[test]
fn a_batch_is_packed_and_an_archive_that_it_made_is_not_read() {
    let folder = Folder::with(&[
        ("in/north.csv", NORTH),
        ("in/q/south.csv", SOUTH),
        ("in/bad.csv", "id,dues\n1,x\n"),
    ]);
    let batch = Job {
        pack: Some(folder.path("in/all.zip")),
        ledger: Some(folder.path("ledger.json")),
        existing: ExistingPolicy::Replace,
        total: vec!["id".to_owned()],
        on_error: OnError::Error,
        ..folder.convert("in", "jsonl")
    };
    folder.write("in/bad.csv", "id,dues\nnone,x\n");
    for _ in 0..2 {
        let done = run_batch(&batch, &context()).expect("done");
        assert_eq!(done.failed(), 1);
        assert_eq!(
            members(&folder.path("in/all.zip")),
            [
                pair("north.jsonl", "{\"id\":1,\"quay\":\"North\"}\n"),
                pair(
                    "q/south.jsonl",
                    "{\"id\":2,\"quay\":\"South\"}\n{\"id\":3,\"quay\":\"South\"}\n"
                ),
            ]
        );
        let (ledger, read) = (folder.path("ledger.json"), ReadOptions::default());
        assert!(
            verify_ledger(&ledger, None, &read, &context())
                .expect("a ledger")
                .holds
        );
    }
}

proptest! {
    #![proptest_config(ProptestConfig { cases: 20, ..ProptestConfig::default() })]
    #[test]
    fn a_packed_run_holds_what_a_plain_one_writes(
        keys in proptest::collection::vec("[a-d]{1,3}", 1..600),
        jobs in 1_usize..3,
    ) {
        let mut text = "key,place\n".to_owned();
        for (place, key) in keys.iter().enumerate() {
            text.push_str(&format!("{key},{place}\n"));
        }
        let folder = Folder::with(&[("calls.csv", &text)]);
        let plain = Job { jobs, ..job(&folder.path("calls.csv"), "{key}.csv", &folder.path("out")) };
        run(&plain, &context()).expect("split");
        let pack = Some(folder.path("out.zip"));
        run(&Job { out: None, pack, ..plain }, &context()).expect("packed");
        let found: Vec<(PathBuf, Vec<u8>)> = members(&folder.path("out.zip"))
            .into_iter()
            .map(|(name, text)| (name.into(), text.into_bytes()))
            .collect();
        let expected: Vec<(PathBuf, Vec<u8>)> = tree(&folder.path("out")).into_iter().collect();
        prop_assert_eq!(found, expected);
    }
}
