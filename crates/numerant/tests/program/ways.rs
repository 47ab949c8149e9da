use insta::assert_snapshot;

use crate::support::Bench;

const OWNERS: &str = "quay,office\nNorth,Bulk\nRo/Ro,Ferries\nÅngkajen,Bulk\n";

#[test]
fn by_conditions() {
    let bench = Bench::with_calls();
    let cases = [
        "split",
        "calls.csv",
        "--case",
        "dear=dues >= 5",
        "--case",
        "coal=cargo = 'coal'",
        "--case",
        "never=dues > 1000",
        "--total",
        "dues",
    ];
    assert_snapshot!(bench.run(&cases));
    assert_eq!(
        bench.read("calls/coal.csv"),
        "id,quay,cargo,arrived,dues,remarks\n\
         0003,North,coal,2026-03-31 23:59,3.30,\"two\nlines\"\n"
    );
    let mut words = cases.to_vec();
    words.extend([
        "--others",
        "others",
        "--name",
        "{.case:upper}-{quay}.csv",
        "--out",
        "all",
    ]);
    assert_snapshot!(bench.run(&words));
}

#[test]
fn by_number_and_size() {
    let bench = Bench::with_calls();
    assert_snapshot!(bench.run(&["split", "calls.csv", "--rows", "2", "--sort", "-dues"]));
    assert_eq!(
        bench.read("calls/calls-001.csv"),
        "id,quay,cargo,arrived,dues,remarks\n\
         0012,Ro/Ro,vehicles,2026-04-01 06:05,20.00,\"late, then early\"\n\
         0019,Ångkajen,grain,2026-03-06 08:00,7.00,\n"
    );
    let by = [
        "split",
        "calls.csv",
        "--by",
        "quay",
        "--rows",
        "1",
        "--plan",
    ];
    assert_snapshot!(bench.run(&by));
    assert_snapshot!(bench.run(&["split", "calls.csv", "--parts", "2", "--out", "parts"]));
    let size = ["split", "calls.csv", "--max-size", "150", "--out", "sizes"];
    assert_snapshot!(bench.run(&size));
    for file in bench.files() {
        if file.starts_with("sizes/") {
            assert!(bench.read(&file).len() <= 150, "{file}");
        }
    }
    let piped = bench.run_with_input(
        &["split", "-", "--parts", "2", "--out", "piped"],
        bench.read("calls.csv").as_bytes(),
    );
    assert!(piped.ends_with("--- code 0"), "{piped}");
    assert_eq!(
        bench.read("piped/stdin-001.csv"),
        bench.read("parts/calls-001.csv")
    );
}

#[test]
fn record_by_record() {
    let bench = Bench::with_calls();
    let each = ["split", "calls.csv", "--each", "--out"];
    let run = |out: &str, more: &[&str]| {
        let mut words = each.to_vec();
        words.push(out);
        words.extend(more);
        bench.run(&words)
    };
    assert_snapshot!(run("each", &[]));
    assert_eq!(
        bench.read("each/calls-00003.csv"),
        "id,quay,cargo,arrived,dues,remarks\n\
         0003,North,coal,2026-03-31 23:59,3.30,\"two\nlines\"\n"
    );
    let name = ["--name", "{quay}.csv"];
    assert_snapshot!(run("clash", &name));
    let clash = |policy: &'static str| ["--name", "{quay}.csv", "--clash", policy];
    assert_snapshot!(run("first", &clash("first")));
    assert_snapshot!(run("last", &clash("last")));
    assert!(bench.read("first/North.csv").contains("0007"));
    assert!(bench.read("last/North.csv").contains("0003"));
    assert_snapshot!(run("together", &clash("together")));
    assert_eq!(bench.read("together/North.csv").lines().count(), 4);
}

#[test]
fn computed_enriched_and_renamed_on_the_way() {
    let bench = Bench::with_calls();
    bench.write("owners.csv", OWNERS);
    assert_snapshot!(bench.run(&[
        "split",
        "calls.csv",
        "--lookup",
        "owners.csv:quay",
        "--unmatched",
        "blank",
        "--set",
        "net=dues * 0.8",
        "--set",
        "due=CAST(arrived AS DATE) + INTERVAL '30' DAY",
        "--where",
        "cargo <> 'vehicles'",
        "--rename",
        "id=call",
        "--drop",
        "office,cargo,arrived,remarks",
        "--sort",
        "-net",
        "--name",
        "{office}/{quay}-{cargo}.csv",
        "--total",
        "net",
    ]));
    assert_eq!(
        bench.read("calls/Bulk/North-coal.csv"),
        "call,quay,dues,net,due\n0003,North,3.30,2.640,2026-04-30\n"
    );
    let refused = ["split", "calls.csv", "--lookup", "owners.csv:quay"];
    let mut words = refused.to_vec();
    words.extend(["--name", "{office}.csv", "--out", "no"]);
    assert_snapshot!(bench.run(&words));
    bench.write("owners.csv", "quay,office\nNorth,a\nNorth,b\n,c\n,d\n");
    assert_snapshot!(bench.run(&words));
}

