//! What can be said on the command line: one file a command, and the options that they share.
//!
//! Nothing here looks at a file: arguments become a [`numerant_engine::job::Job`].

mod combine;
mod convert;
mod deliver;
mod demo;
mod fill;
mod format_options;
mod inspect;
mod options;
mod recover;
mod run;
mod saved;
mod shell;
mod short_help;
mod split;
mod steps;
mod verify;

use clap::error::{ContextKind, ContextValue, ErrorKind};
use clap::{CommandFactory, FromArgMatches, Parser, Subcommand};

pub(crate) use combine::CombineArguments;
pub(crate) use convert::ConvertArguments;
pub(crate) use deliver::{DeliverArguments, DeliverRequest};
pub(crate) use demo::DemoArguments;
pub(crate) use fill::FillArguments;
pub(crate) use inspect::{InspectArguments, InspectRequest};
pub(crate) use options::{Mode, Report, ReportOptions};
pub(crate) use recover::RecoverArguments;
pub(crate) use run::RunRequest;
pub(crate) use saved::SavedArguments;
pub(crate) use shell::{CompletionsArguments, ManualArguments};
pub(crate) use split::SplitArguments;
pub(crate) use verify::{VerifyArguments, VerifyRequest};

/// Takes consolidated data files apart, puts them together, and proves that nothing was lost.
#[derive(Debug, Parser)]
#[command(
    name = "numerant",
    version,
    disable_help_subcommand = true,
    max_term_width = 100,
    after_help = "Begin with 'numerant demo', which lays out sample data and walks through the work.\n\
        Exit codes: 0 done and balanced; 1 the data or the files were at fault and nothing was \
        written, unless the message says what is in place; 2 the command line was at fault; 3 a batch is done, but some files failed, each \
        named; 130 interrupted, nothing half-written is left."
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
    Completions(CompletionsArguments),
    Manual(ManualArguments),
}

/// The most slips in a word that is still taken for another.
const SLIPS: usize = 2;

/// The arguments of the process. An option that there is not is not said to be similar to one that it is
/// not.
pub(crate) fn parse() -> Result<Arguments, clap::Error> {
    let mut command = Arguments::command();
    if short_help::is_wanted(std::env::args_os()) {
        command = short_help::with_short_help(command);
    }
    let matches = command.try_get_matches().map_err(without_far_suggestion)?;
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
