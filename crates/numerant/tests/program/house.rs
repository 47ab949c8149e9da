//! The house itself: crates and the arrows between them, and the length of files.

use std::collections::BTreeMap;
use std::path::{Path, PathBuf};
use std::process::Command;

use serde_json::Value;

/// Lines without tests that a file may have.
const MAX_LINES: usize = 600;

fn root() -> PathBuf {
    Path::new(env!("CARGO_MANIFEST_DIR")).join("../..")
}

/// Holds what is between two marks of a document against what it should be, or writes it anew.
pub(super) fn held(document: &str, (begin, end): (&str, &str), expected: &str) {
    let path = root().join(document);
    let text = std::fs::read_to_string(&path).expect(document);
    let (before, rest) = text.split_once(begin).expect(begin);
    let (found, after) = rest.split_once(end).expect(end);
    if std::env::var_os("NUMERANT_WRITE_DOCS").is_some() {
        let whole = format!("{before}{begin}{expected}{end}{after}");
        std::fs::write(&path, whole).expect("written");
    } else {
        assert_eq!(
            found, expected,
            "NUMERANT_WRITE_DOCS=1 cargo test writes it anew"
        );
    }
}

#[test]
fn arrows_between_crates_are_those_of_the_map() {
    let metadata = Command::new(env!("CARGO"))
        .args([
            "metadata",
            "--format-version",
            "1",
            "--no-deps",
            "--offline",
        ])
        .current_dir(root())
        .output()
        .expect("cargo");
    assert!(metadata.status.success(), "{metadata:?}");
    let metadata: Value = serde_json::from_slice(&metadata.stdout).expect("JSON");
    let list = |value: &Value, key: &str| value[key].as_array().cloned().unwrap_or_default();
    let name = |value: &Value| value["name"].as_str().unwrap_or_default().to_owned();
    let mut arrows: BTreeMap<String, Vec<String>> = BTreeMap::new();
    for package in list(&metadata, "packages") {
        let dependencies = list(&package, "dependencies");
        let own = dependencies
            .iter()
            .filter(|dependency| dependency["kind"].is_null() && dependency["path"].is_string());
        let mut to: Vec<String> = own.map(name).collect();
        to.sort();
        arrows.insert(name(&package), to);
    }
    assert_eq!(arrows["numerant-data"], Vec::<String>::new());
    let of_engine = |to: &Vec<String>| to.contains(&"numerant-engine".to_owned());
    let above: Vec<&String> = arrows
        .iter()
        .filter(|(_, to)| of_engine(to))
        .map(|(from, _)| from)
        .collect();
    assert_eq!(above, ["numerant", "numerant-delivery"]);
    let mut table = String::from("\n| crate | uses |\n|---|---|\n");
    for (from, to) in &arrows {
        let short = |name: &String| match name.strip_prefix("numerant-") {
            Some(short) => format!("-{short}"),
            None => name.clone(),
        };
        let to: Vec<String> = to.iter().map(short).collect();
        table.push_str(&format!("| `{from}` | {} |\n", to.join(" ")));
    }
    let marks = ("<!-- arrows -->\n", "<!-- end of arrows -->");
    held("CONTRIBUTING.md", marks, &table);
}

#[test]
fn the_table_in_the_readme_is_made_of_the_registry() {
    let mut table = String::from("| format | reads | writes |\n|---|---|---|\n");
    let listed = |extensions: &[&str]| {
        let named: Vec<String> = extensions.iter().map(|e| format!("`.{e}`")).collect();
        named.join(" ")
    };
    for format in numerant_formats::FORMATS {
        let (reads, writes) = (listed(format.read()), listed(format.written()));
        table.push_str(&format!("| {} | {reads} | {writes} |\n", format.name()));
    }
    held(
        "README.md",
        ("<!-- formats -->\n", "<!-- end of formats -->"),
        &table,
    );
}

/// The files of a folder and all below it.
fn files(folder: &Path, found: &mut Vec<PathBuf>) {
    for entry in std::fs::read_dir(folder).expect("a folder") {
        let path = entry.expect("an entry").path();
        if path.is_dir() {
            files(&path, found);
        } else if path.extension().is_some_and(|extension| extension == "rs") {
            found.push(path);
        }
    }
}

