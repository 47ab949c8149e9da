//! The command line of Numerant: arguments become a job, the engine runs it, and what came of it
//! is put into words.

mod args;
mod commands;
mod demo;
mod report;
mod surroundings;

use std::process::ExitCode;

fn main() -> ExitCode {
    match args::parse() {
        Ok(arguments) => commands::run(arguments),
        Err(error) => error.exit(),
    }
}
