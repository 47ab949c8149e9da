use proptest::prelude::*;

use super::key::{Sorted, encode};
use super::*;
use numerant_data::source::{Input, SourcePath};
use numerant_data::value::{DecimalMark, LongDecimal, Number};
use numerant_format::{ReadOptions, RecordReader};
use numerant_text::{DelimitedReader, Reindex};

/// Sorts the lines of a file with a header, and returns them.
fn sorted_lines(text: &str, by: &[&str], memory: u64, threads: bool) -> Vec<String> {
    let path = SourcePath::from(PathBuf::from("calls.csv"));
    let bytes = text.as_bytes().to_vec();
    let input = Input::from_reader(path, Box::new(io::Cursor::new(bytes)), None);
    let options = ReadOptions::default();
    let mut reader =
        DelimitedReader::open(input.expect("opens"), &options, 256, 1 << 20).expect("opens");
    let keys = by.iter().map(|by| {
        let by: SortColumn = by.parse().expect("a column");
        SortKey {
            slot: reader.columns().find(&by.column).expect("there"),
            name: by.column,
            descending: by.descending,
            kind: Type::Cell,
            computed: false,
        }
    });
    let keys: Vec<SortKey> = keys.collect();
    let folder = std::env::temp_dir();
    let mut sorter = Sorter::new(keys, Cells::default(), folder, memory, threads);
    let mut batch = Batch::default();
    while reader.next_batch(&mut batch).expect("readable") {
        sorter.push(&batch).expect("pushed");
    }
    let mut sorted = sorter.finish().expect("sorted");
    let mut lines = Vec::new();
    let mut reindex = Reindex::default();
    while sorted.next_batch(&mut batch, 300).expect("merged") {
        reindex.fill(&mut batch);
        for record in 0..batch.len() {
            let raw = String::from_utf8_lossy(batch.raw(record)).into_owned();
            lines.push(format!("{}:{}", batch.line(record), raw.trim_end()));
        }
    }
    lines
}

/// The order as it is written down: numbers, texts, blanks.
fn plainly(one: &str, other: &str) -> std::cmp::Ordering {
    let rank = |text: &str| match text {
        "" => 2,
        _ => u8::from(Number::parse(text.as_bytes()).is_none()),
    };
    rank(one).cmp(&rank(other)).then_with(|| {
        if rank(one) == 0 {
            let number = |text: &str| text.parse::<Number>().expect("a number");
            number(one).compare(number(other))
        } else {
            one.cmp(other)
        }
    })
}

proptest! {
    #![proptest_config(ProptestConfig { cases: 60, ..ProptestConfig::default() })]
    #[test]
    fn records_come_in_order_and_equal_ones_as_they_were(
        rows in proptest::collection::vec(
            (
                prop_oneof![
                    "[a-c ]{0,3}", "-?[1-9][0-9]{0,2}", "0\\.[0-9]{1,9}", Just("007".to_owned()),
                    "[0-9]{17}", Just("Åland, the \"longest\" of them".to_owned()),
                ],
                -20_i32..20,
            ),
            0..400,
        ),
        descending in any::<bool>(),
        memory in prop_oneof![Just(1_u64 << 30), Just(1_u64)],
        threads in any::<bool>(),
    ) {
        let mut text = "quay,dues\n".to_owned();
        let mut expected = Vec::new();
        for (place, (quay, dues)) in rows.iter().enumerate() {
            let quoted = if quay.contains(['"', ',']) {
                format!("\"{}\"", quay.replace('"', "\"\""))
            } else {
                quay.clone()
            };
            text.push_str(&format!("{quoted},{dues}\n"));
            expected.push((quay.clone(), *dues, format!("{}:{quoted},{dues}", place + 2)));
        }
        let quay = if descending { "-quay" } else { "quay" };
        expected.sort_by(|one, other| {
            let by_quay = plainly(&one.0, &other.0);
            // Blanks come last whatever the direction.
            let turned = descending && !one.0.is_empty() && !other.0.is_empty();
            let by_quay = if turned { by_quay.reverse() } else { by_quay };
            by_quay.then(one.1.cmp(&other.1))
        });
        let expected: Vec<String> = expected.into_iter().map(|(.., line)| line).collect();
        prop_assert_eq!(sorted_lines(&text, &[quay, "dues"], memory, threads), expected);
    }

    #[test]
    fn the_order_of_keys_is_that_of_numbers(
        (one, scale_one) in (any::<i64>(), 0_u32..25),
        (other, scale_other) in (any::<i64>(), 0_u32..25),
    ) {
        let key = |units: i64, scale: u32| {
            let number = Number { units: units.into(), scale };
            let mut bytes = Vec::new();
            encode(&Sorted::Number(number), false, &mut bytes);
            (number, bytes, key::code(&Sorted::Number(number), false).0)
        };
        let (one, other) = (key(one, scale_one), key(other, scale_other));
        prop_assert_eq!(one.1.cmp(&other.1), one.0.compare(other.0));
        if one.2 != other.2 {
            prop_assert_eq!(one.2.cmp(&other.2), one.0.compare(other.0));
        }
    }
}

