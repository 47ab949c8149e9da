//! Results as JSON, one document a command. `docs/json.md` describes them.

use std::io::{self, Write};

use numerant_core::engine::{BatchFile, BatchSummary, FileFate, Summary};
use serde_json::{Value, json};

use super::notice;
use crate::commands::Failure;

/// Prints a document on standard output.
pub(super) fn print(document: &Value) -> io::Result<()> {
    let mut out = io::stdout().lock();
    serde_json::to_writer_pretty(&mut out, document)?;
    writeln!(out)?;
    out.flush()
}

/// What came of a run, or would come of it.
pub(super) fn summary(summary: &Summary, planned: bool) -> Value {
    let notices: Vec<String> = summary.notices.iter().map(notice::text).collect();
    json!({
        "planned": planned,
        "out": summary.out,
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
    match &file.fate {
        FileFate::Done {
            records,
            bytes,
            outputs,
        } => json!({
            "source": source,
            "fate": "done",
            "records": records,
            "bytes": bytes,
            "outputs": outputs,
        }),
        FileFate::Skipped(reason) => {
            json!({ "source": source, "fate": "skipped", "why": super::batch::skipped(reason) })
        }
        FileFate::Failed(error) => json!({
            "source": source,
            "fate": "failed",
            "why": error.to_string(),
            "hint": error.hint(),
            "details": error.details(usize::MAX).0,
        }),
        FileFate::NotReached => json!({ "source": source, "fate": "not-reached" }),
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
