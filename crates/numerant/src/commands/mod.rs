//! What the commands do: one file a command.

mod confirm;
mod deliver;
mod demo;
mod help;
mod inspect;
mod notify;
mod page;
mod preview;
mod recover;
mod run;
mod saved;
mod shell;
mod standard_output;
mod verify;

use std::process::ExitCode;

use crate::args::{Arguments, Command};
use crate::failure::Failure;
use crate::report::Reporter;
use crate::surroundings::Interrupts;

/// Runs the command and says with which code the process ends.
pub(crate) fn run(arguments: Arguments) -> ExitCode {
    let interrupts = Interrupts::listen();
    let (reporter, result) = match arguments.command {
        Command::Inspect(arguments) => {
            let request = arguments.into_request();
            let reporter = Reporter::new(request.report);
            let result = inspect::inspect(&request, &reporter, &interrupts);
            (reporter, result)
        }
        Command::Split(arguments) => {
            let request = arguments.into_request();
            let reporter = Reporter::new(request.report);
            let result = run::run(&request, &reporter, &interrupts);
            (reporter, result)
        }
        Command::Combine(arguments) => {
            let request = arguments.into_request();
            let reporter = Reporter::new(request.report);
            let result = run::run(&request, &reporter, &interrupts);
            (reporter, result)
        }
        Command::Convert(arguments) => {
            let request = arguments.into_request();
            let reporter = Reporter::new(request.report);
            let result = run::run(&request, &reporter, &interrupts);
            (reporter, result)
        }
        Command::Fill(arguments) => {
            let request = arguments.into_request();
            let reporter = Reporter::new(request.report);
            let result = run::run(&request, &reporter, &interrupts);
            (reporter, result)
        }
        Command::Run(arguments) => {
            let reporter = Reporter::of_file(arguments.report);
            let result = saved::run_file(&arguments, &reporter, &interrupts);
            (reporter, result)
        }
        Command::Verify(arguments) => {
            let reporter = Reporter::new(arguments.report());
            let result = match arguments.into_request() {
                Ok(request) => verify::verify(&request, &reporter, &interrupts),
                Err(message) => Err(Failure::Usage {
                    message,
                    hint: "numerant verify --help shows the options".to_owned(),
                }),
            };
            (reporter, result)
        }
        Command::Deliver(arguments) => {
            let request = arguments.into_request();
            let reporter = Reporter::new(request.report);
            let result = deliver::deliver(&request, &reporter, &interrupts);
            (reporter, result)
        }
        Command::Recover(arguments) => {
            let reporter = Reporter::new(arguments.report);
            let result = recover::recover(&arguments, &reporter, &interrupts);
            (reporter, result)
        }
        Command::Completions(arguments) => (Reporter::plain(), shell::completions(&arguments)),
        Command::Manual(arguments) => (Reporter::plain(), shell::manual(&arguments)),
        Command::Help(arguments) => {
            let reporter = Reporter::plain();
            let result = help::help(&arguments, &reporter);
            (reporter, result)
        }
        Command::Demo(arguments) => {
            let reporter = Reporter::plain();
            let result = demo::demo(&arguments, &reporter);
            (reporter, result)
        }
    };
    let code = match &result {
        Ok(()) => 0,
        Err(failure) => {
            // Where even this cannot be said, the code says it.
            let _ = reporter.failure(failure);
            failure.code()
        }
    };
    match reporter.close() {
        Err(error) if result.is_ok() => ExitCode::from(Failure::from(error).code()),
        _ => ExitCode::from(code),
    }
}
