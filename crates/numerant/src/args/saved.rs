//! `numerant run`.

use std::path::PathBuf;

use clap::Args;

use super::options::ReportOptions;

/// Run a saved job, or several in order
#[derive(Debug, Args)]
#[command(
    after_help = "A job file is what --save-job of any command writes, and can be written by hand; \
    docs/jobs.md explains it. Paths in it begin in its own folder. Two runs of one file never \
    overlap: the second ends at once with code 1. The first job that fails ends the run with its \
    code.\n\n\
    Examples:\n  \
    numerant run nightly.toml\n  \
    numerant run month.toml month=2026-04 --log month.log\n  \
    numerant run nightly.toml --check"
)]
pub(crate) struct SavedArguments {
    /// The job file
    #[arg(value_name = "JOB.toml")]
    pub(crate) file: PathBuf,
    /// Values of the job's parameters
    #[arg(value_name = "NAME=VALUE", value_parser = parameter)]
    pub(crate) parameters: Vec<(String, String)>,
    /// Say whether the file could be run, and read no data
    #[arg(long, conflicts_with = "plan", help_heading = "Running")]
    pub(crate) check: bool,
    /// Show the outputs that would be written, and write nothing
    #[arg(long, help_heading = "Running")]
    pub(crate) plan: bool,
    /// Append what happens to a file, one JSON object a line
    #[arg(long, value_name = "FILE", help_heading = "Running")]
    pub(crate) log: Option<PathBuf>,
    #[command(flatten)]
    pub(crate) report: ReportOptions,
}

fn parameter(text: &str) -> Result<(String, String), String> {
    let (name, value) = text
        .split_once('=')
        .filter(|(name, _)| !name.trim().is_empty())
        .ok_or("write it as NAME=VALUE, such as month=2026-04")?;
    Ok((name.trim().to_owned(), value.to_owned()))
}
