//! Steps that cannot be taken, and records for which one fails.

use crate::expr::{EvalError, ExprError};
use numerant_data::record::ColumnError;
use numerant_data::value::{ColumnType, NumberProblem, Size};

use super::StepName;
use super::lookup::LookupError;

/// A step that cannot be taken as it is.
#[derive(Debug, thiserror::Error)]
pub enum StepError {
    /// It names a column that is not there, or not there any more.
    #[error("{step}: there is no column '{}'", .problem.name)]
    Column {
        /// What it is called.
        step: StepName,
        /// The name.
        problem: ColumnError,
    },
    /// Its expression is wrong.
    #[error("{step}: {problem}")]
    Expression {
        /// What it is called.
        step: StepName,
        /// What is wrong.
        problem: ExprError,
    },
    /// It would make a second column of one name.
    #[error("{step}: there is a column '{name}' already")]
    Exists {
        /// What it is called.
        step: StepName,
        /// The name.
        name: String,
    },
    /// It needs a name that is none.
    #[error("{step}: a column needs a name")]
    NoName {
        /// What it is called.
        step: StepName,
    },
    /// Two cases of one name, or a name that represents the rest as well.
    #[error("case: the name '{name}' is given twice")]
    CaseTwice {
        /// The name.
        name: String,
    },
    /// No column is left.
    #[error("{step}: no column is left to write")]
    NoColumn {
        /// What it is called.
        step: StepName,
    },
    /// A table cannot be used.
    #[error(transparent)]
    Lookup(#[from] LookupError),
}

impl StepError {
    /// Lines that show the place.
    pub fn details(&self) -> Vec<String> {
        match self {
            Self::Expression { problem, .. } => problem.marked(),
            Self::Lookup(error) => error.details(),
            _ => Vec::new(),
        }
    }
}

/// A record for which a step fails.
#[derive(Clone, Debug, PartialEq, Eq, thiserror::Error)]
pub enum StepProblem {
    /// An expression has no value.
    #[error("{step} {name}: {problem}")]
    Evaluate {
        /// What it is called.
        step: StepName,
        /// The column or the case, or the condition itself.
        name: String,
        /// Why.
        problem: Box<EvalError>,
    },
    /// A value is not of the type that its column was declared to have.
    #[error("column '{column}' is declared {declared}, and {value:?} {}", .number.map_or_else(|| format!("is not {}", .declared.one()), |problem| problem.to_string()))]
    Type {
        /// The column.
        column: String,
        /// The type.
        declared: ColumnType,
        /// The value.
        value: String,
        /// What is wrong with it as a number.
        number: Option<NumberProblem>,
    },
    /// A value that is to be summed up is no number.
    #[error("total: column '{column}': {value:?} {problem}")]
    Total {
        /// The column.
        column: String,
        /// The value.
        value: String,
        /// What is wrong with it.
        problem: NumberProblem,
    },
    /// The values of a column take more memory than there is for them.
    #[error("set {name}: the computed values of a few records take more than {limit}")]
    TooMuch {
        /// The column.
        name: String,
        /// What there is for them.
        limit: Size,
    },
    /// A sum has too many digits.
    #[error("total: the sum of column '{column}' has more than 38 digits")]
    Sum {
        /// The column.
        column: String,
    },
    /// A key is not in a table.
    #[error("column '{column}': {value:?} is not in {table}")]
    Unmatched {
        /// The column.
        column: String,
        /// The value.
        value: String,
        /// The table.
        table: String,
    },
}
