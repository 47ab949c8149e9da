//! Documents: JSON and XML.

pub mod json;
pub mod xml;

use numerant_data::source::ReadError;
use numerant_format::{Source, Start};

/// Opens what is said to be a document of XML, under another name of its format.
///
/// # Errors
///
/// If it does not begin like one.
pub fn open_named_xml(
    start: &mut Start<'_>,
    format: &'static str,
) -> Result<Box<dyn Source>, ReadError> {
    if start.text().trim_ascii().is_empty() {
        return Err(start.error(numerant_data::source::ReadProblem::Empty));
    }
    json::open_broken(start, format, &xml::XmlTreeFormat)
}
