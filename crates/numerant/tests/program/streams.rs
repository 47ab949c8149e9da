//! What goes to standard output, and what is looked at before a run.

use insta::assert_snapshot;

use super::support::Bench;

#[test]
fn one_output_goes_to_standard_output() {
    let bench = Bench::with_calls();
    let words = [
        "convert",
        "calls.csv",
        "--to",
        "jsonl",
        "--keep",
        "id,dues",
        "--out",
        "-",
    ];
    assert_snapshot!(bench.run(&words));
    let files = bench.files();
    assert_eq!(files, ["calls.csv"], "no folder is made");
    // The bytes are those of a file.
    let piped = bench
        .command(&[&words[..], &["--quiet"]].concat())
        .output()
        .expect("it runs");
    bench.typed("convert calls.csv --to jsonl --keep id,dues --out files");
    assert_eq!(piped.stdout, bench.read("files/calls.jsonl").into_bytes());
    assert!(piped.stderr.is_empty());
    // Standard input to standard output.
    let input = b"id,quay\n1,North\n2,South\n";
    let through = bench.run_with_input(
        &[
            "convert", "-", "--to", "csv", "--where", "id = 2", "--out", "-", "-q",
        ],
        input,
    );
    assert!(through.starts_with("id,quay\n2,South\n"), "{through}");
    // So do the other commands, and a workbook into a pipe.
    bench.write("more.csv", bench.read("calls.csv"));
    let combined = bench.typed("combine calls.csv more.csv --name all.csv --out - -q");
    assert_eq!(
        combined
            .lines()
            .filter(|line| line.contains("grain"))
            .count(),
        4
    );
    let packed = bench
        .command(&["convert", "calls.csv", "--to", "xlsx", "--out", "-", "-q"])
        .output();
    assert!(packed.expect("it runs").stdout.starts_with(b"PK"));
    // A job file, too.
    bench.write(
        "job.toml",
        "[[job]]\ncommand = \"convert\"\nsources = [\"calls.csv\"]\nto = \"tsv\"\nout = \"-\"\n",
    );
    let of_job = bench.typed("run job.toml -q");
    assert!(of_job.starts_with("id\tquay\t"), "{of_job}");
}

#[test]
fn standard_output_takes_one_output() {
    let bench = Bench::with_calls();
    bench.write("more.csv", "id\n1\n");
    let mut said = String::new();
    for words in [
        &["split", "calls.csv", "--by", "quay", "--out", "-"][..],
        &[
            "convert",
            "calls.csv",
            "more.csv",
            "--to",
            "json",
            "--out",
            "-",
        ],
        &[
            "convert",
            "calls.csv",
            "--to",
            "json",
            "--out",
            "-",
            "--ledger",
            "l.json",
        ],
        &[
            "convert",
            "calls.csv",
            "--to",
            "json",
            "--out",
            "-",
            "--ask",
        ],
        &[
            "convert",
            "calls.csv",
            "--set",
            "x=dues / 0",
            "--to",
            "json",
            "--out",
            "-",
        ],
    ] {
        said.push_str(&bench.run(words));
        said.push('\n');
    }
    assert_snapshot!(said);
    assert_eq!(bench.files(), ["calls.csv", "more.csv"]);
}

#[test]
fn a_plan_shows_the_first_records_of_each_output() {
    let bench = Bench::with_calls();
    let mut shown = bench.typed("split calls.csv --by quay --plan --show 1");
    shown.push('\n');
    let words = [
        "split",
        "calls.csv",
        "--name",
        "calls.xlsx",
        "--sheet",
        "{quay}",
        "--keep",
        "id,dues",
    ];
    shown.push_str(
        &bench.run(&[&words[..], &["--blank", "none", "--plan", "--show", "2"]].concat()),
    );
    shown.push('\n');
    shown.push_str(&bench.typed("convert calls.csv --to json --indent 2 --plan --show 1"));
    shown.push('\n');
    shown.push_str(&bench.typed("convert calls.csv --to html --plan --show 1"));
    assert_snapshot!(shown);
    assert_eq!(bench.files(), ["calls.csv"], "nothing is written");
    let cleared =
        bench.typed("split calls.csv --by quay --existing clear --ledger l.json --plan --show 1");
    assert!(
        cleared.contains("0019,") && cleared.contains("code 0"),
        "{cleared}"
    );
    let packed = bench.typed("split calls.csv --by quay --pack p.zip --plan --show 1");
    assert!(
        packed.contains("0019,") && packed.contains("code 0"),
        "{packed}"
    );
    let once = bench.run_with_input(
        &[
            "split", "-", "--by", "id", "--out", "x", "--plan", "--show", "1",
        ],
        b"id\n1\n",
    );
    assert!(
        once.contains("standard input can be read only once") && once.contains("code 2"),
        "{once}"
    );
    let alone = bench.typed("split calls.csv --by quay --show 1");
    assert!(
        alone.contains("--plan") && alone.contains("code 2"),
        "{alone}"
    );
}

