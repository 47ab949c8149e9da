use std::io::{self, Read};
use std::path::PathBuf;

use proptest::prelude::*;

use super::*;
use numerant_data::dialect::{Delimiter, Quote};
use numerant_data::source::SourcePath;

/// Hands out its bytes in pieces, to show that no piece's end matters.
struct Pieces(io::Cursor<Vec<u8>>, usize);

impl Read for Pieces {
    fn read(&mut self, buffer: &mut [u8]) -> io::Result<usize> {
        let length = buffer.len().min(self.1);
        self.0.read(&mut buffer[..length])
    }
}

fn open(bytes: &[u8], options: &ReadOptions, batch: usize) -> Result<DelimitedReader, ReadError> {
    let reader = Pieces(io::Cursor::new(bytes.to_vec()), 7);
    let path = SourcePath::from(PathBuf::from("calls.csv"));
    let input = Input::from_reader(path, Box::new(reader), None)?;
    DelimitedReader::open(input, options, batch, 1 << 20)
}

/// What a reader made of a text: the names of its columns, and the lines and values of records.
#[derive(Debug, PartialEq, Eq)]
struct Found {
    columns: Vec<String>,
    records: Vec<(u64, Vec<String>)>,
    raw: Vec<String>,
    rejected: Vec<(u64, String)>,
    tally: ReadTally,
}

fn read(bytes: &[u8], options: &ReadOptions, batch: usize) -> Result<Found, ReadError> {
    let mut reader = open(bytes, options, batch)?;
    let mut found = Found {
        columns: reader.columns().names().to_vec(),
        records: Vec::new(),
        raw: Vec::new(),
        rejected: Vec::new(),
        tally: ReadTally::default(),
    };
    let mut batch = Batch::default();
    let mut scratch = Vec::new();
    while reader.next_batch(&mut batch)? {
        for record in 0..batch.len() {
            let mut value = |column| {
                let value = batch.field(record, column).value(&mut scratch);
                String::from_utf8_lossy(value).into_owned()
            };
            let values = (0..batch.width()).map(&mut value).collect();
            found.records.push((batch.line(record), values));
            found
                .raw
                .push(String::from_utf8_lossy(batch.raw(record)).into_owned());
        }
        for rejected in &batch.rejected {
            let raw = String::from_utf8_lossy(&rejected.raw).into_owned();
            found.rejected.push((rejected.line, raw));
        }
    }
    found.tally = reader.tally();
    Ok(found)
}

/// Reads through batches of one record, of a few, and of all.
fn found(bytes: &[u8], options: &ReadOptions) -> Found {
    let all = read(bytes, options, 1 << 16).expect("readable");
    for batch in [1, 5, 64, 200] {
        assert_eq!(
            read(bytes, options, batch).expect("readable"),
            all,
            "batches of {batch}"
        );
    }
    all
}

fn problem(bytes: &[u8], options: &ReadOptions) -> (Option<u64>, ReadProblem) {
    let error = read(bytes, options, 1 << 16).expect_err("it cannot be read");
    for batch in [1, 64] {
        let other = read(bytes, options, batch).expect_err("it cannot be read");
        assert_eq!(other.to_string(), error.to_string(), "batches of {batch}");
    }
    (error.place.at.map(|at| at.number), error.problem)
}

fn records(bytes: &[u8], options: &ReadOptions) -> Vec<Vec<String>> {
    found(bytes, options)
        .records
        .into_iter()
        .map(|(_, values)| values)
        .collect()
}

#[test]
fn line_ends_quotes_and_lines() {
    for end in ["\n", "\r\n", "\r"] {
        let text = "quay,remarks\nA,\"x, \"\"y\"\"\"\nB,\"two\nlines\"\nC,last".replace('\n', end);
        let found = found(text.as_bytes(), &ReadOptions::default());
        assert_eq!(found.columns, ["quay", "remarks"]);
        let values: Vec<&str> = found
            .records
            .iter()
            .flat_map(|(_, values)| values.iter().map(String::as_str))
            .collect();
        let two = format!("two{end}lines");
        assert_eq!(values, ["A", "x, \"y\"", "B", &two, "C", "last"]);
        let lines: Vec<u64> = found.records.iter().map(|(line, _)| *line).collect();
        assert_eq!(lines, [2, 3, 5]);
        assert_eq!(
            found.raw[2],
            format!("C,last{end}"),
            "the last record gets its line end"
        );
    }
}

