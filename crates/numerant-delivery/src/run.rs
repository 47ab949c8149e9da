//! Hands messages over one by one, with a journal, retries and a pace.

use std::collections::{BTreeMap, BTreeSet};
use std::thread;
use std::time::{Duration, Instant};

use crate::channel::{Channel, Composed, HandOverError};
use crate::journal::{Event, Journal, JournalEntry, JournalError, State};
use crate::{Password, PlannedMessage, Sender};
use numerant_engine::job::{DeliveryChannel, DoubtPolicy};

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
    pub password: Option<Password>,
    /// How fast.
    pub pace: Pace,
    /// What to do with messages in doubt.
    pub in_doubt: DoubtPolicy,
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

/// The channels of a delivery.
pub type Channels = BTreeMap<DeliveryChannel, Box<dyn Channel>>;

/// Follows a delivery, and may end it.
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
    channels: &mut Channels,
    journal: &mut Journal,
    options: &DeliveryOptions,
    watch: &dyn Watch,
) -> Result<Vec<Delivered<'d>>, JournalError> {
    let mut delivery = Delivery {
        channels,
        journal,
        options,
        watch,
        last: None,
        closed: BTreeSet::new(),
        unanswered: BTreeSet::new(),
    };
    let mut delivered = Vec::with_capacity(messages.len());
    for (place, message) in messages.iter().enumerate() {
        let outcome = delivery.message(message)?;
        delivered.push(Delivered { message, outcome });
        watch.has_done(place + 1);
    }
    for channel in delivery.channels.values_mut() {
        channel.close();
    }
    Ok(delivered)
}

/// A delivery on its way.
struct Delivery<'d> {
    channels: &'d mut Channels,
    journal: &'d mut Journal,
    options: &'d DeliveryOptions,
    watch: &'d dyn Watch,
    /// When the last message was handed over.
    last: Option<Instant>,
    /// The channels by which nothing more can be handed over.
    closed: BTreeSet<DeliveryChannel>,
    /// The channels whose last message had no answer.
    unanswered: BTreeSet<DeliveryChannel>,
}

