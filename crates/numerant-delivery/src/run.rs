//! Hands messages over one by one, with a journal, retries and a pace.

use std::thread;
use std::time::{Duration, Instant};

use crate::channel::{Channel, Composed, HandOverError};
use crate::journal::{Event, Journal, JournalEntry, JournalError, State};
use crate::{PlannedMessage, Sender};

/// What to do with messages of an earlier delivery that may have arrived or not.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub enum InDoubt {
    /// Leave them, and name them.
    #[default]
    Name,
    /// Send them once more.
    Send,
    /// Take them as delivered.
    Skip,
}

/// How fast messages follow each other, and how often one is tried.
#[derive(Clone, Copy, Debug)]
pub struct Pace {
    /// Messages a minute at most.
    pub per_minute: Option<u32>,
    /// How often one that may be taken later is tried again.
    pub retries: u32,
    /// How long to wait before the first of these; each next one waits twice as long.
    pub wait: Duration,
}

/// How a delivery is done.
#[derive(Clone, Debug)]
pub struct DeliveryOptions {
    /// Who sends, and when.
    pub sender: Sender,
    /// The password of archives.
    pub password: Option<String>,
    /// How fast.
    pub pace: Pace,
    /// What to do with messages in doubt.
    pub in_doubt: InDoubt,
}

/// What became of a message.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum Outcome {
    /// It was taken; what came back.
    Delivered(String),
    /// It was delivered before.
    Before,
    /// It was not taken; why.
    Failed(String),
    /// It is not known whether it was taken; why.
    InDoubt(String),
    /// It was not tried, as nothing can be handed over.
    NotTried,
}

/// A message and what became of it.
#[derive(Clone, Debug)]
pub struct Delivered<'d> {
    /// The message.
    pub message: &'d PlannedMessage,
    /// What became of it.
    pub outcome: Outcome,
}

/// Is told how a delivery goes, and may end it.
pub trait Watch {
    /// The time of day for the journal, after ISO 8601.
    fn now(&self) -> String;

    /// Whether to end before the next message.
    fn is_cancelled(&self) -> bool;

    /// So many messages are done.
    fn has_done(&self, messages: usize);
}

/// Hands messages over.
///
/// # Errors
///
/// If the journal cannot be written. What becomes of messages is in the result.
pub fn deliver<'d>(
    messages: &'d [PlannedMessage],
    channel: &mut dyn Channel,
    journal: &mut Journal,
    options: &DeliveryOptions,
    watch: &dyn Watch,
) -> Result<Vec<Delivered<'d>>, JournalError> {
    let mut delivery = Delivery {
        channel,
        journal,
        options,
        watch,
        last: None,
        is_closed: false,
    };
    let mut delivered = Vec::with_capacity(messages.len());
    for (place, message) in messages.iter().enumerate() {
        let outcome = delivery.message(message)?;
        delivered.push(Delivered { message, outcome });
        watch.has_done(place + 1);
    }
    delivery.channel.close();
    Ok(delivered)
}

/// A delivery on its way.
struct Delivery<'d> {
    channel: &'d mut dyn Channel,
    journal: &'d mut Journal,
    options: &'d DeliveryOptions,
    watch: &'d dyn Watch,
    /// When the last message was handed over.
    last: Option<Instant>,
    /// Nothing more can be handed over.
    is_closed: bool,
}

