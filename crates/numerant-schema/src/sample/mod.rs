//! Sample shapes: what a document has to look like to fit a schema, with places for columns.

mod components;
mod json;
mod xml;

use std::ffi::OsStr;
use std::fs::File;
use std::io::Read;
use std::path::Path;

use super::{SchemaError, SchemaProblem};

/// Levels that a sample is nested.
const MAX_DEPTH: usize = 40;

/// Parts of a sample, as types may be in each other in many ways.
const MAX_PARTS: usize = 10_000;

/// Bytes in which a schema states what it is.
const START: u64 = 1 << 13;

/// Bytes of a schema.
const MAX_SCHEMA: u64 = 1 << 24;

/// The namespace of XML Schema.
const XSD: &str = "http://www.w3.org/2001/XMLSchema";

/// A sample shape.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Sample {
    /// The shape.
    pub text: String,
    /// What cannot are in it: the values of enumerations, and alternatives, by their paths.
    pub notes: Vec<String>,
}

/// The sample shape of a file, if that is a schema.
///
/// # Errors
///
/// If it is a schema that cannot be read, or needs others that cannot be.
pub fn sample_of(path: &Path) -> Result<Option<Sample>, SchemaError> {
    let is_file = path.is_file();
    let extension = path.extension().map(OsStr::to_ascii_lowercase);
    let is_named = extension.is_some_and(|found| found == "xsd" || found == "json");
    if !is_file || !is_named {
        return Ok(None);
    }
    let failed = |problem: SchemaProblem| SchemaError {
        path: path.to_owned(),
        problem,
    };
    let mut bytes = Vec::new();
    let read = |bytes: &mut Vec<u8>| -> std::io::Result<()> {
        let mut file = File::open(path)?;
        (&mut file).take(START).read_to_end(bytes)?;
        let names = |word: &str| memchr::memmem::find(bytes, word.as_bytes()).is_some();
        // What is large is rather data.
        if names("json-schema.org") || names(XSD) {
            file.take(MAX_SCHEMA).read_to_end(bytes)?;
        }
        Ok(())
    };
    read(&mut bytes).map_err(|error| failed(error.into()))?;
    let Ok(text) = std::str::from_utf8(&bytes) else {
        return Ok(None);
    };
    let text = text.strip_prefix('\u{feff}').unwrap_or(text);
    let sample = match text.trim_start().chars().next() {
        Some('<') => xml::sample(path, text),
        Some('{') => json::sample(path, text),
        _ => Ok(None),
    };
    sample.map_err(failed)
}

/// A path of names, as a place in a shape.
fn place(path: &[String]) -> String {
    let name = path.join(".");
    let is_plain = !name.contains(['{', '}', ':', '"', ',']);
    if is_plain {
        format!("{{{name}}}")
    } else {
        format!("{{\"{}\"}}", name.replace('"', "\"\""))
    }
}
