//! Workbooks: what is written comes back, by our own readers and by another, and what others write
//! is read as it is.

use std::fs;
use std::io::Write;
use std::path::{Path, PathBuf};

use calamine::{Data, Reader};
use numerant_data::source::SourcePath;
use numerant_data::value::ColumnType;
use numerant_engine::job::{Job, Overflow};
use numerant_engine::{Error, Notice, Refusal, inspect, run};
use numerant_format::sheet::Types;
use numerant_steps::Step;
use proptest::prelude::*;
use zip::write::SimpleFileOptions;

use crate::support::{context, convert, job, package};

/// A value as RFC 4180 has it, quoted only where it must be.
fn quoted(value: &str) -> String {
    if value.contains([',', '"', '\n', '\r']) {
        format!("\"{}\"", value.replace('"', "\"\""))
    } else {
        value.to_owned()
    }
}

fn delimited(rows: &[Vec<String>]) -> String {
    let line = |row: &Vec<String>| {
        let fields: Vec<String> = row.iter().map(|value| quoted(value)).collect();
        fields.join(",") + "\n"
    };
    rows.iter().map(line).collect()
}

/// Values that a workbook might take for something else, or that it has no easy place for.
fn hostile() -> impl Strategy<Value = String> {
    prop_oneof![
        4 => "[ -~]{0,12}",
        2 => "[a-zÅßø🚢\n\t_x0041&<>'\"]{0,8}",
        3 => "-?[0-9]{1,17}",
        3 => "-?[0-9]{1,6}\\.[0-9]{1,4}",
        2 => "(19|20)[0-9]{2}-[01][0-9]-[0-3][0-9]",
        2 => "2026-0[1-9]-1[0-9][ T][0-2][0-9]:[0-5][0-9](:[0-5][0-9](\\.[0-9]{1,3})?)?",
        1 => "[0-9]{2,3}:[0-5][0-9](:[0-5][0-9])?",
        1 => prop_oneof![
            Just("007"), Just("1E5"), Just("=1+1"), Just("+47"), Just("TRUE"), Just("true"),
            Just("False"), Just("1.10"), Just("-0"), Just("#N/A"), Just(" padded "), Just("'quoted"),
            Just("_x000D_"), Just("1900-02-29"), Just("0.30000000000000004"), Just("@sum")
        ].prop_map(str::to_owned),
    ]
}

/// A column: values of all kinds, or all of one.
fn column() -> impl Strategy<Value = Vec<String>> {
    prop_oneof![
        2 => proptest::collection::vec(hostile(), 12),
        1 => proptest::collection::vec("[0-9]{1,9}", 12),
        1 => proptest::collection::vec("-?[1-9][0-9]{0,6}\\.[0-9]{2}", 12),
        1 => proptest::collection::vec("2026-0[1-9]-1[0-9]", 12),
        1 => proptest::collection::vec("2026-0[1-9]-1[0-9] [01][0-9]:[0-5][0-9]", 12),
        1 => proptest::collection::vec("(TRUE|FALSE)", 12),
    ]
}

proptest! {
    #![proptest_config(ProptestConfig { cases: 60, ..ProptestConfig::default() })]
    #[test]
    fn what_is_written_comes_back_from_every_format(
        columns in proptest::collection::vec(column(), 1..5),
        rows in 1_usize..12,
        extension in prop_oneof![Just("xlsx"), Just("ods"), Just("xls")],
    ) {
        let folder = tempfile::tempdir().expect("a folder");
        let mut table: Vec<Vec<String>> = vec![
            (0..columns.len()).map(|column| format!("column {column}")).collect()
        ];
        for row in 0..rows {
            let values: Vec<String> = columns.iter().map(|column| column[row].clone()).collect();
            // A row without any value is no record.
            if values.iter().any(|value| !value.is_empty()) {
                table.push(values);
            }
        }
        prop_assume!(table.len() > 1);
        let text = delimited(&table);
        let source = folder.path().join("table.csv");
        fs::write(&source, &text).expect("written");
        let (book, _) = convert(&source, &format!("book.{extension}"), folder.path());
        let (back, _) = convert(&book, "back.csv", folder.path());
        let found = fs::read_to_string(back).expect("readable");
        prop_assert_eq!(found, text, "{}", extension);
    }
}

#[test]
fn cells_have_the_types_that_another_reader_sees() {
    let folder = tempfile::tempdir().expect("a folder");
    let source = folder.path().join("calls.csv");
    let text = "call,dues,arrived,left,pilot,berth,share\n\
                007,12.30,2026-03-05,2026-03-05 14:20,TRUE,1,0.5\n\
                1E5,7.00,2026-12-31,2026-01-01 00:00,FALSE,B2,0.25\n";
    fs::write(&source, text).expect("written");
    for extension in ["xlsx", "ods", "xls"] {
        let (book, summary) = convert(&source, &format!("book.{extension}"), folder.path());
        let types: Vec<&str> = summary
            .ledger
            .types
            .iter()
            .map(|column| column.written_as.as_str())
            .collect();
        assert_eq!(
            types,
            [
                "text", "number", "date", "datetime", "boolean", "text", "number"
            ]
        );
        let mut other = calamine::open_workbook_auto(&book).expect("a workbook");
        let range = other.worksheet_range("calls").expect("a sheet");
        let row: Vec<&Data> = range.rows().nth(1).expect("a row").iter().collect();
        assert_eq!(*row[0], Data::String("007".into()), "{extension}");
        assert_eq!(*row[1], Data::Float(12.3));
        match row[2] {
            Data::DateTime(date) => assert_eq!(date.as_f64(), 46_086.0),
            Data::DateTimeIso(date) => assert_eq!(date, "2026-03-05"),
            other => panic!("{extension}: {other:?}"),
        }
        match row[3] {
            Data::DateTime(date) => assert!((date.as_f64() - 46_086.597_222).abs() < 1e-5),
            Data::DateTimeIso(date) => assert_eq!(date, "2026-03-05T14:20:00"),
            other => panic!("{extension}: {other:?}"),
        }
        assert_eq!(*row[4], Data::Bool(true));
        assert_eq!(
            *row[5],
            Data::String("1".into()),
            "a mixed column stays text"
        );
        assert_eq!(*row[6], Data::Float(0.5));
    }
    let off = Job {
        write: numerant_format::WriteOptions {
            types: Types::Off,
            ..Default::default()
        },
        ..job(&source, "off.xlsx", folder.path())
    };
    let summary = run(&off, &context()).expect("written");
    assert!(
        summary
            .ledger
            .types
            .iter()
            .all(|column| column.written_as == "text")
    );
}

