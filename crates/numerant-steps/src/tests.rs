use std::path::PathBuf;

use super::*;
use numerant_data::record::{Batch, Columns};
use numerant_data::source::{Input, SourcePath};
use numerant_data::value::{Cells, DecimalMark, Number};
use numerant_format::{ReadOptions, RecordReader};
use numerant_text::DelimitedReader;

const CALLS: &str = "id,quay,dues,arrived\n\
    1,North,10.10,2026-03-05\n\
    2,East,,2026-03-06\n\
    3,North,7,soon\n\
    4,,x,2026-04-01\n";

fn reader(text: &str) -> DelimitedReader {
    let path = SourcePath::from(PathBuf::from("calls.csv"));
    let bytes = text.as_bytes().to_vec();
    let input = Input::from_reader(path, Box::new(std::io::Cursor::new(bytes)), None);
    let options = ReadOptions::default();
    DelimitedReader::open(input.expect("opens"), &options, 64, 1 << 20).expect("opens")
}

fn options() -> PipelineOptions {
    PipelineOptions::new(|input, options, batch_size, largest_record, _| {
        let reader = DelimitedReader::open(input, options, batch_size, largest_record)?;
        Ok(Box::new(reader))
    })
}

fn set(name: &str, value: &str) -> Step {
    Step::Set {
        name: name.to_owned(),
        value: value.parse().expect(value),
    }
}

fn condition(text: &str) -> Step {
    Step::Where(text.parse().expect(text))
}

fn names(names: &[&str]) -> Vec<String> {
    names.iter().map(|name| (*name).to_owned()).collect()
}

fn reject() -> PipelineOptions {
    PipelineOptions {
        on_error: OnError::Reject,
        ..options()
    }
}

/// The header, the records that the steps leave, and the pipeline with what it has counted.
fn taken(
    text: &str,
    steps: &[Step],
    options: PipelineOptions,
) -> Result<(Vec<String>, Vec<String>, Pipeline), String> {
    let mut reader = reader(text);
    let columns = reader.columns().clone();
    let mut pipeline =
        Pipeline::new(steps, &columns, options).map_err(|error| error.to_string())?;
    let layout = pipeline.layout().clone();
    let mut records = Vec::new();
    let mut rejected = Vec::new();
    let mut batch = Batch::default();
    while reader.next_batch(&mut batch).expect("readable") {
        pipeline
            .apply(&mut batch)
            .map_err(|(line, problem)| format!("{line}: {problem}"))?;
        for record in 0..batch.len() {
            let values = layout.columns().iter().map(|column| {
                let value = batch.field(record, column.slot).text().into_owned();
                String::from_utf8(value).expect("UTF-8")
            });
            records.push(values.collect::<Vec<_>>().join("|"));
        }
        rejected.extend(
            batch
                .rejected
                .iter()
                .map(|rejected| format!("{}: {}", rejected.line, rejected.reason)),
        );
    }
    records.extend(rejected);
    let header = layout.columns().iter().map(|column| column.name.clone());
    Ok((header.collect(), records, pipeline))
}

fn records(steps: &[Step]) -> Vec<String> {
    let taken = taken(CALLS, steps, options());
    taken.expect("taken").1
}

#[test]
fn columns_are_computed_renamed_and_chosen() {
    let steps = [
        condition("id < 3"),
        set("net", "dues * 0.5"),
        set("quay", "UPPER(quay)"),
        Step::Rename {
            from: "arrived".into(),
            to: "day".into(),
        },
        Step::Keep(names(&["net", "quay", "day", "id"])),
        Step::Drop(names(&["id"])),
    ];
    let (header, records, pipeline) = taken(CALLS, &steps, options()).expect("taken");
    assert_eq!(header, ["net", "quay", "day"]);
    assert_eq!(records, ["5.050|NORTH|2026-03-05", "|EAST|2026-03-06"]);
    let layout = pipeline.layout();
    assert!(layout.find("id").is_ok(), "a dropped column can be used");
    let renamed = layout.find("arrived").expect_err("it is called otherwise");
    assert_eq!(renamed.nearest.as_deref(), Some("day"));
    assert_eq!(pipeline.left_out()[0].records, 2);
    assert_eq!(
        pipeline.left_out()[0].reason,
        LeftOutStep::Where("id < 3".into())
    );
}

