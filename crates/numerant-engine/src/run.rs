//! A run from the first record to the last: read, route, encode, commit.

use std::collections::HashSet;
use std::path::Path;
use std::sync::Arc;
use std::sync::mpsc::{self, RecvTimeoutError};
use std::thread;
use std::time::Duration;

use super::consume::Consumer;
use super::earlier::{Earlier, others};
use super::keep::Keep;
use super::notice::TypedOtherwise;
use super::plan::{Pass, RunPlan};
use super::produce::{Message, Produced, Producer, Routed};
use super::{Context, Error, Notice, STACK, Summary, compress, conformity, documents, workbooks};
use crate::job::Job;
use crate::ledger::{Ledger, OutputEntry, TypedColumn};
use crate::output::{Beside, Changes, Destination, OutputError, SideFile, Stage};
use numerant_data::record::Batch;
use numerant_data::source::SourcePath;
use numerant_data::value::DecimalMark;
use numerant_format::SegmentsWritten;
use numerant_schema::DocumentSchema;

/// Batches that go round between the two halves of a run.
const BATCHES: usize = 4;

/// Finds out which outputs a run would write.
pub(super) fn plan_outputs(plan: &Arc<RunPlan>, context: &Context) -> Result<Pass<Summary>, Error> {
    let mut producer = Producer::open(Arc::clone(plan), context)?;
    let (order, slots): (Vec<String>, Vec<usize>) = producer.order_columns().into_iter().unzip();
    let mut planned: Vec<Planned> = Vec::new();
    let mut touched: Vec<u32> = Vec::new();
    let read = producer.run(&mut |message| {
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
    });
    if plan.scan.is_outgrown() {
        return Ok(Pass::OutgrewSample);
    }
    read?;
    let records = planned.iter().map(|planned| planned.records).collect();
    let mut produced = producer.finish(records)?;
    let mut outputs = Vec::new();
    for (output, path) in produced.paths.iter().enumerate() {
        let Some(path) = path else { continue };
        let planned = planned.get_mut(output).map(std::mem::take);
        let planned = planned.unwrap_or_default();
        outputs.push(OutputEntry {
            path: path.clone(),
            sheet: produced.sheets.get(output).cloned(),
            records: produced.records[output],
            keys: std::mem::take(&mut produced.keys[output]),
            sums: std::mem::take(&mut produced.sums[output]),
            first: planned.first,
            last: planned.last,
            ..OutputEntry::default()
        });
    }
    let leftovers = leftovers(plan, &outputs, true)?;
    produced.notices.extend(leftovers.notices);
    let mut summary = summary(plan, produced, outputs, Vec::new(), None)?;
    summary.order = order;
    Ok(Pass::Complete(summary))
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

/// Outputs on the stage, and what there is to say of them.
#[derive(Default)]
struct Encoded {
    outputs: Vec<OutputEntry>,
    destinations: Vec<Destination>,
    types: Vec<TypedColumn>,
    segments: Option<SegmentsWritten>,
}

/// Reads the sources of a plan, writes its outputs by way of a stage, and closes the books.
pub(super) fn run_plan(
    plan: &Arc<RunPlan>,
    context: &Context,
    stage: Option<&Stage>,
) -> Result<Pass<Summary>, Error> {
    let schema = plan.schema()?;
    let producer = Producer::open(Arc::clone(plan), context)?;
    let own_stage;
    let stage = match stage {
        Some(stage) => stage,
        None => {
            own_stage = Stage::beside(&plan.out, &context.disk)?;
            &own_stage
        }
    };
    let mut consumer = Consumer::new(plan, stage);
    let routed = route(producer, &mut consumer, plan, context);
    // Whatever happened after that rests on columns and types that do not hold.
    if plan.scan.is_outgrown() {
        return Ok(Pass::OutgrewSample);
    }
    let producer = routed?;
    let mut produced = producer.finish(consumer.records().to_vec())?;
    let keep = Keep {
        sync: plan.syncs(),
        digest: plan.has_digests,
        stage,
    };
    let encoded = if produced.sheets.is_empty() {
        encode_texts(
            plan,
            schema.as_ref(),
            &mut consumer,
            &mut produced,
            keep,
            context,
        )
    } else {
        encode_workbooks(plan, &mut consumer, &mut produced, keep, context)
    };
    if plan.scan.is_outgrown() {
        return Ok(Pass::OutgrewSample);
    }
    close(plan, consumer, produced, encoded?, keep, context).map(Pass::Complete)
}

/// Reads all records and hands them to the second half: in turns with it, or on a thread of its own.
fn route(
    mut producer: Producer,
    consumer: &mut Consumer<'_>,
    plan: &RunPlan,
    context: &Context,
) -> Result<Producer, Error> {
    // A read of standard input cannot be ended by this thread.
    let reads_standard_input = plan.job.sources.contains(&SourcePath::Standard);
    if plan.workers.threads() > 1 || reads_standard_input {
        return run_threads(producer, consumer, context);
    }
    producer.run(&mut |message| consumer.take(message))?;
    Ok(producer)
}

/// Completes outputs that are no workbooks.
fn encode_texts(
    plan: &RunPlan,
    schema: Option<&DocumentSchema>,
    consumer: &mut Consumer<'_>,
    produced: &mut Produced,
    keep: Keep<'_>,
    context: &Context,
) -> Result<Encoded, Error> {
    consumer.finish(keep.sync)?;
    let mut late = documents::write(plan, consumer, produced, keep, context)?;
    conformity::check(plan, schema, consumer, produced, &late, context)?;
    let messages = consumer.messages_written();
    let notes = messages.notes.into_iter().map(Notice::Balance);
    produced.notices.extend(notes);
    if let Some(compression) = plan.compression() {
        compress::write(
            plan,
            consumer,
            produced,
            &mut late,
            compression,
            keep,
            context,
        )?;
    }
    let mut encoded = Encoded {
        segments: (messages.segments.written > 0).then_some(messages.segments),
        ..Encoded::default()
    };
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
        encoded.outputs.push(OutputEntry {
            path: path.clone(),
            records: produced.records[output],
            keys: std::mem::take(&mut produced.keys[output]),
            bytes: Some(bytes),
            blake3: digest,
            sums: std::mem::take(&mut produced.sums[output]),
            ..OutputEntry::default()
        });
        encoded.destinations.push(Destination {
            staged,
            path: path.clone(),
        });
    }
    Ok(encoded)
}

