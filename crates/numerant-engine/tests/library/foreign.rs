//! Spreadsheets as other programs write them: OpenDocument and the binary format.

use std::fs;
use std::io::Write;
use std::path::Path;

use numerant_engine::run;
use numerant_format::sheet::Visibility;

use crate::support::{context, convert, job, look, package};

const NAMESPACES: &str =
    "xmlns:office=\"o\" xmlns:style=\"s\" xmlns:table=\"t\" xmlns:text=\"x\" xmlns:number=\"n\"";

const MIMETYPE: &str = "application/vnd.oasis.opendocument.spreadsheet";

/// Styles as spreadsheet programs write them, some of them among the common ones.
const COMMON: &str = "<office:styles><number:number-style style:name=\"N2\"><number:number number:decimal-places=\"2\"/>\
    </number:number-style><style:style style:name=\"Money\" style:family=\"table-cell\" style:data-style-name=\"N2\"/>\
    </office:styles>";

const AUTOMATIC: &str = "<office:automatic-styles>\
    <number:date-style style:name=\"D\"><number:day/><number:text>.</number:text><number:month/></number:date-style>\
    <number:date-style style:name=\"DT\"><number:year/><number:text>T</number:text><number:hours/><number:text>:</number:text>\
    <number:minutes/></number:date-style>\
    <number:time-style style:name=\"E\" number:truncate-on-overflow=\"false\"><number:hours/><number:minutes/><number:seconds/></number:time-style>\
    <number:percentage-style style:name=\"P\"><number:number number:decimal-places=\"1\"/></number:percentage-style>\
    <style:style style:name=\"day\" style:family=\"table-cell\" style:data-style-name=\"D\"/>\
    <style:style style:name=\"moment\" style:family=\"table-cell\" style:data-style-name=\"DT\"/>\
    <style:style style:name=\"hours\" style:family=\"table-cell\" style:data-style-name=\"E\"/>\
    <style:style style:name=\"share\" style:family=\"table-cell\" style:data-style-name=\"P\"/>\
    <style:style style:name=\"child\" style:family=\"table-cell\" style:parent-style-name=\"Money\"/>\
    <style:style style:name=\"ta2\" style:family=\"table\"><style:table-properties table:display=\"false\"/></style:style>\
    </office:automatic-styles>";

/// A cell with a value type, attributes and the text that it shows.
fn cell(kind: &str, attributes: &str, text: &str) -> String {
    format!(
        "<table:table-cell office:value-type=\"{kind}\" {attributes}><text:p>{text}</text:p></table:table-cell>"
    )
}

fn text(text: &str) -> String {
    cell("string", "", text)
}

fn row(cells: &[String]) -> String {
    format!("<table:table-row>{}</table:table-row>", cells.concat())
}

/// A spreadsheet whose first table has these rows, and a hidden one after it.
fn spreadsheet(path: &Path, rows: &str) {
    let content = format!(
        "<office:document-content {NAMESPACES}>{AUTOMATIC}<office:body><office:spreadsheet>\
         <table:table table:name=\"Calls &amp; dues\" table:style-name=\"ta1\"><table:table-column \
         table:number-columns-repeated=\"2\"/><table:table-column table:default-cell-style-name=\"Money\"/>{rows}\
         </table:table><table:table table:name=\"Old\" table:style-name=\"ta2\"><table:table-row><table:table-cell/>\
         </table:table-row></table:table></office:spreadsheet></office:body></office:document-content>"
    );
    let styles = format!("<office:document-styles {NAMESPACES}>{COMMON}</office:document-styles>");
    package(
        path,
        &[
            ("mimetype", MIMETYPE),
            ("styles.xml", &styles),
            ("content.xml", &content),
        ],
    );
}

