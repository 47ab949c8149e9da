//! What is put where in copies of a formatted workbook.

use std::fmt;
use std::path::PathBuf;
use std::str::FromStr;

use serde::{Deserialize, Serialize};

use numerant_data::source::{FilePattern, SelectError};
use numerant_naming::{Key, Words, WordsError};

/// How copies of a formatted workbook are filled.
#[derive(Clone, Debug, Default, PartialEq, Eq, Serialize, Deserialize, schemars::JsonSchema)]
#[serde(default, rename_all = "kebab-case")]
pub struct FillOptions {
    /// Formatted workbook that is copied for each output.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub template: Option<PathBuf>,
    /// Places, each with what is written there.
    pub put: Vec<Put>,
    /// Cells of the template to fill that are not blank.
    pub occupied: Occupied,
    /// Copies for which a table has no records.
    pub incomplete: Incomplete,
    /// Whether all rows of a table are formatted like its first row in the template.
    pub style_down: bool,
}

/// Cells of the template to fill that are not blank.
#[derive(
    Clone, Copy, Debug, Default, PartialEq, Eq, Serialize, Deserialize, schemars::JsonSchema,
)]
#[serde(rename_all = "lowercase")]
pub enum Occupied {
    /// Refuse the run.
    #[default]
    Refuse,
    /// Overwrite it.
    Replace,
}

/// Copies for which a table has no records.
#[derive(
    Clone, Copy, Debug, Default, PartialEq, Eq, Serialize, Deserialize, schemars::JsonSchema,
)]
#[serde(rename_all = "lowercase")]
pub enum Incomplete {
    /// Refuse the run, with the list of them.
    #[default]
    Refuse,
    /// Leave the copy out.
    Skip,
    /// Leave the table blank.
    Fill,
}

/// A place and what is written there: `Level!A6={.records:*_level.tsv}`.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize, schemars::JsonSchema)]
#[serde(try_from = "String", into = "String")]
pub struct Put {
    text: String,
    #[schemars(skip)]
    /// Where.
    pub place: PutPlace,
    #[schemars(skip)]
    /// What.
    pub what: PutWhat,
}

/// A place in the template.
#[derive(Clone, Debug, PartialEq, Eq, Hash)]
pub enum PutPlace {
    /// A cell of a sheet, the first of a table.
    Cell {
        /// The sheet's name.
        sheet: String,
        /// The cell, such as `B6`.
        cell: String,
    },
    /// The first cell of a named range.
    Name(String),
}

/// What is written at a place.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum PutWhat {
    /// Records.
    Table {
        /// Whether the header is written above them.
        header: bool,
        /// The files or the case that they belong to; by default all.
        of: Option<FilePattern>,
    },
    /// A value.
    Value(Words),
}

/// What is to be put cannot be read.
#[derive(Clone, Debug, PartialEq, Eq, thiserror::Error)]
pub enum PutError {
    /// No `=`.
    #[error("'{0}' has no value: write it as Sheet!B6={{station}}")]
    NoWhat(String),
    /// Not a place.
    #[error("'{0}' is not a place: write a cell as Sheet!B6 or 'Sheet name'!B6, or a named range")]
    Place(String),
    /// A text that is not closed or has something unknown in it.
    #[error("'{text}': {problem}")]
    Words {
        /// The text.
        text: String,
        /// What is wrong.
        problem: WordsError,
    },
    /// The pattern of files cannot be read.
    #[error("'{text}': {reason}")]
    Pattern {
        /// The pattern.
        text: String,
        /// Why.
        reason: String,
    },
    /// Expressions are computed for records, and a value is for all of them.
    #[error("'{0}': compute the value in a step before, and write its column, {{column}}")]
    Expression(String),
}

impl FromStr for Put {
    type Err = PutError;

    fn from_str(text: &str) -> Result<Self, PutError> {
        let (place, what) = divided(text).ok_or_else(|| PutError::NoWhat(text.to_owned()))?;
        Ok(Self {
            text: text.to_owned(),
            place: place.parse()?,
            what: what.parse()?,
        })
    }
}

/// What is before and after the first `=` that is in no quotes.
fn divided(text: &str) -> Option<(&str, &str)> {
    let mut quoted = false;
    let at = text.find(|sign| {
        quoted ^= sign == '\'';
        sign == '=' && !quoted
    })?;
    Some((&text[..at], &text[at + 1..]))
}

impl FromStr for PutPlace {
    type Err = PutError;

