//! The sources of a job: opened as often as a run has to read them.

use std::collections::HashMap;
use std::fs::File;
use std::io::{self, Read, Write};
use std::sync::Arc;
use std::sync::atomic::Ordering;

use super::{Context, Error};
use crate::format::RecordReader;
use crate::format::delimited::DelimitedReader;
use crate::job::{Job, JobError};
use crate::record::Columns;
use crate::source::{Input, Place, ReadProblem, SourcePath};

/// Bytes of text in a batch.
pub(super) const BATCH: usize = 1 << 17;

/// The sources of a job, in order, which must all have the same columns.
#[derive(Debug)]
pub(super) struct Sources {
    paths: Vec<SourcePath>,
    /// What can be read only once is kept in a file without a name, if it is read twice.
    kept: HashMap<usize, Arc<File>>,
    columns: Columns,
}

/// An error if two sources are one file, under two spellings or through a link.
fn check_same_file(sources: &[SourcePath]) -> Result<(), JobError> {
    let mut known = HashMap::new();
    for source in sources {
        let Some(identity) = source.identity() else {
            continue;
        };
        if let Some(first) = known.insert(identity, source) {
            return Err(JobError::SameFile {
                first: first.clone(),
                second: source.clone(),
            });
        }
    }
    Ok(())
}

/// Reads a file from its start, with a place of its own: several may read it by turns.
#[derive(Debug)]
struct FromStart {
    file: Arc<File>,
    position: u64,
}

impl Read for FromStart {
    fn read(&mut self, buffer: &mut [u8]) -> io::Result<usize> {
        #[cfg(unix)]
        let read = std::os::unix::fs::FileExt::read_at(&*self.file, buffer, self.position)?;
        #[cfg(windows)]
        let read = std::os::windows::fs::FileExt::seek_read(&*self.file, buffer, self.position)?;
        self.position += read as u64;
        Ok(read)
    }
}

impl Sources {
    /// Checks the sources and opens the first of them; `twice` says that they will be read twice.
    pub(super) fn open(
        job: &Job,
        twice: bool,
        context: &Context,
    ) -> Result<(Self, DelimitedReader), Error> {
        check_same_file(&job.sources)?;
        let mut sources = Self {
            paths: job.sources.clone(),
            kept: HashMap::new(),
            columns: Columns::default(),
        };
        if twice {
            sources.keep_streams(context)?;
        }
        let first = sources.open_one(0, job)?;
        sources.columns = first.columns().clone();
        Ok((sources, first))
    }

    pub(super) fn len(&self) -> usize {
        self.paths.len()
    }

    pub(super) fn path(&self, place: usize) -> &SourcePath {
        &self.paths[place]
    }

    /// The columns of all sources.
    pub(super) fn columns(&self) -> &Columns {
        &self.columns
    }

    /// Bytes on disk of all sources, if they are known.
    pub(super) fn size(&self) -> Option<u64> {
        let size = |(place, path): (usize, &SourcePath)| match (self.kept.get(&place), path) {
            (Some(kept), _) => kept.metadata().ok().map(|found| found.len()),
            (None, SourcePath::Standard) => None,
            (None, SourcePath::File(path)) => path.metadata().ok().map(|found| found.len()),
        };
        self.paths.iter().enumerate().map(size).sum()
    }

    /// Copies what can be read only once to files without a name.
    fn keep_streams(&mut self, context: &Context) -> Result<(), Error> {
        for (place, path) in self.paths.iter().enumerate() {
            let failed = |error| path.error(ReadProblem::Io(error));
            let stream: Box<dyn Read> = match path {
                SourcePath::Standard => Box::new(io::stdin()),
                SourcePath::File(name) => match name.metadata() {
                    Ok(found) if !found.is_file() && !found.is_dir() => {
                        Box::new(File::open(name).map_err(failed)?)
                    }
                    _ => continue,
                },
            };
            let mut stream = stream;
            let mut kept = tempfile::tempfile_in(&context.temporary).map_err(failed)?;
            let mut buffer = vec![0; BATCH];
            loop {
                context.check_cancelled()?;
                match stream.read(&mut buffer) {
                    Ok(0) => break,
                    Ok(read) => kept.write_all(&buffer[..read]).map_err(failed)?,
                    Err(error) if error.kind() == io::ErrorKind::Interrupted => {}
                    Err(error) => return Err(failed(error).into()),
                }
            }
            self.kept.insert(place, Arc::new(kept));
        }
        Ok(())
    }

    /// Opens a source with what the job says of reading.
    pub(super) fn open_one(&self, place: usize, job: &Job) -> Result<DelimitedReader, Error> {
        let path = &self.paths[place];
        let largest = usize::try_from(job.memory.0 / 4).unwrap_or(usize::MAX);
        let input = match self.kept.get(&place) {
            None => Input::open(path)?,
            Some(kept) => {
                let reader = FromStart {
                    file: Arc::clone(kept),
                    position: 0,
                };
                Input::from_reader(path.clone(), Box::new(reader), None)?
            }
        };
        let reader = DelimitedReader::open(input, &job.read, BATCH, largest)?;
        if place > 0 {
            self.check_columns(path, reader.columns())?;
        }
        Ok(reader)
    }

    /// A further source must have the columns of the first.
    fn check_columns(&self, path: &SourcePath, columns: &Columns) -> Result<(), Error> {
        let (ours, theirs) = (self.columns.names(), columns.names());
        if ours == theirs {
            return Ok(());
        }
        let differing = ours
            .iter()
            .zip(theirs)
            .enumerate()
            .find(|(_, (one, other))| one != other);
        let difference = match differing {
            Some((place, (one, other))) => {
                format!("column {} is '{other}' and not '{one}'", place + 1)
            }
            None => format!("it has {} columns and not {}", theirs.len(), ours.len()),
        };
        let first = self.paths[0].to_string();
        let problem = ReadProblem::OtherColumns { first, difference };
        let place = Place {
            line: Some(1),
            column: None,
        };
        Err(path.error_at(place, problem).into())
    }

    /// Reads all sources, batch by batch, and hands each batch to `look` until that has seen
    /// enough. Bytes read are told to the observer if `told`.
    pub(super) fn read_all(
        &self,
        job: &Job,
        context: &Context,
        look: &mut dyn FnMut(&mut crate::record::Batch, usize) -> Result<bool, Error>,
    ) -> Result<(), Error> {
        let mut before = 0;
        for place in 0..self.len() {
            let mut reader = self.open_one(place, job)?;
            let taken = reader.taken();
            let mut batch = crate::record::Batch::default();
            while reader.next_batch(&mut batch)? {
                context.check_cancelled()?;
                if !look(&mut batch, place)? {
                    return Ok(());
                }
                let taken = taken.load(Ordering::Relaxed);
                context.observer.has_read(before + taken);
            }
            before += taken.load(Ordering::Relaxed);
        }
        Ok(())
    }
}
