//! `numerant inspect`.

use std::path::PathBuf;

use clap::Args;
use numerant_engine::job::{InspectJob, Job, Work};
use numerant_naming::Key;

use super::options::{PageOption, ReportOptions, RunningOptions, SavingOptions};
use super::run::SourceOptions;

/// Show what is in files: format, encoding, columns, types, values, records
#[derive(Debug, Args)]
#[command(after_help = "Examples:\n  \
    numerant inspect calls.csv\n  \
    numerant inspect calls.csv --values quay\n  \
    numerant inspect incoming --recursive\n  \
    numerant inspect calls.csv --values arrived:month --report json\n  \
    numerant inspect calls.csv --set net='dues * 0.8' --where \"cargo = 'fish'\" --keep call_id,net")]
pub(crate) struct InspectArguments {
    /// Count the values of a column, or of a part of it such as arrived:month
    #[arg(long, value_name = "COLUMN", value_parser = key)]
    values: Option<Key>,
    /// Number of records to show
    #[arg(long, value_name = "N", default_value_t = 5)]
    show: usize,
    /// Show the columns and first records of each file [default: of one file; several files are listed in a table]
    #[arg(long)]
    details: bool,
    #[command(flatten)]
    source: SourceOptions,
    #[command(flatten)]
    saving: SavingOptions,
    #[command(flatten)]
    page: PageOption,
    #[command(flatten)]
    running: RunningOptions,
}

fn key(text: &str) -> Result<Key, numerant_naming::KeyError> {
    Key::try_from(text.to_owned())
}

/// What is to be looked at, and how it is shown.
#[derive(Debug)]
pub(crate) struct InspectRequest {
    pub(crate) job: InspectJob,
    pub(crate) report: ReportOptions,
    /// Where the job is kept in place of being done, and as what.
    pub(crate) save: Option<(PathBuf, Work)>,
}

impl InspectArguments {
    pub(crate) fn into_request(self) -> InspectRequest {
        let job = InspectJob {
            values: self.values,
            show: self.show,
            details: self.details,
            job: Job {
                memory: self.running.memory,
                page: self.page.page,
                ..self.source.into_job()
            },
        };
        let save = self.saving.save_job;
        InspectRequest {
            save: save.map(|path| (path, Work::Inspect(Box::new(job.clone())))),
            job,
            report: self.running.report,
        }
    }
}
