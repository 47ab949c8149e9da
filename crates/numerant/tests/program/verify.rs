use insta::assert_snapshot;

use crate::support::Bench;

fn split(bench: &Bench) {
    let said = bench.run(&[
        "split",
        "calls.csv",
        "--by",
        "quay",
        "--out",
        "parts",
        "--ledger",
        "books/l.json",
        "--total",
        "dues",
        "--quiet",
    ]);
    assert_eq!(said, "--- code 0");
}

#[test]
fn a_ledger() {
    let bench = Bench::with_calls();
    split(&bench);
    assert_snapshot!(bench.run(&["verify", "books/l.json"]));
    let north = bench.read("parts/North.csv");
    bench.write("parts/North.csv", north.replacen("1.10", "1.11", 1));
    bench.write("parts/new.csv", "");
    std::fs::remove_file(bench.path("parts/blank.csv")).expect("removed");
    assert_snapshot!(bench.run(&["verify", "books/l.json"]));
    assert_snapshot!(bench.run(&["verify", "books/l.json", "--report", "json"]));
}

#[test]
fn parts_and_the_whole() {
    let bench = Bench::with_calls();
    split(&bench);
    let verify = ["verify", "--whole", "calls.csv", "--parts"];
    let run = |more: &[&str]| {
        let mut words = verify.to_vec();
        words.extend(more);
        bench.run(&words)
    };
    assert_snapshot!(run(&["parts/**/*.csv"]));
    assert_eq!(run(&["parts", "--quiet"]), "--- code 0");
    let north = bench.read("parts/North.csv");
    // A changed value, a lost record and a doubled one; another delimiter changes nothing.
    bench.write(
        "parts/North.csv",
        north.replacen("1.10", "1.11", 1).replace(',', ";"),
    );
    std::fs::remove_file(bench.path("parts/blank.csv")).expect("removed");
    let ro_ro = bench.read("parts/Ro_Ro.csv");
    let last = ro_ro.lines().last().expect("a record");
    bench.write("parts/Ro_Ro.csv", format!("{ro_ro}{last}\n"));
    assert_snapshot!(run(&["parts"]));
    assert_snapshot!(run(&["parts", "--report", "json"]));
    assert_snapshot!(run(&["parts", "--ignore", "dues", "--quiet"]));
}

#[test]
fn columns_that_differ() {
    let bench = Bench::with_calls();
    let said = bench.run(&[
        "split",
        "calls.csv",
        "--by",
        "quay",
        "--out",
        "parts",
        "--set",
        "net=dues * 2",
        "--drop",
        "remarks",
        "--quiet",
    ]);
    assert_eq!(said, "--- code 0");
    let verify = ["verify", "--whole", "calls.csv", "--parts", "parts"];
    let run = |more: &[&str]| {
        let mut words = verify.to_vec();
        words.extend(more);
        bench.run(&words)
    };
    assert_snapshot!(run(&[]));
    assert_snapshot!(run(&["--ignore", "remarks"]));
    assert_snapshot!(run(&["--ignore", "remarks,net"]));
    assert_snapshot!(run(&["--keep", "id,dues"]));
}

#[test]
fn what_cannot_be_verified() {
    let bench = Bench::with_calls();
    for (name, words) in [
        ("nothing", &["verify"][..]),
        ("no ledger", &["verify", "none.json"]),
        ("not a ledger", &["verify", "calls.csv"]),
        (
            "no parts",
            &["verify", "--whole", "calls.csv", "--parts", "parts/*.csv"],
        ),
        (
            "no column",
            &[
                "verify",
                "--whole",
                "calls.csv",
                "--parts",
                "calls.csv",
                "--keep",
                "quai",
            ],
        ),
    ] {
        assert_snapshot!(name, bench.run(words));
    }
}

#[test]
fn values_as_people_write_them_are_verified_in_workbooks() {
    let bench = Bench::new();
    bench.write(
        "dues.csv",
        "quay,due,dues\nNorth,2/20/2026,\"$7,393.92\"\nNorth,4/11/2026,($12.00)\nSouth,12/31/2026,$1.05\n",
    );
    let split = [
        "split", "dues.csv", "--by", "quay", "--to", "xlsx", "--ledger", "l.json", "--out", "parts",
    ];
    bench.run(&split);
    let shown = "verified: the parts have exactly the records of the whole, in the values that their sheets show";
    let by_parts = bench.run(&["verify", "--whole", "dues.csv", "--parts", "parts"]);
    assert!(by_parts.contains(shown), "{by_parts}");
    let by_ledger = bench.run(&[
        "verify", "--whole", "dues.csv", "--ledger", "l.json", "--page", "p.html",
    ]);
    assert!(by_ledger.contains(shown), "{by_ledger}");
    assert!(
        bench
            .read("p.html")
            .contains("in the values that their sheets show")
    );
    // A value that differs is found all the same.
    bench.write("dues.csv", bench.read("dues.csv").replace("$1.05", "$1.06"));
    let changed = bench.run(&["verify", "--whole", "dues.csv", "--parts", "parts"]);
    assert!(
        changed.contains("NOT verified") && changed.contains("code 1"),
        "{changed}"
    );
}
