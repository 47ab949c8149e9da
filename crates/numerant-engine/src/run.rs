//! A run from the first record to the last, once.

use std::collections::{HashMap, HashSet};
use std::path::Path;
use std::sync::Arc;
use std::sync::mpsc::{self, RecvTimeoutError};
use std::thread;
use std::time::Duration;

use super::consume::Consumer;
use super::earlier::{Earlier, others};
use super::produce::{Message, Produced, Producer, Routed};
use super::{
    Context, Error, FILES_KEPT_FREE, Notice, STACK, Summary, compress, conformity, documents,
    workbooks,
};
use crate::job::{Job, JobError};
use crate::ledger::{Ledger, OutputEntry, TypedColumn};
use crate::output::{Beside, Changes, Destination, ExistingPolicy, OutputError, SideFile, Stage};
use numerant_data::record::Batch;
use numerant_data::source::{Identity, SourcePath};
use numerant_data::value::DecimalMark;
use numerant_format::{DocumentLanguage, SegmentsWritten};
use numerant_schema::{DocumentSchema, SchemaError, SchemaProblem};

/// Batches that go round between the two halves of a run.
const BATCHES: usize = 4;

/// What a run shares with others of its batch.
#[derive(Clone, Copy, Default)]
pub(super) struct Shared<'a> {
    /// Where its outputs are written first.
    pub(super) stage: Option<&'a Stage>,
    /// The sources of all of them, none of which may be written to.
    pub(super) protected: Option<&'a Arc<HashMap<Identity, SourcePath>>>,
    /// A ledger of all of them is kept.
    pub(super) digest: bool,
}

/// Does what is built on what the start of a source tells, and does it anew where a record further
/// down belies that, after a look at all of it.
pub(super) fn foreseen(work: impl Fn(bool) -> Result<Summary, Error>) -> Result<Summary, Error> {
    match work(false) {
        Err(error) if error.is_unforeseen() => work(true),
        result => result,
    }
}

/// Shows which outputs a job would write.
pub(super) fn plan_once(
    job: &Job,
    context: &Context,
    thorough: bool,
    shared: &Shared<'_>,
) -> Result<Summary, Error> {
    let mut producer = Producer::open(job, context, thorough, shared)?;
    let (order, slots): (Vec<String>, Vec<usize>) = producer.order_columns().into_iter().unzip();
    let mut planned: Vec<Planned> = Vec::new();
    let mut touched: Vec<u32> = Vec::new();
    producer.run(&mut |message| {
        let Message::Records(routed) = message else {
            return Ok(None);
        };
        planned.resize_with(routed.outputs_so_far, Planned::default);
        for (record, output) in routed.outputs.iter().enumerate() {
            let Some(planned) = planned.get_mut(*output as usize) else {
                continue;
            };
            planned.records += 1;
            if planned.first.is_none() {
                planned.first = Some(order_values(&routed.batch, record, &slots));
            }
            if planned.latest.is_none() {
                touched.push(*output);
            }
            planned.latest = Some(record);
        }
        for output in touched.drain(..) {
            let planned = &mut planned[output as usize];
            if let Some(record) = planned.latest.take() {
                planned.last = Some(order_values(&routed.batch, record, &slots));
            }
        }
        Ok(Some(routed))
    })?;
    let mut records: Vec<u64> = planned.iter().map(|planned| planned.records).collect();
    let mut produced = producer.finish(&mut records)?;
    let mut outputs = Vec::new();
    for (output, path) in produced.paths.iter().enumerate() {
        let Some(path) = path else { continue };
        let planned = planned.get_mut(output).map(std::mem::take);
        let planned = planned.unwrap_or_default();
        outputs.push(OutputEntry {
            path: path.clone(),
            sheet: produced.sheets.get(output).cloned(),
            records: records[output],
            sums: std::mem::take(&mut produced.sums[output]),
            first: planned.first,
            last: planned.last,
            ..OutputEntry::default()
        });
    }
    let written: HashSet<&str> = outputs.iter().map(|output| output.path.as_str()).collect();
    let leftovers = leftovers(job, &produced, &written, true)?;
    produced.notices.extend(leftovers.notices);
    let mut summary = summary(produced, outputs, Vec::new(), None)?;
    summary.order = order;
    Ok(summary)
}