    fn from_str(text: &str) -> Result<Self, PutError> {
        let text = text.trim();
        let wrong = || PutError::Place(text.to_owned());
        let Some((sheet, cell)) = text.rsplit_once('!') else {
            let is_name = !text.is_empty()
                && !text.contains(|sign: char| sign.is_whitespace() || sign == '\'');
            return is_name
                .then(|| Self::Name(text.to_owned()))
                .ok_or_else(wrong);
        };
        let quoted = sheet
            .strip_prefix('\'')
            .and_then(|sheet| sheet.strip_suffix('\''));
        let sheet = match quoted {
            Some(sheet) => sheet.replace("''", "'"),
            None => sheet.to_owned(),
        };
        let cell = cell.replace('$', "").to_uppercase();
        let digits = cell.trim_start_matches(|sign: char| sign.is_ascii_alphabetic());
        let is_cell = digits.len() < cell.len()
            && !digits.is_empty()
            && digits.bytes().all(|byte| byte.is_ascii_digit());
        if sheet.is_empty() || !is_cell {
            return Err(wrong());
        }
        Ok(Self::Cell { sheet, cell })
    }
}

impl FromStr for PutWhat {
    type Err = PutError;

    fn from_str(text: &str) -> Result<Self, PutError> {
        for (name, header) in [("table", true), ("records", false)] {
            let inside = text
                .strip_prefix("{.")
                .and_then(|rest| rest.strip_suffix('}'));
            let Some(rest) = inside.and_then(|inside| inside.strip_prefix(name)) else {
                continue;
            };
            if rest.is_empty() {
                return Ok(Self::Table { header, of: None });
            }
            if let Some(of) = rest.strip_prefix(':') {
                let of: FilePattern =
                    of.parse().map_err(|error: SelectError| PutError::Pattern {
                        text: of.to_owned(),
                        reason: error.to_string(),
                    })?;
                return Ok(Self::Table {
                    header,
                    of: Some(of),
                });
            }
        }
        let words: Words = text.parse().map_err(|problem| PutError::Words {
            text: text.to_owned(),
            problem,
        })?;
        if words.computes() {
            return Err(PutError::Expression(text.to_owned()));
        }
        Ok(Self::Value(words))
    }
}

impl fmt::Display for PutPlace {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self {
            Self::Name(name) => f.write_str(name),
            Self::Cell { sheet, cell } => write!(f, "{sheet}!{cell}"),
        }
    }
}

impl TryFrom<String> for Put {
    type Error = PutError;

    fn try_from(text: String) -> Result<Self, PutError> {
        text.parse()
    }
}

impl From<Put> for String {
    fn from(put: Put) -> Self {
        put.text
    }
}

impl FillOptions {
    /// The tables among what is put: their places in the list, and which records each has.
    pub fn tables(&self) -> impl Iterator<Item = (usize, Option<&FilePattern>)> {
        self.put
            .iter()
            .enumerate()
            .filter_map(|(place, put)| match &put.what {
                PutWhat::Table { of, .. } => Some((place, of.as_ref())),
                PutWhat::Value(_) => None,
            })
    }

    /// What the values are made of.
    pub fn keys(&self) -> Vec<Key> {
        let values = self.put.iter().filter_map(|put| match &put.what {
            PutWhat::Value(words) => Some(words),
            PutWhat::Table { .. } => None,
        });
        values.flat_map(Words::keys).collect()
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn places_and_what_is_put_there() {
        let put: Put = "'It''s = level'!$b$6={.records:*_level.tsv}"
            .parse()
            .expect("a put");
        assert_eq!(put.place.to_string(), "It's = level!B6");
        let PutWhat::Table {
            header: false,
            of: Some(of),
        } = &put.what
        else {
            panic!("{put:?}");
        };
        assert_eq!(of.to_string(), "*_level.tsv");
        let put: Put = "Station={station}, {.date}".parse().expect("a put");
        assert_eq!(put.place, PutPlace::Name("Station".to_owned()));
        assert_eq!(String::from(put), "Station={station}, {.date}");
        let whole = PutWhat::Table {
            header: true,
            of: None,
        };
        assert_eq!("{.table}".parse::<PutWhat>().expect("a table"), whole);
        for wrong in [
            "Level!B6",
            "Level!6B={x}",
            "!B6={x}",
            "a b={x}",
            "A!B1={x",
            "A!B1={= 1}",
            "A!B1={.recordz}",
            "A!B1={.records:[}",
        ] {
            assert!(wrong.parse::<Put>().is_err(), "{wrong}");
        }
    }
}
