//! Buffers and open files of many outputs, within bounds of memory and of open files.
//!
//! Every output has a buffer that is written out when it is full. Where all buffers together grow
//! beyond the budget (many outputs, none of them full) the fuller ones are written and given
//! back. A file that is closed to make room for another is opened again to append.

use std::collections::VecDeque;
use std::fs::{File, OpenOptions};
use std::io::{self, Write};
use std::path::{Path, PathBuf};

/// A buffer is written when it holds this many bytes.
const FULL: usize = 1 << 18;

/// All outputs of a run, by number, as files `0`, `1` … in one folder.
#[derive(Debug)]
pub(crate) struct Sinks {
    dir: PathBuf,
    sinks: Vec<Sink>,
    /// Bytes that all buffers take up.
    held: usize,
    budget: usize,
    /// Outputs whose files may be open, the longest-opened first.
    open: VecDeque<u32>,
    most_open: usize,
}

#[derive(Debug, Default)]
struct Sink {
    buffer: Vec<u8>,
    file: Option<File>,
    created: bool,
    bytes: u64,
}

/// An output that could not be written.
#[derive(Debug)]
pub(crate) struct SinkError {
    pub(crate) sink: usize,
    pub(crate) cause: io::Error,
}

impl Sinks {
    /// Sinks in `dir`, with at most `budget` bytes of buffers and `most_open` open files.
    pub(crate) fn new(dir: &Path, budget: usize, most_open: usize) -> Self {
        Self {
            dir: dir.to_owned(),
            sinks: Vec::new(),
            held: 0,
            budget,
            open: VecDeque::new(),
            most_open: most_open.max(1),
        }
    }

    /// Adds an output and returns its number.
    pub(crate) fn add(&mut self) -> usize {
        self.sinks.push(Sink::default());
        self.sinks.len() - 1
    }

    pub(crate) fn len(&self) -> usize {
        self.sinks.len()
    }

    /// Where output `sink` is staged.
    pub(crate) fn path(&self, sink: usize) -> PathBuf {
        self.dir.join(sink.to_string())
    }

    /// Bytes that were appended to output `sink`.
    pub(crate) fn bytes(&self, sink: usize) -> u64 {
        let sink = &self.sinks[sink];
        sink.bytes + sink.buffer.len() as u64
    }

    #[inline]
    pub(crate) fn append(&mut self, sink: usize, bytes: &[u8]) -> Result<(), SinkError> {
        let buffer = &mut self.sinks[sink].buffer;
        if buffer.capacity() - buffer.len() >= bytes.len() {
            buffer.extend_from_slice(bytes);
            return Ok(());
        }
        self.append_with_care(sink, bytes)
    }

    /// The buffer is too small: let it grow, or write it.
    #[cold]
    fn append_with_care(&mut self, sink: usize, bytes: &[u8]) -> Result<(), SinkError> {
        let needed = self.sinks[sink].buffer.len() + bytes.len();
        if needed > FULL {
            self.write(sink, false)?;
            if bytes.len() > FULL {
                return self.write_through(sink, bytes);
            }
        }
        let buffer = &mut self.sinks[sink].buffer;
        let before = buffer.capacity();
        if buffer.len() + bytes.len() > before {
            let wanted = (buffer.len() + bytes.len()).next_power_of_two().max(512).min(FULL);
            buffer.reserve_exact(wanted - buffer.len());
        }
        buffer.extend_from_slice(bytes);
        self.held += buffer.capacity() - before;
        if self.held > self.budget {
            self.relieve()?;
        }
        Ok(())
    }

    /// Writes the buffers that hold at least half of the average, and gives their memory back.
    fn relieve(&mut self) -> Result<(), SinkError> {
        let held = self.sinks.iter().filter(|sink| !sink.buffer.is_empty()).count().max(1);
        let least = self.held / held / 2;
        for sink in 0..self.sinks.len() {
            if self.sinks[sink].buffer.capacity() >= least {
                self.write(sink, true)?;
            }
        }
        Ok(())
    }

