//! Steps that cannot be taken, and records for which one fails.

use crate::expr::{EvalError, ExprError};
use numerant_data::record::ColumnError;
use numerant_data::value::{ColumnType, NumberProblem, Size};

use super::lookup::LookupError;

/// A step that cannot be taken as it is.
#[derive(Debug, thiserror::Error)]
pub enum StepError {
    /// It names a column that is not there, or not there any more.
    #[error("{option}: there is no column '{}'", .problem.name)]
    Column {
        /// The option.
        option: &'static str,
        /// The name.
        problem: ColumnError,
    },
    /// Its expression is wrong.
    #[error("{option}: {problem}")]
    Expression {
        /// The option.
        option: &'static str,
        /// What is wrong.
        problem: ExprError,
    },
    /// It would make a second column of one name.
    #[error("{option}: there is a column '{name}' already")]
    Exists {
        /// The option.
        option: &'static str,
        /// The name.
        name: String,
    },
    /// It needs a name that is none.
    #[error("{option}: a column needs a name")]
    NoName {
        /// The option.
        option: &'static str,
    },
    /// Two cases of one name, or a name that represents the rest as well.
    #[error("--case: the name '{name}' is given twice")]
    CaseTwice {
        /// The name.
        name: String,
    },
    /// No column is left.
    #[error("{option}: no column is left to write")]
    NoColumn {
        /// The option.
        option: &'static str,
    },
    /// A table cannot be used.
    #[error(transparent)]
    Lookup(#[from] LookupError),
}

impl StepError {
    /// What to do about it.
    pub fn hint(&self) -> Option<String> {
        match self {
            Self::Column { problem, .. } => Some(problem.hint()),
            Self::Expression { problem, .. } => problem.hint(),
            Self::Exists { option, .. } => Some(match *option {
                "--lookup" => "rename that column in the table, or drop it there".to_owned(),
                _ => "choose another name, or drop that column before".to_owned(),
            }),
            Self::Lookup(error) => error.hint(),
            Self::NoName { .. } | Self::CaseTwice { .. } | Self::NoColumn { .. } => None,
        }
    }

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
    #[error("{option} {name}: {problem}")]
    Evaluate {
        /// The option.
        option: &'static str,
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
    #[error("--total: column '{column}': {value:?} {problem}")]
    Total {
        /// The column.
        column: String,
        /// The value.
        value: String,
        /// What is wrong with it.
        problem: NumberProblem,
    },
    /// The values of a column take more memory than there is for them.
    #[error("--set {name}: the computed values of a few records take more than {limit}")]
    TooMuch {
        /// The column.
        name: String,
        /// What there is for them.
        limit: Size,
    },
    /// A sum has too many digits.
    #[error("--total: the sum of column '{column}' has more than 38 digits")]
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

impl StepProblem {
    /// What to do about it.
    pub fn hint(&self) -> Option<String> {
        let number = |problem: &NumberProblem, value: &str| {
            EvalError::Number {
                column: None,
                value: value.to_owned(),
                problem: *problem,
            }
            .hint()
        };
        match self {
            Self::Evaluate { problem, .. } => problem.hint(),
            Self::Type {
                number: Some(problem),
                value,
                ..
            }
            | Self::Total { problem, value, .. } => number(problem, value),
            Self::Type {
                declared: ColumnType::Date | ColumnType::Datetime,
                value,
                ..
            } => EvalError::Date {
                column: None,
                value: value.clone(),
            }
            .hint(),
            Self::Type { .. } => {
                Some("--on-error reject leaves such records out and counts them".to_owned())
            }
            Self::TooMuch { .. } => {
                Some("make shorter values, or allow more with --memory".to_owned())
            }
            Self::Unmatched { .. } | Self::Sum { .. } => None,
        }
    }
}
