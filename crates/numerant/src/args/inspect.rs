//! `numerant inspect`.

use std::path::PathBuf;

use clap::Args;
use numerant_core::job::Job;
use numerant_core::name::Key;

use super::options::{ReadingOptions, ReportOptions, RunningOptions};

/// Show what is in files: format, encoding, columns, types, values
#[derive(Debug, Args)]
#[command(after_help = "Examples:\n  \
    numerant inspect calls.csv\n  \
    numerant inspect calls.csv --values quay\n  \
    numerant inspect calls.csv --values arrived:month --report json")]
pub(crate) struct InspectArguments {
    /// Files to read, - for standard input; .gz and .zst are decompressed
    #[arg(required = true, value_name = "FILE")]
    files: Vec<PathBuf>,
    /// Count the values of a column, or of a part of it such as arrived:month
    #[arg(long, value_name = "COLUMN", value_parser = key)]
    values: Option<Key>,
    #[command(flatten)]
    reading: ReadingOptions,
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
    pub(crate) report: ReportOptions,
}

impl InspectArguments {
    pub(crate) fn into_request(self) -> InspectRequest {
        let (read, date_format) = self.reading.into_parts();
        let job = Job {
            sources: self.files.into_iter().map(Into::into).collect(),
            read,
            date_format,
            memory: self.running.memory,
            ..Job::default()
        };
        InspectRequest {
            job,
            values: self.values,
            report: self.running.report,
        }
    }
}
