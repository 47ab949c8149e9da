//! Sends the message about a run of a job file.

use std::path::PathBuf;

use lettre::message::Mailboxes;
use numerant_data::disk::Disk;
use numerant_delivery::{Deliverable, PlannedMessage, Sender};
use numerant_engine::dated_path;
use numerant_engine::job::{JobFile, Notification, NotifyWhen, Work};

use super::deliver;
use crate::failure::Failure;
use crate::report::failure_in_words;

/// Sends the message about a run, with the pages that its jobs have written.
pub(super) fn notify(
    file: &JobFile,
    story: &[String],
    result: &Result<(), Failure>,
) -> Result<(), Failure> {
    let Some(notification) = &file.notification else {
        return Ok(());
    };
    if notification.when == NotifyWhen::Failure && result.is_ok() {
        return Ok(());
    }
    send(file, notification, story, result).map_err(|failure| {
        let (message, hint) = failure_in_words(&failure);
        let done = if result.is_ok() {
            "the run is done"
        } else {
            "the run has failed"
        };
        Failure::Delivery {
            message: format!("{done}, but the message about it could not be sent: {message}"),
            hint: hint.unwrap_or_default(),
        }
    })
}

fn send(
    file: &JobFile,
    notification: &Notification,
    story: &[String],
    result: &Result<(), Failure>,
) -> Result<(), Failure> {
    let wrong = |message: String| Failure::Delivery {
        message,
        hint: String::new(),
    };
    let to: Result<Mailboxes, _> = notification.to.parse();
    let to = to.map_err(|_| wrong(format!("to: '{}' is not an address", notification.to)))?;
    let name = file
        .path
        .file_name()
        .unwrap_or_default()
        .to_string_lossy()
        .into_owned();
    let mut text = story.join("\n");
    let subject = match result {
        Ok(()) => format!("{name}: done"),
        Err(failure) => {
            let (reason, hint) = failure_in_words(failure);
            text.push_str(&format!("\nerror: {reason}\n"));
            if let Some(hint) = hint {
                text.push_str(&format!("hint: {hint}\n"));
            }
            format!("{name}: failed with code {}", failure.code())
        }
    };
    let message = PlannedMessage {
        to: to.into_iter().collect(),
        subject,
        text,
        files: pages(file),
        channel: notification.transport.channel,
        // Each run has a message of its own, whatever the one before has sent.
        id: blake3_of(&[&name, &jiff::Zoned::now().to_string()]),
        ..PlannedMessage::default()
    };
    let sender = Sender {
        from: deliver::address("from", &notification.from)?,
        at: std::time::SystemTime::now(),
        test_to: None,
    };
    let transport = &notification.transport;
    let mut channel = deliver::channel(transport, transport.channel, &Disk::default())?;
    let composed = message.compose(&sender, channel.wants(), None);
    let composed = composed.map_err(|error| wrong(error.to_string()))?;
    let sent = channel.hand_over(&composed);
    channel.close();
    sent.map(drop).map_err(|error| wrong(error.to_string()))
}

/// The pages that the jobs of a file have written.
fn pages(file: &JobFile) -> Vec<Deliverable> {
    let now = jiff::Zoned::now().datetime();
    let pages = file.entries.iter().filter_map(|entry| match &entry.work {
        Work::Split(job) | Work::Combine(job) | Work::Convert(job) | Work::Fill(job) => {
            job.page.as_ref()
        }
        Work::Inspect(inspect) => inspect.job.page.as_ref(),
        Work::Verify(verify) => verify.page.as_ref(),
        Work::Deliver(_) => None,
    });
    let page = |path: &PathBuf| {
        let file = dated_path(path, now);
        let bytes = std::fs::read(&file).ok()?;
        Some(Deliverable {
            path: file.to_string_lossy().into_owned(),
            blake3: blake3::hash(&bytes).to_hex().to_string(),
            bytes: bytes.len() as u64,
            file,
            ..Deliverable::default()
        })
    };
    pages.filter_map(page).collect()
}

fn blake3_of(parts: &[&str]) -> String {
    let mut digest = blake3::Hasher::new();
    for part in parts {
        digest.update(part.as_bytes());
    }
    digest.finalize().to_hex()[..32].to_owned()
}
