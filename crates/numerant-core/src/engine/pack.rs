//! All outputs of a run in one zip archive: they are written below a hidden folder first, each is
//! packed by itself, several at the same time, and the archive takes its place when it is complete.

use std::fs::{self, File};
use std::io::{self, BufWriter};
use std::path::{Path, PathBuf};
use std::sync::Mutex;
use std::sync::atomic::{AtomicUsize, Ordering};
use std::thread;

use jiff::civil::DateTime;
use zip::result::ZipError;
use zip::write::SimpleFileOptions;
use zip::{CompressionMethod, ZipArchive, ZipWriter};

use super::addresses::{check_beside, protected};
use super::once::keep_ledger;
use super::{Context, Error, Summary};
use crate::job::Job;
use crate::ledger::from_folder_of;
use crate::output::{Destination, ExistingPolicy, OutputError, Stage, commit};
use crate::source::Compression;

/// Outputs that are packed together: so many bytes or files of them.
const BYTES: u64 = 8 << 20;
const FILES: usize = 256;

/// From this size on a member needs the wide fields of the format.
const WIDE: u64 = u32::MAX as u64;

/// Runs a job whose outputs go into the archive `pack`, which `work` does as if they went into a
/// folder; `summary` finds the books in what comes of that.
pub(super) fn packed<T>(
    job: &Job,
    pack: &Path,
    context: &Context,
    work: impl FnOnce(&Job) -> Result<T, Error>,
    summary: impl FnOnce(&mut T) -> &mut Summary,
) -> Result<T, Error> {
    check_beside(pack, &protected(&job.sources), job.existing)?;
    let folder = pack.parent().unwrap_or(Path::new(""));
    let stage = Stage::beside(folder)?;
    let tree = stage.dir().join("outputs");
    let inner = Job {
        pack: None,
        out: Some(tree.clone()),
        ledger: job.ledger.as_ref().map(|_| stage.dir().join("ledger")),
        existing: ExistingPolicy::Refuse,
        sync: false,
        ..job.clone()
    };
    if let Some(ledger) = &job.ledger {
        check_beside(ledger, &protected(&job.sources), job.existing)?;
    }
    let mut done = work(&inner).map_err(|error| moved(error, &tree, pack))?;
    let books = summary(&mut done);
    books.out = pack.to_owned();
    let mut paths: Vec<&str> = Vec::new();
    for output in &books.ledger.outputs {
        if paths.last() != Some(&output.path.as_str()) {
            paths.push(&output.path);
        }
    }
    paths.sort_unstable();
    paths.dedup();
    let whole = stage.dir().join("archive");
    let mut destinations = Vec::new();
    if !paths.is_empty() {
        write(&tree, &paths, &whole, stage.dir(), job, context)
            .map_err(|error| moved(error.into(), &tree, pack))?;
        let name = pack.file_name().unwrap_or_default();
        destinations.push(Destination {
            staged: whole,
            path: name.to_string_lossy().into_owned(),
        });
    }
    let mut kept = None;
    if let Some(path) = &job.ledger {
        books.ledger.out = Some(from_folder_of(path, pack));
        books.ledger.new_folder = true;
        let mut file = keep_ledger(&mut books.ledger, job, path)?;
        file.finish(job.sync)?;
        books.kept_ledger = Some(path.clone());
        kept = Some(file);
    }
    context.check_cancelled()?;
    let folder = match folder.as_os_str().is_empty() {
        true => Path::new("."),
        false => folder,
    };
    let replace = job.existing == ExistingPolicy::Replace;
    commit(
        &stage,
        folder,
        &destinations,
        &[],
        replace,
        job.sync || replace,
    )?;
    if let Some(file) = kept {
        file.commit()?;
    }
    Ok(done)
}

/// What a plan of such a job looks at in place of the archive: a folder that is not there.
pub(super) fn planned(job: &Job, pack: &Path) -> Result<Job, Error> {
    check_beside(pack, &protected(&job.sources), job.existing)?;
    Ok(Job {
        pack: None,
        out: Some(pack.join("outputs")),
        existing: ExistingPolicy::Refuse,
        ..job.clone()
    })
}

/// An error about a file in the hidden folder, as one about a member of the archive.
fn moved(error: Error, tree: &Path, pack: &Path) -> Error {
    match error {
        Error::Output(error) => {
            let path = match error.path.strip_prefix(tree) {
                Ok(below) => pack.join(below),
                Err(_) => error.path,
            };
            Error::Output(OutputError { path, ..error })
        }
        other => other,
    }
}

