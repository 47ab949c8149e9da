//! The types that columns can be declared to have.

use std::fmt;
use std::str::FromStr;

use serde::{Deserialize, Serialize};

/// What all values of a column are declared to be.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash, Serialize, Deserialize, schemars::JsonSchema)]
#[serde(rename_all = "kebab-case")]
pub enum ColumnType {
    /// Characters, whatever they look like.
    Text,
    /// Whole numbers.
    Integer,
    /// Numbers with digits after the decimal mark.
    Decimal,
    /// Days.
    Date,
    /// Days with a time of day.
    Datetime,
    /// `true` or `false`, in any case.
    Boolean,
}

/// A word that is no type.
#[derive(Clone, Debug, PartialEq, Eq, thiserror::Error)]
#[error("'{0}' is not a type; types are text, integer, decimal, date, datetime and boolean")]
pub struct ColumnTypeError(pub String);

const NAMES: [(&str, ColumnType); 6] = [
    ("text", ColumnType::Text),
    ("integer", ColumnType::Integer),
    ("decimal", ColumnType::Decimal),
    ("date", ColumnType::Date),
    ("datetime", ColumnType::Datetime),
    ("boolean", ColumnType::Boolean),
];

impl ColumnType {
    /// Its name as it is written.
    pub fn name(self) -> &'static str {
        NAMES
            .iter()
            .find(|(_, known)| *known == self)
            .map_or("", |(name, _)| name)
    }

    /// A value of it with its article, for messages.
    pub fn one(self) -> &'static str {
        match self {
            Self::Text => "a text",
            Self::Integer => "an integer",
            Self::Decimal => "a number",
            Self::Date => "a date without a time",
            Self::Datetime => "a date with a time",
            Self::Boolean => "true or false",
        }
    }
}

impl FromStr for ColumnType {
    type Err = ColumnTypeError;

    fn from_str(text: &str) -> Result<Self, Self::Err> {
        NAMES
            .iter()
            .find(|(name, _)| *name == text)
            .map(|(_, found)| *found)
            .ok_or_else(|| ColumnTypeError(text.to_owned()))
    }
}

impl fmt::Display for ColumnType {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str(self.name())
    }
}
