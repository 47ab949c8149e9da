//! What becomes of lists and of elements that occur several times.

use std::fmt;
use std::str::FromStr;

use serde::{Deserialize, Serialize};

/// Items of one list that become columns of their own, at most, if nothing else is said.
const MOST_ITEMS: usize = 100;

/// What becomes of lists and of elements that occur several times, where records are flattened as
/// columns.
#[derive(Clone, Debug, PartialEq, Eq, Hash, Serialize, Deserialize, schemars::JsonSchema)]
#[serde(try_from = "String", into = "String")]
pub enum ListLayout {
    /// Columns for each item, of at most so many of a list.
    Columns(usize),
    /// A record for each item, of the list at this path.
    Rows(Option<String>),
    /// The list as JSON in one cell.
    Keep,
}

impl Default for ListLayout {
    fn default() -> Self {
        Self::Columns(MOST_ITEMS)
    }
}

/// A way to flatten lists that is not known.
#[derive(Clone, Debug, PartialEq, Eq, thiserror::Error)]
#[error(
    "'{0}' is not a way to flatten lists: use columns, columns=NUMBER, rows, rows=PATH or keep"
)]
pub struct ListLayoutError(String);

impl FromStr for ListLayout {
    type Err = ListLayoutError;

    fn from_str(text: &str) -> Result<Self, Self::Err> {
        let wrong = || ListLayoutError(text.to_owned());
        match text.split_once('=') {
            None if text == "columns" => Ok(Self::default()),
            None if text == "rows" => Ok(Self::Rows(None)),
            None if text == "keep" => Ok(Self::Keep),
            Some(("columns", most)) => match most.parse() {
                Ok(most) if (1..=16_384).contains(&most) => Ok(Self::Columns(most)),
                _ => Err(wrong()),
            },
            Some(("rows", path)) if !path.is_empty() => Ok(Self::Rows(Some(path.to_owned()))),
            _ => Err(wrong()),
        }
    }
}

impl fmt::Display for ListLayout {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self {
            Self::Columns(MOST_ITEMS) => f.write_str("columns"),
            Self::Columns(most) => write!(f, "columns={most}"),
            Self::Rows(None) => f.write_str("rows"),
            Self::Rows(Some(path)) => write!(f, "rows={path}"),
            Self::Keep => f.write_str("keep"),
        }
    }
}

impl TryFrom<String> for ListLayout {
    type Error = ListLayoutError;

    fn try_from(text: String) -> Result<Self, Self::Error> {
        text.parse()
    }
}

impl From<ListLayout> for String {
    fn from(lists: ListLayout) -> Self {
        lists.to_string()
    }
}
