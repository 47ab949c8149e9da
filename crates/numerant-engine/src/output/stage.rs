//! The hidden folder in which outputs are written before they take their places.

use std::fs::{self, File};
use std::io::{self, Write};
use std::path::{Path, PathBuf};
use std::sync::Arc;
use std::sync::atomic::{AtomicBool, AtomicU64, Ordering};

use super::OutputError;
use super::lock::{Locked, try_lock};
use numerant_data::disk::{Disk, OutFile};

/// Names of such folders begin so; numbers follow.
const PREFIX: &str = ".numerant-stage-";

/// The file in it that its run holds the lock of.
const LOCK: &str = "lock";

/// The journals of commits that have begun in it are called so, with a number for stages within it.
const JOURNAL: (&str, &str) = ("journal", ".json");

/// Says which other stage it belongs to.
const BELONGS: &str = "belongs-to";

/// Stages that are tried before it is given up.
const TRIES: u32 = 10_000;

/// A hidden folder on the file system of the destination, which only its owner may look into. It is removed when
/// it is dropped.
///
/// # Invariants
///
/// As long as its run lives, it holds the lock of a file in it. So a later run can tell one that a killed run has
/// left, and it removes only those that hold nothing that is still needed.
#[derive(Debug)]
pub(crate) struct Stage {
    dir: PathBuf,
    disk: Disk,
    /// Held as long as the stage lives.
    lock: Option<File>,
    has_locks: bool,
    side_files: AtomicU64,
    /// Where the journal of a commit stands.
    journal: PathBuf,
    /// It is not removed, as a commit that could not be rolled back needs what is in it.
    stays: Arc<AtomicBool>,
}

impl Stage {
    /// Makes a stage for outputs below `root`, which need not exist yet.
    pub(crate) fn beside(root: &Path, disk: &Disk) -> Result<Self, OutputError> {
        let parent = existing_ancestor(root);
        if !parent.is_dir() {
            let cause = io::Error::from(io::ErrorKind::NotADirectory);
            return Err(OutputError::new("creating the folder", root, cause));
        }
        Self::make(&parent, disk)
    }

    /// Makes a stage in a folder for what belongs to another one on another file system.
    pub(super) fn for_other(&self, folder: &Path) -> Result<Self, OutputError> {
        let stage = Self::make(&existing_ancestor(folder), &self.disk)?;
        let path = stage.dir.join(BELONGS);
        let main = absolute(&self.dir);
        stage
            .disk
            .create(&path)
            .and_then(|mut file| {
                file.write_all(main.as_os_str().as_encoded_bytes())?;
                file.finish(false)
            })
            .map_err(|error| OutputError::new("writing", &path, error))?;
        Ok(stage)
    }

    fn make(parent: &Path, disk: &Disk) -> Result<Self, OutputError> {
        let failed = |error| OutputError::new("writing in", parent, error);
        let pid = std::process::id();
        for number in 0..TRIES {
            let dir = parent.join(format!("{PREFIX}{pid}-{number}"));
            match disk.make_private_folder(&dir) {
                Ok(()) => {}
                Err(error) if error.kind() == io::ErrorKind::AlreadyExists => continue,
                Err(error) => return Err(failed(error)),
            }
            let path = dir.join(LOCK);
            let made = disk.create(&path).and_then(|file| file.finish(false));
            let locked = made.and_then(|()| {
                let lock = open_lock(&path)?;
                let locked = try_lock(&lock)?;
                Ok((lock, locked))
            });
            match locked {
                // Another run may have taken it for one without a run, before it was locked.
                Ok((_, Locked::Taken)) => {}
                Ok((lock, locked)) if is_same(&lock, &path) => {
                    return Ok(Self {
                        journal: dir.join(JOURNAL.0.to_owned() + JOURNAL.1),
                        dir,
                        disk: disk.clone(),
                        lock: Some(lock),
                        has_locks: locked == Locked::Held,
                        side_files: AtomicU64::new(0),
                        stays: Arc::default(),
                    });
                }
                Ok(_) => {}
                Err(error) if error.kind() == io::ErrorKind::NotFound => {}
                Err(error) => {
                    let _ = disk.remove_all(&dir);
                    return Err(failed(error));
                }
            }
        }
        Err(failed(io::Error::from(io::ErrorKind::AlreadyExists)))
    }