#[test]
fn values_of_opendocument_are_read_as_they_are_stored() {
    let folder = tempfile::tempdir().expect("a folder");
    let path = folder.path().join("calls.ods");
    let header = row(&["id", "kind", "value"].map(text));
    let number = |style: &str, value: &str| {
        let style = match style {
            "" => String::new(),
            style => format!("table:style-name=\"{style}\""),
        };
        cell(
            "float",
            &format!("{style} office:value=\"{value}\""),
            "shown",
        )
    };
    let cases = [
        ("plain", number("", "0.1"), "0.10"),
        ("long", number("child", "12.345"), "12.345"),
        ("padded", number("child", "7"), "7.00"),
        ("exponent", number("share", "1E-7"), "0.0000001"),
        (
            "percentage",
            cell(
                "percentage",
                "table:style-name=\"share\" office:value=\"0.155\"",
                "15.5%",
            ),
            "0.155",
        ),
        (
            "currency",
            cell(
                "currency",
                "table:style-name=\"Money\" office:currency=\"SEK\" office:value=\"99\"",
                "99,00 kr",
            ),
            "99.00",
        ),
        (
            "day",
            cell(
                "date",
                "table:style-name=\"day\" office:date-value=\"2026-03-05\"",
                "5.3",
            ),
            "2026-03-05",
        ),
        (
            "hidden time",
            cell(
                "date",
                "table:style-name=\"day\" office:date-value=\"2026-03-05T14:20:00\"",
                "5.3",
            ),
            "2026-03-05 14:20",
        ),
        (
            "moment",
            cell(
                "date",
                "table:style-name=\"moment\" office:date-value=\"2026-03-05T14:20:05.25\"",
                "x",
            ),
            "2026-03-05T14:20:05.25",
        ),
        (
            "before 1900",
            cell(
                "date",
                "table:style-name=\"day\" office:date-value=\"1812-06-24\"",
                "x",
            ),
            "1812-06-24",
        ),
        (
            "hours",
            cell(
                "time",
                "table:style-name=\"hours\" office:time-value=\"PT26H30M00S\"",
                "x",
            ),
            "26:30:00",
        ),
        (
            "seconds",
            cell("time", "office:time-value=\"PT0H0M1.5S\"", "x"),
            "00:00:01.5",
        ),
        (
            "true",
            cell("boolean", "office:boolean-value=\"true\"", "WAHR"),
            "TRUE",
        ),
        (
            "spelled",
            cell("boolean", "office:boolean-value=\"false\"", "False"),
            "False",
        ),
        ("digits", text("007"), "007"),
        (
            "spaces",
            text("a<text:s text:c=\"3\"/>b<text:tab/>c<text:line-break/>d"),
            "a   b\tc\nd",
        ),
        (
            "spans",
            text("<text:span>one</text:span> &lt;<text:a>two</text:a>"),
            "one <two",
        ),
        (
            "attribute",
            "<table:table-cell office:value-type=\"string\" office:string-value=\"kept\"/>"
                .to_owned(),
            "kept",
        ),
    ];
    let rows: String = cases
        .iter()
        .map(|(name, cell, _)| row(&[number("", "1"), text(name), cell.clone()]))
        .collect();
    spreadsheet(&path, &(header + &rows));
    let found = look(&path);
    assert_eq!(found.len(), 1, "a hidden sheet is not looked at");
    let sheet = found[0].sheet.as_ref().expect("a sheet");
    assert_eq!(sheet.sheet, "Calls & dues");
    assert_eq!(sheet.sheets[1].visibility, Visibility::Hidden);
    for (record, (name, _, expected)) in found[0].records.iter().zip(&cases) {
        assert_eq!((record[1].as_str(), record[2].as_str()), (*name, *expected));
    }
    assert_eq!(found[0].records.len(), cases.len());
}

