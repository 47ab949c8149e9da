//! Why a step fails for a record.

use crate::StepName;
use crate::expr::EvalError;
use numerant_data::value::{ColumnType, NumberProblem, Size};

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
