use insta::assert_snapshot;

use crate::support::Bench;

#[test]
fn by_one_column() {
    let bench = Bench::with_calls();
    assert_snapshot!(bench.run(&["split", "calls.csv", "--by", "quay"]));
    assert_eq!(
        bench.files(),
        [
            "calls.csv",
            "calls/North.csv",
            "calls/Ro_Ro.csv",
            "calls/blank.csv",
            "calls/Ångkajen.csv"
        ]
    );
    assert_eq!(
        bench.read("calls/North.csv"),
        "id,quay,cargo,arrived,dues,remarks\n\
         0007,North,grain,2026-03-05 14:20,1.10,\n\
         0003,North,coal,2026-03-31 23:59,3.30,\"two\nlines\"\n"
    );
    assert_eq!(
        bench.read("calls/blank.csv"),
        "id,quay,cargo,arrived,dues,remarks\n0044,,fish,2026-04-02 00:00,0.45,asked for \"ice\"\n"
    );
}

#[test]
fn by_two_columns_and_by_the_name_alone() {
    let bench = Bench::with_calls();
    assert_snapshot!(bench.run(&["split", "calls.csv", "--by", "quay,cargo", "--out", "two"]));
    let name = "{quay}/{arrived:month}.csv";
    assert_snapshot!(bench.run(&["split", "calls.csv", "--name", name, "--out", "months"]));
    assert_eq!(bench.read("months/Ro_Ro/2026-04.csv").lines().count(), 2);
    assert!(bench.files().contains(&"two/North_coal.csv".to_owned()));
}

#[test]
fn planned_and_asked() {
    let bench = Bench::with_calls();
    let plan = [
        "split",
        "calls.csv",
        "--by",
        "quay",
        "--out",
        "parts",
        "--plan",
    ];
    assert_snapshot!(bench.run(&plan));
    let ask = [
        "split",
        "calls.csv",
        "--by",
        "quay",
        "--out",
        "parts",
        "--ask",
    ];
    assert_snapshot!(bench.run_with_input(&ask, b"n\n"));
    assert_eq!(bench.files(), ["calls.csv"], "nothing was written");
    assert_snapshot!(bench.run_with_input(&ask, b"yes\n"));
    assert_eq!(bench.files().len(), 5);
    assert_snapshot!(bench.run(&["split", "-", "--by", "quay", "--out", "x", "--ask"]));
}

#[test]
fn the_ledger_and_the_report_as_json() {
    let bench = Bench::with_calls();
    let words = [
        "split",
        "calls.csv",
        "--by",
        "quay",
        "--ledger",
        "l/books.json",
        "--report",
        "json",
    ];
    assert_snapshot!(bench.run(&words));
    assert_snapshot!(bench.read("l/books.json"));
    assert_snapshot!(bench.run(&["split", "calls.csv", "--by", "quay", "--report", "json"]));
}

#[test]
fn columns_dialects_and_encodings() {
    let bench = Bench::with_calls();
    let words = [
        "split",
        "calls.csv",
        "--by",
        "quay",
        "--keep",
        "dues,id,quay",
        "--drop",
        "quay",
        "--name",
        "{quay:slug}.txt",
        "--out",
        "partner",
        "--out-delimiter",
        "pipe",
        "--out-encoding",
        "utf-16le",
        "--bom",
        "--line-end",
        "crlf",
        "--quiet",
    ];
    assert_snapshot!(bench.run(&words), @"--- code 0");
    let bytes = std::fs::read(bench.path("partner/north.txt")).expect("there");
    let expected: Vec<u8> = "\u{feff}dues|id\r\n1.10|0007\r\n3.30|0003\r\n"
        .encode_utf16()
        .flat_map(u16::to_le_bytes)
        .collect();
    assert_eq!(bytes, expected);
    // And back again: what comes in as UTF-16 with a mark goes out so.
    let again = [
        "split",
        "partner/north.txt",
        "--by",
        "id",
        "--out",
        "again",
        "-q",
    ];
    assert_snapshot!(bench.run(&again), @"--- code 0");
    let bytes = std::fs::read(bench.path("again/0007.txt")).expect("there");
    let expected: Vec<u8> = "\u{feff}dues|id\r\n1.10|0007\r\n"
        .encode_utf16()
        .flat_map(u16::to_le_bytes)
        .collect();
    assert_eq!(bytes, expected);
}

