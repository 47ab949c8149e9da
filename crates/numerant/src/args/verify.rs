//! `numerant verify`.

use std::path::PathBuf;

use clap::Args;
use numerant_core::job::{VerifyJob, Work};

use super::options::{
    ColumnList, ReadingOptions, ReportOptions, RunningOptions, SavingOptions, columns, names,
};

/// Prove that files are what a ledger says, or that parts are the whole
#[derive(Debug, Args)]
#[command(
    override_usage = "numerant verify [OPTIONS] LEDGER\n       \
        numerant verify [OPTIONS] --whole FILE... --parts FILE...",
    after_help = "With a ledger, every output must be there with the bytes, records and totals that \
    the run has written, and nothing else may be in a folder that it has made. With --whole and \
    --parts, both must hold the same records, in any order; a part may be a file, a folder, or a \
    pattern in quotes.\n\n\
    Examples:\n  \
    numerant verify split.json\n  \
    numerant verify --whole calls.csv --parts 'parts/**/*.csv'\n  \
    numerant verify --whole calls.csv --parts parts --ignore folder,chief"
)]
pub(crate) struct VerifyArguments {
    /// A ledger that a run has kept with --ledger
    #[arg(
        value_name = "LEDGER",
        required_unless_present = "whole",
        conflicts_with_all = ["whole", "parts", "keep", "ignore"]
    )]
    ledger: Option<PathBuf>,
    /// Where the outputs of the ledger are now [default: where they were written]
    #[arg(long, value_name = "DIR", requires = "ledger")]
    out: Option<PathBuf>,
    /// The whole: files, folders or patterns
    #[arg(long, value_name = "FILE", num_args = 1.., requires = "parts")]
    whole: Vec<PathBuf>,
    /// The parts: files, folders or patterns
    #[arg(long, value_name = "FILE", num_args = 1.., requires = "whole")]
    parts: Vec<PathBuf>,
    /// Compare these columns only
    #[arg(long, value_name = "COLUMN[,COLUMN…]", value_parser = columns)]
    keep: Vec<ColumnList>,
    /// Do not compare these columns; they may be in one side only
    #[arg(long, value_name = "COLUMN[,COLUMN…]", value_parser = columns)]
    ignore: Vec<ColumnList>,
    #[command(flatten)]
    reading: ReadingOptions,
    /// Threads to use: 1, or 2 to read both sides at the same time [default: as many as there are
    /// processors]
    #[arg(
        long,
        value_name = "N",
        default_value_t = 0,
        hide_default_value = true,
        help_heading = "Running"
    )]
    jobs: usize,
    #[command(flatten)]
    saving: SavingOptions,
    #[command(flatten)]
    running: RunningOptions,
}

/// What is to be verified, and how it is shown.
#[derive(Debug)]
pub(crate) struct VerifyRequest {
    pub(crate) job: VerifyJob,
    pub(crate) report: ReportOptions,
    /// Where the job is kept in place of being done, and as what.
    pub(crate) save: Option<(PathBuf, Work)>,
}

impl VerifyArguments {
    pub(crate) fn into_request(self) -> VerifyRequest {
        let job = VerifyJob {
            ledger: self.ledger,
            out: self.out,
            whole: self.whole.into_iter().map(Into::into).collect(),
            parts: self.parts.into_iter().map(Into::into).collect(),
            keep: names(self.keep),
            ignore: names(self.ignore),
            read: self.reading.into_options(),
            memory: self.running.memory,
            jobs: self.jobs,
            ..VerifyJob::default()
        };
        let save = self.saving.save_job;
        VerifyRequest {
            save: save.map(|path| (path, Work::Verify(Box::new(job.clone())))),
            job,
            report: self.running.report,
        }
    }
}
