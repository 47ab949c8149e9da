use proptest::prelude::*;

use super::*;

const COMMA: Marks = Marks {
    delimiter: b',',
    quote: Some(b'"'),
    terminator: b'\n',
};

/// What the byte-by-byte machine says of the whole text.
fn plain(text: &[u8], marks: Marks) -> (Vec<u32>, Vec<u32>, Scanned) {
    let mut ends = Vec::new();
    let mut firsts = Vec::new();
    let mut scanned = Scanned::default();
    loop {
        let complete = ends.len();
        match careful_record(text, scanned.consumed, marks, &mut ends) {
            Careful::Complete {
                end,
                breaks,
                strays,
            } => {
                firsts.push(ends.len() as u32);
                scanned.lines += 1 + breaks;
                scanned.stray_quotes += strays;
                scanned.consumed = end + 1;
            }
            other => {
                ends.truncate(complete);
                if let Careful::Misplaced { open_quote } = other {
                    scanned.misplaced_quote = Some(open_quote);
                }
                break;
            }
        }
    }
    (ends, firsts, scanned)
}

fn check(text: &[u8], marks: Marks) {
    let (ends, firsts, expected) = plain(text, marks);
    let mut index = Index::default();
    let mut paths: Vec<(&str, Scanned, Vec<u32>, Vec<u32>)> = Vec::new();
    let scanned = scan_blocks(&mut portable::Portable::new(marks), text, marks, &mut index);
    paths.push((
        "portable",
        scanned,
        index.ends().to_vec(),
        index.firsts().to_vec(),
    ));
    #[cfg(target_arch = "x86_64")]
    if let Some(scanned) = avx2::scan(text, marks, &mut index) {
        paths.push((
            "AVX2",
            scanned,
            index.ends().to_vec(),
            index.firsts().to_vec(),
        ));
    }
    let scanned = scan(text, marks, &mut index);
    paths.push((
        "fastest",
        scanned,
        index.ends().to_vec(),
        index.firsts().to_vec(),
    ));
    for (path, scanned, its_ends, its_firsts) in paths {
        let shown = String::from_utf8_lossy(text).into_owned();
        assert_eq!(its_ends, ends, "{path}: ends of {shown:?}");
        assert_eq!(its_firsts, firsts, "{path}: records of {shown:?}");
        assert_eq!(
            scanned.consumed, expected.consumed,
            "{path}: consumed of {shown:?}"
        );
        assert_eq!(scanned.lines, expected.lines, "{path}: lines of {shown:?}");
        assert_eq!(
            scanned.stray_quotes, expected.stray_quotes,
            "{path}: strays of {shown:?}"
        );
        assert_eq!(
            scanned.misplaced_quote, expected.misplaced_quote,
            "{path}: {shown:?}"
        );
        let complete = &text[..scanned.consumed];
        assert!(
            scanned.high || complete.is_ascii(),
            "{path}: high of {shown:?}"
        );
        assert!(
            scanned.nul || !complete.contains(&0),
            "{path}: NUL of {shown:?}"
        );
        assert!(
            !scanned.high || !text.is_ascii(),
            "{path}: high of {shown:?}"
        );
        assert!(
            !scanned.nul || text.contains(&0),
            "{path}: NUL of {shown:?}"
        );
    }
}

#[test]
fn every_rule_in_every_place_of_a_block() {
    let records = [
        "1,Pier,7\n",
        "\"a\",\"b,c\",\"d\ne\"\n",
        "\"say \"\"ho\"\"\",\"\",x\n",
        "\"a\"\r\n",
        "5\" rope,6\" rope\n",
        "\"text\" behind,1\n",
        "a\"\"b,\"\"\"\"\n",
        "\n",
        ",,\r\n",
        "\"lost,1\n2,\"x\"\n",
        "\"never closed,1\n2,3\n",
        "\"a\"\rb\n",
        "\"a\"\r\r\n",
        "\"a\"\r\r\rb,c\r\r\n",
        "Å,\0\n",
    ];
    for shift in 0..70 {
        for first in records {
            for second in records {
                let text = format!("{}\n{first}{second}{first}1,2\n3,", "y".repeat(shift));
                check(text.as_bytes(), COMMA);
                check(
                    text.as_bytes(),
                    Marks {
                        quote: None,
                        ..COMMA
                    },
                );
                check(
                    text.as_bytes(),
                    Marks {
                        terminator: b'\r',
                        ..COMMA
                    },
                );
            }
        }
    }
}

#[test]
fn quoted_line_ends_are_lines_and_no_records() {
    let mut index = Index::default();
    let scanned = scan(b"a,\"x\n\ny\"\nb,c\n", COMMA, &mut index);
    assert_eq!(
        (index.firsts(), index.ends()),
        (&[2, 4][..], &[1, 8, 10, 12][..])
    );
    assert_eq!(
        (scanned.lines, scanned.quoted, scanned.consumed),
        (4, true, 13)
    );
}

#[test]
fn open_quotes_are_found() {
    assert_eq!(open_quote(b"1,\"x\n2,3\n", COMMA), Some(2));
    assert_eq!(open_quote(b"1,2", COMMA), None);
}

proptest! {
    #![proptest_config(ProptestConfig { cases: 3000, ..ProptestConfig::default() })]
    #[test]
    fn blocks_agree_with_the_careful_machine(
        text in proptest::collection::vec(
            prop_oneof![
                5 => Just(b'"'), 4 => Just(b','), 3 => Just(b'\n'), 1 => Just(b'\r'),
                4 => Just(b'a'), 1 => any::<u8>()
            ],
            0..400,
        ),
        mark in 0..3,
    ) {
        let marks = match mark {
            0 => COMMA,
            1 => Marks { quote: None, ..COMMA },
            _ => Marks { terminator: b'\r', ..COMMA },
        };
        check(&text, marks);
    }
}