#[test]
fn tidied() {
    let bench = Bench::new();
    bench.write(
        "calls.csv",
        "id,quay,remarks,blank\n1, North ,\" x\",\n , ,,\n2,East,y , \n",
    );
    let split = [
        "split",
        "calls.csv",
        "--by",
        "quay",
        "--tidy",
        "--ledger",
        "l.json",
    ];
    assert_snapshot!(bench.run(&split));
    assert_eq!(
        bench.read("calls/North.csv"),
        "id,quay,remarks\n1,North,x\n"
    );
    assert_eq!(bench.read("calls/East.csv"), "id,quay,remarks\n2,East,y\n");
    let input = bench.read("calls.csv");
    let split = ["split", "-", "--by", "quay", "--tidy", "--out", "piped"];
    bench.run_with_input(&split, input.as_bytes());
    assert_eq!(bench.read("piped/East.csv"), bench.read("calls/East.csv"));
}

#[test]
fn steps_are_tried_with_inspect() {
    let bench = Bench::with_calls();
    assert_snapshot!(bench.run(&[
        "inspect",
        "calls.csv",
        "--set",
        "net=ROUND(dues * 0.8, 1)",
        "--where",
        "quay IS NOT NULL",
        "--keep",
        "id,net",
        "--sort",
        "net",
        "--show",
        "2",
    ]));
    assert_snapshot!(bench.run(&[
        "inspect",
        "calls.csv",
        "--set",
        "kind=CASE WHEN dues > 5 THEN 'dear' ELSE 'cheap' END",
        "--values",
        "kind",
    ]));
}

#[test]
fn what_is_wrong_with_steps() {
    let bench = Bench::new();
    bench.write(
        "calls.csv",
        "id,quay,dues\n1,A,10\n2,B,n/a\n3,A,\"1,234.50\"\n4,B,\"1.234,50\"\n5,C,\n",
    );
    let deep = format!("{}1{} = 1", "(".repeat(10_000), ")".repeat(10_000));
    let long = format!("dues > {}", "9".repeat(40));
    for (name, words) in [
        ("mixed content", &["--where", "dues > 5"][..]),
        ("two decimal marks", &["--where", "id > 2 AND dues > 5"]),
        ("unknown column", &["--where", "dies > 5"]),
        ("unknown function", &["--set", "x=UPPPER(quay)"]),
        ("wrong types", &["--set", "x=quay || 5"]),
        ("no expression", &["--where", "dues >"]),
        ("deep", &["--where", &deep]),
        ("forty digits", &["--where", &long]),
        ("rows 0", &["--rows", "0"]),
        ("two divisions", &["--rows", "5", "--each"]),
        ("header too large", &["--max-size", "9"]),
        ("rest without case", &["--others", "x"]),
        (
            "a later column",
            &["--where", "net > 5", "--set", "x=1", "--rename", "dues=net"],
        ),
        ("a renamed column", &["--rename", "quay=berth"]),
        ("open brace", &["--name", "{quay.csv"]),
        ("declared type", &["--type", "dues=decimal"]),
        ("no type", &["--type", "dues=number"]),
        ("total of text", &["--total", "dues"]),
        ("division by zero", &["--set", "x=1 / (id - 3)"]),
        ("no assignment", &["--set", "dues * 2"]),
        ("no table", &["--lookup", "none.csv:quay"]),
        ("no key", &["--lookup", "calls.csv:kay"]),
        ("rejects without a reason", &["--rejects", "r.csv"]),
    ] {
        let mut all = vec!["split", "calls.csv", "--by", "quay"];
        all.extend(words);
        let said = bench.run(&all);
        let shown = if name == "deep" {
            said.replace(&deep, "(((…")
        } else {
            said
        };
        assert_snapshot!(name, shown);
    }
    assert_eq!(bench.files(), ["calls.csv"]);
    let reject = [
        "split",
        "calls.csv",
        "--by",
        "quay",
        "--type",
        "dues=decimal",
        "--on-error",
        "reject",
        "--rejects",
        "r.csv",
        "--total",
        "dues",
    ];
    assert_snapshot!(bench.run(&reject));
    assert_eq!(
        bench.read("r.csv"),
        "id,quay,dues\n2,B,n/a\n4,B,\"1.234,50\"\n"
    );
}

#[test]
fn a_large_standard_input_is_read_twice() {
    let bench = Bench::new();
    let mut text = "id,quay,remarks,blank\n".to_owned();
    for number in 0..60_000 {
        let remark = if number % 7 == 0 {
            "\" two\nlines\""
        } else {
            " one"
        };
        text.push_str(&format!("{number},Quay {},{remark},\n", number % 5));
    }
    bench.write("calls.csv", &text);
    let file = [
        "split",
        "calls.csv",
        "--parts",
        "3",
        "--tidy",
        "--out",
        "a",
        "--quiet",
    ];
    assert_eq!(bench.run(&file), "--- code 0");
    let piped = [
        "split", "-", "--parts", "3", "--tidy", "--out", "b", "--quiet",
    ];
    assert_eq!(bench.run_with_input(&piped, text.as_bytes()), "--- code 0");
    for part in 1..=3 {
        let of_file = bench.read(&format!("a/calls-{part:03}.csv"));
        let of_pipe = bench.read(&format!("b/stdin-{part:03}.csv"));
        assert!(of_file == of_pipe, "part {part}");
    }
}
