use insta::assert_snapshot;

use crate::support::Bench;

#[test]
fn of_each_command() {
    let bench = Bench::new();
    assert_snapshot!("numerant", bench.run(&["--help"]));
    assert_snapshot!("inspect", bench.run(&["inspect", "--help"]));
    assert_snapshot!("split", bench.run(&["split", "--help"]));
    assert_snapshot!("combine", bench.run(&["combine", "--help"]));
    assert_snapshot!("verify", bench.run(&["verify", "--help"]));
    assert_snapshot!("demo", bench.run(&["demo", "--help"]));
}

#[test]
fn what_the_command_line_gets_wrong() {
    let bench = Bench::with_calls();
    for (name, words) in [
        ("nothing to split by", &["split", "calls.csv"][..]),
        (
            "no such part",
            &["split", "calls.csv", "--by", "arrived:moth"],
        ),
        (
            "leads out",
            &["split", "calls.csv", "--name", "../{quay}.csv"],
        ),
        ("open brace", &["split", "calls.csv", "--name", "{quay.csv"]),
        (
            "unknown format",
            &["split", "calls.csv", "--name", "{quay}.doc"],
        ),
        ("no such column", &["split", "calls.csv", "--by", "quai"]),
        (
            "dropped twice",
            &["split", "calls.csv", "--by", "quay", "--drop", "dues,duse"],
        ),
    ] {
        assert_snapshot!(name, bench.run(words));
    }
    assert_eq!(bench.files(), ["calls.csv"]);
}