    fn write(&mut self, sink: usize, give_back: bool) -> Result<(), SinkError> {
        let mut buffer = std::mem::take(&mut self.sinks[sink].buffer);
        let written = self.write_through(sink, &buffer);
        if give_back {
            self.held -= buffer.capacity();
        } else {
            buffer.clear();
            self.sinks[sink].buffer = buffer;
        }
        written
    }

    fn write_through(&mut self, sink: usize, bytes: &[u8]) -> Result<(), SinkError> {
        if bytes.is_empty() && self.sinks[sink].created {
            return Ok(());
        }
        let failed = |cause| SinkError { sink, cause };
        if self.sinks[sink].file.is_none() {
            while self.open.len() >= self.most_open {
                if let Some(oldest) = self.open.pop_front() {
                    self.sinks[oldest as usize].file = None;
                }
            }
            let path = self.path(sink);
            let mut options = OpenOptions::new();
            if self.sinks[sink].created {
                options.append(true);
            } else {
                options.write(true).create_new(true);
            }
            self.sinks[sink].file = Some(options.open(path).map_err(failed)?);
            self.sinks[sink].created = true;
            self.open.push_back(sink as u32);
        }
        let entry = &mut self.sinks[sink];
        if let Some(file) = &mut entry.file {
            file.write_all(bytes).map_err(failed)?;
        }
        entry.bytes += bytes.len() as u64;
        Ok(())
    }

    /// Writes what is left, syncs the files to the disk if asked to, closes them, and checks that
    /// every file is as long as it should be.
    pub(crate) fn finish(&mut self, sync: bool) -> Result<(), SinkError> {
        for sink in 0..self.sinks.len() {
            let failed = |cause| SinkError { sink, cause };
            self.write(sink, true)?;
            let path = self.path(sink);
            let entry = &mut self.sinks[sink];
            let file = match entry.file.take() {
                Some(file) => file,
                None => File::open(path).map_err(failed)?,
            };
            if sync {
                file.sync_all().map_err(failed)?;
            }
            let length = file.metadata().map_err(failed)?.len();
            if length != entry.bytes {
                let cause = format!("{} bytes were written and {length} are there", entry.bytes);
                return Err(failed(io::Error::other(cause)));
            }
        }
        self.open.clear();
        Ok(())
    }
}

#[cfg(test)]
mod tests {
    use proptest::prelude::*;

    use super::*;

    proptest! {
        #![proptest_config(ProptestConfig { cases: 60, ..ProptestConfig::default() })]
        #[test]
        fn every_byte_arrives_in_order_however_tight_the_bounds(
            appends in proptest::collection::vec((0_usize..12, 0_usize..3000), 1..400),
            budget in 0_usize..20_000,
            most_open in 1_usize..14,
            large in proptest::option::of(0_usize..12),
        ) {
            let folder = tempfile::tempdir().expect("a folder");
            let mut sinks = Sinks::new(folder.path(), budget, most_open);
            let mut expected = vec![Vec::new(); 12];
            for _ in 0..12 {
                sinks.add();
            }
            for (turn, (sink, length)) in appends.into_iter().enumerate() {
                let length = if large == Some(sink) { length * 300 } else { length };
                let bytes = vec![turn as u8; length];
                sinks.append(sink, &bytes).expect("written");
                expected[sink].extend(bytes);
                prop_assert!(sinks.sinks.iter().filter(|s| s.file.is_some()).count() <= most_open);
            }
            sinks.finish(false).expect("finished");
            for (sink, expected) in expected.iter().enumerate() {
                let found = std::fs::read(sinks.path(sink)).expect("readable");
                prop_assert!(found == *expected, "sink {}", sink);
                prop_assert_eq!(sinks.bytes(sink), expected.len() as u64);
            }
        }
    }

    #[test]
    fn memory_stays_within_the_budget() {
        let folder = tempfile::tempdir().expect("a folder");
        let mut sinks = Sinks::new(folder.path(), 1 << 20, 8);
        for _ in 0..2000 {
            sinks.add();
        }
        for turn in 0..40_000 {
            sinks.append(turn * 7 % 2000, &[b'x'; 200]).expect("written");
            let held: usize = sinks.sinks.iter().map(|sink| sink.buffer.capacity()).sum();
            assert!(held <= (1 << 20) + 512, "{held}");
            assert_eq!(held, sinks.held);
        }
    }
}
