//! The ways in which messages are handed over.

mod command;
mod drafts;
mod folders;
mod smtp;

use lettre::Address;

pub use command::CommandChannel;
pub use drafts::Drafts;
pub use folders::Folders;
pub(crate) use folders::below;
pub use smtp::{Smtp, SmtpOptions};

/// A message that is ready.
#[derive(Clone, Debug)]
pub struct Composed {
    /// What it is identified by.
    pub id: String,
    /// The sender.
    pub from: Address,
    /// All that it goes to.
    pub recipients: Vec<Address>,
    /// The folder of its route.
    pub folder: Option<String>,
    /// Its bytes, if the channel wants mail.
    pub mail: Vec<u8>,
    /// Its files, if the channel wants these.
    pub files: Vec<(String, Vec<u8>)>,
}

/// What a channel takes.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Wants {
    /// A mail with its hidden recipients, to be looked at first.
    Draft,
    /// A mail as it is sent.
    Mail,
    /// The files alone.
    Files,
}

/// A way to hand messages over.
pub trait Channel {
    /// What it takes.
    fn wants(&self) -> Wants;

    /// Whether a message can be handed over once more without being there twice.
    fn is_repeatable(&self) -> bool;

    /// Hands a message over, and returns what came back.
    ///
    /// # Errors
    ///
    /// If it was not handed over, or that is not known.
    fn hand_over(&mut self, message: &Composed) -> Result<String, HandOverError>;

    /// Ends what is open.
    fn close(&mut self) {}
}

/// A message that was not handed over.
#[derive(Clone, Debug, PartialEq, Eq, thiserror::Error)]
pub enum HandOverError {
    /// It may be taken later.
    #[error("{0}")]
    Temporary(String),
    /// It will not be taken.
    #[error("{0}")]
    Final(String),
    /// Nobody answers; that may change.
    #[error("{0}")]
    Unreachable(String),
    /// Nothing can be handed over this way.
    #[error("{0}")]
    Closed(String),
    /// It was handed over, and no answer came.
    #[error("{0}")]
    Unclear(String),
}
