//! `sort`: records in the order of some columns; equal ones stay in the order of the source.
//!
//! Numbers of any length come in the order of their values, then dates, then texts in that of their code
//! points, and blanks last. A column that is declared to be of one type is sorted by that.
//!
//! What fits into memory is sorted there. What does not goes through the disk: memory after memory
//! is sorted and written as a run, and the runs are merged.

mod key;
mod merge;
mod run;
mod tally;

use std::path::PathBuf;
use std::str::FromStr;
use std::sync::mpsc::{Receiver, SyncSender, sync_channel};
use std::thread::{self, JoinHandle};
use std::{fmt, io};

use serde::{Deserialize, Serialize};

use crate::expr::Type;
use merge::Merge;
use numerant_data::record::Batch;
use numerant_data::value::Cells;
use run::{Run, RunFile};
use tally::SortTally;

pub use tally::SortedAsText;

/// A column to sort by, as `dues` or, from the greatest down, `-dues`.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize, schemars::JsonSchema)]
#[serde(try_from = "String", into = "String")]
pub struct SortColumn {
    /// The column.
    pub column: String,
    /// From the greatest down.
    pub descending: bool,
}

/// A text that names no column to sort by.
#[derive(Clone, Copy, Debug, PartialEq, Eq, thiserror::Error)]
#[error("a column's name is missing; write COLUMN, or -COLUMN to sort from the greatest down")]
pub struct SortColumnError;

impl FromStr for SortColumn {
    type Err = SortColumnError;

    fn from_str(text: &str) -> Result<Self, Self::Err> {
        let text = text.trim();
        let (column, descending) = match text.strip_prefix('-') {
            Some(column) => (column, true),
            None => (text, false),
        };
        if column.is_empty() {
            return Err(SortColumnError);
        }
        Ok(Self {
            column: column.to_owned(),
            descending,
        })
    }
}

impl fmt::Display for SortColumn {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        write!(
            f,
            "{}{}",
            if self.descending { "-" } else { "" },
            self.column
        )
    }
}

impl TryFrom<String> for SortColumn {
    type Error = SortColumnError;

    fn try_from(text: String) -> Result<Self, Self::Error> {
        text.parse()
    }
}

impl From<SortColumn> for String {
    fn from(column: SortColumn) -> Self {
        column.to_string()
    }
}

/// A column to sort by, found in batches.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct SortKey {
    /// Its name.
    pub name: String,
    /// Its place.
    pub slot: usize,
    /// From the greatest down.
    pub descending: bool,
    /// The type of its values.
    pub kind: Type,
    /// A step has computed it.
    pub computed: bool,
}

/// Runs that are being filled or sorted at the same time.
const RUNS: u64 = 2;

/// Part of the memory that runs may take, in quarters: merging and what comes after need some too.
const SHARE: u64 = 3;

/// What records are sorted by, and what their values were sorted as.
#[derive(Debug)]
struct SortBy {
    keys: Vec<SortKey>,
    cells: Cells,
    tallies: Vec<SortTally>,
}

/// Puts the records of batches in order.
#[derive(Debug)]
pub struct Sorter {
    by: SortBy,
    folder: PathBuf,
    room: usize,
    run: Run,
    files: Vec<RunFile>,
    helper: Option<Helper>,
    threads: bool,
}

/// A thread that sorts runs and writes them.
#[derive(Debug)]
struct Helper {
    full: SyncSender<Run>,
    empty: Receiver<Run>,
    thread: JoinHandle<io::Result<Vec<RunFile>>>,
}

impl Sorter {
    /// A sorter that takes about `memory` bytes and writes runs in `folder`, on a thread of its
    /// own if `threads` says so.
    pub fn new(
        keys: Vec<SortKey>,
        cells: Cells,
        folder: PathBuf,
        memory: u64,
        threads: bool,
    ) -> Self {
        let room = memory / 4 * SHARE / if threads { RUNS } else { 1 };
        Self {
            run: Run::new(keys.len()),
            by: SortBy {
                tallies: vec![SortTally::default(); keys.len()],
                keys,
                cells,
            },
            folder,
            room: usize::try_from(room)
                .unwrap_or(usize::MAX)
                .clamp(1 << 12, 1 << 30),
            files: Vec::new(),
            helper: None,
            threads,
        }
    }