/// What a plan knows of an output.
#[derive(Debug, Default)]
struct Planned {
    records: u64,
    first: Option<String>,
    last: Option<String>,
    /// Its latest record in the batch that is being looked at.
    latest: Option<usize>,
}

/// The values of a record that show where it is in the order of its source.
fn order_values(batch: &Batch, record: usize, slots: &[usize]) -> String {
    let values: Vec<String> = slots
        .iter()
        .map(|slot| String::from_utf8_lossy(&batch.field(record, *slot).text()).into_owned())
        .collect();
    values.join(" / ")
}

/// Reads the sources of a job, writes its outputs, and closes the books.
pub(super) fn run_once(
    job: &Job,
    context: &Context,
    thorough: bool,
    shared: &Shared<'_>,
) -> Result<Summary, Error> {
    let schema = schema_of(job)?;
    let producer = Producer::open(job, context, thorough, shared)?;
    let out = producer.out().to_owned();
    let own_stage;
    let stage = match shared.stage {
        Some(stage) => stage,
        None => {
            own_stage = Stage::beside(&out, &context.disk)?;
            &own_stage
        }
    };
    let digest = shared.digest || job.ledger.is_some();
    let files = context.open_files.saturating_sub(FILES_KEPT_FREE).max(4);
    let threads = context.threads(job);
    let mut consumer = Consumer::new(stage, &out, job, digest, files, threads);
    let alone = threads == 1;
    let reads_standard_input = job
        .sources
        .contains(&numerant_data::source::SourcePath::Standard);
    let producer = if alone && !reads_standard_input {
        let mut producer = producer;
        producer.run(&mut |message| consumer.take(message))?;
        producer
    } else {
        run_threads(producer, &mut consumer, context)?
    };
    let mut records = consumer.records().to_vec();
    let compression = producer.compression();
    let mut produced = producer.finish(&mut records)?;
    let replace = matches!(
        job.existing,
        ExistingPolicy::Replace | ExistingPolicy::Clear
    );
    let new_folder = !out.exists();
    // What takes the place of a file must be on the disk before that file is gone.
    let sync = job.sync || (replace && !new_folder);
    let keep = Keep {
        sync,
        digest,
        stage,
    };
    let mut outputs = Vec::new();
    let mut destinations = Vec::new();
    let mut types = Vec::new();
    let mut segments = None;
    if produced.sheets.is_empty() {
        consumer.finish(sync)?;
        let mut late = documents::write(&consumer, &produced, &records, job, keep, context)?;
        conformity::check(job, schema.as_ref(), &consumer, &produced, &late, context)?;
        let messages = consumer.messages_written();
        segments = (messages.segments.written > 0).then_some(messages.segments);
        produced
            .notices
            .extend(messages.notes.into_iter().map(Notice::Balance));
        if let Some(compression) = compression {
            compress::write(
                &consumer,
                &produced,
                &mut late,
                compression,
                job,
                keep,
                context,
            )?;
        }
        for (output, path) in produced.paths.iter().enumerate() {
            let Some(path) = path else { continue };
            let (staged, bytes, digest) = match late.remove(&output) {
                Some(written) => (written.staged, written.bytes, written.digest),
                None => (
                    consumer.path(output),
                    consumer.bytes(output),
                    consumer.digest(output),
                ),
            };
            outputs.push(OutputEntry {
                path: path.clone(),
                records: records[output],
                bytes: Some(bytes),
                blake3: digest,
                sums: std::mem::take(&mut produced.sums[output]),
                ..OutputEntry::default()
            });
            destinations.push(Destination {
                staged,
                path: path.clone(),
            });
        }
    } else {
        consumer.finish(false)?;
        let written = workbooks::write(&consumer, &produced, &records, job, keep, context)?;
        for (output, path) in produced.paths.iter().enumerate() {
            let Some(path) = path else { continue };
            let file = written.files.iter().find(|file| file.first == output);
            outputs.push(OutputEntry {
                path: path.clone(),
                sheet: produced.sheets.get(output).cloned(),
                records: records[output],
                bytes: file.map(|file| file.bytes),
                blake3: file.and_then(|file| file.digest.clone()),
                sums: std::mem::take(&mut produced.sums[output]),
                ..OutputEntry::default()
            });
        }
        for file in written.files {
            destinations.push(Destination {
                staged: file.staged,
                path: file.path,
            });
        }
        types = written.types;
        produced.notices.extend(written.notices);
    }
    let written: HashSet<&str> = outputs.iter().map(|output| output.path.as_str()).collect();
    let leftovers = leftovers(job, &produced, &written, false)?;
    produced.notices.extend(leftovers.notices);
    let kept_text: Vec<TypedColumn> = types
        .iter()
        .filter(|column| column.text_because.is_some())
        .cloned()
        .collect();
    if !kept_text.is_empty() {
        produced.notices.push(Notice::KeptText(kept_text));
    }
    let (rejects, mut rejects_file) = consumer.into_rejects();
    let mut summary = match summary(produced, outputs, rejects, segments) {
        Err(Error::AllRejected { records, first, .. }) => {
            // The rejected records are all there is to mend the source by.
            let kept = job.rejects.clone().filter(|_| rejects_file.is_some());
            if let Some(file) = rejects_file.take() {
                let changes = Changes {
                    root: &out,
                    outputs: Vec::new(),
                    removed: &[],
                    beside: vec![file.finish(sync)?],
                    replace,
                    sync,
                };
                context.commit(stage, &changes)?;
            }
            return Err(Error::AllRejected {
                records,
                first,
                kept,
            });
        }
        result => result?,
    };
    summary.ledger.types = types;
    let mut side_files = Vec::from_iter(rejects_file);
    if let Some(path) = &job.ledger {
        summary.ledger.out = crate::ledger::out_of_ledger(path, &out);
        summary.ledger.new_folder = new_folder;
        side_files.push(keep_ledger(&mut summary.ledger, job, path, stage)?);
        summary.kept_ledger = Some(path.clone());
    }
    let beside = side_files.into_iter().map(|file| file.finish(sync));
    let beside = beside.collect::<Result<Vec<Beside>, OutputError>>()?;
    context.check_cancelled()?;
    if shared.stage.is_some() && !destinations.is_empty() {
        // Another file of the batch may be making the same folder now.
        context
            .disk
            .make_folders(&out)
            .map_err(|cause| OutputError::new("creating the folder", &out, cause))?;
    }
    let changes = Changes {
        root: &out,
        outputs: destinations,
        removed: &leftovers.removed,
        beside,
        replace,
        sync,
    };
    summary.notices.extend(context.commit(stage, &changes)?);
    Ok(summary)
}