#[test]
fn what_nothing_changes_is_written_as_it_stands() {
    let layout = |steps: &[Step]| {
        let columns = Columns::from_header(&["id", "quay", "dues"]);
        let pipeline = Pipeline::new(steps, &columns, options());
        pipeline.expect("steps").layout().selection(3)
    };
    assert_eq!(layout(&[]), None);
    assert_eq!(layout(&[condition("id = 1")]), None);
    let rename = Step::Rename {
        from: "id".into(),
        to: "number".into(),
    };
    assert_eq!(layout(&[rename]), None, "only the header differs");
    assert_eq!(layout(&[Step::Keep(names(&["id", "quay", "dues"]))]), None);
    assert_eq!(
        layout(&[Step::Keep(names(&["dues", "id"]))]),
        Some(vec![2, 0])
    );
    assert_eq!(layout(&[set("dues", "id")]), Some(vec![0, 1, 3]));
    assert_eq!(layout(&[set("net", "id")]), Some(vec![0, 1, 2, 3]));
}

#[test]
fn records_for_which_a_step_fails_end_the_run_or_are_rejected() {
    let steps = [set("net", "dues * 2")];
    let error = taken(CALLS, &steps, options()).expect_err("x");
    assert_eq!(
        error,
        "line 5: set net: column 'dues': \"x\" is not a number"
    );
    let (_, records, pipeline) = taken(CALLS, &steps, reject()).expect("taken");
    assert_eq!(
        records,
        [
            "1|North|10.10|2026-03-05|20.20",
            "2|East||2026-03-06|",
            "3|North|7|soon|14",
            "5: set net: column 'dues': \"x\" is not a number",
        ]
    );
    assert_eq!(pipeline.rejected(), 1);
    let steps = [
        Step::Type {
            column: "arrived".into(),
            is: numerant_data::value::ColumnType::Date,
        },
        condition("arrived < DATE '2026-03-06'"),
    ];
    let error = taken(CALLS, &steps, options()).expect_err("soon");
    assert_eq!(
        error,
        "line 4: column 'arrived' is declared date, and \"soon\" is not a date without a time"
    );
    let (_, records, _) = taken(CALLS, &steps, reject()).expect("taken");
    assert_eq!(records[0], "1|North|10.10|2026-03-05");
    assert_eq!(records.len(), 2);
}

#[test]
fn declared_types_hold_all_values() {
    let check = |is: &str, value: &str, mark: DecimalMark| {
        let step = Step::Type {
            column: "a".into(),
            is: is.parse().expect(is),
        };
        let options = PipelineOptions {
            cells: Cells {
                numbers: None,
                mark,
                formats: Vec::new(),
                columns: std::sync::Arc::default(),
            },
            ..options()
        };
        taken(&format!("b;a\n1;{value}\n"), &[step], options).map(|_| ())
    };
    let point = DecimalMark::Point;
    for (is, value, fits) in [
        ("integer", "12", true),
        ("integer", "-1,234,567", true),
        ("integer", "12.0", false),
        ("integer", "1E3", true),
        ("integer", "", true),
        ("decimal", "1,234.50", true),
        ("decimal", "1.234,50", false),
        ("decimal", "1,234", false),
        ("date", "5.3.2026", true),
        ("date", "31.02.2025", false),
        ("date", "2026-03-05 10:00", false),
        ("datetime", "2026-03-05 10:00", true),
        ("datetime", "2026-03-05", false),
        ("boolean", "True", true),
        ("boolean", "yes", false),
        ("text", "anything", true),
    ] {
        assert_eq!(check(is, value, point).is_ok(), fits, "{is} {value}");
    }
    assert!(check("decimal", "1.234,50", DecimalMark::Comma).is_ok());
    assert_eq!(
        check("decimal", "1,234.50", DecimalMark::Comma).expect_err("the other mark"),
        "line 2: column 'a' is declared decimal, and \"1,234.50\" has another decimal mark than \
         stated"
    );
}

