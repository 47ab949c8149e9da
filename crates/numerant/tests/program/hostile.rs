//! Names and values that would give a terminal orders.

use super::support::Bench;

/// Sets a title, turns text around, moves the cursor, hides text.
const HOSTILE: &str = "\u{1b}]0;owned\u{7}\u{202e}\u{9b}2J\u{e0041}\r";

/// Whether a character would do something to a terminal.
fn is_order(character: char) -> bool {
    let hides = matches!(character, '\u{202a}'..='\u{202e}' | '\u{2066}'..='\u{2069}' | '\u{e0000}'..='\u{e007f}');
    hides || (character.is_control() && character != '\n')
}

/// The text without the colours that the program sets itself.
fn without_colours(text: &str) -> String {
    let mut rest = text;
    let mut plain = String::new();
    while let Some(place) = rest.find("\u{1b}[") {
        plain.push_str(&rest[..place]);
        let order = &rest[place + 2..];
        let end = order
            .find(|sign: char| !sign.is_ascii_digit() && sign != ';')
            .unwrap_or(order.len());
        if order[end..].starts_with('m') {
            rest = &order[end + 1..];
        } else {
            plain.push_str("\u{1b}[");
            rest = order;
        }
    }
    plain + rest
}

#[test]
fn nothing_hostile_reaches_the_terminal() {
    let bench = Bench::new();
    let column = format!("qu{HOSTILE}ay").replace('\r', "");
    let table =
        format!("id,{column},dues\n1,\"No{HOSTILE}rth\",1.5\n2,South,x\n3,\"No{HOSTILE}rth\",2\n");
    let name = "ca\u{1b}]0;x\u{7}\u{202e}lls.csv";
    bench.write(name, &table);
    bench.write("in/a.csv", &table);
    bench.write(&format!("in/{name}"), "id,b\n1\n");
    bench.write("lk.csv", format!("{column},office\nSouth,S{HOSTILE}\n"));
    bench.write(
        "notes.jsonl",
        format!("{{\"a\":\"{}\"}}\n{{\"a\":[\n", "\u{9b}2J\u{202e}"),
    );
    let quoted = format!("\"{column}\" = 'x'");
    let unknown = format!("x{HOSTILE}y");
    let by_name = format!("{{{column}}}.csv");
    let lookup = format!("lk.csv:{column}");
    let commands: &[&[&str]] = &[
        &["inspect", name],
        &["inspect", name, "--values", &column],
        &["inspect", name, "--values", &unknown],
        &["split", name, "--by", &column, "--plan"],
        &["split", name, "--by", &column, "--out", "parts"],
        &["split", name, "--by", &column, "--out", "parts"],
        &[
            "split", name, "--name", &by_name, "--out", "named", "--report", "json",
        ],
        &["split", name, "--by", &unknown],
        &[
            "split", name, "--by", "id", "--where", &quoted, "--out", "none",
        ],
        &["split", name, "--by", "id", "--where", &unknown],
        &[
            "split", name, "--by", "id", "--total", "dues", "--out", "totals",
        ],
        &[
            "split",
            name,
            "--by",
            "id",
            "--set",
            "n=CAST(dues AS INTEGER)",
            "--out",
            "cast",
        ],
        &[
            "split", name, "--by", "id", "--lookup", &lookup, "--out", "looked",
        ],
        &["combine", "in", "--name", "all.csv", "--out", "all"],
        &["convert", "in", "--to", "json", "--out", "json"],
        &["convert", name, "--name", "a.xlsx", "--out", "books"],
        &["inspect", "books/a.xlsx", "--read-sheet", &unknown],
        &[
            "convert",
            "notes.jsonl",
            "--name",
            "a.csv",
            "--out",
            "notes",
        ],
        &["verify", "--whole", name, "--parts", "in/a.csv"],
        &[
            "verify", "--whole", name, "--parts", "parts", "--keep", &unknown,
        ],
        &["run", &unknown],
        &[&unknown],
        &["split", &unknown],
        &["split", name, "--delimiter", &unknown],
        &["recover", &unknown],
        &["fill", name, name],
    ];
    let mut hostile = 0;
    for words in commands {
        let mut command = bench.command(words);
        let output = command
            .env("CLICOLOR_FORCE", "1")
            .output()
            .expect("it runs");
        for stream in [&output.stdout, &output.stderr] {
            let text = String::from_utf8_lossy(stream);
            let text = without_colours(&text);
            let found: String = text.chars().filter(|sign| is_order(*sign)).collect();
            assert!(found.is_empty(), "{words:?}: {found:?} in {text:?}");
            hostile +=
                usize::from(text.contains("\\u{") || text.contains('�') || text.contains("\\u00"));
        }
        assert!(
            output.status.code().is_some_and(|code| code <= 3),
            "{words:?}"
        );
    }
    assert!(hostile > 15, "{hostile} of them show something of it");
}