#[test]
fn declared_types_decide_and_a_reason_is_given_for_text() {
    let folder = tempfile::tempdir().expect("a folder");
    let source = folder.path().join("calls.csv");
    let text = "n,day,odd,dues,at,pilot\n007,05/03/2026,1,\"1,234.50\",2026-03-05 14:20,TRUE\n\
        8,06/03/2026,n/a,7,2026-03-05 14:20:05,false\n9,07/03/2026,3,,,\n";
    fs::write(&source, text).expect("written");
    let typed = |column: &str, is| Step::Type {
        column: column.into(),
        is,
    };
    let declared = Job {
        steps: vec![
            typed("n", ColumnType::Integer),
            typed("day", ColumnType::Date),
            typed("dues", ColumnType::Decimal),
            typed("at", ColumnType::Datetime),
            typed("pilot", ColumnType::Boolean),
        ],
        date_format: ["%d/%m/%Y", "%Y-%m-%d %H:%M:%S", "%Y-%m-%d %H:%M"]
            .map(|format| format.parse().expect("a format"))
            .to_vec(),
        ..job(&source, "book.xlsx", folder.path())
    };
    let summary = run(&declared, &context()).expect("written");
    let types = &summary.ledger.types;
    assert_eq!(
        (types[0].written_as.as_str(), types[1].written_as.as_str()),
        ("number", "date")
    );
    let reason = types[2].text_because.as_ref().expect("a reason");
    assert_eq!((reason.value.as_str(), reason.line), ("n/a", 3));
    assert!(
        summary
            .notices
            .iter()
            .any(|notice| matches!(notice, Notice::KeptText(_)))
    );
    let (back, _) = convert(&folder.path().join("book.xlsx"), "back.csv", folder.path());
    let text = fs::read_to_string(back).expect("readable");
    assert_eq!(
        text,
        "n,day,odd,dues,at,pilot\n7,2026-03-05,1,1234.50,2026-03-05 14:20,TRUE\n\
         8,2026-03-06,n/a,7.00,2026-03-05 14:20:05,FALSE\n9,2026-03-07,3,,,\n"
    );
}

const RELATIONS: &str = "http://schemas.openxmlformats.org/officeDocument/2006/relationships";

/// A workbook with one sheet whose part is `sheet`, and with `strings` and `styles`.
fn workbook(path: &Path, sheet: &str, strings: &str, styles: &str, date1904: bool) {
    let root = format!(
        "<Relationships><Relationship Id=\"a\" Type=\"{RELATIONS}/officeDocument\" Target=\"/xl/workbook.xml\"/></Relationships>"
    );
    let book = format!(
        "<x:workbook xmlns:x=\"m\" xmlns:r=\"r\"><x:workbookPr date1904=\"{}\"/><x:sheets>\
         <x:sheet name=\"Calls\" sheetId=\"1\" r:id=\"s1\"/>\
         <x:sheet name=\"Notes\" sheetId=\"2\" state=\"hidden\" r:id=\"s2\"/></x:sheets></x:workbook>",
        u8::from(date1904)
    );
    let relations = format!(
        "<Relationships><Relationship Id=\"s1\" Type=\"{RELATIONS}/worksheet\" Target=\"worksheets/one.xml\"/>\
         <Relationship Id=\"s2\" Type=\"{RELATIONS}/worksheet\" Target=\"worksheets/two.xml\"/>\
         <Relationship Id=\"t\" Type=\"{RELATIONS}/sharedStrings\" Target=\"strings.xml\"/>\
         <Relationship Id=\"y\" Type=\"{RELATIONS}/styles\" Target=\"styles.xml\"/></Relationships>"
    );
    package(
        path,
        &[
            ("_rels/.rels", &root),
            ("xl/workbook.xml", &book),
            ("xl/_rels/workbook.xml.rels", &relations),
            ("xl/worksheets/one.xml", sheet),
            (
                "xl/worksheets/two.xml",
                "<worksheet><sheetData/></worksheet>",
            ),
            ("xl/strings.xml", strings),
            ("xl/styles.xml", styles),
        ],
    );
}

const STYLES: &str = "<styleSheet><numFmts><numFmt numFmtId=\"164\" formatCode=\"[$-414]d. mmmm yyyy;@\"/>\
    <numFmt numFmtId=\"165\" formatCode=\"#,##0.00\\ &quot;kr&quot;\"/></numFmts><cellStyleXfs><xf numFmtId=\"14\"/>\
    </cellStyleXfs><cellXfs><xf numFmtId=\"0\"/><xf numFmtId=\"164\"/><xf numFmtId=\"165\"/>\
    <xf numFmtId=\"10\"/><xf numFmtId=\"46\"/><xf numFmtId=\"22\"/></cellXfs></styleSheet>";

