//! What stands where outputs are to go, and runs side by side that are cut off.

use std::fs;
use std::os::unix::fs::{FileTypeExt, MetadataExt, PermissionsExt, symlink};
use std::process::{Child, Command, Stdio};
use std::time::Duration;

use super::support::Bench;

const QUAYS: [&str; 6] = ["North", "South", "East", "West", "Mole", "Dock"];

/// Calls whose every record names a version.
fn calls(version: &str, records: usize) -> String {
    let record = |number: usize| format!("{number},{},{version}\n", QUAYS[number % QUAYS.len()]);
    let records: String = (0..records).map(record).collect();
    format!("id,quay,version\n{records}")
}

fn replace<'w>(source: &'w str, out: &'w str) -> Vec<&'w str> {
    let words = [
        "split",
        source,
        "--by",
        "quay",
        "--out",
        out,
        "--existing",
        "replace",
    ];
    words.to_vec()
}

#[test]
fn only_files_are_replaced() {
    let bench = Bench::with_calls();
    bench.write("elsewhere/precious.csv", "precious");
    let words = replace("calls.csv", "parts");
    bench.run(&words);
    let north = bench.path("parts/North.csv");
    fs::remove_file(&north).expect("removed");
    symlink(bench.path("elsewhere/precious.csv"), &north).expect("linked");
    insta::assert_snapshot!(bench.run(&words));
    assert_eq!(bench.read("elsewhere/precious.csv"), "precious");
    fs::remove_file(&north).expect("removed");
    let made = Command::new("mkfifo")
        .arg(&north)
        .status()
        .expect("it runs");
    assert!(made.success());
    let reported = bench.run(&words);
    assert!(reported.contains("it is a device or pipe"), "{reported}");
    assert!(
        fs::symlink_metadata(&north)
            .expect("there")
            .file_type()
            .is_fifo()
    );
    let reported = bench.run(&[
        "split",
        "calls.csv",
        "--by",
        "quay",
        "--out",
        "new",
        "--ledger",
        "/dev/null",
    ]);
    assert!(
        reported.contains("--- code 1") || reported.contains("code 1"),
        "{reported}"
    );
    assert!(!bench.path("new").exists(), "nothing without its ledger");
}

#[test]
fn a_link_does_not_lead_out_of_the_folder() {
    let bench = Bench::with_calls();
    fs::create_dir_all(bench.path("elsewhere")).expect("made");
    fs::create_dir_all(bench.path("parts/inner")).expect("made");
    symlink(bench.path("elsewhere"), bench.path("parts/out")).expect("linked");
    symlink("inner", bench.path("parts/in")).expect("linked");
    let into = |name: &str| bench.run(&["split", "calls.csv", "--name", name, "--out", "parts"]);
    insta::assert_snapshot!(into("out/{quay}.csv"));
    assert_eq!(
        fs::read_dir(bench.path("elsewhere"))
            .expect("there")
            .count(),
        0
    );
    into("in/{quay}.csv");
    assert!(
        bench.path("parts/inner/North.csv").exists(),
        "a link within the folder is no way out"
    );
}

#[test]
fn permissions_stay_as_they_were() {
    let bench = Bench::with_calls();
    let words = replace("calls.csv", "parts");
    bench.run(&words);
    let north = bench.path("parts/North.csv");
    fs::set_permissions(&north, fs::Permissions::from_mode(0o600)).expect("set");
    let before = fs::metadata(&north).expect("there").ino();
    bench.run(&words);
    let found = fs::metadata(&north).expect("there");
    assert_ne!(found.ino(), before, "it was replaced");
    assert_eq!(found.permissions().mode() & 0o777, 0o600);
}

#[test]
fn what_a_run_reads_is_never_written() {
    let bench = Bench::with_calls();
    bench.write("tables/quays.csv", "quay,office\nNorth,N\n");
    bench.write("shapes/shape.json", "[{\"id\": \"{id}\"}]");
    let at = |words: &[&str]| bench.run(words);
    let lookup = at(&[
        "split",
        "calls.csv",
        "--lookup",
        "tables/quays.csv:quay",
        "--unmatched",
        "blank",
        "--name",
        "quays.csv",
        "--out",
        "tables",
        "--existing",
        "replace",
    ]);
    assert!(lookup.contains("a source is never written to"), "{lookup}");
    let shape = at(&[
        "convert",
        "calls.csv",
        "--shape",
        "shapes/shape.json",
        "--name",
        "shape.json",
        "--out",
        "shapes",
        "--existing",
        "replace",
    ]);
    assert!(shape.contains("a source is never written to"), "{shape}");
    bench.run(&[
        "split",
        "calls.csv",
        "--by",
        "quay",
        "--out",
        "parts",
        "--save-job",
        "job.toml",
    ]);
    let log = at(&["run", "job.toml", "--log", "calls.csv"]);
    assert!(log.contains("the run reads"), "{log}");
    assert!(bench.read("calls.csv").starts_with("id,quay"));
    assert_eq!(bench.read("tables/quays.csv"), "quay,office\nNorth,N\n");
}

