//! Why a run failed, and whose fault it is.

use std::io;
use std::path::PathBuf;

use super::addresses::Refusal;
use super::conformity::Unfit;
use crate::gather::ColumnsDiffer;
use crate::job::JobError;
use crate::ledger::{Ledger, Totals};
use crate::output::{OutputError, RecoveryError};
use numerant_data::record::{At, Batch, ColumnError};
use numerant_data::source::{ReadError, ReadProblem, SelectError};
use numerant_data::value::Size;
use numerant_format::EncodeError;
use numerant_naming::ValueError;
use numerant_naming::route::RouteError;
use numerant_schema::SchemaError;
use numerant_shapes::ShapeError;
use numerant_sheets::ComputeError;
pub(crate) use numerant_sheets::TemplateProblem;
use numerant_steps::{LookupError, StepError, StepProblem};

/// Why a run failed.
#[derive(Debug, thiserror::Error)]
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
        /// The line that looks like the header, where that is not the first record.
        likely_header: Option<u64>,
    },
    /// The names of sources lead to no files.
    #[error(transparent)]
    Select(#[from] SelectError),
    /// The sources do not have the same columns.
    #[error(transparent)]
    ColumnsDiffer(#[from] Box<ColumnsDiffer>),
    /// Names of sources do not fit the pattern that they are to be read with.
    #[error("{count} of {all} names {} not match '{pattern}'", if *.count == 1 { "does" } else { "do" })]
    NamesDoNotFit {
        /// The pattern.
        pattern: String,
        /// The first 1,000 of them.
        names: Vec<String>,
        /// How many there are.
        count: u64,
        /// How many sources there are.
        all: u64,
    },
    /// A column that a source is to be given, and has.
    #[error("{source_name} already has a column '{column}', which {} would replace", if *.is_of_name { "a part of its name" } else { "the name of the source" })]
    OwnColumn {
        /// The source.
        source_name: String,
        /// The column.
        column: String,
        /// A part of the source's name would be in the column, and not the whole of it.
        is_of_name: bool,
    },
    /// The shape of the outputs cannot be used.
    #[error(transparent)]
    Shape(#[from] Box<ShapeError>),
    /// The schema of the outputs cannot be used.
    #[error(transparent)]
    Schema(#[from] SchemaError),
    /// Outputs do not fit their schema.
    #[error("{0}")]
    Unfit(Box<Unfit>),
    /// A source cannot be read.
    #[error(transparent)]
    Read(#[from] ReadError),
    /// A value does not have the part that a name or key wants.
    #[error("{source_name}, {at}, column '{column}': {problem}")]
    Value {
        /// The source.
        source_name: String,
        /// Where in it.
        at: At,
        /// The column.
        column: String,
        /// What is wrong.
        problem: ValueError,
    },
    /// A step cannot be taken as it is.
    #[error(transparent)]
    Step(Box<StepError>),
    /// A step fails for a record.
    #[error("{source_name}, {at}: {problem}")]
    Record {
        /// The source.
        source_name: String,
        /// Where in it.
        at: At,
        /// What is wrong.
        problem: Box<StepProblem>,
    },
    /// A record is larger than an output may be.
    #[error("{source_name}, {at}: with the header this record takes {bytes} bytes, and an output may have {most}", most = .most.0)]
    TooLarge {
        /// The source.
        source_name: String,
        /// Where in it.
        at: At,
        /// Bytes of an output with the record alone.
        bytes: u64,
        /// Bytes that an output may have.
        most: Size,
    },
    /// A control total has too many digits.
    #[error("a sum of column '{column}' has more than 38 digits")]
    Sum {
        /// The column.
        column: String,
    },
    /// A value cannot be written in the output's format.
    #[error("{path}: from {source_name}, {problem}")]
    Encode {
        /// The output.
        path: String,
        /// The source.
        source_name: String,
        /// What is wrong.
        problem: Box<EncodeError>,
    },
    /// A template does not fit what is to be put into it.
    #[error("{}{}: {problem}", .output.as_ref().map_or_else(String::new, |output| format!("{output}: ")), .template.display())]
    Form {
        /// The template.
        template: PathBuf,
        /// The copy, where it is one that does not fit.
        output: Option<String>,
        /// What is wrong.
        problem: Box<TemplateProblem>,
    },
    /// A formula of a sheet that is drawn has no value.
    #[error("{path}: {error}")]
    NotComputed {
        /// The output.
        path: String,
        /// The formula.
        error: Box<ComputeError>,
    },
    /// A document would take more memory than there is for it.
    #[error(
        "{path}: the document would take about {needed} of memory until it is written, and may take {room}"
    )]
    DocumentTooLarge {
        /// The output.
        path: String,
        /// What it would take.
        needed: Size,
        /// What it may take.
        room: Size,
    },
    /// An output cannot be written.
    #[error(transparent)]
    Output(#[from] OutputError),
    /// The outputs of a batch are in place, and its ledger could not be kept.
    #[error("the outputs are in place in {}, but their ledger could not be kept: {cause}", .out.display())]
    LedgerNotKept {
        /// The folder of the outputs.
        out: PathBuf,
        /// Why.
        #[source]
        cause: Box<Error>,
    },
    /// What an earlier run has begun can neither be rolled back nor finished.
    #[error(transparent)]
    Recovery(#[from] RecoveryError),
    /// The outputs would not be what was wanted.
    #[error(transparent)]
    Refused(#[from] Refusal),
    /// The books do not balance.
    #[error("the ledger does not balance: {} read, {} written, {} left out, {} rejected; nothing was written", .0.read, .0.written, .0.left_out, .0.rejected)]
    Unbalanced(Totals),
    /// The segments of messages that were written are not those that were read.
    #[error(
        "the ledger does not balance: records have {read} segments, and {written} of them were written; nothing was written"
    )]
    SegmentsLost {
        /// Segments in the records that were read.
        read: u64,
        /// Those in the records that were written.
        written: u64,
    },
    /// No record is left to write, as each was rejected.
    #[error("all {records} records were rejected{first}; no output was written{}", .kept.as_ref().map_or_else(String::new, |path| format!(" (the rejected records are in {})", path.display())))]
    AllRejected {
        /// How many.
        records: u64,
        /// Where the first is, and why, after a comma; nothing if that is not known.
        first: String,
        /// Where they are kept.
        kept: Option<PathBuf>,
    },
    /// A file is no ledger.
    #[error("{} is not a ledger: {cause}", .path.display())]
    NoLedger {
        /// The file.
        path: PathBuf,
        /// What is wrong with it.
        #[source]
        cause: serde_json::Error,
    },
    /// A ledger of a later version.
    #[error("{} is a ledger of form {form}, which a later version of Numerant has written", .path.display())]
    NewerLedger {
        /// The file.
        path: PathBuf,
        /// Its form.
        form: u32,
    },
    /// A ledger that does not say where its outputs are.
    #[error("{} does not state the folder of the outputs", .0.display())]
    LedgerFolder(PathBuf),
    /// A ledger without the job of its run, or of one that fills templates.
    #[error("{} does not state how its outputs were made from the whole", .0.display())]
    LedgerWithoutJob(PathBuf),
    /// Records that are rejected would not be compared.
    #[error("rejected records would be left out of the comparison")]
    RejectsCompared,
    /// No column is left to compare.
    #[error("no column is left to compare")]
    NothingToCompare,
    /// A column of the whole that a source does not have.
    #[error("column '{}' of the whole is not in {source_name}", .problem.name)]
    ComparedColumn {
        /// The source.
        source_name: String,
        /// The name.
        problem: ColumnError,
    },
    /// A column that the whole does not have.
    #[error("column '{column}' is in {source_name} and not in {whole}")]
    SurplusColumn {
        /// The source.
        source_name: String,
        /// The name.
        column: String,
        /// The first file of the whole.
        whole: String,
    },
    /// The ledger could not be put into words.
    #[error("the ledger could not be written: {0}")]
    Ledger(#[source] serde_json::Error),
    /// No thread could be had.
    #[error("a thread could not be started: {0}")]
    Thread(#[source] io::Error),
    /// A batch was cancelled.
    #[error(
        "interrupted after {done} of {files} files; these are complete, and nothing was written for the others"
    )]
    BatchInterrupted {
        /// Files that were done.
        done: u64,
        /// All files.
        files: u64,
    },
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

/// The first `most` of some lines, and how many are left with those that are not there.
fn shortened(mut lines: Vec<String>, most: usize, more: u64) -> (Vec<String>, u64) {
    let left = lines.len().saturating_sub(most) as u64 + more;
    lines.truncate(most);
    (lines, left)
}

impl From<StepError> for Error {
    fn from(problem: StepError) -> Self {
        Self::Step(Box::new(problem))
    }
}

impl Error {
    /// Whether the books of a run balance.
    ///
    /// # Errors
    ///
    /// If they do not.
    pub(super) fn balanced(ledger: &Ledger) -> Result<(), Self> {
        match (ledger.balanced, ledger.lost_segments()) {
            (true, _) => Ok(()),
            (false, Some((read, written))) => Err(Self::SegmentsLost { read, written }),
            (false, None) => Err(Self::Unbalanced(ledger.totals)),
        }
    }

    /// A step that fails for the record that is there.
    pub(super) fn step(source_name: String, at: At, problem: StepProblem) -> Self {
        Self::Record {
            source_name,
            at,
            problem: Box::new(problem),
        }
    }

    /// A key that does not have the part that is wanted.
    pub(super) fn value(source_name: String, batch: &Batch, error: RouteError) -> Self {
        Self::Value {
            source_name,
            at: batch.at(error.record),
            column: error.column,
            problem: error.problem,
        }
    }

    /// Lines that show more of it: the first `most` of them, and how many are left.
    pub fn details(&self, most: usize) -> (Vec<String>, u64) {
        match self {
            Self::Refused(refusal) => refusal.details(most),
            Self::ColumnsDiffer(differ) => shortened(differ.lines(), most, 0),
            Self::NamesDoNotFit { names, count, .. } => {
                shortened(names.clone(), most, count - names.len() as u64)
            }
            Self::Step(problem) => shortened(problem.details(), most, 0),
            Self::Unfit(unfit) => shortened(unfit.lines(), most, u64::from(unfit.has_more)),
            _ => (Vec::new(), 0),
        }
    }

    /// Whose fault it is.
    pub fn fault(&self) -> Fault {
        match self {
            Self::Job(_)
            | Self::Shape(_)
            | Self::Schema(_)
            | Self::Column { .. }
            | Self::NothingToCompare
            | Self::OwnColumn { .. }
            | Self::Select(SelectError::Pattern { .. })
            | Self::RejectsCompared => Fault::Job,
            // What is wrong with a table is the fault of the table.
            Self::Step(problem) => match **problem {
                StepError::Lookup(LookupError::Key { .. }) => Fault::Job,
                StepError::Lookup(_) => Fault::Data,
                _ => Fault::Job,
            },
            Self::Interrupted | Self::BatchInterrupted { .. } => Fault::Interrupted,
            _ => Fault::Data,
        }
    }

    /// Whether a source is not there.
    pub fn is_missing(&self) -> bool {
        match self {
            Self::Read(error) => match &error.problem {
                ReadProblem::Io(cause) => cause.kind() == io::ErrorKind::NotFound,
                _ => false,
            },
            Self::Select(error) => {
                matches!(
                    error,
                    SelectError::NoFile(_) | SelectError::EmptyFolder { .. }
                )
            }
            _ => false,
        }
    }
}
