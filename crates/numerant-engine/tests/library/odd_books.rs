//! Workbooks that keep their look, as few programs write them: other prefixes, parts in odd folders, names
//! with quotes and brackets, signatures, links, and much that is missing.

use std::fmt::Write as _;
use std::path::Path;

use crate::support::{Folder, context, package};
use calamine::{Reader, Xlsx};
use numerant_engine::job::{Gathering, Job};
use numerant_engine::{Error, Notice, run};
use numerant_format::FillOptions;
use numerant_naming::parse_keys;
use numerant_sheets::Extracted;

const MAIN: &str = "http://schemas.openxmlformats.org/spreadsheetml/2006/main";
const RELATIONS: &str = "http://schemas.openxmlformats.org/officeDocument/2006/relationships";

/// A relation.
fn lead(id: &str, kind: &str, target: &str) -> String {
    let mode = if target.starts_with("http") {
        " TargetMode=\"External\""
    } else {
        ""
    };
    format!("<Relationship Id=\"{id}\" Type=\"{RELATIONS}/{kind}\" Target=\"{target}\"{mode}/>")
}

fn leads(all: &[String]) -> String {
    format!(
        "<Relationships xmlns=\"http://schemas.openxmlformats.org/package/2006/relationships\">{}</Relationships>",
        all.concat()
    )
}

/// A cell with a formula and the value that it had.
fn computed(cell: &str, formula: &str, value: &str) -> String {
    format!("<x:c r=\"{cell}\"><x:f>{formula}</x:f><x:v>{value}</x:v></x:c>")
}

fn number(cell: &str, value: &str) -> String {
    format!("<x:c r=\"{cell}\"><x:v>{value}</x:v></x:c>")
}

fn text(cell: &str, value: &str) -> String {
    format!("<x:c r=\"{cell}\" t=\"inlineStr\"><x:is><x:t>{value}</x:t></x:is></x:c>")
}

fn sheet(rows: &[&str], behind: &str) -> String {
    let mut data = String::new();
    for (number, row) in rows.iter().enumerate() {
        let _ = write!(data, "<x:row r=\"{}\">{row}</x:row>", number + 1);
    }
    format!(
        "<x:worksheet xmlns:x=\"{MAIN}\" xmlns:r=\"{RELATIONS}\"><x:sheetData>{data}</x:sheetData>{behind}</x:worksheet>"
    )
}

/// A workbook with everything under a prefix and in an odd folder, without styles, texts or theme.
fn odd(path: &Path, sheets: &[(&str, String)], more: &[(&str, String)]) {
    let mut list = String::new();
    let mut relations = vec![];
    let mut parts: Vec<(String, String)> = Vec::new();
    let mut types = String::from(
        "<Types xmlns=\"http://schemas.openxmlformats.org/package/2006/content-types\"><Default Extension=\"rels\" \
         ContentType=\"application/vnd.openxmlformats-package.relationships+xml\"/><Default Extension=\"xml\" \
         ContentType=\"application/vnd.openxmlformats-officedocument.spreadsheetml.worksheet+xml\"/>\
         <Override PartName=\"/Books/the%20book.xml\" ContentType=\"application/vnd.openxmlformats-officedocument.\
         spreadsheetml.sheet.main+xml\"/>",
    );
    types = types.replace("the%20book", "book");
    for (number, (name, content)) in sheets.iter().enumerate() {
        let name = name.replace('&', "&amp;").replace('"', "&quot;");
        let _ = write!(
            list,
            "<x:sheet name=\"{name}\" sheetId=\"{0}\" q:id=\"s{0}\"/>",
            number + 1
        );
        // Absolute and relative targets in turn.
        let target = match number % 2 {
            0 => format!("/odd/p{number}.xml"),
            _ => format!("../odd/./p{number}.xml"),
        };
        relations.push(lead(&format!("s{}", number + 1), "worksheet", &target));
        parts.push((format!("odd/p{number}.xml"), content.clone()));
    }
    let mut names = String::new();
    let mut root = vec![lead("r1", "officeDocument", "Books/book.xml")];
    for (name, content) in more {
        match *name {
            "names" => names = format!("<x:definedNames>{content}</x:definedNames>"),
            "root" => root.push(content.clone()),
            "relation" => relations.push(content.clone()),
            "references" => list.push_str(""),
            "type" => types.push_str(content),
            name => parts.push((name.to_owned(), content.clone())),
        }
    }
    let links = match more.iter().find(|(name, _)| *name == "references") {
        Some((_, id)) => format!(
            "<x:externalReferences><x:externalReference q:id=\"{id}\"/></x:externalReferences>"
        ),
        None => String::new(),
    };
    parts.push(("[Content_Types].xml".into(), format!("{types}</Types>")));
    parts.push(("_rels/.rels".into(), leads(&root)));
    parts.push(("Books/_rels/book.xml.rels".into(), leads(&relations)));
    parts.push(("Books/book.xml".into(), format!(
        "<x:workbook xmlns:x=\"{MAIN}\" xmlns:q=\"{RELATIONS}\"><x:sheets>{list}</x:sheets>{links}{names}</x:workbook>"
    )));
    let parts: Vec<(&str, &str)> = parts
        .iter()
        .map(|(name, text)| (name.as_str(), text.as_str()))
        .collect();
    package(path, &parts);
}

