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

use std::io;
use std::path::PathBuf;
use std::process::ExitCode;

use numerant_engine::job::JobFileError;
use numerant_engine::{Error, Fault};

use crate::args::{Arguments, Command};
use crate::report::Reporter;
use crate::surroundings::Interrupts;

/// Why a command failed.
#[derive(Debug)]
pub(crate) enum Failure {
    /// The engine says why.
    Engine(Error),
    /// What was found could not be shown.
    Show(io::Error),
    /// The outputs are in place, and what came of the run could not be shown.
    ShowDone(io::Error),
    /// The command line asks for what cannot be done.
    Usage { message: String, hint: String },
    /// What was to be verified does not hold; the report says why.
    DoesNotHold,
    /// The job file cannot be run.
    JobFile(JobFileError),
    /// The job file is being run already, or is gone.
    Busy { message: String },
    /// A batch is done but for some files; the report names them.
    SomeFailed,
    /// The user said no.
    Declined,
    /// The page about the run could not be written.
    Page {
        path: PathBuf,
        cause: io::Error,
        /// The outputs are in place.
        is_done: bool,
    },
    /// Nothing more can be handed over.
    Delivery { message: String, hint: String },
    /// A file of the demo could not be written.
    Demo { message: String, hint: String },
}

impl From<Error> for Failure {
    fn from(error: Error) -> Self {
        Self::Engine(error)
    }
}

impl From<JobFileError> for Failure {
    fn from(error: JobFileError) -> Self {
        Self::JobFile(error)
    }
}

impl From<io::Error> for Failure {
    fn from(error: io::Error) -> Self {
        Self::Show(error)
    }
}

impl Failure {
    pub(crate) fn code(&self) -> u8 {
        match self {
            // Nobody reads any more: what was to be done is done.
            Self::Show(error) | Self::ShowDone(error)
                if error.kind() == io::ErrorKind::BrokenPipe =>
            {
                0
            }
            Self::Engine(error) => match error.fault() {
                Fault::Data => 1,
                Fault::Job => 2,
                Fault::Interrupted => 130,
            },
            Self::Usage { .. } | Self::JobFile(_) => 2,
            Self::SomeFailed => 3,
            Self::Busy { .. } => 1,
            Self::Show(_)
            | Self::ShowDone(_)
            | Self::Declined
            | Self::DoesNotHold
            | Self::Page { .. }
            | Self::Delivery { .. }
            | Self::Demo { .. } => 1,
        }
    }
}

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
