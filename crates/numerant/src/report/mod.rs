//! Puts results into words: tables for people, JSON for programs, progress while they wait.
//!
//! Results go to standard output; progress, notices and errors to standard error. Colour is left
//! out where the stream is no terminal or NO_COLOR is set.

mod batch;
mod inspection;
mod json;
mod notice;
mod progress;
mod run;
mod table;
mod verify;
mod words;

use std::io::{self, Write};

use numerant_core::engine::{
    BatchSummary, Inspection, LedgerCheck, Notice, PartsCheck, Summary, ValueCounts,
};

pub(crate) use progress::Progress;
pub(crate) use run::outputs_in_words;
pub(crate) use words::folder;

use crate::args::{Report, ReportOptions};
use crate::commands::Failure;

/// Notes that are shown of one command.
const NOTICES: usize = 20;

/// Lines of detail that an error lists.
const DETAILS: usize = 10;

/// Shows what came of a command.
#[derive(Debug)]
pub(crate) struct Reporter {
    report: Report,
    quiet: bool,
}

impl Reporter {
    pub(crate) fn new(options: ReportOptions) -> Self {
        Self {
            report: options.report,
            quiet: options.quiet,
        }
    }

    /// For commands that have no options of reporting.
    pub(crate) fn plain() -> Self {
        Self {
            report: Report::Text,
            quiet: false,
        }
    }

    pub(crate) fn inspections(&self, inspections: &[Inspection]) -> io::Result<()> {
        if self.report == Report::Json {
            return json::print(&serde_json::json!({ "inspections": inspections }));
        }
        if self.quiet {
            return Ok(());
        }
        let mut out = anstream::stdout().lock();
        for (place, inspection) in inspections.iter().enumerate() {
            if place > 0 {
                writeln!(out)?;
            }
            inspection::show(&mut out, inspection)?;
        }
        out.flush()?;
        inspections
            .iter()
            .try_for_each(|inspection| self.notices(&inspection.notices()))
    }

    pub(crate) fn values(&self, counts: &[ValueCounts]) -> io::Result<()> {
        if self.report == Report::Json {
            return json::print(&serde_json::json!({ "values": counts }));
        }
        if self.quiet {
            return Ok(());
        }
        let mut out = anstream::stdout().lock();
        for (place, counts) in counts.iter().enumerate() {
            if place > 0 {
                writeln!(out)?;
            }
            inspection::show_values(&mut out, counts)?;
        }
        out.flush()
    }

    /// Shows the outputs that a run would write. Where a question follows, it is shown on standard
    /// error, so that the one result of the command stays alone on standard output.
    pub(crate) fn plan(&self, summary: &Summary, question_follows: bool) -> io::Result<()> {
        if question_follows {
            run::plan(&mut anstream::stderr().lock(), summary, false)?;
            return self.notices(&summary.notices);
        }
        if self.report == Report::Json {
            return json::print(&json::summary(summary, true));
        }
        if !self.quiet {
            let mut out = anstream::stdout().lock();
            run::plan(&mut out, summary, true)?;
            out.flush()?;
        }
        self.notices(&summary.notices)
    }

    /// Shows what a run has written; its notices only if no plan has shown them before.
    pub(crate) fn split(
        &self,
        summary: &Summary,
        ledger: Option<&std::path::Path>,
        was_planned: bool,
    ) -> io::Result<()> {
        if self.report == Report::Json {
            return json::print(&json::summary(summary, false));
        }
        if !self.quiet {
            let mut out = anstream::stdout().lock();
            run::done(&mut out, summary, ledger)?;
            out.flush()?;
        }
        if was_planned {
            Ok(())
        } else {
            self.notices(&summary.notices)
        }
    }

    /// Shows what became, or would become, of the files of a batch.
    pub(crate) fn batch(
        &self,
        batch: &BatchSummary,
        ledger: Option<&std::path::Path>,
        planned: bool,
    ) -> io::Result<()> {
        if self.report == Report::Json {
            return json::print(&json::batch(batch, planned));
        }
        if !self.quiet {
            let mut out = anstream::stdout().lock();
            batch::show(&mut out, batch, ledger, planned)?;
            out.flush()?;
        } else if batch.failed() > 0 {
            batch::failures(&mut anstream::stderr().lock(), batch)?;
        }
        self.notices(&batch.summary.notices)
    }

    /// Shows what would become of the files of a batch, before a question.
    pub(crate) fn batch_to_confirm(&self, batch: &BatchSummary) -> io::Result<()> {
        batch::show(&mut anstream::stderr().lock(), batch, None, true)
    }

    /// Shows what came of holding files against a ledger.
    pub(crate) fn ledger_check(&self, check: &LedgerCheck) -> io::Result<()> {
        if self.report == Report::Json {
            return json::print(&serde_json::json!({ "ledger-check": check }));
        }
        if self.quiet && check.holds {
            return Ok(());
        }
        let mut out = anstream::stdout().lock();
        verify::ledger(&mut out, check)?;
        out.flush()
    }

    /// Shows what came of holding parts against the whole.
    pub(crate) fn parts_check(&self, check: &PartsCheck) -> io::Result<()> {
        if self.report == Report::Json {
            return json::print(&serde_json::json!({ "parts-check": check }));
        }
        if self.quiet && check.holds {
            return Ok(());
        }
        let mut out = anstream::stdout().lock();
        verify::parts(&mut out, check)?;
        out.flush()
    }

    fn notices(&self, notices: &[Notice]) -> io::Result<()> {
        if self.quiet {
            return Ok(());
        }
        let mut err = anstream::stderr().lock();
        if let Some(more) = notices.len().checked_sub(NOTICES).filter(|more| *more > 0) {
            let more = words::counted(more as u64, "note more", "notes more");
            let text = format!("{more}; --report json has all of them");
            words::labelled(&mut err, words::NOTE, "note", &text)?;
        }
        for notice in notices.iter().take(NOTICES) {
            words::labelled(&mut err, words::NOTE, "note", &notice::text(notice))?;
        }
        Ok(())
    }

    /// Says why a command failed, and what to do about it.
    pub(crate) fn failure(&self, failure: &Failure) -> io::Result<()> {
        let (message, hint) = match failure {
            Failure::Engine(error) => (error.to_string(), error.hint()),
            Failure::Usage { message, hint } | Failure::Demo { message, hint } => {
                (message.clone(), Some(hint.clone()))
            }
            Failure::Show(error) if error.kind() == io::ErrorKind::BrokenPipe => return Ok(()),
            Failure::Show(error) => (format!("the result could not be shown: {error}"), None),
            Failure::DoesNotHold | Failure::SomeFailed => return Ok(()),
            Failure::Declined => ("not confirmed; nothing was written".to_owned(), None),
        };
        let (details, left) = match failure {
            Failure::Engine(error) => error.details(DETAILS),
            _ => (Vec::new(), 0),
        };
        let mut err = anstream::stderr().lock();
        words::labelled(&mut err, words::ERROR, "error", &message)?;
        for detail in &details {
            writeln!(err, "       {detail}")?;
        }
        if left > 0 {
            writeln!(err, "       and {} more", words::number(left))?;
        }
        if let Some(hint) = &hint {
            words::labelled(&mut err, words::HINT, " hint", hint)?;
        }
        if self.report == Report::Json {
            json::print(&json::failure(failure, &message, hint.as_deref()))?;
        }
        Ok(())
    }
}
