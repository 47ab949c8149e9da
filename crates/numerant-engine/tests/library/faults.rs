//! All or nothing: whatever call of a run fails, wherever it is killed, and whenever the power goes, the old state or
//! the new one is there at the end, and nothing between.

#![allow(
    clippy::print_stdout,
    reason = "the figures are shown where they are asked for"
)]

use std::collections::BTreeMap;
use std::path::PathBuf;
use std::sync::Arc;

use numerant_data::disk::Disk;
use numerant_engine::job::Job;
use numerant_engine::output::{Direction, ExistingPolicy};
use numerant_engine::{Context, Error, recover, run, run_batch};

use crate::support::faults::{Fault, Injector};
use crate::support::{Folder, context, tree};

const CALLS: &str = "id,quay\n1,North\n2,South\n3,East\n4,North\nx\n";

/// Errors of the system: no room, input and output, quota.
const ERRORS: [i32; 3] = [28, 5, 122];

/// A job, and what is in its folder before.
#[derive(Clone, Copy, Debug)]
enum Case {
    New,
    Replace,
    Clear,
    Archive,
    Workbooks,
    Batch,
}

const CASES: [Case; 6] = [
    Case::New,
    Case::Replace,
    Case::Clear,
    Case::Archive,
    Case::Workbooks,
    Case::Batch,
];

type State = BTreeMap<PathBuf, Vec<u8>>;

impl Case {
    fn folder(self) -> Folder {
        let folder = Folder::in_memory(&[
            ("calls.csv", CALLS),
            ("in/a.csv", "id\n1\n"),
            ("in/b.csv", "id\n2\n"),
        ]);
        match self {
            Self::New => {}
            Self::Replace => {
                folder.write("out/North.csv", "old");
                folder.write("out/q/South.csv", "old too");
                folder.write("out/note.txt", "of somebody else");
                folder.write("books/day.json", "{}");
            }
            Self::Clear => {
                let mut earlier = self.job(&folder);
                earlier.existing = ExistingPolicy::Refuse;
                folder.write("calls.csv", "id,quay\n1,North\n2,West\n");
                run(&earlier, &context()).expect("done");
                folder.write("calls.csv", CALLS);
            }
            Self::Archive => folder.write("parts.zip", "old"),
            Self::Workbooks => folder.write("out/North.xlsx", "old"),
            Self::Batch => folder.write("out/a.json", "old"),
        }
        folder
    }

    fn job(self, folder: &Folder) -> Job {
        let job = Job {
            sources: vec![folder.path("calls.csv").into()],
            name: Some("{quay}.csv".parse().expect("a template")),
            out: Some(folder.path("out")),
            existing: ExistingPolicy::Replace,
            rejects: Some(folder.path("rejects/day")),
            ledger: Some(folder.path("books/day.json")),
            jobs: 1,
            ..Job::default()
        };
        let read = |mut job: Job| {
            job.read.ragged = numerant_format::Ragged::Reject;
            job
        };
        match self {
            Self::New => read(Job {
                existing: ExistingPolicy::Refuse,
                sync: true,
                ..job
            }),
            Self::Replace => {
                let mut job = job;
                job.name = Some("q/{quay}.csv".parse().expect("a template"));
                read(job)
            }
            Self::Clear => read(Job {
                existing: ExistingPolicy::Clear,
                rejects: None,
                ..job
            }),
            Self::Archive => read(Job {
                out: None,
                pack: Some(folder.path("parts.zip")),
                ..job
            }),
            Self::Workbooks => read(Job {
                name: Some("{quay}.xlsx".parse().expect("a template")),
                ..job
            }),
            Self::Batch => Job {
                sources: vec![folder.path("in").into()],
                name: None,
                to: Some("json".to_owned()),
                batch: true,
                rejects: None,
                ledger: None,
                ..job
            },
        }
    }

    fn run(self, folder: &Folder, context: &Context) -> Result<(), Error> {
        let job = self.job(folder);
        match self {
            Self::Batch => {
                let batch = run_batch(&job, context)?;
                match batch.failed() {
                    0 => Ok(()),
                    // Each file is a run of its own.
                    _ => Err(Error::Interrupted),
                }
            }
            _ => run(&job, context).map(drop),
        }
    }