/// Makes workbooks of what was kept of their records.
fn encode_workbooks(
    plan: &RunPlan,
    consumer: &mut Consumer<'_>,
    produced: &mut Produced,
    keep: Keep<'_>,
    context: &Context,
) -> Result<Encoded, Error> {
    consumer.finish(false)?;
    let written = workbooks::write(plan, consumer, produced, keep, context)?;
    let mut encoded = Encoded::default();
    for (output, path) in produced.paths.iter().enumerate() {
        let Some(path) = path else { continue };
        let file = written.files.iter().find(|file| file.first == output);
        encoded.outputs.push(OutputEntry {
            path: path.clone(),
            sheet: produced.sheets.get(output).cloned(),
            records: produced.records[output],
            keys: std::mem::take(&mut produced.keys[output]),
            bytes: file.map(|file| file.bytes),
            blake3: file.and_then(|file| file.digest.clone()),
            sums: std::mem::take(&mut produced.sums[output]),
            ..OutputEntry::default()
        });
    }
    let files = written.files.into_iter();
    encoded.destinations.extend(files.map(|file| Destination {
        staged: file.staged,
        path: file.path,
    }));
    produced.notices.extend(written.notices);
    let kept_text =
        |column: &&TypedColumn| column.text_because.is_some() || column.ambiguous.is_some();
    let kept_text: Vec<TypedColumn> = written.types.iter().filter(kept_text).cloned().collect();
    if !kept_text.is_empty() {
        produced.notices.push(Notice::KeptText(kept_text));
    }
    let odd = TypedOtherwise::find(&written.types);
    if !odd.is_empty() {
        produced.notices.push(Notice::TypedOtherwise(odd));
    }
    encoded.types = written.types;
    Ok(encoded)
}

