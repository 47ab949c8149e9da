//! `drop`: all columns but the named ones.

use super::layout::Layout;
use numerant_data::record::ColumnError;

pub(super) fn apply(names: &[String], layout: &mut Layout) -> Result<(), ColumnError> {
    let mut dropped = Vec::new();
    for name in names {
        dropped.extend(layout.places(name)?);
    }
    layout.drop(&dropped);
    Ok(())
}
