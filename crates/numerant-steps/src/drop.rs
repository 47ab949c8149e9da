//! `drop`: all columns but the named ones.

use super::layout::Layout;
use numerant_data::record::ColumnError;

pub(super) fn apply(names: &[String], layout: &mut Layout) -> Result<(), ColumnError> {
    let places: Result<Vec<usize>, _> = names.iter().map(|name| layout.place(name)).collect();
    layout.drop(&places?);
    Ok(())
}
