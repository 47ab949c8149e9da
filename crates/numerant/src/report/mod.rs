//! Puts results into words: tables for people, JSON for programs, progress while they wait.
//!
//! Results go to standard output; progress, notices and errors to standard error. Colour is left
//! out where the stream is no terminal or NO_COLOR is set.

mod batch;
mod deliver;
mod failure;
mod inspected_files;
mod inspection;
mod json;
mod notice;
pub(crate) mod page;
mod progress;
mod run;
pub(crate) mod screen;
mod table;
mod topic;
mod verify;
mod words;

use std::cell::RefCell;
use std::io::{self, Write};
use std::path::Path;

use numerant_engine::ledger::OutputEntry;
use numerant_engine::output::Recovered;
use numerant_engine::{
    BatchSummary, Error, FileDisposition, Inspection, LedgerCheck, Notice, PartsCheck, Summary,
    ValueCounts,
};
use numerant_schema::Sample;

pub(crate) use failure::failure_in_words;
pub(crate) use progress::Progress;
pub(crate) use run::{by_name, outputs_in_words};
pub(crate) use words::folder;

use numerant_delivery::{Delivered, JournalEntry, Outcome, PlannedMessage};
use numerant_engine::job::{DeliverJob, JobFile};

use crate::args::{Report, ReportOptions, Topic};
use crate::failure::Failure;
use crate::hint::of_error;

/// Notes that are shown of one command.
const NOTICES: usize = 20;

/// Lines of detail that an error lists.
const DETAILS: usize = 10;

/// What a line of a run's story is.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(crate) enum Level {
    /// What came of it.
    Result,
    /// Something that its user should know.
    Note,
}

/// The first records of an output that would be written.
#[derive(Debug)]
pub(crate) enum Preview {
    /// The lines of its text.
    Lines(Vec<String>),
    /// The records of its sheet.
    Records(Box<Inspection>),
    /// It is not of a format that can be read.
    Unreadable,
}

/// Shows what came of a command.
#[derive(Debug)]
pub(crate) struct Reporter {
    report: Report,
    quiet: bool,
    /// The documents of several commands that are one for the reader.
    documents: Option<RefCell<Vec<serde_json::Value>>>,
    /// What was reported, for a log.
    story: RefCell<Vec<(Level, String)>>,
}

impl Reporter {
    pub(crate) fn new(options: ReportOptions) -> Self {
        Self {
            report: options.report,
            quiet: options.quiet,
            documents: None,
            story: RefCell::default(),
        }
    }

    /// For several commands, whose documents are shown as one when it is closed.
    pub(crate) fn of_file(options: ReportOptions) -> Self {
        Self {
            documents: Some(RefCell::default()),
            ..Self::new(options)
        }
    }

    /// For commands that have no options of reporting.
    pub(crate) fn plain() -> Self {
        Self {
            report: Report::Text,
            quiet: false,
            documents: None,
            story: RefCell::default(),
        }
    }

    /// Shows a document, or keeps it for the one of all.
    fn document(&self, document: &serde_json::Value) -> io::Result<()> {
        match &self.documents {
            Some(documents) => {
                documents.borrow_mut().push(document.clone());
                Ok(())
            }
            None => json::print(document),
        }
    }

    /// Shows the documents that were kept.
    pub(crate) fn close(&self) -> io::Result<()> {
        match &self.documents {
            Some(documents) if self.report == Report::Json => {
                json::print(&serde_json::json!({ "jobs": *documents.borrow() }))
            }
            _ => Ok(()),
        }
    }

    /// What was reported since this was last asked.
    pub(crate) fn take_story(&self) -> Vec<(Level, String)> {
        self.story.take()
    }

    fn keep(&self, level: Level, text: String) {
        self.story.borrow_mut().push((level, text));
    }

    /// Says where sample data is.
    pub(crate) fn sample_data(&self, folder: &Path) -> io::Result<()> {
        let folder = words::folder(folder);
        writeln!(
            screen::stdout(),
            "the sample data is in {folder}; {folder}README.txt lists the files"
        )
    }

    /// Explains a topic of the help.
    pub(crate) fn topic(&self, topic: Topic) -> io::Result<()> {
        let mut out = screen::stdout();
        topic::show(&mut out, topic)?;
        out.flush()
    }

