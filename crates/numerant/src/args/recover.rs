//! `numerant recover`.

use std::path::PathBuf;

use clap::Args;

use super::options::ReportOptions;

/// Take back what a run that was killed has begun in a folder, or finish it
#[derive(Debug, Args)]
#[command(after_help = "Examples:\n  \
    numerant recover parts\n  \
    numerant recover parts --forward")]
pub(crate) struct RecoverArguments {
    /// Output folder of the run
    #[arg(value_name = "DIR")]
    pub(crate) folder: PathBuf,
    /// Put the outputs that are still waiting in their places too
    ///
    /// Otherwise the outputs that are in place already are taken back, and the old files return.
    #[arg(long)]
    pub(crate) forward: bool,
    #[command(flatten)]
    pub(crate) report: ReportOptions,
}
