//! `drop`: all columns but the named ones.

use super::find;
use crate::record::{ColumnError, Columns};

pub(super) fn apply(
    names: &[String],
    columns: &Columns,
    left: &mut Vec<usize>,
) -> Result<(), ColumnError> {
    let dropped: Result<Vec<usize>, _> =
        names.iter().map(|name| find(name, columns, left)).collect();
    let dropped = dropped?;
    left.retain(|place| !dropped.contains(place));
    Ok(())
}
