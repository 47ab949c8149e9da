//! Why a command failed, and the code that the process then ends with.

use std::io;
use std::path::PathBuf;

use numerant_engine::job::JobFileError;
use numerant_engine::{Error, Fault};

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
