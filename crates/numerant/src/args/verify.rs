//! `numerant verify`.

use std::path::PathBuf;

use clap::Args;
use numerant_engine::job::{VerifyJob, Work, read_options_with};
use numerant_format::ReadOptions;

use super::options::{
    ColumnList, PageOption, ReportOptions, RunningOptions, SavingOptions, columns, names,
};
use super::reading::{CellOptions, ReadingOptions};
use super::steps::ChangeOptions;

/// Check outputs against their ledger, or parts against the whole
#[derive(Debug, Args)]
#[command(
    override_usage = "numerant verify [OPTIONS] LEDGER\n       \
        numerant verify [OPTIONS] --whole FILE... --parts FILE...\n       \
        numerant verify [OPTIONS] --whole FILE... --ledger LEDGER",
    after_help = "With LEDGER, every output must have the bytes, records and totals that the run wrote, and a folder \
    created by the run must contain nothing else. With --whole and --parts, both sides must have the \
    same records, in any order. Repeat the steps of the run that wrote the parts: they are applied to \
    the whole. With --ledger they are read from the ledger of that run.\n\n\
    Examples:\n  \
    numerant verify split.json\n  \
    numerant verify --whole calls.csv --parts 'parts/**/*.csv'\n  \
    numerant verify --whole calls.csv --parts parts --ignore folder,chief\n  \
    numerant verify --whole calls.csv --parts parts --tidy --where \"tonnes > 1000\"\n  \
    numerant verify --whole report.csv --skip-lines 2 --parts parts --parts-read skip-lines=0\n  \
    numerant verify --whole calls.csv --ledger split.json"
)]
pub(crate) struct VerifyArguments {
    /// Ledger that a run has written with --ledger
    #[arg(
        value_name = "LEDGER",
        required_unless_present = "whole",
        conflicts_with_all = ["whole", "parts", "keep", "ignore"]
    )]
    ledger: Option<PathBuf>,
    /// Folder of the outputs [default: where the run wrote them]
    #[arg(long, value_name = "DIR")]
    out: Option<PathBuf>,
    /// The whole: files, folders or patterns
    #[arg(long, value_name = "FILE", num_args = 1..)]
    whole: Vec<PathBuf>,
    /// The parts: files, folders or patterns
    #[arg(long, value_name = "FILE", num_args = 1.., requires = "whole", conflicts_with = "out")]
    parts: Vec<PathBuf>,
    /// Take the parts, the steps and the reading options from the ledger of the run that wrote the
    /// parts
    #[arg(
        long = "ledger",
        value_name = "LEDGER",
        requires = "whole",
        conflicts_with_all = ["parts", "ledger"],
        required_unless_present_any = ["ledger", "parts"]
    )]
    of_ledger: Option<PathBuf>,
    /// Read the parts with another option than the whole, such as skip-lines=0 or delimiter=tab; may be
    /// repeated
    #[arg(long, value_name = "OPTION=VALUE", value_parser = reading_option, requires = "parts")]
    parts_read: Vec<(String, String)>,
    /// Compare only these columns
    #[arg(long, value_name = "COLUMN[,COLUMN…]", value_parser = columns)]
    keep: Vec<ColumnList>,
    /// Do not compare these columns; one side may lack them
    #[arg(long, value_name = "COLUMN[,COLUMN…]", value_parser = columns)]
    ignore: Vec<ColumnList>,
    #[command(flatten)]
    reading: ReadingOptions,
    #[command(flatten)]
    cells: CellOptions,
    #[command(flatten)]
    changes: ChangeOptions,
    /// Number of threads [default: number of processors]
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
    page: PageOption,
    #[command(flatten)]
    running: RunningOptions,
}

/// `OPTION=VALUE`.
fn reading_option(text: &str) -> Result<(String, String), String> {
    let (name, value) = text
        .split_once('=')
        .ok_or("write it as OPTION=VALUE, such as skip-lines=0")?;
    Ok((name.trim_start_matches("--").to_owned(), value.to_owned()))
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
    /// How the result is shown.
    pub(crate) fn report(&self) -> ReportOptions {
        self.running.report
    }

    pub(crate) fn into_request(self) -> Result<VerifyRequest, String> {
        let read = self.reading.into_options();
        let parts_read = match self.parts_read.as_slice() {
            [] => None,
            options => Some(read_options_with(&read, options)?),
        };
        let job = VerifyJob {
            ledger: self.ledger.or(self.of_ledger),
            out: self.out,
            parts_read,
            steps: self.changes.into_steps(),
            date_format: self.cells.date_format,
            decimal_comma: self.cells.decimal_comma,
            number_format: self.cells.number_format,
            locale: self.cells.locale,
            whole: self.whole.into_iter().map(Into::into).collect(),
            parts: self.parts.into_iter().map(Into::into).collect(),
            keep: names(self.keep),
            ignore: names(self.ignore),
            read,
            memory: self.running.memory,
            page: self.page.page,
            jobs: self.jobs,
            ..VerifyJob::default()
        };
        let save = self.saving.save_job;
        let reads = job.read != ReadOptions::default() || !job.steps.is_empty();
        let cells = !job.date_format.is_empty()
            || job.decimal_comma
            || job.number_format.is_some()
            || job.locale.is_some();
        if job.ledger.is_some() && !job.whole.is_empty() && (reads || cells) {
            return Err(
                "--ledger takes the steps and reading options from the run, so they cannot be stated"
                    .to_owned(),
            );
        }
        Ok(VerifyRequest {
            save: save.map(|path| (path, Work::Verify(Box::new(job.clone())))),
            job,
            report: self.running.report,
        })
    }
}