fn formulas(path: &Path, sheet: &str) -> Vec<String> {
    let mut book: Xlsx<_> = calamine::open_workbook(path).expect("a workbook");
    let range = book.worksheet_formula(sheet).expect("a sheet");
    let cells = range.used_cells().map(|(_, _, formula)| formula.clone());
    cells.filter(|formula| !formula.is_empty()).collect()
}

fn cells(path: &Path, sheet: &str) -> Vec<Vec<String>> {
    let mut book: Xlsx<_> = calamine::open_workbook(path).expect("a workbook");
    let range = book.worksheet_range(sheet).expect("a sheet");
    range
        .rows()
        .map(|row| row.iter().map(ToString::to_string).collect())
        .collect()
}

fn part(path: &Path, name: &str) -> Option<String> {
    let mut archive =
        zip::ZipArchive::new(std::fs::File::open(path).expect("a file")).expect("a package");
    let mut text = String::new();
    std::io::Read::read_to_string(&mut archive.by_name(name).ok()?, &mut text).expect("text");
    Some(text)
}

fn job(sources: &[std::path::PathBuf], out: &Path) -> Job {
    Job {
        sources: sources.iter().cloned().map(Into::into).collect(),
        out: Some(out.to_owned()),
        ..Job::default()
    }
}

fn extracted(job: &Job) -> Vec<Extracted> {
    let summary = run(job, &context()).expect("done");
    assert!(summary.ledger.balanced);
    let of = |notice| match notice {
        Notice::Extracted { what, .. } => Some(what),
        _ => None,
    };
    summary.notices.into_iter().filter_map(of).collect()
}

const QUOTED: &str = "It's (a) \"b\"";

fn quoted_books(folder: &Folder) -> std::path::PathBuf {
    let path = folder.path("odd.xlsx");
    let head = text("A1", "quay") + &text("B1", "dues") + &text("C1", "net");
    let rows = [
        head,
        text("A2", "North") + &number("B2", "1") + &computed("C2", "'It''s (a) \"b\"'!A1*B2", "7"),
        text("A3", "South")
            + &number("B3", "2")
            + &computed("C3", "SUM('Calls:It''s (a) \"b\"'!B2)", "8"),
        text("A4", "North") + &number("B4", "3") + &computed("C4", "[1]Other!A1+Plain!A2", "9"),
    ];
    let rows: Vec<&str> = rows.iter().map(String::as_str).collect();
    odd(
        &path,
        &[
            ("Calls", sheet(&rows, "")),
            (
                QUOTED,
                sheet(&[&number("A1", "7"), &computed("A2", "Calls!B2", "1")], ""),
            ),
            (
                "Plain",
                sheet(&[&number("A1", "5"), &number("A2", "6")], ""),
            ),
        ],
        &[
            ("references", "e1".into()),
            ("relation", lead("e1", "externalLink", "../links/one.xml")),
            (
                "links/one.xml",
                format!("<x:externalLink xmlns:x=\"{MAIN}\"/>"),
            ),
            (
                "links/_rels/one.xml.rels",
                leads(&[lead(
                    "l1",
                    "externalLinkPath",
                    "https://varnholm.example/other.xlsx",
                )]),
            ),
            (
                "names",
                "<x:definedName name=\"odd\">'It''s (a) \"b\"'!$A$1</x:definedName>".into(),
            ),
        ],
    );
    path
}

