//! Many sources, one set of columns: they are matched by name, and what a source's own name says
//! becomes columns of its records.

mod blank_values;
mod reader;

use serde::{Deserialize, Serialize};

pub(crate) use blank_values::BlankValuesReader;
pub(crate) use reader::GatheredReader;

/// What to do where sources do not have the same columns.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, Deserialize, schemars::JsonSchema)]
#[serde(rename_all = "lowercase")]
pub enum ColumnPolicy {
    /// Refuse the run, with who has what. The same columns in another order are the same.
    Same,
    /// All columns of all sources; those that a source lacks are blank in its records.
    Union,
    /// Only columns that all sources have.
    Common,
    /// The columns of the first source.
    First,
}

/// Sources that do not have the same columns.
#[derive(Clone, Debug, PartialEq, Eq, thiserror::Error)]
#[error("the {sources} sources do not have the same columns: {} not in all of them", if .partial.len() == 1 { "1 column is".to_owned() } else { format!("{} columns are", .partial.len()) })]
pub struct ColumnsDiffer {
    /// How many sources there are.
    pub sources: usize,
    /// Columns that are not in all, in the order in which they appear.
    pub partial: Vec<PartialColumn>,
}

/// A column that only some sources have.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct PartialColumn {
    /// Its name.
    pub name: String,
    /// Sources that have it.
    pub with: Vec<String>,
    /// Sources that do not.
    pub without: Vec<String>,
}

/// Sources that are named on either side of a difference.
const NAMED: usize = 3;

/// Columns that are named of those that the same sources have.
const COLUMNS: usize = 12;

impl ColumnsDiffer {
    /// Who has what: a line for the columns that the same sources have.
    pub fn lines(&self) -> Vec<String> {
        let listed = |names: &[String], most: usize| {
            let shown = names.get(..most).unwrap_or(names).join(", ");
            match names.len().saturating_sub(most) {
                0 => shown,
                more => format!("{shown} and {more} more"),
            }
        };
        let mut groups: Vec<(&PartialColumn, Vec<String>)> = Vec::new();
        for column in &self.partial {
            let name = format!("'{}'", column.name);
            match groups
                .iter_mut()
                .find(|(first, _)| first.with == column.with)
            {
                Some((_, names)) => names.push(name),
                None => groups.push((column, vec![name])),
            }
        }
        let line = |(first, names): &(&PartialColumn, Vec<String>)| {
            let (with, without) = (listed(&first.with, NAMED), listed(&first.without, NAMED));
            let names = listed(names, COLUMNS);
            format!("in {with} and not in {without}: {names}")
        };
        groups.iter().map(line).collect()
    }
}

/// The columns of all sources together, each given with its name and columns. What no policy is
/// said for has to be the same, but for `documents`, in whose records a member may be absent.
///
/// # Errors
///
/// [`ColumnsDiffer`] where they differ and no policy settles it.
pub(crate) fn settle(
    policy: Option<ColumnPolicy>,
    documents: bool,
    sources: &[(String, Vec<String>)],
) -> Result<Vec<String>, Box<ColumnsDiffer>> {
    // A document without records has no columns, and any will do.
    let sources: Vec<&(String, Vec<String>)> = sources
        .iter()
        .filter(|(_, columns)| !columns.is_empty())
        .collect();
    let mut names: Vec<&String> = Vec::new();
    let mut holders: Vec<Vec<usize>> = Vec::new();
    let mut places = std::collections::HashMap::new();
    for (source, (_, columns)) in sources.iter().enumerate() {
        for column in columns {
            let place = *places.entry(column).or_insert_with(|| {
                names.push(column);
                holders.push(Vec::new());
                names.len() - 1
            });
            holders[place].push(source);
        }
    }
    let first = || {
        sources
            .first()
            .map_or(Vec::new(), |(_, columns)| columns.clone())
    };
    let partial = holders.iter().filter(|with| with.len() < sources.len());
    if partial.count() == 0 {
        return Ok(first());
    }
    let usual = if documents {
        ColumnPolicy::Union
    } else {
        ColumnPolicy::Same
    };
    match policy.unwrap_or(usual) {
        ColumnPolicy::Union => Ok(names.into_iter().cloned().collect()),
        ColumnPolicy::First => Ok(first()),
        ColumnPolicy::Common => {
            let common = names.iter().zip(&holders);
            let common = common.filter(|(_, with)| with.len() == sources.len());
            Ok(common.map(|(name, _)| (*name).clone()).collect())
        }
        ColumnPolicy::Same => {
            let partial = names.iter().zip(&holders);
            let partial = partial.filter(|(_, with)| with.len() < sources.len());
            let named = |place: usize| sources[place].0.clone();
            let partial = partial.map(|(name, with)| PartialColumn {
                name: (*name).clone(),
                with: with.iter().map(|place| named(*place)).collect(),
                without: (0..sources.len())
                    .filter(|place| with.binary_search(place).is_err())
                    .map(named)
                    .collect(),
            });
            Err(Box::new(ColumnsDiffer {
                sources: sources.len(),
                partial: partial.collect(),
            }))
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn sources(columns: &[&str]) -> Vec<(String, Vec<String>)> {
        let names = columns.iter().enumerate();
        names
            .map(|(place, names)| {
                let columns = names.split(' ').map(str::to_owned).collect();
                (format!("{place}.csv"), columns)
            })
            .collect()
    }

    #[test]
    fn another_order_is_the_same_set() {
        let settled = settle(None, false, &sources(&["a b c", "c a b"])).expect("the same");
        assert_eq!(settled, ["a", "b", "c"]);
    }

    #[test]
    fn policies_settle_what_differs() {
        let sources = sources(&["a b", "b c", "b a"]);
        let settled = |policy| settle(Some(policy), false, &sources).map(|names| names.join(" "));
        assert_eq!(settled(ColumnPolicy::Union), Ok("a b c".into()));
        assert_eq!(settled(ColumnPolicy::Common), Ok("b".into()));
        assert_eq!(settled(ColumnPolicy::First), Ok("a b".into()));
        let differ = settle(None, false, &sources).expect_err("they differ");
        assert_eq!(
            differ.lines(),
            [
                "in 0.csv, 2.csv and not in 1.csv: 'a'",
                "in 1.csv and not in 0.csv, 2.csv: 'c'"
            ]
        );
        assert_eq!(
            differ.to_string(),
            "the 3 sources do not have the same columns: 2 columns are not in all of them"
        );
        let documents = settle(None, true, &sources).expect("members may be absent");
        assert_eq!(documents, ["a", "b", "c"]);
    }
}
