//! `numerant demo`.

use std::path::PathBuf;

use clap::Args;

/// Create sample data of the Port of Varnholm and run every command on it
#[derive(Debug, Args)]
pub(crate) struct DemoArguments {
    /// Folder for the sample data; replaced each time
    #[arg(default_value = "varnholm", value_name = "DIR")]
    pub(crate) folder: PathBuf,
    /// Create only the sample data
    #[arg(long)]
    pub(crate) data_only: bool,
}