#[test]
fn names_with_quotes_and_brackets_are_followed() {
    let folder = Folder::with(&[]);
    let source = quoted_books(&folder);
    let mut split = job(std::slice::from_ref(&source), &folder.path("out"));
    split.per_sheet = true;
    split.read.read_sheet = vec!["Calls".to_owned().into(), "Plain".to_owned().into()];
    split.name = Some("two.xlsx".parse().expect("a template"));
    let what = extracted(&split);
    assert_eq!((what[0].formulas, what[0].names), (2, 1));
    let two = folder.path("out/two.xlsx");
    assert_eq!(formulas(&two, "Calls"), ["[1]Other!A1+Plain!A2"]);
    assert_eq!(
        cells(&two, "Calls")[1..3],
        [["North", "1", "7"], ["South", "2", "8"]]
    );
    assert!(
        part(&two, "links/one.xml").is_some(),
        "links to other workbooks stay"
    );
    // Twice the same: sheets, names and the numbers of other workbooks are distinguished.
    let copy = folder.path("copy.xlsx");
    std::fs::copy(&source, &copy).expect("copied");
    let mut gather = job(&[source, copy], &folder.path("out"));
    gather.gathering = Gathering::Sheets;
    gather.name = Some("all.xlsx".parse().expect("a template"));
    let what = extracted(&gather);
    assert_eq!(what[0].renamed, [("odd".to_owned(), "odd_2".to_owned())]);
    let all = folder.path("out/all.xlsx");
    assert_eq!(
        formulas(&all, "copy Calls"),
        [
            "'copy It''s (a) \"b\"'!A1*B2",
            "SUM('copy Calls:copy It''s (a) \"b\"'!B2)",
            "[2]Other!A1+'copy Plain'!A2",
        ]
    );
    assert_eq!(formulas(&all, "odd Calls")[2], "[1]Other!A1+'odd Plain'!A2");
}

#[test]
fn shared_and_array_formulas_at_the_cut() {
    let folder = Folder::with(&[]);
    let path = folder.path("shared.xlsx");
    let mut rows = vec![
        text("A1", "quay")
            + &text("B1", "dues")
            + &text("C1", "net")
            + &text("D1", "sum")
            + &text("E1", "all"),
    ];
    for row in 2..=7 {
        let quay = ["North", "South"][row % 2];
        let shared = match row {
            2 => "<x:f t=\"shared\" ref=\"C2:C7\" si=\"0\">B2*0.8+B$1</x:f>".to_owned(),
            _ => "<x:f t=\"shared\" si=\"0\"/>".to_owned(),
        };
        let array = match row {
            3 => "<x:f t=\"array\" ref=\"E3\">SUM(B3*{1,2})</x:f>",
            4 => "<x:f t=\"array\" ref=\"E4:E5\">B2:B3*2</x:f>",
            _ => "",
        };
        rows.push(format!(
            "{}{}<x:c r=\"C{row}\">{shared}<x:v>{row}</x:v></x:c>{}<x:c r=\"E{row}\">{array}<x:v>{row}</x:v></x:c>",
            text(&format!("A{row}"), quay),
            number(&format!("B{row}"), &row.to_string()),
            computed(&format!("D{row}"), &format!("SUM(B$2:B{row})"), "1"),
        ));
    }
    let rows: Vec<&str> = rows.iter().map(String::as_str).collect();
    odd(&path, &[("Calls", sheet(&rows, ""))], &[]);
    let mut split = job(&[path], &folder.path("out"));
    split.by = parse_keys("quay").expect("a key");
    split.like_source = true;
    let what = extracted(&split);
    // Running sums, but for the first, which is in its row; the array over two cells has its first in one part.
    assert_eq!(
        what.iter().map(|what| what.formulas).collect::<Vec<_>>(),
        [3, 3]
    );
    let north = folder.path("out/North.xlsx");
    assert_eq!(
        formulas(&north, "Calls"),
        ["B2*0.8+B$1", "SUM(B$2:B2)", "B3*0.8+B$1", "B4*0.8+B$1"]
    );
    assert_eq!(cells(&north, "Calls")[3], ["North", "6", "6", "1", "6"]);
    let south = formulas(&folder.path("out/South.xlsx"), "Calls");
    assert_eq!(
        south,
        ["B2*0.8+B$1", "SUM(B2*{1,2})", "B3*0.8+B$1", "B4*0.8+B$1"]
    );
}