#[test]
fn repeated_merged_and_noted_cells_of_opendocument() {
    let folder = tempfile::tempdir().expect("a folder");
    let path = folder.path().join("calls.ods");
    let rows = [
        row(&["a", "b", "c", "d"].map(text)),
        // Two rows in one, and two cells in one.
        "<table:table-row table:number-rows-repeated=\"2\"><table:table-cell office:value-type=\"string\" \
         table:number-columns-repeated=\"2\"><text:p>x</text:p></table:table-cell><table:table-cell \
         table:number-columns-repeated=\"1000\"/></table:table-row>"
            .to_owned(),
        "<table:table-row table:number-rows-repeated=\"3\"><table:table-cell/></table:table-row>".to_owned(),
        // A merged cell, one that is covered, a note, a drawing, and a formula without a value.
        "<table:table-row table:visibility=\"collapse\"><table:table-cell office:value-type=\"string\" \
         table:number-columns-spanned=\"2\" table:number-rows-spanned=\"1\"><office:annotation><text:p>a note</text:p>\
         </office:annotation><text:p>first</text:p><text:p>second</text:p></table:table-cell><table:covered-table-cell/>\
         <table:table-cell table:formula=\"of:=NOW()\"/><table:table-cell office:value-type=\"float\" \
         office:value=\"4\" table:formula=\"of:=2+2\"><draw:frame xmlns:draw=\"d\"><text:p>drawn</text:p></draw:frame>\
         <text:p>4</text:p></table:table-cell></table:table-row>"
            .to_owned(),
        "<table:table-row table:number-rows-repeated=\"1048570\"><table:table-cell \
         table:number-columns-repeated=\"16384\"/></table:table-row>"
            .to_owned(),
    ];
    spreadsheet(&path, &rows.concat());
    let found = &look(&path)[0];
    assert_eq!(
        found.records,
        [
            ["x", "x", "", ""],
            ["x", "x", "", ""],
            ["first\nsecond", "", "", "4"]
        ]
    );
    let sheet = found.sheet.as_ref().expect("a sheet");
    assert_eq!(sheet.range, "A1:D7");
    assert_eq!((sheet.merged, sheet.hidden_rows), (1, 1));
    assert_eq!((sheet.formulas, sheet.formulas_without_value), (2, 1));
    assert_eq!(found.tally.blank_lines, 3);
}

#[test]
fn a_spreadsheet_may_be_one_xml_file() {
    let folder = tempfile::tempdir().expect("a folder");
    let path = folder.path().join("calls.fods");
    let rows = row(&["a", "b"].map(text))
        + &row(&[text("Ærø"), cell("float", "office:value=\"2.5\"", "2,5")]);
    let document = format!(
        "<?xml version=\"1.0\"?>\n<office:document {NAMESPACES} office:mimetype=\"{MIMETYPE}\">{COMMON}{AUTOMATIC}\
         <office:body><office:spreadsheet><table:table table:name=\"Calls\">{rows}</table:table>\
         </office:spreadsheet></office:body></office:document>"
    );
    fs::write(&path, document).expect("written");
    let (back, summary) = convert(&path, "back.csv", folder.path());
    assert_eq!(
        fs::read_to_string(back).expect("readable"),
        "a,b\nÆrø,2.5\n"
    );
    assert_eq!(summary.ledger.sources[0].sheet.as_deref(), Some("Calls"));
}