#[test]
fn cells_of_other_programs_are_read_as_they_are() {
    let folder = tempfile::tempdir().expect("a folder");
    let path = folder.path().join("calls.xlsx");
    // The table begins at C3; rows with formulas, rich text and prefixes go through the parser,
    // plain ones do not.
    let sheet = "<x:worksheet xmlns:x=\"m\"><x:dimension ref=\"A1\"/><x:sheetData>\
        <x:row r=\"3\"><x:c r=\"C3\" t=\"s\"><x:v>0</x:v></x:c><x:c r=\"D3\"><x:v>2026</x:v></x:c>\
        <x:c r=\"E3\" s=\"1\"><x:v>46086</x:v></x:c><x:c r=\"G3\" t=\"inlineStr\"><x:is><x:t>dues</x:t></x:is></x:c></x:row>\
        <x:row r=\"4\" hidden=\"1\"><x:c r=\"C4\" t=\"s\"><x:v>1</x:v></x:c><x:c r=\"D4\"><x:f>1/10</x:f><x:v>0.1</x:v></x:c>\
        <x:c r=\"E4\" s=\"1\"><x:v>46086</x:v></x:c><x:c r=\"F4\" t=\"e\"><x:v>#N/A</x:v></x:c><x:c r=\"G4\" s=\"2\"><x:v>12.5</x:v></x:c></x:row>\
        <x:row r=\"6\"><x:c r=\"C6\" t=\"str\"><x:f>x</x:f><x:v>a &amp; b</x:v></x:c><x:c r=\"D6\" s=\"3\"><x:v>0.15</x:v></x:c>\
        <x:c r=\"E6\" s=\"4\"><x:v>1.5</x:v></x:c><x:c r=\"F6\" t=\"b\"><x:v>1</x:v></x:c><x:c r=\"G6\"><x:f>y</x:f></x:c></x:row>\
        <x:row><x:c><x:v>1</x:v></x:c><x:c r=\"C7\"><x:v>123456789012345</x:v></x:c></x:row>\
        </x:sheetData><x:mergeCells><x:mergeCell ref=\"C3:D3\"/></x:mergeCells></x:worksheet>";
    let strings = "<sst><si><r><t>ve</t></r><r><t>ssel</t></r><rPh sb=\"0\" eb=\"1\"><t>no</t></rPh></si><si><t>007</t></si></sst>";
    workbook(&path, sheet, strings, STYLES, false);
    let source = SourcePath::File(path.clone());
    let found = inspect(&source, &Job::default(), 9, &context());
    // A cell in column A stands next to the table, so it is the widest row that counts.
    let found = &found.expect("readable")[0];
    let sheet = found.sheet.as_ref().expect("a sheet");
    assert_eq!(sheet.range, "A3:G7");
    assert_eq!(sheet.sheets.len(), 2);
    assert_eq!((sheet.formulas, sheet.formulas_without_value), (3, 1));
    assert_eq!((sheet.errors, sheet.merged, sheet.hidden_rows), (1, 1, 1));
    let names: Vec<&str> = found
        .columns
        .iter()
        .map(|column| column.name.as_str())
        .collect();
    assert_eq!(
        names,
        [
            "column_1",
            "column_2",
            "vessel",
            "2026",
            "2026-03-05",
            "column_6",
            "dues"
        ]
    );
    assert_eq!(
        found.records,
        [
            ["", "", "007", "0.1", "2026-03-05", "#N/A", "12.50"],
            ["", "", "a & b", "0.15", "36:00:00", "TRUE", ""],
            ["1", "", "123456789012345", "", "", "", ""],
        ]
    );
    assert_eq!(found.tally.blank_lines, 1);
    let later = folder.path().join("later.xlsx");
    let plain = "<worksheet><sheetData><row r=\"1\"><c r=\"A1\" t=\"inlineStr\"><is><t>day</t></is></c></row>\
        <row r=\"2\"><c r=\"A2\" s=\"5\"><v>44624.5</v></c></row></sheetData></worksheet>";
    workbook(&later, plain, "<sst/>", STYLES, true);
    let found =
        inspect(&SourcePath::File(later), &Job::default(), 1, &context()).expect("readable");
    assert_eq!(found[0].records, [["2026-03-05 12:00"]]);
}

/// Reads a workbook whose sheet is this, and returns what is wrong with it.
fn problem_of(sheet: &str) -> String {
    let folder = tempfile::tempdir().expect("a folder");
    let path = folder.path().join("calls.xlsx");
    workbook(
        &path,
        sheet,
        "<sst><si><t>one</t></si></sst>",
        STYLES,
        false,
    );
    let job = job(&path, "out.csv", folder.path());
    let error = run(&job, &context()).expect_err("refused").to_string();
    assert!(
        !folder.path().join("out.csv").exists(),
        "nothing is written"
    );
    error.replace(&path.display().to_string(), "calls.xlsx")
}

