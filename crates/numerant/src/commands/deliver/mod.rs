//! `numerant deliver`.

mod transport;

use std::collections::BTreeSet;
use std::path::{Path, PathBuf};
use std::sync::Arc;
use std::sync::atomic::{AtomicBool, Ordering};
use std::time::{Duration, SystemTime};

use jiff::Zoned;
use numerant_delivery::{
    Attachments, Channels, Deliverable, DeliveryOptions, Journal, Match, Outcome, Pace, Password,
    PlanError, PlanOptions, PlannedMessage, Routes, Sender, Unmatched, Watch, deliver as hand_over,
    deliverables, plan,
};
use numerant_engine::job::{DeliverJob, DeliveryChannel, WithoutCounterpart};
use numerant_engine::{Context, Error, dated_path, outputs_of_ledger, read_table, verify_ledger};

pub(super) use transport::{address, channel};
use transport::{secret, text_of};

use super::confirm::confirmed;
use super::saved;
use crate::args::{DeliverRequest, Mode};
use crate::failure::Failure;
use crate::report::{Progress, Reporter};
use crate::surroundings::Interrupts;

/// The text of messages for which none is stated.
const BODY: &str = "{.files}\n\n{.rows} records\n";

/// How long to wait before a message is tried again.
const WAIT: Duration = Duration::from_secs(5);

pub(super) fn deliver(
    request: &DeliverRequest,
    reporter: &Reporter,
    interrupts: &Interrupts,
) -> Result<(), Failure> {
    if let Some((path, work)) = &request.save {
        return saved::save(work, path, reporter);
    }
    let job = &dated(&request.job);
    let journal_path = job.journal.clone().unwrap_or_else(|| beside(&job.ledger));
    if request.shows_history {
        let entries = Journal::read(&journal_path).map_err(|error| refused(&error))?;
        return Ok(reporter.history(&entries)?);
    }
    let progress = Arc::new(Progress::new(request.report.quiet));
    let context = interrupts.context(Arc::clone(&progress) as _);
    let outputs = outputs(job, &context);
    progress.clear();
    let outputs = outputs?;
    let messages = messages(job, &outputs, &context)?;
    let sender = sender(job)?;
    if request.mode != Mode::Run {
        reporter.delivery_plan(&messages, job, request.mode == Mode::Ask)?;
        if request.mode == Mode::Plan {
            return Ok(());
        }
        let question = format!("Send {}?", crate::report::messages_in_words(&messages));
        if !interrupts.at_once(|| confirmed(&question))? {
            return Err(Failure::Declined);
        }
    }
    let mut channels = open_channels(job, &messages, &context)?;
    let mut journal = Journal::open(&journal_path).map_err(|error| refused(&error))?;
    let options = DeliveryOptions {
        sender,
        password: password_of_archives(job)?,
        pace: Pace {
            per_minute: job.per_minute,
            retries: job.retries,
            wait: WAIT,
        },
        in_doubt: job.in_doubt,
    };
    context.observer.begins(None);
    let watch = Watched {
        cancel: Arc::clone(&context.cancel),
        context: &context,
        all: messages.len() as u64,
    };
    let done = hand_over(&messages, &mut channels, &mut journal, &options, &watch);
    progress.clear();
    let done = done.map_err(|error| refused(&error))?;
    reporter
        .delivery(&done, job, &journal_path)
        .map_err(Failure::ShowDone)?;
    if context.cancel.load(Ordering::Relaxed) {
        return Err(Error::Interrupted.into());
    }
    let is_well = |outcome: &Outcome| matches!(outcome, Outcome::Delivered(_) | Outcome::Before);
    if done.iter().all(|done| is_well(&done.outcome)) {
        Ok(())
    } else {
        Err(Failure::SomeFailed)
    }
}

/// The job with the day and time in the names of its ledger and journal.
fn dated(job: &DeliverJob) -> DeliverJob {
    let now = Zoned::now().datetime();
    DeliverJob {
        ledger: dated_path(&job.ledger, now),
        journal: job.journal.as_deref().map(|path| dated_path(path, now)),
        ..job.clone()
    }
}

/// The journal next to a ledger.
fn beside(ledger: &Path) -> PathBuf {
    ledger.with_extension("deliveries.jsonl")
}

/// An error that ends the delivery before anything more is handed over.
fn refused(error: &dyn std::fmt::Display) -> Failure {
    Failure::Delivery {
        message: error.to_string(),
        hint: String::new(),
    }
}

fn with_hint(error: &dyn std::fmt::Display, hint: &str) -> Failure {
    Failure::Delivery {
        message: error.to_string(),
        hint: hint.to_owned(),
    }
}

fn usage(message: impl Into<String>, hint: impl Into<String>) -> Failure {
    Failure::Usage {
        message: message.into(),
        hint: hint.into(),
    }
}