    /// Says that a job file could be run.
    pub(crate) fn checked(&self, file: &JobFile) -> io::Result<()> {
        let commands: Vec<&str> = file.entries.iter().map(|e| e.work.command()).collect();
        if self.report == Report::Json {
            return self.document(&serde_json::json!({
                "checked": file.path.to_string_lossy(),
                "commands": commands,
                "parameters": file.parameters,
            }));
        }
        if self.quiet {
            return Ok(());
        }
        let path = file.path.display();
        let count = words::counted(commands.len() as u64, "job", "jobs");
        writeln!(
            screen::stdout(),
            "{path} can be run: {count} ({})",
            commands.join(", ")
        )
    }

    /// Says which of several jobs begins.
    pub(crate) fn entry(&self, file: &JobFile, place: usize) -> io::Result<()> {
        if self.quiet || self.report == Report::Json {
            return Ok(());
        }
        let mut out = screen::stdout();
        if place > 0 {
            writeln!(out)?;
        }
        let style = words::FAINT;
        let entry = &file.entries[place];
        writeln!(
            out,
            "{style}job {} of {}: {}, line {} of {}{style:#}",
            place + 1,
            file.entries.len(),
            entry.work.command(),
            entry.line,
            file.path.display()
        )
    }

    /// Says why a job of several shows no plan.
    pub(crate) fn not_planned(&self, error: &Error) -> io::Result<()> {
        let text = format!("no plan before the jobs above have run: {error}");
        self.keep(Level::Note, text.clone());
        words::labelled(&mut screen::stderr(), words::NOTE, "note", &text)
    }

    /// Says what became of runs that were cut off.
    pub(crate) fn recovered(
        &self,
        folder: &std::path::Path,
        recovered: &[Recovered],
    ) -> io::Result<()> {
        if self.report == Report::Json {
            return self.document(&serde_json::json!({ "recovered": recovered }));
        }
        if self.quiet {
            return Ok(());
        }
        let mut out = screen::stdout();
        if recovered.is_empty() {
            let folder = words::folder(folder);
            return writeln!(out, "nothing to recover: no run into {folder} was cut off");
        }
        for recovered in recovered {
            writeln!(out, "{}", notice::recovered_text(recovered))?;
        }
        Ok(())
    }

    /// Says where a job was kept.
    pub(crate) fn saved(&self, path: &std::path::Path) -> io::Result<()> {
        let shown = path.display();
        if self.report == Report::Json {
            return self.document(&serde_json::json!({ "saved-job": path.to_string_lossy() }));
        }
        if self.quiet {
            return Ok(());
        }
        writeln!(
            screen::stdout(),
            "the job is kept in {shown}; 'numerant run {shown}' runs it"
        )
    }

    /// Shows what was found in files; of several a line for each, unless each is to be shown in `detail`.
    pub(crate) fn inspections(
        &self,
        inspections: &[Inspection],
        detail: bool,
        failed: &[Error],
    ) -> io::Result<()> {
        if self.report == Report::Json {
            let document = serde_json::json!({ "inspections": inspections });
            return self.document(&json::with_failed(document, failed));
        }
        if self.quiet || inspections.is_empty() {
            return self.unread(failed);
        }
        let mut out = screen::stdout();
        if !detail && inspected_files::are_several(inspections) {
            inspected_files::show(&mut out, inspections)?;
            out.flush()?;
            let notices = inspections.iter().flat_map(Inspection::notices);
            self.notices(&notices.collect::<Vec<_>>())?;
            return self.unread(failed);
        }
        for (place, inspection) in inspections.iter().enumerate() {
            if place > 0 {
                writeln!(out)?;
            }
            inspection::show(&mut out, inspection)?;
        }
        out.flush()?;
        for inspection in inspections {
            self.notices(&inspection.notices())?;
        }
        self.unread(failed)
    }

    /// The files that could not be read, each with why.
    fn unread(&self, failed: &[Error]) -> io::Result<()> {
        for error in failed {
            let (details, left) = error.details(DETAILS);
            let hint = self.fitting(of_error(error));
            failure::show(&error.to_string(), &details, left, hint.as_deref())?;
        }
        Ok(())
    }

    /// A hint as it fits where the work was stated: what the command line takes, a job file has as a key.
    fn fitting(&self, hint: Option<String>) -> Option<String> {
        let of_file = self.documents.is_some();
        hint.map(|hint| {
            if of_file && hint.contains("--") {
                format!("{hint}; a job file has these options as keys, without the dashes")
            } else {
                hint
            }
        })
    }

    /// A sample shape on standard output, and what cannot are in it on standard error.
    pub(crate) fn sample(&self, sample: &Sample) -> io::Result<()> {
        let mut out = screen::stdout();
        out.write_all(sample.text.as_bytes())?;
        out.flush()?;
        if self.quiet {
            return Ok(());
        }
        let mut err = screen::stderr();
        for note in &sample.notes {
            words::labelled(&mut err, words::NOTE, "note", note)?;
        }
        let hint = "save this in a file, write your column names in the braces, and use it with \
                    --shape FILE --schema SCHEMA";
        words::labelled(&mut err, words::HINT, "hint", hint)
    }

