//! Buffers and open files of many outputs, within bounds of memory and of open files.
//!
//! Up to as many outputs as there may be open files, every output has a buffer that is written out
//! when it is full. With more outputs than that, each write costs an opening and a closing, and
//! little comes to each output before memory is full; so what is appended goes into one log, and a
//! full log is written output by output.

use std::collections::VecDeque;
use std::io::{self, Write};
use std::path::{Path, PathBuf};
use std::sync::{Mutex, PoisonError};

use crate::ledger::FileDigest;
use numerant_data::disk::{Disk, OutFile};
use numerant_data::record::Arena;
use numerant_data::workers::WorkerPool;

/// A buffer is written when it holds this many bytes: few enough for the buffers of a common
/// number of outputs to stay in a processor's cache, where the system finds them when it copies.
const FULL: usize = 1 << 15;

/// Bytes that a common record takes at most.
const ROOM: usize = 1 << 11;

/// The least that a log holds, and the most: places in it are counted with 32 bits.
const LEAST_LOG: usize = 1 << 16;
const MOST_LOG: usize = 1 << 31;

/// Outputs that are staged in one folder. Threads that make files in one folder wait for each
/// other, and each thread has outputs that follow each other.
const SINKS_IN_FOLDER: usize = 1024;

fn folder_of(dir: &Path, sink: usize) -> PathBuf {
    dir.join((sink / SINKS_IN_FOLDER).to_string())
}

fn staged_path(dir: &Path, sink: usize) -> PathBuf {
    folder_of(dir, sink).join(sink.to_string())
}

/// All outputs of a run, by number, as files `0`, `1` … in folders of one folder.
#[derive(Debug)]
pub(crate) struct Sinks {
    dir: PathBuf,
    disk: Disk,
    sinks: Vec<Sink>,
    budget: usize,
    log: Log,
    /// Outputs whose files may be open, the longest-opened first.
    open: VecDeque<u32>,
    most_open: usize,
    workers: WorkerPool,
    /// Whether there are more outputs than open files, so that all goes into the log.
    logs: bool,
    digests: bool,
}

/// What was appended to any output, in order, while there are more outputs than open files.
#[derive(Debug, Default)]
struct Log {
    bytes: Arena,
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
    file: Option<OutFile>,
    created: bool,
    /// Bytes that were appended, but for those in the log.
    bytes: u64,
    /// Bytes that are in the file.
    written: u64,
    digest: Option<FileDigest>,
}

/// An output that could not be written.
#[derive(Debug)]
pub(crate) struct SinkError {
    pub(crate) sink: usize,
    pub(crate) cause: io::Error,
}

impl Sinks {
    /// Sinks in `dir`, with at most `budget` bytes of buffers and `most_open` open files.
    /// A full log is written by all of `workers`.
    pub(crate) fn new(
        dir: &Path,
        disk: &Disk,
        budget: usize,
        most_open: usize,
        workers: WorkerPool,
    ) -> Self {
        Self {
            dir: dir.to_owned(),
            disk: disk.clone(),
            sinks: Vec::new(),
            budget,
            log: Log::default(),
            open: VecDeque::new(),
            most_open: most_open.max(1),
            workers,
            logs: false,
            digests: false,
        }
    }

    /// Digests of the outputs are wanted.
    pub(crate) fn digest_all(&mut self) {
        self.digests = true;
    }

    /// The digest of output `sink`, if it is wanted; known when all is finished.
    pub(crate) fn digest(&mut self, sink: usize) -> Option<String> {
        self.sinks[sink].digest.take().map(FileDigest::finish)
    }

    /// Adds an output and returns its number.
    pub(crate) fn add(&mut self) -> Result<usize, SinkError> {
        let sink = self.sinks.len();
        if sink.is_multiple_of(SINKS_IN_FOLDER) {
            let folder = folder_of(&self.dir, sink);
            match self.disk.make_folder(&folder) {
                Ok(()) => {}
                // An earlier run with this stage has made it.
                Err(_) if folder.is_dir() => {}
                Err(cause) => return Err(SinkError { sink, cause }),
            }
        }
        self.sinks.push(Sink {
            digest: self.digests.then(FileDigest::default),
            ..Sink::default()
        });
        Ok(sink)
    }

