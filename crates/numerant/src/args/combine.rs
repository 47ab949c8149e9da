//! `numerant combine`.

use std::path::PathBuf;

use clap::Args;
use numerant_core::job::Job;
use numerant_core::name::Template;

use super::options::{
    CellOptions, DoingOptions, KeepingOptions, NamingOptions, ReadingOptions, RunningOptions,
    WritingOptions, names,
};
use super::split::RunRequest;
use super::steps::StepOptions;

/// Put files together: into one table, or into one workbook with a sheet for each
#[derive(Debug, Args)]
#[command(
    after_help = "Files that become one table must have the same columns; those that become sheets of \
    one workbook, as with --sheet '{.stem}', each keep their own.\n\n\
    Examples:\n  \
    numerant combine calls/*.csv --name year.csv\n  \
    numerant combine north.xlsx south.csv --name all.xlsx --sheet '{.stem}'\n  \
    numerant combine year.xlsx --read-sheet all --name year.csv"
)]
pub(crate) struct CombineArguments {
    /// Files to read, in this order, - for standard input; .gz and .zst are decompressed
    #[arg(required = true, value_name = "FILE")]
    files: Vec<PathBuf>,
    #[command(flatten)]
    reading: ReadingOptions,
    #[command(flatten)]
    cells: CellOptions,
    #[command(flatten)]
    steps: StepOptions,
    /// Path of the output, such as year.xlsx; its extension says the format
    #[arg(
        long,
        value_name = "TEMPLATE",
        required = true,
        help_heading = "Naming"
    )]
    name: Template,
    /// Folder for the output, made with its parents [default: this one]
    #[arg(
        long,
        value_name = "DIR",
        default_value = ".",
        hide_default_value = true,
        help_heading = "Naming"
    )]
    out: PathBuf,
    #[command(flatten)]
    naming: NamingOptions,
    #[command(flatten)]
    writing: WritingOptions,
    #[command(flatten)]
    doing: DoingOptions,
    #[command(flatten)]
    keeping: KeepingOptions,
    #[command(flatten)]
    running: RunningOptions,
}

impl CombineArguments {
    pub(crate) fn into_request(self) -> RunRequest {
        let mode = self.doing.mode();
        let job = Job {
            sources: self.files.into_iter().map(Into::into).collect(),
            read: self.reading.into_options(),
            date_format: self.cells.date_format,
            decimal_comma: self.cells.decimal_comma,
            on_error: self.steps.on_error,
            steps: self.steps.into_steps(),
            name: Some(self.name),
            out: Some(self.out),
            sheet: self.naming.sheet,
            overflow: self.naming.overflow,
            blank: self.naming.blank,
            clash: self.naming.clash,
            existing: self.naming.existing,
            write: self.writing.options(),
            max_outputs: self.doing.max_outputs,
            memory: self.running.memory,
            jobs: self.doing.jobs,
            sync: self.writing.sync,
            total: names(self.doing.total),
            ledger: self.keeping.ledger,
            rejects: self.keeping.rejects,
            ..Job::default()
        };
        RunRequest {
            job,
            mode,
            report: self.running.report,
        }
    }
}
