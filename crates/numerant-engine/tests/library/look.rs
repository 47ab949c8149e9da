//! Workbooks that keep their look: sheets taken apart and gathered, rows cut, templates filled. The books
//! in `books/` are made by `tools/make_books.py` with two independent writers.

pub(crate) use std::collections::{BTreeMap, HashSet};
use std::fs::File;
use std::io::Read;
use std::path::{Path, PathBuf};

use crate::support::{Folder, context};
use calamine::{Data, Reader, Xlsx};
use numerant_engine::job::{Formulas, Gathering, Job};
use numerant_engine::{Error, Notice, Refusal, Summary, run};
use numerant_format::{FillOptions, Incomplete, Occupied};
use numerant_naming::parse_keys;
use numerant_sheets::{Extracted, TemplateProblem};

/// A workbook of the folder `books`.
fn book(name: &str) -> PathBuf {
    Path::new(env!("CARGO_MANIFEST_DIR"))
        .join("tests/books")
        .join(name)
}

/// All parts of a package.
fn parts(path: &Path) -> BTreeMap<String, Vec<u8>> {
    let mut archive = zip::ZipArchive::new(File::open(path).expect("a file")).expect("a package");
    let mut parts = BTreeMap::new();
    for place in 0..archive.len() {
        let mut part = archive.by_index(place).expect("a part");
        let mut bytes = Vec::new();
        part.read_to_end(&mut bytes).expect("unpacked");
        let name = part.name().expect("a name").into_owned();
        assert!(
            parts.insert(name.clone(), bytes).is_none(),
            "{name} is there twice"
        );
    }
    parts
}

fn text(parts: &BTreeMap<String, Vec<u8>>, name: &str) -> String {
    let bytes = parts
        .get(name)
        .unwrap_or_else(|| panic!("no {name} in {:?}", parts.keys()));
    String::from_utf8(bytes.clone()).expect("text")
}

/// The values of an attribute, wherever it stands.
fn values(text: &str, attribute: &str) -> Vec<String> {
    let key = format!(" {attribute}=\"");
    let pieces = text.split(&key).skip(1);
    pieces
        .map(|piece| piece.split('"').next().unwrap_or_default().to_owned())
        .collect()
}

/// Checks that a package holds together: every relation leads to a part, every part has a type, nothing
/// has a type that is not there, and all XML is well formed. Its parts.
fn sound(path: &Path) -> BTreeMap<String, Vec<u8>> {
    crate::support::assert_narrow(path);
    let parts = parts(path);
    let names: HashSet<String> = parts.keys().map(|name| name.to_lowercase()).collect();
    let types = text(&parts, "[Content_Types].xml");
    let typed: Vec<String> = values(&types, "PartName")
        .iter()
        .map(|name| name[1..].to_lowercase())
        .collect();
    let endings: Vec<String> = values(&types, "Extension")
        .iter()
        .map(|end| end.to_lowercase())
        .collect();
    for name in &typed {
        assert!(
            names.contains(name),
            "{}: a type for {name}, which is not there",
            path.display()
        );
    }
    for (name, bytes) in &parts {
        let ending = name.rsplit('.').next().unwrap_or_default().to_lowercase();
        let has_type = typed.contains(&name.to_lowercase()) || endings.contains(&ending);
        assert!(
            has_type || name == "[Content_Types].xml",
            "{name} has no type"
        );
        if !["xml", "rels", "vml"].contains(&ending.as_str()) {
            continue;
        }
        let mut reader = quick_xml::Reader::from_reader(bytes.as_slice());
        loop {
            match reader.read_event() {
                Ok(quick_xml::events::Event::Eof) => break,
                Ok(_) => {}
                Err(error) => panic!("{name}: {error}"),
            }
        }
        if ending != "rels" {
            continue;
        }
        let folder = Path::new(name)
            .parent()
            .and_then(Path::parent)
            .expect("a folder");
        for relation in String::from_utf8_lossy(bytes)
            .split("<Relationship ")
            .skip(1)
        {
            let relation = format!(" {relation}");
            if values(&relation, "TargetMode").contains(&"External".to_owned()) {
                continue;
            }
            let target = &values(&relation, "Target")[0];
            let mut place: Vec<String> = Vec::new();
            let whole = match target.strip_prefix('/') {
                Some(absolute) => PathBuf::from(absolute),
                None => folder.join(target),
            };
            for piece in &whole {
                match piece.to_str().expect("text") {
                    ".." => drop(place.pop()),
                    piece => place.push(piece.to_lowercase()),
                }
            }
            assert!(names.contains(&place.join("/")), "{name} leads to {target}");
        }
    }
    parts
}