    pub(crate) fn len(&self) -> usize {
        self.sinks.len()
    }

    /// Where output `sink` is staged.
    pub(crate) fn path(&self, sink: usize) -> PathBuf {
        staged_path(&self.dir, sink)
    }

    /// Bytes that were appended to output `sink`; known when all is finished.
    pub(crate) fn bytes(&self, sink: usize) -> u64 {
        self.sinks[sink].bytes
    }

    #[inline]
    pub(crate) fn append(&mut self, sink: usize, bytes: &[u8]) -> Result<(), SinkError> {
        if self.logs {
            return self.append_to_log(sink, bytes);
        }
        let entry = &mut self.sinks[sink];
        if entry.buffer.capacity() - entry.buffer.len() >= bytes.len() {
            entry.bytes += bytes.len() as u64;
            entry.buffer.extend_from_slice(bytes);
            return Ok(());
        }
        self.append_with_care(sink, bytes)
    }

    /// Appends what `write` appends; the bytes that it is handed are not for it to read.
    #[inline]
    pub(crate) fn append_with<E>(
        &mut self,
        sink: usize,
        scratch: &mut Vec<u8>,
        write: impl FnOnce(&mut Vec<u8>) -> Result<(), E>,
    ) -> Result<Result<(), SinkError>, E> {
        let entry = &mut self.sinks[sink];
        // Straight into the buffer, as long as a common record finds room there.
        if !self.logs && entry.buffer.len() + ROOM <= entry.buffer.capacity() {
            let before = entry.buffer.len();
            write(&mut entry.buffer)?;
            entry.bytes += (entry.buffer.len() - before) as u64;
            if entry.buffer.len() > FULL {
                return Ok(self.write_buffer(sink).map(|()| {
                    self.sinks[sink].buffer.shrink_to(FULL);
                }));
            }
            return Ok(Ok(()));
        }
        scratch.clear();
        write(scratch)?;
        Ok(self.append(sink, scratch))
    }

    /// There is no room in the buffer.
    fn append_with_care(&mut self, sink: usize, bytes: &[u8]) -> Result<(), SinkError> {
        if self.sinks.len() > self.most_open.min(self.budget / FULL) {
            // What is in buffers comes before what will be in the log.
            for sink in 0..self.sinks.len() {
                self.write_buffer(sink)?;
                self.sinks[sink].buffer = Vec::new();
            }
            self.logs = true;
            return self.append_to_log(sink, bytes);
        }
        self.sinks[sink].bytes += bytes.len() as u64;
        self.write_buffer(sink)?;
        if bytes.len() > FULL {
            return self.write_through(sink, bytes);
        }
        let buffer = &mut self.sinks[sink].buffer;
        buffer.reserve_exact(FULL);
        buffer.extend_from_slice(bytes);
        Ok(())
    }

    #[inline]
    fn append_to_log(&mut self, sink: usize, bytes: &[u8]) -> Result<(), SinkError> {
        let most = self.budget.clamp(LEAST_LOG, MOST_LOG);
        let taken = self.log.bytes.len() + self.log.entries.len() * size_of::<Entry>();
        if taken + bytes.len() + size_of::<Entry>() > most {
            self.write_log()?;
            if bytes.len() + size_of::<Entry>() > most {
                self.sinks[sink].bytes += bytes.len() as u64;
                return self.write_through(sink, bytes);
            }
        }
        if self.log.bytes.is_unmapped() {
            self.log
                .bytes
                .reserve(most)
                .map_err(|cause| SinkError { sink, cause })?;
        }
        self.log.bytes.push(bytes);
        self.log.entries.push(Entry {
            sink: sink as u32,
            length: bytes.len() as u32,
        });
        Ok(())
    }

