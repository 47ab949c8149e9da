//! Message batches in envelopes: X12, and UN/EDIFACT (ISO 9735).
//!
//! A record is what a layout says of a kind of message, or a whole message. Segments stay byte for byte; what is
//! written are complete messages again, with the envelope, head and tail that they had, and counts that fit.

mod layout;
mod marks;
mod names;
mod read;
mod roles;
mod segments;
mod stream;
mod write;

pub(crate) use marks::Standard;
pub(crate) use read::EdiTrees;
pub use read::MessageFacts;
pub use write::{Balance, BalanceNote, Miscounted};

/// What the formats are called.
pub(crate) const X12: &str = "X12";
pub(crate) const EDIFACT: &str = "UN/EDIFACT";

/// The extensions of files with messages.
pub(super) const X12_EXTENSIONS: &[&str] = &["x12", "edi"];
pub(super) const EDIFACT_EXTENSIONS: &[&str] = &["edifact"];

/// Where the records are, by layouts or as whole messages.
pub(crate) const BY_LAYOUT: &str = "by layout";
pub(crate) const MESSAGES: &str = "messages";

/// Which of the two a file begins as.
pub(crate) fn begins(start: &[u8]) -> Option<Standard> {
    marks::Marks::found(start.trim_ascii_start()).map(|marks| marks.standard)
}