/// The values of a sheet as another reader sees them, rows from the first with anything in it.
fn cells(path: &Path, sheet: &str) -> Vec<Vec<String>> {
    let mut book: Xlsx<_> = calamine::open_workbook(path).expect("a workbook");
    let range = book.worksheet_range(sheet).expect("a sheet");
    let shown = |cell: &Data| match cell {
        Data::Float(number) => number.to_string(),
        cell => cell.to_string(),
    };
    range
        .rows()
        .map(|row| row.iter().map(shown).collect())
        .collect()
}

/// The formulas of a sheet, row by row.
fn formulas(path: &Path, sheet: &str) -> Vec<String> {
    let mut book: Xlsx<_> = calamine::open_workbook(path).expect("a workbook");
    let range = book.worksheet_formula(sheet).expect("a sheet");
    let cells = range.used_cells().map(|(_, _, formula)| formula.clone());
    cells.filter(|formula| !formula.is_empty()).collect()
}

fn sheets(path: &Path) -> Vec<String> {
    let book: Xlsx<_> = calamine::open_workbook(path).expect("a workbook");
    book.sheet_names()
}

/// What is reported of an output.
fn extracted(summary: &Summary, output: &str) -> Extracted {
    let of = |notice: &Notice| match notice {
        Notice::Extracted { path, what } if path == output => Some(what.clone()),
        _ => None,
    };
    summary.notices.iter().find_map(of).unwrap_or_default()
}

fn done(job: &Job) -> Summary {
    let summary = run(job, &context()).expect("done");
    assert!(summary.ledger.balanced);
    summary
}

fn per_sheet(source: &str, folder: &Folder) -> Job {
    Job {
        sources: vec![book(source).into()],
        per_sheet: true,
        out: Some(folder.path("out")),
        ..Job::default()
    }
}

#[test]
fn a_sheet_by_itself_is_what_it_was() {
    let folder = Folder::with(&[]);
    let summary = done(&per_sheet("port.xlsx", &folder));
    let source = parts(&book("port.xlsx"));
    let calls = sound(&folder.path("out/Calls 2026.xlsx"));
    for untouched in [
        "xl/styles.xml",
        "xl/theme/theme1.xml",
        "xl/comments1.xml",
        "xl/drawings/vmlDrawing1.vml",
        "xl/drawings/drawing1.xml",
        "xl/media/image1.png",
        "xl/worksheets/_rels/sheet2.xml.rels",
        "docProps/core.xml",
    ] {
        assert_eq!(calls[untouched], source[untouched], "{untouched}");
    }
    let workbook = text(&calls, "xl/workbook.xml");
    assert!(
        workbook.contains("_xlnm.Print_Titles") && !workbook.contains("rate_table"),
        "{workbook}"
    );
    let sheet = text(&calls, "xl/worksheets/sheet2.xml");
    assert!(
        sheet.contains("<f>ROUND(D5*0.8,2)</f>") && !sheet.contains("VLOOKUP"),
        "{sheet}"
    );
    assert!(sheet.contains("<formula1>#REF!</formula1>") && sheet.contains("<v>250.0</v>"));
    let what = extracted(&summary, "Calls 2026.xlsx");
    assert_eq!(
        (what.formulas, what.without_value, what.rules, what.names),
        (12, 0, 2, 1)
    );
    // Texts of other sheets do not travel along.
    assert!(!text(&calls, "xl/sharedStrings.xml").contains("harbour master"));
    assert_eq!(
        cells(&folder.path("out/Calls 2026.xlsx"), "Calls 2026"),
        cells(&book("port.xlsx"), "Calls 2026")
    );
    let rates = sound(&folder.path("out/Rates.xlsx"));
    assert_eq!(
        rates["xl/worksheets/sheet1.xml"],
        source["xl/worksheets/sheet1.xml"]
    );
    assert!(
        !rates.contains_key("xl/media/image1.png") && !rates.contains_key("xl/charts/chart1.xml")
    );
    let summary_sheet = sound(&folder.path("out/Summary.xlsx"));
    let chart = text(&summary_sheet, "xl/charts/chart1.xml");
    assert!(
        chart.contains("<c:f>#REF!</c:f>") && chart.contains("Summary!$B$2:$B$3"),
        "{chart}"
    );
}

