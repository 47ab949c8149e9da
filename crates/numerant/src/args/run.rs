//! What all commands have in common that read sources, and all that run a job.

use std::path::PathBuf;

use clap::Args;
use numerant_engine::job::{Job, PageOptions, Work};

use super::options::{
    DoingOptions, FileOptions, KeepingOptions, Mode, NamingOptions, ReportOptions, RunningOptions,
    SavingOptions, names,
};
use super::reading::{CellOptions, ReadingOptions};
use super::steps::StepOptions;
use super::writing::WritingOptions;

/// What is read, how, and what is done to its records.
#[derive(Debug, Args)]
pub(super) struct SourceOptions {
    #[command(flatten)]
    files: FileOptions,
    #[command(flatten)]
    reading: ReadingOptions,
    #[command(flatten)]
    cells: CellOptions,
    #[command(flatten)]
    steps: StepOptions,
}

impl SourceOptions {
    /// A job that reads these files so.
    pub(super) fn into_job(self) -> Job {
        Job {
            sources: self.files.files.into_iter().map(Into::into).collect(),
            recursive: self.files.recursive,
            pick: self.files.pick,
            skip: self.files.skip,
            from_name: self.files.from_name,
            source_column: self.files.source_column,
            read: self.reading.into_options(),
            date_format: self.cells.date_format,
            decimal_comma: self.cells.decimal_comma,
            number_format: self.cells.number_format,
            locale: self.cells.locale,
            on_error: self.steps.on_error,
            steps: self.steps.into_steps(),
            ..Job::default()
        }
    }
}

/// How outputs are called besides their paths, how they are written, and how a job is run.
#[derive(Debug, Args)]
pub(super) struct OutputOptions {
    #[command(flatten)]
    naming: NamingOptions,
    #[command(flatten)]
    writing: WritingOptions,
    #[command(flatten)]
    doing: DoingOptions,
    #[command(flatten)]
    keeping: KeepingOptions,
    #[command(flatten)]
    saving: SavingOptions,
    #[command(flatten)]
    running: RunningOptions,
}

/// What is to be done, and how it is shown.
#[derive(Debug)]
pub(crate) struct RunRequest {
    pub(crate) job: Job,
    pub(crate) mode: Mode,
    /// Records of each output that a plan shows.
    pub(crate) show: usize,
    pub(crate) report: ReportOptions,
    /// Where the job is kept in place of being done, and as what.
    pub(crate) save: Option<(PathBuf, Work)>,
}

impl OutputOptions {
    /// Whether an archive takes the place of an output folder.
    pub(super) fn packs(&self) -> bool {
        self.naming.pack.is_some()
    }

    /// The request for a job, which has all but what is said here.
    pub(super) fn into_request(self, job: Job, as_work: fn(Box<Job>) -> Work) -> RunRequest {
        let mode = self.doing.mode();
        let show = self.doing.show.unwrap_or(0);
        let job = Job {
            sheet: self.naming.sheet,
            sheet_order: self.naming.sheet_order,
            pages: PageOptions {
                title: self.naming.title,
                subtitle: self.naming.subtitle,
                group_by: self.naming.group_by,
            },
            overflow: self.naming.overflow,
            pack: self.naming.pack,
            allow_absolute: self.naming.allow_absolute,
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
            page: self.keeping.page.page,
            rejects: self.keeping.rejects,
            ..job
        };
        let save = self.saving.save_job;
        RunRequest {
            save: save.map(|path| (path, as_work(Box::new(job.clone())))),
            job,
            mode,
            show,
            report: self.running.report,
        }
    }
}