#[test]
fn what_is_wrong_with_a_sheet_is_told_with_its_place() {
    let rows = |rows: &str| {
        format!(
            "<worksheet><sheetData><row r=\"1\"><c r=\"A1\" t=\"s\"><v>0</v></c></row>{rows}\
             </sheetData></worksheet>"
        )
    };
    for (sheet, expected) in [
        (
            rows("<row r=\"2\"><c r=\"A2\" t=\"s\"><v>9</v></c></row>"),
            "row 2: the file is damaged: cell A2 holds the shared text 9, and there are 1",
        ),
        (
            rows("<row r=\"2\"><c r=\"A2\"><v>x</v></c></row>"),
            "row 2: the file is damaged: cell A2: 'x' is not a number",
        ),
        (
            rows("<row r=\"2\"><c r=\"A3\"><v>1</v></c></row>"),
            "row 2: the file is damaged: the cell 'A3' is in row 2",
        ),
        (
            rows("<row r=\"2\"><c r=\"XFE2\"><v>1</v></c></row>"),
            "row 2: the file is damaged: the cell 'XFE2' is in row 2",
        ),
        (
            rows("<row r=\"2\"><c r=\"A2\"><v>1</v></c><c r=\"A2\"><v>2</v></c></row>"),
            "row 2: the file is damaged: the cell A2 is there twice",
        ),
        (
            rows(
                "<row r=\"3\"><c r=\"A3\"><v>1</v></c></row><row r=\"2\"><c r=\"A2\"><v>1</v></c></row>",
            ),
            "row 2: the file is damaged: row 2 comes after row 3",
        ),
        (
            rows("<row r=\"2000000\"><c><v>1</v></c></row>"),
            "row 1: the file is damaged: there is no row '2000000'",
        ),
        (
            "<worksheet><sheetData><row r=\"1\"><c r=\"A1\"><v>1</v></c></row><row r=\"2\">"
                .to_owned(),
            "row 2: the file is damaged: the sheet ends in the middle of its rows",
        ),
        (
            "<!DOCTYPE x><worksheet><sheetData/></worksheet>".to_owned(),
            ": its XML has a document type definition",
        ),
    ] {
        let found = problem_of(&sheet);
        assert!(found.starts_with("calls.xlsx, sheet 'Calls'"), "{found}");
        assert!(found.contains(expected), "{found}\n{expected}");
    }
    assert_eq!(
        problem_of("<worksheet><sheetData/></worksheet>"),
        "calls.xlsx: the workbook is empty: no cell of its sheet 'Calls' has a value"
    );
}

#[test]
fn tags_that_end_nothing_are_passed_over() {
    let folder = tempfile::tempdir().expect("a folder");
    let path = folder.path().join("calls.xlsx");
    let sheet = "<worksheet><sheetData><row r=\"1\"></c><c r=\"A1\"><v>1</v></c></c></row></v>\
        <row r=\"2\"><v>9</v></c><c r=\"A2\"><v>2</v></c></row></sheetData></worksheet>";
    workbook(&path, sheet, "<sst/>", STYLES, false);
    let (back, _) = convert(&path, "back.csv", folder.path());
    assert_eq!(fs::read_to_string(back).expect("readable"), "1\n2\n");
}

#[test]
fn rows_are_the_same_with_and_without_the_parser() {
    // A comment makes the fast way give up on a row.
    let row = |number: usize, comment: &str| {
        format!(
            "<row r=\"{number}\" spans=\"1:5\">{comment}<c r=\"A{number}\" t=\"s\"><v>0</v></c>\
             <c r=\"B{number}\" s=\"1\"><v>46086.5</v></c><c r=\"C{number}\"/><c r=\"D{number}\" t=\"b\"><v>1</v></c>\
             <c r=\"E{number}\" t=\"inlineStr\"><is><t xml:space=\"preserve\"> x </t></is></c>\
             <c r=\"F{number}\" t=\"str\"><v>7</v></c><c r=\"G{number}\" s=\"2\"><v>-3</v></c></row>\n"
        )
    };
    let sheet = |comment: &str| {
        let rows: String = (1..3000).map(|number| row(number, comment)).collect();
        format!("<worksheet><sheetData>{rows}</sheetData></worksheet>")
    };
    let folder = tempfile::tempdir().expect("a folder");
    let read = |name: &str, comment: &str| {
        let path = folder.path().join(format!("{name}.xlsx"));
        workbook(
            &path,
            &sheet(comment),
            "<sst><si><t>one</t></si></sst>",
            STYLES,
            false,
        );
        let (back, _) = convert(&path, &format!("{name}.csv"), folder.path());
        fs::read_to_string(back).expect("readable")
    };
    let fast = read("fast", "");
    assert_eq!(fast, read("slow", "<!-- -->"));
    assert!(
        fast.starts_with("one,2026-03-05 12:00,,TRUE, x ,7,-3.00\n"),
        "{}",
        &fast[..80]
    );
    assert_eq!(fast.lines().count(), 2999);
}

