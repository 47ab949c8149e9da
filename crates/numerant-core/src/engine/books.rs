//! The last part of a run whose outputs are workbooks: what was kept of the records becomes sheets,
//! now that the types of all columns are known.

use std::collections::HashMap;
use std::fs::File;
use std::io::{self, Read};
use std::path::{Path, PathBuf};
use std::sync::Mutex;
use std::sync::atomic::{AtomicU64, AtomicUsize, Ordering};
use std::thread;

use super::consume::{Consumer, Set};
use super::once::Keep;
use super::produce::Produced;
use super::{Context, Error};
use crate::format::BookFormat;
use crate::format::sheet::{Book, Head, Plan, width};
use crate::job::Job;
use crate::ledger::{FileDigest, TypedColumn};
use crate::output::OutputError;

/// Bytes of shared texts that a workbook may keep at least.
const LEAST_SHARED: usize = 1 << 18;

/// What was written.
pub(super) struct Written {
    /// The workbooks, in the order of their first sheets.
    pub(super) files: Vec<WrittenFile>,
    /// The types of the columns.
    pub(super) types: Vec<TypedColumn>,
}

/// A workbook on the stage.
pub(super) struct WrittenFile {
    /// Its path below the output folder.
    pub(super) path: String,
    /// The output that is its first sheet.
    pub(super) first: usize,
    pub(super) staged: PathBuf,
    pub(super) bytes: u64,
    pub(super) digest: Option<String>,
}

/// Writes all workbooks of a run, several at the same time.
pub(super) fn write(
    consumer: &Consumer,
    produced: &Produced,
    records: &[u64],
    job: &Job,
    keep: Keep<'_>,
    context: &Context,
) -> Result<Written, Error> {
    let (sets, set_of) = consumer.sets();
    let planned: Vec<Option<(Vec<Plan>, Vec<usize>)>> = sets
        .iter()
        .map(|set| set.as_ref().map(|set| plans(set, job)))
        .collect();
    let Some(format) = produced.book else {
        return Ok(Written {
            files: Vec::new(),
            types: Vec::new(),
        });
    };
    // Sheets by workbook, in the order of first records.
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
    let head = |output: usize| {
        let set = set_of[output] as usize;
        let spooler = sets[set].as_ref().map(|set| &set.spooler);
        let (plans, widths) = planned[set].clone().unwrap_or_default();
        Head {
            name: produced.sheets[output].clone(),
            header: spooler.and_then(|spooler| spooler.header.clone()),
            plans,
            widths,
            records: records[output],
        }
    };
    let all: u64 = files
        .iter()
        .flat_map(|file| &file.1)
        .map(|output| records[*output])
        .sum();
    let done = AtomicU64::new(0);
    let told = |records: u64| {
        let done = done.fetch_add(records, Ordering::Relaxed) + records;
        context.observer.has_written(done, all);
    };
    // The largest first, so that no thread is left alone with one at the end.
    let mut order: Vec<usize> = (0..files.len()).collect();
    let size = |file: &usize| -> u64 { files[*file].1.iter().map(|output| records[*output]).sum() };
    order.sort_by_key(|file| std::cmp::Reverse(size(file)));
    let threads = context.threads(job).min(files.len()).max(1);
    let shared = usize::try_from(job.memory.0 / 4).unwrap_or(usize::MAX) / threads;
    let task = Task {
        format,
        shared: shared.max(LEAST_SHARED),
        sync: keep.sync,
        digest: keep.digest,
        context,
        told: &told,
    };
    let next = AtomicUsize::new(0);
    let results: Mutex<Vec<(usize, Result<WrittenFile, Error>)>> = Mutex::new(Vec::new());
    thread::scope(|scope| {
        for _ in 0..threads {
            scope.spawn(|| {
                while let Some(file) = order.get(next.fetch_add(1, Ordering::Relaxed)) {
                    let (path, outputs) = &files[*file];
                    let staged = keep.stage.dir().join(format!("book-{file}"));
                    let spools: Vec<PathBuf> = outputs.iter().map(|o| consumer.path(*o)).collect();
                    let sheets = outputs.iter().zip(&spools);
                    let book = Book {
                        sheets: sheets
                            .map(|(o, spool)| (head(*o), spool.as_path()))
                            .collect(),
                    };
                    let result = task.write(&book, path, outputs[0], staged);
                    let failed = result.is_err();
                    for spool in &spools {
                        // The stage is removed as a whole later.
                        let _ = std::fs::remove_file(spool);
                    }
                    if let Ok(mut results) = results.lock() {
                        results.push((*file, result));
                    }
                    if failed {
                        next.store(order.len(), Ordering::Relaxed);
                    }
                }
            });
        }
    });
    let mut results = results.into_inner().unwrap_or_default();
    results.sort_by_key(|(file, _)| *file);
    let files: Result<Vec<WrittenFile>, Error> =
        results.into_iter().map(|(_, file)| file).collect();
    Ok(Written {
        files: files?,
        types: types(sets, &planned),
    })
}

