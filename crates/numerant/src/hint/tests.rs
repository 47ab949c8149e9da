use numerant_data::value::{Cells, NumberProblem, Size};
use numerant_engine::job::{Job, JobError};
use numerant_engine::{Error, ExistingOutput, NameClash, Refusal, SideFileKind};
use numerant_formats::FORMATS;
use numerant_steps::expr::{Expression, Scope, ScopeColumn, Type};
use numerant_steps::{StepError, StepName, StepProblem};

use super::{expression, of_error, read, reading_option, step, value};

fn columns() -> Vec<ScopeColumn> {
    [
        ("quay", Type::Cell),
        ("tonnes", Type::Number),
        ("arrived", Type::Moment),
    ]
    .into_iter()
    .enumerate()
    .map(|(slot, (name, kind))| ScopeColumn {
        name: name.to_owned(),
        slot,
        kind,
        computed: false,
    })
    .collect()
}

/// The hint for an expression that cannot be evaluated.
fn of_text(text: &str) -> String {
    let columns = columns();
    let scope = Scope {
        columns: &columns,
        later: &[],
        cells: &Cells::default(),
        occurrences: None,
    };
    let error = text
        .parse::<Expression>()
        .and_then(|parsed| parsed.compile(&scope).map(|_| ()))
        .expect_err(text);
    let hint = expression::of_expression(&error);
    format!("{text}: {error}\n  {}", hint.unwrap_or_default())
}

#[test]
fn a_wrong_expression_gets_the_one_that_works() {
    let hints = [
        "quai = 'North'",
        "quay = \"North\"",
        "UPPR(quay) = 'N'",
        "FROB(quay) = 'N'",
        "SUM(tonnes) > 5",
        "tonnes > 'many' + 1",
        "quay || tonnes",
        "tonnes = 5 AND 'x'",
        "quay = ''",
        "tonnes % 2 = 0",
        "quay ILIKE 'n%'",
        "arrived > '5 Mar 2026'",
        "arrived > 'x' || 'y'",
    ]
    .map(of_text);
    insta::assert_snapshot!(hints.join("\n"));
}

#[test]
fn values_get_the_option_that_reads_them() {
    let hints = [
        "8/19/2025",
        "9/10/2023",
        "5 Mar 2026",
        "2026-03-05",
        "n/a",
        "soon, perhaps",
    ]
    .map(|text| format!("{text:?} as a date: {}", value::date_hint(text)))
    .into_iter()
    .chain(
        ["2,5", "$49,442.00", "1 234,50", "NA", "4 boats"].map(|text| {
            format!(
                "{text:?} as a number: {}",
                value::number_hint(text).unwrap_or_default()
            )
        }),
    )
    .chain(
        [
            NumberProblem::Ambiguous,
            NumberProblem::OtherMark,
            NumberProblem::Not,
        ]
        .map(|problem| {
            format!(
                "{problem:?}: {}",
                expression::of_number(&problem, "2026-03-05").unwrap_or_default()
            )
        }),
    );
    insta::assert_snapshot!(hints.collect::<Vec<_>>().join("\n"));
    let comma = numerant_data::value::suggest(&["2,5"]).expect("an option");
    assert_eq!(reading_option(&comma), "--decimal-comma");
}

#[test]
fn steps_and_records_get_options_that_help() {
    let exists = |step| {
        let name = "quay".to_owned();
        step::of_step(&StepError::Exists { step, name })
    };
    assert_ne!(exists(StepName::Lookup), exists(StepName::Rename));
    let too_much = StepProblem::TooMuch {
        name: "net".to_owned(),
        limit: Size(1 << 20),
    };
    let hint = step::of_record(&too_much).expect("a hint");
    assert!(hint.contains("--memory"), "{hint}");
    assert_eq!(
        too_much.to_string(),
        "set net: the computed values of a few records take more than 1Mi"
    );
}