#[test]
fn encodings() {
    let text = "quay;n\nÅngkajen;1\n";
    for (name, mark) in [
        ("utf-8", false),
        ("utf-8", true),
        ("utf-16le", true),
        ("utf-16be", true),
    ] {
        let encoding = Encoding::named(name).expect(name);
        let mut bytes = Vec::new();
        if mark {
            bytes.extend_from_slice(encoding.byte_order_mark().expect(name));
        }
        encoding.encode(text, &mut bytes).expect(name);
        let reader = open(&bytes, &ReadOptions::default(), 64).expect(name);
        assert_eq!(reader.facts().dialect.encoding, encoding);
        assert_eq!(reader.facts().dialect.bom, mark);
        assert_eq!(reader.facts().dialect.delimiter, Delimiter::byte(b';'));
        assert_eq!(
            records(&bytes, &ReadOptions::default()),
            [["Ångkajen", "1"]]
        );
    }
    let latin = b"quay;n\n\xc5ngkajen;1\n";
    assert_eq!(records(latin, &ReadOptions::default()), [["Ångkajen", "1"]]);
    let said = ReadOptions {
        encoding: Some(Encoding::UTF_8),
        ..ReadOptions::default()
    };
    let (line, problem) = problem(latin, &said);
    assert!(matches!(problem, ReadProblem::Encoding { bytes, .. } if bytes == "C5"));
    assert_eq!(line, Some(2));
}

#[test]
fn a_wrong_byte_far_behind_the_sample_is_told_with_its_line() {
    let mut bytes = b"quay,n\n".to_vec();
    for _ in 0..100_000 {
        bytes.extend_from_slice(b"North Quay,1\n");
    }
    bytes.extend_from_slice(b"\xd6stra,2\n");
    let error = read(&bytes, &ReadOptions::default(), 1 << 16).expect_err("not UTF-8");
    assert_eq!(error.place.at.map(|at| at.number), Some(100_002));
    assert!(matches!(
        error.problem,
        ReadProblem::Encoding {
            likely: Some("windows-1252"),
            ..
        }
    ));
}

#[test]
fn headers_preambles_and_blank_lines() {
    let skip = ReadOptions {
        skip_lines: 2,
        ..ReadOptions::default()
    };
    let found_here = found(b"Report\n\n\nquay,n\n\nA,1\n\r\n\nB,2\n\n", &skip);
    assert_eq!(found_here.columns, ["quay", "n"]);
    assert_eq!(
        found_here.records,
        [
            (6, vec!["A".into(), "1".into()]),
            (9, vec!["B".into(), "2".into()])
        ]
    );
    assert_eq!(found_here.tally.blank_lines, 5);
    let none = ReadOptions {
        no_header: true,
        ..ReadOptions::default()
    };
    let found_here = found(b"A,1\nB,2\n", &none);
    assert_eq!(found_here.columns, ["column_1", "column_2"]);
    assert_eq!(found_here.tally.records, 2);
    let one = found(b"quay\nA\n\nB\n", &ReadOptions::default());
    assert_eq!((one.tally.records, one.tally.blank_lines), (2, 1));
}

