//! What is handed over to whom: the job of `deliver`.

use std::path::{Path, PathBuf};

use schemars::JsonSchema;
use serde::{Deserialize, Serialize};

use numerant_data::value::Size;

/// How messages are handed over.
#[derive(
    Clone, Copy, Debug, Default, PartialEq, Eq, PartialOrd, Ord, Serialize, Deserialize, JsonSchema,
)]
#[serde(rename_all = "lowercase")]
pub enum DeliveryChannel {
    /// A file for each, to be looked at and sent by a mail program.
    #[default]
    Drafts,
    /// To a mail server.
    Smtp,
    /// The files alone, into folders.
    Folder,
    /// To a program.
    Command,
}

impl DeliveryChannel {
    /// All, by name.
    pub const ALL: &'static [(&'static str, Self)] = &[
        ("drafts", Self::Drafts),
        ("smtp", Self::Smtp),
        ("folder", Self::Folder),
        ("command", Self::Command),
    ];

    /// Its name, as routes, jobs and the journal have it.
    pub fn name(self) -> &'static str {
        let known = Self::ALL.iter().find(|(_, channel)| *channel == self);
        known.map_or("", |(name, _)| name)
    }

    /// The channel with a name.
    pub fn of_name(name: &str) -> Option<Self> {
        let known = Self::ALL.iter().find(|(known, _)| *known == name);
        known.map(|(_, channel)| *channel)
    }
}

/// How the connection to a mail server is encrypted.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
#[serde(rename_all = "lowercase")]
pub enum Encryption {
    /// After the first answer.
    #[default]
    StartTls,
    /// From the beginning.
    Implicit,
    /// Not at all.
    None,
}

/// What to do with what has no counterpart.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
#[serde(rename_all = "lowercase")]
pub enum WithoutCounterpart {
    /// Refuse the delivery.
    #[default]
    Refuse,
    /// Leave it out.
    Skip,
}

/// What to do with messages that may have arrived or not.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
#[serde(rename_all = "lowercase")]
pub enum DoubtPolicy {
    /// Leave them, and name them.
    #[default]
    Name,
    /// Send them once more.
    Send,
    /// Take them as delivered.
    Skip,
}

/// What to do with messages that are too large.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
#[serde(rename_all = "lowercase")]
pub enum OversizePolicy {
    /// Refuse the delivery.
    #[default]
    Refuse,
    /// Put the files into a zip archive.
    Zip,
    /// Spread them over several messages.
    Split,
}

/// How messages are handed over: the keys that a delivery and a notification have in common.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
#[serde(default, rename_all = "kebab-case")]
pub struct Transport {
    /// The channel of messages whose route does not name one.
    pub channel: DeliveryChannel,
    /// The folder of drafts, or the one that the folders of routes are in.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub into: Option<PathBuf>,
    /// The mail server, as HOST or HOST:PORT.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub smtp: Option<String>,
    /// How the connection to it is encrypted.
    pub tls: Encryption,
    /// The user that logs in to it.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub user: Option<String>,
    /// The file with the password, which only its owner may read.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub password_file: Option<PathBuf>,
    /// The program that prints the password, such as one that asks the keyring of the system.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub password_command: Option<String>,
    /// Seconds that the mail server may take to answer.
    pub timeout: u64,
    /// The file with a certificate (PEM) that is trusted besides those of the system.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub trust: Option<PathBuf>,
    /// The program that takes messages on its standard input, with its arguments.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub program: Option<String>,
}

impl Default for Transport {
    fn default() -> Self {
        Self {
            channel: DeliveryChannel::default(),
            into: None,
            smtp: None,
            tls: Encryption::default(),
            user: None,
            password_file: None,
            password_command: None,
            timeout: 60,
            trust: None,
            program: None,
        }
    }
}

impl Transport {
    /// Changes all paths that it names.
    pub(super) fn map_paths(&mut self, change: &dyn Fn(&Path) -> PathBuf) {
        let paths = [&mut self.into, &mut self.password_file, &mut self.trust];
        for path in paths.into_iter().flatten() {
            *path = change(path);
        }
    }
}

/// What is to be handed over to whom.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
#[serde(default, rename_all = "kebab-case")]
pub struct DeliverJob {
    /// The ledger of the run whose outputs are handed over.
    pub ledger: PathBuf,
    /// Where the outputs are now, if not where the run has written them.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub out: Option<PathBuf>,
    /// The table of routes: columns of keys, `to`, `cc`, `bcc`, `subject`, `body`, `folder`, `channel`.
    pub routes: PathBuf,
    /// How messages are handed over.
    #[serde(flatten)]
    pub transport: Transport,
    /// The sender.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub from: Option<String>,
    /// The subject of messages whose route has none.
    pub subject: String,
    /// The file with the text of messages whose route has none.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub body: Option<PathBuf>,
    /// The file with the text as HTML.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub html: Option<PathBuf>,
    /// Only outputs with one of these key values or paths.
    #[serde(skip_serializing_if = "Vec::is_empty")]
    pub only: Vec<String>,
    /// All messages go to this address, and say who they are for.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub test_to: Option<String>,
    /// The domains that addresses must have.
    #[serde(skip_serializing_if = "Vec::is_empty")]
    pub domains: Vec<String>,
    /// What to do with outputs without a route.
    pub unrouted: WithoutCounterpart,
    /// What to do with routes without an output.
    pub unused: WithoutCounterpart,
    /// What to do with messages that may have arrived or not.
    pub in_doubt: DoubtPolicy,
    /// Bytes that a message may have.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub max_message: Option<Size>,
    /// What to do with messages that are larger.
    pub oversize: OversizePolicy,
    /// The file with the password of an encrypted zip archive that files go into.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub encrypt: Option<PathBuf>,
    /// Messages a minute at most.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub per_minute: Option<u32>,
    /// How often a message that may be taken later is tried again.
    pub retries: u32,
    /// Where the journal of deliveries is kept; by default, next to the ledger.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub journal: Option<PathBuf>,
}

impl Default for DeliverJob {
    fn default() -> Self {
        Self {
            ledger: PathBuf::new(),
            out: None,
            routes: PathBuf::new(),
            transport: Transport::default(),
            from: None,
            subject: "{.file}".to_owned(),
            body: None,
            html: None,
            only: Vec::new(),
            test_to: None,
            domains: Vec::new(),
            unrouted: WithoutCounterpart::default(),
            unused: WithoutCounterpart::default(),
            in_doubt: DoubtPolicy::default(),
            max_message: None,
            oversize: OversizePolicy::default(),
            encrypt: None,
            per_minute: None,
            retries: 3,
            journal: None,
        }
    }
}

impl DeliverJob {
    /// Changes all paths that the job names.
    pub(super) fn map_paths(&mut self, change: &dyn Fn(&Path) -> PathBuf) {
        for path in [&mut self.ledger, &mut self.routes] {
            *path = change(path);
        }
        let others = [
            &mut self.out,
            &mut self.body,
            &mut self.html,
            &mut self.encrypt,
            &mut self.journal,
        ];
        for path in others.into_iter().flatten() {
            *path = change(path);
        }
        self.transport.map_paths(change);
    }
}
