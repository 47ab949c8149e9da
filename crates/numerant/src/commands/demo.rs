//! `numerant demo`.

use super::Failure;
use crate::args::DemoArguments;
use crate::report::Reporter;

pub(super) fn demo(arguments: &DemoArguments, _reporter: &Reporter) -> Result<(), Failure> {
    crate::demo::lay_out(&arguments.folder)?;
    crate::demo::walk(&arguments.folder)
}
