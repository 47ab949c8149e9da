//! Documents: JSON after RFC 8259, with concatenated values and a value a line, and XML 1.0.
//!
//! ```
//! use numerant_data::source::{Input, SourcePath};
//! use numerant_format::{Format, ReadOptions, Start};
//! use numerant_documents::json::JsonFormat;
//!
//! let text = br#"[{"quay": "North"}]"#;
//! let options = ReadOptions::default();
//! let input = Input::from_reader(SourcePath::Standard, Box::new(&text[..]), None)?;
//! let temporary = std::env::temp_dir();
//! let mut start = Start::new(input, &options, (None, None), 1 << 20, &temporary)?;
//! let source = JsonFormat.open(&mut start)?.expect("it is recognised");
//! assert_eq!(source.format_name(), "JSON");
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

mod blanks;
pub mod json;
mod namespace;
mod options;
pub mod xml;

pub use blanks::Blanks;
pub use namespace::{Namespace, NamespaceError};
pub use options::{DocumentOptions, XmlOptions};

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