impl Delivery<'_> {
    /// What becomes of a message, by what is known of it.
    fn message(&mut self, message: &PlannedMessage) -> Result<Outcome, JournalError> {
        // A test is another message than the true one.
        let id = match &self.options.sender.test_to {
            None => message.id.clone(),
            Some(test) => format!("{}-test-{}", message.id, test.email),
        };
        match self.journal.state(&id) {
            State::Delivered => return Ok(Outcome::Before),
            State::InDoubt if !self.channel.is_repeatable() => match self.options.in_doubt {
                InDoubt::Send => {}
                InDoubt::Skip => return Ok(Outcome::Before),
                InDoubt::Name => {
                    let why = "an earlier delivery was cut off, or had no answer";
                    return Ok(Outcome::InDoubt(why.to_owned()));
                }
            },
            State::InDoubt | State::Missing => {}
        }
        self.keep_pace();
        if self.is_closed || self.watch.is_cancelled() {
            return Ok(Outcome::NotTried);
        }
        let (sender, password) = (&self.options.sender, self.options.password.as_deref());
        match message.compose(sender, self.channel.wants(), password) {
            Ok(composed) => self.hand_over(message, &id, &composed),
            Err(error) => Ok(Outcome::Failed(error.to_string())),
        }
    }

    fn keep_pace(&mut self) {
        if let (Some(per_minute), Some(last)) = (self.options.pace.per_minute, self.last) {
            let step = Duration::from_secs_f64(60.0 / f64::from(per_minute.max(1)));
            self.wait(step.saturating_sub(last.elapsed()));
        }
        self.last = Some(Instant::now());
    }

    /// Waits, unless the delivery is to end.
    fn wait(&self, time: Duration) {
        let until = Instant::now() + time;
        while !self.watch.is_cancelled() && Instant::now() < until {
            thread::sleep(STEP.min(until.saturating_duration_since(Instant::now())));
        }
    }

    fn hand_over(
        &mut self,
        message: &PlannedMessage,
        id: &str,
        composed: &Composed,
    ) -> Result<Outcome, JournalError> {
        let mut pause = self.options.pace.wait;
        let mut tries = 0;
        loop {
            self.record(message, id, composed, Event::Begun, "")?;
            let result = self.channel.hand_over(composed);
            let (event, reply) = match &result {
                Ok(reply) => (Event::Delivered, reply),
                Err(HandOverError::Unclear(why)) => (Event::Unclear, why),
                Err(
                    HandOverError::Temporary(why)
                    | HandOverError::Unreachable(why)
                    | HandOverError::Final(why)
                    | HandOverError::Closed(why),
                ) => (Event::Refused, why),
            };
            self.record(message, id, composed, event, reply)?;
            match result {
                Ok(reply) => return Ok(Outcome::Delivered(reply)),
                Err(HandOverError::Unclear(why)) => return Ok(Outcome::InDoubt(why)),
                Err(HandOverError::Final(why)) => return Ok(Outcome::Failed(why)),
                Err(HandOverError::Closed(why)) => {
                    self.is_closed = true;
                    return Ok(Outcome::Failed(why));
                }
                Err(error @ (HandOverError::Temporary(_) | HandOverError::Unreachable(_))) => {
                    if tries == self.options.pace.retries || self.watch.is_cancelled() {
                        // Others would wait as long for the same.
                        self.is_closed |= matches!(error, HandOverError::Unreachable(_));
                        return Ok(Outcome::Failed(error.to_string()));
                    }
                    tries += 1;
                    self.wait(pause);
                    pause *= 2;
                }
            }
        }
    }

    fn record(
        &mut self,
        message: &PlannedMessage,
        id: &str,
        composed: &Composed,
        event: Event,
        reply: &str,
    ) -> Result<(), JournalError> {
        let outputs = message.files.iter();
        self.journal.write(JournalEntry {
            form: 0,
            at: self.watch.now(),
            message: id.to_owned(),
            event,
            channel: self.channel.name().to_owned(),
            to: composed
                .recipients
                .iter()
                .map(ToString::to_string)
                .collect(),
            outputs: outputs
                .map(|file| (file.path.clone(), file.blake3.clone()))
                .collect(),
            reply: reply.to_owned(),
        })
    }
}

/// How often a wait looks whether it is to end.
const STEP: Duration = Duration::from_millis(100);

#[cfg(test)]
mod tests {
    use super::*;
    use crate::Deliverable;
    use crate::channel::Wants;
    use std::cell::Cell;

    /// Answers with what it is told to, and counts.
    struct Server {
        answers: Vec<Result<(), HandOverError>>,
        taken: Vec<String>,
        is_repeatable: bool,
    }

    impl Channel for Server {
        fn name(&self) -> &'static str {
            "smtp"
        }

        fn wants(&self) -> Wants {
            Wants::Mail
        }

        fn is_repeatable(&self) -> bool {
            self.is_repeatable
        }

