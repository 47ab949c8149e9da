use numerant_data::dialect::{Delimiter, Dialect, LineEnd};
use numerant_data::encoding::Encoding;
use numerant_data::record::Tag;
use numerant_data::source::SourcePath;
use numerant_data::value::Cells;
use numerant_format::column::{Found, TextColumn, Typing};
use numerant_format::{Fields, Ragged, RecordEncoder, SchemaScan, WriteOptions};
use proptest::prelude::*;

use super::*;

const LAYOUT: &str = r#"
tag = { start = 1, width = 2 }

[[record]]
name = "batch"
tag = "01"
role = "header"
[[record.field]]
name = "port"
width = 8
constant = "VARNHOLM"

[[record]]
name = "call"
tag = "10"
[[record.field]]
name = "id"
width = 4
[[record.field]]
name = "dues"
width = 8
type = "decimal"
decimals = 2
[[record.field]]
name = "arrived"
width = 8
type = "date"
date-format = "%Y%m%d"

[[record]]
name = "end"
tag = "99"
role = "trailer"
[[record.field]]
name = "records"
width = 4
counts-records = true
"#;

const CALLS: &str = "01VARNHOLM\n\
                     10A1  0000101020260305\n\
                     10B22 -000000500000000\n\
                     990002\n";

/// The columns and records of a text, or what is wrong with it.
fn read(text: &str, options: &ReadOptions) -> Result<(Vec<String>, Vec<Vec<String>>), String> {
    let bytes = text.as_bytes().to_vec();
    let input = Input::from_reader(
        SourcePath::Standard,
        Box::new(std::io::Cursor::new(bytes)),
        None,
    );
    let temporary = std::env::temp_dir();
    let names = (Some(NAME), None);
    let input = input.expect("opens");
    let mut start = Start::new(input, options, names, 1 << 20, &temporary).expect("opens");
    let said = |error: ReadError| error.to_string();
    let mut source = FixedWidthFormat.open_named(&mut start).map_err(said)?;
    let opening = Opening {
        options,
        batch_size: 64,
        largest_record: 1 << 16,
        scan: &SchemaScan::Full,
    };
    let mut reader = source.open_table(0, opening).map_err(said)?;
    let columns = reader.columns().names().to_vec();
    let mut records = Vec::new();
    let mut batch = Batch::default();
    while reader.next_batch(&mut batch).map_err(said)? {
        for record in 0..batch.len() {
            let text = |column| batch.field(record, column).text().into_owned();
            let values = (0..columns.len()).map(text);
            records.push(
                values
                    .map(|value| String::from_utf8(value).expect("UTF-8"))
                    .collect(),
            );
        }
        for rejected in &batch.rejected {
            records.push(vec![format!(
                "rejected line {}: {}",
                rejected.line, rejected.reason
            )]);
        }
    }
    Ok((columns, records))
}

fn with(values: &[(&str, &str)]) -> ReadOptions {
    let mut options = ReadOptions::default();
    for (name, value) in values {
        options.of_formats.set(name, value);
    }
    options
}

/// A file with a layout, and options that name it.
fn with_layout(layout: &str) -> (tempfile::NamedTempFile, ReadOptions) {
    let file = tempfile::NamedTempFile::new().expect("a file");
    std::fs::write(file.path(), layout).expect("written");
    let options = with(&[(super::LAYOUT, &file.path().to_string_lossy())]);
    (file, options)
}

