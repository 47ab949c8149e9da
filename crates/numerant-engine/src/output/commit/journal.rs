//! What a commit is about to change, so that it can be rolled back, or finished, by whoever comes after a run that
//! was killed in the middle.
//!
//! # Invariants
//!
//! The journal is on the disk before the first change, and goes before anything that it names is removed. A file
//! that is replaced has a second name until then. So each change can be rolled back as long as there is a journal.

use std::fs;
use std::io::{self, Write};
use std::path::{Path, PathBuf};

use serde::{Deserialize, Serialize};

use crate::output::stage::existing_ancestor;
use numerant_data::disk::Disk;

/// Bytes that a name may have to get an ending.
const LONGEST: usize = 240;

/// The form of the document.
const FORM: u32 = 1;

/// What a commit is about to change, in order.
#[derive(Clone, Debug, Default, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub(super) struct Journal {
    form: u32,
    /// The output folder.
    #[serde(with = "path_text")]
    pub(super) folder: PathBuf,
    /// Folders that are to be made, the outer ones first.
    pub(super) folders: Vec<Folder>,
    pub(super) changes: Vec<Change>,
    /// Old files are replaced or removed, so that what is written has to be on the device.
    pub(super) syncs: bool,
}

/// A folder that is to be made.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub(super) struct Folder {
    #[serde(with = "path_text")]
    pub(super) path: PathBuf,
}

/// A file or folder that takes its place, or a file that is removed.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub(super) struct Change {
    #[serde(with = "path_text")]
    pub(super) path: PathBuf,
    /// Where it waits; nothing if the file is removed.
    #[serde(
        default,
        skip_serializing_if = "Option::is_none",
        with = "optional_path"
    )]
    pub(super) staged: Option<PathBuf>,
    /// Where the old file is kept, if there is one.
    #[serde(
        default,
        skip_serializing_if = "Option::is_none",
        with = "optional_path"
    )]
    pub(super) kept: Option<PathBuf>,
    /// The device and number of the file that takes its place.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub(super) file: Option<(u64, u64)>,
}

impl Change {
    /// Whether it was made.
    pub(super) fn is_made(&self) -> bool {
        let exists = |path: &Path| fs::symlink_metadata(path).is_ok();
        match (&self.staged, &self.kept) {
            (Some(staged), _) if exists(staged) => false,
            // It is not there after a failure of the power, nor was it moved before that.
            (Some(_), Some(kept)) => {
                let is_old = || number_of(&self.path) == number_of(kept);
                self.is_ours() || exists(kept) && !is_old()
            }
            (Some(_), None) => exists(&self.path),
            (None, Some(kept)) => exists(kept) && !exists(&self.path),
            (None, None) => false,
        }
    }

    /// Whether what is at its path is what has taken that place.
    fn is_ours(&self) -> bool {
        number_of(&self.path) == self.file
    }

    pub(super) fn make(&self, disk: &Disk) -> io::Result<()> {
        match (&self.staged, &self.kept) {
            (Some(staged), None) => disk.rename_new(staged, &self.path),
            (Some(staged), Some(_)) => disk.rename(staged, &self.path),
            (None, Some(kept)) => disk.rename(&self.path, kept),
            (None, None) => Ok(()),
        }
    }

    /// Rolls it back; `false` if what is there now is of somebody else, and stays.
    fn roll_back(&self, disk: &Disk) -> io::Result<bool> {
        match (&self.staged, &self.kept) {
            (Some(_), _) if !self.is_ours() => return self.put_aside(disk),
            (_, Some(kept)) => disk.rename(kept, &self.path)?,
            (Some(staged), None) => disk.rename_new(&self.path, staged)?,
            (None, None) => {}
        }
        Ok(true)
    }