#[test]
fn files_are_no_longer_than_a_reader_can_hold() {
    let mut long = Vec::new();
    for entry in std::fs::read_dir(root().join("crates")).expect("crates") {
        let mut found = Vec::new();
        let source = entry.expect("a crate").path().join("src");
        files(&source, &mut found);
        for path in found {
            let text = std::fs::read_to_string(&path).expect("a source file");
            let tests = text.find("#[cfg(test)]\nmod tests {");
            let lines = text[..tests.unwrap_or(text.len())].lines().count();
            let is_tests = path.file_name().is_some_and(|name| name == "tests.rs");
            if lines > MAX_LINES && !is_tests {
                let shown = path.strip_prefix(root()).unwrap_or(&path);
                long.push(shown.to_string_lossy().replace('\\', "/"));
            }
        }
    }
    long.sort();
    assert_eq!(long, Vec::<String>::new());
}

/// The strings of a list in `deny.toml`.
fn listed(key: &str) -> Vec<String> {
    let text = std::fs::read_to_string(root().join("deny.toml")).expect("deny.toml");
    let deny: toml::Table = text.parse().expect("TOML");
    let list = deny["licenses"][key].as_array().expect("a list").iter();
    list.map(|name| name.as_str().expect("a text").to_owned())
        .collect()
}

/// Whether a licence expression can be met with licences that are allowed: `OR` binds less than `AND`.
fn is_allowed(expression: &str, allowed: &[String]) -> bool {
    let split = |operator: &str| -> Option<(String, String)> {
        let places = expression.match_indices(operator).map(|(at, _)| at);
        let depth = |at: usize| {
            let before = &expression[..at];
            before.matches('(').count() - before.matches(')').count()
        };
        let at = places.into_iter().find(|at| depth(*at) == 0)?;
        let (left, right) = expression.split_at(at);
        Some((left.to_owned(), right[operator.len()..].to_owned()))
    };
    if let Some((left, right)) = split(" OR ").or_else(|| split("/")) {
        return is_allowed(&left, allowed) || is_allowed(&right, allowed);
    }
    if let Some((left, right)) = split(" AND ") {
        return is_allowed(&left, allowed) && is_allowed(&right, allowed);
    }
    let name = expression.trim();
    match name
        .strip_prefix('(')
        .and_then(|name| name.strip_suffix(')'))
    {
        Some(inside) => is_allowed(inside, allowed),
        None => allowed.iter().any(|known| known == name),
    }
}

#[test]
fn packages_are_from_the_registry_and_have_licences_that_are_allowed() {
    // What only other systems need is not here.
    let compiler = Command::new("rustc").arg("-vV").output().expect("rustc");
    let compiler = String::from_utf8_lossy(&compiler.stdout).into_owned();
    let host = compiler
        .lines()
        .find_map(|line| line.strip_prefix("host: "))
        .expect("a host");
    let metadata = Command::new(env!("CARGO"))
        .args(["metadata", "--format-version", "1", "--offline", "--locked"])
        .args(["--filter-platform", host])
        .current_dir(root())
        .output()
        .expect("cargo metadata");
    let metadata: Value = serde_json::from_slice(&metadata.stdout).expect("JSON");
    let allowed = listed("allow");
    let mut wrong = Vec::new();
    for package in metadata["packages"].as_array().expect("packages") {
        let (name, source) = (&package["name"], package["source"].as_str());
        let Some(source) = source else { continue };
        if source != "registry+https://github.com/rust-lang/crates.io-index" {
            wrong.push(format!("{name} is from {source}"));
        }
        let licence = package["license"].as_str().unwrap_or("none");
        if !is_allowed(licence, &allowed) {
            wrong.push(format!("{name} has the licence {licence}"));
        }
    }
    assert!(wrong.is_empty(), "{wrong:#?}");
    assert!(!is_allowed("GPL-3.0-only", &allowed));
    assert!(is_allowed(
        "(MIT OR GPL-3.0-only) AND Unicode-3.0",
        &allowed
    ));
    assert!(!is_allowed("(MIT OR ISC) AND GPL-3.0-only", &allowed));
}

/// The options that a line names inside of quotes, but for those of `known`.
fn options_named(line: &str, known: &[&str]) -> Vec<String> {
    let mut named = Vec::new();
    let is_option = |word: &&str| word.starts_with(|c: char| c.is_ascii_lowercase());
    for literal in line.split('"').skip(1).step_by(2) {
        for after in literal.split("--").skip(1) {
            let end = after
                .find(|c: char| !c.is_ascii_lowercase() && c != '-')
                .unwrap_or(after.len());
            let word = Some(&after[..end]).filter(is_option);
            named.extend(word.filter(|word| !known.contains(word)).map(str::to_owned));
        }
    }
    named
}