#[test]
fn chosen_sheets_go_together_with_the_formulas_between_them() {
    let folder = Folder::with(&[]);
    let mut job = per_sheet("port.xlsx", &folder);
    job.read.read_sheet = vec!["Rates".to_owned().into(), "Calls 2026".to_owned().into()];
    job.name = Some("both.xlsx".parse().expect("a template"));
    let summary = done(&job);
    let both = folder.path("out/both.xlsx");
    sound(&both);
    assert_eq!(sheets(&both), ["Rates", "Calls 2026"]);
    assert_eq!(
        formulas(&both, "Calls 2026"),
        formulas(&book("port.xlsx"), "Calls 2026")
    );
    assert_eq!(extracted(&summary, "both.xlsx"), Extracted::default());
    job.formulas = Formulas::Values;
    job.name = Some("values.xlsx".parse().expect("a template"));
    let summary = done(&job);
    assert_eq!(extracted(&summary, "values.xlsx").formulas, 24);
    let values = folder.path("out/values.xlsx");
    assert!(formulas(&values, "Calls 2026").is_empty());
    assert_eq!(cells(&values, "Calls 2026"), cells(&both, "Calls 2026"));
}

#[test]
fn macros_stay_only_where_a_file_may_have_them() {
    let folder = Folder::with(&[]);
    let mut job = per_sheet("call.xlsm", &folder);
    job.read.read_sheet = vec!["Rates".to_owned().into()];
    for (name, kept) in [("a.xlsm", true), ("a.xlsx", false)] {
        job.name = Some(name.parse().expect("a template"));
        let summary = done(&job);
        let found = sound(&folder.path("out").join(name));
        assert_eq!(found.contains_key("xl/vbaProject.bin"), kept, "{name}");
        assert_eq!(
            text(&found, "[Content_Types].xml").contains("macroEnabled"),
            kept,
            "{name}"
        );
        assert_eq!(extracted(&summary, name).macros, !kept);
    }
}

