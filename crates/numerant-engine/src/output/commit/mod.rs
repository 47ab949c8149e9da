//! Puts staged outputs in their places, with the files next to them, and takes away what is to go: all of it, or
//! nothing.
//!
//! A destination folder that does not exist yet appears with all that is in it by one rename. Several changes stand
//! in a journal before the first of them is made; if one fails, those before it are rolled back, and if the run is
//! killed, the next one does that.
//!
//! # Invariants
//!
//! All that can be found out is found out before the first change: what is at each path, whether a link leads
//! out of the folder, and on which file system a path is. Each change is then one rename within a file system.

mod journal;
mod recover;
mod targets;

use std::collections::{HashMap, HashSet};
use std::path::{Path, PathBuf};
use std::{fs, io};

use self::journal::{Change, Folder, Journal, number_of};
use self::targets::{Below, Target, target, volume};
use super::lock::FolderLock;
use super::stage::{Beside, absolute, existing_ancestor};
use super::{OutputError, Stage};

pub use recover::{Direction, Recovered, RecoveryError};
pub(crate) use recover::{recover, recover_before, unfinished};

/// A staged file and the path it is to have.
#[derive(Debug)]
pub(crate) struct Destination {
    pub(crate) staged: PathBuf,
    /// Below the root, with `/` between folders.
    pub(crate) path: String,
}

/// What a run changes.
#[derive(Debug)]
pub(crate) struct Changes<'a> {
    /// The output folder.
    pub(crate) root: &'a Path,
    pub(crate) outputs: Vec<Destination>,
    /// Files below the root that are removed.
    pub(crate) removed: &'a [String],
    /// Files next to the outputs.
    pub(crate) beside: Vec<Beside>,
    /// Files that are in the way are replaced, and are not an error.
    pub(crate) replace: bool,
    /// All has to be on the device at the end.
    pub(crate) sync: bool,
}

impl Changes<'_> {
    /// The path of a file below the root, if it is there.
    fn below_root(&self, path: &Path) -> Option<PathBuf> {
        let below = absolute(path);
        let below = below.strip_prefix(absolute(self.root)).ok()?;
        Some(below.to_owned())
    }

    /// The files next to the outputs that are below the root, with their paths there.
    fn within_root(&self) -> impl Iterator<Item = (&PathBuf, PathBuf)> {
        let below = |beside: &'_ Beside| self.below_root(&beside.path);
        self.beside
            .iter()
            .filter_map(move |beside| Some((&beside.staged, below(beside)?)))
    }
}

/// What came of a commit.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(crate) struct Committed {
    /// The file system has no locks, so that runs at the same time are not kept apart.
    pub(crate) unlocked: bool,
}

/// Makes all changes of a run, or none. `wait` is asked while another run holds the folder, and may end the waiting.
pub(crate) fn commit<E: From<OutputError>>(
    stage: &Stage,
    changes: &Changes<'_>,
    mut wait: impl FnMut() -> Result<(), E>,
) -> Result<Committed, E> {
    if changes.outputs.is_empty() && changes.removed.is_empty() && changes.beside.is_empty() {
        return Ok(Committed { unlocked: false });
    }
    let mut folder = existing_ancestor(changes.root);
    let lock = loop {
        let lock = FolderLock::wait_for(&folder, &mut wait)?;
        // Another run may have made the folder meanwhile.
        let now = existing_ancestor(changes.root);
        if now == folder {
            break lock;
        }
        folder = now;
    };
    let unlocked = !lock.is_held() || !stage.has_locks();
    Commit::new(stage, changes).and_then(Commit::make)?;
    Ok(Committed { unlocked })
}

/// A commit whose changes are known.
struct Commit<'a> {
    stage: &'a Stage,
    journal: Journal,
    /// Files that have to be copied to the file system of their path first.
    copied: Vec<(PathBuf, PathBuf)>,
    /// Stages on other file systems, by what tells those apart.
    others: HashMap<(u64, u64), Stage>,
    volumes: HashMap<PathBuf, Option<(u64, u64)>>,
    own_volume: Option<(u64, u64)>,
    sync: bool,
}

fn failed<'a>(doing: &'static str, path: &'a Path) -> impl Fn(io::Error) -> OutputError + 'a {
    move |error| OutputError::new(doing, path, error)
}