    pub(crate) fn values(&self, counts: &[ValueCounts], failed: &[Error]) -> io::Result<()> {
        if self.report == Report::Json {
            let document = serde_json::json!({ "values": counts });
            return self.document(&json::with_failed(document, failed));
        }
        if self.quiet || counts.is_empty() {
            return self.unread(failed);
        }
        let mut out = screen::stdout();
        for (place, counts) in counts.iter().enumerate() {
            if place > 0 {
                writeln!(out)?;
            }
            inspection::show_values(&mut out, counts)?;
        }
        out.flush()?;
        self.unread(failed)
    }

    /// Shows the outputs that a run would write. Where a question follows, it is shown on standard
    /// error, so that the one result of the command stays alone on standard output.
    pub(crate) fn plan(&self, summary: &Summary, question_follows: bool) -> io::Result<()> {
        if question_follows {
            run::plan(&mut screen::stderr(), summary, false)?;
            return self.planned_notices(&summary.notices);
        }
        if self.report == Report::Json {
            return self.document(&json::summary(summary, true));
        }
        if !self.quiet {
            let mut out = screen::stdout();
            run::plan(&mut out, summary, true)?;
            out.flush()?;
        }
        self.planned_notices(&summary.notices)
    }

    /// Shows the first records of an output that would be written.
    pub(crate) fn preview(&self, output: &OutputEntry, preview: &Preview) -> io::Result<()> {
        if self.quiet || self.report == Report::Json {
            return Ok(());
        }
        let mut out = screen::stdout();
        let sheet = output
            .sheet
            .as_ref()
            .map(|sheet| format!(", sheet '{sheet}'"));
        let style = words::HEADING;
        let sheet = sheet.unwrap_or_default();
        writeln!(out, "\n{style}{}{sheet}{style:#}", output.path)?;
        match preview {
            Preview::Lines(lines) => {
                for line in lines {
                    writeln!(out, "  {}", table::visible(line))?;
                }
            }
            Preview::Records(inspection) => inspection::show_records(&mut out, inspection)?,
            Preview::Unreadable => {
                writeln!(out, "  this format is written only, and not shown here")?;
            }
        }
        out.flush()
    }

    /// Shows what a run has written; its notices only if no plan has shown them before.
    pub(crate) fn split(&self, summary: &Summary, was_planned: bool) -> io::Result<()> {
        self.keep(Level::Result, words::books(&summary.ledger));
        if self.report == Report::Json {
            return self.document(&json::summary(summary, false));
        }
        if !self.quiet {
            let mut out = screen::stdout();
            run::done(&mut out, summary)?;
            out.flush()?;
        }
        if was_planned {
            Ok(())
        } else {
            self.notices(&summary.notices)
        }
    }

    /// Shows what a run has written to standard output, on standard error.
    pub(crate) fn written_to_standard_output(&self, summary: &Summary) -> io::Result<()> {
        self.keep(Level::Result, words::books(&summary.ledger));
        let mut err = screen::stderr();
        if self.report == Report::Json {
            return json::write(&mut err, &json::summary(summary, false));
        }
        if !self.quiet {
            run::done(&mut err, summary)?;
        }
        drop(err);
        self.notices(&summary.notices)
    }

    /// Shows what became, or would become, of the files of a batch.
    pub(crate) fn batch(&self, batch: &BatchSummary, planned: bool) -> io::Result<()> {
        self.keep(Level::Result, words::books(&batch.summary.ledger));
        for file in &batch.files {
            if let FileDisposition::Failed(error) = &file.disposition {
                self.keep(Level::Note, format!("{}: {error}", file.source));
            }
        }
        if self.report == Report::Json {
            return self.document(&json::batch(batch, planned));
        }
        if !self.quiet {
            let mut out = screen::stdout();
            batch::show(&mut out, batch, planned, true)?;
            out.flush()?;
        } else if batch.failed() > 0 {
            batch::failures(&mut screen::stderr(), batch)?;
        }
        self.notices(&batch.summary.notices)
    }

    /// Shows what would become of the files of a batch, before a question.
    pub(crate) fn batch_to_confirm(&self, batch: &BatchSummary) -> io::Result<()> {
        batch::show(&mut screen::stderr(), batch, true, false)
    }

