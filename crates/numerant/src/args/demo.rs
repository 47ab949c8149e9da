//! `numerant demo`.

use std::path::PathBuf;

use clap::Args;

/// Lay out the sample data of the Port of Varnholm and walk through the work with it
#[derive(Debug, Args)]
pub(crate) struct DemoArguments {
    /// Folder to lay it out in; made anew each time
    #[arg(default_value = "varnholm", value_name = "DIR")]
    pub(crate) folder: PathBuf,
}
