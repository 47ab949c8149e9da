//! Cases in folders: input, commands, and what has to come of them.
//!
//! Each folder `tests/cases/<area>/<name>/` is a case. `commands` holds command lines of the program,
//! one a line; `in/` the files that they find in their folder; `report` what they show; `out/` the files
//! that are there afterwards and were not before, or have changed. Files of `in/` that are gone afterwards
//! are listed in the report. `NUMERANT_UPDATE_CASES=1 cargo test` writes `report` and `out/` anew; read
//! them before they are committed.

use std::collections::BTreeMap;
use std::fmt::Write;
use std::fs;
use std::path::{Path, PathBuf};

use super::support::Bench;

/// All files below a folder, by their paths in it.
fn files(folder: &Path) -> BTreeMap<String, Vec<u8>> {
    let mut found = BTreeMap::new();
    let mut folders = vec![folder.to_owned()];
    while let Some(next) = folders.pop() {
        let Ok(entries) = fs::read_dir(&next) else {
            continue;
        };
        for entry in entries {
            let path = entry.expect("an entry").path();
            if path.is_dir() {
                folders.push(path);
            } else {
                let name = path.strip_prefix(folder).expect("below");
                let bytes = fs::read(&path).expect("read");
                found.insert(name.to_string_lossy().into_owned(), bytes);
            }
        }
    }
    found
}

/// The words of a command line, as a shell takes it apart: quotes of both kinds, and backslashes outside
/// single quotes.
fn words(line: &str) -> Vec<String> {
    let mut words = Vec::new();
    let mut word: Option<String> = None;
    let mut quote = None;
    let mut characters = line.chars();
    while let Some(character) = characters.next() {
        match (character, quote) {
            (end, Some(open)) if end == open => quote = None,
            ('\\', None | Some('"')) => {
                let next = characters.next().expect("something behind a backslash");
                word.get_or_insert_default().push(next);
            }
            ('"' | '\'', None) => {
                quote = Some(character);
                word.get_or_insert_default();
            }
            (' ', None) => words.extend(word.take()),
            (other, _) => word.get_or_insert_default().push(other),
        }
    }
    words.extend(word);
    words
}

/// Runs a case, and returns what it shows and the files that are new or changed.
fn run(case: &Path) -> (String, BTreeMap<String, Vec<u8>>) {
    let bench = Bench::new();
    let input = files(&case.join("in"));
    for (name, bytes) in &input {
        bench.write(name, bytes);
    }
    let mut report = String::new();
    let commands = fs::read_to_string(case.join("commands")).expect("commands");
    for line in commands.lines() {
        let words = words(line);
        let words: Vec<&str> = words.iter().map(String::as_str).collect();
        let (program, arguments) = words.split_first().expect("a command");
        assert_eq!(*program, "numerant", "{}", case.display());
        writeln!(report, "$ {line}").expect("written");
        writeln!(report, "{}\n", bench.run(arguments)).expect("written");
    }
    let mut after = files(bench.folder());
    for (name, bytes) in &input {
        match after.get(name) {
            None => writeln!(report, "gone: {name}").expect("written"),
            Some(now) if now == bytes => {
                after.remove(name);
            }
            Some(_) => {}
        }
    }
    (report, after)
}

/// The folders of cases, in order.
fn cases() -> Vec<PathBuf> {
    let root = Path::new(env!("CARGO_MANIFEST_DIR")).join("tests/cases");
    let mut cases = Vec::new();
    for area in fs::read_dir(root).expect("areas") {
        let area = area.expect("an area").path();
        for case in fs::read_dir(&area).expect("cases") {
            let case = case.expect("a case").path();
            if case.join("commands").is_file() {
                cases.push(case);
            }
        }
    }
    cases.sort();
    cases
}

#[test]
fn cases_do_what_they_are_to_do() {
    let update = std::env::var_os("NUMERANT_UPDATE_CASES").is_some();
    let only = std::env::var("NUMERANT_CASE").unwrap_or_default();
    let mut wrong = Vec::new();
    let cases = cases();
    assert!(!cases.is_empty(), "there are cases");
    for case in cases {
        let name = case.display().to_string();
        if !name.contains(&only) {
            continue;
        }
        let (report, out) = run(&case);
        if update {
            fs::write(case.join("report"), &report).expect("written");
            let _ = fs::remove_dir_all(case.join("out"));
            for (name, bytes) in &out {
                let path = case.join("out").join(name);
                fs::create_dir_all(path.parent().expect("a folder")).expect("made");
                fs::write(path, bytes).expect("written");
            }
            continue;
        }
        let expected = fs::read_to_string(case.join("report")).unwrap_or_default();
        if report != expected {
            wrong.push(format!(
                "{name}: shows\n{report}\nand is to show\n{expected}"
            ));
        }
        let expected = files(&case.join("out"));
        for file in out.keys().chain(expected.keys()) {
            let (found, wanted) = (out.get(file), expected.get(file));
            if found != wanted {
                let shown = |bytes: Option<&Vec<u8>>| {
                    bytes.map(|bytes| String::from_utf8_lossy(bytes).into_owned())
                };
                let (found, wanted) = (shown(found), shown(wanted));
                wrong.push(format!(
                    "{name}: {file} is {found:?} and is to be {wanted:?}"
                ));
            }
        }
    }
    assert!(wrong.is_empty(), "{}", wrong.join("\n\n"));
}