#[test]
fn a_layout_cuts_records_and_checks_counts() {
    let (_file, options) = with_layout(LAYOUT);
    let (columns, records) = read(CALLS, &options).expect("readable");
    assert_eq!(columns, ["id", "dues", "arrived"]);
    assert_eq!(
        records,
        [["A1", "10.10", "2026-03-05"], ["B22", "-0.05", ""]]
    );
    for (from, to, expected) in [
        (
            "990002",
            "990003",
            "line 4, column 'records': the trailer states 3 records, and there are 2",
        ),
        (
            "10B22",
            "77B22",
            "line 3: the tag '77' is that of no record in the layout",
        ),
        (
            "00001010",
            "0000x010",
            "line 2, column 'dues': '0000x010' is not a number of digits alone",
        ),
        (
            "20260305",
            "20260231",
            "line 2, column 'arrived': '20260231' is not a date after %Y%m%d",
        ),
        ("VARNHOLM", "OTHERTON", "line 1"),
        (
            "20260305",
            "20260305 x",
            "line 2: the layout describes 22 characters, and ' x' follows",
        ),
    ] {
        let text = CALLS.replace(from, to);
        let result = read(&text, &options);
        match from {
            // A constant of a header is not checked, as that is no record of the table.
            "VARNHOLM" => assert!(result.is_ok(), "{result:?}"),
            _ => {
                let error = result.expect_err(expected);
                assert!(error.contains(expected), "{error}");
            }
        }
    }
    let reject = ReadOptions {
        ragged: Ragged::Reject,
        ..options
    };
    // The trailer counts what is rejected as well.
    let (_, records) = read(&CALLS.replace("10B22", "77B22"), &reject).expect("read");
    assert_eq!(
        records[1],
        ["rejected line 3: the tag '77' is that of no record in the layout"]
    );
}

#[test]
fn widths_count_characters() {
    let text = "id  quay      t\n1   Ångkajen  7\n22  Öst\n\n";
    let (columns, records) = read(text, &with(&[(WIDTHS, "4,10,1")])).expect("readable");
    assert_eq!(columns, ["id", "quay", "t"]);
    assert_eq!(records, [["1", "Ångkajen", "7"], ["22", "Öst", ""]]);
    let numbered = ReadOptions {
        no_header: true,
        ..with(&[(WIDTHS, "4,10,1")])
    };
    let (columns, records) = read(text, &numbered).expect("readable");
    assert_eq!(columns, ["column_1", "column_2", "column_3"]);
    assert_eq!(records.len(), 3);
    let error =
        read("id  quay\n1   North Quay\n", &with(&[(WIDTHS, "4,4")])).expect_err("too long");
    assert!(
        error.contains("line 2: the layout describes 8 characters"),
        "{error}"
    );
}

#[test]
fn fields_are_detected_from_blanks() {
    let text = "id   quay        tonnes\n1    North Quay    1200\n22   East             7\n";
    let (columns, records) = read(text, &ReadOptions::default()).expect("readable");
    assert_eq!(columns, ["id", "quay", "tonnes"]);
    assert_eq!(records, [["1", "North Quay", "1200"], ["22", "East", "7"]]);
    let error = read("one word\nanother line\n", &ReadOptions::default()).expect_err("no blanks");
    assert!(
        error.contains("no column of blanks runs through all lines"),
        "{error}"
    );
    let mut long = "id   quay\n".to_owned();
    for _ in 0..3000 {
        long.push_str("1    North\n");
    }
    long.push_str("1   xNorth\n");
    let error = read(&long, &ReadOptions::default()).expect_err("a character in a gap");
    assert!(
        error.contains("line 3002: character 5 is not blank"),
        "{error}"
    );
}

/// Writes records after a layout.
fn written(
    layout: Layout,
    columns: &[&str],
    records: &[Vec<String>],
) -> Result<String, EncodeError> {
    let dialect = Dialect {
        delimiter: Delimiter::COMMA,
        line_end: LineEnd::Lf,
        encoding: Encoding::UTF_8,
        ..Dialect::CELLS
    };
    let (read, write) = (ReadOptions::default(), WriteOptions::default());
    let column = |(slot, name): (usize, &&str)| TextColumn {
        name: (*name).to_owned(),
        slot,
        typing: Typing::Found(Found::Text),
        tells_blanks: false,
        scan: SchemaScan::Full,
    };
    let request = EncoderRequest {
        columns: columns.iter().enumerate().map(column).collect(),
        cells: Cells::default(),
        read: &read,
        write: &write,
        out: dialect,
        fields: Fields {
            dialect: Dialect::CELLS,
            width: columns.len(),
            selection: None,
            header: None,
            keep_line_ends: false,
        },
        document: None,
    };
    let encoder = FixedEncoder::new(&request, layout)?;
    let mut batch = Batch::default();
    Dialect::CELLS.prepare(&mut batch, columns.len());
    for record in records {
        let start = batch.begin_record();
        for value in record {
            batch.bytes.extend_from_slice(value.as_bytes());
            batch.end_field(Tag::TEXT);
        }
        batch.end_record(start);
        batch.lines.push(batch.lines.len() as u64 + 1);
    }
    let mut out = Vec::new();
    encoder.begin(&mut out)?;
    for record in 0..batch.len() {
        encoder.record(&batch, record, &mut out)?;
    }
    encoder.end(batch.len() as u64, &mut out)?;
    Ok(String::from_utf8(out).expect("UTF-8"))
}

