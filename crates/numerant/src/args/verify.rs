//! `numerant verify`.

use std::path::PathBuf;

use clap::Args;
use numerant_core::format::delimited::ReadOptions;
use numerant_core::value::Size;

use super::options::{
    ColumnList, ReadingOptions, Report, ReportOptions, RunningOptions, columns, names,
};

/// Records of each kind that people are shown.
const LIST: usize = 20;

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
    whole: Vec<String>,
    /// The parts: files, folders or patterns
    #[arg(long, value_name = "FILE", num_args = 1.., requires = "whole")]
    parts: Vec<String>,
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
    running: RunningOptions,
}

/// What is to be verified, and how it is shown.
#[derive(Debug)]
pub(crate) struct VerifyRequest {
    pub(crate) what: What,
    pub(crate) read: ReadOptions,
    pub(crate) memory: Size,
    pub(crate) jobs: usize,
    pub(crate) list: usize,
    pub(crate) report: ReportOptions,
}

/// What is held against what.
#[derive(Debug)]
pub(crate) enum What {
    /// Outputs against their ledger.
    Ledger {
        ledger: PathBuf,
        out: Option<PathBuf>,
    },
    /// Parts against the whole.
    Parts {
        whole: Vec<String>,
        parts: Vec<String>,
        keep: Vec<String>,
        ignore: Vec<String>,
    },
}

impl VerifyArguments {
    pub(crate) fn into_request(self) -> VerifyRequest {
        let what = match self.ledger {
            Some(ledger) => What::Ledger {
                ledger,
                out: self.out,
            },
            None => What::Parts {
                whole: self.whole,
                parts: self.parts,
                keep: names(self.keep),
                ignore: names(self.ignore),
            },
        };
        let report = self.running.report;
        VerifyRequest {
            what,
            read: self.reading.into_options(),
            memory: self.running.memory,
            jobs: self.jobs,
            // People are shown the first ones, programs get all.
            list: match report.report {
                Report::Text => LIST,
                Report::Json => usize::MAX,
            },
            report,
        }
    }
}