    /// Shows who would get what.
    pub(crate) fn delivery_plan(
        &self,
        messages: &[PlannedMessage],
        job: &DeliverJob,
        question_follows: bool,
    ) -> io::Result<()> {
        if question_follows {
            return deliver::plan(&mut screen::stderr(), messages, job, false);
        }
        if self.report == Report::Json {
            return self.document(&deliver::plan_document(messages));
        }
        if self.quiet {
            return Ok(());
        }
        let mut out = screen::stdout();
        deliver::plan(&mut out, messages, job, true)?;
        out.flush()
    }

    /// Shows what became of all messages.
    pub(crate) fn delivery(
        &self,
        done: &[Delivered<'_>],
        job: &DeliverJob,
        journal: &Path,
    ) -> io::Result<()> {
        let is_well =
            |done: &Delivered<'_>| matches!(done.outcome, Outcome::Delivered(_) | Outcome::Before);
        let failed = done.iter().filter(|done| !is_well(done)).count();
        let text = format!(
            "{} of {} messages are handed over",
            done.len() - failed,
            done.len()
        );
        self.keep(
            if failed > 0 {
                Level::Note
            } else {
                Level::Result
            },
            text,
        );
        if self.report == Report::Json {
            return self.document(&deliver::done_document(done, journal));
        }
        if self.quiet && failed == 0 {
            return Ok(());
        }
        let mut out = screen::stdout();
        deliver::done(&mut out, done, job, journal)?;
        out.flush()
    }

    /// Shows the journal of deliveries.
    pub(crate) fn history(&self, entries: &[JournalEntry]) -> io::Result<()> {
        if self.report == Report::Json {
            return self.document(&serde_json::json!({ "history": entries }));
        }
        let mut out = screen::stdout();
        deliver::history(&mut out, entries)?;
        out.flush()
    }

    /// Shows what came of holding files against a ledger.
    pub(crate) fn ledger_check(&self, check: &LedgerCheck) -> io::Result<()> {
        if self.report == Report::Json {
            return self.document(&serde_json::json!({ "ledger-check": check }));
        }
        if self.quiet && check.holds {
            return Ok(());
        }
        let mut out = screen::stdout();
        verify::ledger(&mut out, check)?;
        out.flush()
    }

    /// Shows what came of holding parts against the whole.
    pub(crate) fn parts_check(&self, check: &PartsCheck) -> io::Result<()> {
        if self.report == Report::Json {
            return self.document(&serde_json::json!({ "parts-check": check }));
        }
        if self.quiet && check.holds {
            return Ok(());
        }
        let mut out = screen::stdout();
        verify::parts(&mut out, check)?;
        out.flush()
    }

    fn notices(&self, notices: &[Notice]) -> io::Result<()> {
        self.notes(notices.iter().map(notice::text).collect())
    }

    /// The notices of a run that is only planned.
    fn planned_notices(&self, notices: &[Notice]) -> io::Result<()> {
        self.notes(notices.iter().map(notice::planned_text).collect())
    }

    fn notes(&self, notes: Vec<String>) -> io::Result<()> {
        let more = notes.len().saturating_sub(NOTICES);
        let shown: Vec<String> = notes.iter().take(NOTICES).cloned().collect();
        for note in notes {
            self.keep(Level::Note, note);
        }
        if self.quiet {
            return Ok(());
        }
        let mut err = screen::stderr();
        if more > 0 {
            let more = words::counted(more as u64, "note more", "notes more");
            let text = format!("{more}; --report json has all of them");
            words::labelled(&mut err, words::NOTE, "note", &text)?;
        }
        for note in &shown {
            words::labelled(&mut err, words::NOTE, "note", note)?;
        }
        Ok(())
    }

    /// Says why a command failed, and what to do about it.
    pub(crate) fn failure(&self, failure: &Failure) -> io::Result<()> {
        if matches!(failure, Failure::Show(error) | Failure::ShowDone(error) if error.kind() == io::ErrorKind::BrokenPipe)
            || matches!(failure, Failure::DoesNotHold | Failure::SomeFailed)
        {
            return Ok(());
        }
        let (message, hint) = failure_in_words(failure);
        let (details, left) = match failure {
            Failure::Engine(error) => error.details(DETAILS),
            _ => (Vec::new(), 0),
        };
        let hint = self.fitting(hint);
        failure::show(&message, &details, left, hint.as_deref())?;
        if self.report == Report::Json {
            self.document(&json::failure(failure, &message, hint.as_deref()))?;
        }
        Ok(())
    }
}

/// Messages, and the addresses that they go to.
pub(crate) fn messages_in_words(messages: &[PlannedMessage]) -> String {
    deliver::in_words(messages)
}