impl<'a> Commit<'a> {
    /// Looks at all that is to be changed.
    fn new(stage: &'a Stage, changes: &Changes<'_>) -> Result<Self, OutputError> {
        let mut commit = Self {
            stage,
            journal: Journal::new(&absolute(changes.root)),
            copied: Vec::new(),
            others: HashMap::new(),
            volumes: HashMap::new(),
            own_volume: volume(stage.dir()),
            sync: changes.sync,
        };
        let is_new = !changes.outputs.is_empty() && fs::symlink_metadata(changes.root).is_err();
        if is_new {
            let tree = commit.tree(changes)?;
            let parent = changes.root.parent().unwrap_or(Path::new(""));
            commit.make_folders_later(parent);
            commit.place(&tree, changes.root, Target::New)?;
        } else {
            let mut below = Below::new(changes.root);
            for output in &changes.outputs {
                let path = changes.root.join(&output.path);
                let folders = below
                    .folders(&output.path)
                    .map_err(|(folder, error)| OutputError::new("writing in", &folder, error))?;
                for (folder, exists) in folders {
                    if !exists {
                        commit.make_folder_later(&folder);
                    }
                }
                let found = target(&path, changes.replace).map_err(failed("writing", &path))?;
                commit.place(&output.staged, &path, found)?;
            }
            for path in changes.removed {
                below
                    .folders(path)
                    .map_err(|(folder, error)| OutputError::new("removing from", &folder, error))?;
                commit.remove(&changes.root.join(path))?;
            }
        }
        for beside in &changes.beside {
            if is_new && changes.below_root(&beside.path).is_some() {
                // It is in the folder that has appeared.
                continue;
            }
            if let Some(parent) = beside.path.parent() {
                commit.make_folders_later(parent);
            }
            let found = target(&beside.path, changes.replace);
            let found = found.map_err(failed("writing", &beside.path))?;
            commit.place(&beside.staged, &beside.path, found)?;
        }
        Ok(commit)
    }

    /// Puts the outputs into a folder on the stage.
    fn tree(&self, changes: &Changes<'_>) -> Result<PathBuf, OutputError> {
        let disk = self.stage.disk();
        let tree = self.stage.dir().join("tree");
        disk.make_folder(&tree)
            .map_err(failed("creating the folder", changes.root))?;
        let mut made: HashSet<PathBuf> = HashSet::from([tree.clone()]);
        let outputs = changes.outputs.iter();
        let outputs = outputs.map(|output| (&output.staged, Path::new(&output.path).to_owned()));
        let within = changes.within_root();
        for (staged, below) in outputs.chain(within) {
            let path = tree.join(&below);
            if let Some(parent) = path.parent().filter(|parent| !made.contains(*parent)) {
                disk.make_folders(parent)
                    .map_err(failed("creating the folder", parent))?;
                made.insert(parent.to_owned());
            }
            disk.rename_new(staged, &path)
                .map_err(failed("writing", &changes.root.join(&below)))?;
        }
        if changes.sync {
            for folder in &made {
                disk.sync_folder(folder)
                    .map_err(failed("syncing the folder", folder))?;
            }
        }
        Ok(tree)
    }

    /// Takes down folders that are not there.
    fn make_folders_later(&mut self, folder: &Path) {
        if folder.as_os_str().is_empty() || folder.exists() {
            return;
        }
        if let Some(parent) = folder.parent() {
            self.make_folders_later(parent);
        }
        self.make_folder_later(folder);
    }

    fn make_folder_later(&mut self, folder: &Path) {
        let path = absolute(folder);
        if self
            .journal
            .folders
            .last()
            .is_none_or(|last| last.path != path)
            && !self.journal.folders.iter().any(|known| known.path == path)
        {
            self.journal.folders.push(Folder { path });
        }
    }

    /// The stage on the file system that a path is on.
    fn stage_for(&mut self, path: &Path) -> Result<&Stage, OutputError> {
        let folder = existing_ancestor(path.parent().unwrap_or(Path::new("")));
        let found = *self
            .volumes
            .entry(folder)
            .or_insert_with_key(|folder| volume(folder));
        let (Some(volume), true) = (found, found != self.own_volume) else {
            return Ok(self.stage);
        };
        match self.others.entry(volume) {
            std::collections::hash_map::Entry::Occupied(entry) => Ok(entry.into_mut()),
            std::collections::hash_map::Entry::Vacant(entry) => {
                let folder = path.parent().unwrap_or(Path::new(""));
                Ok(entry.insert(self.stage.for_other(folder)?))
            }
        }
    }

