//! Checks outputs against schemas: XML Schema 1.0 and JSON Schema.
//!
//! Schemas are read from files; what they import or include is read from files next to them, and
//! nothing is ever fetched.
//!
//! ```
//! use numerant_schema::DocumentSchema;
//!
//! let folder = tempfile::tempdir()?;
//! let path = |name: &str| folder.path().join(name);
//! std::fs::write(path("calls.schema.json"), r#"{"items": {"required": ["quay"]}}"#)?;
//! std::fs::write(path("calls.json"), r#"[{"quay": "North"}, {"id": 2}]"#)?;
//! let schema = DocumentSchema::read(&path("calls.schema.json")).expect("a schema");
//! let violations = schema.violations(&path("calls.json"), false)?;
//! assert_eq!(violations.len(), 1);
//! # Ok::<(), std::io::Error>(())
//! ```

mod json;
mod pointer;
mod sample;
mod xml;

use std::fs::File;
use std::io::{self, BufRead, BufReader, Read};
use std::path::{Path, PathBuf};

pub use sample::{Sample, sample_of};

use json::JsonSchema;
use xml::XmlSchema;

use numerant_data::encoding::Transcoder;
use numerant_documents::xml::encoding_of;

/// Bytes in which an XML document declares its encoding.
const START: usize = 4096;

/// Violations of one output that are kept.
const MAX_VIOLATIONS: usize = 20;

/// A schema that cannot be used.
#[derive(Debug, thiserror::Error)]
#[error("{}: {problem}", .path.display())]
pub struct SchemaError {
    /// The file.
    pub path: PathBuf,
    /// What is wrong.
    #[source]
    pub problem: SchemaProblem,
}

/// What is wrong with a schema.
#[derive(Debug, thiserror::Error)]
pub enum SchemaProblem {
    /// It cannot be read.
    #[error("{0}")]
    Io(#[from] io::Error),
    /// It is no schema, or one that is wrong.
    #[error("this is not a valid schema: {0}")]
    Invalid(String),
    /// It names other files that cannot be read.
    #[error("the schema needs '{0}', which is not in its folder; nothing is fetched")]
    Missing(String),
    /// It is for another format than the outputs.
    #[error("this is a schema for {schema}, and the outputs are {wanted}")]
    OtherFormat {
        /// What it is for.
        schema: &'static str,
        /// The format of the outputs.
        wanted: &'static str,
    },
}

/// A place in an output that does not fit its schema.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Violation {
    /// The line of the output, from 1.
    pub line: u64,
    /// Where in the output, in bytes; `None` if it is not UTF-8, so that other bytes were checked.
    pub offset: Option<u64>,
    /// The element or value, as a path.
    pub path: String,
    /// The rule, as the standard or the schema calls it.
    pub rule: String,
    /// What is wrong.
    pub what: String,
}

/// A schema for documents.
#[derive(Debug)]
pub struct DocumentSchema(Schema);

/// A schema in one of the languages.
#[derive(Debug)]
enum Schema {
    Json(Box<JsonSchema>),
    Xml(Box<XmlSchema>),
}

impl DocumentSchema {
    /// Reads a schema with all that it imports.
    pub fn read(path: &Path) -> Result<Self, SchemaError> {
        let failed = |problem| SchemaError {
            path: path.to_owned(),
            problem,
        };
        let text = std::fs::read(path).map_err(|error| failed(error.into()))?;
        let text = text.strip_prefix(b"\xef\xbb\xbf").unwrap_or(&text);
        let schema = match text.trim_ascii_start().first() {
            Some(b'{') => JsonSchema::read(path, text).map(|schema| Schema::Json(Box::new(schema))),
            _ => XmlSchema::read(path).map(|schema| Schema::Xml(Box::new(schema))),
        };
        schema.map(Self).map_err(failed)
    }

    /// Whether it is for XML.
    pub fn is_xml(&self) -> bool {
        matches!(self.0, Schema::Xml(_))
    }

    /// What does not fit in an output, the first of it. `as_lines` says that each line is a document
    /// of its own.
    pub fn violations(&self, output: &Path, as_lines: bool) -> io::Result<Vec<Violation>> {
        let mut input = BufReader::with_capacity(1 << 17, File::open(output)?);
        match &self.0 {
            Schema::Xml(schema) => {
                let start = input.fill_buf()?;
                let encoding = encoding_of(&start[..start.len().min(START)]);
                if encoding.is_utf8() {
                    return schema.violations(input);
                }
                let mut found =
                    schema.violations(BufReader::new(Transcoder::new(input, encoding)))?;
                found
                    .iter_mut()
                    .for_each(|violation| violation.offset = None);
                Ok(found)
            }
            Schema::Json(schema) if as_lines => {
                let mut found = Vec::new();
                let (mut text, mut line, mut offset) = (Vec::new(), 1, 0);
                while found.len() < MAX_VIOLATIONS && input.read_until(b'\n', &mut text)? > 0 {
                    schema.add_violations(&text, line, offset, &mut found)?;
                    line += 1;
                    offset += text.len() as u64;
                    text.clear();
                }
                Ok(found)
            }
            Schema::Json(schema) => {
                let (mut text, mut found) = (Vec::new(), Vec::new());
                input.read_to_end(&mut text)?;
                schema.add_violations(&text, 1, 0, &mut found)?;
                Ok(found)
            }
        }
    }
}
