//! `numerant recover`.

use std::path::PathBuf;

use clap::Args;

use super::options::ReportOptions;

/// Roll back the commit of a killed run in a folder, or complete it
#[derive(Debug, Args)]
#[command(after_help = "Examples:\n  \
    numerant recover parts\n  \
    numerant recover parts --forward")]
pub(crate) struct RecoverArguments {
    /// Output folder of the run
    #[arg(value_name = "DIR")]
    pub(crate) folder: PathBuf,
    /// Complete the commit: move the staged outputs into place
    ///
    /// By default the commit is rolled back: outputs that are in place are removed, and the old files are restored.
    #[arg(long)]
    pub(crate) forward: bool,
    #[command(flatten)]
    pub(crate) report: ReportOptions,
}
