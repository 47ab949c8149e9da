//! What is wrong with a job file, and on which line.

use std::fmt;
use std::path::PathBuf;

use super::super::JobError;

/// A job file that cannot be run.
#[derive(Clone, Debug, PartialEq, Eq, thiserror::Error)]
pub struct JobFileError {
    /// The file.
    pub path: PathBuf,
    /// The line, from 1, where it is known.
    pub line: Option<usize>,
    /// What is wrong.
    #[source]
    pub problem: JobFileProblem,
}

impl fmt::Display for JobFileError {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        write!(f, "{}", self.path.display())?;
        if let Some(line) = self.line {
            write!(f, ", line {line}")?;
        }
        write!(f, ": {}", self.problem)
    }
}

/// What is wrong with a job file.
#[derive(Clone, Debug, PartialEq, Eq, thiserror::Error)]
pub enum JobFileProblem {
    /// It cannot be read.
    #[error("{0}")]
    Io(String),
    /// It is no text.
    #[error("it is not UTF-8, which TOML must be")]
    Encoding,
    /// It is no TOML.
    #[error("{0}")]
    Toml(String),
    /// It holds no job.
    #[error("there is no [[job]] in it")]
    NoJob,
    /// `[job]` where `[[job]]` is meant.
    #[error("a job begins with [[job]] in two pairs of brackets, as there may be several")]
    OneBracket,
    /// A job that does not say what it is.
    #[error("this job has no command, such as command = \"split\"")]
    NoCommand,
    /// A command that no job can be.
    #[error(
        "'{0}' is not a command of a job; use inspect, split, combine, convert, fill, verify or deliver"
    )]
    UnknownCommand(String),
    /// A key that is none.
    #[error("'{key}' is not a key of {of}{}", .nearest.as_ref().map_or_else(String::new, |nearest| format!("; did you mean '{nearest}'?")))]
    UnknownKey {
        /// As it was written.
        key: String,
        /// The nearest there is.
        nearest: Option<String>,
        /// What it is in.
        of: &'static str,
    },
    /// A key that has another name since a version.
    #[error("'{key}' is now called '{now}'")]
    RenamedKey {
        /// As it was written.
        key: String,
        /// Its name.
        now: &'static str,
    },
    /// A value that a key cannot have.
    #[error("{}{reason}", if .key.is_empty() { String::new() } else { format!("'{key}': ") })]
    Value {
        /// The key.
        key: String,
        /// What is wrong.
        reason: String,
    },
    /// A parameter with a name that cannot be one.
    #[error("the parameter '{0}' needs a name of letters, digits, - and _")]
    ParameterName(String),
    /// A parameter that is neither a value nor a table with a default.
    #[error(
        "the parameter '{0}' is given its value, as in {0} = \"2026-03\", or about = \"…\" and default = \"…\""
    )]
    ParameterForm(String),
    /// A parameter without a value.
    #[error("the parameter '{name}' has no value{}", .about.as_ref().map_or_else(String::new, |about| format!(" ({about})")))]
    NoValue {
        /// Its name.
        name: String,
        /// What it is about.
        about: Option<String>,
    },
    /// A parameter that is not there.
    #[error("there is no parameter '{name}'{}", .nearest.as_ref().map_or_else(String::new, |nearest| format!("; did you mean '{nearest}'?")))]
    NoParameter {
        /// As it was written.
        name: String,
        /// The nearest there is.
        nearest: Option<String>,
    },
    /// `${` without `}`.
    #[error("'${{' is not closed in '{0}'; write $${{ for the characters themselves")]
    Unclosed(String),
    /// The job cannot be run.
    #[error(transparent)]
    Job(#[from] JobError),
    /// The job would write to its own source.
    #[error("this job reads {} and would write to it", .0.display())]
    OwnOutput(PathBuf),
    /// No ledger or no routes.
    #[error("deliver needs ledger and routes")]
    Deliver,
    /// Neither a ledger, nor a whole with parts.
    #[error("verify needs ledger, or whole and parts")]
    Verify,
}

impl JobFileProblem {
    pub(super) fn of_toml(error: &toml::de::Error) -> Self {
        Self::Toml(error.message().trim().to_owned())
    }
}
