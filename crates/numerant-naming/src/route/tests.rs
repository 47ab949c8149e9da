use std::path::PathBuf;

use super::*;
use crate::parse_keys;
use numerant_data::source::{Input, SourcePath};
use numerant_format::{ReadOptions, RecordReader};
use numerant_text::DelimitedReader;

fn routed(text: &str, keys: &str, most: usize) -> Result<(Vec<u32>, Vec<KeyValues>), RouteError> {
    let path = SourcePath::from(PathBuf::from("calls.csv"));
    let bytes = text.as_bytes().to_vec();
    let input = Input::from_reader(path, Box::new(std::io::Cursor::new(bytes)), None);
    let options = ReadOptions::default();
    let mut reader =
        DelimitedReader::open(input.expect("opens"), &options, 32, 1 << 20).expect("opens");
    let keys = parse_keys(keys).expect("keys");
    let place = |name: &str| reader.columns().find(name).map(|place| (place, false));
    let mut router = Router::new(keys, place, Cells::default(), most).expect("columns");
    router.begin_source(Vec::new());
    let (mut all, mut places) = (Vec::new(), Vec::new());
    let mut batch = Batch::default();
    while reader.next_batch(&mut batch).expect("readable") {
        router.route(&batch, &mut places)?;
        all.append(&mut places);
    }
    Ok((all, router.groups().to_vec()))
}

const CALLS: &str = "quay,arrived,n\nNorth,2026-03-05,1\n\"North\",2026-04-01,2\nEast,2026-03-31,3\n\
                     ,2026-03-05,4\nNorth,05.03.2026,5\n";

#[test]
fn records_of_one_value_are_one_group_however_it_is_written() {
    let (places, groups) = routed(CALLS, "quay", 9).expect("routed");
    assert_eq!(places, [0, 0, 1, 2, 0]);
    assert_eq!(groups, [["North"], ["East"], [""]]);
    let (places, groups) = routed(CALLS, "arrived:month", 9).expect("routed");
    assert_eq!(places, [0, 1, 0, 0, 0]);
    assert_eq!(groups, [["2026-03"], ["2026-04"]]);
    let (places, groups) = routed(CALLS, "arrived:month,quay", 9).expect("routed");
    assert_eq!(places, [0, 1, 2, 3, 0]);
    assert_eq!(groups[2], ["2026-03", "East"]);
}

#[test]
fn values_do_not_run_into_each_other() {
    let (places, _) = routed("a,b\nx,yz\nxy,z\n,\nx,yz\n", "a,b", 9).expect("routed");
    assert_eq!(places, [0, 1, 2, 0]);
}

#[test]
fn past_the_most_groups_records_go_nowhere() {
    let (places, groups) = routed(CALLS, "n", 2).expect("routed");
    assert_eq!(places, [0, 1, NOWHERE, NOWHERE, NOWHERE]);
    assert_eq!(groups.len(), 2);
}

#[test]
fn a_value_without_the_part_is_named() {
    let error = routed(
        "quay,arrived\nA,2026-03-05\nB,soon\n",
        "quay,arrived:week",
        9,
    )
    .expect_err("no date");
    assert_eq!(error.column, "arrived");
    assert_eq!(
        error.problem,
        ValueError::Date {
            value: "soon".into()
        }
    );
}

#[test]
fn many_keys_agree_with_a_plain_map() {
    // More values than the caches have places for, in an order that shifts all the time.
    let mut text = String::from("a,b,c\n");
    let mut expected = Vec::new();
    let mut known = std::collections::HashMap::new();
    for number in 0..60_000_u64 {
        let a = number.wrapping_mul(2_654_435_761) % 9973;
        let b = number % 7;
        let c = if number % 3 == 0 {
            "a rather long value of a key"
        } else {
            "short"
        };
        text.push_str(&format!("{a},{b},{c}\n"));
        let next = known.len() as u32;
        expected.push(*known.entry((a, b, c)).or_insert(next));
    }
    let (places, groups) = routed(&text, "a,b,c", usize::MAX).expect("routed");
    assert_eq!(groups.len(), known.len());
    assert!(places == expected);
}