#[test]
fn sheets_of_one_workbook_and_one_file_for_each_sheet() {
    let folder = tempfile::tempdir().expect("a folder");
    let source = folder.path().join("calls.csv");
    let text = "quay,dues\nNorth,1.50\na/b,2.25\nNorth,3.00\nNORTH,4.00\n";
    fs::write(&source, text).expect("written");
    let sheets = Job {
        sheet: Some("{quay}".parse().expect("a template")),
        ..job(&source, "calls.xlsx", folder.path())
    };
    let refused = run(&sheets, &context()).expect_err("North and NORTH are one name");
    assert!(
        matches!(refused, Error::Refused(Refusal::Clashes { .. })),
        "{refused}"
    );
    let numbered = Job {
        clash: numerant_naming::ClashPolicy::Number,
        ledger: Some(folder.path().join("ledger.json")),
        ..sheets
    };
    let summary = run(&numbered, &context()).expect("written");
    let entries: Vec<(Option<&str>, u64, bool)> = summary
        .ledger
        .outputs
        .iter()
        .map(|entry| (entry.sheet.as_deref(), entry.records, entry.bytes.is_some()))
        .collect();
    assert_eq!(
        entries,
        [
            (Some("North"), 2, true),
            (Some("a_b"), 1, false),
            (Some("NORTH (2)"), 1, false)
        ]
    );
    let book = folder.path().join("calls.xlsx");
    let apart = Job {
        per_sheet: true,
        out: Some(folder.path().join("apart")),
        sources: vec![book.clone().into()],
        ..Job::default()
    };
    run(&apart, &context()).expect("written");
    let read = |name: &str| {
        let (csv, _) = convert(
            &folder.path().join("apart").join(name),
            &format!("{name}.csv"),
            folder.path(),
        );
        fs::read_to_string(csv).expect("readable")
    };
    assert_eq!(read("North.xlsx"), "quay,dues\nNorth,1.50\nNorth,3.00\n");
    assert_eq!(read("a_b.xlsx"), "quay,dues\na/b,2.25\n");
    // And together again, each with columns of its own.
    let other = folder.path().join("other.csv");
    fs::write(&other, "tide\n0.35\n").expect("written");
    let together = Job {
        sources: vec![folder.path().join("apart/North.xlsx").into(), other.into()],
        name: Some("all.ods".parse().expect("a template")),
        sheet: Some("{.stem}".parse().expect("a template")),
        out: Some(folder.path().to_owned()),
        ..Job::default()
    };
    run(&together, &context()).expect("written");
    let found = inspect(
        &SourcePath::File(folder.path().join("all.ods")),
        &Job::default(),
        1,
        &context(),
    );
    let names: Vec<(String, u64)> = found
        .expect("readable")
        .iter()
        .map(|sheet| {
            (
                sheet.sheet.as_ref().expect("a sheet").sheet.clone(),
                sheet.tally.records,
            )
        })
        .collect();
    assert_eq!(names, [("North".to_owned(), 2), ("other".to_owned(), 1)]);
}

#[test]
fn what_a_sheet_has_no_room_for_is_refused_or_goes_on() {
    let folder = tempfile::tempdir().expect("a folder");
    let source = folder.path().join("many.csv");
    let rows: String = (0..70_000).map(|row| format!("{row}\n")).collect();
    fs::write(&source, format!("n\n{rows}")).expect("written");
    let refused = run(&job(&source, "many.xls", folder.path()), &context()).expect_err("refused");
    let Error::Refused(Refusal::Outgrown { outputs, most }) = refused else {
        panic!("{refused}");
    };
    assert_eq!((outputs[0].1, most), (70_000, 65_535));
    assert!(!folder.path().join("many.xls").exists());
    for (overflow, files) in [(Overflow::Sheets, 1), (Overflow::Files, 2)] {
        let out = folder.path().join(format!("{overflow:?}"));
        let job = Job {
            overflow,
            ..job(&source, "many.xls", &out)
        };
        let summary = run(&job, &context()).expect("written");
        let records: Vec<u64> = summary
            .ledger
            .outputs
            .iter()
            .map(|output| output.records)
            .collect();
        assert_eq!(records, [65_535, 4465]);
        assert_eq!(fs::read_dir(&out).expect("a folder").count(), files);
    }
    let wide = folder.path().join("wide.csv");
    let header: Vec<String> = (0..300).map(|column| format!("c{column}")).collect();
    fs::write(&wide, format!("{0}\n{0}\n", header.join(","))).expect("written");
    let error = run(&job(&wide, "wide.xls", folder.path()), &context()).expect_err("refused");
    assert!(error.to_string().contains("300 columns"), "{error}");
    let long = folder.path().join("long.csv");
    fs::write(&long, format!("a,b\n1,{}\n", "x".repeat(40_000))).expect("written");
    let error = run(&job(&long, "long.xlsx", folder.path()), &context()).expect_err("refused");
    assert!(
        error
            .to_string()
            .contains("line 2, column 'b': a text of 40000 characters"),
        "{error}"
    );
    let bell = folder.path().join("bell.csv");
    fs::write(&bell, "a\nx\u{7}y\n").expect("written");
    let error = run(&job(&bell, "bell.ods", folder.path()), &context()).expect_err("refused");
    assert!(error.to_string().contains("U+0007"), "{error}");
    let (book, _) = convert(&bell, "bell.xlsx", folder.path());
    let (back, _) = convert(&book, "bell2.csv", folder.path());
    assert_eq!(fs::read_to_string(back).expect("readable"), "a\nx\u{7}y\n");
}

#[test]
fn the_same_bytes_whatever_the_threads_and_the_time() {
    let folder = tempfile::tempdir().expect("a folder");
    let source = folder.path().join("calls.csv");
    let rows: String = (0..3000)
        .map(|row| format!("{},{}.50,text {}\n", row % 7, row, row % 91))
        .collect();
    fs::write(&source, format!("k,n,t\n{rows}")).expect("written");
    for extension in ["xlsx", "ods", "xls"] {
        let bytes = |jobs: usize| {
            let out = folder.path().join(format!("{extension}-{jobs}"));
            let job = Job {
                jobs,
                ..job(&source, &format!("{{k}}.{extension}"), &out)
            };
            run(&job, &context()).expect("written");
            let mut files: Vec<PathBuf> = fs::read_dir(&out)
                .expect("a folder")
                .map(|entry| entry.expect("an entry").path())
                .collect();
            files.sort();
            assert_eq!(files.len(), 7);
            files
                .iter()
                .map(|file| fs::read(file).expect("readable"))
                .collect::<Vec<_>>()
        };
        assert!(bytes(1) == bytes(2), "{extension}");
    }
}