#[test]
fn workbooks_are_gathered_with_their_look() {
    let folder = Folder::with(&[]);
    let gather = |sources: &[PathBuf], name: &str| Job {
        sources: sources.iter().cloned().map(Into::into).collect(),
        gathering: Gathering::Sheets,
        name: Some(name.parse().expect("a template")),
        out: Some(folder.path("out")),
        ..Job::default()
    };
    let summary = done(&gather(
        &[book("port.xlsx"), book("tariff.xlsx")],
        "all.xlsx",
    ));
    let all = folder.path("out/all.xlsx");
    let found = sound(&all);
    let expected = [
        "port Rates",
        "Calls 2026",
        "Summary",
        "Notes",
        "tariff Rates",
        "Offers",
    ];
    assert_eq!(sheets(&all), expected);
    for (source, sheet, now) in [
        ("port.xlsx", "Rates", "port Rates"),
        ("port.xlsx", "Calls 2026", "Calls 2026"),
        ("tariff.xlsx", "Rates", "tariff Rates"),
        ("tariff.xlsx", "Offers", "Offers"),
    ] {
        assert_eq!(cells(&all, now), cells(&book(source), sheet), "{now}");
    }
    assert!(formulas(&all, "Calls 2026")[0].contains("VLOOKUP(B5,'port Rates'!$A$2:$B$4,2,0)"));
    assert!(formulas(&all, "Offers").contains(&"'tariff Rates'!B3*2".to_owned()));
    assert!(
        formulas(&all, "Offers")
            .iter()
            .any(|formula| formula.contains("rate_table_2"))
    );
    assert_eq!(
        extracted(&summary, "all.xlsx").renamed,
        [("rate_table".to_owned(), "rate_table_2".to_owned())]
    );
    let workbook = text(&found, "xl/workbook.xml");
    assert!(workbook.contains("state=\"hidden\"") && workbook.contains("'tariff Rates'!$A$2:$B$4"));
    assert!(text(&found, "xl/charts/chart2.xml").contains("'tariff Rates'!"));
    // Three of one kind: their styles are there once.
    let styles = |path: &Path| values(&text(&sound(path), "xl/styles.xml"), "xfId").len();
    let copy = folder.path("again.xlsx");
    std::fs::copy(book("tariff.xlsx"), &copy).expect("copied");
    done(&gather(&[book("tariff.xlsx"), copy], "twice.xlsx"));
    let twice = folder.path("out/twice.xlsx");
    assert_eq!(styles(&twice), styles(&book("tariff.xlsx")));
    let tables = |name: &str| values(&text(&sound(&twice), name), "displayName");
    assert_eq!(
        (
            tables("xl/tables/table1.xml"),
            tables("xl/tables/table2.xml")
        ),
        (vec!["Tariff".to_owned()], vec!["Tariff_2".to_owned()])
    );
    assert!(formulas(&twice, "again Offers").contains(&"MAX(Tariff_2[rate])".to_owned()));
    // What has no sheets becomes some.
    folder.write("owners.csv", "quay,office\nNorth Quay,007\n");
    let summary = done(&gather(
        &[book("port.xlsx"), folder.path("owners.csv")],
        "mixed.xlsx",
    ));
    let mixed = folder.path("out/mixed.xlsx");
    sound(&mixed);
    assert_eq!(cells(&mixed, "owners")[1], ["North Quay", "007"]);
    assert_eq!(summary.ledger.totals.read, summary.ledger.totals.written);
}

