use std::fs;

use insta::assert_snapshot;

use crate::support::Bench;

/// Runs a split of `bytes` by `quay` and checks that nothing but the source is there afterwards.
fn refused(bytes: &[u8], more: &[&str]) -> String {
    let bench = Bench::new();
    bench.write("calls.csv", bytes);
    let mut words = vec!["split", "calls.csv", "--by", "quay", "--out", "parts"];
    words.extend(more);
    let said = bench.run(&words);
    assert_eq!(bench.files(), ["calls.csv"], "{said}");
    said
}

#[test]
fn files_that_cannot_be_read() {
    assert_snapshot!("empty", refused(b"", &[]));
    assert_snapshot!("header only", refused(b"quay,n\n", &[]));
    assert_snapshot!(
        "unclosed quote",
        refused(b"quay,n\nA,1\nB,\"open\nC,3\n", &[])
    );
    assert_snapshot!(
        "misplaced quote",
        refused(b"quay,n\nB,\"lost\nC,\"x\"\n", &[])
    );
    assert_snapshot!("NUL", refused(b"quay,n\nA,1\nB,\0\n", &[]));
    assert_snapshot!("zip", refused(b"PK\x03\x04\x14\0\x06\0", &[]));
    assert_snapshot!("ragged", refused(b"quay,n\nA,1\nB\n", &[]));
    assert_snapshot!("surplus", refused(b"quay,n\nA,1,2\n", &["--ragged", "pad"]));
    let latin = b"quay,n\nA,1\n\xd6stra,2\n";
    assert_snapshot!("not UTF-8", refused(latin, &["--encoding", "utf-8"]));
    assert_snapshot!(
        "no date",
        refused(b"quay,d\nA,31.02.2026\n", &["--name", "{d:month}.csv"])
    );
    let numbers = "quay,n\nPier №1,1\n".as_bytes();
    assert_snapshot!(
        "no character",
        refused(numbers, &["--out-encoding", "windows-1252"])
    );
    assert_snapshot!("cut gzip", {
        let bench = Bench::new();
        bench.write("calls.csv.gz", b"\x1f\x8b\x08\0\0\0\0\0\0\x03\x2b");
        bench.run(&["split", "calls.csv.gz", "--by", "quay"])
    });
}

#[test]
fn names_that_fall_together() {
    let text = "quay,n\nÄ,1\nA\u{308},2\nNorth,3\nnorth,4\na/b,5\na\\b,6\n".as_bytes();
    assert_snapshot!("clash", refused(text, &[]));
    let bench = Bench::new();
    bench.write("calls.csv", text);
    bench.run(&["split", "calls.csv", "--by", "quay", "--clash", "number"]);
    let mut names: Vec<String> = bench.files();
    names.sort();
    assert_eq!(
        names,
        [
            "calls.csv",
            "calls/A\u{308}-2.csv",
            "calls/North.csv",
            "calls/a_b-2.csv",
            "calls/a_b.csv",
            "calls/north-2.csv",
            "calls/Ä.csv",
        ]
    );
    assert_eq!(bench.read("calls/a_b-2.csv"), "quay,n\na\\b,6\n");
}

#[test]
fn values_that_are_no_names() {
    let bench = Bench::new();
    let long = "x".repeat(300);
    let values = ["../../x", "/etc/x", "CON", "a/b", ".", "nul.txt", &long];
    let text: String = values.iter().map(|value| format!("{value},1\n")).collect();
    bench.write("in/calls.csv", format!("quay,n\n{text}"));
    let said = bench.run(&[
        "split",
        "in/calls.csv",
        "--by",
        "quay",
        "--out",
        "in/parts",
        "-q",
    ]);
    assert_eq!(said, "--- code 0");
    let long = format!("in/parts/{}.csv", "x".repeat(251));
    assert_eq!(
        bench.files(),
        [
            "in/calls.csv",
            "in/parts/CON_.csv",
            "in/parts/_._.._x.csv",
            "in/parts/_.csv",
            "in/parts/_etc_x.csv",
            "in/parts/a_b.csv",
            "in/parts/nul_.txt.csv",
            &long,
        ]
    );
}

