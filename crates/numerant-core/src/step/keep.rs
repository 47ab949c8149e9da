//! `keep`: the named columns, in the order they are named.

use super::find;
use crate::record::{ColumnError, Columns};

pub(super) fn apply(
    names: &[String],
    columns: &Columns,
    left: &mut Vec<usize>,
) -> Result<(), ColumnError> {
    let mut kept = Vec::with_capacity(names.len());
    for name in names {
        let place = find(name, columns, left)?;
        if !kept.contains(&place) {
            kept.push(place);
        }
    }
    *left = kept;
    Ok(())
}
