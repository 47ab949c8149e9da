//! Buffers and open files of many outputs, within bounds of memory and of open files.
//!
//! Up to as many outputs as there may be open files, every output has a buffer that is written out
//! when it is full. With more outputs than that, each write costs an opening and a closing, and
//! little comes to each output before memory is full; so what is appended goes into one log, and a
//! full log is written output by output.

use std::collections::VecDeque;
use std::fs::{File, OpenOptions};
use std::io::{self, Write};
use std::path::{Path, PathBuf};

/// A buffer is written when it holds this many bytes: few enough for the buffers of a common
/// number of outputs to stay in a processor's cache, where the system finds them when it copies.
const FULL: usize = 1 << 14;

/// The least that a log holds, and the most: places in it are counted with 32 bits.
const LEAST_LOG: usize = 1 << 16;
const MOST_LOG: usize = 1 << 31;

/// All outputs of a run, by number, as files `0`, `1` … in one folder.
#[derive(Debug)]
pub(crate) struct Sinks {
    dir: PathBuf,
    sinks: Vec<Sink>,
    budget: usize,
    log: Log,
    /// Outputs whose files may be open, the longest-opened first.
    open: VecDeque<u32>,
    most_open: usize,
}

/// What was appended to any output, in order, while there are more outputs than open files.
#[derive(Debug, Default)]
struct Log {
    bytes: Vec<u8>,
    entries: Vec<Entry>,
}

/// A piece of the log. Its bytes begin where those of the one before it end.
#[derive(Clone, Copy, Debug)]
struct Entry {
    sink: u32,
    length: u32,
}

#[derive(Debug, Default)]
struct Sink {
    buffer: Vec<u8>,
    file: Option<File>,
    created: bool,
    /// Bytes that were appended, wherever they are.
    bytes: u64,
    /// Bytes that are in the file.
    written: u64,
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
            budget,
            log: Log::default(),
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
        self.sinks[sink].bytes
    }

    #[inline]
    pub(crate) fn append(&mut self, sink: usize, bytes: &[u8]) -> Result<(), SinkError> {
        let entry = &mut self.sinks[sink];
        entry.bytes += bytes.len() as u64;
        if entry.buffer.capacity() - entry.buffer.len() >= bytes.len() {
            entry.buffer.extend_from_slice(bytes);
            return Ok(());
        }
        self.append_with_care(sink, bytes)
    }

    /// There is no room in the buffer, or there are no buffers.
    fn append_with_care(&mut self, sink: usize, bytes: &[u8]) -> Result<(), SinkError> {
        if self.sinks.len() > self.most_open.min(self.budget / FULL) {
            return self.append_to_log(sink, bytes);
        }
        self.write_buffer(sink)?;
        if bytes.len() > FULL {
            return self.write_through(sink, bytes);
        }
        let buffer = &mut self.sinks[sink].buffer;
        buffer.reserve_exact(FULL);
        buffer.extend_from_slice(bytes);
        Ok(())
    }

    fn append_to_log(&mut self, sink: usize, bytes: &[u8]) -> Result<(), SinkError> {
        let most = self.budget.clamp(LEAST_LOG, MOST_LOG);
        let taken = self.log.bytes.len() + self.log.entries.len() * size_of::<Entry>();
        if taken + bytes.len() + size_of::<Entry>() > most {
            self.write_log()?;
            if bytes.len() > most {
                return self.write_through(sink, bytes);
            }
        }
        if !self.sinks[sink].buffer.is_empty() {
            // From the time when there were fewer outputs; it comes before what is in the log.
            self.write_buffer(sink)?;
        }
        self.sinks[sink].buffer = Vec::new();
        self.log.bytes.extend_from_slice(bytes);
        self.log.entries.push(Entry {
            sink: sink as u32,
            length: bytes.len() as u32,
        });
        Ok(())
    }

    /// Writes what is in the log, output by output, and empties it.
    fn write_log(&mut self) -> Result<(), SinkError> {
        let log = std::mem::take(&mut self.log);
        // Pieces by output, in order: where those of each begin, then where each piece goes.
        let mut begins = vec![0_u32; self.sinks.len() + 1];
        for entry in &log.entries {
            begins[entry.sink as usize + 1] += 1;
        }
        for sink in 0..self.sinks.len() {
            begins[sink + 1] += begins[sink];
        }
        let mut next = begins.clone();
        let mut pieces = vec![(0_u32, 0_u32); log.entries.len()];
        let mut start = 0;
        for entry in &log.entries {
            let slot = &mut next[entry.sink as usize];
            pieces[*slot as usize] = (start, entry.length);
            *slot += 1;
            start += entry.length;
        }
        let mut gathered = Vec::new();
        for sink in 0..self.sinks.len() {
            gathered.clear();
            for (start, length) in &pieces[begins[sink] as usize..begins[sink + 1] as usize] {
                let start = *start as usize;
                gathered.extend_from_slice(&log.bytes[start..start + *length as usize]);
            }
            if !gathered.is_empty() {
                self.write_through(sink, &gathered)?;
            }
        }
        self.log = log;
        self.log.bytes.clear();
        self.log.entries.clear();
        Ok(())
    }

    /// Writes what is in the buffer of an output.
    fn write_buffer(&mut self, sink: usize) -> Result<(), SinkError> {
        let mut buffer = std::mem::take(&mut self.sinks[sink].buffer);
        if !buffer.is_empty() {
            self.write_through(sink, &buffer)?;
        }
        buffer.clear();
        self.sinks[sink].buffer = buffer;
        Ok(())
    }

    fn write_through(&mut self, sink: usize, bytes: &[u8]) -> Result<(), SinkError> {
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
        entry.written += bytes.len() as u64;
        Ok(())
    }

    /// Writes what is left, syncs the files to the disk if asked to, closes them, and checks that
    /// every file is as long as it should be.
    pub(crate) fn finish(&mut self, sync: bool) -> Result<(), SinkError> {
        self.write_log()?;
        self.log = Log::default();
        for sink in 0..self.sinks.len() {
            let failed = |cause| SinkError { sink, cause };
            self.write_buffer(sink)?;
            if !self.sinks[sink].created {
                self.write_through(sink, &[])?;
            }
            self.sinks[sink].buffer = Vec::new();
            let path = self.path(sink);
            let file = self.sinks[sink].file.take();
            let length = match (file, sync) {
                (Some(file), _) => {
                    if sync {
                        file.sync_all().map_err(failed)?;
                    }
                    file.metadata()
                }
                (None, true) => {
                    let file = File::open(path).map_err(failed)?;
                    file.sync_all().map_err(failed)?;
                    file.metadata()
                }
                (None, false) => path.metadata(),
            };
            let length = length.map_err(failed)?.len();
            let entry = &self.sinks[sink];
            if length != entry.bytes || length != entry.written {
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
            sinks
                .append(turn * 7 % 2000, &[b'x'; 200])
                .expect("written");
            let buffers: usize = sinks.sinks.iter().map(|sink| sink.buffer.capacity()).sum();
            let log = sinks.log.bytes.len() + sinks.log.entries.len() * size_of::<Entry>();
            assert!(buffers + log <= 1 << 20, "{buffers} + {log}");
        }
    }
}