fn rows(rows: &[[&str; 3]]) -> Vec<Vec<String>> {
    rows.iter()
        .map(|row| row.iter().map(|value| (*value).to_owned()).collect())
        .collect()
}

#[test]
fn a_layout_writes_what_it_reads() {
    let layout = || Layout::parse(LAYOUT).expect("a layout");
    let columns = ["id", "dues", "arrived"];
    let records = rows(&[["A1", "10.10", "2026-03-05"], ["B22", "-0.05", ""]]);
    let text = written(layout(), &columns, &records).expect("written");
    assert_eq!(text, CALLS.replace("00000000\n", "        \n"));
    for (record, expected) in [
        (
            ["A1234", "1", ""],
            "'A1234' has 5 characters, and its field has 4",
        ),
        (["A", "1.234", ""], "'1.234' has more than 2 decimals"),
        (
            ["A", "12345678", ""],
            "has 10 characters, and its field has 8",
        ),
        (["A", "x", ""], "'x' is not a number"),
        (["A", "1", "soon"], "'soon' is not a date"),
        (["A\nB", "1", ""], "has a line end"),
    ] {
        let error = written(layout(), &columns, &rows(&[record])).expect_err(expected);
        assert!(error.to_string().contains(expected), "{error}");
    }
    let many: Vec<Vec<String>> = (0..10_000).map(|_| records[0].clone()).collect();
    let error = written(layout(), &columns, &many).expect_err("the count has no room");
    assert!(
        error.to_string().contains("'10000' has 5 characters"),
        "{error}"
    );
    let error = written(layout(), &["id", "other", "dues"], &records).expect_err("no field");
    assert!(
        error
            .to_string()
            .contains("no field for the column 'other'"),
        "{error}"
    );
}

proptest! {
    #[test]
    fn what_is_written_is_read_again(
        records in prop::collection::vec(
            ("[A-Za-zÅö0-9]([A-Za-zÅö0-9 ]{0,6}[A-Za-zÅö0-9])?", -9_999_999_i64..9_999_999, 0_u8..2),
            1..20,
        ),
    ) {
        let text = "[[field]]\nname = \"a\"\nwidth = 8\n[[field]]\nname = \"n\"\nwidth = 9\ntype = \"decimal\"\n\
                    decimals = 3\n[[field]]\nname = \"d\"\nwidth = 10\ntype = \"date\"\ndate-format = \"%d.%m.%Y\"";
        let rows: Vec<Vec<String>> = records
            .iter()
            .map(|(name, units, dated)| {
                let number = numerant_data::value::Number { units: i128::from(*units), scale: 3 };
                let date = if *dated == 1 { "2026-03-05" } else { "" };
                vec![name.clone(), number.to_string(), date.to_owned()]
            })
            .collect();
        let layout = Layout::parse(text).expect("a layout");
        let out = written(layout, &["a", "n", "d"], &rows).expect("written");
        let (_file, options) = with_layout(text);
        let (columns, read) = read(&out, &options).expect("read");
        prop_assert_eq!(columns, ["a", "n", "d"]);
        prop_assert_eq!(read, rows);
    }

    #[test]
    fn any_text_is_read_or_refused(text in "[ 0-9A-Zå\n\r]{0,80}", widths in "[1-9],[1-9]") {
        let _ = read(&text, &with(&[(WIDTHS, widths.as_str())]));
        let (_file, options) = with_layout(LAYOUT);
        let _ = read(&text, &options);
        let _ = read(&text, &ReadOptions::default());
    }
}