#[test]
fn too_many_outputs() {
    let text: String = (0..60_000)
        .map(|n| format!("Q{},{n}\n", n % 58_000))
        .collect();
    assert_snapshot!(
        "too many",
        refused(format!("quay,n\n{text}").as_bytes(), &[])
    );
}

#[test]
fn a_record_of_many_megabytes() {
    let mut text = b"quay,n,text\nA,1,\"".to_vec();
    text.extend(vec![b'x'; 20_000_000]);
    text.extend_from_slice(b"\"\nB,2,short\n");
    assert_snapshot!("large record", refused(&text, &["--memory", "32M"]));
    let bench = Bench::new();
    bench.write("calls.csv", &text);
    let said = bench.run(&["split", "calls.csv", "--by", "quay", "-q"]);
    assert_eq!(said, "--- code 0");
    let part = fs::read(bench.path("calls/A.csv")).expect("there");
    assert!(part == [&text[..12], &text[12..text.len() - 10]].concat());
}

#[test]
fn a_source_is_never_written_to() {
    let bench = Bench::new();
    bench.write("calls.csv", "quay,n\ncalls,1\n");
    let replace = [
        "split",
        "calls.csv",
        "--by",
        "quay",
        "--out",
        ".",
        "--existing",
        "replace",
    ];
    assert_snapshot!("onto the source", bench.run(&replace));
    let ledger = [
        "split",
        "calls.csv",
        "--by",
        "quay",
        "--ledger",
        "./calls.csv",
    ];
    assert_snapshot!("ledger onto the source", bench.run(&ledger));
    #[cfg(unix)]
    {
        std::os::unix::fs::symlink("calls.csv", bench.path("link.csv")).expect("linked");
        let link = [
            "split",
            "link.csv",
            "--by",
            "quay",
            "--out",
            ".",
            "--existing",
            "replace",
        ];
        assert_snapshot!("through a link", bench.run(&link));
    }
    assert_eq!(bench.read("calls.csv"), "quay,n\ncalls,1\n");
}

#[cfg(unix)]
mod unix {
    use std::io::{BufRead, BufReader, Write};
    use std::os::unix::process::ExitStatusExt;
    use std::process::{Command, Stdio};
    use std::time::{Duration, Instant};

    use super::*;

    /// Runs the program below a limit of the shell's.
    fn limited(bench: &Bench, limit: &str, words: &str) -> String {
        let program = env!("CARGO_BIN_EXE_numerant");
        let line = format!("{limit} && exec {program} {words}");
        let output = Command::new("/bin/sh")
            .args(["-c", &line])
            .current_dir(bench.folder())
            .env_clear()
            .output()
            .expect("a shell");
        let said = String::from_utf8(output.stderr).expect("UTF-8");
        format!("{said}--- code {:?}", output.status.code())
    }

    #[test]
    fn a_limit_on_the_size_of_files() {
        let bench = Bench::new();
        let text: String = (0..200_000).map(|n| format!("Q{},{n}\n", n % 3)).collect();
        bench.write("calls.csv", format!("quay,n\n{text}"));
        let said = limited(
            &bench,
            "ulimit -f 100",
            "split calls.csv --by quay --out parts",
        );
        assert_snapshot!("file size limit", said);
        assert_eq!(bench.files(), ["calls.csv"]);
    }

    #[test]
    fn more_outputs_than_open_files() {
        let bench = Bench::new();
        let text: String = (0..90_000)
            .map(|n| format!("Q{},{n}\n", n * 7 % 3000))
            .collect();
        bench.write("calls.csv", format!("quay,n\n{text}"));
        let words = "split calls.csv --by quay --out parts --max-outputs 3000 --memory 1M -q";
        assert_eq!(limited(&bench, "ulimit -n 40", words), "--- code Some(0)");
        assert_eq!(bench.files().len(), 3001);
        let expected: String = (0..90_000)
            .filter(|n| n * 7 % 3000 == 2999)
            .map(|n| format!("Q2999,{n}\n"))
            .collect();
        assert_eq!(bench.read("parts/Q2999.csv"), format!("quay,n\n{expected}"));
    }