    /// A stage in this one.
    pub(crate) fn within(&self, name: &str) -> Result<Self, OutputError> {
        let dir = self.dir.join(name);
        self.disk
            .make_folder(&dir)
            .map_err(|error| OutputError::new("writing in", &self.dir, error))?;
        Ok(Self {
            dir,
            disk: self.disk.clone(),
            lock: None,
            has_locks: self.has_locks,
            side_files: AtomicU64::new(0),
            journal: self.dir.join(format!("{}-{name}{}", JOURNAL.0, JOURNAL.1)),
            stays: Arc::clone(&self.stays),
        })
    }

    /// Removes what an earlier run has left in it.
    pub(crate) fn clear(&self) {
        if self.stays.load(Ordering::Relaxed) {
            return;
        }
        let Ok(entries) = fs::read_dir(&self.dir) else {
            return;
        };
        for entry in entries.flatten() {
            // What cannot be removed shows when a file of that name is made.
            let _ = match entry.file_type() {
                Ok(kind) if kind.is_dir() => self.disk.remove_all(&entry.path()),
                _ => self.disk.remove(&entry.path()),
            };
        }
    }

    pub(crate) fn dir(&self) -> &Path {
        &self.dir
    }

    pub(crate) fn disk(&self) -> &Disk {
        &self.disk
    }

    /// Where the journal of a commit stands.
    pub(super) fn journal(&self) -> &Path {
        &self.journal
    }

    /// Whether the file system has locks, so that runs at the same time are kept apart.
    pub(super) fn has_locks(&self) -> bool {
        self.has_locks
    }

    /// Leaves it where it is, for a later run to roll back what was begun.
    pub(super) fn stay(&self) {
        self.stays.store(true, Ordering::Relaxed);
    }
}

impl Drop for Stage {
    fn drop(&mut self) {
        if !self.stays.load(Ordering::Relaxed) {
            // What cannot be removed is hidden, and the next run tries again.
            let _ = remove(&self.dir, &self.disk);
        }
        drop(self.lock.take());
    }
}

/// Removes a stage. The file that is locked goes last, so that what is left is still known for a stage without a run.
pub(super) fn remove(dir: &Path, disk: &Disk) -> io::Result<()> {
    for entry in fs::read_dir(dir)? {
        let entry = entry?;
        match entry.file_type()?.is_dir() {
            true => disk.remove_all(&entry.path())?,
            false if entry.file_name() != LOCK => disk.remove(&entry.path())?,
            false => {}
        }
    }
    let lock = dir.join(LOCK);
    if fs::symlink_metadata(&lock).is_ok() {
        disk.remove(&lock)?;
    }
    disk.remove_folder(dir)
}

/// A stage whose run is gone. Its lock is held, so that no other run takes it.
pub(super) struct Abandoned {
    pub(super) dir: PathBuf,
    _lock: File,
}

impl Abandoned {
    /// The journals of commits that have begun in it.
    pub(super) fn journals(&self) -> Vec<PathBuf> {
        journals_in(&self.dir)
    }

    /// Whether a commit that has begun needs what is in it.
    pub(super) fn is_needed(&self) -> bool {
        let main = fs::read(self.dir.join(BELONGS)).ok().map(from_bytes);
        !self.journals().is_empty() || main.is_some_and(|main| !journals_in(&main).is_empty())
    }
}

/// The journals in a stage.
fn journals_in(dir: &Path) -> Vec<PathBuf> {
    let entries = fs::read_dir(dir).into_iter().flatten().flatten();
    let is_journal = |path: &PathBuf| {
        let name = path.file_name().unwrap_or_default().to_string_lossy();
        name.starts_with(JOURNAL.0) && name.ends_with(JOURNAL.1)
    };
    let mut journals: Vec<PathBuf> = entries
        .map(|entry| entry.path())
        .filter(is_journal)
        .collect();
    journals.sort();
    journals
}

