//! Names of columns: where they come from, how they are looked up, and the nearest one to a typo.

use std::collections::{HashMap, HashSet};

use serde::Serialize;

/// The columns of a source, in order, each with a name of its own.
///
/// The names are handles: trimmed, never blank, never the same. The header as it is in the
/// source is what gets written, not the handles.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct Columns {
    names: Vec<String>,
    places: HashMap<String, usize>,
    notes: Vec<HeaderNote>,
}

/// Something about a header that its reader should know. Columns are counted from 1.
#[derive(Clone, Debug, PartialEq, Eq, Serialize)]
#[serde(tag = "note", rename_all = "kebab-case")]
pub enum HeaderNote {
    /// The column's header is empty; it can be called `name`.
    Blank {
        /// Place of the column, from 1.
        column: usize,
        /// The name it goes by.
        name: String,
    },
    /// The header is the same as an earlier one; this column can be called `name`.
    Duplicate {
        /// Place of the column, from 1.
        column: usize,
        /// The header verbatim.
        header: String,
        /// The name it goes by.
        name: String,
    },
    /// The header has white space around it, which its name leaves out.
    Padded {
        /// Place of the column, from 1.
        column: usize,
        /// The name it goes by.
        name: String,
    },
}

/// A name that is no column's.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
#[error("there is no column '{name}'")]
pub struct ColumnError {
    /// The name that was asked for.
    pub name: String,
    /// The column whose name is nearest to it, if one is near.
    pub nearest: Option<String>,
    /// All names there are.
    pub columns: Vec<String>,
}

impl ColumnError {
    /// The columns that there are, as many as a message has room for.
    pub fn listed(&self) -> String {
        const LISTED: usize = 12;
        let shown = self
            .columns
            .iter()
            .take(LISTED)
            .cloned()
            .collect::<Vec<_>>();
        match self.columns.len() - shown.len() {
            0 => shown.join(", "),
            more => format!("{} and {more} more", shown.join(", ")),
        }
    }
}

impl Columns {
    /// Names the columns after a header.
    pub fn from_header<S: AsRef<str>>(headers: &[S]) -> Self {
        let mut columns = Self::default();
        let known: HashSet<&str> = headers
            .iter()
            .map(|header| header.as_ref().trim())
            .collect();
        let mut numbers = HashMap::new();
        for (place, header) in headers.iter().enumerate() {
            let header = header.as_ref();
            let trimmed = header.trim();
            let column = place + 1;
            let name = if trimmed.is_empty() {
                let name = columns.unused(&format!("column_{column}"), &known, &mut numbers);
                columns.notes.push(HeaderNote::Blank {
                    column,
                    name: name.clone(),
                });
                name
            } else if columns.places.contains_key(trimmed) {
                let name = columns.unused(trimmed, &known, &mut numbers);
                let header = trimmed.to_owned();
                columns.notes.push(HeaderNote::Duplicate {
                    column,
                    header,
                    name: name.clone(),
                });
                name
            } else {
                if trimmed.len() != header.len() {
                    columns.notes.push(HeaderNote::Padded {
                        column,
                        name: trimmed.to_owned(),
                    });
                }
                trimmed.to_owned()
            };
            columns.push(name);
        }
        columns
    }

    /// Columns without a header: `column_1`, `column_2` and so on.
    pub fn numbered(width: usize) -> Self {
        let mut columns = Self::default();
        for column in 1..=width {
            columns.push(format!("column_{column}"));
        }
        columns
    }

    /// The same columns with what was odd about the header that they come from.
    pub fn with_notes(self, notes: Vec<HeaderNote>) -> Self {
        Self { notes, ..self }
    }

    fn push(&mut self, name: String) {
        self.places.insert(name.clone(), self.names.len());
        self.names.push(name);
    }

    /// `wanted`, or `wanted_2`, `wanted_3` …: the first that is no column and no header. `numbers` says of each name
    /// which of them are taken.
    fn unused(
        &self,
        wanted: &str,
        headers: &HashSet<&str>,
        numbers: &mut HashMap<String, u64>,
    ) -> String {
        let taken = |name: &str| self.places.contains_key(name) || headers.contains(name);
        if !taken(wanted) {
            return wanted.to_owned();
        }
        let number = numbers.entry(wanted.to_owned()).or_insert(1);
        loop {
            *number += 1;
            let name = format!("{wanted}_{number}");
            if !taken(&name) {
                return name;
            }
        }
    }

    /// The names, in order.
    pub fn names(&self) -> &[String] {
        &self.names
    }

    /// Number of columns.
    pub fn len(&self) -> usize {
        self.names.len()
    }

    /// Whether there are none.
    pub fn is_empty(&self) -> bool {
        self.names.is_empty()
    }

    /// What was odd about the header.
    pub fn notes(&self) -> &[HeaderNote] {
        &self.notes
    }

    /// The place of the column called `name`, counted from 0.
    ///
    /// # Errors
    ///
    /// [`ColumnError`] with the nearest name if there is no such column.
    pub fn find(&self, name: &str) -> Result<usize, ColumnError> {
        self.places.get(name).copied().ok_or_else(|| ColumnError {
            name: name.to_owned(),
            nearest: nearest(name, self.names.iter().map(String::as_str)).map(str::to_owned),
            columns: self.names.clone(),
        })
    }
}

/// The candidate that is nearest to `word` by edit distance, if any is near enough to be meant.
pub fn nearest<'a>(word: &str, candidates: impl IntoIterator<Item = &'a str>) -> Option<&'a str> {
    let folded = word.to_lowercase();
    candidates
        .into_iter()
        .map(|candidate| {
            (
                strsim::osa_distance(&folded, &candidate.to_lowercase()),
                candidate,
            )
        })
        .filter(|(distance, _)| *distance <= (word.chars().count() / 3).max(1))
        .min_by_key(|(distance, _)| *distance)
        .map(|(_, candidate)| candidate)
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn odd_headers_get_names_of_their_own() {
        let columns = Columns::from_header(&["quay", " agent ", "", "quay", "quay_2", "quay"]);
        assert_eq!(
            columns.names(),
            ["quay", "agent", "column_3", "quay_3", "quay_2", "quay_4"]
        );
        assert_eq!(
            columns.notes(),
            [
                HeaderNote::Padded {
                    column: 2,
                    name: "agent".into()
                },
                HeaderNote::Blank {
                    column: 3,
                    name: "column_3".into()
                },
                HeaderNote::Duplicate {
                    column: 4,
                    header: "quay".into(),
                    name: "quay_3".into()
                },
                HeaderNote::Duplicate {
                    column: 6,
                    header: "quay".into(),
                    name: "quay_4".into()
                },
            ]
        );
        assert_eq!(columns.find("agent"), Ok(1));
    }

    #[test]
    fn a_typo_gets_the_nearest_name() {
        let columns = Columns::from_header(&["quay", "agent"]);
        let error = columns.find("quai").expect_err("no such column");
        assert_eq!(error.nearest.as_deref(), Some("quay"));
        assert_eq!(error.listed(), "quay, agent");
        let error = columns.find("tonnes").expect_err("no such column");
        assert_eq!(error.nearest, None);
        let error = columns.find("QUAY").expect_err("names keep their case");
        assert_eq!(error.nearest.as_deref(), Some("quay"));
    }
}