/// The schema that the outputs of a job are held against.
fn schema_of(job: &Job) -> Result<Option<DocumentSchema>, Error> {
    let Some(path) = &job.write.schema else {
        return Ok(None);
    };
    let schema = DocumentSchema::read(path)?;
    let source = job.sources.first().ok_or(JobError::NoSource)?;
    let (_, format) = job.format(source)?;
    let is_xml = format.capabilities().language == Some(DocumentLanguage::Xml);
    if schema.is_xml() == is_xml {
        Ok(Some(schema))
    } else {
        Err(Error::Schema(SchemaError {
            path: path.clone(),
            problem: SchemaProblem::OtherFormat {
                schema: if is_xml { "JSON" } else { "XML" },
                wanted: format.name(),
            },
        }))
    }
}

/// Files of earlier runs in the folder of a run.
struct Leftovers {
    /// Those that the run takes away.
    removed: Vec<String>,
    /// What there is to say of them.
    notices: Vec<Notice>,
}

/// What is in the folder of a run besides the outputs that it has `written`.
fn leftovers(
    job: &Job,
    produced: &Produced,
    written: &HashSet<&str>,
    is_planned: bool,
) -> Result<Leftovers, Error> {
    let mut notices = Vec::new();
    let earlier = Earlier::read(job, &produced.out)?;
    let (removed, changed) = earlier.left(&produced.out, written)?;
    if !removed.is_empty() {
        notices.push(Notice::Cleared {
            paths: removed.clone(),
            is_planned,
        });
    }
    if !changed.is_empty() {
        notices.push(Notice::ChangedSince(changed.clone()));
    }
    let mut known = written.clone();
    known.extend(removed.iter().chain(&changed).map(String::as_str));
    notices.extend(others(job, &produced.out, &produced.extension, &known));
    Ok(Leftovers { removed, notices })
}

