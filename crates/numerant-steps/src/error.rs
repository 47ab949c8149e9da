//! Steps that cannot be taken, and records for which one fails.

use crate::expr::ExprError;
use numerant_data::record::ColumnError;

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
