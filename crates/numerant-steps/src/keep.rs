//! `keep`: the named columns, in the order they are named.

use super::layout::Layout;
use numerant_data::record::ColumnError;

pub(super) fn apply(names: &[String], layout: &mut Layout) -> Result<(), ColumnError> {
    let mut kept = Vec::with_capacity(names.len());
    for name in names {
        for place in layout.places(name)? {
            if !kept.contains(&place) {
                kept.push(place);
            }
        }
    }
    layout.keep(&kept);
    Ok(())
}