#[test]
fn signatures_charts_and_missing_parts() {
    let folder = Folder::with(&[]);
    let path = folder.path("signed.xlsx");
    odd(
        &path,
        &[("Calls", sheet(&[&text("A1", "quay"), &text("A2", "North")], "<x:drawing r:id=\"gone\"/>"))],
        &[
            ("root", lead("r9", "digital-signature/origin", "sig/origin.sigs")),
            ("sig/origin.sigs", String::new()),
            ("type", "<Default Extension=\"sigs\" ContentType=\"application/vnd.openxmlformats-package.digital-signature-origin\"/>".into()),
            ("relation", lead("c1", "chartsheet", "/odd/chart.xml")),
            ("relation", lead("t1", "theme", "/odd/theme.xml")),
        ],
    );
    let mut split = job(std::slice::from_ref(&path), &folder.path("out"));
    split.per_sheet = true;
    let what = extracted(&split);
    assert!(what[0].signature);
    let calls = folder.path("out/Calls.xlsx");
    assert_eq!(
        (
            part(&calls, "sig/origin.sigs"),
            cells(&calls, "Calls").len()
        ),
        (None, 2)
    );
    let mut filled = job(&[path], &folder.path("filled"));
    folder.write("dues.csv", "quay,dues\nNorth,1.50\n");
    filled.sources = vec![folder.path("dues.csv").into()];
    filled.name = Some("{quay}.xlsx".parse().expect("a template"));
    filled.fill = FillOptions {
        template: Some(folder.path("signed.xlsx")),
        put: vec![
            "Calls!C3={.table}".parse().expect("a put"),
            "Calls!A4={quay}".parse().expect("a put"),
        ],
        ..FillOptions::default()
    };
    run(&filled, &context()).expect("filled");
    let north = folder.path("filled/North.xlsx");
    assert_eq!(
        cells(&north, "Calls")[2..],
        [["", "", "quay", "dues"], ["North", "", "North", "1.5"]]
    );
    let content = part(&north, "odd/p0.xml").expect("a sheet");
    assert!(
        content.contains("<x:c r=\"D4\"><x:v>1.50</x:v></x:c>"),
        "{content}"
    );
    assert_eq!(part(&north, "sig/origin.sigs"), None);
    assert!(
        part(&north, "Books/book.xml")
            .expect("a book")
            .contains("<x:calcPr fullCalcOnLoad=\"1\"/>")
    );
}

#[test]
fn hundreds_of_sheets_and_what_cannot_stand_together() {
    let folder = Folder::with(&[]);
    let names: Vec<String> = (1..=300).map(|number| format!("Berth {number}")).collect();
    let content = sheet(
        &[
            &text("A1", "berth"),
            &number("A2", "1"),
            &computed("A3", "'Berth 1'!A2", "1"),
        ],
        "",
    );
    let sheets: Vec<(&str, String)> = names
        .iter()
        .map(|name| (name.as_str(), content.clone()))
        .collect();
    let path = folder.path("many.xlsx");
    odd(&path, &sheets, &[]);
    let mut split = job(std::slice::from_ref(&path), &folder.path("out"));
    split.per_sheet = true;
    let what = extracted(&split);
    assert_eq!((what.len(), what[0].formulas), (1, 299));
    assert_eq!(
        cells(&folder.path("out/Berth 299.xlsx"), "Berth 299").len(),
        3
    );
    // A workbook that counts days from another year is not mixed in.
    let old = folder.path("old.xlsx");
    odd(&old, &[("Old", content)], &[]);
    let text = part(&old, "Books/book.xml").expect("a book");
    let text = text.replace("<x:sheets>", "<x:workbookPr date1904=\"1\"/><x:sheets>");
    let leads = part(&old, "Books/_rels/book.xml.rels").expect("leads");
    let (types, root) = (
        part(&old, "[Content_Types].xml").expect("types"),
        part(&old, "_rels/.rels").expect("leads"),
    );
    let page = part(&old, "odd/p0.xml").expect("a sheet");
    package(
        &old,
        &[
            ("[Content_Types].xml", &types),
            ("_rels/.rels", &root),
            ("Books/book.xml", &text),
            ("Books/_rels/book.xml.rels", &leads),
            ("odd/p0.xml", &page),
        ],
    );
    let mut gather = job(&[path, old], &folder.path("out"));
    gather.gathering = Gathering::Sheets;
    gather.max_outputs = 2000;
    gather.name = Some("all.xlsx".parse().expect("a template"));
    match run(&gather, &context()).expect_err("refused") {
        Error::Read(error) => assert!(error.to_string().contains("1904"), "{error}"),
        other => panic!("{other:?}"),
    }
    assert!(!folder.path("out/all.xlsx").exists());
}