#[test]
fn rows_are_cut_with_all_that_is_theirs_and_nothing_of_others() {
    let folder = Folder::with(&[]);
    let mut job = Job {
        sources: vec![book("port.xlsx").into()],
        by: parse_keys("quay").expect("a key"),
        like_source: true,
        out: Some(folder.path("out")),
        ..Job::default()
    };
    job.read.read_sheet = vec!["Calls 2026".to_owned().into()];
    job.read.skip_lines = 2;
    done(&job);
    let whole = cells(&book("port.xlsx"), "Calls 2026");
    for (quay, others) in [
        ("North Quay", ["C0002", "C0003", "Grain Pier", "moved from"]),
        (
            "Grain Pier",
            ["C0001", "C0003", "North Quay", "varnholm.example"],
        ),
        (
            "Fish Dock",
            ["C0001", "C0002", "North Quay", "weighed twice"],
        ),
    ] {
        let path = folder.path(&format!("out/{quay}.xlsx"));
        let found = sound(&path);
        let is_own = |row: &&Vec<String>| row[1] == quay;
        let mut expected = whole[..4].to_vec();
        expected.extend(whole[4..].iter().filter(is_own).cloned());
        assert_eq!(cells(&path, "Calls 2026"), expected, "{quay}");
        for (name, bytes) in &found {
            let part = String::from_utf8_lossy(bytes);
            for other in others {
                assert!(!part.contains(other), "{quay}: {name} holds {other}");
            }
        }
        let sheet = text(&found, "xl/worksheets/sheet2.xml");
        for kept in [
            "<mergeCell ref=\"A1:F1\"/>",
            "<autoFilter ref=\"A4:F8\"/>",
            "sqref=\"D5:D8\"",
            "ySplit=\"4\"",
            "ROUND(D8*0.8,2)",
            "orientation=\"landscape\"",
        ] {
            assert!(sheet.contains(kept), "{quay}: {kept} in {sheet}");
        }
        let workbook = text(&found, "xl/workbook.xml");
        assert!(
            workbook.contains("'Calls 2026'!$A$1:$F$8") && workbook.contains("'Calls 2026'!$4:$4")
        );
    }
    let pier = sound(&folder.path("out/Grain Pier.xlsx"));
    assert_eq!(
        values(&text(&pier, "xl/comments1.xml"), "ref"),
        ["B5", "D7"]
    );
    let shapes = text(&pier, "xl/drawings/vmlDrawing1.vml");
    assert!(shapes.contains("<x:Row>4</x:Row>") && shapes.contains("<x:Row>6</x:Row>"));
    assert!(text(&pier, "xl/worksheets/sheet2.xml").contains("customHeight=\"1\""));
    let dock = sound(&folder.path("out/Fish Dock.xlsx"));
    assert!(text(&dock, "xl/worksheets/_rels/sheet2.xml.rels").contains("varnholm.example/C0003"));
    assert!(text(&dock, "xl/worksheets/sheet2.xml").contains("<hyperlink ref=\"A5\""));
}

/// A template with a title, a formula, a named cell and a row with styles, and what is put into it.
fn fill(folder: &Folder, put: &[&str]) -> Job {
    for (name, text) in [
        (
            "V01_level.tsv",
            "time\tlevel\n2026-03-01 00:00\t1.50\n2026-03-01 01:00\t2.25\n",
        ),
        (
            "V01_salinity.tsv",
            "time\tpsu\tnote\n2026-03-01 00:00\t28.5\t007\n",
        ),
        ("V02_level.tsv", "time\tlevel\n2026-03-01 00:00\t0.75\n"),
        (
            "V02_salinity.tsv",
            "time\tpsu\tnote\n2026-03-01 00:00\t29.5\t<b>\n",
        ),
    ] {
        folder.write(&format!("in/{name}"), text);
    }
    let report = Path::new(env!("CARGO_MANIFEST_DIR")).join("../numerant/src/demo/report.xlsx");
    Job {
        sources: vec![folder.path("in").into()],
        from_name: Some("{station}_{kind}.tsv".parse().expect("a pattern")),
        name: Some("{station} report.xlsx".parse().expect("a template")),
        out: Some(folder.path("out")),
        fill: FillOptions {
            template: Some(report),
            put: put.iter().map(|put| put.parse().expect("a put")).collect(),
            ..FillOptions::default()
        },
        ..Job::default()
    }
}

const LEVEL: &str = "Level!A6={.records:*_level.tsv}";
const SALINITY: &str = "Salinity!A6={.records:*_salinity.tsv}";