/// The outputs of the ledger, which are what its run has written.
fn outputs(job: &DeliverJob, context: &Context) -> Result<Vec<Deliverable>, Failure> {
    let read = numerant_format::ReadOptions::default();
    let check = verify_ledger(&job.ledger, job.out.as_deref(), &read, context)?;
    let names = check.missing.iter().cloned();
    let changed = check
        .changed
        .iter()
        .map(|changed| format!("{} (changed)", changed.path));
    let wrong: Vec<String> = names
        .map(|path| format!("{path} (missing)"))
        .chain(changed)
        .collect();
    if check.unbalanced || !wrong.is_empty() {
        let message = if check.unbalanced {
            format!("{}: the ledger does not add up", check.ledger)
        } else {
            format!(
                "{}: the outputs are not those of the run: {}",
                check.ledger,
                wrong.join("; ")
            )
        };
        return Err(with_hint(
            &message,
            "run the job again, or check the outputs with numerant verify; nothing was sent",
        ));
    }
    let (ledger, out) = outputs_of_ledger(&job.ledger, job.out.as_deref())?;
    if out.is_file() {
        let message = format!("{}: the outputs are in an archive", out.display());
        return Err(with_hint(
            &message,
            "unpack it, and name the folder with --out",
        ));
    }
    let outputs = deliverables(&ledger, &out)
        .map_err(|error| with_hint(&error, "keep the ledger of a run with --ledger"))?;
    if job.only.is_empty() {
        return Ok(outputs);
    }
    let is_wanted = |output: &Deliverable, wanted: &String| {
        output.path == *wanted || output.keys.values().any(|value| value == wanted)
    };
    if let Some(unknown) = job
        .only
        .iter()
        .find(|wanted| !outputs.iter().any(|output| is_wanted(output, wanted)))
    {
        return Err(usage(
            format!("--only {unknown}: no output has this key value or path"),
            "--plan without --only shows all outputs",
        ));
    }
    let wanted = |output: &Deliverable| job.only.iter().any(|wanted| is_wanted(output, wanted));
    Ok(outputs.into_iter().filter(wanted).collect())
}

/// The messages for the outputs.
fn messages(
    job: &DeliverJob,
    outputs: &[Deliverable],
    context: &Context,
) -> Result<Vec<PlannedMessage>, Failure> {
    let (columns, rows) = read_table(&job.routes, context)?;
    let of_routes = |error: &dyn std::fmt::Display| {
        with_hint(
            &format!("{}: {error}", job.routes.display()),
            "correct the routes; --unrouted skip leaves out outputs without a route, --unused skip routes without an output; nothing was sent",
        )
    };
    let routes = Routes::new(&columns, rows).map_err(|error| of_routes(&error))?;
    let unmatched = Unmatched {
        outputs: job.unrouted,
        // Where only some outputs are chosen, others' routes wait for theirs.
        routes: if job.only.is_empty() {
            job.unused
        } else {
            WithoutCounterpart::Skip
        },
    };
    let matches: Vec<Match<'_>> = routes
        .matched(outputs, unmatched)
        .map_err(|error| of_routes(&error))?;
    let attachments = Attachments {
        max_message: job.max_message.map(|size| size.0),
        oversize: job.oversize,
        password: password_of_archives(job)?,
    };
    let body = job.body.as_deref().map(text_of).transpose()?;
    let html = job.html.as_deref().map(text_of).transpose()?;
    let options = PlanOptions {
        subject: &job.subject,
        body: body.as_deref().unwrap_or(BODY),
        html: html.as_deref(),
        attachments: &attachments,
        channel: job.transport.channel,
        domains: &job.domains,
        now: context.now,
    };
    plan(&matches, &options).map_err(|error| {
        let hint = match &error {
            PlanError::Template { .. } => "name a key of the outputs, a column of the routes, or a total of --total",
            PlanError::Domains(_) => "correct the routes, or allow more domains with --domains",
            PlanError::TooLarge(_) => {
                "--oversize zip packs files, --oversize split spreads them over messages; --max-message allows more"
            }
            PlanError::Incomplete(_) => "correct the routes",
            PlanError::Sum(_) | PlanError::Attach(_) => "run the job again, or check the outputs with numerant verify",
        };
        with_hint(&error, &format!("{hint}; nothing was sent"))
    })
}

fn password_of_archives(job: &DeliverJob) -> Result<Option<Password>, Failure> {
    job.encrypt.as_deref().map(secret).transpose()
}

fn sender(job: &DeliverJob) -> Result<Sender, Failure> {
    let from = match (&job.from, job.transport.channel) {
        (Some(from), _) => address("--from", from)?,
        // Files in folders have no sender.
        (None, DeliveryChannel::Folder) => address("--from", "nobody@localhost.example")?,
        (None, _) => {
            return Err(usage(
                "--from is missing",
                "name the sender: --from port@varnholm.example",
            ));
        }
    };
    let test_to = job
        .test_to
        .as_deref()
        .map(|text| address("--test-to", text))
        .transpose()?;
    Ok(Sender {
        from,
        at: SystemTime::now(),
        test_to,
    })
}

/// The channels that messages need.
fn open_channels(
    job: &DeliverJob,
    messages: &[PlannedMessage],
    context: &Context,
) -> Result<Channels, Failure> {
    let wanted: BTreeSet<DeliveryChannel> =
        messages.iter().map(|message| message.channel).collect();
    let opened = wanted
        .into_iter()
        .map(|wanted| Ok((wanted, channel(&job.transport, wanted, &context.disk)?)));
    opened.collect()
}

/// Watches a delivery for the progress and for an interrupt.
struct Watched<'w> {
    cancel: Arc<AtomicBool>,
    context: &'w Context,
    all: u64,
}

impl Watch for Watched<'_> {
    fn now(&self) -> String {
        Zoned::now().strftime("%Y-%m-%dT%H:%M:%S%:z").to_string()
    }

    fn is_cancelled(&self) -> bool {
        self.cancel.load(Ordering::Relaxed)
    }

    fn has_done(&self, messages: usize) {
        self.context.observer.has_written(messages as u64, self.all);
    }
}