#[test]
fn a_source_without_a_header_in_a_compressed_file() {
    use std::io::Write;
    let bench = Bench::new();
    let text = b"0007;North\n0012;East\n0003;North\n";
    let mut gzip = flate2::write::GzEncoder::new(Vec::new(), flate2::Compression::fast());
    gzip.write_all(text).expect("compressed");
    bench.write("calls.csv.gz", gzip.finish().expect("compressed"));
    bench.write(
        "calls.csv.zst",
        zstd::encode_all(&text[..], 1).expect("compressed"),
    );
    for source in ["calls.csv.gz", "calls.csv.zst"] {
        let out = format!("out-{source}");
        let words = [
            "split",
            source,
            "--no-header",
            "--by",
            "column_2",
            "--out",
            &out,
            "-q",
        ];
        assert_eq!(bench.run(&words), "--- code 0");
        assert_eq!(
            bench.read(&format!("{out}/North.csv")),
            "0007;North\n0003;North\n"
        );
    }
    let input = [
        "split",
        "-",
        "--no-header",
        "--by",
        "column_2",
        "--out",
        "std",
        "-q",
    ];
    assert_eq!(bench.run_with_input(&input, text), "--- code 0");
    assert_eq!(bench.read("std/East.csv"), "0012;East\n");
}

#[test]
fn rejected_records_are_kept_as_they_stand() {
    let bench = Bench::new();
    bench.write("calls.csv", b"quay,n\r\nA,1\r\nB\r\nC,\xd6,4\r\nD,5\r\n");
    let words = [
        "split",
        "calls.csv",
        "--by",
        "quay",
        "--ragged",
        "reject",
        "--rejects",
        "r/rejects.csv",
    ];
    assert_snapshot!(bench.run(&words));
    assert_eq!(
        std::fs::read(bench.path("r/rejects.csv")).expect("there"),
        b"quay,n\r\nB\r\nC,\xd6,4\r\n"
    );
}

#[test]
fn a_job_leaves_a_folder_that_is_not_its_own() {
    let bench = Bench::with_calls();
    bench.write("calls/notes.txt", "mine");
    assert_snapshot!(bench.run(&["split", "calls.csv", "--by", "quay"]));
    assert_eq!(bench.files(), ["calls.csv", "calls/notes.txt"]);
}

#[test]
fn the_ledger_may_lie_in_a_folder_that_the_run_makes() {
    let bench = Bench::with_calls();
    let words = [
        "split",
        "calls.csv",
        "--by",
        "cargo",
        "--out",
        "p",
        "--ledger",
        "p/l/books.json",
    ];
    let said = bench.run(&[&words[..], &["-q"]].concat());
    assert_eq!(said, "--- code 0");
    assert!(bench.files().contains(&"p/l/books.json".to_owned()));
    // And where the run fails, neither is there.
    let failing = [
        "split",
        "calls.csv",
        "--name",
        "{remarks:month}.csv",
        "--out",
        "q",
    ];
    let said = bench.run(&[&failing[..], &["--ledger", "q/l/books.json"]].concat());
    assert!(said.ends_with("--- code 1"), "{said}");
    assert!(!bench.path("q").exists());
}

#[test]
fn an_extension_that_states_no_format_is_kept_with_the_dialect() {
    let bench = Bench::new();
    bench.write("calls.dat", b"quay;n\r\n\xc5ngkajen;1\r\n");
    assert_eq!(
        bench.run(&["split", "calls.dat", "--by", "quay", "-q"]),
        "--- code 0"
    );
    let part = std::fs::read(bench.path("calls/Ångkajen.dat")).expect("there");
    assert_eq!(part, b"quay;n\r\n\xc5ngkajen;1\r\n");
    let tabs = [
        "split",
        "calls.dat",
        "--name",
        "{quay}.tsv",
        "--out",
        "tabs",
        "-q",
    ];
    assert_eq!(bench.run(&tabs), "--- code 0");
    let part = std::fs::read(bench.path("tabs/Ångkajen.tsv")).expect("there");
    assert_eq!(part, b"quay\tn\r\n\xc5ngkajen\t1\r\n", "but .tsv says tabs");
}

