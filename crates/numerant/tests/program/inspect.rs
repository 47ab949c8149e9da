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
fn files_that_cannot_be_read_do_not_hide_the_others() {
    let bench = Bench::with_calls();
    bench.write("a.csv", "quay,dues\nNorth,1\n");
    bench.write("broken.csv", "quay,dues\nNorth\n");
    bench.write("z.csv", "quay,dues\nSouth,2\n");
    assert_snapshot!(bench.typed("inspect a.csv broken.csv z.csv none.csv"));
    let json = bench.typed("inspect a.csv broken.csv --report json");
    assert!(
        json.contains("\"failed\": [") && json.contains("--- code 3"),
        "{json}"
    );
    let none = bench.typed("inspect broken.csv none.csv --report json");
    assert!(
        none.contains("--- code 1") && !none.contains("none.csv"),
        "{none}"
    );
    let values = bench.typed("inspect a.csv broken.csv z.csv --values dues");
    assert!(values.contains("--- code 3"), "{values}");
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
