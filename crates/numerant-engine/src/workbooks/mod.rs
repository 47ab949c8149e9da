//! The last part of a run whose outputs are workbooks: what was kept of the records becomes sheets,
//! now that the types of all columns are known.

mod task;

use std::collections::{BTreeMap, HashMap};
use std::path::{Path, PathBuf};
use std::sync::atomic::{AtomicU64, Ordering};
use std::sync::{Arc, Mutex};

use self::task::{Done, Task};
use super::consume::{Consumer, Set};
use super::keep::Keep;
use super::plan::RunPlan;
use super::produce::{Produced, SourceSheet};
use super::{Context, Error, Notice, prepare};
use crate::job::{Job, SheetOrder};
use crate::ledger::{Ambiguous, TypedColumn};
use numerant_data::source::natural;
use numerant_data::value::{Number, WrittenOutcome};
use numerant_format::sheet::{
    Head, KeptFormat, LeftOutDrawing, Odd, Plan, Spooler, Types, WorkbookContent, width,
};
use numerant_sheets::{Extracted, TakenSheet, WorkbookCache};

/// Bytes of shared texts that a workbook may keep at least.
const LEAST_SHARED: usize = 1 << 18;

/// Workbooks with a note of their own about what could not be kept; more share one note.
const MAX_SEPARATE_NOTES: usize = 8;

/// What was written.
pub(super) struct Written {
    /// The workbooks, in the order of their first sheets.
    pub(super) files: Vec<WrittenFile>,
    /// The types of the columns.
    pub(super) types: Vec<TypedColumn>,
    /// What could not stay as it was in sheets that were kept.
    pub(super) notices: Vec<Notice>,
}

/// A workbook on the stage.
pub(super) struct WrittenFile {
    /// Its path below the output folder.
    pub(super) path: String,
    /// The first of the outputs that are its sheets.
    pub(super) first: usize,
    pub(super) staged: PathBuf,
    pub(super) bytes: u64,
    pub(super) digest: Option<String>,
}

/// The first of the outputs of a workbook, which has its size in the ledger; sheets may be in another order.
fn first_of(outputs: &[usize]) -> usize {
    outputs.iter().copied().min().unwrap_or(0)
}

