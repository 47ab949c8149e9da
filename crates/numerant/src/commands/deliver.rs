//! `numerant deliver`.

use std::collections::BTreeMap;
use std::io::{self, BufRead, Write};
use std::path::{Path, PathBuf};
use std::sync::Arc;
use std::sync::atomic::{AtomicBool, Ordering};
use std::time::{Duration, SystemTime};

use jiff::Zoned;
use lettre::message::Mailbox;
use numerant_data::value::Number;
use numerant_delivery::{
    Attachments, Channel, CommandChannel, Deliverable, DeliveryOptions, Drafts, Folders, InDoubt,
    Journal, Match, Outcome, Oversize, Pace, PlanError, PlanOptions, PlannedMessage, Policy,
    Routes, Sender, Smtp, SmtpOptions, Tls, Unmatched, Watch, deliver as hand_over, plan,
};
use numerant_engine::job::{
    DeliverJob, DeliveryChannel, DoubtPolicy, Encryption, OversizePolicy, WithoutCounterpart,
};
use numerant_engine::ledger::Ledger;
use numerant_engine::{Context, Error, outputs_of_ledger, read_table, verify_ledger};

use super::{Failure, saved};
use crate::args::{DeliverRequest, Mode};
use crate::report::{Progress, Reporter};
use crate::surroundings::Interrupts;

/// The text of messages for which none is stated.
const BODY: &str = "{.files}\n\n{.rows} records\n";

/// The environment variable with the password of the mail server.
const PASSWORD: &str = "NUMERANT_SMTP_PASSWORD";

/// How long a mail server may take to answer.
const TIMEOUT: Duration = Duration::from_secs(60);

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
    let job = &request.job;
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
        if !interrupts.at_once(|| confirmed(&messages))? {
            return Err(Failure::Declined);
        }
    }
    let mut channel = channel(job)?;
    let mut journal = Journal::open(&journal_path).map_err(|error| refused(&error))?;
    let options = DeliveryOptions {
        sender,
        password: password_of_archives(job)?,
        pace: Pace {
            per_minute: job.per_minute,
            retries: job.retries,
            wait: WAIT,
        },
        in_doubt: match job.in_doubt {
            DoubtPolicy::Name => InDoubt::Name,
            DoubtPolicy::Send => InDoubt::Send,
            DoubtPolicy::Skip => InDoubt::Skip,
        },
    };
    context.observer.begins(None);
    let watch = Watched {
        cancel: Arc::clone(&context.cancel),
        context: &context,
        all: messages.len() as u64,
    };
    let done = hand_over(&messages, channel.as_mut(), &mut journal, &options, &watch);
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

/// The journal beside a ledger.
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
            "run it again, or look with numerant verify; nothing was handed over",
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
    let outputs = deliverables(&ledger, &out)?;
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

/// The files of a ledger; those of several sheets have what these have in common.
fn deliverables(ledger: &Ledger, out: &Path) -> Result<Vec<Deliverable>, Failure> {
    let mut outputs: Vec<Deliverable> = Vec::new();
    let mut places: BTreeMap<&str, usize> = BTreeMap::new();
    let mut sums: Vec<Vec<Number>> = Vec::new();
    for entry in &ledger.outputs {
        let Some(place) = places.get(entry.path.as_str()) else {
            places.insert(&entry.path, outputs.len());
            outputs.push(Deliverable {
                path: entry.path.clone(),
                file: out.join(&entry.path),
                keys: entry.keys.clone(),
                records: entry.records,
                totals: Vec::new(),
                bytes: entry.bytes.unwrap_or(0),
                blake3: entry.blake3.clone().unwrap_or_default(),
            });
            sums.push(entry.sums.clone());
            continue;
        };
        let output = &mut outputs[*place];
        output
            .keys
            .retain(|key, value| entry.keys.get(key) == Some(value));
        output.records += entry.records;
        for (sum, more) in sums[*place].iter_mut().zip(&entry.sums) {
            *sum = sum.plus(*more).map_err(|error| refused(&error))?;
        }
    }
    for (output, sums) in outputs.iter_mut().zip(sums) {
        let columns = ledger.sums.iter().map(|sum| sum.column.clone());
        output.totals = columns.zip(sums.iter().map(Number::to_string)).collect();
        if output.blake3.is_empty() {
            let message = format!("{}: the ledger has no digest of it", output.path);
            return Err(with_hint(
                &message,
                "keep the ledger of a run with --ledger",
            ));
        }
    }
    Ok(outputs)
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
            "mend the routes; --unrouted skip and --unused skip leave out what has no counterpart; nothing was handed over",
        )
    };
    let routes = Routes::new(&columns, rows).map_err(|error| of_routes(&error))?;
    let policy = |policy: WithoutCounterpart| match policy {
        WithoutCounterpart::Refuse => Policy::Refuse,
        WithoutCounterpart::Skip => Policy::Skip,
    };
    let unmatched = Unmatched {
        outputs: policy(job.unrouted),
        // Where only some outputs are chosen, others' routes wait for theirs.
        routes: if job.only.is_empty() {
            policy(job.unused)
        } else {
            Policy::Skip
        },
    };
    let matches: Vec<Match<'_>> = routes
        .matched(outputs, unmatched)
        .map_err(|error| of_routes(&error))?;
    let attachments = Attachments {
        max_message: job.max_message.map(|size| size.0),
        oversize: match job.oversize {
            OversizePolicy::Refuse => Oversize::Refuse,
            OversizePolicy::Zip => Oversize::Zip,
            OversizePolicy::Split => Oversize::Split,
        },
        password: password_of_archives(job)?,
    };
    let body = job.body.as_deref().map(text_of).transpose()?;
    let html = job.html.as_deref().map(text_of).transpose()?;
    let options = PlanOptions {
        subject: &job.subject,
        body: body.as_deref().unwrap_or(BODY),
        html: html.as_deref(),
        attachments: &attachments,
        domains: &job.domains,
        now: context.now,
    };
    plan(&matches, &options).map_err(|error| {
        let hint = match &error {
            PlanError::Template { .. } => "name a key of the outputs, a column of the routes, or a total of --total",
            PlanError::Domains(_) => "mend the routes, or allow more with --domains",
            PlanError::TooLarge(_) => {
                "--oversize zip packs files, --oversize split spreads them over messages; --max-message allows more"
            }
            PlanError::Attach(_) => "run it again, or look with numerant verify",
        };
        with_hint(&error, &format!("{hint}; nothing was handed over"))
    })
}

