//! What is done to records between reading and writing: one file a step.
//!
//! A [`Pipeline`] is made of the steps of a job and the columns of its sources. It takes batches
//! as they are read and leaves them as they are to be routed: with computed columns next to those
//! of the source, and without the records that were left out or rejected. Expressions are in [`expr`].
//!
//! ```
//! use numerant_steps::expr::Expression;
//!
//! let condition: Expression = "dues * 1.2 > 1000 AND quay LIKE 'North%'".parse().expect("a condition");
//! assert!(condition.words().contains(&"quay".to_owned()));
//! let error = "quay = 'North".parse::<Expression>().expect_err("a quote is missing");
//! assert_eq!(error.at, Some(7));
//! ```

mod case;
mod declare;
mod drop;
mod error;
pub mod expr;
mod faults;
mod filter;
mod keep;
mod layout;
mod lookup;
mod pipeline;
mod problem;
mod rename;
mod set;
mod sort;
mod tidy;
mod total;
mod unknown;

#[cfg(test)]
mod tests;

use std::fmt;

use serde::{Deserialize, Serialize};

pub use case::{CASE_COLUMN, Case};
pub use error::StepError;
pub use faults::OnError;
pub use layout::{Layout, LayoutColumn};
pub use lookup::{Lookup, LookupError, OpenTable, Repeated, Unmatched, UnmatchedKeys};
pub use pipeline::{LeftOutBy, LeftOutStep, Pipeline, PipelineOptions};
pub use problem::StepProblem;
pub use sort::{SortColumn, SortKey, SortedAsText};
pub use tidy::TidyTally;
pub use unknown::UnknownRecords;

pub use sort::{SortedBatches, Sorter};
pub use tidy::BlankColumns;

use crate::expr::Expression;
use numerant_data::value::ColumnType;

/// One step. Steps are taken in the order in which a job lists them.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize, schemars::JsonSchema)]
#[serde(rename_all = "kebab-case")]
pub enum Step {
    /// Take white space from the sides of all values, and leave empty records and columns out.
    Tidy,
    /// Hold all values of a column against a type.
    Type {
        /// The column.
        column: String,
        /// The type.
        is: ColumnType,
    },
    /// Add the columns of a small table.
    Lookup(Lookup),
    /// Compute a column: a new one, or one in the place of an old one.
    Set {
        /// Name of the column.
        name: String,
        /// Its values.
        value: Expression,
    },
    /// Leave out records for which the condition does not hold.
    Where(Expression),
    /// Write dates after ISO 8601 and numbers as plain digits with a point, in columns whose values are written
    /// otherwise.
    Normalize,
    /// Call a column otherwise.
    Rename {
        /// Its name so far.
        from: String,
        /// Its new name.
        to: String,
    },
    /// Write these columns only, in this order.
    Keep(Vec<String>),
    /// Do not write these columns.
    Drop(Vec<String>),
    /// Of the columns of the sources, write only those whose values are all of one of these types. Whole numbers are
    /// decimals, too; a column without any value is of no type.
    KeepType(Vec<ColumnType>),
    /// Put the records in order.
    Sort(Vec<SortColumn>),
}

impl Step {
    /// What it is called.
    pub fn name(&self) -> StepName {
        match self {
            Self::Tidy => StepName::Tidy,
            Self::Type { .. } => StepName::Type,
            Self::Lookup(_) => StepName::Lookup,
            Self::Set { .. } => StepName::Set,
            Self::Where(_) => StepName::Where,
            Self::Normalize => StepName::Normalize,
            Self::Rename { .. } => StepName::Rename,
            Self::Keep(_) => StepName::Keep,
            Self::Drop(_) => StepName::Drop,
            Self::KeepType(_) => StepName::KeepType,
            Self::Sort(_) => StepName::Sort,
        }
    }
}

/// What a step is called, in job files and in messages.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum StepName {
    /// `tidy`.
    Tidy,
    /// `type`.
    Type,
    /// `lookup`.
    Lookup,
    /// `set`.
    Set,
    /// `where`.
    Where,
    /// `normalize`.
    Normalize,
    /// `rename`.
    Rename,
    /// `keep`.
    Keep,
    /// `drop`.
    Drop,
    /// `keep-type`.
    KeepType,
    /// `sort`.
    Sort,
    /// `case`, which is no step of the order but is prepared like one.
    Case,
    /// `total`, likewise.
    Total,
}

impl fmt::Display for StepName {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str(match self {
            Self::Tidy => "tidy",
            Self::Type => "type",
            Self::Lookup => "lookup",
            Self::Set => "set",
            Self::Where => "where",
            Self::Normalize => "normalize",
            Self::Rename => "rename",
            Self::Keep => "keep",
            Self::Drop => "drop",
            Self::KeepType => "keep-type",
            Self::Sort => "sort",
            Self::Case => "case",
            Self::Total => "total",
        })
    }
}
