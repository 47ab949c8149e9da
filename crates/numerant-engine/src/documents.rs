//! The last part of a run whose outputs begin with what is known last: they are made of what was kept
//! of their records.

use std::collections::HashMap;
use std::fs::File;
use std::io::{BufReader, BufWriter, Write};
use std::path::{Path, PathBuf};

use super::consume::Consumer;
use super::keep::Keep;
use super::plan::{OutputScope, RunPlan};
use super::produce::Produced;
use super::{Context, Error};
use crate::ledger::FileDigest;
use crate::output::OutputError;
use numerant_data::disk::OutFile;
use numerant_data::source::SourcePath;
use numerant_format::{DeferredWriteError, Placed};
use numerant_naming::OutputFacts;

/// Bytes that are read and written at a time.
const PIECE: usize = 1 << 17;

/// An output on the stage.
pub(super) struct WrittenDocument {
    pub(super) staged: PathBuf,
    pub(super) bytes: u64,
    pub(super) digest: Option<String>,
    /// Where the records are in it.
    pub(super) placed: Placed,
}

/// Makes those outputs that could not be made record by record, by their numbers.
pub(super) fn write(
    plan: &RunPlan,
    consumer: &Consumer<'_>,
    produced: &Produced,
    keep: Keep<'_>,
    context: &Context,
) -> Result<HashMap<usize, WrittenDocument>, Error> {
    let mut written = HashMap::new();
    for (output, path) in produced.paths.iter().enumerate() {
        let (Some(path), Some((encoder, source))) = (path, consumer.encoder(output)) else {
            continue;
        };
        let Some(late) = encoder.late() else { continue };
        context.check_cancelled()?;
        let failed = |cause: std::io::Error| {
            Error::from(OutputError::new("writing", Path::new(path), cause))
        };
        let kept = consumer.path(output);
        let staged = keep.stage.dir().join(format!("late-{output}"));
        let mut input = BufReader::with_capacity(PIECE, File::open(&kept).map_err(failed)?);
        let file = keep.stage.disk().create(&staged).map_err(failed)?;
        let mut out = Counted::new(BufWriter::with_capacity(PIECE, file), keep.digest);
        let facts = facts(plan, source, produced.records[output], context);
        let placed = late
            .write(&facts, &mut input, &mut out)
            .map_err(|error| match error {
                DeferredWriteError::Io(cause) => failed(cause),
                DeferredWriteError::TooLarge => failed(std::io::Error::other(error.to_string())),
                DeferredWriteError::Encode(problem) => Error::Encode {
                    path: path.clone(),
                    source_name: source.to_string(),
                    problem: Box::new(problem),
                },
            })?;
        // The stage is removed as a whole later.
        let _ = keep.stage.disk().remove(&kept);
        let mut document = out.into_written(staged, keep.sync).map_err(failed)?;
        document.placed = placed;
        written.insert(output, document);
    }
    Ok(written)
}

fn facts(plan: &RunPlan, source: &SourcePath, rows: u64, context: &Context) -> OutputFacts {
    let sources = match plan.scope {
        OutputScope::OneSource => std::slice::from_ref(source),
        OutputScope::AllSources => &plan.job.sources,
    };
    let file = |source: &SourcePath| match source {
        SourcePath::Standard => source.to_string(),
        file => file.file_name(),
    };
    let names: Vec<String> = sources.iter().map(file).collect();
    let stems: Vec<String> = sources.iter().map(SourcePath::stem).collect();
    OutputFacts {
        rows,
        source: names.join(", "),
        stem: stems.join(", "),
        now: context.now,
    }
}

/// Counts and digests what is written.
pub(super) struct Counted {
    inner: BufWriter<OutFile>,
    bytes: u64,
    digest: Option<FileDigest>,
}

impl Counted {
    pub(super) fn new(inner: BufWriter<OutFile>, digest: bool) -> Self {
        Self {
            inner,
            bytes: 0,
            digest: digest.then(FileDigest::default),
        }
    }

    /// Closes the file; what was written, at `staged`.
    pub(super) fn into_written(
        self,
        staged: PathBuf,
        sync: bool,
    ) -> std::io::Result<WrittenDocument> {
        let file = self
            .inner
            .into_inner()
            .map_err(std::io::IntoInnerError::into_error)?;
        file.finish(sync)?;
        Ok(WrittenDocument {
            staged,
            bytes: self.bytes,
            digest: self.digest.map(FileDigest::finish),
            placed: Placed::Unknown,
        })
    }
}

impl Write for Counted {
    fn write(&mut self, bytes: &[u8]) -> std::io::Result<usize> {
        self.write_all(bytes)?;
        Ok(bytes.len())
    }

    fn write_all(&mut self, bytes: &[u8]) -> std::io::Result<()> {
        self.inner.write_all(bytes)?;
        self.bytes += bytes.len() as u64;
        if let Some(digest) = &mut self.digest {
            digest.update(bytes);
        }
        Ok(())
    }

    fn flush(&mut self) -> std::io::Result<()> {
        self.inner.flush()
    }
}
