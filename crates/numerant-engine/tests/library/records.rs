//! Bibliographic records: ISO 2709 and MARCXML, split, converted and held against each other.

pub(crate) use std::path::Path;

use crate::support::{Folder, context, tree};
use numerant_data::value::Size;
use numerant_engine::job::Job;
use numerant_engine::{Error, PartsOptions, run, verify_parts};
use numerant_format::{Ragged, ReadOptions};
use numerant_naming::ClashPolicy;
use proptest::prelude::*;

/// A record of ISO 2709, with these bytes in its fields, indicators and marks among them.
fn record(coding: char, fields: &[(&str, &[u8])]) -> Vec<u8> {
    let (mut directory, mut data) = (String::new(), Vec::new());
    for (tag, content) in fields {
        directory.push_str(&format!("{tag}{:04}{:05}", content.len() + 1, data.len()));
        data.extend_from_slice(content);
        data.push(0x1e);
    }
    let base = 24 + directory.len() + 1;
    let mut bytes = format!(
        "{:05}nem {coding}22{base:05} a 4500{directory}",
        base + data.len() + 1
    )
    .into_bytes();
    bytes.push(0x1e);
    bytes.extend_from_slice(&data);
    bytes.push(0x1d);
    bytes
}

fn chart(number: &str, title: &str) -> Vec<u8> {
    let title = format!("10\x1fa{title}\x1fbBlatt 1");
    record(
        'a',
        &[
            ("001", number.as_bytes()),
            ("008", b"260301s2026    xx |||||| a     1  0eng d"),
            ("245", title.as_bytes()),
            ("650", b" 4\x1faHarbours\x1fzVarnholm"),
            ("650", b" 4\x1faFairways"),
        ],
    )
}

fn catalogue(folder: &Folder) -> Vec<Vec<u8>> {
    let records = vec![
        chart("VH001", "Skarv Sound"),
        chart("VH002", "Eider & <Fulmar> Bank"),
        chart("VH001", "Ångkajen"),
    ];
    std::fs::write(folder.path("charts.mrc"), records.concat()).expect("written");
    records
}

fn job(folder: &Folder, source: &str, name: &str) -> Job {
    crate::support::job(&folder.path(source), name, &folder.path("out"))
}

fn done(job: &Job) {
    let summary = run(job, &context()).expect("done");
    assert!(summary.ledger.balanced);
}

#[test]
fn records_move_as_they_stand() {
    let folder = Folder::with(&[]);
    let records = catalogue(&folder);
    let mut split = job(&folder, "charts.mrc", "{001}.mrc");
    split.each = true;
    assert!(matches!(run(&split, &context()), Err(Error::Refused(_))));
    assert!(!folder.path("out").exists());
    split.clash = ClashPolicy::Number;
    done(&split);
    let read = |name: &str| std::fs::read(folder.path("out").join(name)).expect("readable");
    assert_eq!(read("VH001.mrc"), records[0]);
    assert_eq!(read("VH002.mrc"), records[1]);
    assert_eq!(read("VH001-2.mrc"), records[2]);
    // By a part of a field, in the trade's notation, and with a condition on another.
    let mut split = job(&folder, "charts.mrc", "{008/35-37} {650[2]$a}.mrc");
    split.out = Some(folder.path("by"));
    split.steps = vec![numerant_steps::Step::Where(
        "\"245$a\" LIKE '%S%' OR \"245#1\" = '2'"
            .parse()
            .expect("a condition"),
    )];
    done(&split);
    let files: Vec<_> = tree(&folder.path("by")).into_iter().collect();
    assert_eq!(files, [("eng Fairways.mrc".into(), records[0].clone())]);
}

#[test]
fn the_two_forms_hold_the_same() {
    let folder = Folder::with(&[]);
    let records = catalogue(&folder);
    done(&job(&folder, "charts.mrc", "charts.marcxml"));
    let text = folder.read("out/charts.marcxml");
    assert!(text.starts_with("<?xml version=\"1.0\" encoding=\"UTF-8\"?>\n<collection xmlns=\"http://www.loc.gov/MARC21/slim\">\n  <record>\n    <leader>"));
    assert!(
        text.contains("<subfield code=\"a\">Eider &amp; &lt;Fulmar&gt; Bank</subfield>"),
        "{text}"
    );
    // An .xml of such records is MARCXML, too, and what is read of it comes back byte for byte.
    done(&job(&folder, "charts.mrc", "charts.xml"));
    assert_eq!(folder.read("out/charts.xml"), text);
    done(&job(&folder, "out/charts.xml", "again.mrc"));
    let again = std::fs::read(folder.path("out/again.mrc")).expect("readable");
    assert_eq!(again, records.concat());
    // Parts of the XML keep the text of each record.
    let mut split = job(&folder, "out/charts.xml", "{001}.xml");
    split.out = Some(folder.path("parts"));
    split.clash = ClashPolicy::Together;
    done(&split);
    let part = folder.read("parts/VH002.xml");
    assert!(
        text.contains(part.lines().nth(3).expect("a line")) && part.ends_with("</collection>\n"),
        "{part}"
    );
    let options = PartsOptions {
        parts_read: None,
        job: Job {
            per_sheet: true,
            ..Job::default()
        },
        whole: vec![folder.path("charts.mrc").into()],
        parts: vec![folder.path("out/again.mrc").into()],
        read: ReadOptions::default(),
        keep: Vec::new(),
        ignore: Vec::new(),
        memory: Size(1 << 20),
        list: 20,
        jobs: 0,
    };
    let check = verify_parts(&options, &context()).expect("compared");
    assert_eq!(check.whole, check.parts);
    // As columns, and made of columns.
    done(&job(&folder, "charts.mrc", "charts.csv"));
    let csv = folder.read("out/charts.csv");
    assert!(
        csv.starts_with(
            "LDR,001,008,245#1,245#2,245$a,245$b,650#2,650$a,650$z,650[2]#2,650[2]$a\n"
        ),
        "{csv}"
    );
    done(&job(&folder, "out/charts.csv", "made.mrc"));
    let made = std::fs::read(folder.path("out/made.mrc")).expect("readable");
    assert_eq!(made, records.concat());
    folder.write("calls.csv", "call,quay\nC1,North\n");
    let error =
        run(&job(&folder, "calls.csv", "calls.mrc"), &context()).expect_err("no such columns");
    assert!(error.to_string().contains("the column 'call'"), "{error}");
}

