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

#[test]
fn several_files_one_of_which_cannot_be_read() {
    let bench = Bench::new();
    bench.write("a.csv", "quay,n\nA,1\n");
    bench.write("b.csv", "");
    let said = bench.run(&["inspect", "a.csv", "b.csv"]);
    assert!(said.starts_with("a.csv\n"), "{said}");
    assert!(
        said.ends_with("error: b.csv: the file is empty\n--- code 1"),
        "{said}"
    );
    let said = bench.run(&["inspect", "a.csv", "b.csv", "--report", "json"]);
    assert!(said.starts_with("{\n  \"error\""), "{said}");
}

#[test]
fn values_follow_the_policies_of_a_run() {
    let bench = Bench::new();
    bench.write(
        "calls.csv",
        "id,quay,arrived\n1,North,2026-03-05\n2,East,soon\n3,North,2026-03-09\n",
    );
    bench.write("owners.csv", "quay,office\nNorth,Bulk\n");
    let month = ["inspect", "calls.csv", "--values", "arrived:month"];
    assert_snapshot!("a value without the part", bench.run(&month));
    let mut reject = month.to_vec();
    reject.extend(["--on-error", "reject"]);
    assert_snapshot!("rejected", bench.run(&reject));
    let office = [
        "inspect",
        "calls.csv",
        "--lookup",
        "owners.csv:quay",
        "--values",
        "office",
    ];
    assert_snapshot!("a key that is not in the table", bench.run(&office));
}
