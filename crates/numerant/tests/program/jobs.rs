//! Folders, saved jobs, and what they say.

use std::fs::File;

use insta::assert_snapshot;

use crate::support::Bench;

/// A folder with two files that are read and one that fails.
fn folder() -> Bench {
    let bench = Bench::new();
    bench.write("in/north.csv", "id,quay\n0007,North\n0012,North\n");
    bench.write("in/q1/south.txt", "id;quay\n0003;South\n");
    bench.write("in/broken.csv", "id,quay\n1\n");
    bench
}

#[test]
fn folders_are_converted_file_by_file() {
    let bench = folder();
    let words = [
        "convert",
        "in",
        "--recursive",
        "--to",
        "jsonl",
        "--out",
        "out",
    ];
    let with = |more: &[&'static str]| [&words[..], more].concat();
    assert_snapshot!("folder planned", bench.run(&with(&["--plan"])));
    assert_snapshot!("folder converted", bench.run(&words));
    assert_eq!(
        bench.read("out/q1/south.jsonl"),
        "{\"id\":\"0003\",\"quay\":\"South\"}\n"
    );
    assert_snapshot!("folder again", bench.run(&words));
    assert_snapshot!("folder newer", bench.run(&with(&["--existing", "newer"])));
    assert_snapshot!(
        "folder quiet",
        bench.run(&with(&["--existing", "replace", "--quiet"]))
    );
    let json = bench.run(&with(&["--existing", "newer", "--report", "json"]));
    assert!(json.contains("\"disposition\": \"skipped\""), "{json}");
    assert!(json.contains("--- code 3"), "{json}");
    assert_snapshot!(
        "one that fails",
        bench.run(&["convert", "in/broken.csv", "--to", "json"])
    );
    bench.write("in/north.tsv", "id\tquay\n");
    assert_snapshot!(
        "two become one",
        bench.run(&with(&["--existing", "replace"]))
    );
    bench.write("empty/deep/a.csv", "id\n");
    assert_snapshot!(
        "nothing found",
        bench.run(&["convert", "empty", "--to", "csv"])
    );
    assert_snapshot!(
        "nothing fits",
        bench.run(&["convert", "in/*.dat", "--to", "csv"])
    );
}

#[test]
fn files_are_gathered_by_the_names_of_columns() {
    let bench = Bench::new();
    bench.write("in/north_2025.csv", "id,quay,dues\n1,North,10\n");
    bench.write("in/south_2026.csv", "quay,id,fees\nSouth,2,20\n");
    assert_snapshot!(
        "columns differ",
        bench.run(&["combine", "in", "--name", "all.csv"])
    );
    let words = [
        "combine",
        "in",
        "--name",
        "all.csv",
        "--columns",
        "union",
        "--from-name",
        "{port}_{year}.csv",
        "--source-column",
        "origin",
        "--quiet",
    ];
    assert_snapshot!("gathered", bench.run(&words));
    assert_eq!(
        bench.read("all.csv"),
        "id,quay,dues,fees,port,year,origin\n1,North,10,,north,2025,north_2025\n\
         2,South,,20,south,2026,south_2026\n"
    );
    let names = [
        "combine",
        "in",
        "--name",
        "x.csv",
        "--from-name",
        "{port}-{year}.csv",
    ];
    assert_snapshot!("names that do not fit", bench.run(&names));
    let own = [
        "combine",
        "in",
        "--name",
        "x.csv",
        "--columns",
        "union",
        "--source-column",
        "id",
    ];
    assert_snapshot!("a column of its own", bench.run(&own));
}

const NIGHT: &str = r#"
[params]
cargo = "grain"

[[job]]
command = "split"
sources = ["calls.csv"]
steps = [{ where = "cargo = '${cargo}'" }]
by = ["quay"]
out = "${cargo}"
ledger = "ledgers/${cargo}.json"
existing = "replace"

[[job]]
command = "combine"
sources = ["${cargo}"]
name = "all ${cargo}.csv"
existing = "replace"

[[job]]
command = "verify"
whole = ["all ${cargo}.csv"]
parts = ["${cargo}"]
"#;

#[test]
fn saved_jobs_run_in_order() {
    let bench = Bench::with_calls();
    bench.write("night.toml", NIGHT);
    assert_snapshot!("job checked", bench.run(&["run", "night.toml", "--check"]));
    assert_snapshot!("job planned", bench.run(&["run", "night.toml", "--plan"]));
    assert_eq!(bench.files(), ["calls.csv", "night.toml"]);
    assert_snapshot!(
        "job run",
        bench.run(&["run", "night.toml", "--log", "log.jsonl"])
    );
    assert_eq!(
        bench.read("all grain.csv"),
        "id,quay,cargo,arrived,dues,remarks\n0007,North,grain,2026-03-05 14:20,1.10,\n\
         0019,Ångkajen,grain,2026-03-06 08:00,7.00,\n"
    );
    let log = bench.read("log.jsonl");
    let lines: Vec<serde_json::Value> = log
        .lines()
        .map(|line| serde_json::from_str(line).expect(line))
        .collect();
    let reported: Vec<&str> = lines
        .iter()
        .filter_map(|line| line["fields"]["message"].as_str())
        .collect();
    assert_eq!(
        (reported[0], reported[reported.len() - 1]),
        ("the run begins", "the run is done")
    );
    assert!(
        reported.contains(&"5 read = 2 written + 3 left out"),
        "{reported:?}"
    );
    // The same from another folder, with another value.
    bench.write("elsewhere/x", "");
    let mut command = bench.command(&["run", "../night.toml", "cargo=coal", "--report", "json"]);
    let output = command
        .current_dir(bench.path("elsewhere"))
        .output()
        .expect("it runs");
    let document: serde_json::Value = serde_json::from_slice(&output.stdout).expect("one document");
    assert_eq!(document["jobs"].as_array().map(Vec::len), Some(3));
    assert!(bench.path("coal/North.csv").exists());
    assert!(bench.path("ledgers/coal.json").exists());
    assert_snapshot!(
        "no such parameter",
        bench.run(&["run", "night.toml", "cargoes=fish"])
    );
    bench.write("night.toml", NIGHT.replace("by =", "buy ="));
    assert_snapshot!("a wrong key", bench.run(&["run", "night.toml"]));
}

#[test]
fn a_job_is_kept_and_run() {
    let bench = Bench::with_calls();
    let words = [
        "split",
        "calls.csv",
        "--by",
        "quay",
        "--where",
        "dues > 1",
        "--out",
        "parts",
        "--save-job",
        "kept/split.toml",
    ];
    bench.write("kept/x", "");
    assert_snapshot!("kept", bench.run(&words));
    assert_snapshot!("kept file", bench.read("kept/split.toml"));
    assert!(!bench.path("parts").exists(), "nothing is done yet");
    assert_snapshot!("kept already", bench.run(&words));
    // A constant name does not make another command of it.
    let together = [
        "split",
        "calls.csv",
        "--by",
        "quay",
        "--clash",
        "together",
        "--name",
        "all.csv",
        "--out",
        "all",
        "--save-job",
        "together.toml",
    ];
    bench.run(&together);
    let run = bench.run(&["run", "together.toml"]);
    assert!(run.contains("--- code 0"), "{run}");
    let run = bench.run(&["run", "kept/split.toml"]);
    assert!(run.contains("--- code 0"), "{run}");
    assert!(bench.path("parts/North.csv").exists());
}

#[test]
fn two_runs_of_a_job_never_overlap() {
    let bench = Bench::with_calls();
    bench.write("night.toml", NIGHT);
    let held = File::open(bench.path("night.toml")).expect("open");
    held.lock().expect("locked");
    assert_snapshot!("run already", bench.run(&["run", "night.toml"]));
    assert_eq!(bench.files(), ["calls.csv", "night.toml"]);
    drop(held);
    let run = bench.run(&["run", "night.toml", "--quiet"]);
    assert!(
        run.contains("--- code 0"),
        "a lock ends with its holder\n{run}"
    );
}

#[test]
fn a_killed_run_lets_go_of_its_job() {
    let bench = Bench::with_calls();
    let waits = "[[job]]\ncommand = 'combine'\nsources = ['-']\nname = 'all.csv'\n";
    bench.write("waits.toml", waits);
    let mut first = bench
        .command(&["run", "waits.toml"])
        .stdin(std::process::Stdio::piped())
        .stdout(std::process::Stdio::null())
        .spawn()
        .expect("it runs");
    // It waits for standard input and holds the job meanwhile.
    let held = |_: &u32| {
        std::thread::sleep(std::time::Duration::from_millis(50));
        bench
            .run_with_input(&["run", "waits.toml"], b"id\n1\n")
            .contains("is running already")
    };
    let seen = (0..100_u32).find(held);
    first.kill().expect("killed");
    first.wait().expect("gone");
    let again = bench.run_with_input(&["run", "waits.toml", "--quiet"], b"id\n2\n");
    assert!(again.contains("--- code"), "{again}");
    assert!(!again.contains("running already"), "{again}");
    assert!(seen.is_some(), "the second never met the first");
}

#[test]
fn outputs_are_compressed_as_their_names_say() {
    use std::io::Read;
    let bench = Bench::with_calls();
    let run = bench.run(&["convert", "calls.csv", "--to", "csv.gz"]);
    assert!(run.contains("calls.csv.gz"), "{run}");
    let mut text = String::new();
    let file = File::open(bench.path("calls.csv.gz")).expect("open");
    let mut decoder = flate2::read::GzDecoder::new(file);
    decoder.read_to_string(&mut text).expect("gzip");
    assert_eq!(text, bench.read("calls.csv"));
    let split = [
        "split",
        "calls.csv.gz",
        "--by",
        "quay",
        "--to",
        "jsonl.zst",
        "--ledger",
        "l.json",
    ];
    bench.run(&split);
    let packed = std::fs::read(bench.path("calls/North.jsonl.zst")).expect("there");
    let text = String::from_utf8(zstd::decode_all(packed.as_slice()).expect("zstd"));
    assert_eq!(text.expect("text").lines().count(), 2);
    let verify = bench.run(&["verify", "l.json"]);
    assert!(verify.contains("verified: "), "{verify}");
    assert_snapshot!(
        "a packed workbook",
        bench.run(&["split", "calls.csv", "--name", "{quay}.xlsx.zst"])
    );
}

#[test]
fn lines_are_moved_as_they_stand() {
    let bench = Bench::new();
    bench.write("a.jsonl", "{\"id\":1}\n{\"id\":2}\n");
    let lines = ["split", "a.jsonl", "--lines", "--rows", "1", "--quiet"];
    assert_eq!(bench.run(&lines), "--- code 0");
    assert_eq!(bench.read("a/a-002.jsonl"), "{\"id\":2}\n");
    bench.write("a.log", "first \"line\n\n  third, with comma\r\nno end");
    bench.write("b.log", b"\xe5 byte that is no UTF-8\n\n");
    let combine = [
        "combine", "a.log", "b.log", "--lines", "--name", "all.log", "--quiet",
    ];
    assert_eq!(bench.run(&combine), "--- code 0");
    let expected = b"first \"line\n\n  third, with comma\r\nno end\n\xe5 byte that is no UTF-8\n\n";
    let all = std::fs::read(bench.path("all.log")).expect("there");
    assert_eq!(all, expected);
    let split = ["split", "all.log", "--lines", "--rows", "2", "--quiet"];
    assert_eq!(bench.run(&split), "--- code 0");
    let part = |name: &str| std::fs::read(bench.path(name)).expect(name);
    let parts = ["all/all-001.log", "all/all-002.log", "all/all-003.log"].map(part);
    assert_eq!(parts.concat(), expected);
    assert_eq!(parts[1], b"  third, with comma\r\nno end\n");
    let chosen = [
        "convert",
        "a.log",
        "--lines",
        "--where",
        "line LIKE '%r%'",
        "--name",
        "r.txt",
        "--quiet",
    ];
    assert_eq!(bench.run(&chosen), "--- code 0");
    assert_eq!(bench.read("r.txt"), "first \"line\n  third, with comma\r\n");
    assert_snapshot!(
        "lines of a workbook",
        bench.run(&["combine", "a.log", "b.log", "--lines", "--name", "all.xlsx"])
    );
}

#[test]
fn archives_are_read_and_written() {
    let bench = Bench::new();
    bench.write("calls.csv", "id,quay\n1,North\n2,South\n3,North\n");
    let words = [
        "split",
        "calls.csv",
        "--by",
        "quay",
        "--pack",
        "post.zip",
        "--ledger",
        "post.json",
    ];
    assert_snapshot!("packed", bench.run(&words));
    assert_snapshot!("packed again", bench.run(&words));
    assert_snapshot!("pack verified", bench.run(&["verify", "post.json"]));
    assert_snapshot!(
        "members converted",
        bench.run(&["convert", "post.zip", "--to", "jsonl"])
    );
    let combined = ["combine", "post.zip", "--name", "whole.csv"];
    assert!(bench.run(&combined).contains("3 read = 3 written"));
    assert_snapshot!(
        "member shown",
        bench.run(&["inspect", "post.zip/South.csv"])
    );
    assert_snapshot!(
        "no archive",
        bench.run(&["split", "calls.csv", "--by", "quay", "--pack", "post.tar"])
    );
    bench.write("torn.zip", "PK\x03\x04 and no more");
    assert_snapshot!(
        "torn archive",
        bench.run(&["convert", "torn.zip", "--to", "jsonl"])
    );
}

#[test]
fn looking_can_be_a_job() {
    let bench = Bench::new();
    bench.write("calls.csv", "id,quay\n1,North\n2,South\n3,North\n");
    let words = [
        "inspect",
        "calls.csv",
        "--values",
        "quay",
        "--save-job",
        "quays.toml",
    ];
    assert!(bench.run(&words).contains("--- code 0"));
    assert_snapshot!("job of looking", bench.read("quays.toml"));
    assert_snapshot!("looked by a job", bench.run(&["run", "quays.toml"]));
    bench.write(
        "wrong.toml",
        "[[job]]\ncommand = \"inspect\"\nsources = [\"calls.csv\"]\nout = \"x\"\n",
    );
    assert_snapshot!(
        "job that cannot look",
        bench.run(&["run", "wrong.toml", "--check"])
    );
}
