use insta::assert_snapshot;

use crate::support::Bench;

#[test]
fn a_file() {
    let bench = Bench::with_calls();
    assert_snapshot!(bench.run(&["inspect", "calls.csv"]));
    assert_snapshot!(bench.run(&["inspect", "calls.csv", "--report", "json"]));
}

#[test]
fn values() {
    let bench = Bench::with_calls();
    assert_snapshot!(bench.run(&["inspect", "calls.csv", "--values", "quay"]));
    let month = [
        "inspect",
        "calls.csv",
        "--values",
        "arrived:month",
        "--report",
        "json",
    ];
    assert_snapshot!(bench.run(&month));
}

#[test]
fn an_odd_file() {
    let bench = Bench::new();
    bench.write(
        "odd.txt",
        "Report\n quay |quay||n\nA|B|x\" y|1\r\n\n\"C\"|D||2\n",
    );
    assert_snapshot!(bench.run(&["inspect", "odd.txt", "--skip-lines", "1"]));
    assert_snapshot!(bench.run(&[
        "inspect",
        "odd.txt",
        "--values",
        "quai",
        "--skip-lines",
        "1"
    ]));
}
