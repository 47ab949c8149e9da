//! Why a run failed, and whose fault it is.

use std::io;

use super::addresses::Refusal;
use crate::format::EncodeError;
use crate::job::JobError;
use crate::ledger::Totals;
use crate::name::ValueError;
use crate::output::OutputError;
use crate::record::ColumnError;
use crate::source::ReadError;

/// Why a run failed.
#[derive(Debug, thiserror::Error)]
#[non_exhaustive]
pub enum Error {
    /// The job itself is wrong.
    #[error(transparent)]
    Job(#[from] JobError),
    /// A name in the job is no column of a source.
    #[error("column '{}' is not in {source_name}", .problem.name)]
    Column {
        /// The source.
        source_name: String,
        /// The name.
        problem: ColumnError,
    },
    /// A source cannot be read.
    #[error(transparent)]
    Read(#[from] ReadError),
    /// A value does not have the part that a name or key wants.
    #[error("{source_name}, line {line}, column '{column}': {problem}")]
    Value {
        /// The source.
        source_name: String,
        /// The line, from 1.
        line: u64,
        /// The column.
        column: String,
        /// What is wrong.
        problem: ValueError,
    },
    /// A value cannot be written in the output's format.
    #[error("{path}: from {source_name}, {problem}")]
    Encode {
        /// The output.
        path: String,
        /// The source.
        source_name: String,
        /// What is wrong.
        problem: EncodeError,
    },
    /// An output cannot be written.
    #[error(transparent)]
    Output(#[from] OutputError),
    /// The outputs would not be what was wanted.
    #[error(transparent)]
    Refused(#[from] Refusal),
    /// The books do not balance.
    #[error("the ledger does not balance: {} read, {} written, {} left out, {} rejected; nothing was written", .0.read, .0.written, .0.left_out, .0.rejected)]
    Unbalanced(Totals),
    /// The ledger could not be put into words.
    #[error("the ledger could not be written: {0}")]
    Ledger(#[source] serde_json::Error),
    /// No thread could be had.
    #[error("a thread could not be started: {0}")]
    Thread(#[source] io::Error),
    /// The run was cancelled.
    #[error("interrupted; nothing was written")]
    Interrupted,
}

/// Whose fault an error is.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Fault {
    /// The data, the files, or the system they are on.
    Data,
    /// What the user asked for.
    Job,
    /// Nobody's: the run was cancelled.
    Interrupted,
}

impl Error {
    /// Whose fault it is.
    pub fn fault(&self) -> Fault {
        match self {
            Self::Job(_) | Self::Column { .. } => Fault::Job,
            Self::Interrupted => Fault::Interrupted,
            _ => Fault::Data,
        }
    }

    /// What to type next, where there is something to say.
    pub fn hint(&self) -> Option<String> {
        match self {
            Self::Column { problem, .. } => Some(problem.hint()),
            Self::Read(error) => error.problem.hint(),
            Self::Value { problem, .. } => problem.hint(),
            Self::Encode { problem, .. } => Some(problem.hint()),
            Self::Output(error) => error.hint().map(str::to_owned),
            Self::Refused(refusal) => Some(refusal.hint()),
            Self::Unbalanced(_) => {
                Some("this is a fault of Numerant, please report it with the source".to_owned())
            }
            Self::Job(_) | Self::Ledger(_) | Self::Thread(_) | Self::Interrupted => None,
        }
    }
}