/// A number without a sign as digits with so many before and after the point, for a plain comparison.
fn padded(text: &str) -> String {
    let (whole, fraction) = text.split_once('.').unwrap_or((text, ""));
    format!("{whole:0>60}{fraction:0<60}")
}

proptest! {
    #[test]
    fn the_order_of_keys_is_that_of_numbers_of_any_length(
        one in "[0-9]{1,40}(\\.[0-9]{1,40})?", other in "[0-9]{1,40}(\\.[0-9]{1,40})?",
        (one_negative, other_negative) in any::<(bool, bool)>(), exponent in -200_i32..200,
    ) {
        let plain = padded(&one).cmp(&padded(&other));
        let is_zero = |text: &str| text.bytes().all(|byte| matches!(byte, b'0' | b'.'));
        let expected = match (one_negative && !is_zero(&one), other_negative && !is_zero(&other)) {
            (false, false) => plain,
            (true, true) => plain.reverse(),
            (true, false) => std::cmp::Ordering::Less,
            (false, true) => std::cmp::Ordering::Greater,
        };
        let key = |text: &str, negative: bool, suffix: &str| {
            let text = format!("{}{text}{suffix}", if negative { "-" } else { "" });
            let number = LongDecimal::parse(text.as_bytes(), DecimalMark::Point).expect("a number");
            let (mut bytes, sorted) = (Vec::new(), Sorted::Long(number));
            encode(&sorted, false, &mut bytes);
            let mut turned = Vec::new();
            encode(&sorted, true, &mut turned);
            (bytes, key::code(&sorted, false).0, turned, key::code(&sorted, true).0, text)
        };
        let suffix = format!("e{exponent}");
        let (left, right) = (key(&one, one_negative, &suffix), key(&other, other_negative, &suffix));
        prop_assert_eq!(left.0.cmp(&right.0), expected);
        prop_assert_eq!(left.2.cmp(&right.2), expected.reverse());
        if left.1 != right.1 {
            prop_assert_eq!(left.1.cmp(&right.1), expected);
            prop_assert_eq!(left.3.cmp(&right.3), expected.reverse());
        }
        // What fits into a number of the other kind has the same key.
        let short = key(&one, one_negative, "");
        if let Some(number) = Number::parse(short.4.as_bytes()) {
            let mut bytes = Vec::new();
            encode(&Sorted::Number(number), false, &mut bytes);
            prop_assert_eq!(bytes, short.0);
            prop_assert_eq!(key::code(&Sorted::Number(number), false).0, short.1);
        }
    }
}

#[test]
fn numbers_dates_and_texts_have_places_of_their_own() {
    let text = "v,n\nGrain,1\n5.3.2026,2\n0.00056123456789012345,3\n,4\n0.9993,5\n5,6\n4.12.2025,7\n1e2,8\n\
                2026-03-05T01:00+02:00,9\n2026-03-04T23:30Z,10\n";
    let order = |by: &str| {
        let lines = sorted_lines(text, &[by], 1 << 30, false);
        let number = |line: &String| line.rsplit_once(',').expect("two fields").1.to_owned();
        lines.iter().map(number).collect::<Vec<_>>().join(" ")
    };
    assert_eq!(order("v"), "3 5 6 8 7 9 10 2 1 4");
    assert_eq!(order("-v"), "1 2 10 9 7 8 6 5 3 4");
}

#[test]
fn more_texts_than_ranks_are_sorted_too() {
    let mut text = "quay,n\n".to_owned();
    for number in 0..70_000_u32 {
        let scattered = number.wrapping_mul(2_654_435_761) % 100_003;
        text.push_str(&format!("Quay with a long name {scattered:06},{number}\n"));
    }
    let lines = sorted_lines(&text, &["quay"], 1 << 30, false);
    assert_eq!(lines.len(), 70_000);
    let quay = |line: &String| {
        let (_, record) = line.split_once(':').expect("a line");
        record.split_once(',').expect("two fields").0.to_owned()
    };
    assert!(
        lines
            .windows(2)
            .all(|pair| quay(&pair[0]) <= quay(&pair[1]))
    );
}
