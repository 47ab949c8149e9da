//! The message about a run of a job file: the table `[notify]`.

use std::path::{Path, PathBuf};

use schemars::JsonSchema;
use serde::{Deserialize, Serialize};

use super::deliver::{DeliveryChannel, Transport};

/// After which runs the message is sent.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
#[serde(rename_all = "lowercase")]
pub enum NotifyWhen {
    /// After each run.
    #[default]
    Always,
    /// After one that has failed.
    Failure,
}

/// The message about a run of a job file: its results or its error, with the pages of its jobs.
#[derive(Clone, Debug, Default, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
#[serde(default, rename_all = "kebab-case")]
pub struct Notification {
    /// The address that it goes to; several are separated by commas.
    pub to: String,
    /// The sender.
    pub from: String,
    /// After which runs it is sent.
    pub when: NotifyWhen,
    /// How it is handed over.
    #[serde(flatten)]
    pub transport: Transport,
}

impl Notification {
    /// The keys without a default.
    pub(super) const REQUIRED: [&'static str; 2] = ["to", "from"];

    /// The key that has no usable value, and why not.
    pub(super) fn problem(&self) -> Option<(&'static str, &'static str)> {
        let values = [&self.to, &self.from];
        let mut values = Self::REQUIRED.into_iter().zip(values);
        if let Some((key, _)) = values.find(|(_, value)| value.trim().is_empty()) {
            return Some((key, "it is missing"));
        }
        let is_folder = self.transport.channel == DeliveryChannel::Folder;
        is_folder.then_some((
            "channel",
            "it is drafts, smtp or command, as a folder takes no text",
        ))
    }

    /// Changes all paths that it names.
    pub(super) fn map_paths(&mut self, change: &dyn Fn(&Path) -> PathBuf) {
        self.transport.map_paths(change);
    }
}