#[test]
fn sheets_of_an_open_document_spreadsheet_come_out_as_they_are() {
    let folder = Folder::with(&[]);
    let cell = |formula: &str| {
        format!(
            "<table:table-row><table:table-cell table:formula=\"of:={formula}\" office:value-type=\"float\" office:value=\"3\"><text:p>3</text:p></table:table-cell></table:table-row>"
        )
    };
    let head = "<table:table-row><table:table-cell office:value-type=\"string\"><text:p>dues</text:p></table:table-cell></table:table-row>";
    let table = |name: &str, rows: &str, more: &str| {
        format!(
            "<table:table table:name=\"{name}\" table:style-name=\"look\">{more}{head}{rows}</table:table>"
        )
    };
    let draw = |number: u32| {
        format!(
            "<table:shapes><draw:frame><draw:object xlink:href=\"./Object {number}\"/></draw:frame></table:shapes>"
        )
    };
    let content = format!(
        "<office:document-content xmlns:office=\"o\" xmlns:table=\"t\" xmlns:text=\"x\" xmlns:draw=\"d\" xmlns:xlink=\"l\">\
         <office:body><office:spreadsheet>{}{}<table:named-expressions><table:named-range table:name=\"rates\" \
         table:cell-range-address=\"$Rates.$A$1:.$A$2\"/></table:named-expressions></office:spreadsheet></office:body>\
         </office:document-content>",
        table(
            "Calls",
            &(cell("[$Rates.A2]*2") + &cell("[.A2]+1") + &cell("SUM(rates)")),
            &draw(1)
        ),
        table("Rates", &cell("[.A1]"), &draw(2)),
    );
    let manifest = "<manifest:manifest xmlns:manifest=\"m\"><manifest:file-entry manifest:full-path=\"content.xml\"/>\
        <manifest:file-entry manifest:full-path=\"Object 1/\"/><manifest:file-entry manifest:full-path=\"Object 1/content.xml\"/>\
        <manifest:file-entry manifest:full-path=\"Object 2/\"/><manifest:file-entry manifest:full-path=\"Object 2/content.xml\"/>\
        </manifest:manifest>";
    let path = folder.path("port.ods");
    package(
        &path,
        &[
            ("mimetype", "application/vnd.oasis.opendocument.spreadsheet"),
            ("content.xml", &content),
            ("Object 1/content.xml", "<o/>"),
            ("Object 2/content.xml", "<o/>"),
            ("META-INF/manifest.xml", manifest),
        ],
    );
    let mut split = job(std::slice::from_ref(&path), &folder.path("out"));
    split.per_sheet = true;
    let what = extracted(&split);
    assert_eq!((what[0].formulas, what[0].names), (2, 1));
    let calls = folder.path("out/Calls.ods");
    let text = part(&calls, "content.xml").expect("content");
    assert!(
        text.contains("of:=[.A2]+1")
            && text.contains("table:style-name=\"look\"")
            && !text.contains("Rates"),
        "{text}"
    );
    assert_eq!(
        (
            part(&calls, "Object 2/content.xml"),
            part(&calls, "Object 1/content.xml")
        ),
        (None, Some("<o/>".into()))
    );
    assert!(
        !part(&calls, "META-INF/manifest.xml")
            .expect("a list")
            .contains("Object 2")
    );
    let rates = part(&folder.path("out/Rates.ods"), "content.xml").expect("content");
    assert!(
        rates.contains("table:name=\"rates\"") && !rates.contains("Calls"),
        "{rates}"
    );
}
