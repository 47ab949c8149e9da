//! Results as JSON, one document a command. `docs/json.md` describes them.

use std::io::{self, Write};

use numerant_engine::{BatchFile, BatchSummary, Error, FileDisposition, Summary};
use serde_json::{Value, json};

use super::notice;
use super::screen::is_unsafe;
use crate::failure::Failure;

/// Prints a document on standard output. What would do something to a terminal is escaped, which is the same text
/// to whoever reads it.
pub(super) fn print(document: &Value) -> io::Result<()> {
    write(io::BufWriter::new(io::stdout().lock()), document)
}

/// Writes a document, escaped as [`print()`] does.
pub(super) fn write(out: impl Write, document: &Value) -> io::Result<()> {
    let mut out = Escaping(out);
    serde_json::to_writer_pretty(&mut out, document)?;
    writeln!(out)?;
    out.flush()
}

/// A document with the files that could not be read, if there are some.
pub(super) fn with_failed(mut document: Value, failed: &[Error]) -> Value {
    let entry = |error: &Error| {
        json!({
            "why": error.to_string(),
            "hint": crate::hint::of_error(error),
            "details": error.details(usize::MAX).0,
        })
    };
    if !failed.is_empty() {
        document["failed"] = failed.iter().map(entry).collect();
    }
    document
}

/// Escapes in JSON what would do something to a terminal: all of that is within strings.
struct Escaping<W>(W);

impl<W: Write> Write for Escaping<W> {
    fn write(&mut self, bytes: &[u8]) -> io::Result<usize> {
        self.write_all(bytes)?;
        Ok(bytes.len())
    }

    fn write_all(&mut self, bytes: &[u8]) -> io::Result<()> {
        let is_special = |character: char| is_unsafe(character) && character != '\n';
        // What is written is cut between characters.
        let text = String::from_utf8_lossy(bytes);
        let mut rest = text.as_ref();
        while let Some(place) = rest.find(is_special) {
            self.0.write_all(&rest.as_bytes()[..place])?;
            let character = rest[place..].chars().next().unwrap_or_default();
            for unit in character.encode_utf16(&mut [0; 2]) {
                write!(self.0, "\\u{unit:04x}")?;
            }
            rest = &rest[place + character.len_utf8()..];
        }
        self.0.write_all(rest.as_bytes())
    }

    fn flush(&mut self) -> io::Result<()> {
        self.0.flush()
    }
}

/// What came of a run, or would come of it.
pub(super) fn summary(summary: &Summary, planned: bool) -> Value {
    let notices: Vec<String> = summary.notices.iter().map(notice::text).collect();
    json!({
        "planned": planned,
        "out": summary.out.to_string_lossy(),
        "ledger": summary.ledger,
        "notices": notices,
    })
}

/// What became, or would become, of the files of a batch.
pub(super) fn batch(batch: &BatchSummary, planned: bool) -> Value {
    let files: Vec<Value> = batch.files.iter().map(file).collect();
    let mut document = summary(&batch.summary, planned);
    document["files"] = files.into();
    document
}

fn file(file: &BatchFile) -> Value {
    let source = &file.source;
    match &file.disposition {
        FileDisposition::Done {
            records,
            bytes,
            outputs,
        } => json!({
            "source": source,
            "disposition": "done",
            "records": records,
            "bytes": bytes,
            "outputs": outputs,
        }),
        FileDisposition::Skipped(reason) => {
            json!({ "source": source, "disposition": "skipped", "why": super::batch::skipped(reason) })
        }
        FileDisposition::Failed(error) => json!({
            "source": source,
            "disposition": "failed",
            "why": error.to_string(),
            "hint": crate::hint::of_error(error),
            "details": error.details(usize::MAX).0,
        }),
        FileDisposition::NotReached => json!({ "source": source, "disposition": "not-reached" }),
    }
}

/// Why a command failed; lists are whole as far as the engine keeps them.
pub(super) fn failure(failure: &Failure, message: &str, hint: Option<&str>) -> Value {
    let (details, left) = match failure {
        Failure::Engine(error) => error.details(usize::MAX),
        _ => (Vec::new(), 0),
    };
    json!({
        "error": { "message": message, "hint": hint, "details": details, "details-left-out": left }
    })
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn what_is_escaped_is_the_same_text() {
        let document = json!({ "quay\u{9b}[31m": "\u{202e}North\u{e0041}\u{1b}\n" });
        let mut out = Escaping(Vec::new());
        serde_json::to_writer_pretty(&mut out, &document).expect("written");
        let escaped = String::from_utf8(out.0).expect("text");
        assert!(
            !escaped.chars().any(|sign| is_unsafe(sign) && sign != '\n'),
            "{escaped}"
        );
        let read: Value = serde_json::from_str(&escaped).expect("JSON");
        assert_eq!(read, document);
    }
}
