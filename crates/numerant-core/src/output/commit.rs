//! Puts staged outputs in their places, and takes away what is to go: all of it, or nothing.
//!
//! A destination folder that does not exist yet appears with all that is in it by one rename.
//! Otherwise the outputs are renamed one by one; if one of them fails, those before it are taken
//! back, and what they had replaced returns.

use std::collections::HashSet;
use std::fs;
use std::io;
use std::path::{Path, PathBuf};

use super::{OutputError, Stage};

/// A staged file and the path it is to have.
#[derive(Debug)]
pub(crate) struct Destination {
    pub(crate) staged: PathBuf,
    /// Below the root, with `/` between folders.
    pub(crate) path: String,
}

/// Moves `outputs` below `root`, and removes the files of the paths in `removed` there. Files that are in
/// the way are replaced if `replace` says so, and an error if not.
pub(crate) fn commit(
    stage: &Stage,
    root: &Path,
    outputs: &[Destination],
    removed: &[String],
    replace: bool,
    sync: bool,
) -> Result<(), OutputError> {
    if outputs.is_empty() && removed.is_empty() {
        return Ok(());
    }
    if fs::symlink_metadata(root).is_err() {
        return commit_folder(stage, root, outputs, sync);
    }
    let mut undo = Undo {
        moved: Vec::new(),
        folders: Vec::new(),
    };
    let result = commit_files(stage, root, outputs, replace, &mut undo)
        .and_then(|()| remove_files(stage, root, removed, &mut undo));
    match result {
        Ok(()) if sync => sync_folder(root),
        Ok(()) => Ok(()),
        Err(error) => {
            undo.take_back();
            Err(error)
        }
    }
}

/// The whole folder in one rename.
fn commit_folder(
    stage: &Stage,
    root: &Path,
    outputs: &[Destination],
    sync: bool,
) -> Result<(), OutputError> {
    let tree = stage.dir().join("tree");
    let mut made: HashSet<PathBuf> = HashSet::new();
    for output in outputs {
        let path = tree.join(&output.path);
        if let Some(parent) = path.parent().filter(|parent| !made.contains(*parent)) {
            fs::create_dir_all(parent)
                .map_err(|error| OutputError::new("creating the folder", parent, error))?;
            made.insert(parent.to_owned());
        }
        fs::rename(&output.staged, &path)
            .map_err(|error| OutputError::new("writing", &root.join(&output.path), error))?;
    }
    if let Some(parent) = root
        .parent()
        .filter(|parent| !parent.as_os_str().is_empty())
    {
        fs::create_dir_all(parent)
            .map_err(|error| OutputError::new("creating the folder", parent, error))?;
    }
    if sync {
        sync_folder(&tree)?;
    }
    fs::rename(&tree, root)
        .map_err(|error| OutputError::new("creating the folder", root, error))?;
    if sync {
        sync_folder(
            root.parent()
                .filter(|p| !p.as_os_str().is_empty())
                .unwrap_or(Path::new(".")),
        )?;
    }
    Ok(())
}

fn commit_files(
    stage: &Stage,
    root: &Path,
    outputs: &[Destination],
    replace: bool,
    undo: &mut Undo,
) -> Result<(), OutputError> {
    let replaced = stage.dir().join("replaced");
    for (number, output) in outputs.iter().enumerate() {
        let path = root.join(&output.path);
        let failed = |error| OutputError::new("writing", &path, error);
        make_folders(root, &output.path, undo)?;
        let mut kept = None;
        if replace && fs::symlink_metadata(&path).is_ok() {
            if path.is_dir() {
                return Err(failed(io::Error::from(io::ErrorKind::IsADirectory)));
            }
            fs::create_dir_all(&replaced).map_err(failed)?;
            let aside = replaced.join(number.to_string());
            // A second name for the old file, so that it is never without one.
            fs::hard_link(&path, &aside)
                .or_else(|_| fs::copy(&path, &aside).map(|_| ()))
                .map_err(failed)?;
            kept = Some(aside);
        }
        move_into_place(&output.staged, &path, replace).map_err(failed)?;
        undo.moved.push((path, kept));
    }
    Ok(())
}

/// Removes files below `root`, and folders that are empty then.
fn remove_files(
    stage: &Stage,
    root: &Path,
    removed: &[String],
    undo: &mut Undo,
) -> Result<(), OutputError> {
    let aside = stage.dir().join("removed");
    for (number, path) in removed.iter().enumerate() {
        let full = root.join(path);
        let failed = |error| OutputError::new("removing", &full, error);
        fs::create_dir_all(&aside).map_err(failed)?;
        let kept = aside.join(number.to_string());
        fs::rename(&full, &kept).map_err(failed)?;
        undo.moved.push((full, Some(kept)));
    }
    for path in removed {
        for (end, _) in path.rmatch_indices('/') {
            // A folder that holds something else stays.
            if fs::remove_dir(root.join(&path[..end])).is_err() {
                break;
            }
        }
    }
    Ok(())
}