    /// Puts the old file next to what somebody else has put in its place.
    fn put_aside(&self, disk: &Disk) -> io::Result<bool> {
        let Some(kept) = &self.kept else {
            return Ok(false);
        };
        if fs::symlink_metadata(&self.path).is_err() {
            disk.rename_new(kept, &self.path)?;
            return Ok(true);
        }
        let mut name = self.path.file_name().unwrap_or_default().to_owned();
        if name.len() > LONGEST {
            name = "output".into();
        }
        name.push(".before");
        disk.rename_new(kept, &self.path.with_file_name(name))?;
        Ok(false)
    }
}

/// The device and number of a file or folder, where the system has such.
pub(super) fn number_of(path: &Path) -> Option<(u64, u64)> {
    #[cfg(unix)]
    {
        use std::os::unix::fs::MetadataExt;
        let found = fs::symlink_metadata(path).ok()?;
        Some((found.dev(), found.ino()))
    }
    #[cfg(not(unix))]
    {
        let _ = path;
        None
    }
}

impl Journal {
    pub(super) fn new(folder: &Path) -> Self {
        Self {
            form: FORM,
            folder: folder.to_owned(),
            ..Self::default()
        }
    }

    /// Writes it to `path`, where it appears complete.
    pub(super) fn write(&self, path: &Path, disk: &Disk) -> io::Result<()> {
        let text = serde_json::to_vec(self).map_err(io::Error::other)?;
        let new = path.with_extension("new");
        let mut file = disk.create(&new)?;
        file.write_all(&text)?;
        file.finish(self.syncs)?;
        disk.rename_new(&new, path)?;
        let Some(folder) = path.parent().filter(|_| self.syncs) else {
            return Ok(());
        };
        // With it, the second names of old files, and the folder that all of it is in.
        let mut folders: Vec<&Path> = vec![folder];
        folders.extend(folder.parent());
        for kept in self
            .changes
            .iter()
            .filter_map(|change| change.kept.as_ref())
        {
            if let Some(folder) = kept.parent().filter(|folder| !folders.contains(folder)) {
                folders.push(folder);
            }
        }
        folders
            .into_iter()
            .try_for_each(|folder| disk.sync_folder(folder))
    }

    pub(super) fn read(path: &Path) -> io::Result<Self> {
        let journal: Self = serde_json::from_slice(&fs::read(path)?).map_err(io::Error::other)?;
        match journal.form {
            FORM => Ok(journal),
            form => Err(io::Error::other(format!(
                "it has form {form}, which a later version of Numerant has written"
            ))),
        }
    }

    /// Makes the changes that were not made.
    pub(super) fn roll_forward(&self, disk: &Disk) -> Result<u64, (PathBuf, io::Error)> {
        for folder in &self.folders {
            match disk.make_folder(&folder.path) {
                Err(error) if !folder.path.is_dir() => return Err((folder.path.clone(), error)),
                _ => {}
            }
        }
        let mut made = 0;
        for change in self.changes.iter().filter(|change| !change.is_made()) {
            let failed = |error| (change.path.clone(), error);
            change.make(disk).map_err(failed)?;
            made += 1;
        }
        self.sync(disk)?;
        Ok(made)
    }

    /// Waits until the names of what was changed are on the device, if old files were among it.
    pub(super) fn sync(&self, disk: &Disk) -> Result<(), (PathBuf, io::Error)> {
        if !self.syncs {
            return Ok(());
        }
        let of_changes = self.changes.iter().flat_map(|change| {
            // The name of a file that is removed has gone to the stage.
            let kept = change.kept.as_ref().filter(|_| change.staged.is_none());
            [Some(&change.path), kept].into_iter().flatten()
        });
        let of_folders = self.folders.iter().map(|folder| &folder.path);
        let mut synced: Vec<PathBuf> = Vec::new();
        for path in of_changes.chain(of_folders) {
            // A folder that was made and rolled back is not there, but the one that it was in.
            let folder = existing_ancestor(path.parent().unwrap_or(path));
            if !synced.contains(&folder) {
                disk.sync_folder(&folder)
                    .map_err(|error| (folder.clone(), error))?;
                synced.push(folder);
            }
        }
        Ok(())
    }