    /// Starts a split of standard input that has written something and waits for more.
    fn waiting(bench: &Bench) -> std::process::Child {
        let mut child = bench
            .command(&["split", "-", "--by", "quay", "--out", "parts"])
            .stdin(Stdio::piped())
            .stderr(Stdio::piped())
            .stdout(Stdio::piped())
            .spawn()
            .expect("it runs");
        let mut input = child.stdin.take().expect("piped");
        let text: String = (0..300_000).map(|n| format!("Q{},{n}\n", n % 5)).collect();
        input
            .write_all(format!("quay,n\n{text}").as_bytes())
            .expect("taken");
        // Kept open: the end of the input must not be what ends the run.
        std::mem::forget(input);
        let begun = Instant::now();
        while !bench.files().iter().any(|name| name.contains("stage")) {
            assert!(
                begun.elapsed() < Duration::from_secs(20),
                "nothing was staged"
            );
            std::thread::sleep(Duration::from_millis(10));
        }
        child
    }

    fn signal(child: &std::process::Child, name: &str) {
        let status = Command::new("/bin/sh")
            .args(["-c", &format!("kill -{name} {}", child.id())])
            .status()
            .expect("a shell");
        assert!(status.success());
    }

    #[test]
    fn an_interrupt_in_the_middle_leaves_nothing() {
        for name in ["INT", "TERM"] {
            let bench = Bench::new();
            let mut child = waiting(&bench);
            signal(&child, name);
            let status = child.wait().expect("it ends");
            assert_eq!(status.code(), Some(130), "after SIG{name}");
            let mut said = String::new();
            let stderr = child.stderr.take().expect("piped");
            BufReader::new(stderr).read_line(&mut said).expect("said");
            assert_eq!(said, "error: interrupted; nothing was written\n");
            assert!(bench.files().is_empty(), "{:?}", bench.files());
        }
    }

    #[test]
    fn what_a_killed_run_leaves_is_hidden_and_goes_with_the_next() {
        let bench = Bench::new();
        let mut child = waiting(&bench);
        child.kill().expect("killed");
        assert_eq!(child.wait().expect("it ends").signal(), Some(9));
        assert!(
            bench
                .files()
                .iter()
                .all(|name| name.starts_with(".numerant-stage-"))
        );
        bench.write("calls.csv", "quay,n\nA,1\n");
        assert_eq!(
            bench.run(&["split", "calls.csv", "--by", "quay", "-q"]),
            "--- code 0"
        );
        assert_eq!(bench.files(), ["calls.csv", "calls/A.csv"]);
    }

    #[test]
    fn a_closed_standard_output_does_not_undo_the_work() {
        let bench = Bench::with_calls();
        let said = limited(&bench, "true", "split calls.csv --by quay -q >&-");
        assert_eq!(said, "--- code Some(0)");
        let said = limited(&bench, "true", "inspect calls.csv 2>&1 | true");
        assert_eq!(said, "--- code Some(0)");
        assert_eq!(bench.files().len(), 5);
    }

    #[test]
    fn a_folder_that_may_not_be_written_to() {
        use std::os::unix::fs::PermissionsExt;
        let bench = Bench::with_calls();
        fs::create_dir(bench.path("shut")).expect("made");
        let shut = fs::Permissions::from_mode(0o555);
        fs::set_permissions(bench.path("shut"), shut).expect("shut");
        if fs::write(bench.path("shut/probe"), "").is_ok() {
            // This user may write anywhere; a file in the way is refused to everybody.
            fs::remove_file(bench.path("shut/probe")).expect("removed");
            bench.write("taken", "a file");
            let said = bench.run(&["split", "calls.csv", "--by", "quay", "--out", "taken/parts"]);
            assert!(
                said.contains("taken") && said.ends_with("--- code 1"),
                "{said}"
            );
            return;
        }
        let said = bench.run(&["split", "calls.csv", "--by", "quay", "--out", "shut/parts"]);
        assert!(
            said.contains("Permission denied") && said.ends_with("--- code 1"),
            "{said}"
        );
        assert_eq!(bench.files(), ["calls.csv"]);
    }
}
