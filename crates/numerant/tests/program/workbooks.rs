use insta::assert_snapshot;

use crate::support::Bench;

/// With `calls.xlsx`, a workbook with a sheet for each quay.
fn with_workbook() -> Bench {
    let bench = Bench::with_calls();
    let made = bench.run(&[
        "split",
        "calls.csv",
        "--name",
        "calls.xlsx",
        "--sheet",
        "{quay}",
        "--out",
        ".",
        "--quiet",
    ]);
    assert!(
        made.contains("code 0") || made.trim().ends_with('0'),
        "{made}"
    );
    bench
}

/// What a command says, without the sizes of workbooks.
fn said(bench: &Bench, words: &[&str]) -> String {
    let text = bench.run(words);
    let lines = text.lines().filter(|line| !line.starts_with("  size "));
    lines.map(|line| format!("{line}\n")).collect()
}

#[test]
fn a_workbook_is_looked_at_and_taken_apart() {
    let bench = with_workbook();
    assert_snapshot!(
        "a look",
        said(
            &bench,
            &[
                "inspect",
                "calls.xlsx",
                "--read-sheet",
                "North",
                "--show",
                "2"
            ]
        )
    );
    assert_snapshot!(
        "apart",
        bench.run(&[
            "split",
            "calls.xlsx",
            "--per-sheet",
            "--name",
            "{.sheet}.csv"
        ])
    );
    assert_eq!(
        bench.read("calls/North.csv"),
        "id,quay,cargo,arrived,dues,remarks\n0007,North,grain,2026-03-05 14:20,1.10,\n\
         0003,North,coal,2026-03-31 23:59,3.30,\"two\nlines\"\n"
    );
    assert_snapshot!(
        "first sheet only",
        bench.run(&[
            "split",
            "calls.xlsx",
            "--by",
            "cargo",
            "--name",
            "{cargo}.csv",
            "--out",
            "parts"
        ])
    );
    assert_snapshot!(
        "proof",
        bench.run(&["verify", "--whole", "calls.csv", "--parts", "calls.xlsx"])
    );
    assert_snapshot!(
        "together",
        bench.run(&[
            "combine",
            "calls.xlsx",
            "--read-sheet",
            "all",
            "--name",
            "year.csv",
            "--sort",
            "id"
        ])
    );
    assert!(
        bench
            .read("year.csv")
            .starts_with("id,quay,cargo,arrived,dues,remarks\n0003,North,coal,")
    );
}

#[test]
fn what_is_wrong_with_workbooks() {
    let bench = with_workbook();
    bench.write("fake.xlsx", bench.read("calls.csv"));
    bench.write("empty.xlsx", "");
    let whole = std::fs::read(bench.path("calls.xlsx")).expect("readable");
    bench.write("cut.xlsx", &whole[..whole.len() / 2]);
    bench.write("named.csv", &whole);
    bench.write("long.csv", format!("a\n{}\n", "x".repeat(40_000)));
    for (name, words) in [
        ("text", &["inspect", "fake.xlsx"][..]),
        ("nothing", &["inspect", "empty.xlsx"]),
        ("cut off", &["inspect", "cut.xlsx"]),
        (
            "called csv",
            &["split", "named.csv", "--by", "cargo", "--plan"],
        ),
        (
            "no such sheet",
            &["inspect", "calls.xlsx", "--read-sheet", "South"],
        ),
        ("no such column", &["split", "calls.xlsx", "--by", "quai"]),
        (
            "sheets of text",
            &[
                "split",
                "calls.csv",
                "--by",
                "quay",
                "--sheet",
                "{cargo}",
                "--name",
                "x.csv",
            ],
        ),
        ("too long", &["split", "long.csv", "--name", "long.xlsx"]),
        (
            "a bad cell",
            &[
                "split",
                "calls.xlsx",
                "--by",
                "remarks:month",
                "--read-sheet",
                "Ro_Ro",
            ],
        ),
    ] {
        assert_snapshot!(name, bench.run(words));
    }
    assert!(!bench.files().iter().any(|name| name.contains("long.xlsx")));
}
