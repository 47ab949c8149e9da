//! How blank values are written in documents.

use numerant_data::record::Blank;

/// How blank values are written in documents.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub enum Blanks {
    /// As they are in a document; those of tables as null in JSON, and not at all in XML.
    #[default]
    Keep,
    /// Not at all.
    Absent,
    /// As null; in XML as an element that is nil (XML Schema Part 1, 2.6.2).
    Null,
    /// As a text or element without content.
    Empty,
}

impl Blanks {
    /// What is written for a blank; `table` is what those of tables are.
    pub fn of(self, blank: Option<Blank>, table: Blank) -> Blank {
        match self {
            Self::Keep => blank.unwrap_or(table),
            Self::Absent => Blank::Absent,
            Self::Null => Blank::Null,
            Self::Empty => Blank::Empty,
        }
    }
}