/// Writes all workbooks of a run, several at the same time.
pub(super) fn write(
    plan: &RunPlan,
    consumer: &Consumer<'_>,
    produced: &Produced,
    keep: Keep<'_>,
    context: &Context,
) -> Result<Written, Error> {
    let (job, records) = (&plan.stated, &produced.records);
    let (sets, set_of) = consumer.sets();
    let planned: Vec<Option<(Vec<Plan>, Vec<f32>)>> = sets
        .iter()
        .map(|set| set.as_ref().map(|set| plans(set, job)))
        .collect();
    let Some(format) = produced.book else {
        return Ok(Written {
            files: Vec::new(),
            types: Vec::new(),
            notices: Vec::new(),
        });
    };
    // Sheets by workbook.
    let mut places: HashMap<&str, usize> = HashMap::new();
    let mut files: Vec<(&str, Vec<usize>)> = Vec::new();
    for (output, path) in produced.paths.iter().enumerate() {
        let Some(path) = path else { continue };
        let place = *places.entry(path).or_insert_with(|| {
            files.push((path, Vec::new()));
            files.len() - 1
        });
        files[place].1.push(output);
    }
    if job.order_of_sheets() == SheetOrder::Natural {
        let name = |output: &usize| produced.sheets[*output].as_str();
        for (_, outputs) in &mut files {
            outputs.sort_by(|one, other| natural(name(one), name(other)));
        }
    }
    let codes = plan.job.read.context.number_formats.codes();
    let formats: Arc<[KeptFormat]> = codes.iter().map(KeptFormat::of).collect();
    let head = |output: usize| {
        let set = set_of[output] as usize;
        let spooler = sets[set].as_ref().map(|set| &set.spooler);
        let (plans, widths) = planned[set].clone().unwrap_or_default();
        Head {
            name: produced.sheets[output].clone(),
            header: spooler.and_then(|spooler| spooler.header.clone()),
            plans,
            widths,
            styles: spooler.map_or_else(Vec::new, |spooler| {
                spooler.columns.iter().map(|column| column.style).collect()
            }),
            records: records[output],
            totals: totals(job, spooler.map(AsRef::as_ref), &produced.sums[output]),
            bytes: std::fs::metadata(consumer.path(output)).map_or(0, |file| file.len()),
            formats: Arc::clone(&formats),
            heading: produced.headings[output].clone(),
            group: spooler.and_then(|spooler| spooler.group),
        }
    };
    let all: u64 = files
        .iter()
        .flat_map(|file| &file.1)
        .map(|output| records[*output])
        .sum();
    let done = AtomicU64::new(0);
    let progress = |records: u64| {
        let done = done.fetch_add(records, Ordering::Relaxed) + records;
        context.observer.has_written(done, all);
    };
    // The largest first, so that no thread is left alone with one at the end.
    let mut order: Vec<usize> = (0..files.len()).collect();
    let size = |file: &usize| -> u64 { files[*file].1.iter().map(|output| records[*output]).sum() };
    order.sort_by_key(|file| std::cmp::Reverse(size(file)));
    let threads = plan.workers.threads().min(files.len()).max(1);
    let shared = usize::try_from(job.memory.0 / 4).unwrap_or(usize::MAX) / threads;
    let task = Task {
        format,
        shared: shared.max(LEAST_SHARED),
        options: &job.write,
        sync: keep.sync,
        digest: keep.digest,
        context,
        disk: keep.stage.disk(),
        progress: &progress,
        room: job.memory.0 / threads as u64,
        printed: Mutex::default(),
        now: context.now,
        shelf: WorkbookCache::default(),
    };
    let cutting = consumer.cut_rows().and_then(|rows| {
        let columns = rows.columns(job.write.types, &formats);
        Some((rows.cutter()?, rows.rows(records.len()), columns))
    });
    let form = match &job.fill.template {
        Some(template) => Some(prepare::form(template, &job.fill)?),
        None => None,
    };
    let mut results = plan.workers.try_map(&order, |file| {
        let (path, outputs) = &files[*file];
        let staged = keep.stage.dir().join(format!("book-{file}"));
        let spools: Vec<PathBuf> = outputs.iter().map(|o| consumer.path(*o)).collect();
        let new = |outputs: &[usize], staged: PathBuf| {
            let sheets = outputs.iter().map(|output| {
                let place = files[*file].1.iter().position(|known| known == output);
                (head(*output), spools[place.unwrap_or(0)].as_path())
            });
            let book = WorkbookContent {
                sheets: sheets.collect(),
            };
            task.write(&book, path, first_of(outputs), staged)
        };
        let new_part = |output: usize, to: &Path| {
            let place = files[*file].1.iter().position(|known| *known == output);
            let book = WorkbookContent {
                sheets: vec![(head(output), spools[place.unwrap_or(0)].as_path())],
            };
            task.write_part(&book, path, to)
        };
        let any_kept = outputs
            .iter()
            .any(|output| consumer.kept(*output).is_some());
        let result = match any_kept {
            false if let Some(form) = &form => {
                let tables = outputs
                    .iter()
                    .zip(&spools)
                    .map(|(output, spool)| (head(*output), spool.as_path()));
                let copy = produced.copies.iter().find(|copy| copy.path == *path);
                let values = copy.map(|copy| copy.values.as_slice());
                let tables = tables.collect();
                task.fill(
                    form,
                    job,
                    tables,
                    values.unwrap_or_default(),
                    path,
                    first_of(outputs),
                    staged,
                )
            }
            false if let Some((cutter, rows, columns)) = &cutting => {
                let part = |place: usize| {
                    let output = outputs[place];
                    let called = produced.sheets[output].as_str();
                    (called, rows[output].as_slice(), spools[place].as_path())
                };
                let cut = |place, staged| {
                    task.cut(
                        cutter,
                        part(place),
                        columns.as_ref(),
                        path,
                        outputs[place],
                        staged,
                    )
                };
                if outputs.len() == 1 {
                    cut(0, staged)
                } else {
                    // Each sheet is a workbook first, and these become one.
                    let parts = outputs.iter().enumerate().map(|(place, output)| {
                        let own = keep.stage.dir().join(format!("sheet-{output}"));
                        let columns = columns.as_ref();
                        task.cut_part(cutter, part(place), columns, path, &own)?;
                        let called = produced.sheets[*output].clone();
                        Ok(TakenSheet {
                            book: own,
                            sheet: called.clone(),
                            called,
                        })
                    });
                    let parts: Result<Vec<TakenSheet>, Error> = parts.collect();
                    parts.and_then(|parts| {
                        task.assemble(&parts, path, first_of(outputs), staged, job, 0)
                    })
                }
            }
            false => new(outputs, staged),
            true => {
                let taken = outputs.iter().map(|output| {
                    let called = produced.sheets[*output].clone();
                    if let Some(SourceSheet { book, name, .. }) = consumer.kept(*output) {
                        return Ok(TakenSheet {
                            book: book.clone(),
                            sheet: name.clone(),
                            called,
                        });
                    }
                    // What has no sheet to keep becomes one first.
                    let own = keep.stage.dir().join(format!("sheet-{output}"));
                    new_part(*output, &own)?;
                    Ok(TakenSheet {
                        book: own,
                        sheet: called.clone(),
                        called,
                    })
                });
                let taken: Result<Vec<TakenSheet>, Error> = taken.collect();
                let count = outputs.iter().map(|output| records[*output]).sum();
                let draws = task.format.capabilities().draws_sheets;
                taken.and_then(|taken| {
                    if draws {
                        task.draw_taken(&taken, path, first_of(outputs), staged, count)
                    } else {
                        task.assemble(&taken, path, first_of(outputs), staged, job, count)
                    }
                })
            }
        };
        for spool in &spools {
            // The stage is removed as a whole later.
            let _ = keep.stage.disk().remove(spool);
        }
        Ok::<(usize, Done), Error>((*file, result?))
    })?;
    results.sort_by_key(|(file, _)| *file);
    let mut written = Written {
        files: Vec::new(),
        types: types(sets, &planned, job.write.types),
        notices: Vec::new(),
    };
    let mut extracted: Vec<(String, Extracted)> = Vec::new();
    let mut left_out: BTreeMap<LeftOutDrawing, u64> = BTreeMap::new();
    let mut with_left_out = Vec::new();
    for (_, done) in results {
        let of_one = done.extracted;
        if let Some(what) = of_one.filter(|what| *what != Extracted::default()) {
            extracted.push((done.file.path.clone(), what));
        }
        if !done.left_out.is_empty() {
            with_left_out.push(done.file.path.clone());
        }
        for (what, count) in done.left_out {
            *left_out.entry(what).or_default() += count;
        }
        written.files.push(done.file);
    }
    written.notices = match extracted.len() {
        0..=MAX_SEPARATE_NOTES => extracted
            .into_iter()
            .map(|(path, what)| Notice::Extracted { path, what })
            .collect(),
        files => {
            let mut all = Extracted::default();
            extracted.iter().for_each(|(_, what)| all.add(what));
            let path = format!("{files} files");
            vec![Notice::Extracted { path, what: all }]
        }
    };
    if !left_out.is_empty() {
        written.notices.push(Notice::NotDrawn {
            paths: with_left_out,
            what: left_out.into_iter().collect(),
        });
    }
    Ok(written)
}

