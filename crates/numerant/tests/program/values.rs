//! The table of spellings in `docs/values.md`, held against what becomes of each.

use std::fmt::Write;

use numerant_data::value::{WrittenFormat, WrittenHints, WrittenOutcome, WrittenTally};

use super::house::held;
use super::support::Bench;

/// Columns of values, one to three each.
const COLUMNS: [&[&str]; 62] = [
    &["9/10/2023", "12/31/2023"],
    &["09/10/2023", "12/31/2023"],
    &["31/12/2026", "01/02/2027"],
    &["31.12.2026", "01.02.2027"],
    &["31.12.2026", "1.2.2027"],
    &["31-12-2026", "01-02-2027"],
    &["2026/03/05", "2026/12/31"],
    &["2026.03.05", "2026.12.31"],
    &["12/31/26", "1/2/27"],
    &["31/12/26", "30/12/26", "02/01/27"],
    &["5 Mar 2026", "17 Dec 2026"],
    &["05-Mar-26", "17-Dec-26"],
    &["March 5, 2026", "May 17, 2026"],
    &["Mar 5, 2026", "Dec 17, 2026"],
    &["5. März 2026", "17. Mai 2026"],
    &["5. Mär 2026", "17. Dez 2026"],
    &["2026-Mar-05", "2026-Dec-17"],
    &["3/13/2026 9:05 PM", "12/31/2026 10:15 AM"],
    &["3/13/2026 9:05:30 PM"],
    &["13/03/2026 21:05", "31/12/2026 10:15"],
    &["31.12.2026, 10:15"],
    &["13.03.2026 21:05:30"],
    &["9:05 PM", "10:15 AM"],
    &["09:05PM"],
    &["9:05", "21:15"],
    &["3/4/2026", "5/6/2026"],
    &["10/11/12"],
    &["30/2/2026"],
    &["1/2/1899"],
    &["MAR 5, 2026"],
    &["$49,442.00", "$5.00"],
    &["$49,442", "$5"],
    &["$5.00", "-$1,250.00"],
    &["$5.00", "$-1,250.00"],
    &["$5.00", "($1,250.00)"],
    &["(1,250)", "999"],
    &["1,250-", "999"],
    &["€ 12.50", "€ 1,000.00"],
    &["12,50 €", "1.234,50 €"],
    &["£1,000", "£5"],
    &["USD 1,000.00", "USD 5.00"],
    &["1 234,50 kr", "5,00 kr"],
    &["1 234,50", "5,00"],
    &["1\u{202f}234,50", "5,00"],
    &["1\u{a0}234,50", "5,00"],
    &["1.234,50", "5,00"],
    &["1'234.50", "5.00"],
    &["1\u{2019}234.50", "5.00"],
    &["1,234", "12,500", "999"],
    &["1,5", "2,0"],
    &["12.5%", "3.0%"],
    &["12.5 %", "3.0 %"],
    &["12,5 %", "3,0 %"],
    &["-5%", "12%"],
    &["1,234", "5,678"],
    &["$1,234", "€5"],
    &["$1.5", "$2.25"],
    &["1,2,3"],
    &["007", "012"],
    &["VRN9000001"],
    &["1.2.3", "4.5.6"],
    &["1,234,567,890,123,456"],
];

/// The value of a cell as text has it.
fn value(format: &WrittenFormat, text: &str) -> String {
    if let Some(number) = format.number(text) {
        return number.to_string();
    }
    match format {
        WrittenFormat::Moment(pattern) => {
            let moment = format.moment(text).expect("a moment");
            let day = pattern.has_date().then(|| moment.date().to_string());
            let clock = pattern.has_time().then(|| moment.time().to_string());
            Vec::from_iter(day.into_iter().chain(clock)).join(" ")
        }
        WrittenFormat::Number(_) => panic!("{text} is a number"),
    }
}

#[test]
fn spellings_become_what_the_documents_say() {
    let mut table =
        "\n| written | number format of the cells | value |\n|---|---|---|\n".to_owned();
    for column in COLUMNS {
        let mut tally = WrittenTally::new(WrittenHints {
            language: "de".parse().ok(),
            ..WrittenHints::default()
        });
        for (line, text) in column.iter().enumerate() {
            tally.add(text, line as u64 + 2);
        }
        let (format, becomes) = match tally.finish() {
            WrittenOutcome::All(format) => {
                // What is read is written again, character by character.
                for text in column {
                    let again = match &format {
                        WrittenFormat::Number(pattern) => {
                            pattern.read(text).and_then(|number| pattern.write(number))
                        }
                        WrittenFormat::Moment(pattern) => {
                            pattern.read(text).and_then(|moment| pattern.write(moment))
                        }
                    };
                    assert_eq!(again.as_deref(), Some(*text));
                }
                (format!("`{}`", format.code()), value(&format, column[0]))
            }
            WrittenOutcome::Ambiguous(one, other) => {
                let either = format!("`{}` or `{}`", one.code(), other.code());
                (either, "stays text; a note names the option".to_owned())
            }
            WrittenOutcome::Most(..) | WrittenOutcome::None => {
                ("".to_owned(), "stays text".to_owned())
            }
        };
        let shown: Vec<String> = column.iter().map(|text| format!("`{text}`")).collect();
        writeln!(table, "| {} | {format} | {becomes} |", shown.join(" ")).expect("written");
    }
    let marks = ("<!-- begin: spellings -->", "<!-- end: spellings -->");
    held("docs/values.md", marks, &table);
}

#[test]
fn spellings_come_back_from_workbooks_as_they_are_shown() {
    let rows = COLUMNS.iter().map(|column| column.len()).max().unwrap_or(0);
    let names: Vec<String> = (1..=COLUMNS.len())
        .map(|number| format!("c{number}"))
        .collect();
    let mut text = names.join("\t") + "\n";
    for row in 0..rows {
        // Columns with fewer values have their last one again.
        let values = COLUMNS
            .iter()
            .map(|column| column[row.min(column.len() - 1)]);
        text.push_str(&Vec::from_iter(values).join("\t"));
        text.push('\n');
    }
    let bench = Bench::new();
    bench.write("written.tsv", &text);
    for format in ["xlsx", "ods", "xls"] {
        let words = [
            "convert",
            "written.tsv",
            "--to",
            format,
            "--locale",
            "de",
            "--out",
            format,
        ];
        bench.run(&words);
        let (from, to) = (
            format!("{format}/written.{format}"),
            format!("back-{format}"),
        );
        let words = [
            "convert", &from, "--cells", "shown", "--to", "tsv", "--out", &to,
        ];
        bench.run(&words);
        let shown = bench.read(&format!("back-{format}/written.tsv"));
        assert_eq!(shown, text, "{format}");
    }
}
