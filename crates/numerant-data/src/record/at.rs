//! Where a record is in its source.

use std::fmt;

use serde::{Deserialize, Serialize};

/// What the records of a source are counted in.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, Hash, Serialize, Deserialize)]
#[serde(rename_all = "lowercase")]
pub enum Unit {
    /// Lines of a text.
    #[default]
    Line,
    /// Rows of a sheet.
    Row,
    /// Records of a file that has no lines.
    Record,
}

impl Unit {
    /// Whether it is that of texts.
    #[inline]
    pub fn is_line(&self) -> bool {
        *self == Self::Line
    }
}

impl fmt::Display for Unit {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str(match self {
            Self::Line => "line",
            Self::Row => "row",
            Self::Record => "record",
        })
    }
}

/// Where in its source a record begins.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash)]
pub struct At {
    /// What is counted.
    pub unit: Unit,
    /// Its number, from 1.
    pub number: u64,
}

impl At {
    /// Where the header most often is.
    #[inline]
    pub fn header() -> Self {
        Self {
            unit: Unit::Line,
            number: 1,
        }
    }
}

impl fmt::Display for At {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        write!(f, "{} {}", self.unit, self.number)
    }
}