#[test]
fn a_report_that_cannot_be_shown_says_that_the_outputs_are_there() {
    let bench = Bench::with_calls();
    let full = fs::File::options()
        .write(true)
        .open("/dev/full")
        .expect("there");
    let mut command = bench.command(&["split", "calls.csv", "--by", "quay", "--out", "parts"]);
    let output = command.stdout(Stdio::from(full)).output().expect("it runs");
    let reported = String::from_utf8_lossy(&output.stderr);
    assert!(reported.contains("the outputs are in place"), "{reported}");
    assert!(bench.path("parts/North.csv").exists());
}

/// The version of all parts, if they have one, and whether all are there.
fn version_of(bench: &Bench, out: &str) -> Option<String> {
    let mut versions = Vec::new();
    for quay in QUAYS {
        let text = fs::read_to_string(bench.path(&format!("{out}/{quay}.csv"))).ok()?;
        let mut own: Vec<&str> = text
            .lines()
            .skip(1)
            .filter_map(|line| line.rsplit(',').next())
            .collect();
        own.dedup();
        assert_eq!(own.len(), 1, "{quay}: {own:?}");
        versions.push(own[0].to_owned());
    }
    versions.dedup();
    assert_eq!(versions.len(), 1, "a mixture: {versions:?}");
    versions.pop()
}

fn start(bench: &Bench, words: &[&str]) -> Child {
    let mut command = bench.command(words);
    command.stdout(Stdio::null()).stderr(Stdio::piped());
    command.spawn().expect("it runs")
}

/// No stage is left.
fn assert_nothing_hidden(bench: &Bench) {
    let mut hidden = bench.files();
    hidden.retain(|name| name.contains(".numerant-"));
    assert!(hidden.is_empty(), "{hidden:?}");
}

/// How often it is tried; `NUMERANT_ROUNDS` says another number.
fn rounds(usual: usize) -> usize {
    let asked = std::env::var("NUMERANT_ROUNDS").ok();
    asked
        .and_then(|rounds| rounds.parse().ok())
        .unwrap_or(usual)
}

#[test]
fn two_runs_into_one_folder_do_not_mix() {
    let bench = Bench::new();
    bench.write("a.csv", calls("a", 3000));
    bench.write("b.csv", calls("b", 3000));
    for round in 0..rounds(15) {
        let out = if round % 3 == 0 {
            format!("new-{round}")
        } else {
            "parts".to_owned()
        };
        let runs = [
            start(&bench, &replace("a.csv", &out)),
            start(&bench, &replace("b.csv", &out)),
        ];
        for run in runs {
            let output = run.wait_with_output().expect("it ends");
            let reported = String::from_utf8_lossy(&output.stderr);
            assert_eq!(output.status.code(), Some(0), "round {round}: {reported}");
        }
        let version = version_of(&bench, &out);
        assert!(version.is_some(), "round {round}");
    }
    assert_nothing_hidden(&bench);
}

#[test]
fn a_run_that_is_killed_leaves_the_old_state_or_the_new_one() {
    let bench = Bench::new();
    bench.write("a.csv", calls("a", 6000));
    bench.write("b.csv", calls("b", 6000));
    bench.run(&replace("a.csv", "parts"));
    let mut killed = 0;
    for round in 0..rounds(30) {
        let source = if round % 2 == 0 { "b.csv" } else { "a.csv" };
        let mut run = start(&bench, &replace(source, "parts"));
        std::thread::sleep(Duration::from_micros(500 + (round as u64 * 1777) % 24_000));
        killed += usize::from(run.try_wait().expect("asked").is_none());
        let _ = run.kill();
        run.wait().expect("it ends");
        bench.run(&["recover", "parts"]);
        assert!(version_of(&bench, "parts").is_some(), "round {round}");
        assert_nothing_hidden(&bench);
    }
    assert!(killed > 0, "none was killed");
}

#[test]
fn two_signals_do_not_cut_a_commit_short() {
    let bench = Bench::new();
    bench.write("a.csv", calls("a", 6000));
    bench.write("b.csv", calls("b", 6000));
    bench.run(&replace("a.csv", "parts"));
    for round in 0..rounds(20) {
        let source = if round % 2 == 0 { "b.csv" } else { "a.csv" };
        let run = start(&bench, &replace(source, "parts"));
        std::thread::sleep(Duration::from_micros(2000 + (round as u64 * 1777) % 24_000));
        for _ in 0..2 {
            let sent = Command::new("kill")
                .args(["-INT", &run.id().to_string()])
                .stderr(Stdio::null())
                .status();
            sent.expect("sent");
        }
        let output = run.wait_with_output().expect("it ends");
        let code = output.status.code();
        assert!(
            matches!(code, Some(0 | 130) | None),
            "round {round}: {code:?}"
        );
        // Without a look at what may be left: none is in the middle of its commit.
        assert!(version_of(&bench, "parts").is_some(), "round {round}");
    }
}