    /// Rolls the changes back that were made, and says how many, and which were changed by somebody else since.
    pub(super) fn roll_back_all(
        &self,
        disk: &Disk,
    ) -> Result<(u64, Vec<PathBuf>), (PathBuf, io::Error)> {
        let (mut count, mut changed) = (0, Vec::new());
        let mut failure = None;
        for change in self.changes.iter().rev().filter(|change| change.is_made()) {
            match change.roll_back(disk) {
                Ok(true) => count += 1,
                Ok(false) => changed.push(change.path.clone()),
                // The others are rolled back all the same.
                Err(error) => failure = Some((change.path.clone(), error)),
            }
        }
        if let Some(failure) = failure {
            return Err(failure);
        }
        for folder in self.folders.iter().rev() {
            // A folder that holds something else stays.
            let _ = disk.remove_folder(&folder.path);
        }
        self.sync(disk)?;
        Ok((count, changed))
    }
}

/// Paths as texts, or where they are not Unicode as bytes in hexadecimal.
mod path_text {
    use std::path::{Path, PathBuf};

    use serde::{Deserialize, Deserializer, Serialize, Serializer, de};

    #[derive(Serialize, Deserialize)]
    #[serde(untagged)]
    pub(super) enum PathText {
        Text(String),
        Bytes { hex: String },
    }

    impl PathText {
        pub(super) fn of(path: &Path) -> Self {
            match path.to_str() {
                Some(text) => Self::Text(text.to_owned()),
                None => {
                    let bytes = path.as_os_str().as_encoded_bytes();
                    let hex = bytes.iter().map(|byte| format!("{byte:02x}")).collect();
                    Self::Bytes { hex }
                }
            }
        }

        pub(super) fn into_path(self) -> Option<PathBuf> {
            match self {
                Self::Text(text) => Some(PathBuf::from(text)),
                Self::Bytes { hex } => {
                    let pairs = hex.as_bytes().chunks(2).map(std::str::from_utf8);
                    let bytes: Option<Vec<u8>> = pairs
                        .map(|pair| u8::from_str_radix(pair.ok()?, 16).ok())
                        .collect();
                    bytes.map(crate::output::stage::from_bytes)
                }
            }
        }
    }

    pub(super) fn serialize<S: Serializer>(path: &Path, out: S) -> Result<S::Ok, S::Error> {
        PathText::of(path).serialize(out)
    }

    pub(super) fn deserialize<'de, D: Deserializer<'de>>(from: D) -> Result<PathBuf, D::Error> {
        let text = PathText::deserialize(from)?;
        text.into_path()
            .ok_or_else(|| de::Error::custom("a path that is none"))
    }
}

mod optional_path {
    use std::path::PathBuf;

    use serde::{Deserialize, Deserializer, Serialize, Serializer, de};

    use super::path_text::PathText;

    #[allow(clippy::ref_option, reason = "serde hands it so")]
    pub(super) fn serialize<S: Serializer>(
        path: &Option<PathBuf>,
        out: S,
    ) -> Result<S::Ok, S::Error> {
        path.as_deref().map(PathText::of).serialize(out)
    }

    pub(super) fn deserialize<'de, D: Deserializer<'de>>(
        from: D,
    ) -> Result<Option<PathBuf>, D::Error> {
        let text = Option::<PathText>::deserialize(from)?;
        let path = |text: PathText| {
            text.into_path()
                .ok_or_else(|| de::Error::custom("a path that is none"))
        };
        text.map(path).transpose()
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn paths_that_are_not_unicode_come_back() {
        use std::os::unix::ffi::OsStringExt;
        let odd = PathBuf::from(std::ffi::OsString::from_vec(b"/tmp/qu\xe9".to_vec()));
        let mut journal = Journal::new(&odd);
        journal.changes.push(Change {
            path: odd.join("a.csv"),
            staged: Some(odd.join("staged")),
            kept: None,
            file: Some((1, 2)),
        });
        let folder = tempfile::tempdir().expect("a folder");
        let path = folder.path().join("journal.json");
        journal.write(&path, &Disk::default()).expect("written");
        assert_eq!(Journal::read(&path).expect("read"), journal);
    }
}