#[test]
fn values_lead_out_of_the_folder_only_where_that_is_allowed() {
    let bench = Bench::new();
    let folder = |name: &str| bench.path(name).display().to_string();
    let table = format!(
        "quay,folder\nOst,{}\nWest,west\nNord,{}\n",
        folder("share/ost office"),
        folder("out/nord"),
    );
    bench.write("folders.csv", table);
    bench.write("calls.csv", "quay,dues\nOst,1\nWest,2\nNord,3\n");
    let mut words = vec![
        "split",
        "calls.csv",
        "--lookup",
        "folders.csv:quay",
        "--drop",
        "folder",
        "--out",
        "out",
        "--name",
        "{folder:folders}/{quay}.csv",
    ];
    bench.run(&[&words[..], &["--plan"]].concat());
    assert_eq!(bench.files(), ["calls.csv", "folders.csv"]);
    words.push("--allow-absolute");
    bench.run(&[&words[..], &["--ledger", "ledger.json"]].concat());
    assert_eq!(
        bench.files(),
        [
            "calls.csv",
            "folders.csv",
            "ledger.json",
            "out/nord/Nord.csv",
            "out/west/West.csv",
            "share/ost office/Ost.csv",
        ]
    );
    assert_eq!(bench.read("share/ost office/Ost.csv"), "quay,dues\nOst,1\n");
    let verified = bench.run(&["verify", "ledger.json"]);
    assert!(verified.contains("every file is unchanged"), "{verified}");
    // What exists is refused there, too, and a source is never replaced.
    let refused = bench.run(&words);
    assert!(
        refused.contains("3 of the outputs exist already"),
        "{refused}"
    );
    let table = format!("quay,folder\nOst,{}\nWest,west\nNord,nord\n", folder(""));
    bench.write("folders.csv", table);
    let onto_source = [
        "--name",
        "{folder:folders}/calls.csv",
        "--existing",
        "replace",
    ];
    let refused = bench.run(&[&words[..8], &["--allow-absolute"], &onto_source].concat());
    assert!(
        refused.contains("a source is never written to"),
        "{refused}"
    );
    assert_eq!(
        bench.read("calls.csv"),
        "quay,dues\nOst,1\nWest,2\nNord,3\n"
    );
}

#[test]
fn a_page_shows_the_run() {
    let bench = Bench::with_calls();
    let words = [
        "split",
        "calls.csv",
        "--by",
        "quay",
        "--where",
        "cargo <> '<coal>' AND dues > 1",
        "--total",
        "dues",
        "--page",
        "pages/run.html",
        "--out",
        "a b",
    ];
    bench.run(&words);
    let page = bench.read("pages/run.html");
    for part in [
        "calls.csv: 5 records → 3 files",
        "<b>5</b>read",
        "<b>1</b>left out",
        "<b>4</b>written",
        "<b>balanced</b>",
        "1 record filtered out by: cargo &lt;&gt; '&lt;coal&gt;' AND dues &gt; 1",
        "href=\"./../a%20b/%C3%85ngkajen.csv\"",
        "31.40",
    ] {
        assert!(page.contains(part), "{part}\n{page}");
    }
    assert!(
        !page.contains("src=") && !page.contains("http"),
        "nothing is fetched"
    );
    // A page of a run gives way to the next one, and no other file does.
    bench.run(&[&words[..], &["--existing", "replace"]].concat());
    let refused = bench.run(&[
        "split",
        "calls.csv",
        "--by",
        "quay",
        "--page",
        "calls.csv",
        "--out",
        "b",
    ]);
    assert!(
        refused.contains("it exists and is not a page of Numerant"),
        "{refused}"
    );
    assert!(!bench.files().iter().any(|file| file.starts_with("b/")));
    let refused = bench.run(&[
        "split",
        "calls.csv",
        "--by",
        "quay",
        "--page",
        "c/North.csv",
        "--out",
        "c",
    ]);
    assert!(
        refused.contains("c/North.csv is named twice: as an output and as the page of the run"),
        "{refused}"
    );
    assert!(!bench.files().iter().any(|file| file.starts_with("c/")));
}

#[test]
fn a_document_that_takes_too_much_memory_is_refused() {
    let bench = Bench::new();
    let records: String = (0..500).map(|id| format!("{id},North,coal\n")).collect();
    bench.write("calls.csv", format!("id,quay,cargo\n{records}"));
    let words = [
        "split",
        "calls.csv",
        "--name",
        "{quay}.pdf",
        "--memory",
        "1M",
    ];
    let refused = bench.run(&words);
    assert!(
        refused.contains("North.pdf: the document would take about 2M of memory until it is written, and may take 1M"),
        "{refused}"
    );
    assert_eq!(bench.files(), ["calls.csv"]);
    let written = bench.run(&[&words[..5], &["4M"]].concat());
    assert!(written.contains("balanced"), "{written}");
}

#[test]
fn the_day_of_the_run_can_stand_in_the_output_folder() {
    let bench = Bench::with_calls();
    let done = bench.run(&["split", "calls.csv", "--by", "quay", "--out", "out/{.date}"]);
    assert!(done.contains("balanced"), "{done}");
    let files = bench.files();
    let day = |file: &String| file.starts_with("out/20") && file.ends_with("/North.csv");
    assert!(files.iter().any(day), "{files:?}");
    assert!(!files.iter().any(|file| file.contains('{')), "{files:?}");
}
