//! Saved jobs: `numerant run`, and what `--save-job` writes.

use std::fs::File;
use std::io::{self, Write};
use std::path::Path;
use std::sync::Mutex;

use numerant_data::source::Identity;
use numerant_engine::job::{JobFile, Work, to_toml};
use numerant_engine::{Error, dated_path, files};

use super::{deliver, inspect, notify, run, verify};
use crate::args::{
    DeliverRequest, InspectRequest, Mode, RunRequest, SavedArguments, VerifyRequest,
};
use crate::failure::Failure;
use crate::report::{Level, Reporter, failure_in_words};
use crate::surroundings::Interrupts;

/// Runs the jobs of a file in order.
pub(super) fn run_file(
    arguments: &SavedArguments,
    reporter: &Reporter,
    interrupts: &Interrupts,
) -> Result<(), Failure> {
    let mut own_files = vec![arguments.file.clone()];
    if let Some(path) = &arguments.log {
        let path = dated_path(path, jiff::Zoned::now().datetime());
        check_log(&path, arguments)?;
        log_to(&path)?;
        own_files.push(path);
    }
    let file = arguments.file.display().to_string();
    let interrupts = &interrupts.with_own_files(own_files);
    let mut story = Vec::new();
    let read = JobFile::read(&arguments.file, &arguments.parameters).ok();
    let mut result = run_checked(arguments, reporter, interrupts, &mut story);
    let is_run = !arguments.check && !arguments.plan;
    if let Some(file) = read.filter(|_| is_run) {
        match (notify::notify(&file, &story, &result), &result) {
            (Err(failure), Ok(())) => result = Err(failure),
            (Err(failure), Err(_)) => reporter.failure(&failure)?,
            (Ok(()), _) => {}
        }
    }
    match &result {
        Ok(()) => tracing::info!(file, "the run is done"),
        Err(failure) => {
            let (reason, _) = failure_in_words(failure);
            let code = failure.code();
            tracing::error!(file, code, reason, "the run has failed");
        }
    }
    result
}

fn run_checked(
    arguments: &SavedArguments,
    reporter: &Reporter,
    interrupts: &Interrupts,
    story: &mut Vec<String>,
) -> Result<(), Failure> {
    let file = JobFile::read(&arguments.file, &arguments.parameters)?;
    file.check()?;
    if arguments.check {
        reporter.checked(&file)?;
        return Ok(());
    }
    let _lock = lock(&arguments.file)?;
    tracing::info!(
        file = arguments.file.display().to_string(),
        jobs = file.entries.len(),
        parameters = ?file.parameters,
        "the run begins"
    );
    for (place, entry) in file.entries.iter().enumerate() {
        if file.entries.len() > 1 {
            reporter.entry(&file, place)?;
        }
        let (line, command) = (entry.line, entry.work.command());
        tracing::info!(line, command, "a job begins");
        let result = run_entry(&entry.work, arguments, reporter, interrupts);
        for (level, text) in reporter.take_story() {
            story.push(format!("{command}: {text}"));
            match level {
                Level::Note => tracing::warn!(line, command, "{text}"),
                Level::Result => tracing::info!(line, command, "{text}"),
            }
        }
        match result {
            // What an earlier job would write is not there yet.
            Err(Failure::Engine(error)) if arguments.plan && place > 0 && error.is_missing() => {
                reporter.not_planned(&error)?;
            }
            result => result?,
        }
        tracing::info!(line, command, "a job is done");
    }
    Ok(())
}