/// A ledger on its way to `path`.
pub(super) fn keep_ledger(
    ledger: &mut Ledger,
    job: &Job,
    path: &Path,
    stage: &Stage,
) -> Result<SideFile, Error> {
    ledger.decimal_comma = job.cells().mark == DecimalMark::Comma;
    ledger.number_format.clone_from(&job.number_format);
    ledger.job = Some(job.keys_that_differ().map_err(Error::Ledger)?);
    let mut text = serde_json::to_string_pretty(ledger).map_err(Error::Ledger)?;
    text.push('\n');
    let mut file = SideFile::create(stage, path)?;
    file.write(text.as_bytes())?;
    Ok(file)
}

/// How finished outputs are kept until they take their places.
#[derive(Clone, Copy)]
pub(super) struct Keep<'a> {
    /// They are to be on the disk.
    pub(super) sync: bool,
    /// Their digests are wanted.
    pub(super) digest: bool,
    pub(super) stage: &'a Stage,
}

/// Closes the books.
fn summary(
    produced: Produced,
    outputs: Vec<OutputEntry>,
    rejects: Vec<crate::ledger::Reject>,
    segments: Option<SegmentsWritten>,
) -> Result<Summary, Error> {
    let mut ledger = Ledger::close(
        produced.sources,
        outputs,
        produced.left_out,
        rejects,
        &produced.totals,
    );
    ledger.dialect = produced.dialect;
    ledger.set_segments(segments);
    Error::balanced(&ledger)?;
    let records = ledger.totals.read;
    if records > 0 && ledger.totals.rejected == records {
        let first = ledger.rejects.first().map_or_else(String::new, |reject| {
            format!(
                ", the first in {}, {} {}: {}",
                reject.source, reject.unit, reject.line, reject.reason
            )
        });
        return Err(Error::AllRejected {
            records,
            first,
            kept: None,
        });
    }
    Ok(Summary {
        ledger,
        out: produced.out,
        kept_ledger: None,
        order: Vec::new(),
        notices: produced.notices,
    })
}

/// Runs the first half on a thread of its own and the second here.
fn run_threads(
    producer: Producer,
    consumer: &mut Consumer,
    context: &Context,
) -> Result<Producer, Error> {
    let (messages, inbox) = mpsc::sync_channel::<Message>(BATCHES);
    let (give_back, returned) = mpsc::channel::<Box<Routed>>();
    // The thread is not scoped: one that waits for standard input cannot be waited for when the
    // run is cancelled.
    let first_half = thread::Builder::new()
        .name("reader".to_owned())
        .stack_size(STACK)
        .spawn(move || {
            let mut producer = producer;
            let mut batches = 1;
            let result = producer.run(&mut |message| {
                let is_batch = matches!(message, Message::Records(_));
                // Where nobody listens any more, the second half has failed and says why.
                messages.send(message).map_err(|_| Error::Interrupted)?;
                if !is_batch {
                    return Ok(None);
                }
                if batches < BATCHES {
                    batches += 1;
                    return Ok(returned.try_recv().ok());
                }
                returned.recv().map(Some).map_err(|_| Error::Interrupted)
            });
            result.map(|()| producer)
        });
    let first_half = first_half.map_err(Error::Thread)?;
    loop {
        match inbox.recv_timeout(Duration::from_millis(50)) {
            Ok(message) => {
                if let Some(batch) = consumer.take(message)? {
                    // The first half may be done and not want it back.
                    let _ = give_back.send(batch);
                }
            }
            Err(RecvTimeoutError::Timeout) => {}
            Err(RecvTimeoutError::Disconnected) => break,
        }
        context.check_cancelled()?;
    }
    match first_half.join() {
        Ok(result) => result,
        Err(panic) => std::panic::resume_unwind(panic),
    }
}
