//! All outputs of a run in one zip archive: they are written below a hidden folder first, each is
//! packed by itself, several at the same time, and the archive takes its place when it is complete.

use std::fs::{self, File};
use std::io;
use std::path::{Path, PathBuf};

use zip::result::ZipError;
use zip::write::SimpleFileOptions;
use zip::{CompressionMethod, ZipArchive};

use super::addresses::check_beside;
use super::protect::protected;
use super::run::keep_ledger;
use super::{Context, Error, Summary};
use crate::job::Job;
use crate::ledger::out_of_ledger;
use crate::output::{Beside, Changes, Destination, ExistingPolicy, OutputError, Stage};
use numerant_data::disk::{Archive, Disk};
use numerant_data::source::Compression;
use numerant_data::workers::WorkerPool;

/// Outputs that are packed together: so many bytes or files of them.
const BYTES: u64 = 8 << 20;
const FILES: usize = 256;

/// Bytes that are written at a time.
const PIECE: usize = 1 << 17;

/// What the rejects are called on the stage.
const REJECTS: &str = "rejects";

/// From this size on a member needs the wide fields of the format.
const WIDE: u64 = u32::MAX as u64;

/// Runs a job whose outputs go into the archive `pack`, which `work` does as if they went into a
/// folder; `summary` finds the books in what comes of that.
pub(super) fn packed<T>(
    job: &Job,
    pack: &Path,
    context: &Context,
    work: impl FnOnce(&Job) -> Result<T, Error>,
    summary: impl Fn(&mut T) -> &mut Summary,
) -> Result<T, Error> {
    let read = protected(&job.sources, job, context);
    check_beside(pack, &read, job.existing)?;
    let folder = pack.parent().unwrap_or(Path::new(""));
    let stage = Stage::beside(folder, &context.disk)?;
    let tree = stage.dir().join("outputs");
    let inner = Job {
        pack: None,
        out: Some(tree.clone()),
        ledger: job.ledger.as_ref().map(|_| stage.dir().join("ledger")),
        rejects: job.rejects.as_ref().map(|_| stage.dir().join(REJECTS)),
        existing: ExistingPolicy::Refuse,
        sync: false,
        ..job.clone()
    };
    for path in job.ledger.iter().chain(&job.rejects) {
        check_beside(path, &read, job.existing)?;
    }
    let folder = if folder.as_os_str().is_empty() {
        Path::new(".")
    } else {
        folder
    };
    let replace = job.existing == ExistingPolicy::Replace;
    let sync = job.sync || replace;
    let place = |outputs, beside| {
        let changes = Changes {
            root: folder,
            outputs,
            removed: &[],
            beside,
            replace,
            sync,
        };
        context.commit(&stage, &changes)
    };
    let mut done = match work(&inner) {
        Err(Error::AllRejected {
            records,
            first,
            kept: Some(_),
        }) => {
            // The rejected records are all there is to mend the source by.
            place(Vec::new(), rejects(&stage, job, sync)?)?;
            return Err(Error::AllRejected {
                records,
                first,
                kept: job.rejects.clone(),
            });
        }
        done => done.map_err(|error| moved(error, &tree, pack))?,
    };
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
        let workers = WorkerPool::new(context.threads(job));
        write(&tree, &paths, &whole, &stage, sync, &workers, context)
            .map_err(|error| moved(error.into(), &tree, pack))?;
        let name = pack.file_name().unwrap_or_default();
        destinations.push(Destination {
            staged: whole,
            path: name.to_string_lossy().into_owned(),
        });
    }
    let mut beside = rejects(&stage, job, sync)?;
    if let Some(path) = &job.ledger {
        books.ledger.out = out_of_ledger(path, pack);
        books.ledger.new_folder = true;
        let file = keep_ledger(&mut books.ledger, job, path, &stage)?;
        beside.push(file.finish(sync)?);
        books.kept_ledger = Some(path.clone());
    }
    let notices = place(destinations, beside)?;
    summary(&mut done).notices.extend(notices);
    Ok(done)
}

