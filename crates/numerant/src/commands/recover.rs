//! `numerant recover`.

use std::sync::Arc;

use numerant_engine::Unobserved;
use numerant_engine::output::Direction;

use crate::args::RecoverArguments;
use crate::failure::Failure;
use crate::report::Reporter;
use crate::surroundings::Interrupts;

pub(super) fn recover(
    arguments: &RecoverArguments,
    reporter: &Reporter,
    interrupts: &Interrupts,
) -> Result<(), Failure> {
    let context = interrupts.context(Arc::new(Unobserved));
    let direction = if arguments.forward {
        Direction::Forward
    } else {
        Direction::Back
    };
    let recovered = numerant_engine::recover(&arguments.folder, direction, &context)?;
    reporter.recovered(&arguments.folder, &recovered)?;
    Ok(())
}