/// The stages in a folder whose runs are gone.
pub(super) fn abandoned(folder: &Path) -> Vec<Abandoned> {
    let Ok(entries) = fs::read_dir(folder) else {
        return Vec::new();
    };
    let mut found = Vec::new();
    for entry in entries.flatten() {
        let dir = entry.path();
        let is_stage = entry.file_name().to_string_lossy().starts_with(PREFIX)
            && entry.file_type().is_ok_and(|kind| kind.is_dir())
            && is_own(&dir);
        let path = dir.join(LOCK);
        let is_file = fs::symlink_metadata(&path).is_ok_and(|found| found.is_file());
        if is_stage && !is_file {
            // One that is just being made is made anew then; one that is not empty stays.
            let _ = fs::remove_dir(&dir);
        }
        if is_stage
            && is_file
            && let Ok(lock) = open_lock(&path)
            && matches!(try_lock(&lock), Ok(Locked::Held))
        {
            found.push(Abandoned { dir, _lock: lock });
        }
    }
    found.sort_by(|one, other| one.dir.cmp(&other.dir));
    found
}

/// Opens a file that is locked: to write, too, as locks on network drives want that.
fn open_lock(path: &Path) -> io::Result<File> {
    File::options().read(true).write(true).open(path)
}

/// Whether a folder belongs to the user of this process.
fn is_own(folder: &Path) -> bool {
    #[cfg(unix)]
    {
        use std::os::unix::fs::MetadataExt;
        let user = rustix::process::geteuid().as_raw();
        fs::symlink_metadata(folder).is_ok_and(|found| found.uid() == user)
    }
    #[cfg(not(unix))]
    folder.is_dir()
}

/// Whether a path still leads to an open file.
fn is_same(file: &File, path: &Path) -> bool {
    #[cfg(unix)]
    {
        use std::os::unix::fs::MetadataExt;
        let same = |one: fs::Metadata, other: fs::Metadata| {
            (one.dev(), one.ino()) == (other.dev(), other.ino())
        };
        file.metadata()
            .and_then(|one| Ok(same(one, fs::symlink_metadata(path)?)))
            .unwrap_or(false)
    }
    #[cfg(not(unix))]
    {
        let _ = file;
        path.is_file()
    }
}

pub(super) fn from_bytes(bytes: Vec<u8>) -> PathBuf {
    #[cfg(unix)]
    {
        use std::os::unix::ffi::OsStringExt;
        std::ffi::OsString::from_vec(bytes).into()
    }
    #[cfg(not(unix))]
    String::from_utf8_lossy(&bytes).into_owned().into()
}

/// A path from the root of the file system on.
pub(super) fn absolute(path: &Path) -> PathBuf {
    std::path::absolute(path).unwrap_or_else(|_| path.to_owned())
}

/// The longest part of `path` that exists.
pub(super) fn existing_ancestor(path: &Path) -> PathBuf {
    path.ancestors()
        .find(|ancestor| !ancestor.as_os_str().is_empty() && ancestor.exists())
        .map_or_else(|| PathBuf::from("."), Path::to_path_buf)
}

/// A single file next to the outputs, such as a ledger, that is being written on a stage.
#[derive(Debug)]
pub(crate) struct SideFile {
    staged: PathBuf,
    path: PathBuf,
    file: io::BufWriter<OutFile>,
}

/// A single file next to the outputs that is complete, and the path that it is to have.
#[derive(Debug)]
pub(crate) struct Beside {
    pub(crate) staged: PathBuf,
    pub(crate) path: PathBuf,
}

impl SideFile {
    /// Begins a file that is to take its place at `path` later. Its folder need not exist yet.
    pub(crate) fn create(stage: &Stage, path: &Path) -> Result<Self, OutputError> {
        let number = stage.side_files.fetch_add(1, Ordering::Relaxed);
        let staged = stage.dir.join(format!("beside-{number}"));
        let file = stage
            .disk
            .create(&staged)
            .map_err(|error| OutputError::new("writing", path, error))?;
        Ok(Self {
            staged,
            path: path.to_owned(),
            file: io::BufWriter::new(file),
        })
    }

