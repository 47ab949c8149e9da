//! What stands where outputs are to go.

use std::collections::HashMap;
use std::fs::{self, Metadata};
use std::io;
use std::path::{Path, PathBuf};

/// What is at a path where an output is to go.
pub(super) enum Target {
    /// Nothing.
    New,
    /// A file that may be replaced.
    File(Metadata),
}

/// Looks at a path where a file is to go. Devices, pipes and links are never replaced.
pub(super) fn target(path: &Path, replace: bool) -> io::Result<Target> {
    let found = match fs::symlink_metadata(path) {
        Ok(found) => found,
        Err(error) if error.kind() == io::ErrorKind::NotFound => return Ok(Target::New),
        Err(error) => return Err(error),
    };
    let kind = found.file_type();
    if kind.is_dir() {
        return Err(io::Error::from(io::ErrorKind::IsADirectory));
    }
    if !kind.is_file() {
        let what = if kind.is_symlink() {
            "it is a link, and only files are replaced"
        } else {
            "it is a device or pipe, and only files are replaced"
        };
        return Err(io::Error::new(io::ErrorKind::InvalidInput, what));
    }
    if replace {
        Ok(Target::File(found))
    } else {
        Err(io::Error::from(io::ErrorKind::AlreadyExists))
    }
}

/// The folders below an output folder, which may not lead out of it.
pub(super) struct Below {
    root: PathBuf,
    /// The root with all links resolved.
    real: io::Result<PathBuf>,
    known: HashMap<PathBuf, bool>,
}

impl Below {
    pub(super) fn new(root: &Path) -> Self {
        Self {
            root: root.to_owned(),
            real: fs::canonicalize(root),
            known: HashMap::new(),
        }
    }

    /// The folders of a path below the root, the outer ones first, each with whether it is there.
    pub(super) fn folders(
        &mut self,
        path: &str,
    ) -> Result<Vec<(PathBuf, bool)>, (PathBuf, io::Error)> {
        let mut folders = Vec::new();
        for (end, _) in path.match_indices('/') {
            let folder = self.root.join(&path[..end]);
            if let Some(exists) = self.known.get(&folder) {
                folders.push((folder, *exists));
                continue;
            }
            let exists = self
                .is_there(&folder)
                .map_err(|error| (folder.clone(), error))?;
            self.known.insert(folder.clone(), exists);
            folders.push((folder, exists));
        }
        Ok(folders)
    }

    /// Whether a folder is there.
    fn is_there(&self, folder: &Path) -> io::Result<bool> {
        match fs::symlink_metadata(folder) {
            Err(error) if error.kind() == io::ErrorKind::NotFound => Ok(false),
            Err(error) => Err(error),
            Ok(found) if found.is_dir() => Ok(true),
            Ok(found) if found.is_symlink() => self.is_within(folder),
            Ok(_) => Err(io::Error::from(io::ErrorKind::NotADirectory)),
        }
    }

    /// Whether a link leads to a folder below the root.
    fn is_within(&self, link: &Path) -> io::Result<bool> {
        let to = fs::canonicalize(link)?;
        let is_below = self.real.as_ref().is_ok_and(|real| to.starts_with(real));
        if is_below && to.is_dir() {
            Ok(true)
        } else {
            Err(io::Error::new(
                io::ErrorKind::InvalidInput,
                "it is a link to a place outside the output folder",
            ))
        }
    }
}

/// What tells file systems and mounts apart: files are renamed only within one.
pub(super) fn volume(folder: &Path) -> Option<(u64, u64)> {
    #[cfg(target_os = "linux")]
    {
        use rustix::fs::{AtFlags, CWD, StatxFlags, statx};
        if let Ok(found) = statx(CWD, folder, AtFlags::empty(), StatxFlags::MNT_ID) {
            let device = u64::from(found.stx_dev_major) << 32 | u64::from(found.stx_dev_minor);
            return Some((device, found.stx_mnt_id));
        }
    }
    #[cfg(unix)]
    {
        use std::os::unix::fs::MetadataExt;
        let found = fs::metadata(folder).ok()?;
        Some((found.dev(), 0))
    }
    #[cfg(not(unix))]
    {
        let _ = folder;
        None
    }
}
