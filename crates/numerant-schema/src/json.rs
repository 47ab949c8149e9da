//! JSON Schema, drafts 4 to 2020-12.

use std::io;
use std::path::Path;

use jsonschema::{Retrieve, Uri, Validator};
use serde_json::Value;

use super::pointer::offset_of;
use super::{MAX_VIOLATIONS, SchemaProblem, Violation};

/// A JSON Schema with all that it refers to.
#[derive(Debug)]
pub(crate) struct JsonSchema(Validator);

impl JsonSchema {
    pub(super) fn read(path: &Path, text: &[u8]) -> Result<Self, SchemaProblem> {
        let invalid = |error: String| SchemaProblem::Invalid(error);
        let schema: Value =
            serde_json::from_slice(text).map_err(|error| invalid(error.to_string()))?;
        let path = std::path::absolute(path)?;
        let base = format!("file://{}", path.to_string_lossy().replace(' ', "%20"));
        let options = jsonschema::options()
            .with_base_uri(base)
            .with_retriever(LocalFiles);
        let validator = options.build(&schema).map_err(|error| {
            let text = error.to_string();
            match text.split_once(NOT_FETCHED) {
                Some((_, location)) => {
                    let location = location.split('\'').next().unwrap_or_default();
                    SchemaProblem::Missing(location.to_owned())
                }
                None => invalid(text),
            }
        })?;
        Ok(Self(validator))
    }

    /// Adds what does not fit in a document, which begins on a line and at a byte of the output.
    pub(super) fn add_violations(
        &self,
        document: &[u8],
        line: u64,
        offset: u64,
        found: &mut Vec<Violation>,
    ) -> io::Result<()> {
        let value: Value = serde_json::from_slice(document)?;
        let room = MAX_VIOLATIONS.saturating_sub(found.len());
        for error in self.0.iter_errors(&value).take(room) {
            let path = error.instance_path().to_string();
            let at = offset_of(document, &path);
            let before = &document[..at];
            found.push(Violation {
                line: line + memchr::memchr_iter(b'\n', before).count() as u64,
                offset: Some(offset + at as u64),
                path: if path.is_empty() {
                    "/".to_owned()
                } else {
                    path
                },
                rule: error.schema_path().to_string(),
                what: error.to_string(),
            });
        }
        Ok(())
    }
}

/// What is before the location of a schema that is not read.
const NOT_FETCHED: &str = "not fetched: '";

/// Reads schemas from files, and none from elsewhere.
struct LocalFiles;

impl Retrieve for LocalFiles {
    fn retrieve(
        &self,
        uri: &Uri<String>,
    ) -> Result<Value, Box<dyn std::error::Error + Send + Sync>> {
        let location = uri.as_str();
        let refused = || format!("{NOT_FETCHED}{location}'");
        let path = location.strip_prefix("file://").ok_or_else(refused)?;
        let path = path.split('#').next().unwrap_or(path).replace("%20", " ");
        let text = std::fs::read(path).map_err(|_| refused())?;
        Ok(serde_json::from_slice(&text)?)
    }
}