#[test]
fn refusals_name_the_policies() {
    let clash = |first: &str, second: &str| NameClash {
        path: "North.csv".to_owned(),
        first: first.to_owned(),
        second: second.to_owned(),
        folder: false,
        outputs: 2,
    };
    let clashes = |first, second| {
        let clashes = vec![clash(first, second)];
        of_error(&Refusal::Clashes { clashes, count: 1 }.into()).expect("a hint")
    };
    assert!(clashes("North", "north ").contains("--tidy"));
    assert!(clashes("North", "South").starts_with("add a column to --name"));
    let existing = Refusal::Existing {
        outputs: vec![ExistingOutput {
            path: "North.csv".into(),
        }],
        count: 1,
    };
    let hint = of_error(&existing.into()).expect("a hint");
    assert!(hint.contains("--existing replace"), "{hint}");
    let side = |kind| {
        let path = "parts.json".into();
        let refusal = Refusal::SideFile { path, kind };
        (
            refusal.to_string(),
            of_error(&refusal.into()).expect("a hint"),
        )
    };
    for (kind, noun, option) in [
        (SideFileKind::Ledger, "ledger", "--ledger"),
        (
            SideFileKind::Rejects,
            "file of rejected records",
            "--rejects",
        ),
        (SideFileKind::Page, "page of the run", "--page"),
    ] {
        let (message, hint) = side(kind);
        assert!(message.ends_with(&format!("as the {noun}")), "{message}");
        assert_eq!(hint, format!("choose another file for {option}"));
    }
}

#[test]
fn a_job_that_cannot_run_gets_the_option_that_is_missing() {
    let job = |name: &str| Job {
        sources: vec![std::path::PathBuf::from("calls.csv").into()],
        name: Some(name.parse().expect("a template")),
        ..Job::default()
    };
    let rows = |name| Job {
        rows: Some(10),
        ..job(name)
    };
    let cases = [
        (
            Job {
                name: None,
                ..job("x.csv")
            },
            "--by COLUMN",
        ),
        (
            Job {
                each: true,
                ..rows("{.n}.csv")
            },
            "remove --rows or --each",
        ),
        (job("{quay}"), "--to FORMAT"),
        (job("{quay}.doc"), "--to FORMAT"),
        (job("{.case}.csv"), "--case NAME=CONDITION"),
        (
            Job {
                max_size: Some(Size(1_000)),
                ..job("{.n}.xlsx")
            },
            "use --rows",
        ),
        (
            Job {
                rejects: Some("r.csv".into()),
                ..job("{quay}.csv")
            },
            "--ragged reject",
        ),
    ];
    for (job, expected) in cases {
        let error: JobError = job.check().expect_err(expected);
        let message = error.to_string();
        assert!(!message.contains("--"), "{message}");
        let hint = of_error(&Error::Job(error)).expect(expected);
        assert!(hint.contains(expected), "{message}: {hint}");
    }
}

#[test]
fn a_column_that_is_not_there_gets_the_nearest() {
    let columns = numerant_data::record::Columns::from_header(&["quay", "agent"]);
    let hint = |name: &str| read::of_column(&columns.find(name).expect_err("no such column"));
    assert_eq!(hint("quai"), "did you mean 'quay'? columns: quay, agent");
    assert_eq!(hint("tonnes"), "columns: quay, agent");
}

#[test]
fn hints_name_options_that_there_are() {
    use clap::CommandFactory;
    let command = crate::args::Arguments::command();
    let mut known: Vec<String> = FORMATS
        .iter()
        .flat_map(|format| format.options())
        .map(|option| option.name.to_owned())
        .collect();
    let mut below: Vec<&clap::Command> = vec![&command];
    while let Some(command) = below.pop() {
        below.extend(command.get_subcommands());
        known.extend(
            command
                .get_arguments()
                .filter_map(|argument| argument.get_long())
                .map(str::to_owned),
        );
    }
    let sources = [
        include_str!("mod.rs"),
        include_str!("expression.rs"),
        include_str!("job.rs"),
        include_str!("read.rs"),
        include_str!("step.rs"),
        include_str!("value.rs"),
        include_str!("write.rs"),
    ];
    let mut named = 0;
    for line in sources.iter().flat_map(|source| source.lines()) {
        for after in line.split("--").skip(1) {
            let end = after
                .find(|c: char| !c.is_ascii_lowercase() && c != '-')
                .unwrap_or(after.len());
            let option = after[..end].trim_end_matches('-');
            if !option.is_empty() {
                named += 1;
                assert!(
                    known.iter().any(|known| known == option),
                    "--{option} in {line}"
                );
            }
        }
    }
    assert!(named > 80, "{named}");
}
