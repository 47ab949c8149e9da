//! A file that is being written.

use std::fs::File;
use std::io::{self, Read, Seek, SeekFrom, Write};
use std::path::{Path, PathBuf};
use std::sync::{Arc, Mutex, PoisonError};

use super::{Call, Disk};

/// A file that is being written. What was written counts when it is finished: dropping it loses errors that come
/// only when a file is closed, as on network drives.
///
/// # Invariants
///
/// After an error nothing more is written, and finishing it is that error, too. Writing and seeking then only seem
/// to be done.
#[derive(Debug)]
pub struct OutFile {
    file: File,
    path: PathBuf,
    disk: Disk,
    failed: Option<Failed>,
}

/// What a file seems to be after an error.
#[derive(Debug)]
struct Failed {
    cause: io::Error,
    position: u64,
    length: u64,
}

impl Failed {
    fn take(&mut self, bytes: usize) {
        self.position += bytes as u64;
        self.length = self.length.max(self.position);
    }

    fn seek(&mut self, to: SeekFrom) -> io::Result<u64> {
        let (from, by) = match to {
            SeekFrom::Start(place) => (place, 0),
            SeekFrom::End(by) => (self.length, by),
            SeekFrom::Current(by) => (self.position, by),
        };
        let place = from.checked_add_signed(by);
        self.position = place.ok_or_else(|| io::Error::from(io::ErrorKind::InvalidInput))?;
        Ok(self.position)
    }
}

/// The same error once more.
fn again(error: &io::Error) -> io::Error {
    error.raw_os_error().map_or_else(
        || io::Error::new(error.kind(), error.to_string()),
        io::Error::from_raw_os_error,
    )
}

impl OutFile {
    pub(super) fn new(file: File, path: &Path, disk: &Disk) -> Self {
        Self {
            file,
            path: path.to_owned(),
            disk: disk.clone(),
            failed: None,
        }
    }

    /// Where it is.
    pub fn path(&self) -> &Path {
        &self.path
    }

    /// The file system that it is in.
    pub fn disk(&self) -> &Disk {
        &self.disk
    }

    /// Its length in bytes.
    pub fn length(&self) -> io::Result<u64> {
        self.file.metadata().map(|found| found.len())
    }

    /// Closes it; before that its data goes to the device, if asked for.
    pub fn finish(self, sync: bool) -> io::Result<()> {
        if let Some(failed) = self.failed {
            return Err(failed.cause);
        }
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

/// A file whose errors of writing come at its end, or when they are asked for.
#[derive(Debug)]
pub struct Deferred {
    file: OutFile,
    error: DeferredError,
}

/// The error of a file whose errors come later.
#[derive(Clone, Debug, Default)]
pub(crate) struct DeferredError(Arc<Mutex<Option<io::Error>>>);

impl DeferredError {
    /// The first error, if there was one.
    pub(crate) fn check(&self) -> io::Result<()> {
        let first = self.0.lock().unwrap_or_else(PoisonError::into_inner);
        first.as_ref().map_or(Ok(()), |error| Err(again(error)))
    }
}

impl Deferred {
    pub(crate) fn new(file: OutFile) -> (Self, DeferredError) {
        let error = DeferredError::default();
        let own = error.clone();
        (Self { file, error: own }, error)
    }

    pub(crate) fn finish(self, sync: bool) -> io::Result<()> {
        self.file.finish(sync)
    }
}

impl Write for Deferred {
    fn write(&mut self, bytes: &[u8]) -> io::Result<usize> {
        match self.file.write(bytes) {
            Err(error) if error.kind() != io::ErrorKind::Interrupted => {
                let first = &mut *self.error.0.lock().unwrap_or_else(PoisonError::into_inner);
                *first = Some(error);
                Ok(bytes.len())
            }
            written => written,
        }
    }

    fn flush(&mut self) -> io::Result<()> {
        Ok(())
    }
}

impl Seek for Deferred {
    fn seek(&mut self, to: SeekFrom) -> io::Result<u64> {
        self.file.seek(to)
    }
}

impl Write for OutFile {
    #[inline]
    fn write(&mut self, bytes: &[u8]) -> io::Result<usize> {
        if let Some(failed) = &mut self.failed {
            failed.take(bytes.len());
            return Ok(bytes.len());
        }
        let call = Call::Write(&self.path, bytes.len());
        let written = self.disk.before(call).and_then(|()| self.file.write(bytes));
        match written {
            Err(error) if error.kind() != io::ErrorKind::Interrupted => {
                let position = self.file.stream_position().unwrap_or_default();
                let mut failed = Failed {
                    cause: again(&error),
                    position,
                    length: self.length().unwrap_or(position),
                };
                failed.take(bytes.len());
                self.failed = Some(failed);
                Err(error)
            }
            written => written,
        }
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
        match &mut self.failed {
            Some(failed) => failed.seek(to),
            None => self.file.seek(to),
        }
    }
}
