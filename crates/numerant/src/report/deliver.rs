//! What is handed over to whom, and what became of it.

use std::collections::BTreeSet;
use std::io::{self, Write};
use std::path::Path;

use numerant_delivery::{Delivered, Event, JournalEntry, Outcome, PlannedMessage};
use numerant_engine::job::{DeliverJob, DeliveryChannel};
use serde_json::{Value, json};

use super::inspection::short;
use super::table::{Align, Table};
use super::words::{BAD, FAINT, GOOD, HEADING, bytes, counted, number};

/// Files of a message that are named.
const NAMED: usize = 3;

/// Messages of each kind that are listed after a delivery.
const LISTED: usize = 50;

/// Messages, and the addresses or folders that they go to.
pub(super) fn in_words(messages: &[PlannedMessage]) -> String {
    let count = counted(messages.len() as u64, "message", "messages");
    let all = messages.iter().flat_map(PlannedMessage::recipients);
    let addresses: BTreeSet<String> = all.map(|mailbox| mailbox.email.to_string()).collect();
    let files: usize = messages.iter().map(|message| message.files.len()).sum();
    let files = counted(files as u64, "file", "files");
    if addresses.is_empty() {
        return format!("{count} with {files}");
    }
    format!(
        "{count} with {files} to {}",
        counted(addresses.len() as u64, "address", "addresses")
    )
}

fn channel(job: &DeliverJob) -> String {
    match job.transport.channel {
        DeliveryChannel::Drafts => {
            let folder = job.transport.into.as_deref().unwrap_or(Path::new("drafts"));
            format!("as drafts in {}", super::folder(folder))
        }
        DeliveryChannel::Smtp => format!(
            "by {}",
            job.transport.smtp.as_deref().unwrap_or("a mail server")
        ),
        DeliveryChannel::Folder => {
            let folder = job.transport.into.as_deref().unwrap_or(Path::new("."));
            format!("into folders in {}", super::folder(folder))
        }
        DeliveryChannel::Command => format!(
            "to '{}'",
            job.transport.program.as_deref().unwrap_or_default()
        ),
    }
}

/// Who a message is for.
fn people(message: &PlannedMessage) -> String {
    if message.channel == DeliveryChannel::Folder {
        return message.folder.clone().unwrap_or_default();
    }
    let list = |label: &str, list: &[lettre::message::Mailbox]| {
        let addresses = list.iter().map(|mailbox| mailbox.email.to_string());
        let addresses: Vec<String> = addresses.collect();
        if addresses.is_empty() {
            String::new()
        } else {
            format!("{label}{}", addresses.join(", "))
        }
    };
    list("", &message.to) + &list("; cc ", &message.cc) + &list("; bcc ", &message.bcc)
}

fn files(message: &PlannedMessage) -> String {
    let names = message
        .files
        .iter()
        .take(NAMED)
        .map(|file| file.path.as_str());
    let mut text = names.collect::<Vec<_>>().join(", ");
    if message.files.len() > NAMED {
        text.push_str(&format!(
            " and {} more",
            number((message.files.len() - NAMED) as u64)
        ));
    }
    match &message.archive {
        Some(archive) => format!("{archive}: {text}"),
        None => text,
    }
}

/// Who would get what.
pub(super) fn plan(
    out: &mut impl Write,
    messages: &[PlannedMessage],
    job: &DeliverJob,
    ends_here: bool,
) -> io::Result<()> {
    writeln!(
        out,
        "{HEADING}{}, {}{HEADING:#}",
        in_words(messages),
        channel(job)
    )?;
    if let Some(test) = &job.test_to {
        writeln!(out, "a test: all of them go to {test}")?;
    }
    writeln!(out)?;
    let columns = [
        ("size", Align::Right),
        ("to", Align::Left),
        ("subject", Align::Left),
        ("files", Align::Left),
    ];
    let mut table = Table::new(2, &columns);
    for message in messages {
        table.row(&[
            bytes(message.size),
            people(message),
            short(&message.subject),
            files(message),
        ]);
    }
    if !messages.is_empty() {
        table.show(out)?;
        writeln!(out)?;
    }
    if ends_here {
        writeln!(out, "{FAINT}planned only: nothing was sent{FAINT:#}")?;
    }
    Ok(())
}