    /// Takes down that a file or folder takes its place.
    fn place(&mut self, staged: &Path, path: &Path, found: Target) -> Result<(), OutputError> {
        let number = self.journal.changes.len();
        let dir = self.stage_for(path)?.dir().to_owned();
        let mut own = staged.to_owned();
        if dir != self.stage.dir() {
            own = dir.join(format!("new-{number}"));
            self.copied.push((staged.to_owned(), own.clone()));
        }
        let kept = match found {
            Target::New => None,
            Target::File(old) => {
                let disk = self.stage.disk();
                disk.set_permissions(staged, &old)
                    .map_err(failed("writing", path))?;
                Some(absolute(&dir.join(format!("old-{number}"))))
            }
        };
        self.journal.changes.push(Change {
            path: absolute(path),
            staged: Some(absolute(&own)),
            kept,
            file: None,
        });
        Ok(())
    }

    /// Takes down that a file is removed.
    fn remove(&mut self, path: &Path) -> Result<(), OutputError> {
        let number = self.journal.changes.len();
        let kept = self.stage_for(path)?.dir().join(format!("old-{number}"));
        self.journal.changes.push(Change {
            path: absolute(path),
            staged: None,
            kept: Some(absolute(&kept)),
            file: None,
        });
        Ok(())
    }

    /// Makes the changes.
    fn make(mut self) -> Result<(), OutputError> {
        let disk = self.stage.disk();
        for (from, to) in &self.copied {
            disk.copy(from, to, self.sync)
                .map_err(failed("writing", to))?;
        }
        self.journal.syncs = self.sync;
        for change in &mut self.journal.changes {
            if let Some(staged) = &change.staged {
                change.file = number_of(staged);
                if let Some(kept) = &change.kept {
                    disk.link_or_copy(&change.path, kept, self.sync)
                        .map_err(failed("writing", &change.path))?;
                }
            }
        }
        // One change is made or not.
        if self.journal.changes.len() > 1 {
            self.write_journal()
                .map_err(failed("writing", self.stage.journal()))?;
        }
        if let Err((path, error)) = self.journal.roll_forward(disk) {
            return Err(self.roll_back(OutputError::new("writing", &path, error)));
        }
        if self.journal.changes.len() > 1 {
            // If it cannot be removed, its changes are found to be complete.
            let _ = disk.remove(self.stage.journal());
        }
        self.remove_empty_folders();
        for kept in self
            .journal
            .changes
            .iter()
            .filter_map(|change| change.kept.as_ref())
        {
            // The stage is removed as a whole later.
            let _ = disk.remove(kept);
        }
        Ok(())
    }

    fn write_journal(&self) -> io::Result<()> {
        self.journal.write(self.stage.journal(), self.stage.disk())
    }

    /// Rolls back what was done when a change failed.
    fn roll_back(&self, error: OutputError) -> OutputError {
        let path = self.stage.journal();
        if self.journal.roll_back_all(self.stage.disk()).is_ok() {
            // If it cannot be removed, nothing of it is found to be made.
            let _ = self.stage.disk().remove(path);
            return error;
        }
        if !path.exists() {
            // It names what is left to be rolled back.
            let _ = self.write_journal();
        }
        self.stage.stay();
        self.others.values().for_each(Stage::stay);
        OutputError {
            unfinished: Some(self.journal.folder.clone()),
            ..error
        }
    }

    /// Removes folders that are empty without the files that were removed from them.
    fn remove_empty_folders(&self) {
        let removed = self
            .journal
            .changes
            .iter()
            .filter(|change| change.staged.is_none());
        for change in removed {
            let parents = change.path.ancestors().skip(1);
            let below = parents.take_while(|folder| {
                folder.starts_with(&self.journal.folder) && **folder != self.journal.folder
            });
            for folder in below {
                // A folder that holds something else stays.
                if self.stage.disk().remove_folder(folder).is_err() {
                    break;
                }
            }
        }
    }
}
