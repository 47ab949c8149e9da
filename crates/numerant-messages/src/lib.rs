//! Message batches in envelopes: X12, and UN/EDIFACT (ISO 9735).
//!
//! A record is what a layout says of a kind of message, or a whole message. Segments stay byte for byte; what is
//! written are complete messages again, with the envelope, head and tail that they had, and counts that fit.
//!
//! ```
//! use numerant_data::source::{Input, SourcePath};
//! use numerant_format::{Format, ReadOptions, Start};
//! use numerant_messages::EdifactFormat;
//!
//! let text = b"UNA:+.? '\nUNB+UNOC:3+VARNHOLM+AGENT+260305:1420+1'UNZ+0+1'";
//! let options = ReadOptions::default();
//! let input = Input::from_reader(SourcePath::Standard, Box::new(&text[..]), None)?;
//! let temporary = std::env::temp_dir();
//! let mut start = Start::new(input, &options, (None, None), 1 << 20, &temporary)?;
//! let source = EdifactFormat.open(&mut start)?.expect("it is recognised");
//! assert_eq!(source.format_name(), "UN/EDIFACT");
//! # Ok::<(), numerant_data::source::ReadError>(())
//! ```

#![cfg_attr(
    not(test),
    warn(
        clippy::cast_possible_truncation,
        clippy::cast_possible_wrap,
        clippy::cast_sign_loss
    )
)]

mod format;
mod frame;
mod layout;
mod marks;
mod names;
mod options;
mod read;
mod roles;
mod segments;
mod slots;
mod stream;
mod write;

use numerant_data::source::{Input, ReadError, ReadProblem};
use numerant_data::tree::{ListLayout, Occurrences, address_name};
use numerant_format::TreeFacts;
use numerant_trees::{FoundRecords, OpenedTrees, TreeFormat, Trees};

pub use format::{EdifactFormat, X12Format};
pub(crate) use layout::is_address;
pub use marks::Standard;
pub(crate) use read::EdiTrees;

/// The extensions of files with messages.
pub const X12_EXTENSIONS: &[&str] = &["x12", "edi"];
/// The extensions of files with UN/EDIFACT.
pub const EDIFACT_EXTENSIONS: &[&str] = &["edifact"];

/// Where the records are, by layouts or as whole messages.
pub(crate) const BY_LAYOUT: &str = "by layout";
pub(crate) const MESSAGES: &str = "messages";

/// How many bytes of other text are in front of an interchange, where a line of its own begins one.
pub fn begins_behind(start: &[u8]) -> Option<usize> {
    memchr::memchr_iter(b'\n', start)
        .map(|end| end + 1)
        .find(|place| marks::Marks::found(&start[*place..]).is_some())
}

/// Whether a layout says what the records of the first message of a file are, if it has one.
pub(crate) fn knows_first(input: Input, opened: &OpenedTrees) -> bool {
    let first = stream::first_message(input, opened.largest_record);
    let layouts = layout::Layouts::read(&opened.options.context.layouts);
    let (Some((segment, standard)), Ok(layouts)) = (first, layouts) else {
        return true;
    };
    layouts.of(standard, segment.kind(standard)).is_some()
}

/// Which of the two a file begins as.
pub fn begins(start: &[u8]) -> Option<Standard> {
    marks::Marks::found(start.trim_ascii_start()).map(|marks| marks.standard)
}

/// Items of a whole message that are columns at most, if nothing else is said.
const ITEMS: usize = 1 << 20;

/// Messages in envelopes of one of the standards.
#[derive(Debug)]
pub struct EdiTreeFormat(Standard);

impl EdiTreeFormat {
    /// The format of a standard.
    pub fn of(standard: Standard) -> &'static Self {
        match standard {
            Standard::X12 => &Self(Standard::X12),
            Standard::Edifact => &Self(Standard::Edifact),
        }
    }
}

impl TreeFormat for EdiTreeFormat {
    fn name(&self, _facts: &TreeFacts) -> &'static str {
        self.0.name()
    }

    fn column_name(&self, path: &str) -> String {
        address_name(path)
    }

    fn whole_record(&self) -> &'static str {
        "record without the total of its message"
    }

    fn is_address(&self, name: &str) -> bool {
        is_address(name)
    }

    fn occurrences(&self) -> Option<Occurrences> {
        Some(Occurrences::new(segment_end))
    }

    // What stands around the records is read again, from wherever it is.
    fn is_sought(&self) -> bool {
        true
    }

    fn find(&self, opened: &mut OpenedTrees, _sample: u64) -> Result<FoundRecords, ReadError> {
        let records = match opened.options.records.as_deref() {
            Some(MESSAGES) => MESSAGES,
            // Where that is no error, what is not known is looked at as it is.
            None if !opened.options.context.by_layout && !knows_first(opened.input()?, opened) => {
                MESSAGES
            }
            None | Some(BY_LAYOUT) => BY_LAYOUT,
            Some(other) => {
                let what =
                    "records of messages are defined by a layout, or by 'messages'".to_owned();
                let path = other.to_owned();
                return Err(opened.path.error(ReadProblem::RecordsPath { path, what }));
            }
        };
        Ok(FoundRecords::at(TreeFacts {
            records: records.to_owned(),
            found: opened.options.records.is_none(),
            ..opened.facts.clone()
        }))
    }

    fn lists(&self, facts: &TreeFacts) -> ListLayout {
        if facts.records == MESSAGES {
            // Items of whole messages are many, and few jobs name more than what is around them.
            ListLayout::Columns(ITEMS)
        } else {
            ListLayout::default()
        }
    }

    fn trees(&self, input: Input, opened: &OpenedTrees) -> Result<Box<dyn Trees>, ReadError> {
        Ok(Box::new(EdiTrees::new(input, opened, opened.file()?)?))
    }
}

/// Where the name of the segment ends in the name of an element: `CAS[CO]` in `CAS[CO]02-1`. The number
/// of an element has two digits.
fn segment_end(name: &str) -> usize {
    let element = name.split('-').next().unwrap_or(name);
    element.len().saturating_sub(2)
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn occurrences_are_of_a_segment_or_of_an_element() {
        let names = Occurrences::new(segment_end);
        for (column, value, group, of_group, of_value) in [
            ("SVC02", "SVC02", "SVC", vec![], vec![]),
            ("SVC[2]02", "SVC02", "SVC", vec![2], vec![]),
            ("CAS[CO][2]02", "CAS[CO]02", "CAS[CO]", vec![2], vec![]),
            ("SVC[2]01-1", "SVC01-1", "SVC", vec![2], vec![]),
            ("SVC[2]01[3]", "SVC01", "SVC", vec![2], vec![3]),
            ("a[", "a[", "", vec![], vec![]),
        ] {
            let found = names.of(column);
            assert_eq!((&*found.value, &*found.group), (value, group), "{column}");
            assert_eq!(
                (found.of_group, found.of_value),
                (of_group, of_value),
                "{column}"
            );
        }
    }
}