/// What all workbooks of a run are written with.
struct Task<'a> {
    format: &'static BookFormat,
    shared: usize,
    sync: bool,
    digest: bool,
    context: &'a Context,
    told: &'a (dyn Fn(u64) + Sync),
}

impl Task<'_> {
    fn write(
        &self,
        book: &Book<'_>,
        path: &str,
        first: usize,
        staged: PathBuf,
    ) -> Result<WrittenFile, Error> {
        self.context.check_cancelled()?;
        let failed = |cause: io::Error| -> Error {
            if cause.kind() == io::ErrorKind::Interrupted && self.context.check_cancelled().is_err()
            {
                return Error::Interrupted;
            }
            OutputError::new("writing", Path::new(path), cause).into()
        };
        let sink = (self.format.create)(&staged, self.shared).map_err(failed)?;
        book.write(sink, &self.context.cancel, self.told)
            .map_err(failed)?;
        let mut file = File::open(&staged).map_err(failed)?;
        if self.sync {
            file.sync_all().map_err(failed)?;
        }
        let bytes = file.metadata().map_err(failed)?.len();
        let digest = match self.digest {
            true => Some(digest_of(&mut file).map_err(failed)?),
            false => None,
        };
        Ok(WrittenFile {
            path: path.to_owned(),
            first,
            staged,
            bytes,
            digest,
        })
    }
}

fn digest_of(file: &mut File) -> io::Result<String> {
    let mut digest = FileDigest::default();
    let mut piece = vec![0; 1 << 18];
    loop {
        match file.read(&mut piece)? {
            0 => return Ok(digest.finish()),
            read => digest.update(&piece[..read]),
        }
    }
}

/// How the columns of a set of sources are written, and how wide they are.
fn plans(set: &Set, job: &Job) -> (Vec<Plan>, Vec<usize>) {
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
    let widths = widths.map(|(place, tally)| width(header(place), tally));
    (plans, widths.collect())
}

/// The types of all columns, for the ledger.
fn types(sets: &[Option<Set>], planned: &[Option<(Vec<Plan>, Vec<usize>)>]) -> Vec<TypedColumn> {
    let several = sets.iter().flatten().count() > 1;
    let mut types = Vec::new();
    for (set, planned) in sets.iter().flatten().zip(planned.iter().flatten()) {
        let header = set.spooler.header.as_deref().unwrap_or_default();
        for (place, (plan, tally)) in planned.0.iter().zip(&set.tallies).enumerate() {
            let declared = set.spooler.columns[place].declared;
            let wanted = *plan == Plan::Text && !set.stored[place] && declared.is_none();
            let reason = tally.reason().filter(|_| wanted);
            types.push(TypedColumn {
                source: several.then(|| set.source.clone()),
                column: header
                    .get(place)
                    .cloned()
                    .unwrap_or_else(|| format!("column_{}", place + 1)),
                written_as: match (plan, declared) {
                    (Plan::Own(_), Some(declared)) => declared.name().to_owned(),
                    _ => plan.name().to_owned(),
                },
                text_because: reason.map(|(odd, _)| odd.clone()),
                others: reason.map(|(_, usual)| usual.one().to_owned()),
            });
        }
    }
    types
}