impl Delivery<'_> {
    /// What becomes of a message, by what is known of it.
    fn message(&mut self, message: &PlannedMessage) -> Result<Outcome, JournalError> {
        // A test is another message than the true one.
        let id = match &self.options.sender.test_to {
            None => message.id.clone(),
            Some(test) => format!("{}-test-{}", message.id, test.email),
        };
        let Some(channel) = self.channels.get(&message.channel) else {
            return Ok(Outcome::NotTried);
        };
        match self.journal.state(&id) {
            State::Delivered => return Ok(Outcome::Before),
            State::InDoubt if !channel.is_repeatable() => match self.options.in_doubt {
                DoubtPolicy::Send => {}
                DoubtPolicy::Skip => return Ok(Outcome::Before),
                DoubtPolicy::Name => {
                    let why = "an earlier delivery was cut off, or had no answer";
                    return Ok(Outcome::InDoubt(why.to_owned()));
                }
            },
            State::InDoubt | State::Missing => {}
        }
        let wants = channel.wants();
        if self.closed.contains(&message.channel) {
            return Ok(Outcome::NotTried);
        }
        self.keep_pace();
        if self.watch.is_cancelled() {
            return Ok(Outcome::NotTried);
        }
        let (sender, password) = (&self.options.sender, self.options.password.as_ref());
        match message.compose(sender, wants, password) {
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
            let Some(channel) = self.channels.get_mut(&message.channel) else {
                return Ok(Outcome::NotTried);
            };
            let result = channel.hand_over(composed);
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
            let is_unclear = matches!(result, Err(HandOverError::Unclear(_)));
            if !is_unclear {
                self.unanswered.remove(&message.channel);
            } else if !self.unanswered.insert(message.channel) {
                // A server that stalls would put each message in doubt, one timeout after the other.
                self.closed.insert(message.channel);
            }
            match result {
                Ok(reply) => return Ok(Outcome::Delivered(reply)),
                Err(HandOverError::Unclear(why)) => return Ok(Outcome::InDoubt(why)),
                Err(HandOverError::Final(why)) => return Ok(Outcome::Failed(why)),
                Err(HandOverError::Closed(why)) => {
                    self.closed.insert(message.channel);
                    return Ok(Outcome::Failed(why));
                }
                Err(error @ (HandOverError::Temporary(_) | HandOverError::Unreachable(_))) => {
                    if tries == self.options.pace.retries || self.watch.is_cancelled() {
                        // Others would wait as long for the same.
                        if matches!(error, HandOverError::Unreachable(_)) {
                            self.closed.insert(message.channel);
                        }
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
            channel: message.channel.name().to_owned(),
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
    use std::cell::{Cell, RefCell};
    use std::path::Path;
    use std::rc::Rc;

    use super::*;
    use crate::Deliverable;
    use crate::channel::Wants;
    use crate::message::Texts;

    type Answer = Result<(), HandOverError>;

    /// Gives the answers that were set, and remembers what it took.
    #[derive(Clone)]
    struct Server {
        answers: Rc<RefCell<Vec<Answer>>>,
        taken: Rc<Cell<usize>>,
    }

    impl Server {
        fn new(answers: Vec<Answer>) -> Self {
            Self {
                answers: Rc::new(RefCell::new(answers)),
                taken: Rc::default(),
            }
        }

        fn channels(&self) -> Channels {
            let channel: Box<dyn Channel> = Box::new(self.clone());
            [(DeliveryChannel::Smtp, channel)].into()
        }
    }

    impl Channel for Server {
        fn wants(&self) -> Wants {
            Wants::Mail
        }

        fn is_repeatable(&self) -> bool {
            false
        }

        fn hand_over(&mut self, _: &Composed) -> Result<String, HandOverError> {
            let mut answers = self.answers.borrow_mut();
            let answer = if answers.is_empty() {
                Ok(())
            } else {
                answers.remove(0)
            };
            if matches!(answer, Ok(()) | Err(HandOverError::Unclear(_))) {
                self.taken.set(self.taken.get() + 1);
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

    fn messages(folder: &Path) -> Vec<PlannedMessage> {
        let message = |name: &str| {
            let file = folder.join(name);
            std::fs::write(&file, name).expect("written");
            let address = format!("{name}@varnholm.example");
            let message = PlannedMessage {
                channel: DeliveryChannel::Smtp,
                to: vec![address.parse().expect("an address")],
                files: vec![Deliverable {
                    path: name.to_owned(),
                    file,
                    blake3: blake3::hash(name.as_bytes()).to_hex().to_string(),
                    ..Deliverable::default()
                }],
                ..PlannedMessage::default()
            };
            message.with_id(&Texts::default())
        };
        ["a", "b", "c"].map(message).into()
    }

    fn delivered(folder: &Path, server: &Server, in_doubt: DoubtPolicy) -> Vec<Outcome> {
        delivered_of(&messages(folder), folder, server, in_doubt)
    }

    fn delivered_of(
        messages: &[PlannedMessage],
        folder: &Path,
        server: &Server,
        in_doubt: DoubtPolicy,
    ) -> Vec<Outcome> {
        let options = DeliveryOptions {
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
        };
        let mut journal = Journal::open(&folder.join("journal")).expect("a journal");
        let watch = Silent(Cell::new(0));
        let mut channels = server.channels();
        let done = deliver(messages, &mut channels, &mut journal, &options, &watch);
        assert_eq!(watch.0.get(), messages.len());
        let done = done.expect("a journal");
        done.into_iter().map(|done| done.outcome).collect()
    }

    fn taken() -> Outcome {
        Outcome::Delivered("250 ok".to_owned())
    }

    #[test]
    fn what_failed_is_sent_once_more_and_nothing_twice() {
        use HandOverError::{Final, Temporary, Unclear};
        let folder = tempfile::tempdir().expect("a folder");
        let later = || Err(Temporary("451 later".to_owned()));
        let never = Err(Final("550 no".to_owned()));
        let unclear = Err(Unclear("the connection is gone".to_owned()));
        let first = Server::new(vec![later(), later(), Ok(()), never, unclear]);
        let outcomes = delivered(folder.path(), &first, DoubtPolicy::Name);
        assert_eq!(
            outcomes[..2],
            [taken(), Outcome::Failed("550 no".to_owned())]
        );
        assert!(matches!(outcomes[2], Outcome::InDoubt(_)));
        let second = Server::new(Vec::new());
        let outcomes = delivered(folder.path(), &second, DoubtPolicy::Name);
        assert_eq!(outcomes[..2], [Outcome::Before, taken()]);
        assert!(matches!(outcomes[2], Outcome::InDoubt(_)));
        assert_eq!(second.taken.get(), 1);
        let third = Server::new(Vec::new());
        let outcomes = delivered(folder.path(), &third, DoubtPolicy::Send);
        assert_eq!(outcomes, [Outcome::Before, Outcome::Before, taken()]);
    }

    #[test]
    fn a_server_that_takes_nothing_is_asked_once() {
        use HandOverError::{Closed, Unreachable};
        let nobody = || Err(Unreachable("nobody answers".to_owned()));
        for answers in [
            vec![Err(Closed("no such host".to_owned()))],
            vec![nobody(), nobody(), nobody()],
        ] {
            let folder = tempfile::tempdir().expect("a folder");
            let closed = Server::new(answers);
            let outcomes = delivered(folder.path(), &closed, DoubtPolicy::Name);
            assert!(matches!(outcomes[0], Outcome::Failed(_)));
            assert_eq!(outcomes[1..], [Outcome::NotTried, Outcome::NotTried]);
        }
    }

    #[test]
    fn a_server_that_leaves_two_messages_unanswered_gets_no_third() {
        let unclear = || Err(HandOverError::Unclear("no answer in time".to_owned()));
        let in_doubt = || Outcome::InDoubt("no answer in time".to_owned());
        let folder = tempfile::tempdir().expect("a folder");
        let stalled = Server::new(vec![unclear(), unclear()]);
        let outcomes = delivered(folder.path(), &stalled, DoubtPolicy::Name);
        assert_eq!(outcomes, [in_doubt(), in_doubt(), Outcome::NotTried]);
        let folder = tempfile::tempdir().expect("a folder");
        let slow = Server::new(vec![unclear(), Ok(()), unclear()]);
        let outcomes = delivered(folder.path(), &slow, DoubtPolicy::Name);
        assert_eq!(outcomes, [in_doubt(), taken(), in_doubt()]);
    }

    #[test]
    fn files_that_have_changed_are_not_sent() {
        let folder = tempfile::tempdir().expect("a folder");
        let messages = messages(folder.path());
        std::fs::write(folder.path().join("b"), "other").expect("written");
        let server = Server::new(Vec::new());
        let outcomes = delivered_of(&messages, folder.path(), &server, DoubtPolicy::Name);
        let is_changed = |why: &str| why.contains("changed since the run");
        assert!(matches!(&outcomes[1], Outcome::Failed(why) if is_changed(why)));
        assert_eq!(server.taken.get(), 2);
    }
}
