//! `numerant demo`.

use crate::args::DemoArguments;
use crate::failure::Failure;
use crate::report::Reporter;

pub(super) fn demo(arguments: &DemoArguments, reporter: &Reporter) -> Result<(), Failure> {
    crate::demo::lay_out(&arguments.folder)?;
    if arguments.data_only {
        return Ok(reporter.sample_data(&arguments.folder)?);
    }
    crate::demo::walk(&arguments.folder)
}