#[test]
fn libraries_name_no_option_but_those_that_a_format_describes() {
    let described: Vec<&str> = numerant_formats::FORMATS
        .iter()
        .flat_map(|format| format.options())
        .map(|option| option.name)
        .collect();
    assert!(described.contains(&"widths"), "{described:?}");
    let mut wrong = Vec::new();
    for entry in std::fs::read_dir(root().join("crates")).expect("crates") {
        let folder = entry.expect("a crate").path();
        if folder.ends_with("numerant") {
            continue;
        }
        let mut sources = Vec::new();
        files(&folder.join("src"), &mut sources);
        for path in sources {
            if path.extension().is_none_or(|extension| extension != "rs")
                || path.ends_with("tests.rs")
            {
                continue;
            }
            let text = std::fs::read_to_string(&path).expect("a source");
            let code = text.split("#[cfg(test)]").next().unwrap_or_default();
            for line in code.lines().filter(|line| !line.trim().starts_with("//")) {
                for option in options_named(line, &described) {
                    wrong.push(format!("{}: --{option}", path.display()));
                }
            }
        }
    }
    assert!(
        wrong.is_empty(),
        "options are named in crates/numerant/src/hint: {wrong:#?}"
    );
    let line = r#"x("use --keep or --widths", "--") // "#;
    assert_eq!(options_named(line, &described), ["keep"]);
}

/// The modules that code names behind a path such as `crate::`, alone or in braces.
fn modules_behind(code: &str, path: &str) -> Vec<String> {
    let is_word = |c: char| c.is_alphanumeric() || c == '_';
    let word = |text: &str| text.chars().take_while(|c| is_word(*c)).collect::<String>();
    let mut named = Vec::new();
    for (at, _) in code.match_indices(path) {
        // `super::` of `super::super::` is no path of its own.
        if code[..at].ends_with(|c: char| is_word(c) || c == ':') {
            continue;
        }
        let rest = &code[at + path.len()..];
        let Some(group) = rest.strip_prefix('{') else {
            named.push(word(rest));
            continue;
        };
        let mut depth = 0;
        let mut begins = true;
        for (place, c) in group.char_indices() {
            match c {
                '}' if depth == 0 => break,
                '{' => depth += 1,
                '}' => depth -= 1,
                ',' if depth == 0 => begins = true,
                c if begins && is_word(c) => {
                    named.push(word(&group[place..]));
                    begins = false;
                }
                _ => {}
            }
        }
    }
    named
}

/// The modules of a crate at its top, each with those of them that it names outside of its tests.
fn modules_of(src: &Path) -> BTreeMap<String, Vec<String>> {
    let mut sources = Vec::new();
    files(src, &mut sources);
    let mut modules: BTreeMap<String, Vec<String>> = BTreeMap::new();
    for path in sources {
        let below = path.strip_prefix(src).expect("below").with_extension("");
        let mut parts: Vec<String> = below
            .iter()
            .map(|part| part.to_string_lossy().into_owned())
            .collect();
        let is_code = path.extension().is_some_and(|extension| extension == "rs");
        if parts.last().is_some_and(|last| last == "mod") {
            parts.pop();
        }
        let is_root = parts.len() == 1 && ["lib", "main"].contains(&parts[0].as_str());
        if !is_code || is_root || parts.contains(&"tests".to_owned()) {
            continue;
        }
        let text = std::fs::read_to_string(&path).expect("a source");
        let code = text.split("#[cfg(test)]").next().unwrap_or_default();
        let lines = code.lines().filter(|line| !line.trim().starts_with("//"));
        let code: String = lines.collect::<Vec<_>>().join("\n");
        let to_root = "super::".repeat(parts.len());
        let named = modules_behind(&code, "crate::").into_iter();
        let named = named.chain(modules_behind(&code, &to_root));
        modules.entry(parts[0].clone()).or_default().extend(named);
    }
    modules
}

#[test]
fn modules_of_a_crate_are_in_no_circle() {
    for entry in std::fs::read_dir(root().join("crates")).expect("crates") {
        let folder = entry.expect("a crate").path();
        let mut modules = modules_of(&folder.join("src"));
        // A module that names none of those that are left is in no circle.
        loop {
            let left: Vec<String> = modules.keys().cloned().collect();
            modules
                .retain(|module, named| named.iter().any(|to| to != module && left.contains(to)));
            if modules.len() == left.len() {
                break;
            }
        }
        assert!(
            modules.is_empty(),
            "{}: one of these has to give up a name: {:?}",
            folder.display(),
            modules.keys()
        );
    }
    let code = "use crate::{a::B, c::{d, e}, f};\nuse super::super::g; super::h::i();";
    assert_eq!(modules_behind(code, "crate::"), ["a", "c", "f"]);
    assert_eq!(modules_behind(code, "super::"), ["super", "h"]);
    assert_eq!(modules_behind(code, "super::super::"), ["g"]);
}
