//! Who is told what came of a job file.

use std::path::{Path, PathBuf};

use schemars::JsonSchema;
use serde::{Deserialize, Serialize};

use super::deliver::{DeliverJob, DeliveryChannel, Encryption};

/// When the owner of a job file is told.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
#[serde(rename_all = "lowercase")]
pub enum TellWhen {
    /// After each run.
    #[default]
    Always,
    /// After one that has failed.
    Failure,
}

/// Who is told what came of a job file, and how: a message with the pages of its jobs.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
#[serde(rename_all = "kebab-case", deny_unknown_fields)]
pub struct Owner {
    /// The address of the owner; several stand between commas.
    pub to: String,
    /// The sender.
    pub from: String,
    /// When the owner is told.
    #[serde(default)]
    pub when: TellWhen,
    /// How the message is handed over: drafts, smtp or command.
    #[serde(default)]
    pub channel: DeliveryChannel,
    /// The folder of drafts.
    pub into: Option<PathBuf>,
    /// The mail server, as HOST or HOST:PORT.
    pub smtp: Option<String>,
    /// How the connection to it is encrypted.
    #[serde(default)]
    pub tls: Encryption,
    /// The user that logs in to it.
    pub user: Option<String>,
    /// The file with the password, which only its owner may read.
    pub password_file: Option<PathBuf>,
    /// The file with a certificate (PEM) that is trusted besides those of the system.
    pub trust: Option<PathBuf>,
    /// The program that takes the message on its standard input, with its arguments.
    pub program: Option<String>,
}

impl Owner {
    /// Changes all paths that it names.
    pub(super) fn map_paths(&mut self, change: &dyn Fn(&Path) -> PathBuf) {
        let paths = [&mut self.into, &mut self.password_file, &mut self.trust];
        for path in paths.into_iter().flatten() {
            *path = change(path);
        }
    }

    /// How the message is handed over, as a delivery states it.
    pub fn delivery(&self) -> DeliverJob {
        DeliverJob {
            from: Some(self.from.clone()),
            channel: self.channel,
            into: self.into.clone(),
            smtp: self.smtp.clone(),
            tls: self.tls,
            user: self.user.clone(),
            password_file: self.password_file.clone(),
            trust: self.trust.clone(),
            program: self.program.clone(),
            ..DeliverJob::default()
        }
    }
}
