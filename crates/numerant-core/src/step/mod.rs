//! What is done to records between reading and writing: one file a step.

mod drop;
mod keep;

use serde::{Deserialize, Serialize};

use crate::record::{ColumnError, Columns};

/// One step. Steps are taken in the order in which a job lists them.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
#[non_exhaustive]
pub enum Step {
    /// Write these columns only, in this order.
    Keep(Vec<String>),
    /// Do not write these columns.
    Drop(Vec<String>),
}

/// The places of the columns that are left to write after `steps`, in order; `None` where all are
/// left as they stand.
///
/// # Errors
///
/// [`ColumnError`] if a step names a column that is not there, or not there any more.
pub fn selected(steps: &[Step], columns: &Columns) -> Result<Option<Vec<usize>>, ColumnError> {
    let all: Vec<usize> = (0..columns.len()).collect();
    let mut left = all.clone();
    for step in steps {
        match step {
            Step::Keep(names) => keep::apply(names, columns, &mut left)?,
            Step::Drop(names) => drop::apply(names, columns, &mut left)?,
        }
    }
    Ok((left != all).then_some(left))
}

/// The place of the column called `name`, if an earlier step has left it.
fn find(name: &str, columns: &Columns, left: &[usize]) -> Result<usize, ColumnError> {
    let place = columns.find(name)?;
    if left.contains(&place) {
        return Ok(place);
    }
    let columns = left
        .iter()
        .map(|place| columns.names()[*place].clone())
        .collect();
    Err(ColumnError {
        name: name.to_owned(),
        nearest: None,
        columns,
    })
}

#[cfg(test)]
mod tests {
    use super::*;

    fn places(steps: &[Step]) -> Result<Option<Vec<usize>>, ColumnError> {
        selected(steps, &Columns::from_header(&["id", "quay", "dues"]))
    }

    fn names(names: &[&str]) -> Vec<String> {
        names.iter().map(|name| (*name).to_owned()).collect()
    }

    #[test]
    fn columns_that_are_left() {
        let keep = |columns: &[&str]| Step::Keep(names(columns));
        let drop = |columns: &[&str]| Step::Drop(names(columns));
        assert_eq!(places(&[]), Ok(None));
        assert_eq!(places(&[keep(&["dues", "id"])]), Ok(Some(vec![2, 0])));
        assert_eq!(places(&[drop(&["quay"])]), Ok(Some(vec![0, 2])));
        assert_eq!(places(&[keep(&["id", "quay", "dues"])]), Ok(None));
        assert_eq!(
            places(&[keep(&["dues", "id"]), drop(&["id"])]),
            Ok(Some(vec![2]))
        );
        let error = places(&[drop(&["dues"]), keep(&["dues"])]).expect_err("it is gone");
        assert_eq!(error.columns, ["id", "quay"]);
        assert_eq!(
            places(&[drop(&["duse"])])
                .expect_err("typo")
                .nearest
                .as_deref(),
            Some("dues")
        );
    }
}
