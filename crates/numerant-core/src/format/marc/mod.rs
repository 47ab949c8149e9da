//! Bibliographic records: ISO 2709 with MARC 21 (`.mrc`), and MARCXML, the same in XML.
//!
//! A record becomes a tree whose columns are called as the trade does (`245$a`, `650[2]$a`, `LDR`). As long as
//! nothing is done to them, records move as they stand, or from one of the two forms to the other.

mod encode;
mod marc8;
mod notation;
mod read;
mod record;
mod xml;

pub(crate) use encode::{Form, MarcTableEncoder};
pub(crate) use notation::column_name;
pub(crate) use read::MarcTrees;
pub(crate) use xml::{MarcXmlTrees, is_marcxml};

/// What the formats are called.
pub(crate) const NAME: &str = "ISO 2709 (MARC 21)";
pub(crate) const XML_NAME: &str = "MARCXML";

/// The extensions of files with records of ISO 2709.
pub(super) const EXTENSIONS: &[&str] = &["mrc", "marc"];

/// Where the records of a document are.
pub(crate) const RECORDS: &str = "records";

/// Whether a file begins as a record of ISO 2709 does: with its length, and with the numbers that the leader
/// ends with.
pub(crate) fn begins(start: &[u8]) -> bool {
    let start = start.trim_ascii_start();
    let digits = |range: std::ops::Range<usize>| {
        start
            .get(range)
            .is_some_and(|part| part.iter().all(u8::is_ascii_digit))
    };
    digits(0..5)
        && digits(12..17)
        && digits(20..22)
        && start.get(24).is_some_and(u8::is_ascii_alphanumeric)
}