#[test]
fn ragged_records() {
    let text = b"a,b,c\n1,2,3\n4,5\n6\n7,8,9,,\n\"x\ny\",1,2,3\n";
    let with = |ragged| ReadOptions {
        ragged,
        ..ReadOptions::default()
    };
    let (line, found_here) = problem(text, &with(Ragged::Error));
    assert!(matches!(
        found_here,
        ReadProblem::Ragged {
            found: 2,
            expected: 3,
            ..
        }
    ));
    assert_eq!(line, Some(3));
    let (line, found_here) = problem(text, &with(Ragged::Pad));
    assert!(matches!(
        found_here,
        ReadProblem::Ragged {
            found: 4,
            surplus: true,
            ..
        }
    ));
    assert_eq!(line, Some(6));
    for end in ["\n", "\r\n"] {
        let text = "a,b,c\n1,2,3\n4,5\n6\n7,8,9,,\n".replace('\n', end);
        let padded = found(text.as_bytes(), &with(Ragged::Pad));
        let raw: Vec<String> = ["1,2,3", "4,5,", "6,,", "7,8,9"]
            .iter()
            .map(|raw| format!("{raw}{end}"))
            .collect();
        assert_eq!(padded.raw, raw);
        assert_eq!(padded.records[2].1, ["6", "", ""]);
        assert_eq!((padded.tally.records, padded.tally.padded), (4, 3));
    }
    let rejected = found(text, &with(Ragged::Reject));
    assert_eq!(rejected.records.len(), 1);
    assert_eq!((rejected.tally.records, rejected.tally.rejected), (5, 4));
    assert_eq!(rejected.rejected[1], (4, "6\n".to_owned()));
    assert_eq!(rejected.rejected[3], (6, "\"x\ny\",1,2,3\n".to_owned()));
}

#[test]
fn what_cannot_be_read() {
    let options = ReadOptions::default();
    assert!(matches!(problem(b"", &options).1, ReadProblem::Empty));
    assert!(matches!(
        problem(b"\n\n", &options).1,
        ReadProblem::NoHeader { .. }
    ));
    let (line, found) = problem(b"a,b\n1,2\n3,\"open\n4,5\n", &options);
    assert!(matches!(found, ReadProblem::UnclosedQuote));
    assert_eq!(line, Some(3));
    let (line, found) = problem(b"a,b\n1,2\n3,\"open\n4,\"x\"\n5,6\n", &options);
    assert!(matches!(found, ReadProblem::MisplacedQuote));
    assert_eq!(line, Some(3));
    let (line, found) = problem(b"a,b\n1,2\n3,\0\n", &options);
    assert!(matches!(found, ReadProblem::Nul { .. }));
    assert_eq!(line, Some(3));
    let mut long = b"a,b\n1,\"".to_vec();
    long.extend(vec![b'x'; 2 << 20]);
    long.extend_from_slice(b"\"\n2,3\n");
    let (line, found) = problem(&long, &options);
    assert!(matches!(found, ReadProblem::RecordTooLarge { .. }));
    assert_eq!(line, Some(2));
}

#[test]
fn stray_quotes_are_text_and_are_counted() {
    let text = b"a,b\n5\" rope,1\n\"x\" y,2\n";
    let found = found(text, &ReadOptions::default());
    assert_eq!(found.records[0].1, ["5\" rope", "1"]);
    assert_eq!(found.records[1].1, ["\"x\" y", "2"]);
    assert_eq!(found.tally.stray_quotes, 2);
    let plain = ReadOptions {
        quote: Some(Quote::None),
        ..ReadOptions::default()
    };
    assert_eq!(records(text, &plain)[1], ["\"x\" y", "2"]);
}

proptest! {
    #![proptest_config(ProptestConfig { cases: 400, ..ProptestConfig::default() })]
    #[test]
    fn values_come_out_as_they_went_in(
        rows in proptest::collection::vec(
            proptest::collection::vec("[a-z,;\"\n\r ÅÖ]{0,8}", 3), 1..40,
        ),
        delimiter in prop_oneof![Just(','), Just(';'), Just('\t'), Just('|')],
        end in prop_oneof![Just("\n"), Just("\r\n"), Just("\r")],
    ) {
        let mut text = ["a", "b", "c"].join(&delimiter.to_string());
        text.push_str(end);
        for row in &rows {
            let quoted: Vec<String> =
                row.iter().map(|value| format!("\"{}\"", value.replace('"', "\"\""))).collect();
            text.push_str(&quoted.join(&delimiter.to_string()));
            text.push_str(end);
        }
        let options = ReadOptions {
            delimiter: Some(delimiter.to_string().parse().expect("a delimiter")),
            ..ReadOptions::default()
        };
        // The line ending is detected from most lines, and values here hold line ends of all kinds; the
        // first line is what the header ends with.
        let found = read(text.as_bytes(), &options, 50).expect("readable");
        let values: Vec<Vec<String>> = found.records.into_iter().map(|(_, row)| row).collect();
        prop_assert_eq!(values, rows);
    }
}
