//! Detects how a text is written from its start: line ends, delimiter, quotes, and where its header is.

mod delimiter;
mod header;
mod line_end;
mod sample;

pub(super) use delimiter::{Detected, detect_delimiter};
pub(super) use header::{HeaderFacts, header_facts};
pub(super) use line_end::{detect_line_end, has_extra_returns};
pub(super) use sample::Sample;
