//! Locks between runs at the same time.

use std::fs::{File, TryLockError};
use std::path::Path;
use std::time::Duration;
use std::{io, thread};

/// How long is waited between two tries.
const PAUSE: Duration = Duration::from_millis(10);

/// Holds the lock of a folder until it is dropped.
#[derive(Debug)]
pub(super) struct FolderLock {
    _file: Option<File>,
}

impl FolderLock {
    /// Waits for the lock of a folder. Where file systems have none, it holds nothing, and
    /// [`FolderLock::is_held`] says so. `wait` is asked before each pause, and may end the waiting.
    pub(super) fn wait_for<E>(
        folder: &Path,
        mut wait: impl FnMut() -> Result<(), E>,
    ) -> Result<Self, E> {
        let Ok(file) = File::open(folder) else {
            return Ok(Self { _file: None });
        };
        loop {
            match try_lock(&file) {
                Ok(Locked::Held) => return Ok(Self { _file: Some(file) }),
                Ok(Locked::Taken) => {
                    wait()?;
                    thread::sleep(PAUSE);
                }
                Ok(Locked::None) | Err(_) => return Ok(Self { _file: None }),
            }
        }
    }

    /// Whether there is a lock.
    pub(super) fn is_held(&self) -> bool {
        self._file.is_some()
    }
}

/// What came of asking for a lock.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(super) enum Locked {
    /// This process has it now.
    Held,
    /// Another process has it.
    Taken,
    /// The file system has no locks.
    None,
}

/// Asks for the lock of a file or folder.
pub(super) fn try_lock(file: &File) -> io::Result<Locked> {
    match file.try_lock() {
        Ok(()) => Ok(Locked::Held),
        Err(TryLockError::WouldBlock) => Ok(Locked::Taken),
        Err(TryLockError::Error(error)) if has_no_locks(&error) => Ok(Locked::None),
        Err(TryLockError::Error(error)) => Err(error),
    }
}

/// Whether an error says that a file system has no locks.
fn has_no_locks(error: &io::Error) -> bool {
    #[cfg(unix)]
    {
        use nix::errno::Errno;
        let code = error.raw_os_error().map(Errno::from_raw);
        // Folders cannot be locked on some network drives, which is EBADF there.
        if let Some(
            Errno::ENOLCK | Errno::EOPNOTSUPP | Errno::ENOSYS | Errno::EINVAL | Errno::EBADF,
        ) = code
        {
            return true;
        }
    }
    error.kind() == io::ErrorKind::Unsupported
}