fn run_entry(
    work: &Work,
    arguments: &SavedArguments,
    reporter: &Reporter,
    interrupts: &Interrupts,
) -> Result<(), Failure> {
    match work {
        Work::Split(job) | Work::Combine(job) | Work::Convert(job) | Work::Fill(job) => {
            let request = RunRequest {
                job: (**job).clone(),
                mode: if arguments.plan {
                    Mode::Plan
                } else {
                    Mode::Run
                },
                report: arguments.report,
                show: 0,
                save: None,
            };
            run::run(&request, reporter, interrupts)
        }
        Work::Inspect(job) => {
            let request = InspectRequest {
                job: (**job).clone(),
                report: arguments.report,
                save: None,
            };
            inspect::inspect(&request, reporter, interrupts)
        }
        // What there is to hand over is not known before outputs are written.
        Work::Deliver(_) if arguments.plan => Ok(()),
        Work::Deliver(job) => {
            let request = DeliverRequest {
                job: (**job).clone(),
                mode: Mode::Run,
                shows_history: false,
                report: arguments.report,
                save: None,
            };
            deliver::deliver(&request, reporter, interrupts)
        }
        // There is nothing to hold against anything before outputs are written.
        Work::Verify(_) if arguments.plan => Ok(()),
        Work::Verify(job) => {
            let request = VerifyRequest {
                job: (**job).clone(),
                report: arguments.report,
                save: None,
            };
            verify::verify(&request, reporter, interrupts)
        }
    }
}

/// Keeps others from running the same file meanwhile. The system lets go of it when the process
/// ends, however it ends.
fn lock(path: &Path) -> Result<File, Failure> {
    let busy = |message: String| Failure::Busy { message };
    let file = File::open(path).map_err(|cause| busy(format!("{}: {cause}", path.display())))?;
    match file.try_lock() {
        Err(std::fs::TryLockError::WouldBlock) => Err(busy(format!(
            "{} is running already; nothing was done",
            path.display()
        ))),
        // A file system without locks is no reason not to run.
        Ok(()) | Err(std::fs::TryLockError::Error(_)) => Ok(file),
    }
}

/// Refuses a log that would be written into a file that the run reads.
fn check_log(log: &Path, arguments: &SavedArguments) -> Result<(), Failure> {
    let Some(own) = Identity::of(log) else {
        return Ok(());
    };
    let mut read = vec![arguments.file.clone()];
    // What is wrong with the file is said later, in the log too.
    let file = JobFile::read(&arguments.file, &arguments.parameters).ok();
    for entry in file.iter().flat_map(|file| &file.entries) {
        if let Work::Split(job) | Work::Combine(job) | Work::Convert(job) | Work::Fill(job) =
            &entry.work
        {
            read.extend(job.files_besides());
            let sources = files(job).unwrap_or_default();
            read.extend(
                sources
                    .iter()
                    .filter_map(|source| source.on_disk().map(Path::to_owned)),
            );
        }
    }
    match read
        .iter()
        .find(|path| Identity::of(path).as_ref() == Some(&own))
    {
        None => Ok(()),
        Some(path) => Err(Failure::Usage {
            message: format!("--log {}: the run reads {}", log.display(), path.display()),
            hint: "name another file for the log".into(),
        }),
    }
}

/// Writes what happens in the run to a file, a JSON object a line.
fn log_to(path: &Path) -> Result<(), Failure> {
    let opened = File::options().create(true).append(true).open(path);
    let file = opened.map_err(|cause| Failure::Usage {
        message: format!("--log {}: {cause}", path.display()),
        hint: "name a file that can be written".into(),
    })?;
    tracing_subscriber::fmt()
        .json()
        .with_writer(Mutex::new(file))
        .with_target(false)
        .init();
    Ok(())
}

/// Writes a job file; one that exists stays as it is.
pub(super) fn save(work: &Work, path: &Path, reporter: &Reporter) -> Result<(), Failure> {
    if let Work::Split(job) | Work::Combine(job) | Work::Convert(job) | Work::Fill(job) = work {
        job.check().map_err(Error::from)?;
    }
    let wrong = |cause: &dyn std::fmt::Display| Failure::Usage {
        message: format!("--save-job {}: {cause}", path.display()),
        hint: "name a file that is not there yet".into(),
    };
    let text = to_toml(work, path).map_err(|error| wrong(&error))?;
    let written = File::create_new(path).and_then(|mut file| file.write_all(text.as_bytes()));
    written.map_err(|cause: io::Error| wrong(&cause))?;
    reporter.saved(path)?;
    Ok(())
}