#[test]
fn what_is_wrong_with_a_spreadsheet_is_told() {
    let folder = tempfile::tempdir().expect("a folder");
    let path = folder.path().join("calls.ods");
    let problem = |name: &str| {
        let error = run(&job(&path, name, folder.path()), &context()).expect_err("refused");
        error.to_string()
    };
    let head = row(&["a"].map(text));
    for (rows, expected) in [
        (
            head.clone() + &row(&[cell("float", "office:value=\"two\"", "2")]),
            "row 2: the file is damaged: cell A2: 'two' is no float",
        ),
        (
            head.clone() + &row(&[cell("time", "office:time-value=\"2 hours\"", "2")]),
            "cell A2: '2 hours' is no time",
        ),
        (
            head.clone()
                + "<table:table-row table:number-rows-repeated=\"2000000\"><table:table-cell office:value-type=\"string\"><text:p>x</text:p></table:table-cell></table:table-row>",
            "a row with values is there up to row 2000001",
        ),
        (
            head.clone()
                + "<table:table-row><table:table-cell table:number-columns-repeated=\"20000\" office:value-type=\"string\"><text:p>x</text:p></table:table-cell></table:table-row>",
            "there is no column after XFD",
        ),
        (
            head + "<table:table-row><table:table-cell>",
            "ends in the middle of its rows",
        ),
        (String::new(), "the workbook is empty"),
    ] {
        spreadsheet(&path, &rows);
        let found = problem("out.csv");
        assert!(found.contains(expected), "{found}\n{expected}");
    }
    let manifest = "<manifest><file-entry><encryption-data/></file-entry></manifest>";
    package(
        &path,
        &[
            ("mimetype", MIMETYPE),
            ("content.xml", "\u{1}"),
            ("META-INF/manifest.xml", manifest),
        ],
    );
    assert!(problem("out.csv").ends_with("the workbook is encrypted with a password"));
    let other = "application/vnd.oasis.opendocument.text";
    package(
        &path,
        &[
            ("mimetype", other),
            ("content.xml", "<office:document-content/>"),
        ],
    );
    assert!(problem("out.csv").contains("this is a zip archive, not a workbook"));
    assert!(!folder.path().join("out.csv").exists());
}

/// A record of a binary workbook.
fn biff(kind: u16, data: &[u8]) -> Vec<u8> {
    let mut record = kind.to_le_bytes().to_vec();
    record.extend((data.len() as u16).to_le_bytes());
    record.extend_from_slice(data);
    record
}

fn words(words: &[u16]) -> Vec<u8> {
    words.iter().flat_map(|word| word.to_le_bytes()).collect()
}

fn bof(version: u16, kind: u16) -> Vec<u8> {
    biff(0x0809, &words(&[version, kind, 0, 0, 0, 0, 0, 0]))
}

/// A compound file with a stream of these globals, in which the offset of the sheet is at `entry`.
fn compound(path: &Path, stream: &str, globals: Vec<u8>, entry: usize, sheet: &[u8]) {
    let mut globals = globals;
    let offset = (globals.len() as u32).to_le_bytes();
    globals[entry..entry + 4].copy_from_slice(&offset);
    let mut file = cfb::create(path).expect("created");
    let mut part = file.create_stream(stream).expect("a stream");
    part.write_all(&globals).expect("written");
    part.write_all(sheet).expect("written");
    drop(part);
    file.flush().expect("flushed");
}

#[test]
fn binary_workbooks_of_biff5_are_read() {
    let folder = tempfile::tempdir().expect("a folder");
    let path = folder.path().join("calls.xls");
    let label = |row: u16, column: u16, text: &[u8]| {
        let mut data = words(&[row, column, 0, text.len() as u16]);
        data.extend_from_slice(text);
        biff(0x0204, &data)
    };
    let style = |format: u16| biff(0x00e0, &[words(&[0, format]), vec![0; 12]].concat());
    let mut format = words(&[164]);
    format.extend_from_slice(b"\x0add/mm/yyyy");
    let mut globals = [
        bof(0x0500, 5),
        biff(0x0042, &words(&[1252])),
        biff(0x0022, &words(&[1])),
        biff(0x041e, &format),
        style(0),
        style(164),
    ]
    .concat();
    let entry = globals.len() + 4;
    globals.extend(biff(0x0085, b"\0\0\0\0\0\0\x05Anl\xf8b"));
    globals.extend(biff(0x000a, &[]));
    let mut number = words(&[1, 1, 1]);
    number.extend(44_624.0_f64.to_le_bytes());
    let sheet = [
        bof(0x0500, 0x10),
        label(0, 0, b"vessel"),
        label(0, 1, b"day"),
        label(1, 0, b"\xc5ngk\xe4jen"),
        biff(0x0203, &number),
        biff(0x000a, &[]),
    ]
    .concat();
    compound(&path, "/Book", globals, entry, &sheet);
    let found = &look(&path)[0];
    assert_eq!(found.sheet.as_ref().expect("a sheet").sheet, "Anløb");
    assert_eq!(found.records, [["Ångkäjen", "2026-03-05"]]);
}