#[test]
fn several_files_are_one_table() {
    let bench = Bench::with_calls();
    bench.write("in/a.csv", "id,quay\n1,North\n");
    bench.write("in/b.csv", "quay,id\nNorth,1\nSouth,2\n");
    bench.write("in/c.csv", "id;berth\n1;A1\n");
    bench.write("in/d.json", "{\"calls\": [{\"x\": 1}, {\"x\": 2}]}");
    let mut shown = bench.typed("inspect in");
    shown.push('\n');
    shown.push_str(&bench.typed("inspect in/a.csv in/b.csv"));
    assert_snapshot!(shown);
    let details = bench.typed("inspect in --details");
    assert_eq!(details.matches("encoding").count(), 3, "{details}");
    let one = bench.typed("inspect in/a.csv");
    assert!(one.contains("distinct"), "{one}");
}

#[test]
fn sheets_are_in_natural_order_where_values_name_them() {
    let bench = Bench::new();
    bench.write("calls.csv", "berth,id\nB10,1\nB2,2\nA1,3\nB2,4\n");
    let sheets = |more: &[&str], file: &str| -> Vec<String> {
        let words = [
            "split",
            "calls.csv",
            "--name",
            file,
            "--sheet",
            "{berth}",
            "--out",
            "out",
            "--existing",
            "replace",
        ];
        let done = bench.run(&[&words[..], more].concat());
        assert!(done.contains("code 0"), "{done}");
        let shown = bench.run(&["inspect", &format!("out/{file}"), "--report", "json"]);
        let json = shown.rsplit_once("--- code").expect("a code").0;
        let json: serde_json::Value = serde_json::from_str(json).expect("JSON");
        let sheets = json["inspections"][0]["sheet"]["sheets"]
            .as_array()
            .expect("sheets")
            .clone();
        let name =
            |sheet: &serde_json::Value| sheet["name"].as_str().unwrap_or_default().to_owned();
        sheets.iter().map(name).collect()
    };
    for file in ["calls.xlsx", "calls.ods", "calls.xls"] {
        assert_eq!(sheets(&[], file), ["A1", "B2", "B10"], "{file}");
        assert_eq!(
            sheets(&["--sheet-order", "records"], file),
            ["B10", "B2", "A1"],
            "{file}"
        );
    }
    // The ledger finds the workbook whatever the order of its sheets.
    sheets(&["--ledger", "l.json"], "calls.xlsx");
    let verified = bench.typed("verify l.json");
    assert!(verified.contains("verified: "), "{verified}");
    // Sheets that are named after files stay in the order of these.
    bench.write("b.csv", "id\n1\n");
    bench.write("a.csv", "id\n2\n");
    let combined = bench.typed("combine b.csv a.csv --name all.xlsx --sheet '{.stem}'");
    assert!(combined.contains("code 0"), "{combined}");
    let shown = bench.typed("inspect all.xlsx --show 0");
    assert!(shown.contains("1 of 2: b, a"), "{shown}");
}

#[test]
fn topics_are_explained() {
    let bench = Bench::new();
    let mut said = String::new();
    for topic in [
        "names",
        "expressions",
        "dates",
        "formats",
        "exit-codes",
        "ways",
    ] {
        said.push_str(&bench.run(&["help", topic]));
        said.push('\n');
    }
    assert_snapshot!(said);
    assert_eq!(bench.typed("help recover"), bench.typed("recover --help"));
    assert_eq!(bench.typed("help"), bench.typed("--help"));
    let missing = bench.typed("combine a.csv");
    assert!(
        missing.contains("a complete command is: numerant combine"),
        "{missing}"
    );
}

#[test]
fn job_files_with_old_keys_say_the_new_ones() {
    let bench = Bench::with_calls();
    for (old, line, now) in [
        ("rest = \"all\"", 3, "others"),
        ("repeats = \"rows\"", 3, "lists"),
        ("control-signs = \"drop\"", 3, "control-characters"),
    ] {
        bench.write("old.toml", format!("[[job]]\ncommand = \"split\"\n{old}\n"));
        let said = bench.typed("run old.toml");
        let (key, _) = old.split_once(' ').expect("a key");
        assert!(
            said.contains(&format!("line {line}: '{key}' is now called '{now}'")),
            "{said}"
        );
    }
    bench.write("old.toml", "[owner]\nto = \"a@varnholm.example\"\n");
    let said = bench.typed("run old.toml");
    assert!(said.contains("'owner' is now called 'notify'"), "{said}");
}
