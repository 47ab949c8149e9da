//! The documents: commands in blocks of `console` are run on the sample data, and links lead to what is there.

use std::fs;
use std::path::{Path, PathBuf};
use std::process::{Command, Stdio};

use super::support::Bench;

/// Lines of output that a document shows of a command; longer outputs are cut in the middle.
const MAX_SHOWN: usize = 30;

/// The lines at the end of an output that is cut.
const LAST_SHOWN: usize = 6;

fn root() -> PathBuf {
    Path::new(env!("CARGO_MANIFEST_DIR")).join("../..")
}

/// All documents that are shipped.
fn documents() -> Vec<PathBuf> {
    let mut found = vec![root().join("README.md"), root().join("CONTRIBUTING.md")];
    let mut folders = vec![root().join("docs")];
    while let Some(folder) = folders.pop() {
        for entry in fs::read_dir(folder).expect("a folder") {
            let path = entry.expect("an entry").path();
            if path.is_dir() {
                folders.push(path);
            } else if path.extension().is_some_and(|extension| extension == "md") {
                found.push(path);
            }
        }
    }
    found.sort();
    found
}

/// What a command prints: its standard output, then its standard error.
fn output(command: &str, folder: &Path) -> String {
    let program = Path::new(env!("CARGO_BIN_EXE_numerant"));
    let path = program.parent().expect("a folder").display().to_string();
    let path = format!("{path}:{}", std::env::var("PATH").unwrap_or_default());
    let done = Command::new("sh")
        .args(["-c", command])
        .current_dir(folder)
        .env_clear()
        .env("PATH", path)
        .stdin(Stdio::null())
        .output()
        .expect("a shell");
    let streams = [done.stdout, done.stderr].concat();
    let text = String::from_utf8(streams).expect("UTF-8");
    let lines: Vec<&str> = text.lines().map(str::trim_end).collect();
    let mut shown: Vec<&str> = lines.clone();
    if lines.len() > MAX_SHOWN {
        shown.truncate(MAX_SHOWN - LAST_SHOWN - 1);
        shown.push("…");
        shown.extend(&lines[lines.len() - LAST_SHOWN..]);
    }
    shown.iter().map(|line| format!("{line}\n")).collect()
}

/// A document with the outputs of its commands, which run one after the other in one folder.
fn with_outputs(text: &str, sample: &Path) -> String {
    let bench = Bench::new();
    copy(sample, bench.folder());
    let mut written = String::new();
    let mut lines = text.lines().peekable();
    while let Some(line) = lines.next() {
        written.push_str(line);
        written.push('\n');
        if line != "```console" {
            continue;
        }
        let mut is_first = true;
        while let Some(line) = lines.next_if(|line| *line != "```") {
            let Some(typed) = line.strip_prefix("$ ") else {
                continue;
            };
            let mut command = vec![typed];
            while command.last().is_some_and(|line| line.ends_with('\\')) {
                command.extend(lines.next());
            }
            if !is_first {
                written.push('\n');
            }
            is_first = false;
            written.push_str(&format!("$ {}\n", command.join("\n")));
            written.push_str(&output(&command.join("\n"), bench.folder()));
        }
    }
    written
}

fn copy(from: &Path, to: &Path) {
    for entry in fs::read_dir(from).expect("a folder") {
        let path = entry.expect("an entry").path();
        let target = to.join(path.file_name().expect("a name"));
        if path.is_dir() {
            fs::create_dir_all(&target).expect("made");
            copy(&path, &target);
        } else {
            fs::copy(&path, &target).expect("copied");
        }
    }
}

#[test]
fn commands_in_the_documents_print_what_they_say() {
    let bench = Bench::new();
    let made = bench.run(&["demo", "varnholm", "--data-only"]);
    assert!(made.contains("code 0"), "{made}");
    let sample = bench.path("varnholm");
    let documents = documents();
    std::thread::scope(|scope| {
        for path in &documents {
            let sample = &sample;
            scope.spawn(move || {
                let text = fs::read_to_string(path).expect("a document");
                if !text.contains("```console\n") {
                    return;
                }
                let expected = with_outputs(&text, sample);
                if std::env::var_os("NUMERANT_WRITE_DOCS").is_some() {
                    fs::write(path, expected).expect("written");
                } else {
                    let name = path.display();
                    assert_eq!(text, expected, "{name}: NUMERANT_WRITE_DOCS=1 writes it");
                }
            });
        }
    });
}

/// The anchors of the headings of a document, as they are linked to.
fn anchors(text: &str) -> Vec<String> {
    let headings = text.lines().filter(|line| line.starts_with('#'));
    let anchor = |line: &str| {
        let title = line.trim_start_matches('#').trim().to_lowercase();
        let kept = title
            .chars()
            .filter(|c| c.is_alphanumeric() || " -_".contains(*c));
        kept.map(|c| if c == ' ' { '-' } else { c }).collect()
    };
    headings.map(anchor).collect()
}

/// The targets of the links in a document, without those on the web.
fn links(text: &str) -> Vec<String> {
    let after = text.split("](").skip(1);
    let targets = after.filter_map(|rest| rest.split_once(')').map(|(target, _)| target));
    let is_local = |target: &&str| !target.contains("://") && !target.contains(' ');
    targets.filter(is_local).map(str::to_owned).collect()
}

#[test]
fn links_lead_to_what_is_there() {
    for path in documents() {
        let text = fs::read_to_string(&path).expect("a document");
        for link in links(&text) {
            let (file, anchor) = link.split_once('#').unwrap_or((&link, ""));
            let target = match file {
                "" => path.clone(),
                file => path.parent().expect("a folder").join(file),
            };
            assert!(target.exists(), "{}: {link}", path.display());
            if !anchor.is_empty() {
                let there = anchors(&fs::read_to_string(&target).expect("a document"));
                assert!(
                    there.iter().any(|known| known == anchor),
                    "{}: {link}",
                    path.display()
                );
            }
        }
    }
}

#[test]
fn the_book_has_every_document() {
    let summary = fs::read_to_string(root().join("docs/SUMMARY.md")).expect("a summary");
    let listed = links(&summary);
    for path in documents() {
        let Ok(path) = path.strip_prefix(root().join("docs")).map(Path::to_owned) else {
            continue;
        };
        let name = path.display().to_string();
        assert!(name == "SUMMARY.md" || listed.contains(&name), "{name}");
    }
}
