//! The hidden folder in which outputs are written before they take their places.

use std::fs::{self, File};
use std::io::{self, Write};
use std::path::{Path, PathBuf};

use super::OutputError;

const PREFIX: &str = ".numerant-stage-";

/// A hidden folder on the file system of the destination. It is removed when it is dropped.
///
/// It holds a locked file as long as its run lives, so that a later run can tell one that was
/// left behind by a killed run, and remove it.
#[derive(Debug)]
pub(crate) struct Stage {
    dir: PathBuf,
    _lock: Option<File>,
}

impl Stage {
    /// Makes a stage for outputs below `root`, which need not exist yet.
    pub(crate) fn beside(root: &Path) -> Result<Self, OutputError> {
        let parent = existing_ancestor(root);
        if !parent.is_dir() {
            let cause = io::Error::from(io::ErrorKind::NotADirectory);
            return Err(OutputError::new("creating the folder", root, cause));
        }
        remove_abandoned(&parent);
        let pid = std::process::id();
        let mut number = 0_u32;
        loop {
            let dir = parent.join(format!("{PREFIX}{pid}-{number}"));
            match fs::create_dir(&dir) {
                Ok(()) => {
                    let path = dir.join("lock");
                    let lock = File::create(&path)
                        .and_then(|lock| lock.lock().map(|()| lock))
                        .map_err(|error| OutputError::new("writing", &path, error))?;
                    let _lock = Some(lock);
                    return Ok(Self { dir, _lock });
                }
                Err(error) if error.kind() == io::ErrorKind::AlreadyExists && number < 10_000 => {
                    number += 1;
                }
                Err(error) => return Err(OutputError::new("writing in", &parent, error)),
            }
        }
    }

    /// A stage in this one.
    pub(crate) fn within(&self, name: &str) -> Result<Self, OutputError> {
        let dir = self.dir.join(name);
        fs::create_dir(&dir).map_err(|error| OutputError::new("writing in", &self.dir, error))?;
        Ok(Self { dir, _lock: None })
    }

    /// Removes what an earlier run has left in it.
    pub(crate) fn clear(&self) {
        let Ok(entries) = fs::read_dir(&self.dir) else {
            return;
        };
        for entry in entries.flatten() {
            // What cannot be removed shows when a file of that name is made.
            let _ = match entry.file_type() {
                Ok(kind) if kind.is_dir() => fs::remove_dir_all(entry.path()),
                _ => fs::remove_file(entry.path()),
            };
        }
    }

    pub(crate) fn dir(&self) -> &Path {
        &self.dir
    }
}

impl Drop for Stage {
    fn drop(&mut self) {
        // What cannot be removed is hidden, and the next run tries again.
        let _ = fs::remove_dir_all(&self.dir);
    }
}

/// The longest part of `path` that exists.
fn existing_ancestor(path: &Path) -> PathBuf {
    path.ancestors()
        .find(|ancestor| !ancestor.as_os_str().is_empty() && ancestor.exists())
        .map_or_else(|| PathBuf::from("."), Path::to_path_buf)
}

/// Removes the stages in `parent` whose runs are gone.
fn remove_abandoned(parent: &Path) {
    let Ok(entries) = fs::read_dir(parent) else {
        return;
    };
    for entry in entries.flatten() {
        if !entry.file_name().to_string_lossy().starts_with(PREFIX) {
            continue;
        }
        let dir = entry.path();
        // A stage without a lock may be one that is just being made.
        if let Ok(lock) = File::open(dir.join("lock"))
            && lock.try_lock().is_ok()
        {
            let _ = fs::remove_dir_all(&dir);
        }
    }
}

/// A single file beside the outputs, such as a ledger: staged in its own folder, and removed
/// when it is dropped before it has taken its place.
#[derive(Debug)]
pub(crate) struct SideFile {
    staged: PathBuf,
    path: PathBuf,
    file: io::BufWriter<File>,
}

impl SideFile {
    /// Begins a file that is to take its place at `path` later. Its folder need not exist yet.
    pub(crate) fn create(path: &Path) -> Result<Self, OutputError> {
        let folder = path.parent().unwrap_or(Path::new(""));
        let name = path.file_name().unwrap_or_default().to_string_lossy();
        let hidden = format!("{PREFIX}{}-{name}", std::process::id());
        let staged = existing_ancestor(folder).join(hidden);
        let file =
            File::create(&staged).map_err(|error| OutputError::new("writing", path, error))?;
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

    /// Writes what is left in memory, so that a commit is only a rename.
    pub(crate) fn finish(&mut self, sync: bool) -> Result<(), OutputError> {
        let synced = self.file.flush().and_then(|()| {
            if sync {
                self.file.get_ref().sync_all()
            } else {
                Ok(())
            }
        });
        synced.map_err(|error| OutputError::new("writing", &self.path, error))
    }

    /// Puts the file in its place.
    pub(crate) fn commit(self) -> Result<(), OutputError> {
        if let Some(folder) = self.path.parent() {
            fs::create_dir_all(folder)
                .map_err(|error| OutputError::new("creating the folder", folder, error))?;
        }
        fs::rename(&self.staged, &self.path)
            .map_err(|error| OutputError::new("writing", &self.path, error))
    }
}

impl Drop for SideFile {
    fn drop(&mut self) {
        // After a commit there is nothing left to remove.
        let _ = fs::remove_file(&self.staged);
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_stage_is_beside_its_destination_and_goes_away() {
        let folder = tempfile::tempdir().expect("a folder");
        let stage = Stage::beside(&folder.path().join("a/b/parts")).expect("a stage");
        assert_eq!(stage.dir().parent(), Some(folder.path()));
        let other = Stage::beside(&folder.path().join("other")).expect("a second stage");
        assert!(stage.dir().exists() && stage.dir() != other.dir());
        drop((stage, other));
        assert_eq!(fs::read_dir(folder.path()).expect("readable").count(), 0);
    }

    #[test]
    fn an_abandoned_stage_is_removed_by_the_next_run() {
        let folder = tempfile::tempdir().expect("a folder");
        let abandoned = folder.path().join(format!("{PREFIX}999999-0"));
        fs::create_dir(&abandoned).expect("made");
        fs::write(abandoned.join("lock"), "").expect("written");
        fs::write(abandoned.join("0"), "half a record").expect("written");
        let _stage = Stage::beside(folder.path()).expect("a stage");
        assert!(!abandoned.exists());
    }
}