#[test]
fn templates_are_filled_and_all_else_stays() {
    let folder = Folder::with(&[]);
    let mut job = fill(
        &folder,
        &[LEVEL, SALINITY, "Station={station}", "Summary!B5={.rows}"],
    );
    job.fill.style_down = true;
    let summary = done(&job);
    assert_eq!(summary.ledger.totals.written, 5);
    let template = job.fill.template.clone().expect("a template");
    let (before, path) = (parts(&template), folder.path("out/V01 report.xlsx"));
    let after = sound(&path);
    let changed: Vec<&String> = after
        .keys()
        .filter(|name| before.get(*name) != after.get(*name))
        .collect();
    assert_eq!(
        changed,
        [
            "xl/styles.xml",
            "xl/worksheets/sheet1.xml",
            "xl/worksheets/sheet2.xml",
            "xl/worksheets/sheet3.xml"
        ]
    );
    assert!(text(&after, "xl/workbook.xml").contains("fullCalcOnLoad=\"1\""));
    let level = cells(&path, "Level");
    assert_eq!(level[4][..2], ["measured", "water level, m"]);
    assert_eq!(
        (level[5][1].as_str(), level[6][1].as_str(), level.len()),
        ("1.5", "2.25", 7)
    );
    assert!(text(&after, "xl/worksheets/sheet2.xml").contains("<dimension ref=\"A1:C7\"/>"));
    // The second row looks as the first, which the template has styled.
    let sheet = text(&after, "xl/worksheets/sheet2.xml");
    let style = |cell: &str| {
        let at = sheet
            .find(&format!("<c r=\"{cell}\""))
            .unwrap_or_else(|| panic!("{cell}"));
        values(&sheet[at..at + 40], "s").first().cloned()
    };
    assert_eq!((style("A7"), style("B7")), (style("A6"), style("B6")));
    assert_eq!(cells(&path, "Salinity")[5][1..], ["28.5", "007"]);
    let summary_sheet = cells(&path, "Summary");
    assert_eq!(
        (summary_sheet[2][1].as_str(), summary_sheet[4][1].as_str()),
        ("V01", "3")
    );
    assert_eq!(formulas(&path, "Summary"), formulas(&template, "Summary"));
    assert_eq!(
        cells(&folder.path("out/V02 report.xlsx"), "Salinity")[5][2],
        "<b>"
    );
    // Without styles of its own a date is shown as one.
    job.fill.style_down = false;
    job.fill.put = vec![
        "Level!E3={.table:*_level.tsv}".parse().expect("a put"),
        SALINITY.parse().expect("a put"),
    ];
    job.out = Some(folder.path("plain"));
    done(&job);
    let plain = sound(&folder.path("plain/V01 report.xlsx"));
    assert!(text(&plain, "xl/styles.xml").contains("formatCode=\"yyyy-mm-dd hh:mm\""));
    assert_eq!(
        cells(&folder.path("plain/V01 report.xlsx"), "Level")[2][4..],
        ["time", "level"]
    );
}

#[test]
fn records_of_one_file_fill_tables_by_case_and_forms_by_value() {
    let folder = Folder::with(&[(
        "calls.csv",
        "call,quay,dues\nC1,North,10\nC2,South,20.50\nC3,North,30\n",
    )]);
    let mut job = fill(
        &folder,
        &[
            "Level!A6={.records:large}",
            "Salinity!A6={.records:small}",
            "Station={quay}",
        ],
    );
    job.sources = vec![folder.path("calls.csv").into()];
    job.from_name = None;
    job.name = Some("{quay}.xlsx".parse().expect("a template"));
    job.case = vec![numerant_steps::Case {
        name: "large".to_owned(),
        when: "dues > 15".parse().expect("an expression"),
    }];
    job.others = Some("small".to_owned());
    job.fill.incomplete = Incomplete::Fill;
    let summary = done(&job);
    assert!(
        summary
            .notices
            .iter()
            .any(|notice| matches!(notice, Notice::Incomplete(copies) if copies.len() == 1))
    );
    assert_eq!(
        cells(&folder.path("out/North.xlsx"), "Level")[5],
        ["C3", "North", "30"]
    );
    assert_eq!(
        cells(&folder.path("out/North.xlsx"), "Salinity")[5],
        ["C1", "North", "10"]
    );
    job.fill.incomplete = Incomplete::Skip;
    job.out = Some(folder.path("skip"));
    let summary = done(&job);
    assert_eq!(
        (
            summary.ledger.totals.written,
            summary.ledger.totals.left_out
        ),
        (2, 1)
    );
    assert!(!folder.path("skip/South.xlsx").exists());
    // A form for each record, of values alone; several records are no one's values.
    job.case.clear();
    job.others = None;
    job.fill.put = vec![
        "Station={call}".parse().expect("a put"),
        "Summary!B5={dues}".parse().expect("a put"),
    ];
    job.name = Some("{call}.xlsx".parse().expect("a template"));
    job.out = Some(folder.path("forms"));
    done(&job);
    assert_eq!(
        cells(&folder.path("forms/C2.xlsx"), "Summary")[4][1],
        "20.5"
    );
    job.fill.put = vec!["Station={quay}".parse().expect("a put")];
    job.name = Some("{quay}.xlsx".parse().expect("a template"));
    job.out = Some(folder.path("none"));
    assert!(matches!(
        problem(&job),
        TemplateProblem::OnlyValues { records: 2 }
    ));
    assert!(!folder.path("none").exists());
}