    /// Takes the records of a batch.
    pub fn push(&mut self, batch: &Batch) -> io::Result<()> {
        let mut lines = Vec::new();
        batch.all_lines(&mut lines);
        for (record, line) in lines.iter().enumerate() {
            if self.run.size() > 0 && self.run.size() + batch.raw(record).len() > self.room {
                self.write_run()?;
            }
            self.run
                .push(batch, record, *line, &mut self.by, self.room)?;
        }
        Ok(())
    }

    /// Sorts the run that is full and writes it, here or on the other thread.
    fn write_run(&mut self) -> io::Result<()> {
        if !self.threads {
            let file = self.run.write(&self.folder)?;
            self.files.push(file);
            self.run.clear();
            return Ok(());
        }
        if self.helper.is_none() {
            let (full, inbox) = sync_channel::<Run>(0);
            let (give_back, empty) = sync_channel::<Run>(RUNS as usize);
            let folder = self.folder.clone();
            let spare = Run::new(self.by.keys.len());
            // The receiver is there, and has room.
            let _ = give_back.send(spare);
            let thread = thread::Builder::new()
                .name("sorter".to_owned())
                .spawn(move || {
                    let mut files = Vec::new();
                    for mut run in inbox {
                        files.push(run.write(&folder)?);
                        run.clear();
                        let _ = give_back.send(run);
                    }
                    Ok(files)
                })?;
            self.helper = Some(Helper {
                full,
                empty,
                thread,
            });
        }
        if let Some(helper) = &self.helper
            && let Ok(empty) = helper.empty.recv()
        {
            let full = std::mem::replace(&mut self.run, empty);
            if helper.full.send(full).is_ok() {
                return Ok(());
            }
        }
        // The thread has ended before its time, and says why.
        Err(self
            .join()
            .err()
            .unwrap_or_else(|| io::Error::other("the sorting thread ended")))
    }

    fn join(&mut self) -> io::Result<()> {
        let Some(helper) = self.helper.take() else {
            return Ok(());
        };
        drop((helper.full, helper.empty));
        match helper.thread.join() {
            Ok(files) => {
                self.files.extend(files?);
                Ok(())
            }
            Err(panic) => std::panic::resume_unwind(panic),
        }
    }

    /// Columns of which some values were sorted as texts and look like more.
    pub fn sorted_as_text(&self) -> Vec<SortedAsText> {
        let columns = self.by.keys.iter().zip(&self.by.tallies);
        columns
            .filter_map(|(key, tally)| match key.kind {
                Type::Text | Type::Boolean => None,
                _ => tally.finish(&key.name),
            })
            .collect()
    }

    /// All records in order. The sorter is empty then.
    pub fn finish(&mut self) -> io::Result<SortedBatches> {
        let spilled = self.helper.is_some() || !self.files.is_empty();
        if spilled && self.run.size() > 0 {
            self.write_run()?;
        }
        self.join()?;
        let mut run = std::mem::replace(&mut self.run, Run::new(self.by.keys.len()));
        if !spilled {
            run.sort();
            return Ok(SortedBatches(Sorted::Memory { run, next: 0 }));
        }
        drop(run);
        let files = std::mem::take(&mut self.files);
        Ok(SortedBatches(Sorted::Runs(Merge::new(files)?)))
    }
}

/// Records in order.
#[derive(Debug)]
pub struct SortedBatches(Sorted);

/// Where the records in order are.
#[derive(Debug)]
enum Sorted {
    /// From memory.
    Memory { run: Run, next: usize },
    /// From the disk.
    Runs(Merge),
}

impl SortedBatches {
    /// Fills `batch`, which has what its source's batches have in common, with the next records of
    /// about `size` bytes; field ends are not set. `false` when there are no more.
    pub fn next_batch(&mut self, batch: &mut Batch, size: usize) -> io::Result<bool> {
        batch.clear();
        batch.bytes.clear();
        match &mut self.0 {
            Sorted::Memory { run, next } => {
                while *next < run.len() && batch.bytes.len() < size {
                    run::unpack(run.record(*next), batch);
                    *next += 1;
                }
            }
            Sorted::Runs(merge) => {
                while batch.bytes.len() < size {
                    match merge.next()? {
                        Some(record) => run::unpack(record, batch),
                        None => break,
                    }
                    merge.advance()?;
                }
            }
        }
        Ok(!batch.bytes.is_empty())
    }
}

#[cfg(test)]
mod tests;
