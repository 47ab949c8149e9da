//! The short page of help (`-h`): the options that most work needs, and two examples.

use std::ffi::OsString;

use clap::Command;

/// Examples on the short page.
const EXAMPLES: usize = 2;

/// The options on the short page of a command; all where a command has few.
const COMMON: &[(&str, &[&str])] = &[
    (
        "inspect",
        &[
            "values",
            "show",
            "where",
            "set",
            "keep",
            "read-sheet",
            "recursive",
            "page",
        ],
    ),
    (
        "split",
        &[
            "by",
            "case",
            "rows",
            "per-sheet",
            "name",
            "to",
            "out",
            "where",
            "set",
            "lookup",
            "total",
            "plan",
            "ledger",
        ],
    ),
    (
        "combine",
        &[
            "name",
            "out",
            "as",
            "columns",
            "source-column",
            "where",
            "keep",
            "sheet",
            "plan",
            "ledger",
        ],
    ),
    (
        "convert",
        &[
            "to",
            "out",
            "recursive",
            "pick",
            "existing",
            "where",
            "keep",
            "total",
            "plan",
            "ledger",
        ],
    ),
    (
        "fill",
        &[
            "put",
            "name",
            "by",
            "from-name",
            "style-down",
            "occupied",
            "out",
            "where",
            "plan",
            "ledger",
        ],
    ),
    (
        "verify",
        &[
            "out", "whole", "parts", "ledger", "keep", "ignore", "where", "page",
        ],
    ),
    (
        "deliver",
        &[
            "routes", "only", "from", "subject", "body", "channel", "into", "smtp", "user", "plan",
            "test-to", "history",
        ],
    ),
];

/// Whether the short page is asked for. What is hidden on it can be said all the same.
pub(super) fn is_wanted(mut words: impl Iterator<Item = OsString>) -> bool {
    words.any(|word| word == "-h")
}

/// The command line with a short page of help for each command that has a long one.
pub(super) fn with_short_help(mut command: Command) -> Command {
    for (name, common) in COMMON {
        command = command.mut_subcommand(name, |command| shortened(command, common));
    }
    command
}

fn shortened(command: Command, common: &[&str]) -> Command {
    let name = command.get_name().to_owned();
    let long = command
        .get_after_help()
        .map(ToString::to_string)
        .unwrap_or_default();
    let examples = long
        .split_once("Examples:\n")
        .map_or("", |(_, examples)| examples);
    let examples: Vec<&str> = examples.lines().take(EXAMPLES).collect();
    let mut short = format!("'numerant {name} --help' shows all options.");
    if !examples.is_empty() {
        short = format!("Examples:\n{}\n\n{short}", examples.join("\n"));
    }
    command.after_help(short).mut_args(|argument| {
        let name = argument.get_long();
        let is_common = argument.is_positional() || name.is_some_and(|name| common.contains(&name));
        argument.hide(!is_common)
    })
}

#[cfg(test)]
mod tests {
    use clap::CommandFactory;

    use super::*;
    use crate::args::Arguments;

    #[test]
    fn the_common_options_are_there() {
        let mut command = Arguments::command();
        command.build();
        for (name, common) in COMMON {
            let command = command.find_subcommand(name).expect("a command");
            for option in *common {
                let mut arguments = command.get_arguments();
                let is_there = arguments.any(|argument| argument.get_long() == Some(option));
                assert!(is_there, "{name} has no --{option}");
            }
        }
    }
}