#[test]
fn what_unpacks_to_far_too_much_is_refused() {
    let folder = tempfile::tempdir().expect("a folder");
    let path = folder.path().join("calls.xlsx");
    let blanks = " ".repeat(400 << 20);
    let sheet = format!("<worksheet>{blanks}<sheetData/></worksheet>");
    let root = format!(
        "<Relationships><Relationship Id=\"a\" Type=\"{RELATIONS}/officeDocument\" Target=\"xl/workbook.xml\"/></Relationships>"
    );
    let relations = format!(
        "<Relationships><Relationship Id=\"s1\" Type=\"{RELATIONS}/worksheet\" Target=\"one.xml\"/></Relationships>"
    );
    package(
        &path,
        &[
            ("_rels/.rels", &root),
            (
                "xl/workbook.xml",
                "<workbook><sheets><sheet name=\"a\" r:id=\"s1\"/></sheets></workbook>",
            ),
            ("xl/_rels/workbook.xml.rels", &relations),
            ("xl/one.xml", &sheet),
        ],
    );
    let error = run(&job(&path, "out.csv", folder.path()), &context()).expect_err("refused");
    assert!(
        error.to_string().contains("xl/one.xml unpacks from"),
        "{error}"
    );
}

/// A record of a binary part after [MS-XLSB] 2.1.4.
fn binary(kind: u16, data: &[u8]) -> Vec<u8> {
    let mut record = Vec::new();
    if kind < 128 {
        record.push(kind as u8);
    } else {
        record.push(kind as u8 & 0x7f | 0x80);
        record.push((kind >> 7) as u8);
    }
    assert!(data.len() < 128, "one byte says the length");
    record.push(data.len() as u8);
    record.extend_from_slice(data);
    record
}

fn wide(text: &str) -> Vec<u8> {
    let units: Vec<u16> = text.encode_utf16().collect();
    let mut data = (units.len() as u32).to_le_bytes().to_vec();
    data.extend(units.iter().flat_map(|unit| unit.to_le_bytes()));
    data
}

#[test]
fn binary_packages_are_read() {
    let folder = tempfile::tempdir().expect("a folder");
    let path = folder.path().join("calls.xlsb");
    let relations = |entries: &[(&str, &str, &str)]| -> Vec<u8> {
        let entry = |(id, kind, target): &(&str, &str, &str)| {
            format!("<Relationship Id=\"{id}\" Type=\"{RELATIONS}/{kind}\" Target=\"{target}\"/>")
        };
        let entries: String = entries.iter().map(entry).collect();
        format!(
            "<Relationships xmlns=\"http://schemas.openxmlformats.org/package/2006/relationships\">{entries}</Relationships>"
        )
        .into_bytes()
    };
    let sheet_entry = |state: u32, id: &str, name: &str| {
        let mut data = state.to_le_bytes().to_vec();
        data.extend(1_u32.to_le_bytes());
        data.extend(wide(id));
        data.extend(wide(name));
        binary(156, &data)
    };
    let book = [
        binary(131, &[]),
        binary(143, &[]),
        sheet_entry(0, "s1", "Calls"),
        sheet_entry(1, "s2", "Notes"),
        binary(144, &[]),
        binary(132, &[]),
    ]
    .concat();
    let style = |format: u16| {
        let mut data = vec![0, 0];
        data.extend(format.to_le_bytes());
        data.extend([0; 12]);
        binary(47, &data)
    };
    let mut own = 164_u16.to_le_bytes().to_vec();
    own.extend(wide("0.000"));
    let styles = [
        binary(278, &[]),
        binary(615, &1_u32.to_le_bytes()),
        binary(44, &own),
        binary(616, &[]),
        binary(617, &3_u32.to_le_bytes()),
        style(0),
        style(14),
        style(164),
        binary(618, &[]),
        binary(279, &[]),
    ]
    .concat();
    let text = |text: &str| {
        let mut data = vec![0];
        data.extend(wide(text));
        binary(19, &data)
    };
    let strings = [
        binary(159, &[2, 0, 0, 0, 2, 0, 0, 0]),
        text("vessel"),
        text("007"),
        binary(160, &[]),
    ]
    .concat();
    let row = |row: u32, hidden: bool| {
        let mut data = row.to_le_bytes().to_vec();
        data.extend([0, 0, 0, 0, 0x2c, 1, 0, if hidden { 0x10 } else { 0 }, 0]);
        data.extend(0_u32.to_le_bytes());
        binary(0, &data)
    };
    let cell = |kind: u16, column: u32, style: u32, value: &[u8]| {
        let mut data = column.to_le_bytes().to_vec();
        data.extend(style.to_le_bytes());
        data.extend_from_slice(value);
        binary(kind, &data)
    };
    let rk = |number: i32, hundredths: bool| {
        ((number << 2) as u32 | 2 | u32::from(hundredths)).to_le_bytes()
    };
    let sheet = [
        binary(129, &[]),
        binary(148, &[0_u32, 3, 0, 4].map(u32::to_le_bytes).concat()),
        binary(145, &[]),
        row(0, false),
        cell(7, 0, 0, &0_u32.to_le_bytes()),
        cell(6, 1, 0, &wide("day")),
        cell(6, 2, 0, &wide("dues")),
        cell(6, 3, 0, &wide("pilot")),
        cell(6, 4, 0, &wide("note")),
        row(1, true),
        cell(7, 0, 0, &1_u32.to_le_bytes()),
        cell(2, 1, 1, &rk(46_086, false)),
        cell(2, 2, 0, &rk(1250, true)),
        cell(4, 3, 0, &[1]),
        cell(3, 4, 0, &[0x2a]),
        row(3, false),
        cell(6, 0, 0, &wide("Ærø")),
        cell(5, 1, 1, &46_086.5_f64.to_le_bytes()),
        cell(5, 2, 2, &0.5_f64.to_le_bytes()),
        binary(146, &[]),
        binary(177, &1_u32.to_le_bytes()),
        binary(176, &[0; 16]),
        binary(178, &[]),
        binary(130, &[]),
    ]
    .concat();
    let types = "<Types xmlns=\"http://schemas.openxmlformats.org/package/2006/content-types\">\
                 <Default Extension=\"bin\" ContentType=\"application/vnd.ms-excel.sheet.binary.macroEnabled.main\"/></Types>";
    let file = fs::File::create(&path).expect("created");
    let mut zip = zip::ZipWriter::new(file);
    for (name, bytes) in [
        ("[Content_Types].xml", types.as_bytes().to_vec()),
        (
            "_rels/.rels",
            relations(&[("a", "officeDocument", "xl/workbook.bin")]),
        ),
        ("xl/workbook.bin", book),
        (
            "xl/_rels/workbook.bin.rels",
            relations(&[
                ("s1", "worksheet", "worksheets/sheet1.bin"),
                ("s2", "worksheet", "worksheets/sheet2.bin"),
                ("t", "sharedStrings", "sharedStrings.bin"),
                ("y", "styles", "styles.bin"),
            ]),
        ),
        ("xl/worksheets/sheet1.bin", sheet),
        ("xl/sharedStrings.bin", strings),
        ("xl/styles.bin", styles),
    ] {
        zip.start_file(name, SimpleFileOptions::default())
            .expect("begun");
        zip.write_all(&bytes).expect("written");
    }
    zip.finish().expect("finished");
    let found = inspect(
        &SourcePath::File(path.clone()),
        &Job::default(),
        9,
        &context(),
    );
    let found = &found.expect("readable")[0];
    assert_eq!(
        found.records,
        [
            ["007", "2026-03-05", "12.5", "TRUE", "#N/A"],
            ["Ærø", "2026-03-05 12:00", "0.500", "", ""]
        ]
    );
    let sheet = found.sheet.as_ref().expect("a sheet");
    assert_eq!((sheet.merged, sheet.hidden_rows, sheet.errors), (1, 1, 1));
    assert_eq!(
        sheet.sheets[1].visibility,
        numerant_format::sheet::Visibility::Hidden
    );
    // Another reader sees the same in it.
    let mut other = calamine::open_workbook_auto(&path).expect("a workbook");
    let range = other.worksheet_range("Calls").expect("a sheet");
    assert_eq!(range.get_value((1, 0)), Some(&Data::String("007".into())));
    assert_eq!(range.get_value((1, 2)), Some(&Data::Float(12.5)));
    assert_eq!(range.get_value((3, 2)), Some(&Data::Float(0.5)));
}