/// The control totals of an output, by the places of their columns.
fn totals(job: &Job, spooler: Option<&Spooler>, sums: &[Number]) -> Vec<(usize, String)> {
    let header = spooler.and_then(|spooler| spooler.header.as_ref());
    let totals = job.total.iter().zip(sums).filter_map(|(name, sum)| {
        let place = header?.iter().position(|known| known == name)?;
        Some((place, sum.to_string()))
    });
    totals.collect()
}

/// How the columns of a set of sources are written, and how wide they are.
fn plans(set: &Set, job: &Job) -> (Vec<Plan>, Vec<f32>) {
    let header = |place: usize| {
        let header = set.spooler.header.as_ref();
        header
            .and_then(|header| header.get(place))
            .map(String::as_str)
    };
    let columns = set.spooler.columns.iter().zip(&set.stored);
    let plans = columns
        .zip(&set.tallies)
        .map(|((column, stored), tally)| tally.plan(job.write.types, *stored, column.declared))
        .collect();
    let widths = set.tallies.iter().enumerate();
    let widths = widths.map(|(place, tally)| {
        let stated = set.spooler.columns[place].style.width;
        stated.unwrap_or_else(|| width(header(place), tally))
    });
    (plans, widths.collect())
}

/// The types of all columns, for the ledger.
fn types(
    sets: &[Option<Set>],
    planned: &[Option<(Vec<Plan>, Vec<f32>)>],
    types_wanted: Types,
) -> Vec<TypedColumn> {
    let several = sets.iter().flatten().count() > 1;
    let mut types = Vec::new();
    for (set, planned) in sets.iter().flatten().zip(planned.iter().flatten()) {
        let header = set.spooler.header.as_deref().unwrap_or_default();
        for (place, (plan, tally)) in planned.0.iter().zip(&set.tallies).enumerate() {
            let declared = set.spooler.columns[place].declared;
            let decided =
                types_wanted == Types::Auto && (!set.stored[place] || tally.has_long_numbers);
            let wanted = *plan == Plan::Text && decided && declared.is_none();
            let written = if wanted {
                tally.written()
            } else {
                WrittenOutcome::None
            };
            let reason = tally.reason().filter(|_| wanted);
            let mut text_because = reason.map(|(odd, _)| odd.clone());
            let mut others = reason.map(|(_, usual)| usual.one().to_owned());
            let mut ambiguous = None;
            match written {
                WrittenOutcome::Most(format, misfit) if text_because.is_none() => {
                    others = Some(format!("written as {}", format.code()));
                    text_because = Some(Odd {
                        value: misfit.value,
                        line: misfit.line,
                    });
                }
                WrittenOutcome::Ambiguous(one, other) => {
                    ambiguous = Some(Ambiguous::between(&one, &other));
                }
                WrittenOutcome::Most(..) | WrittenOutcome::All(_) | WrittenOutcome::None => {}
            }
            types.push(TypedColumn {
                source: several.then(|| set.source.clone()),
                column: header
                    .get(place)
                    .cloned()
                    .unwrap_or_else(|| format!("column_{}", place + 1)),
                written_as: match (plan, declared) {
                    (Plan::AsInSource(_), Some(declared)) => declared.name().to_owned(),
                    _ => plan.name().to_owned(),
                },
                number_format: match plan {
                    Plan::Written(_, format) => Some(format.code()),
                    _ => None,
                },
                text_because,
                others,
                ambiguous,
                is_blank: tally.is_blank(),
            });
        }
    }
    types
}
