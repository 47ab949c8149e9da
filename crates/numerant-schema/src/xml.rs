//! XML Schema 1.0 (W3C, XML Schema Part 1 and 2).

use std::cell::Cell;
use std::fmt;
use std::io::{self, BufRead, Read};
use std::path::Path;
use std::rc::Rc;

use xsd_schema::parser::FileSystemLoader;
use xsd_schema::validation::{
    DriveError, SchemaValidator, ValidationError, ValidationFlags, ValidationSink,
    ValidationWarning, drive_quick_xml,
};
use xsd_schema::{SchemaSet, SchemaSetBuilder};

use super::{MAX_VIOLATIONS, SchemaProblem, Violation};

/// An XML Schema with all that it imports.
pub(crate) struct XmlSchema(SchemaSet);

impl fmt::Debug for XmlSchema {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.debug_struct("XmlSchema").finish_non_exhaustive()
    }
}

impl XmlSchema {
    pub(super) fn read(path: &Path) -> Result<Self, SchemaProblem> {
        let shown = path.display().to_string();
        let path = std::path::absolute(path)?;
        let builder = SchemaSetBuilder::with_loader(Box::new(FileSystemLoader::default()));
        let location = path.to_string_lossy();
        let invalid = |error: xsd_schema::SchemaError| {
            SchemaProblem::Invalid(error.to_string().replace(location.as_ref(), &shown))
        };
        let builder = builder.add("", &location).map_err(invalid)?;
        let compiled = builder.compile();
        let failures = match &compiled {
            Ok(compiled) => compiled.directive_failures(),
            Err(_) => &[],
        };
        let missing = failures
            .iter()
            .find(|failure| !failure.namespace_supplied());
        if let Some(location) = missing.and_then(|failure| failure.schema_location()) {
            return Err(SchemaProblem::Missing(location.to_owned()));
        }
        Ok(Self(compiled.map_err(invalid)?.into_schema_set()))
    }

    pub(super) fn violations(&self, input: impl BufRead) -> io::Result<Vec<Violation>> {
        let at = Rc::new(Cell::new(Position { line: 1, offset: 0 }));
        let counted = Counted {
            inner: input,
            at: Rc::clone(&at),
        };
        let mut found = Vec::new();
        let sink = Sink {
            at: &at,
            found: &mut found,
        };
        let flags = ValidationFlags::default()
            & !(ValidationFlags::BUILD_PSVI_TYPED_VALUES | ValidationFlags::REPORT_WARNINGS);
        let validator = SchemaValidator::new(&self.0, flags);
        let mut runtime = validator.start_run(sink);
        let outcome = drive_quick_xml(counted, &mut runtime, &self.0);
        drop(runtime);
        match outcome {
            Ok(_) | Err(DriveError::Validation(_)) => Ok(found),
            Err(DriveError::Io(error)) => Err(error),
            Err(error) => Err(io::Error::other(error.to_string())),
        }
    }
}

/// How far a document is read.
#[derive(Clone, Copy)]
struct Position {
    line: u64,
    offset: u64,
}

/// Counts what is taken of a reader.
struct Counted<R> {
    inner: R,
    at: Rc<Cell<Position>>,
}

impl<R: BufRead> Counted<R> {
    fn count(&self, bytes: &[u8]) {
        let Position { line, offset } = self.at.get();
        self.at.set(Position {
            line: line + memchr::memchr_iter(b'\n', bytes).count() as u64,
            offset: offset + bytes.len() as u64,
        });
    }
}

impl<R: BufRead> Read for Counted<R> {
    fn read(&mut self, buffer: &mut [u8]) -> io::Result<usize> {
        let read = self.inner.read(buffer)?;
        self.count(&buffer[..read]);
        Ok(read)
    }
}

impl<R: BufRead> BufRead for Counted<R> {
    fn fill_buf(&mut self) -> io::Result<&[u8]> {
        self.inner.fill_buf()
    }

    fn consume(&mut self, count: usize) {
        // What is consumed is in the buffer, so that nothing is read here.
        if let Ok(bytes) = self.inner.fill_buf() {
            let taken = bytes.get(..count).unwrap_or(bytes);
            let Position { line, offset } = self.at.get();
            self.at.set(Position {
                line: line + memchr::memchr_iter(b'\n', taken).count() as u64,
                offset: offset + count as u64,
            });
        }
        self.inner.consume(count);
    }
}

/// Takes violations, with where they were found.
struct Sink<'a> {
    at: &'a Cell<Position>,
    found: &'a mut Vec<Violation>,
}

impl ValidationSink for Sink<'_> {
    fn on_error(&mut self, error: ValidationError) {
        if self.found.len() >= MAX_VIOLATIONS {
            return;
        }
        let Position { line, offset } = self.at.get();
        let path = error.instance_path().map(ToString::to_string);
        self.found.push(Violation {
            line,
            // It was found where a tag ends.
            offset: Some(offset.saturating_sub(1)),
            path: plain_path(&path.unwrap_or_default()),
            rule: error.constraint.to_owned(),
            what: error.message,
        });
    }

    fn on_warning(&mut self, _warning: ValidationWarning) {}
}

/// A path with the names alone: `/calls[1]/call[2]` of `/Q{urn:port}calls[1]/Q{urn:port}call[2]`.
fn plain_path(path: &str) -> String {
    let mut plain = String::new();
    let mut rest = path;
    while let Some(at) = rest.find("Q{") {
        plain.push_str(&rest[..at]);
        let behind = &rest[at + 2..];
        rest = behind.find('}').map_or("", |end| &behind[end + 1..]);
    }
    plain.push_str(rest);
    plain
}