#[test]
fn sources_with_columns_of_their_own_come_and_go() {
    // Columns change with every source, and come back.
    let folder = tempfile::tempdir().expect("a folder");
    let names = ["a", "b", "c", "d"];
    for (place, name) in names.iter().enumerate() {
        let text = match place % 2 {
            0 => format!("quay,dues\n{name}1,1.50\n{name}2,2.50\n"),
            _ => format!("id,note,quay\n7,x,{name}1\n8,y,{name}2\n"),
        };
        fs::write(folder.path().join(format!("{name}.csv")), text).expect("written");
    }
    let sources = names.map(|name| folder.path().join(format!("{name}.csv")).into());
    let job = Job {
        sources: sources.to_vec(),
        name: Some("{.stem}-{quay}.csv".parse().expect("a template")),
        out: Some(folder.path().join("out")),
        steps: vec![Step::Where("quay LIKE '%2'".parse().expect("a condition"))],
        ..Job::default()
    };
    let summary = run(&job, &context()).expect("written");
    let totals = summary.ledger.totals;
    assert_eq!((totals.read, totals.written, totals.left_out), (8, 4, 4));
    let read = |name: &str| fs::read_to_string(folder.path().join("out").join(name)).expect(name);
    assert_eq!(read("a-a2.csv"), "quay,dues\na2,2.50\n");
    assert_eq!(read("b-b2.csv"), "id,note,quay\n8,y,b2\n");
    assert_eq!(read("c-c2.csv"), "quay,dues\nc2,2.50\n");
    assert_eq!(read("d-d2.csv"), "id,note,quay\n8,y,d2\n");
    // Into one output they do not go.
    let one = Job {
        name: Some("all.csv".parse().expect("a template")),
        out: Some(folder.path().join("one")),
        ..job
    };
    let error = run(&one, &context()).expect_err("refused").to_string();
    assert!(error.contains("do not have the same columns"), "{error}");
}

#[test]
fn texts_and_workbooks_become_one_table() {
    let folder = tempfile::tempdir().expect("a folder");
    let file = |name: &str| folder.path().join(name);
    fs::write(
        file("text.csv"),
        "id,dues\n007,1.50\n8,2.25\n1234567890123456,3\n",
    )
    .expect("written");
    fs::write(file("typed.csv"), "id,dues\n1,4.50\n2,5.25\n").expect("written");
    let (book, _) = convert(&file("typed.csv"), "typed.xlsx", folder.path());
    for (order, sorted) in [(false, false), (true, false), (false, true), (true, true)] {
        let mut sources: Vec<SourcePath> = vec![file("text.csv").into(), book.clone().into()];
        if order {
            sources.reverse();
        }
        let steps = if sorted {
            vec![Step::Sort(vec![numerant_steps::SortColumn {
                column: "dues".into(),
                descending: false,
            }])]
        } else {
            Vec::new()
        };
        let name = format!("all-{order}-{sorted}.xlsx");
        let all = Job {
            sources,
            steps,
            ..job(&book, &name, folder.path())
        };
        let summary = run(&all, &context()).expect("written");
        assert_eq!(summary.ledger.totals.written, 5);
        let mut other = calamine::open_workbook_auto(file(&name)).expect("a workbook");
        let range = other
            .worksheet_range_at(0)
            .expect("a sheet")
            .expect("readable");
        let ids: Vec<String> = range
            .rows()
            .skip(1)
            .filter_map(|row| match &row[0] {
                Data::String(id) => Some(id.clone()),
                _ => None,
            })
            .collect();
        // What was text stays text, and above all the number of 16 digits.
        assert!(ids.contains(&"007".to_owned()), "{order} {sorted} {ids:?}");
        assert!(
            ids.contains(&"1234567890123456".to_owned()),
            "{order} {sorted} {ids:?}"
        );
    }
}