#[test]
fn a_comma_is_read_and_written() {
    let options = PipelineOptions {
        cells: Cells {
            mark: DecimalMark::Comma,
            numbers: None,
            formats: Vec::new(),
            columns: std::sync::Arc::default(),
        },
        ..options()
    };
    let text = "id;dues\n1;1.234,50\n2;7\n";
    let steps = [set("net", "dues * 1.1"), set("more", "net + 1")];
    let (_, records, _) = taken(text, &steps, options).expect("taken");
    assert_eq!(
        records,
        ["1|1.234,50|1357,950|1358,950", "2|7|7,7|8,7"],
        "what is computed can be read again"
    );
}

#[test]
fn tidying() {
    let text = "id,quay,blank\n 1 ,\" North\",\n,,\n2,\u{a0}East\t, \n , ,\n";
    let options = PipelineOptions {
        blank_columns: vec![2],
        ..options()
    };
    let (header, records, pipeline) = taken(text, &[Step::Tidy], options).expect("taken");
    assert_eq!(header, ["id", "quay"]);
    assert_eq!(records, ["1|North", "2|East"]);
    let tally = pipeline.tidied().expect("tidied");
    assert_eq!((tally.values, tally.columns.len()), (6, 1));
    assert_eq!(pipeline.left_out()[0].reason, LeftOutStep::Empty);
    assert_eq!(pipeline.left_out()[0].records, 2);
}

#[test]
fn blank_columns_are_found_over_all_records() {
    let mut reader = reader("a,b,c,d\n1,,\" \",\n2,,x,\n");
    let mut blank = BlankColumns::new(4);
    let mut batch = Batch::default();
    while reader.next_batch(&mut batch).expect("readable") {
        blank.look(&batch);
    }
    assert_eq!(blank.into_places(), [1, 3]);
}

#[test]
fn tables_are_looked_up() {
    let folder = tempfile::tempdir().expect("a folder");
    let file = folder.path().join("owners.csv");
    std::fs::write(&file, "berth;folder;chief\nNorth;n;Ada\nEast;e;\"O;le\"\n").expect("written");
    let lookup = |unmatched, repeated| {
        Step::Lookup(Lookup {
            file: file.clone(),
            key: "berth".into(),
            column: Some("quay".into()),
            unmatched,
            repeated,
        })
    };
    let steps = [
        lookup(Unmatched::Blank, Repeated::Refuse),
        Step::Drop(names(&["dues", "arrived"])),
    ];
    assert_eq!(
        records(&steps),
        ["1|North|n|Ada", "2|East|e|O;le", "3|North|n|Ada", "4|||"]
    );
    let (_, _, pipeline) = taken(CALLS, &steps, options()).expect("taken");
    let unmatched = pipeline.unmatched().expect("allowed");
    assert_eq!(unmatched[0].examples, [(String::new(), 1)]);
    let steps = [lookup(Unmatched::Refuse, Repeated::Refuse)];
    let (_, _, pipeline) = taken(CALLS, &steps, options()).expect("taken");
    assert!(
        pipeline.unmatched().is_err(),
        "reported at the end, with all keys"
    );
    let steps = [lookup(Unmatched::Reject, Repeated::Refuse)];
    let (_, records, _) = taken(CALLS, &steps, options()).expect("taken");
    assert!(records[3].starts_with("5: column 'quay': \"\" is not in "));

    std::fs::write(&file, "berth;folder\nNorth;n\nEast;e\nNorth;m\n").expect("written");
    let error = taken(
        CALLS,
        &[lookup(Unmatched::Blank, Repeated::Refuse)],
        options(),
    );
    let error = error.expect_err("a key twice");
    assert!(error.ends_with("has 1 key more than once"), "{error}");
    for (repeated, folder) in [(Repeated::First, "n"), (Repeated::Last, "m")] {
        let steps = [
            lookup(Unmatched::Blank, repeated),
            Step::Keep(names(&["folder"])),
        ];
        let taken = taken(CALLS, &steps, options());
        assert_eq!(taken.expect("taken").1[0], folder);
    }
}

