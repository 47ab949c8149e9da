use insta::assert_snapshot;

use crate::support::Bench;

#[test]
fn of_each_command() {
    let bench = Bench::new();
    assert_snapshot!("numerant", bench.run(&["--help"]));
    let mut text = String::from(
        "# Reference\n\nThe help of each command, as the program shows it. This page is made of it; a test holds \
         it to that.\n",
    );
    let all = bench.run(&["--help"]);
    let commands = all.lines().skip_while(|line| *line != "Commands:").skip(1);
    let commands = commands.take_while(|line| !line.is_empty());
    // What stands further in goes on with what a command does.
    let commands = commands.filter(|line| !line.starts_with("   "));
    let commands: Vec<&str> = commands
        .filter_map(|line| line.split_whitespace().next())
        .collect();
    assert!(commands.len() > 10, "{all}");
    for command in commands {
        let help = bench.run(&[command, "--help"]);
        let (help, _) = help.rsplit_once("--- code 0").expect("help");
        text.push_str(&format!(
            "\n## numerant {command}\n\n```text\n{}\n```\n",
            help.trim()
        ));
    }
    let path = concat!(env!("CARGO_MANIFEST_DIR"), "/../../docs/reference.md");
    if std::env::var_os("NUMERANT_WRITE_DOCS").is_some() {
        std::fs::write(path, &text).expect("written");
    }
    let shipped = std::fs::read_to_string(path).unwrap_or_default();
    assert!(
        shipped == text,
        "docs/reference.md is old; NUMERANT_WRITE_DOCS=1 cargo test writes it anew"
    );
}

#[test]
fn shells_and_the_manual() {
    let bench = Bench::new();
    for shell in ["bash", "zsh", "fish", "elvish", "powershell"] {
        let script = bench.run(&["completions", shell]);
        assert!(script.contains("source-column"), "{shell}");
    }
    bench.run(&["manual", "pages"]);
    assert_eq!(bench.files().len(), 14);
    let page = bench.read("pages/numerant-split.1");
    assert!(
        page.contains("numerant\\-split \\- Split files by"),
        "{page}"
    );
}

#[test]
fn what_the_command_line_gets_wrong() {
    let bench = Bench::with_calls();
    for (name, words) in [
        ("nothing to split by", &["split", "calls.csv"][..]),
        (
            "no such part",
            &["split", "calls.csv", "--by", "arrived:moth"],
        ),
        (
            "leads out",
            &["split", "calls.csv", "--name", "../{quay}.csv"],
        ),
        ("open brace", &["split", "calls.csv", "--name", "{quay.csv"]),
        (
            "unknown format",
            &["split", "calls.csv", "--name", "{quay}.doc"],
        ),
        ("no such column", &["split", "calls.csv", "--by", "quai"]),
        (
            "dropped twice",
            &["split", "calls.csv", "--by", "quay", "--drop", "dues,duse"],
        ),
    ] {
        assert_snapshot!(name, bench.run(words));
    }
    assert_eq!(bench.files(), ["calls.csv"]);
}

#[test]
fn the_short_page_has_what_most_work_needs() {
    let bench = Bench::new();
    assert_snapshot!(bench.run(&["split", "-h"]));
    for command in ["inspect", "combine", "convert", "fill", "verify", "deliver"] {
        let (short, long) = (bench.run(&[command, "-h"]), bench.run(&[command, "--help"]));
        assert!(
            short.contains(&format!("'numerant {command} --help' shows all options")),
            "{short}"
        );
        assert!(
            short.lines().count() < 70 && short.len() < long.len(),
            "{short}"
        );
    }
}
