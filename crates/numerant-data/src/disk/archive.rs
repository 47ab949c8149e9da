//! A zip archive that is being written.

use std::io::{self, BufWriter};
use std::ops::{Deref, DerefMut};

use zip::ZipWriter;

use crate::disk::{Deferred, DeferredError, OutFile};

/// A zip archive that is being written. Errors of writing come when it is asked for them, and at its end: its writer
/// would try to complete the archive when it is dropped after one.
pub struct Archive {
    zip: ZipWriter<BufWriter<Deferred>>,
    error: DeferredError,
}

impl Archive {
    /// Begins an archive; so many bytes are written at a time.
    pub fn new(file: OutFile, piece: usize) -> Self {
        let (file, error) = Deferred::new(file);
        Self {
            zip: ZipWriter::new(BufWriter::with_capacity(piece, file)),
            error,
        }
    }

    /// The error of writing that there was, if there was one.
    pub fn check(&self) -> io::Result<()> {
        self.error.check()
    }

    /// Completes the archive and closes its file.
    pub fn finish(self, sync: bool) -> io::Result<()> {
        let file = self.zip.finish()?;
        let file = file.into_inner().map_err(io::IntoInnerError::into_error)?;
        file.finish(sync)
    }
}

impl Deref for Archive {
    type Target = ZipWriter<BufWriter<Deferred>>;

    fn deref(&self) -> &Self::Target {
        &self.zip
    }
}

impl DerefMut for Archive {
    fn deref_mut(&mut self) -> &mut Self::Target {
        &mut self.zip
    }
}