    /// What people see of a folder: all but hidden folders. The ledger names the folder, which is another each time.
    fn seen(self, folder: &Folder) -> State {
        let mut seen = tree(&folder.path(""));
        seen.retain(|path, _| !path.to_string_lossy().contains(".numerant-"));
        if let Some(ledger) = seen.get_mut(&PathBuf::from("books/day.json")) {
            let text = String::from_utf8_lossy(ledger).into_owned();
            let own = folder.path("").display().to_string();
            *ledger = text.replace(own.trim_end_matches('/'), "HERE").into_bytes();
        }
        seen
    }

    /// The folder that its outputs go into.
    fn folder_of_run(self, folder: &Folder) -> PathBuf {
        match self {
            Self::Archive => folder.path(""),
            _ => folder.path("out"),
        }
    }

    /// The state before, the state after, and how many calls lead there.
    fn states(self) -> (State, State, Arc<Injector>) {
        let folder = self.folder();
        let before = self.seen(&folder);
        let counting = Arc::new(Injector::new(Fault::None));
        self.run(&folder, &with(&counting))
            .expect("a run without faults");
        (before, self.seen(&folder), counting)
    }

    /// Whether a state is the one before or after, or of a batch that for each file.
    fn is_whole(self, state: &State, before: &State, after: &State) -> bool {
        match self {
            Self::Batch => {
                let names = before.keys().chain(after.keys()).chain(state.keys());
                names.into_iter().all(|name| {
                    let found = state.get(name);
                    found == before.get(name) || found == after.get(name)
                })
            }
            _ => state == before || state == after,
        }
    }
}

fn with(injector: &Arc<Injector>) -> Context {
    Context {
        disk: Disk::with_faults(Arc::clone(injector) as _),
        processors: 1,
        ..context()
    }
}

fn assert_clean(folder: &Folder, what: &str) {
    let hidden = tree(&folder.path(""));
    let hidden: Vec<_> = hidden
        .keys()
        .filter(|path| path.to_string_lossy().contains(".numerant-"))
        .collect();
    assert!(hidden.is_empty(), "{what}: {hidden:?}");
}

#[test]
fn any_call_may_fail() {
    let mut runs = 0;
    for case in CASES {
        let (before, after, counting) = case.states();
        for number in 0..counting.count() {
            let error = ERRORS[number % ERRORS.len()];
            let folder = case.folder();
            let injector = Arc::new(Injector::new(Fault::Fail([number, number], error)));
            let result = case.run(&folder, &with(&injector));
            runs += 1;
            let state = case.seen(&folder);
            let what = format!(
                "{case:?}, call {number} of {}: {result:?}",
                counting.count()
            );
            match result {
                Ok(()) => assert_eq!(state, after, "{what}"),
                Err(_) if matches!(case, Case::Batch) => {
                    assert!(case.is_whole(&state, &before, &after), "{what}");
                }
                Err(_) => assert_eq!(state, before, "{what}"),
            }
            // What could not be removed goes with the next run.
            case.run(&folder, &context()).map_or_else(
                |error| assert!(state == after, "{what}, then {error:?}"),
                |()| assert_eq!(case.seen(&folder), after, "{what}"),
            );
            if state != after {
                assert_clean(&folder, &what);
            }
        }
    }
    println!("figures: {runs} runs with a call that fails");
}

#[test]
fn any_two_calls_of_a_commit_may_fail() {
    let mut runs = 0;
    for case in [Case::Replace, Case::Clear] {
        let (before, after, counting) = case.states();
        let all = counting.count();
        // The commit is the last part of a run.
        let first = all.saturating_sub(46);
        for one in first..all {
            for other in one + 1..all + 12 {
                let folder = case.folder();
                let injector = Arc::new(Injector::new(Fault::Fail([one, other], ERRORS[1])));
                runs += 1;
                let result = case.run(&folder, &with(&injector));
                let what = format!("{case:?}, calls {one} and {other} of {all}: {result:?}");
                let unfinished =
                    matches!(&result, Err(Error::Output(error)) if error.unfinished.is_some());
                match result {
                    Ok(()) => assert_eq!(case.seen(&folder), after, "{what}"),
                    Err(_) if unfinished => {
                        recover(&folder.path("out"), Direction::Back, &context())
                            .expect("recovered");
                        assert_eq!(case.seen(&folder), before, "{what}");
                        assert_clean(&folder, &what);
                    }
                    Err(_) => assert_eq!(case.seen(&folder), before, "{what}"),
                }
            }
        }
    }
    println!("figures: {runs} runs with two calls that fail");
}