/// Renames, and copies where the destination is on another file system (a folder below the root
/// that is a mount point or a link).
fn move_into_place(staged: &Path, path: &Path, replace: bool) -> io::Result<()> {
    let renamed = if replace {
        fs::rename(staged, path)
    } else {
        rename_new(staged, path)
    };
    match renamed {
        Err(error) if error.kind() == io::ErrorKind::CrossesDevices => {
            let name = path.file_name().unwrap_or_default().to_string_lossy();
            let hidden = path.with_file_name(format!(".numerant-stage-{name}"));
            let copied = fs::copy(staged, &hidden).and_then(|_| {
                if replace {
                    fs::rename(&hidden, path)
                } else {
                    rename_new(&hidden, path)
                }
            });
            if copied.is_err() {
                let _ = fs::remove_file(&hidden);
            }
            copied
        }
        other => other,
    }
}

/// Renames unless something has appeared at `path`.
fn rename_new(from: &Path, path: &Path) -> io::Result<()> {
    #[cfg(target_os = "linux")]
    {
        use rustix::fs::{CWD, RenameFlags, renameat_with};
        match renameat_with(CWD, from, CWD, path, RenameFlags::NOREPLACE) {
            Err(rustix::io::Errno::INVAL | rustix::io::Errno::NOSYS) => {}
            other => return other.map_err(io::Error::from),
        }
    }
    if fs::symlink_metadata(path).is_ok() {
        return Err(io::Error::from(io::ErrorKind::AlreadyExists));
    }
    fs::rename(from, path)
}

/// Makes the folders of `path` below `root`, and remembers those that were not there.
fn make_folders(root: &Path, path: &str, undo: &mut Undo) -> Result<(), OutputError> {
    for (end, _) in path.match_indices('/') {
        let folder = root.join(&path[..end]);
        match fs::create_dir(&folder) {
            Ok(()) => undo.folders.push(folder),
            Err(_) if folder.is_dir() => {}
            Err(error) => return Err(OutputError::new("creating the folder", &folder, error)),
        }
    }
    Ok(())
}

fn sync_folder(folder: &Path) -> Result<(), OutputError> {
    fs::File::open(folder)
        .and_then(|folder| folder.sync_all())
        .map_err(|error| OutputError::new("syncing the folder", folder, error))
}

/// What was done so far.
struct Undo {
    moved: Vec<(PathBuf, Option<PathBuf>)>,
    folders: Vec<PathBuf>,
}

impl Undo {
    /// Takes it all back as far as the system lets it.
    fn take_back(self) {
        for (path, kept) in self.moved.into_iter().rev() {
            let _ = match kept {
                Some(kept) => fs::rename(kept, &path),
                None => fs::remove_file(&path),
            };
        }
        for folder in self.folders.into_iter().rev() {
            let _ = fs::remove_dir(folder);
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn staged(stage: &Stage, name: &str, text: &str, path: &str) -> Destination {
        let staged = stage.dir().join(name);
        fs::write(&staged, text).expect("written");
        Destination {
            staged,
            path: path.to_owned(),
        }
    }

    #[test]
    fn a_new_folder_appears_whole() {
        let folder = tempfile::tempdir().expect("a folder");
        let root = folder.path().join("deep/parts");
        let stage = Stage::beside(&root).expect("a stage");
        let outputs = [
            staged(&stage, "0", "a", "x/a.csv"),
            staged(&stage, "1", "b", "b.csv"),
        ];
        commit(&stage, &root, &outputs, &[], false, true).expect("committed");
        assert_eq!(
            fs::read_to_string(root.join("x/a.csv")).expect("there"),
            "a"
        );
        assert_eq!(fs::read_to_string(root.join("b.csv")).expect("there"), "b");
    }

    #[test]
    fn a_failure_in_the_middle_leaves_what_was_there() {
        let folder = tempfile::tempdir().expect("a folder");
        let root = folder.path().join("parts");
        fs::create_dir(&root).expect("made");
        fs::write(root.join("old.csv"), "old").expect("written");
        fs::create_dir(root.join("taken.csv")).expect("made");
        for replace in [true, false] {
            let stage = Stage::beside(&root).expect("a stage");
            let mut outputs = vec![
                staged(&stage, "0", "new", "sub/new.csv"),
                staged(&stage, "2", "x", "taken.csv"),
            ];
            if replace {
                outputs.insert(1, staged(&stage, "1", "newer", "old.csv"));
            }
            let error = commit(&stage, &root, &outputs, &[], replace, false).expect_err("a folder");
            assert!(error.path.ends_with("taken.csv"), "{error}");
            drop(stage);
            assert_eq!(
                fs::read_to_string(root.join("old.csv")).expect("there"),
                "old"
            );
            assert!(!root.join("sub").exists());
            assert_eq!(fs::read_dir(&root).expect("readable").count(), 2);
        }
    }

    #[test]
    fn existing_files_are_replaced_only_when_asked() {
        let folder = tempfile::tempdir().expect("a folder");
        let root = folder.path();
        fs::write(root.join("a.csv"), "old").expect("written");
        let stage = Stage::beside(root).expect("a stage");
        let outputs = [staged(&stage, "0", "new", "a.csv")];
        let error = commit(&stage, root, &outputs, &[], false, false).expect_err("it exists");
        assert_eq!(error.cause.kind(), io::ErrorKind::AlreadyExists);
        assert_eq!(
            fs::read_to_string(root.join("a.csv")).expect("there"),
            "old"
        );
        commit(&stage, root, &outputs, &[], true, false).expect("replaced");
        assert_eq!(
            fs::read_to_string(root.join("a.csv")).expect("there"),
            "new"
        );
    }
}