fn text_of(path: &Path) -> Result<String, Failure> {
    std::fs::read_to_string(path).map_err(|cause| refused(&format!("{}: {cause}", path.display())))
}

/// The first line of a file that only its owner may read.
fn secret(path: &Path) -> Result<String, Failure> {
    #[cfg(unix)]
    {
        use std::os::unix::fs::MetadataExt;
        let facts = std::fs::metadata(path);
        let facts = facts.map_err(|cause| refused(&format!("{}: {cause}", path.display())))?;
        if facts.mode() & 0o077 != 0 {
            let shown = path.display();
            return Err(with_hint(
                &format!("{shown}: others than its owner may read it"),
                &format!("chmod 600 {shown}"),
            ));
        }
    }
    let text = text_of(path)?;
    let line = text.lines().next().unwrap_or_default().to_owned();
    if line.is_empty() {
        Err(refused(&format!("{}: it has no password", path.display())))
    } else {
        Ok(line)
    }
}

fn password_of_archives(job: &DeliverJob) -> Result<Option<String>, Failure> {
    job.encrypt.as_deref().map(secret).transpose()
}

fn address(option: &str, text: &str) -> Result<Mailbox, Failure> {
    text.parse().map_err(|_| {
        usage(
            format!("{option} {text}: it is no address"),
            "write ADDRESS or 'NAME <ADDRESS>'",
        )
    })
}

pub(super) fn sender(job: &DeliverJob) -> Result<Sender, Failure> {
    let from = match (&job.from, job.channel) {
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

pub(super) fn channel(job: &DeliverJob) -> Result<Box<dyn Channel>, Failure> {
    let into = || job.into.clone().unwrap_or_else(|| PathBuf::from("drafts"));
    Ok(match job.channel {
        DeliveryChannel::Drafts => Box::new(Drafts::new(into())),
        DeliveryChannel::Folder => match &job.into {
            Some(into) => Box::new(Folders::new(into.clone())),
            None => {
                return Err(usage(
                    "--into is missing",
                    "name the folder that the folders of routes are in",
                ));
            }
        },
        DeliveryChannel::Command => {
            let command = job.program.as_deref().and_then(CommandChannel::new);
            Box::new(
                command.ok_or_else(|| {
                    usage("--program is missing", "such as --program 'sendmail -t'")
                })?,
            )
        }
        DeliveryChannel::Smtp => Box::new(Smtp::new(smtp(job)?)),
    })
}

fn smtp(job: &DeliverJob) -> Result<SmtpOptions, Failure> {
    let Some(server) = &job.smtp else {
        return Err(usage(
            "--smtp is missing",
            "name the mail server: --smtp mail.varnholm.example",
        ));
    };
    let usual = if job.tls == Encryption::Implicit {
        465
    } else {
        587
    };
    let (host, port) = match server.rsplit_once(':') {
        None => (server.as_str(), usual),
        Some((host, port)) => {
            let port = port.parse().map_err(|_| {
                usage(
                    format!("--smtp {server}: '{port}' is no port"),
                    "write HOST or HOST:PORT",
                )
            })?;
            (host, port)
        }
    };
    let login = match &job.user {
        None => None,
        Some(_) if job.tls == Encryption::None => {
            return Err(usage(
                "--user with --tls none would send the password in the clear",
                "leave one of the two out",
            ));
        }
        Some(user) => {
            let password = match &job.password_file {
                Some(path) => secret(path)?,
                None => std::env::var(PASSWORD).map_err(|_| {
                    usage(
                        format!("the password of {user} is missing"),
                        format!("put it into the environment as {PASSWORD}, or name a file with --password-file"),
                    )
                })?,
            };
            Some((user.clone(), password))
        }
    };
    let authority = match &job.trust {
        None => None,
        Some(path) => Some(text_of(path)?.into_bytes()),
    };
    Ok(SmtpOptions {
        host: host.to_owned(),
        port,
        tls: match job.tls {
            Encryption::StartTls => Tls::StartTls,
            Encryption::Implicit => Tls::Implicit,
            Encryption::None => Tls::None,
        },
        login,
        authority,
        timeout: TIMEOUT,
    })
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

/// Asks, on standard error, and takes anything but a yes for a no.
fn confirmed(messages: &[PlannedMessage]) -> io::Result<bool> {
    let mut question = crate::report::screen::stderr();
    write!(
        question,
        "Hand {} over? [y/N] ",
        crate::report::messages_in_words(messages)
    )?;
    question.flush()?;
    let mut answer = String::new();
    io::stdin().lock().read_line(&mut answer)?;
    Ok(matches!(answer.trim().to_lowercase().as_str(), "y" | "yes"))
}