#[test]
fn cases_name_records() {
    let case = |name: &str, when: &str| Case {
        name: name.into(),
        when: when.parse().expect(when),
    };
    let options = |rest: Option<&str>| PipelineOptions {
        cases: vec![
            case("north", "quay = 'North'"),
            case("cheap", "id < 3"),
            case("never", "id > 100"),
        ],
        rest: rest.map(str::to_owned),
        ..options()
    };
    let name_of = |rest: Option<&str>| {
        let mut reader = reader(CALLS);
        let columns = reader.columns().clone();
        let mut pipeline = Pipeline::new(&[], &columns, options(rest)).expect("cases");
        let slot = pipeline.layout().find(CASE_COLUMN).expect("there").slot;
        let mut found = Vec::new();
        let mut batch = Batch::default();
        while reader.next_batch(&mut batch).expect("readable") {
            pipeline.apply(&mut batch).expect("applied");
            for record in 0..batch.len() {
                let name = batch.field(record, slot).text().into_owned();
                found.push(String::from_utf8(name).expect("UTF-8"));
            }
        }
        (found, pipeline.unused_cases(), pipeline.left_out().len())
    };
    let unused = names(&["never"]);
    assert_eq!(
        name_of(Some("rest")),
        (
            names(&["north", "cheap", "north", "rest"]),
            unused.clone(),
            0
        )
    );
    assert_eq!(
        name_of(None),
        (names(&["north", "cheap", "north"]), unused, 1)
    );
    let twice = PipelineOptions {
        rest: Some("north".into()),
        ..options(None)
    };
    let error = taken(CALLS, &[], twice).expect_err("twice");
    assert_eq!(error, "case: the name 'north' is given twice");
}

#[test]
fn totals_follow_the_records() {
    let number = |text: &str| text.parse::<Number>().expect(text);
    let options = PipelineOptions {
        totals: names(&["dues", "net"]),
        on_error: OnError::Reject,
        ..options()
    };
    let steps = [set("net", "dues + 1"), condition("id <> 1")];
    let (_, records, pipeline) = taken(CALLS, &steps, options).expect("taken");
    assert_eq!(records.len(), 3, "one is left out, one rejected");
    let totals: Vec<(String, String)> = pipeline
        .totals()
        .map(|(name, all, _)| (name.to_owned(), all.to_string()))
        .collect();
    assert_eq!(
        totals,
        [
            ("dues".to_owned(), "17.10".to_owned()),
            ("net".to_owned(), "19.10".to_owned())
        ]
    );
    assert_eq!(
        pipeline.left_out()[0].totals,
        [number("10.10"), number("11.10")]
    );
}

#[test]
fn steps_that_cannot_be_taken_say_why() {
    let rename = |from: &str, to: &str| Step::Rename {
        from: from.into(),
        to: to.into(),
    };
    for (steps, expected) in [
        (
            vec![Step::Keep(names(&["quai"]))],
            "keep: there is no column 'quai'",
        ),
        (
            vec![Step::Drop(names(&["dues"])), Step::Keep(names(&["dues"]))],
            "keep: there is no column 'dues'",
        ),
        (
            vec![rename("id", "quay")],
            "rename: there is a column 'quay' already",
        ),
        (
            vec![condition("net > 5"), set("net", "1")],
            "where: column 'net' is only made by a later step (set)",
        ),
        (
            vec![Step::Drop(names(&["id", "quay", "dues", "arrived"]))],
            "drop: no column is left to write",
        ),
        (
            vec![Step::Sort(vec!["-duse".parse().expect("a column")])],
            "sort: there is no column 'duse'",
        ),
        (vec![set(" ", "1")], "set: a column needs a name"),
        (
            vec![condition("dues + 1")],
            "where: a condition is needed, and this is a number",
        ),
    ] {
        let error = taken(CALLS, &steps, options()).expect_err(expected);
        assert_eq!(error, expected);
    }
}
