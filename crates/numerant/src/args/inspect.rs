//! `numerant inspect`.

use clap::Args;
use numerant_core::job::Job;
use numerant_core::name::Key;

use super::options::{ReportOptions, RunningOptions};
use super::run::SourceOptions;

/// Show what is in files: format, encoding, columns, types, values, records
#[derive(Debug, Args)]
#[command(after_help = "Examples:\n  \
    numerant inspect calls.csv\n  \
    numerant inspect calls.csv --values quay\n  \
    numerant inspect calls.csv --values arrived:month --report json\n  \
    numerant inspect calls.csv --set net='dues * 0.8' --where \"cargo = 'fish'\" --keep call_id,net")]
pub(crate) struct InspectArguments {
    /// Count the values of a column, or of a part of it such as arrived:month
    #[arg(long, value_name = "COLUMN", value_parser = key)]
    values: Option<Key>,
    /// How many records to show, as they would be written
    #[arg(long, value_name = "N", default_value_t = 5)]
    show: usize,
    #[command(flatten)]
    source: SourceOptions,
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
            memory: self.running.memory,
            ..self.source.into_job()
        };
        InspectRequest {
            job,
            values: self.values,
            show: self.show,
            report: self.running.report,
        }
    }
}
