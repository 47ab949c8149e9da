//! `--out -`: the one output of a run goes to standard output, and the report to standard error.
//!
//! The output is written to a temporary folder first, as any other: a run that fails writes nothing.

use std::fs::File;
use std::io::{self, IsTerminal, Read, Seek, Write};
use std::path::Path;

use numerant_engine::job::Job;
use numerant_engine::{Error, Refusal, Summary};
use tempfile::TempDir;

use super::run;
use crate::args::{Mode, RunRequest};
use crate::failure::Failure;
use crate::report::Reporter;
use crate::surroundings::Interrupts;

/// The name of standard output on the command line.
const NAME: &str = "-";

/// Bytes in which a file shows whether it is text.
const SAMPLE: u64 = 4096;

pub(super) fn is_wanted(job: &Job) -> bool {
    job.out.as_deref() == Some(Path::new(NAME))
}

fn usage(message: &str, hint: &str) -> Failure {
    Failure::Usage {
        message: format!("--out -: {message}"),
        hint: hint.to_owned(),
    }
}

/// Runs a job, and writes its output to standard output.
pub(super) fn run_job(
    request: &RunRequest,
    reporter: &Reporter,
    interrupts: &Interrupts,
) -> Result<(), Failure> {
    if request.mode == Mode::Ask {
        return Err(usage("--ask is not possible", "use --plan first"));
    }
    if request.job.ledger.is_some() || request.job.page.is_some() {
        let hint = "write the output to a folder: --out DIR";
        return Err(usage(
            "--ledger and --page describe files, and there are none",
            hint,
        ));
    }
    if request.job.batch {
        let count = numerant_engine::files(&request.job)?.len();
        if count != 1 {
            let message = format!("standard output takes one output, and there are {count} files");
            return Err(usage(&message, "write them to a folder: --out DIR"));
        }
    }
    let folder = TempDir::with_prefix("numerant-").map_err(Failure::Show)?;
    let inside = RunRequest {
        job: Job {
            out: Some(folder.path().join("out")),
            max_outputs: 1,
            ..request.job.clone()
        },
        mode: request.mode,
        show: 0,
        report: request.report,
        save: None,
    };
    let is_run = request.mode == Mode::Run;
    let summary = run::summary(&inside, interrupts).map_err(one_output)?;
    let summary = Summary {
        out: NAME.into(),
        ..summary
    };
    if !is_run {
        return Ok(reporter.plan(&summary, false)?);
    }
    let paths = summary
        .ledger
        .outputs
        .iter()
        .map(|output| output.path.clone());
    if let Some(path) = paths.clone().next() {
        copy(&folder.path().join("out").join(&path), &path)?;
    }
    reporter
        .written_to_standard_output(&summary)
        .map_err(Failure::ShowDone)
}

/// An error about the number of outputs, in terms of this option.
fn one_output(failure: Failure) -> Failure {
    let hint = "write them to a folder: --out DIR";
    match failure {
        Failure::Engine(Error::Refused(Refusal::TooMany {
            found, at_least, ..
        })) => {
            let more = if at_least { "more than " } else { "" };
            usage(
                &format!("standard output takes one output, and this would write {more}{found}"),
                hint,
            )
        }
        other => other,
    }
}

/// Copies a file to standard output; one that is not text never to a terminal.
fn copy(file: &Path, path: &str) -> Result<(), Failure> {
    let mut file = File::open(file).map_err(Failure::Show)?;
    let mut out = io::stdout().lock();
    if out.is_terminal() {
        let mut sample = Vec::new();
        Read::by_ref(&mut file)
            .take(SAMPLE)
            .read_to_end(&mut sample)
            .map_err(Failure::Show)?;
        if std::str::from_utf8(&sample).map_or_else(
            |error| error.error_len().is_some(),
            |text| text.contains('\0'),
        ) {
            let message = format!("{path} is not text and is not written to a terminal");
            return Err(usage(
                &message,
                "redirect it: > FILE, or name a folder: --out DIR",
            ));
        }
        file.rewind().map_err(Failure::Show)?;
    }
    io::copy(&mut file, &mut out)
        .and_then(|_| out.flush())
        .map_err(Failure::Show)
}