/// Globals of BIFF8 with these shared texts, and where the offset of the sheet stands.
fn globals(strings: &[u8]) -> (Vec<u8>, usize) {
    let style = |format: u16| biff(0x00e0, &[words(&[0, format]), vec![0; 16]].concat());
    let mut globals = [bof(0x0600, 5), style(0), style(2), style(14)].concat();
    let entry = globals.len() + 4;
    globals.extend(biff(0x0085, b"\0\0\0\0\0\0\x05\0Calls"));
    globals.extend_from_slice(strings);
    globals.extend(biff(0x000a, &[]));
    (globals, entry)
}

#[test]
fn texts_of_biff8_run_over_the_ends_of_records() {
    let folder = tempfile::tempdir().expect("a folder");
    let path = folder.path().join("calls.xls");
    let mut first = vec![4, 0, 0, 0, 4, 0, 0, 0];
    // Plain, one byte a character.
    first.extend_from_slice(b"\x02\0\0id");
    // Rich and phonetic: two runs and four bytes that say how it is spoken.
    first.extend_from_slice(b"\x03\0\x0c\x02\0\x04\0\0\0abc");
    first.extend_from_slice(&[9; 12]);
    // Cut in the middle: it goes on with two bytes a character.
    first.extend_from_slice(b"\x06\0\0Sk");
    let mut second = b"\x01".to_vec();
    second.extend("ærøg".encode_utf16().flat_map(u16::to_le_bytes));
    // A last one, of which the record holds only the head.
    second.extend_from_slice(b"\x02\0\0");
    let third = b"\0ok".to_vec();
    let strings = [
        biff(0x00fc, &first),
        biff(0x003c, &second),
        biff(0x003c, &third),
    ]
    .concat();
    let (globals, entry) = globals(&strings);
    let shared =
        |row: u16, column: u16, number: u16| biff(0x00fd, &words(&[row, column, 0, number, 0]));
    let sheet = [
        bof(0x0600, 0x10),
        shared(0, 0, 0),
        shared(0, 1, 1),
        shared(1, 0, 2),
        shared(1, 1, 3),
        biff(0x000a, &[]),
    ]
    .concat();
    compound(&path, "/Workbook", globals, entry, &sheet);
    let found = &look(&path)[0];
    let names: Vec<&str> = found
        .columns
        .iter()
        .map(|column| column.name.as_str())
        .collect();
    assert_eq!(names, ["id", "abc"]);
    assert_eq!(found.records, [["Skærøg", "ok"]]);
}

