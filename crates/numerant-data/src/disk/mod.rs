//! All calls that change the file system, in one place: so that an error of closing a file is not lost, and so that
//! tests can let each call fail.
//!
//! # Invariants
//!
//! A file is made anew or not at all: no call follows a link, or writes into a file that was there.

mod archive;
mod file;

use std::fmt;
use std::fs::{self, File, Metadata};
use std::io::{self, Write};
use std::path::Path;
use std::sync::Arc;

pub use archive::Archive;
pub use file::OutFile;
pub(crate) use file::{Deferred, DeferredError};

/// A call that changes the file system.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Call<'a> {
    /// A file is made.
    Create(&'a Path),
    /// So many bytes are written to a file.
    Write(&'a Path, usize),
    /// The data of a file goes to the device.
    Sync(&'a Path),
    /// A file is closed.
    Close(&'a Path),
    /// A file or folder gets another name.
    Rename(&'a Path, &'a Path),
    /// A file gets a second name.
    Link(&'a Path, &'a Path),
    /// A file is removed.
    Remove(&'a Path),
    /// A folder is made.
    MakeFolder(&'a Path),
    /// An empty folder is removed.
    RemoveFolder(&'a Path),
    /// The names in a folder go to the device.
    SyncFolder(&'a Path),
    /// A file gets its permissions or owner.
    SetMode(&'a Path),
}

/// Decides on calls before they are made, in tests.
pub trait Faults: Send + Sync {
    /// Lets a call pass, or fail.
    ///
    /// # Errors
    ///
    /// The one that the call is to have.
    fn before(&self, call: Call<'_>) -> io::Result<()>;
}

/// The file system as a run changes it. By default no call is looked at.
#[derive(Clone, Default)]
pub struct Disk(Option<Arc<dyn Faults>>);

impl fmt::Debug for Disk {
    fn fmt(&self, formatter: &mut fmt::Formatter<'_>) -> fmt::Result {
        formatter.write_str("Disk")
    }
}

impl Disk {
    /// A file system whose calls are decided on.
    pub fn with_faults(faults: Arc<dyn Faults>) -> Self {
        Self(Some(faults))
    }

    #[inline]
    fn before(&self, call: Call<'_>) -> io::Result<()> {
        match &self.0 {
            None => Ok(()),
            Some(faults) => faults.before(call),
        }
    }

    /// Makes a file that was not there.
    pub fn create(&self, path: &Path) -> io::Result<OutFile> {
        self.before(Call::Create(path))?;
        let mut options = File::options();
        let file = options.read(true).write(true).create_new(true).open(path)?;
        Ok(OutFile::new(file, path, self))
    }

    /// Opens a file that this run has made, to write after what is in it.
    pub fn append(&self, path: &Path) -> io::Result<OutFile> {
        let file = File::options().append(true).open(path)?;
        Ok(OutFile::new(file, path, self))
    }

    /// Gives a file or folder another name; what has that name is replaced, if it is a file.
    pub fn rename(&self, from: &Path, to: &Path) -> io::Result<()> {
        self.before(Call::Rename(from, to))?;
        fs::rename(from, to)
    }

    /// Gives a file or folder a name that nothing has.
    pub fn rename_new(&self, from: &Path, to: &Path) -> io::Result<()> {
        self.before(Call::Rename(from, to))?;
        #[cfg(target_os = "linux")]
        {
            use rustix::fs::{CWD, RenameFlags, renameat_with};
            use rustix::io::Errno;
            match renameat_with(CWD, from, CWD, to, RenameFlags::NOREPLACE) {
                Err(Errno::INVAL | Errno::NOSYS | Errno::OPNOTSUPP) => {}
                other => return other.map_err(io::Error::from),
            }
        }
        if fs::symlink_metadata(to).is_ok() {
            return Err(io::Error::from(io::ErrorKind::AlreadyExists));
        }
        fs::rename(from, to)
    }

    /// Writes a file that is there as a whole or not at all, in the place of one that may be there.
    pub fn write_whole(&self, path: &Path, bytes: &[u8]) -> io::Result<()> {
        self.write_staged(path, bytes, &|staged| self.rename(staged, path))
    }

    /// Writes a file that is there as a whole or not at all, unless another one is there.
    pub fn write_new(&self, path: &Path, bytes: &[u8]) -> io::Result<()> {
        self.write_staged(path, bytes, &|staged| self.rename_new(staged, path))
    }

    fn write_staged(
        &self,
        path: &Path,
        bytes: &[u8],
        commit: &dyn Fn(&Path) -> io::Result<()>,
    ) -> io::Result<()> {
        let name = path.file_name().unwrap_or_default().to_string_lossy();
        let staged = path.with_file_name(format!(".{name}.{}", std::process::id()));
        let written = self.create(&staged).and_then(|mut file| {
            file.write_all(bytes)?;
            file.finish(true)
        });
        let committed = written.and_then(|()| commit(&staged));
        if committed.is_err() {
            // What is half-written is of no use.
            let _ = self.remove(&staged);
        }
        committed
    }

    /// Gives a file a second name, or makes a copy of it where files have only one.
    pub fn link_or_copy(&self, from: &Path, to: &Path, sync: bool) -> io::Result<()> {
        self.before(Call::Link(from, to))?;
        fs::hard_link(from, to).or_else(|_| self.copy(from, to, sync))
    }

    /// Makes a copy of a file that has the same permissions.
    pub fn copy(&self, from: &Path, to: &Path, sync: bool) -> io::Result<()> {
        let mut source = File::open(from)?;
        let mut copy = self.create(to)?;
        io::copy(&mut source, &mut copy)?;
        copy.finish(sync)?;
        self.set_permissions(to, &source.metadata()?)
    }

    /// Removes a file.
    pub fn remove(&self, path: &Path) -> io::Result<()> {
        self.before(Call::Remove(path))?;
        fs::remove_file(path)
    }

    /// Makes a folder, whose parent is there.
    pub fn make_folder(&self, path: &Path) -> io::Result<()> {
        self.before(Call::MakeFolder(path))?;
        fs::create_dir(path)
    }

    /// Makes a folder that only its owner may look into.
    pub fn make_private_folder(&self, path: &Path) -> io::Result<()> {
        self.before(Call::MakeFolder(path))?;
        #[cfg(unix)]
        {
            use std::os::unix::fs::DirBuilderExt;
            fs::DirBuilder::new().mode(0o700).create(path)
        }
        #[cfg(not(unix))]
        fs::create_dir(path)
    }

    /// Makes a folder and those that it is in, as far as they are not there.
    pub fn make_folders(&self, path: &Path) -> io::Result<()> {
        if path.as_os_str().is_empty() || path.is_dir() {
            return Ok(());
        }
        if let Some(parent) = path.parent() {
            self.make_folders(parent)?;
        }
        match self.make_folder(path) {
            Err(_) if path.is_dir() => Ok(()),
            made => made,
        }
    }

    /// Removes an empty folder.
    pub fn remove_folder(&self, path: &Path) -> io::Result<()> {
        self.before(Call::RemoveFolder(path))?;
        fs::remove_dir(path)
    }

    /// Removes a folder with all that is in it; links are removed and not followed.
    pub fn remove_all(&self, path: &Path) -> io::Result<()> {
        for entry in fs::read_dir(path)? {
            let entry = entry?;
            if entry.file_type()?.is_dir() {
                self.remove_all(&entry.path())?;
            } else {
                self.remove(&entry.path())?;
            }
        }
        self.remove_folder(path)
    }

    /// Waits until the data of a file is on the device.
    pub fn sync_file(&self, path: &Path) -> io::Result<()> {
        self.before(Call::Sync(path))?;
        File::open(path)?.sync_all()
    }

    /// Waits until the names in a folder are on the device, where that can be had.
    pub fn sync_folder(&self, path: &Path) -> io::Result<()> {
        self.before(Call::SyncFolder(path))?;
        #[cfg(unix)]
        {
            let path = if path.as_os_str().is_empty() {
                Path::new(".")
            } else {
                path
            };
            match File::open(path)?.sync_all() {
                // Some file systems on networks have no such call for folders.
                Err(error)
                    if matches!(
                        error.kind(),
                        io::ErrorKind::InvalidInput | io::ErrorKind::Unsupported
                    ) => {}
                result => return result,
            }
        }
        Ok(())
    }

    /// Gives a file the permissions of another, and its owner where the system allows that.
    pub fn set_permissions(&self, path: &Path, like: &Metadata) -> io::Result<()> {
        self.before(Call::SetMode(path))?;
        #[cfg(unix)]
        {
            use std::os::unix::fs::{MetadataExt, PermissionsExt, chown};
            let own = fs::symlink_metadata(path)?;
            if own.mode() & 0o7777 != like.mode() & 0o7777 {
                fs::set_permissions(path, fs::Permissions::from_mode(like.mode() & 0o777))?;
            }
            if (own.uid(), own.gid()) != (like.uid(), like.gid()) {
                // Only the system's administrator may give a file to another owner, and members of a group to that.
                let _ = chown(path, Some(like.uid()), Some(like.gid()))
                    .or_else(|_| chown(path, None, Some(like.gid())));
            }
        }
        #[cfg(not(unix))]
        fs::set_permissions(path, like.permissions())?;
        Ok(())
    }
}
