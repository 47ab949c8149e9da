//! Files and texts of every kind that are a little wrong: none makes a panic, a hang or a run that does not balance.
//!
//! `NUMERANT_MUTATIONS` says how many of each format are tried, `NUMERANT_SEED` which ones.

#![allow(
    clippy::print_stdout,
    reason = "the figures are shown where they are asked for"
)]

use std::panic::{AssertUnwindSafe, catch_unwind};
use std::path::{Path, PathBuf};
use std::time::{Duration, Instant};

use numerant_data::value::Size;
use numerant_engine::job::{Job, JobFile};
use numerant_engine::{Context, inspect, run};
use numerant_format::Ragged;
use numerant_naming::{NamePattern, Template, parse_keys};
use numerant_steps::expr::Expression;

use crate::support::mutate::{Numbers, mutated, seeds};
use crate::support::{context, job};

/// What a small file may take at most, also where several tests run at the same time.
const LONGEST: Duration = Duration::from_secs(20);

fn asked(name: &str, usual: u64) -> u64 {
    let asked = std::env::var(name).ok();
    asked.and_then(|asked| asked.parse().ok()).unwrap_or(usual)
}

/// Does something with a file that is kept if it panics or takes long.
fn tried(what: &str, path: &Path, work: impl FnOnce()) {
    let begun = Instant::now();
    let result = catch_unwind(AssertUnwindSafe(work));
    let taken = begun.elapsed();
    if result.is_err() || taken > LONGEST {
        let name = path.file_name().expect("a name");
        let kept = std::env::temp_dir().join(name);
        std::fs::copy(path, &kept).expect("kept");
        panic!(
            "{what} of {} took {taken:?}, panic: {}",
            kept.display(),
            result.is_err()
        );
    }
}

fn small() -> Context {
    Context {
        processors: 1,
        ..context()
    }
}

/// A run of a wrong file: if it is done, its books balance.
fn balances(job: &Job) {
    if let Ok(summary) = run(job, &small()) {
        assert!(summary.ledger.balanced);
    }
}

#[test]
fn files_that_are_a_little_wrong() {
    let folder = tempfile::tempdir_in("/dev/shm")
        .or_else(|_| tempfile::tempdir())
        .expect("a folder");
    let count = asked("NUMERANT_MUTATIONS", 60);
    let mut numbers = Numbers(asked("NUMERANT_SEED", 20_261_127));
    let (mut files, mut read) = (0, 0);
    for seed in seeds(folder.path()) {
        for number in 0..count {
            let path = folder.path().join(format!("m{number}.{}", seed.extension));
            std::fs::write(&path, mutated(&seed, &mut numbers)).expect("written");
            files += 1;
            let base = Job {
                memory: Size(16_000_000),
                jobs: 1,
                max_outputs: 50,
                ..Job::default()
            };
            tried("inspecting", &path, || {
                let found = inspect(&path.clone().into(), &base, 3, &small());
                read += u64::from(found.is_ok());
            });
            let out = folder.path().join("out");
            let into = |name: &str| Job {
                memory: base.memory,
                jobs: 1,
                max_outputs: 50,
                ..job(&path, name, &out)
            };
            let mut ragged = into("a.csv");
            ragged.read.ragged = Ragged::Reject;
            let to_same = format!("b.{}", seed.extension);
            let name = ["c.xlsx", "d.json", "e.xml", to_same.as_str()][numbers.below(4)];
            tried("converting", &path, || balances(&ragged));
            tried("writing", &path, || balances(&into(name)));
            let _ = std::fs::remove_dir_all(&out);
            std::fs::remove_file(&path).expect("removed");
        }
    }
    println!("figures: {files} files that are a little wrong, {read} of them readable");
    assert!(read > files / 10, "{read} of {files} could be read");
}

#[test]
fn texts_that_are_a_little_wrong() {
    let count = asked("NUMERANT_MUTATIONS", 60) * 40;
    let mut numbers = Numbers(asked("NUMERANT_SEED", 20_261_127));
    let expressions = [
        "\"quay\" = 'North' AND dues > 1.50 OR NOT (note IS NULL)",
        "CASE WHEN a LIKE 'x%' ESCAPE '!' THEN b || 'c' ELSE COALESCE(d, '') END",
        "CAST(arrived AS DATE) + INTERVAL '3' DAY BETWEEN DATE '2026-01-01' AND DATE '2026-12-31'",
        "SUBSTRING(a FROM 2 FOR 3) IN ('a', 'b') AND EXTRACT(YEAR FROM b) = 2026",
    ];
    let templates = [
        "{quay}/{arrived:month} {.n:03}.csv",
        "{a:first 3}-{b:band 10}{{x}}",
        "{station}_{term}.tsv",
    ];
    let jobs = [
        "[[job]]\ncommand = 'split'\nsources = ['calls.csv']\nby = ['quay']\nout = 'parts'\nmemory = '64M'\n[[job.step]]\nwhere = 'dues > 1'\n",
    ];
    let words = [
        "(",
        ")",
        "'",
        "\"",
        "((((((((((((((((((((((((((((((((",
        "NOT ",
        "- - ",
        "||",
        "CASE ",
        "{",
        "}",
        "{{",
        ":",
        "/",
        "..",
        "[[",
        "]]",
        "=",
        "\n",
        "9999999999999999999999",
        "1e9",
        "\0",
        "é",
        "-- ",
        "/*",
        "{.n:999999999999}",
        "{a:first 99999999999999999999}",
        "INTERVAL ",
    ];
    let mut texts = 0;
    for _ in 0..count {
        for (kind, seeds) in [(0, &expressions[..]), (1, &templates[..]), (2, &jobs[..])] {
            let mut text = seeds[numbers.below(seeds.len())].to_owned();
            for _ in 0..=numbers.below(3) {
                let places: Vec<usize> = text
                    .char_indices()
                    .map(|(at, _)| at)
                    .chain([text.len()])
                    .collect();
                let at = places[numbers.below(places.len())];
                let to = places
                    .iter()
                    .copied()
                    .find(|place| *place >= at + numbers.below(9))
                    .unwrap_or(text.len());
                let word = words[numbers.below(words.len())];
                let word = if numbers.below(12) == 0 {
                    word.repeat(200)
                } else {
                    word.to_owned()
                };
                text.replace_range(at..to, &word);
            }
            texts += 1;
            let begun = Instant::now();
            let result = catch_unwind(AssertUnwindSafe(|| match kind {
                0 => drop(text.parse::<Expression>()),
                1 => {
                    let _ = text.parse::<Template>();
                    let _ = parse_keys(&text);
                    if let Ok(pattern) = text.parse::<NamePattern>() {
                        let _ = pattern.read(&PathBuf::from("a/V03_2026_level__x.tsv"));
                    }
                }
                _ => {
                    if let Ok(file) = JobFile::parse(&text, Path::new("job.toml"), &[]) {
                        let _ = file.check();
                    }
                }
            }));
            let taken = begun.elapsed();
            assert!(result.is_ok() && taken < LONGEST, "{taken:?}: {text:?}");
        }
    }
    println!("figures: {texts} texts that are a little wrong");
}
