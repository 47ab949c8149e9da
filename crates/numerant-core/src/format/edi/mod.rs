//! Message batches in envelopes: X12, and UN/EDIFACT (ISO 9735).
//!
//! A record is what a layout says of a kind of message, or a whole message. Segments stay byte for byte; what is
//! written are complete messages again, with the envelope, head and tail that they had, and counts that fit.

mod counts;
mod frame;
mod layout;
mod marks;
mod names;
mod read;
mod roles;
mod segments;
mod stream;
mod write;

use super::trees::OpenedTrees;
use crate::source::Input;

pub use counts::{SegmentCounts, SegmentsWritten};
pub(crate) use layout::is_address;
pub(crate) use marks::Standard;
pub(crate) use read::EdiTrees;
pub use read::MessageFacts;
pub use write::{Balance, BalanceNote, MessagesWritten, Miscounted};

/// The extensions of files with messages.
pub(super) const X12_EXTENSIONS: &[&str] = &["x12", "edi"];
pub(super) const EDIFACT_EXTENSIONS: &[&str] = &["edifact"];

/// Where the records are, by layouts or as whole messages.
pub(crate) const BY_LAYOUT: &str = "by layout";
pub(crate) const MESSAGES: &str = "messages";

/// How many bytes of other text stand in front of an interchange, where a line of its own begins one.
pub(crate) fn begins_behind(start: &[u8]) -> Option<usize> {
    memchr::memchr_iter(b'\n', start)
        .map(|end| end + 1)
        .find(|place| marks::Marks::found(&start[*place..]).is_some())
}

/// Whether a layout says what the records of the first message of a file are, if it has one.
pub(crate) fn knows_first(input: Input, opened: &OpenedTrees) -> bool {
    let first = stream::first_message(input, opened.largest_record);
    let layouts = layout::Layouts::read(&opened.options.layouts);
    let (Some((segment, standard)), Ok(layouts)) = (first, layouts) else {
        return true;
    };
    layouts.of(standard, segment.kind(standard)).is_some()
}

/// Which of the two a file begins as.
pub(crate) fn begins(start: &[u8]) -> Option<Standard> {
    marks::Marks::found(start.trim_ascii_start()).map(|marks| marks.standard)
}
