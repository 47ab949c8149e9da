//! Bibliographic records: ISO 2709 with MARC 21 (`.mrc`), and MARCXML, the same in XML.
//!
//! A record becomes a tree whose columns are named by the trade's addresses (`245$a`, `650[2]$a`, `LDR`). As long as
//! nothing is done to them, records are copied verbatim, or from one of the two forms to the other.
//!
//! ```
//! use numerant_data::source::{Input, SourcePath};
//! use numerant_format::{Format, ReadOptions, Start};
//! use numerant_records::MarcXmlFormat;
//!
//! let text = br#"<collection xmlns="http://www.loc.gov/MARC21/slim"><record/></collection>"#;
//! let options = ReadOptions::default();
//! let input = Input::from_reader(SourcePath::Standard, Box::new(&text[..]), None)?;
//! let temporary = std::env::temp_dir();
//! let mut start = Start::new(input, &options, (None, None), 1 << 20, &temporary)?;
//! let source = MarcXmlFormat.open(&mut start)?.expect("it is recognised");
//! assert_eq!(source.format_name(), "MARCXML");
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
#![deny(
    clippy::cast_possible_truncation,
    clippy::cast_possible_wrap,
    clippy::cast_sign_loss
)]

mod charset;
mod encode;
mod format;
mod iso5426;
mod marc8;
mod notation;
mod patch;
mod read;
mod record;
mod xml;
mod xml_write;

use numerant_data::source::{Input, ReadError};
use numerant_documents::xml as xml_format;
use numerant_format::TreeFacts;
use numerant_trees::{FoundRecords, OpenedTrees, TreeFormat, Trees};

pub use encode::{MarcTableEncoder, RecordSyntax};
pub use format::{MarcFormat, MarcXmlFormat};
pub(crate) use notation::is_address;
use numerant_data::tree::{Occurrences, address_name};
pub use read::MarcTrees;
pub use xml::is_marcxml;
pub(crate) use xml::{MarcXmlTrees, record_path};

/// What the formats are called.
pub const NAME: &str = "ISO 2709 (MARC 21)";
/// The name of the format of XML with such records.
pub const XML_NAME: &str = "MARCXML";

/// The extensions of files with records of ISO 2709.
pub const EXTENSIONS: &[&str] = &["mrc", "marc"];

/// Where the records of a document are.
pub(crate) const RECORDS: &str = "records";

/// Bytes of a leader.
const LEADER: usize = 24;

/// What ends the directory and each field.
const FIELD_TERMINATOR: u8 = 0x1e;

/// Records of ISO 2709.
#[derive(Debug)]
pub struct MarcTreeFormat;

impl TreeFormat for MarcTreeFormat {
    fn name(&self, _facts: &TreeFacts) -> &'static str {
        NAME
    }

    fn column_name(&self, path: &str) -> String {
        address_name(path)
    }

    fn is_address(&self, name: &str) -> bool {
        is_address(name)
    }

    fn occurrences(&self) -> Option<Occurrences> {
        Some(Occurrences::new(field_end))
    }

    fn find(&self, opened: &mut OpenedTrees, _sample: u64) -> Result<FoundRecords, ReadError> {
        Ok(FoundRecords::at(TreeFacts {
            records: RECORDS.to_owned(),
            found: true,
            ..opened.facts.clone()
        }))
    }

    fn trees(&self, input: Input, opened: &OpenedTrees) -> Result<Box<dyn Trees>, ReadError> {
        Ok(Box::new(MarcTrees::new(input, opened)))
    }
}

/// Records of MARCXML.
#[derive(Debug)]
pub struct MarcXmlTreeFormat;

impl TreeFormat for MarcXmlTreeFormat {
    fn name(&self, _facts: &TreeFacts) -> &'static str {
        XML_NAME
    }

    fn column_name(&self, path: &str) -> String {
        address_name(path)
    }

    fn is_address(&self, name: &str) -> bool {
        is_address(name)
    }

    fn occurrences(&self) -> Option<Occurrences> {
        Some(Occurrences::new(field_end))
    }

    fn find(&self, opened: &mut OpenedTrees, sample: u64) -> Result<FoundRecords, ReadError> {
        opened.options.no_prefixes = true;
        let survey = xml_format::survey(opened.input()?, opened, sample)?;
        opened.options.records = Some(record_path(&survey));
        let found = xml_format::find_records(opened.input()?, opened, sample)?;
        Ok(FoundRecords::at(found.facts))
    }

    fn trees(&self, input: Input, opened: &OpenedTrees) -> Result<Box<dyn Trees>, ReadError> {
        Ok(Box::new(MarcXmlTrees::new(input, opened)?))
    }
}

/// Where the directory of the first record ends, if a file begins with a leader of ISO 2709: with the
/// length of the record, those of indicators and codes, the base address and the entry map.
pub fn directory_end(start: &[u8]) -> Option<usize> {
    let blanks = start.len() - start.trim_ascii_start().len();
    let leader = start.get(blanks..blanks + LEADER)?;
    let number = |range: std::ops::Range<usize>| -> Option<usize> {
        let digits = std::str::from_utf8(&leader[range]).ok()?;
        let are_digits = digits.bytes().all(|byte| byte.is_ascii_digit());
        digits.parse().ok().filter(|_| are_digits)
    };
    let (length, base) = (number(0..5)?, number(12..17)?);
    number(10..12)?;
    number(20..22)?;
    (base > LEADER && base < length).then_some(blanks + base)
}

/// Whether a file begins as a record of ISO 2709 does: with a leader, and a directory that ends where
/// that says. `start` reaches to [`directory_end`], or to the end of the file.
pub fn begins(start: &[u8]) -> bool {
    let behind = directory_end(start).and_then(|end| start.get(end - 1));
    behind == Some(&FIELD_TERMINATOR)
}

/// Where the name of the field ends in the name of a value: `650` in `650$a` and `650#1`.
fn field_end(name: &str) -> usize {
    name.find(['$', '#']).unwrap_or(name.len())
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn lists_of_numbers_are_no_records() {
        let record = b"00042nam a2200037 a 4500001000500000\x1e0001\x1e\x1d";
        assert!(begins(record));
        assert!(!begins(&record[..30]), "cut off within its directory");
        for text in [
            &b"02134\n02135\n02136\n02137\n02138\n"[..],
            b"00042nam a2200037 a 4500,1,2,3,4,5,6,7,8,9\n",
            b"12345678901234567890123456789012345678901234",
            b"",
        ] {
            assert!(!begins(text));
        }
    }

    #[test]
    fn occurrences_are_of_a_field_or_of_a_value() {
        let names = Occurrences::new(super::field_end);
        for (column, value, group, of_group, of_value) in [
            ("650$a", "650$a", "650", vec![], vec![]),
            ("650[2]$a", "650$a", "650", vec![2], vec![]),
            ("650[2]$a[3]", "650$a", "650", vec![2], vec![3]),
            ("650$a[3]", "650$a", "650", vec![], vec![3]),
            ("650[2]#1", "650#1", "650", vec![2], vec![]),
            ("020", "020", "020", vec![], vec![]),
            ("020[2]", "020", "020", vec![2], vec![]),
            ("a[", "a[", "a[", vec![], vec![]),
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
