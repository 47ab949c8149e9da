//! A file that several readers read by turns, each from a place of its own.

use std::fs::File;
use std::io::{self, Read, Seek, SeekFrom};
use std::sync::Arc;
use std::sync::atomic::{AtomicU64, Ordering};

/// A reader of a shared file.
#[derive(Clone, Debug)]
pub struct SharedFile {
    file: Arc<File>,
    position: u64,
    length: u64,
    /// Bytes that all readers have taken, each from where it began.
    taken: Arc<AtomicU64>,
}

impl SharedFile {
    /// A reader from the start of a file.
    pub fn new(file: Arc<File>) -> io::Result<Self> {
        let length = file.metadata()?.len();
        Ok(Self {
            file,
            position: 0,
            length,
            taken: Arc::new(AtomicU64::new(0)),
        })
    }

    /// The same file from its start, with a count of its own.
    pub fn again(&self) -> Self {
        Self {
            position: 0,
            taken: Arc::new(AtomicU64::new(0)),
            ..self.clone()
        }
    }

    /// The same file from its start, with the count that there is.
    pub fn same_count(&self) -> Self {
        Self {
            position: 0,
            ..self.clone()
        }
    }

    /// Bytes of the file.
    pub fn length(&self) -> u64 {
        self.length
    }

    /// A counter of the bytes that this reader and its clones have taken.
    pub fn taken(&self) -> Arc<AtomicU64> {
        Arc::clone(&self.taken)
    }
}

impl Read for SharedFile {
    fn read(&mut self, buffer: &mut [u8]) -> io::Result<usize> {
        #[cfg(unix)]
        let read = std::os::unix::fs::FileExt::read_at(&*self.file, buffer, self.position)?;
        #[cfg(windows)]
        let read = std::os::windows::fs::FileExt::seek_read(&*self.file, buffer, self.position)?;
        self.position += read as u64;
        self.taken.fetch_add(read as u64, Ordering::Relaxed);
        Ok(read)
    }
}

impl Seek for SharedFile {
    fn seek(&mut self, to: SeekFrom) -> io::Result<u64> {
        let position = match to {
            SeekFrom::Start(position) => Some(position),
            SeekFrom::End(offset) => self.length.checked_add_signed(offset),
            SeekFrom::Current(offset) => self.position.checked_add_signed(offset),
        };
        self.position = position.ok_or_else(|| io::Error::from(io::ErrorKind::InvalidInput))?;
        Ok(self.position)
    }
}