/// What became of all messages.
pub(super) fn done(
    out: &mut impl Write,
    done: &[Delivered<'_>],
    job: &DeliverJob,
    journal: &Path,
) -> io::Result<()> {
    let count =
        |is: fn(&Outcome) -> bool| done.iter().filter(|done| is(&done.outcome)).count() as u64;
    let delivered = count(|outcome| matches!(outcome, Outcome::Delivered(_)));
    let before = count(|outcome| matches!(outcome, Outcome::Before));
    let failed = count(|outcome| matches!(outcome, Outcome::Failed(_)));
    let in_doubt = count(|outcome| matches!(outcome, Outcome::InDoubt(_)));
    let not_tried = count(|outcome| matches!(outcome, Outcome::NotTried));
    let test = job
        .test_to
        .as_ref()
        .map(|test| format!(", a test, all to {test}"));
    writeln!(
        out,
        "{HEADING}{}, {}{}{HEADING:#}",
        counted(done.len() as u64, "message", "messages"),
        channel(job),
        test.unwrap_or_default()
    )?;
    let mut sum = vec![format!("{GOOD}{} delivered{GOOD:#}", number(delivered))];
    for (count, what) in [
        (before, "delivered before"),
        (failed, "failed"),
        (in_doubt, "in doubt"),
        (not_tried, "not tried"),
    ] {
        if count > 0 {
            sum.push(format!("{} {what}", number(count)));
        }
    }
    writeln!(out, "{}", sum.join(", "))?;
    let wrong = done.iter().filter_map(|done| match &done.outcome {
        Outcome::Failed(why) => Some(("failed", done.message, why.as_str())),
        Outcome::InDoubt(why) => Some(("in doubt", done.message, why.as_str())),
        Outcome::Delivered(_) | Outcome::Before | Outcome::NotTried => None,
    });
    for (what, message, why) in wrong.take(LISTED) {
        let (people, subject) = (people(message), short(&message.subject));
        writeln!(out, "  {BAD}{what:<8}{BAD:#} {people} ({subject}): {why}")?;
    }
    if in_doubt > 0 {
        writeln!(
            out,
            "  messages in doubt may have arrived: ask their people, then --in-doubt send sends them, --in-doubt skip leaves them"
        )?;
    }
    writeln!(out, "{FAINT}journal: {}{FAINT:#}", journal.display())
}

/// The lines of a journal.
pub(super) fn history(out: &mut impl Write, entries: &[JournalEntry]) -> io::Result<()> {
    let columns = [
        ("at", Align::Left),
        ("event", Align::Left),
        ("channel", Align::Left),
        ("to", Align::Left),
        ("outputs", Align::Left),
        ("reply", Align::Left),
    ];
    let mut table = Table::new(2, &columns);
    // That a message was begun says something only where nothing follows.
    let is_last = |place: usize, entry: &JournalEntry| {
        !entries[place + 1..]
            .iter()
            .any(|later| later.message == entry.message)
    };
    for (place, entry) in entries.iter().enumerate() {
        if entry.event == Event::Begun && !is_last(place, entry) {
            continue;
        }
        let outputs: Vec<&str> = entry
            .outputs
            .iter()
            .map(|(path, _)| path.as_str())
            .collect();
        table.row(&[
            entry.at.clone(),
            event(entry.event).to_owned(),
            entry.channel.clone(),
            entry.to.join(", "),
            outputs.join(", "),
            entry.reply.clone(),
        ]);
    }
    table.show(out)
}

fn event(event: Event) -> &'static str {
    match event {
        Event::Begun => "cut off",
        Event::Delivered => "delivered",
        Event::Refused => "refused",
        Event::Unclear => "in doubt",
    }
}

fn message(message: &PlannedMessage) -> Value {
    let addresses = |list: &[lettre::message::Mailbox]| -> Vec<String> {
        list.iter()
            .map(|mailbox| mailbox.email.to_string())
            .collect()
    };
    json!({
        "id": message.id,
        "to": addresses(&message.to),
        "cc": addresses(&message.cc),
        "bcc": addresses(&message.bcc),
        "folder": message.folder,
        "subject": message.subject,
        "files": message.files.iter().map(|file| file.path.as_str()).collect::<Vec<_>>(),
        "archive": message.archive,
        "bytes": message.size,
    })
}

/// A plan as a document.
pub(super) fn plan_document(messages: &[PlannedMessage]) -> Value {
    json!({ "delivery": { "planned": true, "messages": messages.iter().map(message).collect::<Vec<_>>() } })
}

/// What became of all messages, as a document.
pub(super) fn done_document(done: &[Delivered<'_>], journal: &Path) -> Value {
    let messages = done.iter().map(|done| {
        let mut document = message(done.message);
        let (outcome, reply) = match &done.outcome {
            Outcome::Delivered(reply) => ("delivered", reply.as_str()),
            Outcome::Before => ("delivered-before", ""),
            Outcome::Failed(why) => ("failed", why.as_str()),
            Outcome::InDoubt(why) => ("in-doubt", why.as_str()),
            Outcome::NotTried => ("not-tried", ""),
        };
        document["outcome"] = outcome.into();
        document["reply"] = reply.into();
        document
    });
    json!({ "delivery": {
        "planned": false,
        "messages": messages.collect::<Vec<_>>(),
        "journal": journal.to_string_lossy(),
    } })
}