#[test]
fn a_run_may_be_killed_at_any_call() {
    let mut kills = 0;
    for case in CASES {
        let (before, after, counting) = case.states();
        for number in 0..counting.count() {
            for direction in [Direction::Back, Direction::Forward] {
                let folder = case.folder();
                let injector = Arc::new(Injector::new(Fault::Kill(number)));
                let _ = case.run(&folder, &with(&injector));
                assert!(injector.was_hit());
                kills += 1;
                let what = format!(
                    "{case:?}, killed at call {number} of {}, {direction:?}",
                    counting.count()
                );
                let into = case.folder_of_run(&folder);
                recover(&into, direction, &context())
                    .unwrap_or_else(|error| panic!("{what}: {error}"));
                assert!(
                    case.is_whole(&case.seen(&folder), &before, &after),
                    "{what}"
                );
                assert_clean(&folder, &what);
                assert!(
                    recover(&into, direction, &context())
                        .expect("nothing")
                        .is_empty(),
                    "{what}"
                );
            }
            // The next run does it by itself.
            let folder = case.folder();
            let injector = Arc::new(Injector::new(Fault::Kill(number)));
            let _ = case.run(&folder, &with(&injector));
            let again = case.run(&folder, &context());
            let state = case.seen(&folder);
            let what = format!("{case:?}, killed at call {number}, then {again:?}");
            assert_eq!(state, after, "{what}");
            kills += 1;
        }
    }
    println!("figures: {kills} kills");
}

#[test]
fn the_power_may_go_at_any_call() {
    let mut cuts = 0;
    for case in [
        Case::New,
        Case::Replace,
        Case::Clear,
        Case::Archive,
        Case::Workbooks,
    ] {
        let (before, after, counting) = case.states();
        for number in 0..=counting.count() {
            let mut kept = 0;
            loop {
                let folder = case.folder();
                let injector = Arc::new(Injector::new(Fault::Kill(number)));
                let result = case.run(&folder, &with(&injector));
                let unsynced = injector.unsynced();
                injector.cut_power(kept);
                cuts += 1;
                let what = format!(
                    "{case:?}, power gone at call {number} of {}, {kept} of {unsynced} kept",
                    counting.count()
                );
                let into = case.folder_of_run(&folder);
                recover(&into, Direction::Back, &context())
                    .unwrap_or_else(|error| panic!("{what}: {error}"));
                let state = case.seen(&folder);
                assert!(
                    case.is_whole(&state, &before, &after),
                    "{what}: {:?}",
                    state.keys()
                );
                // What was said to be done is on the device.
                assert!(result.is_err() || state == after, "{what}: {result:?}");
                if kept >= unsynced {
                    break;
                }
                // All points, where there are few; else some.
                kept += (unsynced / 6).max(1);
            }
        }
    }
    println!("figures: {cuts} cuts of the power");
    assert!(cuts > 500, "{cuts}");
}

#[test]
fn files_beside_the_outputs_may_be_on_another_file_system() {
    let elsewhere = |name: &str| {
        let folder = tempfile::Builder::new().prefix(name).tempdir();
        folder.expect("a folder")
    };
    let case = Case::Replace;
    let mut number = 0;
    loop {
        let (folder, beside) = (case.folder(), elsewhere("beside"));
        std::fs::write(beside.path().join("day.json"), "old").expect("written");
        let job = Job {
            ledger: Some(beside.path().join("day.json")),
            rejects: Some(beside.path().join("rejects/day")),
            ..case.job(&folder)
        };
        let state = |what: &str| {
            let files = tree(beside.path());
            let hidden = files
                .keys()
                .any(|path| path.to_string_lossy().contains(".numerant-"));
            assert!(!hidden, "{what}: {:?}", files.keys());
            let is_new = files.contains_key(&PathBuf::from("rejects/day"));
            let ledger = &files[&PathBuf::from("day.json")];
            assert_eq!(ledger != b"old", is_new, "{what}");
            let outputs = case
                .seen(&folder)
                .contains_key(&PathBuf::from("out/q/North.csv"));
            assert_eq!(outputs, is_new, "{what}");
            is_new
        };
        let injector = Arc::new(Injector::new(Fault::Kill(number)));
        let result = run(&job, &with(&injector));
        if !injector.was_hit() {
            assert!(result.is_ok() && state("at the end"));
            break;
        }
        let what = format!("killed at call {number}: {result:?}");
        let again = run(&job, &context());
        assert!(again.is_ok() && state(&what), "{what}");
        number += 1;
    }
    assert!(number > 30, "{number}");
}
