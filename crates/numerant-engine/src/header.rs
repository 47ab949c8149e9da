//! What is above the columns of an output.

use numerant_data::record::{Batch, Computed};
use numerant_steps::Layout;

/// A header as a record, and the places in it that count; `None` for all verbatim.
pub(super) type Header = (Batch, Option<Vec<usize>>);

/// The header of outputs: the source's own for columns that keep their names, names for others.
/// `None` if the source has no header, as then its outputs have none either.
pub(super) fn header(source: Option<&Batch>, layout: &Layout) -> Option<Header> {
    let source = source?;
    let mut header = source.first_as_batch();
    let width = header.width();
    let mut places = Vec::new();
    for column in layout.columns() {
        places.push(match column.header {
            Some(place) => place,
            None => {
                let mut name = Computed::default();
                name.push(column.name.as_bytes());
                header.computed.push(name);
                width + header.computed.len() - 1
            }
        });
    }
    let all = places.len() == width && places.iter().enumerate().all(|(at, place)| at == *place);
    Some((header, (!all).then_some(places)))
}
