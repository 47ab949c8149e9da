use std::path::PathBuf;

use proptest::prelude::*;

use super::super::DelimitedReader;
use super::*;
use numerant_data::dialect::LineEnd;
use numerant_data::encoding::Encoding;
use numerant_data::record::Unit;
use numerant_data::source::{Input, SourcePath};
use numerant_format::{ReadOptions, RecordReader};

/// Reads a text and writes it with the dialect and columns that `change` chooses.
fn written(
    text: &[u8],
    columns: Option<Vec<usize>>,
    change: impl Fn(&mut Dialect),
) -> Result<Vec<u8>, EncodeError> {
    let path = SourcePath::from(PathBuf::from("calls.csv"));
    let input = Input::from_reader(path, Box::new(std::io::Cursor::new(text.to_vec())), None);
    let options = ReadOptions::default();
    let mut reader =
        DelimitedReader::open(input.expect("opens"), &options, 64, 1 << 20).expect("opens");
    let source = reader.facts().dialect;
    let mut out = source;
    change(&mut out);
    let keep = out.line_end == source.line_end;
    let encoder = {
        let header = reader
            .header()
            .map(|h| (h.first_as_batch(), columns.clone()));
        let width = reader.columns().len();
        DelimitedEncoder::new(source, out, columns, width, header, keep)
    };
    let mut bytes = Vec::new();
    encoder.begin(&mut bytes)?;
    let mut batch = Batch::default();
    while reader.next_batch(&mut batch).expect("readable") {
        for record in 0..batch.len() {
            encoder.record(&batch, record, &mut bytes)?;
        }
    }
    Ok(bytes)
}

fn text(bytes: Result<Vec<u8>, EncodeError>) -> String {
    String::from_utf8(bytes.expect("written")).expect("UTF-8")
}

const TEXT: &[u8] = b"id,quay,remarks\n007,\"North\",\"a, b\"\n 1E5 ,,\"say \"\"ho\"\"\"\n";

#[test]
fn the_same_dialect_moves_bytes() {
    assert_eq!(written(TEXT, None, |_| {}).expect("written"), TEXT);
}

#[test]
fn another_delimiter_quotes_what_needs_it_and_keeps_quotes() {
    let semicolons = text(written(TEXT, None, |out| {
        out.delimiter = ";".parse().expect("one");
    }));
    assert_eq!(
        semicolons,
        "id;quay;remarks\n007;\"North\";\"a, b\"\n 1E5 ;;\"say \"\"ho\"\"\"\n"
    );
    let spaces = text(written(TEXT, None, |out| {
        out.delimiter = "space".parse().expect("one");
    }));
    assert_eq!(
        spaces,
        "id quay remarks\n007 \"North\" \"a, b\"\n\" 1E5 \"  \"say \"\"ho\"\"\"\n"
    );
}

#[test]
fn columns_and_line_ends() {
    let chosen = |columns: &[usize]| text(written(TEXT, Some(columns.to_vec()), |_| {}));
    assert_eq!(
        chosen(&[2, 0]),
        "remarks,id\n\"a, b\",007\n\"say \"\"ho\"\"\", 1E5 \n"
    );
    assert_eq!(
        chosen(&[0, 2]),
        "id,remarks\n007,\"a, b\"\n 1E5 ,\"say \"\"ho\"\"\"\n"
    );
    assert_eq!(
        chosen(&[1]),
        "quay\n\"North\"\n\"\"\n",
        "a blank alone is no blank line"
    );
    let crlf = text(written(TEXT, None, |out| out.line_end = LineEnd::CrLf));
    assert_eq!(crlf, String::from_utf8_lossy(TEXT).replace('\n', "\r\n"));
}

#[test]
fn a_carriage_return_at_the_end_stays_in_its_value() {
    let source = b"a,b\nx\r,1\ny,2\n";
    assert_eq!(
        text(written(source, Some(vec![1, 0]), |_| {})),
        "b,a\n1,\"x\r\"\n2,y\n"
    );
}

#[test]
fn what_cannot_be_written_is_named() {
    let error = written(TEXT, None, |out| out.quote = Quote::None).expect_err("no quotes");
    assert_eq!(
        error,
        EncodeError::NeedsQuotes {
            at: At {
                unit: Unit::Line,
                number: 2
            },
            value: "a, b".into()
        }
    );
    let blank = written(b"a|b\n1|\n", Some(vec![1]), |out| out.quote = Quote::None);
    let lost = EncodeError::NeedsQuotes {
        at: At {
            unit: Unit::Line,
            number: 2,
        },
        value: String::new(),
    };
    assert_eq!(blank, Err(lost), "it would be a blank line, and no record");
    let source = "quay\nÅngkajen\nPier №1\n".as_bytes();
    let error = written(source, None, |out| out.encoding = Encoding::WINDOWS_1252)
        .expect_err("no such character");
    assert_eq!(
        error,
        EncodeError::Character {
            at: At {
                unit: Unit::Line,
                number: 3
            },
            character: '№',
            encoding: "windows-1252"
        }
    );
}

proptest! {
    #![proptest_config(ProptestConfig { cases: 300, ..ProptestConfig::default() })]
    #[test]
    fn moved_fields_and_taken_apart_values_read_back_the_same(
        rows in proptest::collection::vec(
            proptest::collection::vec("[a-z,;\"\n\r ÅÖ]{0,6}", 3), 1..20,
        ),
        columns in prop_oneof![
            Just(None), Just(Some(vec![0])), Just(Some(vec![2, 1])), Just(Some(vec![1, 2])),
        ],
        delimiter in prop_oneof![Just(","), Just(";"), Just("tab")],
        end in prop_oneof![Just(LineEnd::Lf), Just(LineEnd::CrLf)],
        encoding in prop_oneof![Just(Encoding::UTF_8), Just(Encoding::UTF_16LE)],
    ) {
        let mut source = String::from("a,b,c\n");
        for row in &rows {
            let quoted: Vec<String> =
                row.iter().map(|value| format!("\"{}\"", value.replace('"', "\"\""))).collect();
            source.push_str(&quoted.join(","));
            source.push('\n');
        }
        let bytes = written(source.as_bytes(), columns.clone(), |out| {
            out.delimiter = delimiter.parse().expect("a delimiter");
            out.line_end = end;
            out.encoding = encoding;
        }).expect("written");
        let options = ReadOptions {
            delimiter: Some(delimiter.parse().expect("a delimiter")),
            encoding: Some(encoding),
            ..ReadOptions::default()
        };
        let path = SourcePath::from(PathBuf::from("part.csv"));
        let input = Input::from_reader(path, Box::new(std::io::Cursor::new(bytes)), None).expect("opens");
        let mut reader = DelimitedReader::open(input, &options, 64, 1 << 20).expect("opens");
        let wanted = columns.unwrap_or_else(|| vec![0, 1, 2]);
        let mut found: Vec<Vec<String>> = Vec::new();
        let mut batch = Batch::default();
        let mut scratch = Vec::new();
        while reader.next_batch(&mut batch).expect("readable") {
            for record in 0..batch.len() {
                found.push((0..batch.width()).map(|column| {
                    let value = batch.field(record, column).value(&mut scratch);
                    String::from_utf8_lossy(value).into_owned()
                }).collect());
            }
        }
        let expected: Vec<Vec<String>> = rows.iter()
            .map(|row| wanted.iter().map(|column| row[*column].clone()).collect())
            .collect();
        prop_assert_eq!(found, expected);
    }
}