/// Packs files below `tree` into `whole`, by way of archives of a few of them each.
fn write(
    tree: &Path,
    paths: &[&str],
    whole: &Path,
    stage: &Path,
    job: &Job,
    context: &Context,
) -> Result<(), OutputError> {
    let parts = parts(tree, paths);
    let threads = context.threads(job).min(parts.len()).max(1);
    let next = AtomicUsize::new(0);
    let failure = Mutex::new(None);
    let part_path = |part: usize| stage.join(format!("packed-{part}"));
    thread::scope(|scope| {
        for _ in 0..threads {
            scope.spawn(|| {
                loop {
                    let number = next.fetch_add(1, Ordering::Relaxed);
                    let Some(part) = parts.get(number) else { break };
                    if context.check_cancelled().is_err() {
                        break;
                    }
                    if let Err(error) = write_part(tree, part, &part_path(number), context.now) {
                        next.store(parts.len(), Ordering::Relaxed);
                        if let Ok(mut failure) = failure.lock() {
                            failure.get_or_insert(error);
                        }
                    }
                }
            });
        }
    });
    if let Some(error) = failure.into_inner().unwrap_or_default() {
        return Err(error);
    }
    if context.check_cancelled().is_err() {
        // The caller asks, too, and says so.
        return Ok(());
    }
    let failed = |error: io::Error| OutputError::new("writing", whole, error);
    let zip_failed = |error: ZipError| failed(error.into());
    let out = BufWriter::with_capacity(1 << 17, File::create_new(whole).map_err(failed)?);
    let mut out = ZipWriter::new(out);
    for number in 0..parts.len() {
        let path = part_path(number);
        let part = File::open(&path).map_err(failed)?;
        let part = ZipArchive::new(io::BufReader::new(part)).map_err(zip_failed)?;
        out.merge_archive(part).map_err(zip_failed)?;
        // The stage is removed as a whole later.
        let _ = fs::remove_file(&path);
    }
    let out = out.finish().map_err(zip_failed)?;
    let out = out
        .into_inner()
        .map_err(|error| failed(error.into_error()))?;
    if job.sync {
        out.sync_all().map_err(failed)?;
    }
    Ok(())
}

/// Neighbouring files that are packed together, with their sizes.
fn parts<'a>(tree: &Path, paths: &[&'a str]) -> Vec<Vec<(&'a str, u64)>> {
    let mut parts: Vec<Vec<(&str, u64)>> = Vec::new();
    let mut room = 0;
    for path in paths {
        let size = fs::metadata(tree.join(path)).map_or(0, |found| found.len());
        match parts.last_mut() {
            Some(part) if room >= size && part.len() < FILES => {
                room -= size;
                part.push((path, size));
            }
            _ => {
                room = BYTES.saturating_sub(size);
                parts.push(vec![(path, size)]);
            }
        }
    }
    parts
}

fn write_part(
    tree: &Path,
    files: &[(&str, u64)],
    to: &Path,
    now: DateTime,
) -> Result<(), OutputError> {
    let failed = |path: &Path, error: io::Error| OutputError::new("writing", path, error);
    let file = File::create_new(to).map_err(|error| failed(to, error))?;
    let mut out = ZipWriter::new(BufWriter::with_capacity(1 << 17, file));
    for (name, size) in files {
        let path: PathBuf = tree.join(name);
        let failed = |error| failed(&path, error);
        let options = SimpleFileOptions::default()
            .compression_method(method(name))
            .large_file(*size >= WIDE)
            .unix_permissions(0o644)
            .last_modified_time(time(now));
        out.start_file(*name, options)
            .map_err(|error| failed(error.into()))?;
        let mut input = File::open(&path).map_err(failed)?;
        io::copy(&mut input, &mut out).map_err(failed)?;
        // The stage is removed as a whole later; here it makes room.
        let _ = fs::remove_file(&path);
    }
    let out = out.finish().map_err(|error| failed(to, error.into()))?;
    out.into_inner()
        .map(drop)
        .map_err(|error| failed(to, error.into_error()))
}

/// What is packed already is stored as it is.
fn method(name: &str) -> CompressionMethod {
    let (plain, compression) = Compression::of_name(name);
    let extension = Path::new(plain).extension().unwrap_or_default();
    let format = crate::format::format_of(&extension.to_string_lossy());
    let book = format.is_some_and(|format| format.book.is_some());
    if compression.is_some() || book {
        CompressionMethod::Stored
    } else {
        CompressionMethod::Deflated
    }
}

/// The time of the run as archives have it: from 1980 on, in steps of two seconds.
fn time(now: DateTime) -> zip::DateTime {
    let whole = |part: i8| u8::try_from(part).unwrap_or(0);
    let year = u16::try_from(now.year()).unwrap_or(0);
    zip::DateTime::from_date_and_time(
        year,
        whole(now.month()),
        whole(now.day()),
        whole(now.hour()),
        whole(now.minute()),
        whole(now.second()),
    )
    .unwrap_or_default()
}