/// Closes the books, and commits the outputs with the files next to them.
fn close(
    plan: &RunPlan,
    consumer: Consumer<'_>,
    mut produced: Produced,
    encoded: Encoded,
    keep: Keep<'_>,
    context: &Context,
) -> Result<Summary, Error> {
    let new_folder = !plan.out.exists();
    let leftovers = leftovers(plan, &encoded.outputs, false)?;
    produced.notices.extend(leftovers.notices);
    let (rejects, mut rejects_file) = consumer.into_rejects();
    let changes = |outputs, beside, removed| Changes {
        root: &plan.out,
        outputs,
        removed,
        beside,
        replace: plan.replaces,
        sync: keep.sync,
    };
    let closed = summary(plan, produced, encoded.outputs, rejects, encoded.segments);
    let mut summary = match closed {
        Err(Error::AllRejected { records, first, .. }) => {
            // The rejected records are all there is to mend the source by.
            let kept = plan.job.rejects.clone().filter(|_| rejects_file.is_some());
            if let Some(file) = rejects_file.take() {
                let beside = vec![file.finish(keep.sync)?];
                context.commit(keep.stage, &changes(Vec::new(), beside, &[]))?;
            }
            return Err(Error::AllRejected {
                records,
                first,
                kept,
            });
        }
        result => result?,
    };
    summary.ledger.types = encoded.types;
    let mut side_files = Vec::from_iter(rejects_file);
    if let Some(path) = &plan.job.ledger {
        summary.ledger.out = crate::ledger::out_of_ledger(path, &plan.out);
        summary.ledger.new_folder = new_folder;
        let file = keep_ledger(&mut summary.ledger, &plan.stated, path, keep.stage)?;
        side_files.push(file);
        summary.kept_ledger = Some(path.clone());
    }
    let beside = side_files.into_iter().map(|file| file.finish(keep.sync));
    let beside = beside.collect::<Result<Vec<Beside>, OutputError>>()?;
    context.check_cancelled()?;
    if plan.is_of_batch && !encoded.destinations.is_empty() {
        // Another file of a batch may be making the same folder now.
        context
            .disk
            .make_folders(&plan.out)
            .map_err(|cause| OutputError::new("creating the folder", &plan.out, cause))?;
    }
    // Outputs outside the output folder are put in their places like the files next to the outputs.
    let is_below = |output: &Destination| Path::new(&output.path).is_relative();
    let (below, outside): (Vec<_>, Vec<_>) = encoded.destinations.into_iter().partition(is_below);
    let outside = outside.into_iter().map(|output| Beside {
        staged: output.staged,
        path: output.path.into(),
    });
    let beside = outside.chain(beside).collect();
    let changes = changes(below, beside, &leftovers.removed);
    summary
        .notices
        .extend(context.commit(keep.stage, &changes)?);
    Ok(summary)
}

/// Files of earlier runs in the folder of a run.
struct Leftovers {
    /// Those that the run takes away.
    removed: Vec<String>,
    /// What there is to say of them.
    notices: Vec<Notice>,
}

/// What is in the folder of a run besides its outputs.
fn leftovers(
    plan: &RunPlan,
    outputs: &[OutputEntry],
    is_planned: bool,
) -> Result<Leftovers, Error> {
    let written: HashSet<&str> = outputs.iter().map(|output| output.path.as_str()).collect();
    let mut notices = Vec::new();
    let earlier = Earlier::read(&plan.job, &plan.out)?;
    let (removed, changed) = earlier.left(&plan.out, &written)?;
    if !removed.is_empty() {
        notices.push(Notice::Cleared {
            paths: removed.clone(),
            is_planned,
        });
    }
    if !changed.is_empty() {
        notices.push(Notice::ChangedSince(changed.clone()));
    }
    let mut known = written;
    known.extend(removed.iter().chain(&changed).map(String::as_str));
    notices.extend(others(&plan.stated, &plan.out, &plan.extension, &known));
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

/// Closes the books.
fn summary(
    plan: &RunPlan,
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
    ledger.total_formats = produced.total_formats;
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
        out: plan.out.clone(),
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
