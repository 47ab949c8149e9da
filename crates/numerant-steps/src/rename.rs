//! `rename`: a column under another name, in its place.

use super::error::StepError;
use super::layout::Layout;
use crate::StepName;

const STEP: StepName = StepName::Rename;

pub(super) fn apply(from: &str, to: &str, layout: &mut Layout) -> Result<(), StepError> {
    let column = |problem| StepError::Column {
        step: STEP,
        problem,
    };
    let place = layout.place(from).map_err(column)?;
    if to.trim().is_empty() {
        return Err(StepError::NoName { step: STEP });
    }
    if from != to && layout.place(to).is_ok() {
        return Err(StepError::Exists {
            step: STEP,
            name: to.to_owned(),
        });
    }
    layout.rename(place, to);
    Ok(())
}