        fn hand_over(&mut self, message: &Composed) -> Result<String, HandOverError> {
            let answer = if self.answers.is_empty() {
                Ok(())
            } else {
                self.answers.remove(0)
            };
            if !matches!(
                answer,
                Err(HandOverError::Temporary(_)
                    | HandOverError::Final(_)
                    | HandOverError::Closed(_))
            ) {
                self.taken.push(message.id.clone());
            }
            answer.map(|()| "250 ok".to_owned())
        }
    }

    struct Silent(Cell<usize>);

    impl Watch for Silent {
        fn now(&self) -> String {
            "2026-03-05T09:30:00".to_owned()
        }

        fn is_cancelled(&self) -> bool {
            false
        }

        fn has_done(&self, messages: usize) {
            self.0.set(messages);
        }
    }

    fn messages(folder: &std::path::Path) -> Vec<PlannedMessage> {
        let named = ["a", "b", "c"].into_iter();
        let message = |name: &str| {
            let file = folder.join(name);
            std::fs::write(&file, name).expect("written");
            let mut message = PlannedMessage {
                to: vec![
                    format!("{name}@varnholm.example")
                        .parse()
                        .expect("an address"),
                ],
                ..PlannedMessage::default()
            };
            message.files.push(Deliverable {
                path: name.to_owned(),
                file,
                blake3: blake3::hash(name.as_bytes()).to_hex().to_string(),
                ..Deliverable::default()
            });
            message.with_id()
        };
        named.map(message).collect()
    }

    fn options(in_doubt: InDoubt) -> DeliveryOptions {
        DeliveryOptions {
            sender: Sender {
                from: "port@varnholm.example".parse().expect("an address"),
                at: std::time::SystemTime::UNIX_EPOCH,
                test_to: None,
            },
            password: None,
            pace: Pace {
                per_minute: None,
                retries: 2,
                wait: Duration::ZERO,
            },
            in_doubt,
        }
    }

    fn delivered(folder: &std::path::Path, server: &mut Server, in_doubt: InDoubt) -> Vec<Outcome> {
        let messages = messages(folder);
        let mut journal = Journal::open(&folder.join("journal")).expect("a journal");
        let watch = Silent(Cell::new(0));
        let done = deliver(&messages, server, &mut journal, &options(in_doubt), &watch)
            .expect("a journal");
        assert_eq!(watch.0.get(), 3);
        done.into_iter().map(|done| done.outcome).collect()
    }

    fn server(answers: Vec<Result<(), HandOverError>>) -> Server {
        Server {
            answers,
            taken: Vec::new(),
            is_repeatable: false,
        }
    }

    #[test]
    fn what_failed_is_sent_once_more_and_nothing_twice() {
        use HandOverError::{Final, Temporary, Unclear};
        let folder = tempfile::tempdir().expect("a folder");
        let later = || Err(Temporary("451 later".to_owned()));
        let never = Err(Final("550 no".to_owned()));
        let unclear = Err(Unclear("the line is gone".to_owned()));
        let mut first = server(vec![later(), later(), Ok(()), never, unclear]);
        let outcomes = delivered(folder.path(), &mut first, InDoubt::Name);
        let taken = Outcome::Delivered("250 ok".to_owned());
        assert_eq!(outcomes[0], taken);
        assert_eq!(outcomes[1], Outcome::Failed("550 no".to_owned()));
        assert!(matches!(outcomes[2], Outcome::InDoubt(_)));
        let mut second = server(Vec::new());
        let outcomes = delivered(folder.path(), &mut second, InDoubt::Name);
        assert_eq!(outcomes[..2], [Outcome::Before, taken.clone()]);
        assert!(matches!(outcomes[2], Outcome::InDoubt(_)));
        assert_eq!(second.taken.len(), 1);
        let mut third = server(Vec::new());
        let outcomes = delivered(folder.path(), &mut third, InDoubt::Send);
        assert_eq!(outcomes, [Outcome::Before, Outcome::Before, taken]);
    }

    #[test]
    fn a_server_that_takes_nothing_is_asked_once() {
        let folder = tempfile::tempdir().expect("a folder");
        let mut closed = server(vec![Err(HandOverError::Closed("no such host".to_owned()))]);
        let outcomes = delivered(folder.path(), &mut closed, InDoubt::Name);
        assert_eq!(outcomes[1..], [Outcome::NotTried, Outcome::NotTried]);
    }

    #[test]
    fn files_that_have_changed_are_not_sent() {
        let folder = tempfile::tempdir().expect("a folder");
        let messages = messages(folder.path());
        std::fs::write(folder.path().join("b"), "other").expect("written");
        let mut journal = Journal::open(&folder.path().join("journal")).expect("a journal");
        let mut all = server(Vec::new());
        let watch = Silent(Cell::new(0));
        let done = deliver(
            &messages,
            &mut all,
            &mut journal,
            &options(InDoubt::Name),
            &watch,
        );
        let done = done.expect("a journal");
        assert!(
            matches!(&done[1].outcome, Outcome::Failed(why) if why.contains("changed since the run"))
        );
        assert_eq!(all.taken.len(), 2);
    }
}
