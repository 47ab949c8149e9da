//! A file that is being written.

use std::fs::File;
use std::io::{self, Read, Seek, SeekFrom, Write};
use std::path::{Path, PathBuf};

use super::{Call, Disk};

/// A file that is being written. What was written counts when it is finished: dropping it loses errors that come
/// only when a file is closed, as on network drives.
#[derive(Debug)]
pub(crate) struct OutFile {
    file: File,
    path: PathBuf,
    disk: Disk,
}

impl OutFile {
    pub(super) fn new(file: File, path: &Path, disk: &Disk) -> Self {
        Self {
            file,
            path: path.to_owned(),
            disk: disk.clone(),
        }
    }

    pub(crate) fn path(&self) -> &Path {
        &self.path
    }

    pub(crate) fn disk(&self) -> &Disk {
        &self.disk
    }

    /// Its length in bytes.
    pub(crate) fn length(&self) -> io::Result<u64> {
        self.file.metadata().map(|found| found.len())
    }

    /// Closes it; before that its data goes to the device, if asked for.
    pub(crate) fn finish(self, sync: bool) -> io::Result<()> {
        if sync {
            self.disk.before(Call::Sync(&self.path))?;
            self.file.sync_all()?;
        }
        self.disk.before(Call::Close(&self.path))?;
        #[cfg(unix)]
        {
            let fd = std::os::fd::OwnedFd::from(self.file);
            match nix::unistd::close(fd) {
                // The file is closed all the same.
                Ok(()) | Err(nix::errno::Errno::EINTR) => Ok(()),
                Err(error) => Err(io::Error::from(error)),
            }
        }
        #[cfg(not(unix))]
        Ok(())
    }
}

impl Write for OutFile {
    #[inline]
    fn write(&mut self, bytes: &[u8]) -> io::Result<usize> {
        self.disk.before(Call::Write(&self.path, bytes.len()))?;
        self.file.write(bytes)
    }

    fn flush(&mut self) -> io::Result<()> {
        Ok(())
    }
}

impl Read for OutFile {
    fn read(&mut self, bytes: &mut [u8]) -> io::Result<usize> {
        self.file.read(bytes)
    }
}

impl Seek for OutFile {
    fn seek(&mut self, to: SeekFrom) -> io::Result<u64> {
        self.file.seek(to)
    }
}
