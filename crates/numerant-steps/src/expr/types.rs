//! The types that parts of expressions have.

use std::fmt;

use numerant_data::value::ColumnType;

/// The type of a part of an expression.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Type {
    /// The text of a cell, which is taken for what it is used with.
    Cell,
    /// NULL and nothing else.
    Null,
    /// Characters.
    Text,
    /// An exact decimal.
    Number,
    /// A day, or a day with a time.
    Moment,
    /// A span of time.
    Interval,
    /// True, false or unknown.
    Boolean,
}

impl fmt::Display for Type {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str(match self {
            Self::Cell => "a cell",
            Self::Null => "NULL",
            Self::Text => "a text",
            Self::Number => "a number",
            Self::Moment => "a date",
            Self::Interval => "an interval",
            Self::Boolean => "a condition",
        })
    }
}

impl From<Option<ColumnType>> for Type {
    fn from(declared: Option<ColumnType>) -> Self {
        match declared {
            None => Self::Cell,
            Some(ColumnType::Text) => Self::Text,
            Some(ColumnType::Integer | ColumnType::Decimal) => Self::Number,
            Some(ColumnType::Date | ColumnType::Datetime) => Self::Moment,
            Some(ColumnType::Boolean) => Self::Boolean,
        }
    }
}
