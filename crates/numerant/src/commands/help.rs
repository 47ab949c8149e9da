//! `numerant help`.

use clap::{CommandFactory, ValueEnum};

use crate::args::{Arguments, HelpArguments, Topic};
use crate::failure::Failure;
use crate::report::Reporter;

/// Shows a topic, the help of a command, or that of the program.
pub(super) fn help(arguments: &HelpArguments, reporter: &Reporter) -> Result<(), Failure> {
    let mut command = Arguments::command();
    command.build();
    let Some(topic) = &arguments.topic else {
        return Ok(command.print_help()?);
    };
    if let Ok(topic) = Topic::from_str(topic, true) {
        return Ok(reporter.topic(topic)?);
    }
    match command.find_subcommand_mut(topic) {
        Some(command) => Ok(command.print_long_help()?),
        None => {
            let topics: Vec<&str> = Topic::value_variants()
                .iter()
                .map(|topic| topic.name())
                .collect();
            Err(Failure::Usage {
                message: format!("'{topic}' is neither a topic nor a command"),
                hint: format!("the topics are {}", topics.join(", ")),
            })
        }
    }
}
