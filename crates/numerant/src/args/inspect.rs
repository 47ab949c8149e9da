//! `numerant inspect`.

use std::path::PathBuf;

use clap::Args;
use numerant_core::job::Job;
use numerant_core::name::Key;

use super::options::{CellOptions, ReadingOptions, ReportOptions, RunningOptions};
use super::steps::StepOptions;

/// Show what is in files: format, encoding, columns, types, values, records
#[derive(Debug, Args)]
#[command(after_help = "Examples:\n  \
    numerant inspect calls.csv\n  \
    numerant inspect calls.csv --values quay\n  \
    numerant inspect calls.csv --values arrived:month --report json\n  \
    numerant inspect calls.csv --set net='dues * 0.8' --where \"cargo = 'fish'\" --keep call_id,net")]
pub(crate) struct InspectArguments {
    /// Files to read, - for standard input; .gz and .zst are decompressed
    #[arg(required = true, value_name = "FILE")]
    files: Vec<PathBuf>,
    /// Count the values of a column, or of a part of it such as arrived:month
    #[arg(long, value_name = "COLUMN", value_parser = key)]
    values: Option<Key>,
    /// How many records to show, as they would be written
    #[arg(long, value_name = "N", default_value_t = 5)]
    show: usize,
    #[command(flatten)]
    reading: ReadingOptions,
    #[command(flatten)]
    cells: CellOptions,
    #[command(flatten)]
    steps: StepOptions,
    #[command(flatten)]
    running: RunningOptions,
}

fn key(text: &str) -> Result<Key, numerant_core::name::KeyError> {
    Key::try_from(text.to_owned())
}

/// What is to be looked at, and how it is shown.
#[derive(Debug)]
pub(crate) struct InspectRequest {
    pub(crate) job: Job,
    pub(crate) values: Option<Key>,
    pub(crate) show: usize,
    pub(crate) report: ReportOptions,
}

impl InspectArguments {
    pub(crate) fn into_request(self) -> InspectRequest {
        let job = Job {
            sources: self.files.into_iter().map(Into::into).collect(),
            read: self.reading.into_options(),
            date_format: self.cells.date_format,
            decimal_comma: self.cells.decimal_comma,
            on_error: self.steps.on_error,
            steps: self.steps.into_steps(),
            memory: self.running.memory,
            ..Job::default()
        };
        InspectRequest {
            job,
            values: self.values,
            show: self.show,
            report: self.running.report,
        }
    }
}