    /// Writes what is in the log, output by output, and empties it.
    #[cold]
    fn write_log(&mut self) -> Result<(), SinkError> {
        if self.log.entries.is_empty() {
            return Ok(());
        }
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
        // No file is open twice in a round, so none is kept open; and rounds are shared out among
        // the threads, as the one that fills the log has to wait meanwhile.
        self.open.clear();
        let (dir, disk) = (&self.dir, &self.disk);
        let bytes = log.bytes.as_slice();
        let share = self.sinks.len().div_ceil(self.workers.threads()).max(1);
        let shares = self.sinks.chunks_mut(share).enumerate();
        let shares: Vec<(usize, Mutex<&mut [Sink]>)> = shares
            .map(|(place, sinks)| (place * share, Mutex::new(sinks)))
            .collect();
        self.workers.try_map(&shares, |(first, sinks)| {
            let mut sinks = sinks.lock().unwrap_or_else(PoisonError::into_inner);
            let begins = &begins[*first..=*first + sinks.len()];
            write_share((dir, disk), *first, &mut sinks, begins, &pieces, bytes)
        })?;
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
                if let Some(oldest) = self.open.pop_front()
                    && let Some(file) = self.sinks[oldest as usize].file.take()
                {
                    let sink = oldest as usize;
                    file.finish(false)
                        .map_err(|cause| SinkError { sink, cause })?;
                }
            }
            let path = self.path(sink);
            let file = self.sinks[sink].open(&path, &self.disk).map_err(failed)?;
            self.sinks[sink].file = Some(file);
            self.open.push_back(sink as u32);
        }
        let entry = &mut self.sinks[sink];
        if let Some(file) = &mut entry.file {
            file.write_all(bytes).map_err(failed)?;
        }
        if let Some(digest) = &mut entry.digest {
            digest.update(bytes);
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
                    let length = file.length();
                    file.finish(sync).map_err(failed)?;
                    length
                }
                (None, sync) => {
                    if sync {
                        self.disk.sync_file(&path).map_err(failed)?;
                    }
                    path.metadata().map(|found| found.len())
                }
            };
            let length = length.map_err(failed)?;
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

/// Writes the pieces of the log that belong to `sinks`, the first of which is number `first`.
/// `begins` says where the pieces of each begin in `pieces`, and those where their bytes are.
fn write_share(
    (dir, disk): (&Path, &Disk),
    first: usize,
    sinks: &mut [Sink],
    begins: &[u32],
    pieces: &[(u32, u32)],
    bytes: &[u8],
) -> Result<(), SinkError> {
    let mut gathered = Vec::new();
    for (place, entry) in sinks.iter_mut().enumerate() {
        let pieces = &pieces[begins[place] as usize..begins[place + 1] as usize];
        if pieces.is_empty() {
            continue;
        }
        gathered.clear();
        for (start, length) in pieces {
            let start = *start as usize;
            gathered.extend_from_slice(&bytes[start..start + *length as usize]);
        }
        let sink = first + place;
        let failed = |cause| SinkError { sink, cause };
        let mut file = match entry.file.take() {
            Some(file) => file,
            None => entry.open(&staged_path(dir, sink), disk).map_err(failed)?,
        };
        file.write_all(&gathered).map_err(failed)?;
        file.finish(false).map_err(failed)?;
        if let Some(digest) = &mut entry.digest {
            digest.update(&gathered);
        }
        entry.bytes += gathered.len() as u64;
        entry.written += gathered.len() as u64;
    }
    Ok(())
}

impl Sink {
    /// Opens the file, to append if it is there already.
    fn open(&mut self, path: &Path, disk: &Disk) -> io::Result<OutFile> {
        let file = if self.created {
            disk.append(path)?
        } else {
            disk.create(path)?
        };
        self.created = true;
        Ok(file)
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
            threads in 1_usize..4,
            large in proptest::option::of(0_usize..12),
        ) {
            let folder = tempfile::tempdir().expect("a folder");
            let mut sinks = Sinks::new(folder.path(), &Disk::default(), budget, most_open, WorkerPool::new(threads));
            let mut expected = vec![Vec::new(); 12];
            for _ in 0..12 {
                sinks.add().expect("added");
            }
            for (turn, (sink, length)) in appends.into_iter().enumerate() {
                let length = if large == Some(sink) { length * 300 } else { length };
                let bytes = vec![turn as u8; length];
                sinks.append(sink, &bytes).expect("written");
                expected[sink].extend(bytes);
                let open = sinks.sinks.iter().filter(|sink| sink.file.is_some()).count();
                prop_assert!(open <= most_open);
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
        let mut sinks = Sinks::new(
            folder.path(),
            &Disk::default(),
            1 << 20,
            8,
            WorkerPool::new(2),
        );
        for _ in 0..2000 {
            sinks.add().expect("added");
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