#[test]
fn tidied_text_of_cells_stays_text() {
    let folder = tempfile::tempdir().expect("a folder");
    let path = folder.path().join("calls.xlsx");
    let sheet = "<worksheet><sheetData><row r=\"1\"><c r=\"A1\" t=\"inlineStr\"><is><t>id</t></is></c>\
        <c r=\"B1\" t=\"inlineStr\"><is><t>n</t></is></c></row><row r=\"2\"><c r=\"A2\" t=\"inlineStr\"><is>\
        <t xml:space=\"preserve\"> 12 </t></is></c><c r=\"B2\"><v>12</v></c></row></sheetData></worksheet>";
    workbook(&path, sheet, "<sst/>", STYLES, false);
    let tidy = Job {
        steps: vec![Step::Tidy],
        ..job(&path, "tidy.xlsx", folder.path())
    };
    run(&tidy, &context()).expect("written");
    let mut other = calamine::open_workbook_auto(folder.path().join("tidy.xlsx")).expect("opens");
    let range = other
        .worksheet_range_at(0)
        .expect("a sheet")
        .expect("readable");
    assert_eq!(range.get_value((1, 0)), Some(&Data::String("12".into())));
    assert_eq!(range.get_value((1, 1)), Some(&Data::Float(12.0)));
}

#[test]
fn workbooks_that_would_share_a_path_are_settled_as_wholes() {
    use numerant_naming::ClashPolicy;

    let folder = tempfile::tempdir().expect("a folder");
    let source = folder.path().join("calls.csv");
    // Both quays would have one path; both have a sheet for fish.
    let text = "quay,cargo,n\na/b,fish,1\na_b,fish,2\na/b,coal,3\na_b,grain,4\na/b,fish,5\n";
    fs::write(&source, text).expect("written");
    let split = |clash: ClashPolicy| {
        let job = Job {
            sheet: Some("{cargo}".parse().expect("a template")),
            clash,
            ..job(
                &source,
                "{quay}.xlsx",
                &folder.path().join(format!("{clash:?}")),
            )
        };
        run(&job, &context()).map(|summary| {
            assert!(summary.ledger.balanced);
            let sheets: Vec<(String, String, u64)> = summary
                .ledger
                .outputs
                .iter()
                .map(|output| {
                    let sheet = output.sheet.clone().expect("a sheet");
                    (output.path.clone(), sheet, output.records)
                })
                .collect();
            (sheets, summary.ledger.totals.left_out)
        })
    };
    let entry = |path: &str, sheet: &str, records| (path.to_owned(), sheet.to_owned(), records);
    let refused = split(ClashPolicy::Refuse).expect_err("refused");
    assert!(
        matches!(refused, Error::Refused(Refusal::Clashes { .. })),
        "{refused}"
    );
    let (sheets, left_out) = split(ClashPolicy::Number).expect("written");
    assert_eq!(
        (sheets, left_out),
        (
            vec![
                entry("a_b.xlsx", "fish", 2),
                entry("a_b-2.xlsx", "fish", 1),
                entry("a_b.xlsx", "coal", 1),
                entry("a_b-2.xlsx", "grain", 1)
            ],
            0
        )
    );
    let (sheets, left_out) = split(ClashPolicy::Together).expect("written");
    assert_eq!(
        (sheets, left_out),
        (
            vec![
                entry("a_b.xlsx", "fish", 3),
                entry("a_b.xlsx", "coal", 1),
                entry("a_b.xlsx", "grain", 1)
            ],
            0
        )
    );
    let (sheets, left_out) = split(ClashPolicy::First).expect("written");
    assert_eq!(
        (sheets, left_out),
        (
            vec![entry("a_b.xlsx", "fish", 2), entry("a_b.xlsx", "coal", 1)],
            2
        )
    );
    let (sheets, left_out) = split(ClashPolicy::Last).expect("written");
    assert_eq!(
        (sheets, left_out),
        (
            vec![entry("a_b.xlsx", "fish", 1), entry("a_b.xlsx", "grain", 1)],
            3
        )
    );
    for clash in ["Number", "Together", "First", "Last"] {
        let book = folder.path().join(clash).join("a_b.xlsx");
        let other = calamine::open_workbook_auto(book).expect("a workbook");
        let mut names = other.sheet_names();
        let all = names.len();
        names.sort();
        names.dedup();
        assert_eq!(
            names.len(),
            all,
            "{clash}: every sheet has a name of its own"
        );
    }
    // What exists and is to stay is left with all its sheets.
    let job = Job {
        sheet: Some("{cargo}".parse().expect("a template")),
        clash: ClashPolicy::Together,
        existing: numerant_engine::output::ExistingPolicy::Skip,
        ..job(&source, "{quay}.xlsx", &folder.path().join("Together"))
    };
    let summary = run(&job, &context()).expect("nothing to do");
    assert_eq!(
        (summary.ledger.outputs.len(), summary.ledger.totals.left_out),
        (0, 5)
    );
}
