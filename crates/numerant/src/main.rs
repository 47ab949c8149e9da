//! The command line of Numerant: arguments become a job, the engine runs it, and what came of it
//! is put into words.

mod args;
mod commands;
mod demo;
mod failure;
mod hint;
mod report;
mod surroundings;

use std::io::Write;
use std::process::ExitCode;

fn main() -> ExitCode {
    match args::parse() {
        Ok(arguments) => commands::run(arguments),
        Err(error) => usage(&error),
    }
}

/// Shows the help, or what is wrong with the command line; what was typed can hold any character.
fn usage(error: &clap::Error) -> ExitCode {
    let typed = std::env::args_os().skip(1);
    let is_unsafe = typed.into_iter().any(|word| {
        let word = word.to_string_lossy();
        word.chars().any(report::screen::is_unsafe)
    });
    if !is_unsafe {
        error.exit();
    }
    let text = error.render();
    let _ = if error.use_stderr() {
        write!(report::screen::stderr(), "{text}")
    } else {
        write!(report::screen::stdout(), "{text}")
    };
    ExitCode::from(u8::try_from(error.exit_code()).unwrap_or(2))
}
