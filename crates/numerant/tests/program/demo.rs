use insta::assert_snapshot;

use crate::support::Bench;

#[test]
fn the_walk_ends_by_itself_and_can_be_taken_again() {
    let bench = Bench::new();
    let first = bench.run(&["demo"]);
    // How far workbooks are packed is not for a test to say.
    insta::with_settings!({filters => vec![
        (r"[ \d.]{4,5} [kM]B(  \S.*\.(xlsx|xls|ods|pdf)\b)", "  (size)$1"),
        (r"(size +)[\d.]+ MB", "$1(size)"),
    ]}, {
        assert_snapshot!(first);
    });
    let calls = bench.read("varnholm/calls.csv");
    assert_eq!(bench.run(&["demo"]), first);
    assert_eq!(bench.read("varnholm/calls.csv"), calls);
    assert_eq!(calls.len(), 1_640_376);
}

#[test]
fn the_parts_of_the_demo_are_its_whole() {
    let bench = Bench::new();
    bench.run(&["demo"]);
    let whole = bench.read("varnholm/calls.csv");
    let (header, body) = whole.split_once('\n').expect("a header");
    // Records of the demo end in a line end outside quotes: an even number of quotes before it.
    let mut records: Vec<&str> = records(body);
    let mut parts = Vec::new();
    let files = bench.files();
    let texts: Vec<String> = files
        .iter()
        .filter(|name| name.starts_with("varnholm/calls/"))
        .map(|name| bench.read(name))
        .collect();
    assert_eq!(texts.len(), 8);
    for text in &texts {
        let (its_header, its_body) = text.split_once('\n').expect("a header");
        assert_eq!(its_header, header);
        parts.extend(self::records(its_body));
    }
    assert_eq!(parts.len(), 12_000);
    records.sort_unstable();
    parts.sort_unstable();
    assert!(records == parts);
}

fn records(text: &str) -> Vec<&str> {
    let mut records = Vec::new();
    let (mut start, mut inside) = (0, false);
    for (place, byte) in text.bytes().enumerate() {
        inside ^= byte == b'"';
        if byte == b'\n' && !inside {
            records.push(&text[start..=place]);
            start = place + 1;
        }
    }
    records
}

#[test]
fn a_folder_that_is_not_the_demos_is_left_alone() {
    let bench = Bench::new();
    bench.write("varnholm/mine.txt", "mine");
    assert_snapshot!(bench.run(&["demo"]));
    assert_eq!(bench.files(), ["varnholm/mine.txt"]);
}
