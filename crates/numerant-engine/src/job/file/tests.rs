//! Job files: read, filled in, refused with their lines, and written.

use std::path::Path;

use super::*;
use crate::output::ExistingPolicy;
use numerant_naming::parse_keys;
use numerant_steps::Step;

fn parse(text: &str, given: &[(&str, &str)]) -> Result<JobFile, String> {
    let given: Vec<(String, String)> = given
        .iter()
        .map(|(name, value)| ((*name).to_owned(), (*value).to_owned()))
        .collect();
    let parsed = JobFile::parse(text, Path::new("jobs/night.toml"), &given);
    parsed.map_err(|error| error.to_string())
}

fn error(text: &str) -> String {
    let error = parse(text, &[]).and_then(|file| file.check().map_err(|e| e.to_string()));
    error.expect_err(text)
}

#[test]
fn keys_are_the_words_of_the_options() {
    let text = "
        [params]
        month = '2026-03'
        least = { about = 'dues below are left out', default = 100 }

        [[job]]
        command = 'split'
        sources = ['calls.csv', '/all/*.csv', '-']
        delimiter = ';'
        decimal-comma = true
        by = ['quay', 'arrived:month']
        steps = [
            { where = \"arrived LIKE '${month}%' AND dues >= ${least}\" },
            'tidy',
            { lookup = { file = 'owners.csv', key = 'quay' } },
        ]
        to = 'xlsx'
        max-size = '10M'
        out = 'parts-${month}'
        existing = 'replace'
        rows = '${least}'

        [[job]]
        command = 'combine'
        sources = ['parts']
        name = '${month}.csv'

        [[job]]
        command = 'convert'
        sources = ['in']
        to = 'json'

        [[job]]
        command = 'verify'
        whole = ['calls.csv']
        parts = ['parts']
    ";
    let file = parse(text, &[("month", "O'Hara{}")]).expect("a job file");
    assert_eq!(
        file.entries
            .iter()
            .map(|entry| entry.line)
            .collect::<Vec<_>>(),
        [6, 23, 28, 33]
    );
    let job = match &file.entries[0].work {
        Work::Split(job) => job,
        other => panic!("{other:?}"),
    };
    let sources: Vec<String> = job.sources.iter().map(ToString::to_string).collect();
    assert_eq!(sources, ["jobs/calls.csv", "/all/*.csv", "standard input"]);
    assert_eq!(job.by, parse_keys("quay,arrived:month").expect("keys"));
    assert_eq!(
        job.steps[0],
        Step::Where(
            "arrived LIKE 'O''Hara{}%' AND dues >= 100"
                .parse()
                .expect("a condition")
        ),
        "quotes are doubled within a text"
    );
    assert_eq!(job.steps[1], Step::Tidy);
    assert!(
        matches!(&job.steps[2], Step::Lookup(lookup) if lookup.file == Path::new("jobs/owners.csv"))
    );
    assert_eq!(job.out.as_deref(), Some(Path::new("jobs/parts-O'Hara{}")));
    assert_eq!(job.rows, Some(100), "a text that is a number is one");
    assert_eq!(job.existing, ExistingPolicy::Replace);
    assert!(job.read.delimiter.is_some() && job.decimal_comma && !job.batch);
    let combine = match &file.entries[1].work {
        Work::Combine(job) => job,
        other => panic!("{other:?}"),
    };
    let name = combine.name.as_ref().map(ToString::to_string);
    assert_eq!(
        name.as_deref(),
        Some("O'Hara{{}}.csv"),
        "braces are doubled"
    );
    assert_eq!(combine.out.as_deref(), Some(Path::new("jobs")));
    assert!(matches!(&file.entries[2].work, Work::Convert(job) if job.batch));
    assert!(
        matches!(&file.entries[3].work, Work::Verify(verify) if verify.whole.len() == 1),
        "{:?}",
        file.entries[3]
    );
}

#[test]
fn what_is_wrong_is_told_with_its_line() {
    let split = "[[job]]\ncommand = 'split'\nsources = ['calls.csv']\n";
    for (text, expected) in [
        (String::new(), "jobs/night.toml: there is no [[job]] in it"),
        (
            "# nothing\n".into(),
            "jobs/night.toml: there is no [[job]] in it",
        ),
        (
            "[job]\ncommand = 'split'".into(),
            "line 1: a job begins with [[job]] in two pairs of brackets",
        ),
        ("x = = 3".into(), "line 1: "),
        (
            "[[job]]\nby = ['a']\nby = ['b']".into(),
            "line 3: duplicate key",
        ),
        (
            "[[jobs]]\n".into(),
            "line 1: 'jobs' is not a key of a job file; did you mean 'job'?",
        ),
        (
            "[[job]]\nsources = ['a']".into(),
            "line 1: this job has no command",
        ),
        (
            "\n[[job]]\ncommand = 'spilt'".into(),
            "line 3: 'spilt' is not a command of a job",
        ),
        (
            format!("{split}bye = ['quay']"),
            "line 4: 'bye' is not a key of split; did you mean 'by'?",
        ),
        (
            format!("{split}stop-on-error = true"),
            "line 4: 'stop-on-error' is not a key of split",
        ),
        (
            format!("{split}by = 5"),
            "line 4: 'by': invalid type: integer `5`",
        ),
        (
            format!("{split}by = [\n'quay',\n'a:mnth']"),
            "line 6: 'by': 'mnth' is not a part of a value",
        ),
        (
            format!("{split}steps = [{{ where = 'dues >> 5' }}]"),
            "line 4: 'steps': ",
        ),
        (
            format!("{split}name = '${{month}}.csv'"),
            "line 4: there is no parameter 'month'",
        ),
        (
            format!("{split}name = '${{month'"),
            "line 4: '${' is not closed",
        ),
        (split.into(), "line 1: there is nothing to split by"),
        (
            "[params]\n'a b' = 1\n[[job]]\ncommand='split'".into(),
            "line 2: the parameter 'a b' needs a name",
        ),
        (
            "[params]\nmonth = { about = 'the month' }\n[[job]]".into(),
            "the parameter 'month' has no value (the month)",
        ),
        (
            "[[job]]\ncommand='verify'\nwhole=['a.csv']".into(),
            "line 1: verify needs ledger, or whole and parts",
        ),
        (
            "[[job]]\ncommand='combine'\nsources=['x/../all.csv']\nname='all.csv'".into(),
            "line 1: this job reads jobs/all.csv and would write to it",
        ),
    ] {
        let error = error(&text);
        assert!(error.contains(expected), "{text}\n{error}\n{expected}");
    }
    let unknown = parse("[params]\nmonth = 1\n[[job]]", &[("mont", "2")]);
    assert!(
        unknown
            .expect_err("unknown")
            .contains("there is no parameter 'mont'; did you mean 'month'?")
    );
}

#[test]
fn a_sign_can_stand_for_itself() {
    let text = "[params]\na = 'x'\n[[job]]\ncommand = 'convert'\nto = 'csv'\nsources = ['$${a}-${a}-$.csv']";
    let file = parse(text, &[]).expect("a job file");
    let sources = match &file.entries[0].work {
        Work::Convert(job) => job.sources[0].to_string(),
        other => panic!("{other:?}"),
    };
    assert_eq!(sources, "jobs/${a}-x-$.csv");
}

#[test]
fn what_is_written_reads_back() {
    let job = Job {
        sources: vec![Path::new("in/calls.csv").to_owned().into()],
        by: parse_keys("quay,\"a, b\"").expect("keys"),
        steps: vec![
            Step::Tidy,
            Step::Where("quay <> '${x}'".parse().expect("a condition")),
            Step::Drop(vec!["remarks".into(), "x\"y".into()]),
        ],
        name: Some("{quay}/{arrived:month}.csv".parse().expect("a template")),
        out: Some("out".into()),
        rows: Some(500),
        total: vec!["dues".into()],
        base: "jobs".into(),
        ..Job::default()
    };
    let work = Work::Split(Box::new(job.clone()));
    let text = to_toml(&work, Path::new("jobs/night.toml")).expect("written");
    assert!(text.contains("sources = [\"../in/calls.csv\"]"), "{text}");
    assert!(
        text.contains("# Number of records in each output.\nrows = 500"),
        "{text}"
    );
    let read = parse(&text, &[]).expect(&text);
    let same = Job {
        sources: vec![Path::new("jobs/../in/calls.csv").to_owned().into()],
        out: Some("jobs/../out".into()),
        ..job
    };
    assert_eq!(read.entries[0].work, Work::Split(Box::new(same)));
    let verify = Work::Verify(Box::new(VerifyJob {
        ledger: Some("jobs/l.json".into()),
        ..VerifyJob::default()
    }));
    let text = to_toml(&verify, Path::new("jobs/night.toml")).expect("written");
    assert_eq!(parse(&text, &[]).expect(&text).entries[0].work, verify);
}

#[test]
fn the_schema_is_the_one_that_is_shipped() {
    let path = Path::new(env!("CARGO_MANIFEST_DIR")).join("../../docs/job.schema.json");
    let mut text = serde_json::to_string_pretty(&schema()).expect("serialised");
    text.push('\n');
    if std::env::var_os("NUMERANT_WRITE_DOCS").is_some() {
        std::fs::write(&path, &text).expect("written");
    }
    let shipped = std::fs::read_to_string(&path).unwrap_or_default();
    let shipped: serde_json::Value = serde_json::from_str(&shipped).expect("the schema");
    assert!(
        shipped == schema(),
        "docs/job.schema.json is old; NUMERANT_WRITE_DOCS=1 cargo test writes it anew"
    );
}

#[test]
fn each_command_has_a_schema_of_its_own() {
    let schema = schema();
    let jobs = &schema["properties"]["job"]["items"]["oneOf"];
    for (job, command) in jobs.as_array().expect("jobs").iter().zip(COMMANDS) {
        // A key of a job that is called so would take its place.
        assert_eq!(job["properties"]["command"]["const"], command);
    }
}