#[test]
fn all_kinds_of_cells_of_biff8() {
    let folder = tempfile::tempdir().expect("a folder");
    let path = folder.path().join("calls.xls");
    let (globals, entry) = globals(&biff(0x00fc, b"\x01\0\0\0\x01\0\0\0\x01\0\0h"));
    let header: Vec<u8> = (0..8)
        .flat_map(|column| biff(0x00fd, &words(&[0, column, 0, 0, 0])))
        .collect();
    let rk = |number: i32, hundredths: bool| {
        ((number << 2) as u32 | 2 | u32::from(hundredths)).to_le_bytes()
    };
    let formula = |column: u16, style: u16, result: [u8; 8]| {
        let mut data = words(&[1, column, style]);
        data.extend(result);
        data.extend([0; 6]);
        biff(0x0006, &data)
    };
    let sheet = [
        bof(0x0600, 0x10),
        header,
        // The row is hidden.
        biff(
            0x0208,
            &[
                words(&[1, 0, 8, 255, 0, 0]),
                0x20_u32.to_le_bytes().to_vec(),
            ]
            .concat(),
        ),
        biff(
            0x027e,
            &[words(&[1, 0, 1]), rk(1250, true).to_vec()].concat(),
        ),
        biff(
            0x00bd,
            &[
                words(&[1, 1, 0]),
                rk(-7, false).to_vec(),
                words(&[2]),
                rk(46_086, false).to_vec(),
                words(&[2]),
            ]
            .concat(),
        ),
        biff(0x0205, &[words(&[1, 3, 0]), vec![1, 0]].concat()),
        biff(0x0205, &[words(&[1, 4, 0]), vec![0x07, 1]].concat()),
        formula(5, 1, 0.5_f64.to_le_bytes()),
        formula(6, 0, [0, 0, 0, 0, 0, 0, 0xff, 0xff]),
        biff(0x0207, b"\x05\0\0a & b"),
        formula(7, 0, [3, 0, 0, 0, 0, 0, 0xff, 0xff]),
        // A chart on the sheet has records of its own.
        bof(0x0600, 0x20),
        biff(
            0x0203,
            &[words(&[9, 9, 0]), 1.0_f64.to_le_bytes().to_vec()].concat(),
        ),
        biff(0x000a, &[]),
        biff(0x00e5, &words(&[2])),
        biff(0x000a, &[]),
    ]
    .concat();
    compound(&path, "/Workbook", globals, entry, &sheet);
    let found = &look(&path)[0];
    assert_eq!(
        found.records,
        [[
            "12.50",
            "-7",
            "2026-03-05",
            "TRUE",
            "#DIV/0!",
            "0.50",
            "a & b",
            ""
        ]]
    );
    let sheet = found.sheet.as_ref().expect("a sheet");
    assert_eq!(
        (
            sheet.formulas,
            sheet.errors,
            sheet.merged,
            sheet.hidden_rows
        ),
        (3, 1, 2, 1)
    );
    assert_eq!(
        found.header_notes.len(),
        7,
        "columns of one name are reported"
    );
}

#[test]
fn what_is_wrong_with_a_binary_workbook_is_told() {
    let folder = tempfile::tempdir().expect("a folder");
    let path = folder.path().join("calls.xls");
    let problem = || {
        let error = run(&job(&path, "out.csv", folder.path()), &context()).expect_err("refused");
        error.to_string()
    };
    let strings = biff(0x00fc, b"\x01\0\0\0\x01\0\0\0\x01\0\0h");
    let shared = |column: u16, number: u16| biff(0x00fd, &words(&[0, column, 0, number, 0]));
    for (sheet, expected) in [
        (
            [bof(0x0600, 0x10), shared(0, 5), biff(0x000a, &[])].concat(),
            "row 1 holds the shared text 5, and there are 1",
        ),
        (
            [bof(0x0600, 0x10), shared(0, 0)].concat(),
            "the sheet ends in the middle of its rows",
        ),
        (
            [bof(0x0600, 0x10), shared(300, 0), biff(0x000a, &[])].concat(),
            "there is no column after IV",
        ),
    ] {
        let (globals, entry) = globals(&strings);
        compound(&path, "/Workbook", globals, entry, &sheet);
        let found = problem();
        assert!(found.contains(expected), "{found}\n{expected}");
    }
    let (mut locked, entry) = globals(&strings);
    let end = locked.split_off(locked.len() - 4);
    locked.extend(biff(0x002f, &[0; 6]));
    locked.extend(end);
    compound(&path, "/Workbook", locked, entry, &[]);
    assert!(problem().ends_with("the workbook is encrypted with a password"));
    let mut short = biff(0x00fc, b"\x01\0\0\0\x01\0\0\0\x09\0\0h");
    short.extend(biff(0x0042, &[0, 0]));
    let (globals, entry) = globals(&short);
    compound(&path, "/Workbook", globals, entry, &[]);
    assert!(problem().contains("a text ends too early"));
    compound(&path, "/Other", vec![0; 8], 0, &[]);
    assert!(problem().contains("this is a compound file, not a workbook"));
    compound(&path, "/EncryptedPackage", vec![0; 8], 0, &[]);
    assert!(problem().ends_with("the workbook is encrypted with a password"));
}