/// What is wrong with a template and what is to be put into it.
fn problem(job: &Job) -> TemplateProblem {
    match run(job, &context()).expect_err("a problem") {
        Error::Form { problem, .. } => *problem,
        other => panic!("{other:?}"),
    }
}

#[test]
fn what_does_not_fit_a_template_is_refused() {
    let folder = Folder::with(&[]);
    let wrong = |put: &[&str]| problem(&fill(&folder, put));
    let said = |put: &[&str]| wrong(put).to_string();
    assert!(said(&["Lvel!A6={.records}"]).contains("did you mean 'Level'"));
    assert!(said(&["Statoin={station}", LEVEL, SALINITY]).contains("did you mean 'Station'"));
    assert!(said(&["Level!XFE1={.records}"]).contains("outside"));
    assert!(matches!(
        wrong(&[LEVEL]),
        TemplateProblem::NoTable { count: 2, .. }
    ));
    assert!(matches!(
        wrong(&[LEVEL, "Salinity!A6={.records:*.tsv}"]),
        TemplateProblem::TwoTables { .. }
    ));
    let occupied = wrong(&["Level!A5={.records:*_level.tsv}", SALINITY]);
    assert!(
        occupied.to_string().contains("Level!A5, Level!B5"),
        "{occupied}"
    );
    let mut job = fill(&folder, &["Level!A5={.records:*_level.tsv}", SALINITY]);
    job.fill.occupied = Occupied::Replace;
    job.out = Some(folder.path("replaced"));
    done(&job);
    assert!(matches!(
        wrong(&[LEVEL, "Level!B7={.records:*_salinity.tsv}"]),
        TemplateProblem::Overlap { .. }
    ));
    assert!(matches!(
        wrong(&["Level!B1={.records:*_level.tsv}", SALINITY]),
        TemplateProblem::Merged { .. }
    ));
    assert!(matches!(
        wrong(&["Level!A1048576={.records:*_level.tsv}", SALINITY]),
        TemplateProblem::TooManyRecords { records: 2, .. }
    ));
    assert!(matches!(
        wrong(&["Summary!B7={station}", LEVEL, SALINITY]),
        TemplateProblem::Occupied { count: 1, .. }
    ));
    std::fs::remove_file(folder.path("in/V02_salinity.tsv")).expect("removed");
    let mut job = fill(&folder, &[LEVEL, SALINITY]);
    std::fs::remove_file(folder.path("in/V02_salinity.tsv")).expect("removed");
    job.out = Some(folder.path("lacking"));
    match run(&job, &context()).expect_err("lacks a table") {
        Error::Refused(Refusal::Incomplete { copies }) => {
            assert_eq!(
                copies,
                [("V02 report.xlsx".to_owned(), vec!["Salinity!A6".to_owned()])]
            );
        }
        other => panic!("{other:?}"),
    }
    job.fill.template = Some(folder.path("in/V01_level.tsv"));
    assert_eq!(problem(&job), TemplateProblem::OtherFormat);
}
