//! `numerant run`.

use std::path::PathBuf;

use clap::Args;

use super::options::ReportOptions;

/// Run a saved job, or several in order
#[derive(Debug, Args)]
#[command(
    after_help = "--save-job of any command writes a job file; docs/jobs.md describes its keys. Relative paths in it start \
    in its own folder. A job file runs only once at a time: a second run ends with code 1. The first job \
    that fails ends the run with its exit code.\n\n\
    Examples:\n  \
    numerant run nightly.toml\n  \
    numerant run month.toml month=2026-04 --log month.log\n  \
    numerant run nightly.toml --check"
)]
pub(crate) struct SavedArguments {
    /// Job file to run
    #[arg(value_name = "JOB.toml")]
    pub(crate) file: PathBuf,
    /// Values for the parameters of the job
    #[arg(value_name = "NAME=VALUE", value_parser = parameter)]
    pub(crate) parameters: Vec<(String, String)>,
    /// Check the job file without reading data
    #[arg(long, conflicts_with = "plan", help_heading = "Running")]
    pub(crate) check: bool,
    /// Show the outputs without writing them
    #[arg(long, help_heading = "Running")]
    pub(crate) plan: bool,
    /// Append events to FILE, one JSON object per line
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