    pub(crate) fn write(&mut self, bytes: &[u8]) -> Result<(), OutputError> {
        self.file
            .write_all(bytes)
            .map_err(|error| OutputError::new("writing", &self.path, error))
    }

    /// Writes what is left in memory, and closes it.
    pub(crate) fn finish(self, sync: bool) -> Result<Beside, OutputError> {
        let Self { staged, path, file } = self;
        let failed = |error| OutputError::new("writing", &path, error);
        let file = file
            .into_inner()
            .map_err(|error| failed(error.into_error()))?;
        file.finish(sync).map_err(failed)?;
        Ok(Beside { staged, path })
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn stage(root: &Path) -> Stage {
        Stage::beside(root, &Disk::default()).expect("a stage")
    }

    fn left_behind(folder: &Path, number: u32) -> PathBuf {
        let dir = folder.join(format!("{PREFIX}999999-{number}"));
        fs::create_dir(&dir).expect("made");
        fs::write(dir.join(LOCK), "").expect("written");
        fs::write(dir.join("0"), "half a record").expect("written");
        dir
    }

    #[test]
    fn a_stage_is_beside_its_destination_and_goes_away() {
        let folder = tempfile::tempdir().expect("a folder");
        let one = stage(&folder.path().join("a/b/parts"));
        assert_eq!(one.dir().parent(), Some(folder.path()));
        let other = stage(&folder.path().join("other"));
        assert!(one.dir().exists() && one.dir() != other.dir());
        drop((one, other));
        assert_eq!(fs::read_dir(folder.path()).expect("readable").count(), 0);
    }

    #[test]
    fn only_its_owner_may_look_into_a_stage() {
        use std::os::unix::fs::PermissionsExt;
        let folder = tempfile::tempdir().expect("a folder");
        let stage = stage(folder.path());
        let found = fs::metadata(stage.dir()).expect("there");
        assert_eq!(found.permissions().mode() & 0o777, 0o700);
    }

    #[test]
    fn what_is_needed_in_an_abandoned_stage_is_told_apart() {
        let folder = tempfile::tempdir().expect("a folder");
        let empty = left_behind(folder.path(), 0);
        let begun = left_behind(folder.path(), 1);
        fs::write(begun.join("journal-3.json"), "{}").expect("written");
        let of_begun = left_behind(folder.path(), 2);
        fs::write(of_begun.join(BELONGS), begun.as_os_str().as_encoded_bytes()).expect("written");
        let linked = folder.path().join(format!("{PREFIX}999999-3"));
        let elsewhere = tempfile::tempdir().expect("a folder");
        std::os::unix::fs::symlink(elsewhere.path(), &linked).expect("linked");
        let living = stage(folder.path());
        let found = abandoned(folder.path());
        let needed = |dir: &Path| {
            let found = found.iter().find(|found| found.dir == dir);
            found.map(Abandoned::is_needed)
        };
        assert_eq!(needed(&empty), Some(false));
        assert_eq!(
            (needed(&begun), needed(&of_begun)),
            (Some(true), Some(true))
        );
        assert_eq!((needed(&linked), needed(living.dir())), (None, None));
    }

    #[test]
    fn side_files_of_one_name_have_files_of_their_own() {
        let folder = tempfile::tempdir().expect("a folder");
        let stage = stage(folder.path());
        let mut one = SideFile::create(&stage, Path::new("rejects/day")).expect("made");
        let mut other = SideFile::create(&stage, Path::new("ledgers/day")).expect("made");
        one.write(b"rejects").expect("written");
        other.write(b"ledger").expect("written");
        let (one, other) = (one.finish(false), other.finish(true));
        let read = |beside: Result<Beside, OutputError>| {
            fs::read_to_string(beside.expect("finished").staged).expect("there")
        };
        assert_eq!(
            (read(one).as_str(), read(other).as_str()),
            ("rejects", "ledger")
        );
    }
}
