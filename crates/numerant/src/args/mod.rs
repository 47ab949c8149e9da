//! What can be said on the command line: one file a command, and the options that they share.
//!
//! Nothing here looks at a file: arguments become a [`numerant_engine::job::Job`].

mod combine;
mod convert;
mod deliver;
mod demo;
mod fill;
mod format_options;
mod help;
mod inspect;
mod options;
mod reading;
mod recover;
mod run;
mod saved;
mod shell;
mod short_help;
mod split;
mod steps;
mod verify;
mod writing;

use clap::error::{ContextKind, ContextValue, ErrorKind};
use clap::{CommandFactory, FromArgMatches, Parser, Subcommand};

pub(crate) use combine::CombineArguments;
pub(crate) use convert::ConvertArguments;
pub(crate) use deliver::{DeliverArguments, DeliverRequest};
pub(crate) use demo::DemoArguments;
pub(crate) use fill::FillArguments;
pub(crate) use help::{HelpArguments, Section, Topic};
pub(crate) use inspect::{InspectArguments, InspectRequest};
pub(crate) use options::{Mode, Report, ReportOptions};
pub(crate) use recover::RecoverArguments;
pub(crate) use run::RunRequest;
pub(crate) use saved::SavedArguments;
pub(crate) use shell::{CompletionsArguments, ManualArguments};
pub(crate) use split::SplitArguments;
pub(crate) use verify::{VerifyArguments, VerifyRequest};

/// Split, combine and convert data files, and check that nothing is lost.
#[derive(Debug, Parser)]
#[command(
    name = "numerant",
    version,
    disable_help_subcommand = true,
    max_term_width = 100,
    after_help = "Start with 'numerant demo', which creates sample data and runs every command on it.\n\
        'numerant COMMAND -h' shows the common options, 'numerant COMMAND --help' all of them.\n\
        'numerant help TOPIC' explains one of: names, expressions, dates, formats, exit-codes."
)]
pub(crate) struct Arguments {
    #[command(subcommand)]
    pub(crate) command: Command,
}

/// What is to be done.
#[derive(Debug, Subcommand)]
pub(crate) enum Command {
    Inspect(Box<InspectArguments>),
    Split(Box<SplitArguments>),
    Combine(Box<CombineArguments>),
    Convert(Box<ConvertArguments>),
    Fill(Box<FillArguments>),
    Run(Box<SavedArguments>),
    Verify(Box<VerifyArguments>),
    Deliver(Box<DeliverArguments>),
    Recover(RecoverArguments),
    Demo(DemoArguments),
    Help(HelpArguments),
    Completions(CompletionsArguments),
    Manual(ManualArguments),
}

/// The most slips in a word that is still taken for another.
const SLIPS: usize = 2;

/// A complete command for each that needs more than its name.
const NEAREST: [(&str, &str); 7] = [
    ("inspect", "numerant inspect calls.csv"),
    ("split", "numerant split calls.csv --by quay --plan"),
    ("combine", "numerant combine 'calls/*.csv' --name year.csv"),
    ("convert", "numerant convert calls.csv --to xlsx"),
    (
        "fill",
        "numerant fill quay.xlsx calls.csv --name '{quay}.xlsx' --put 'Calls!A3={.table}'",
    ),
    ("verify", "numerant verify calls.json"),
    (
        "deliver",
        "numerant deliver calls.json --routes routes.csv --from port@varnholm.example --plan",
    ),
];

/// Adds a complete command to an error about missing arguments.
fn with_example(mut error: clap::Error) -> clap::Error {
    if error.kind() != ErrorKind::MissingRequiredArgument {
        return error;
    }
    let words: Vec<String> = std::env::args().skip(1).collect();
    let known = NEAREST
        .iter()
        .find(|(name, _)| words.iter().any(|word| word == name));
    if let Some((_, example)) = known {
        let suggestion = format!("a complete command is: {example}");
        error.insert(
            ContextKind::Suggested,
            ContextValue::StyledStrs(vec![suggestion.into()]),
        );
    }
    error
}

/// The arguments of the process. An option that does not exist is compared only with similar ones.
pub(crate) fn parse() -> Result<Arguments, clap::Error> {
    let mut command = Arguments::command();
    if short_help::is_wanted(std::env::args_os()) {
        command = short_help::with_short_help(command);
    }
    let matches = command
        .try_get_matches()
        .map_err(|error| with_example(without_far_suggestion(error)))?;
    Arguments::from_arg_matches(&matches)
}

fn without_far_suggestion(mut error: clap::Error) -> clap::Error {
    if error.kind() != ErrorKind::UnknownArgument {
        return error;
    }
    let words = |kind| match error.get(kind) {
        Some(ContextValue::String(text)) => vec![text.clone()],
        Some(ContextValue::Strings(texts)) => texts.clone(),
        _ => Vec::new(),
    };
    let given = words(ContextKind::InvalidArg);
    let suggested = words(ContextKind::SuggestedArg);
    let near = |one: &String| {
        let slips = suggested
            .iter()
            .map(|other| strsim::damerau_levenshtein(one, other));
        slips.min().is_none_or(|slips| slips <= SLIPS)
    };
    if !given.iter().all(near) {
        error.remove(ContextKind::SuggestedArg);
        error.remove(ContextKind::Suggested);
        // It would show the same option.
        error.remove(ContextKind::Usage);
    }
    error
}