/// The rejects of a run, in a file or in those of a folder, with the paths that they are to have.
fn rejects(stage: &Stage, job: &Job, sync: bool) -> Result<Vec<Beside>, OutputError> {
    let Some(path) = &job.rejects else {
        return Ok(Vec::new());
    };
    let staged = stage.dir().join(REJECTS);
    let mut files = Vec::new();
    let mut folders = vec![staged.clone()];
    while let Some(folder) = folders.pop() {
        let Ok(entries) = fs::read_dir(&folder) else {
            if folder.is_file() {
                files.push(folder);
            }
            continue;
        };
        folders.extend(entries.flatten().map(|entry| entry.path()));
    }
    files.sort();
    let beside = files.into_iter().map(|file| {
        let below = file.strip_prefix(&staged).unwrap_or(Path::new(""));
        let path = if below.as_os_str().is_empty() {
            path.clone()
        } else {
            path.join(below)
        };
        if sync {
            let failed = |error| OutputError::new("writing", &path, error);
            stage.disk().sync_file(&file).map_err(failed)?;
        }
        Ok(Beside { staged: file, path })
    });
    beside.collect()
}

/// What a plan of such a job looks at in place of the archive: a folder that is not there.
pub(super) fn planned(job: &Job, pack: &Path, context: &Context) -> Result<Job, Error> {
    check_beside(pack, &protected(&job.sources, job, context), job.existing)?;
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
    stage: &Stage,
    sync: bool,
    workers: &WorkerPool,
    context: &Context,
) -> Result<(), OutputError> {
    let parts = parts(tree, paths);
    let part_path = |part: usize| stage.dir().join(format!("packed-{part}"));
    let disk = stage.disk();
    let numbered: Vec<(usize, &[(&str, u64)])> =
        parts.iter().map(Vec::as_slice).enumerate().collect();
    workers.try_map(&numbered, |(number, part)| {
        if context.check_cancelled().is_err() {
            // The caller asks, too, and says so.
            return Ok(());
        }
        write_part(tree, part, &part_path(*number), disk)
    })?;
    if context.check_cancelled().is_err() {
        return Ok(());
    }
    let failed = |error: io::Error| OutputError::new("writing", whole, error);
    let zip_failed = |error: ZipError| failed(error.into());
    let mut out = Archive::new(disk.create(whole).map_err(failed)?, PIECE);
    for number in 0..parts.len() {
        let path = part_path(number);
        let part = File::open(&path).map_err(failed)?;
        let part = ZipArchive::new(io::BufReader::new(part)).map_err(zip_failed)?;
        out.merge_archive(part).map_err(zip_failed)?;
        out.check().map_err(failed)?;
        // The stage is removed as a whole later.
        let _ = disk.remove(&path);
    }
    out.finish(sync).map_err(failed)
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
    disk: &Disk,
) -> Result<(), OutputError> {
    let failed = |path: &Path, error: io::Error| OutputError::new("writing", path, error);
    let file = disk.create(to).map_err(|error| failed(to, error))?;
    let mut out = Archive::new(file, PIECE);
    for (name, size) in files {
        let path: PathBuf = tree.join(name);
        let failed = |error| failed(&path, error);
        let options = SimpleFileOptions::default()
            .compression_method(method(name))
            .large_file(*size >= WIDE)
            .unix_permissions(0o644)
            // The same bytes each time.
            .last_modified_time(zip::DateTime::default());
        out.start_file(*name, options)
            .map_err(|error| failed(error.into()))?;
        let mut input = File::open(&path).map_err(failed)?;
        io::copy(&mut input, &mut *out).map_err(failed)?;
        out.check().map_err(failed)?;
        // The stage is removed as a whole later; here it makes room.
        let _ = disk.remove(&path);
    }
    out.finish(false).map_err(|error| failed(to, error))
}

/// What is packed already is stored as it is.
fn method(name: &str) -> CompressionMethod {
    let (plain, compression) = Compression::of_name(name);
    let extension = Path::new(plain).extension().unwrap_or_default();
    let format = numerant_formats::format_of(&extension.to_string_lossy());
    let book = format.is_some_and(|format| format.capabilities().workbook.is_some());
    if compression.is_some() || book {
        CompressionMethod::Stored
    } else {
        CompressionMethod::Deflated
    }
}