#[test]
fn characters_of_marc_8_become_unicode() {
    let folder = Folder::with(&[]);
    let old = record(
        ' ',
        &[
            ("001", b"VH9"),
            ("245", b"10\x1fa\xeaAngkajen \xb2st, 10\x1bp2\x1bs m"),
        ],
    );
    std::fs::write(folder.path("old.mrc"), &old).expect("written");
    done(&job(&folder, "old.mrc", "old.csv"));
    assert!(folder.read("out/old.csv").contains("Ångkajen øst, 10² m"));
    done(&job(&folder, "old.mrc", "old.marcxml"));
    assert!(folder.read("out/old.marcxml").contains("nem a22"));
    done(&job(&folder, "old.mrc", "copy.mrc"));
    assert_eq!(
        std::fs::read(folder.path("out/copy.mrc")).expect("readable"),
        old
    );
    let other = record(' ', &[("001", b"VH9"), ("245", b"10\x1fa\x1b(NABC")]);
    std::fs::write(folder.path("other.mrc"), other).expect("written");
    let error = run(&job(&folder, "other.mrc", "other.csv"), &context())
        .expect_err("not covered")
        .to_string();
    assert!(
        error.contains("record 1") && error.contains("field 245") && error.contains("ESC ( N"),
        "{error}"
    );
}

#[test]
fn broken_records_are_told_or_rejected_as_they_are() {
    let folder = Folder::with(&[]);
    let records = catalogue(&folder);
    let mut broken = records[1].clone();
    broken[3] = b'9';
    let all = [
        records[0].as_slice(),
        b"\r\n",
        &broken,
        &records[2],
        &records[0][..40],
    ]
    .concat();
    std::fs::write(folder.path("broken.mrc"), &all).expect("written");
    let mut convert = job(&folder, "broken.mrc", "whole.mrc");
    let error = run(&convert, &context()).expect_err("broken").to_string();
    let offset = records[0].len() + 3;
    assert!(
        error.contains(&format!(
            "record 2: the record at byte {offset}: the leader states"
        )),
        "{error}"
    );
    convert.read.ragged = Ragged::Reject;
    convert.rejects = Some(folder.path("rejected.mrc"));
    let summary = run(&convert, &context()).expect("done");
    assert_eq!(
        (
            summary.ledger.totals.written,
            summary.ledger.totals.rejected
        ),
        (2, 2)
    );
    let read = |name: &str| std::fs::read(folder.path(name)).expect("readable");
    assert_eq!(
        read("out/whole.mrc"),
        [records[0].as_slice(), &records[2]].concat()
    );
    assert_eq!(
        read("rejected.mrc"),
        [broken.as_slice(), &records[0][..40]].concat()
    );
    for (name, bytes) in [
        ("empty.mrc", b"".as_slice()),
        ("text.mrc", b"hello\n"),
        ("nul.mrc", &[0; 64]),
    ] {
        std::fs::write(folder.path(name), bytes).expect("written");
        assert!(
            run(&job(&folder, name, "x.csv"), &context()).is_err(),
            "{name}"
        );
    }
}

/// Records of any fields whose values are text.
fn any_records() -> impl Strategy<Value = Vec<Vec<(String, String)>>> {
    let field = ("[1-9][0-9][0-9]", "[ -~æøåÉ]{0,30}");
    prop::collection::vec(prop::collection::vec(field, 0..6), 1..12)
}

proptest! {
    #![proptest_config(ProptestConfig::with_cases(24))]
    #[test]
    fn parts_put_together_are_the_whole(records in any_records(), rows in 1_u64..4) {
        let folder = Folder::with(&[]);
        let mut whole = Vec::new();
        for (number, fields) in records.iter().enumerate() {
            let id = format!("VH{number:03}");
            let texts: Vec<Vec<u8>> = fields.iter().map(|(_, text)| format!("1 \x1fa{text}").into_bytes()).collect();
            let mut all: Vec<(&str, &[u8])> = vec![("001", id.as_bytes())];
            all.extend(fields.iter().zip(&texts).map(|((tag, _), text)| (tag.as_str(), text.as_slice())));
            whole.extend(record('a', &all));
        }
        std::fs::write(folder.path("whole.mrc"), &whole).expect("written");
        let mut split = job(&folder, "whole.mrc", "{.n:03}.mrc");
        split.rows = Some(rows);
        done(&split);
        let parts = tree(&folder.path("out"));
        prop_assert_eq!(parts.into_values().flatten().collect::<Vec<u8>>(), whole.clone());
        let mut xml = job(&folder, "whole.mrc", "whole.marcxml");
        xml.out = Some(folder.path("xml"));
        done(&xml);
        let mut back = job(&folder, "xml/whole.marcxml", "back.mrc");
        back.out = Some(folder.path("xml"));
        done(&back);
        prop_assert_eq!(std::fs::read(Path::new(&folder.path("xml/back.mrc"))).expect("readable"), whole);
    }
}
