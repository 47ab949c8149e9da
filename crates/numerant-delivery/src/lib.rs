//! Outputs of a run handed to their people.
//!
//! A table of routes says who gets the outputs with which keys ([`Routes`]). Outputs for the same people become one
//! message ([`plan()`]), which a [`Channel`] hands over: as a draft, by SMTP, into a folder, or to a program. A journal
//! remembers each message before and after that ([`Journal`]), so that a delivery that is repeated sends what is
//! missing and nothing twice.
//!
//! ```
//! use numerant_delivery::{Routes, Unmatched, Deliverable};
//!
//! let columns = ["quay", "to"].map(str::to_owned);
//! let rows = vec![vec!["Coal Dock".to_owned(), "dock@varnholm.example".to_owned()]];
//! let routes = Routes::new(&columns, rows)?;
//! let output = Deliverable {
//!     path: "Coal Dock.csv".to_owned(),
//!     keys: [("quay".to_owned(), "Coal Dock".to_owned())].into(),
//!     ..Deliverable::default()
//! };
//! let outputs = [output];
//! let matched = routes.matched(&outputs, Unmatched::default())?;
//! assert_eq!(matched[0].route.to[0].to_string(), "dock@varnholm.example");
//! # Ok::<(), numerant_delivery::RouteError>(())
//! ```

mod attachment;
mod channel;
mod journal;
mod ledger;
mod message;
mod plan;
mod routes;
mod run;
mod template;

use std::collections::BTreeMap;
use std::fmt;
use std::path::PathBuf;

use numerant_data::value::Number;

pub use attachment::{AttachError, Attachments};
pub use channel::{
    Channel, CommandChannel, Composed, Drafts, Folders, HandOverError, Smtp, SmtpOptions, Wants,
};
pub use journal::{Event, Journal, JournalEntry, JournalError, State};
pub use ledger::{LedgerError, deliverables};
pub use message::{ComposeError, PlannedMessage, Sender};
pub use plan::{PlanError, PlanOptions, plan};
pub use routes::{Match, Route, RouteError, Routes, Unmatched};
pub use run::{Channels, Delivered, DeliveryOptions, Outcome, Pace, Watch, deliver};
pub use template::{TemplateError, TextTemplate, Values};

/// An output of a run that can be handed over.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct Deliverable {
    /// Its path below the output folder.
    pub path: String,
    /// Where it is.
    pub file: PathBuf,
    /// The values of the keys by which its records were distinguished.
    pub keys: BTreeMap<String, String>,
    /// Records in it.
    pub records: u64,
    /// Its control totals, by column.
    pub totals: Vec<(String, Number)>,
    /// Its size.
    pub bytes: u64,
    /// The BLAKE3 digest of its bytes, in hexadecimal.
    pub blake3: String,
}

impl Deliverable {
    /// The last part of its path.
    pub fn name(&self) -> &str {
        self.path.rsplit(['/', '\\']).next().unwrap_or(&self.path)
    }
}

/// A password, which no message shows.
#[derive(Clone, PartialEq, Eq)]
pub struct Password(pub String);

impl fmt::Debug for Password {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str("Password")
    }
}
