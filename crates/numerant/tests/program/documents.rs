use insta::assert_snapshot;

use crate::support::Bench;

const MANIFEST: &str = r#"{
  "manifest": "M-2026-041",
  "vessel": {"name": "Borea Carrier", "flag": "XD"},
  "lines": [
    {"number": 1, "goods": "wheat", "price": {"net": 6900.05, "tax": 1725.01}},
    {"number": 2, "goods": "barley", "marks": "VH 0241", "price": {"net": 1306.33, "tax": 326.58}}
  ]
}
"#;

const NOTICES: &str = "<?xml version=\"1.0\"?>\n<notices week=\"10\">\n  <notice number=\"10/1\" kind=\"works\"><chart>VH030</chart><chart>VH040</chart></notice>\n  <notice number=\"10/2\" kind=\"buoy\"><chart>VH013</chart></notice>\n</notices>\n";

fn bench() -> Bench {
    let bench = Bench::new();
    bench.write("grain.json", MANIFEST);
    bench.write("notices.xml", NOTICES);
    bench
}

#[test]
fn inspecting_a_document_tells_what_to_type_next() {
    let bench = bench();
    assert_snapshot!("inspect json", bench.run(&["inspect", "grain.json"]));
    assert_snapshot!("inspect xml", bench.run(&["inspect", "notices.xml"]));
    assert_snapshot!(
        "inspect json report",
        bench.run(&["inspect", "notices.xml", "--report", "json", "--show", "0"])
    );
}

#[test]
fn documents_become_tables_and_documents_again() {
    let bench = bench();
    assert_snapshot!(
        "convert with a note",
        bench.run(&[
            "convert",
            "grain.json",
            "notices.xml",
            "--to",
            "csv",
            "--out",
            "out"
        ])
    );
    assert_eq!(
        bench.read("out/grain.csv"),
        "number,goods,price.net,price.tax,marks\n1,wheat,6900.05,1725.01,\n2,barley,1306.33,326.58,VH 0241\n"
    );
    assert_eq!(
        bench.read("out/notices.csv"),
        "@number,@kind,chart.1,chart.2\n10/1,works,VH030,VH040\n10/2,buoy,VH013,\n"
    );
    let shape = "<c:items xmlns:c=\"urn:customs\" of=\"{manifest}\">\n  <?each?>\n  <c:item>{lines.goods} {= \"lines.price.net\" + \"lines.price.tax\"}</c:item>\n</c:items>\n";
    bench.write("customs.xml", shape);
    let words = [
        "convert",
        "grain.json",
        "--records",
        "$",
        "--lists",
        "rows=lines",
        "--name",
        "grain.xml",
        "--shape",
        "customs.xml",
        "--xml-comment",
        "{.rows} lines of {.source}",
        "--quiet",
    ];
    bench.run(&words);
    assert_eq!(
        bench.read("grain.xml"),
        "<!-- 2 lines of grain.json -->\n<c:items xmlns:c=\"urn:customs\" of=\"M-2026-041\">\n  <c:item>wheat 8625.06</c:item>\n  <c:item>barley 1632.91</c:item>\n</c:items>\n"
    );
}

#[test]
fn parts_of_a_document_are_verified_as_documents() {
    let bench = bench();
    bench.run(&[
        "split",
        "notices.xml",
        "--by",
        "@kind",
        "--out",
        "kinds",
        "--quiet",
    ]);
    assert_eq!(
        bench.read("kinds/buoy.xml"),
        "<?xml version=\"1.0\"?>\n<notices week=\"10\">\n  <notice number=\"10/2\" kind=\"buoy\"><chart>VH013</chart></notice>\n</notices>\n"
    );
    let verify = ["verify", "--whole", "notices.xml", "--parts", "kinds"];
    assert_snapshot!("verify documents", bench.run(&verify));
    let changed = bench.read("kinds/buoy.xml").replace("VH013", "VH014");
    bench.write("kinds/buoy.xml", &changed);
    assert_snapshot!("verify a changed document", bench.run(&verify));
}

#[test]
fn what_does_not_fit_is_told() {
    let bench = bench();
    bench.write("calls.csv", "dues EUR,2026,a\n1,2,3\n");
    let mut reported = String::new();
    for words in [
        &["convert", "calls.csv", "--to", "xml"][..],
        &[
            "convert",
            "calls.csv",
            "--name",
            "x.csv",
            "--xml-comment",
            "no",
        ],
        &[
            "convert",
            "calls.csv",
            "--name",
            "x.json",
            "--root",
            "calls",
        ],
        &[
            "convert",
            "calls.csv",
            "--name",
            "x.json",
            "--out-encoding",
            "windows-1252",
        ],
        &[
            "convert",
            "calls.csv",
            "--name",
            "x.xml",
            "--xml-comment",
            "{a}",
        ],
        &[
            "convert",
            "calls.csv",
            "--name",
            "x.xml",
            "--shape",
            "none.xml",
        ],
        &[
            "convert",
            "grain.json",
            "--name",
            "x.csv",
            "--records",
            "$.line[*]",
        ],
        &[
            "convert",
            "grain.json",
            "--name",
            "x.csv",
            "--records",
            "lines",
        ],
        &["convert", "grain.json", "--name", "x.csv", "--lists", "row"],
        &[
            "convert",
            "notices.xml",
            "--name",
            "x.csv",
            "--lists",
            "rows=charts",
        ],
        &[
            "convert",
            "notices.xml",
            "--name",
            "x.csv",
            "--records",
            "/notices/notice[1]",
        ],
    ] {
        reported.push_str(&bench.run(words));
        reported.push('\n');
    }
    assert_snapshot!("documents refused", reported);
    assert!(!bench.files().iter().any(|name| name.starts_with("x.")));
}
