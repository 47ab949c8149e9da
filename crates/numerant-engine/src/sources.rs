//! The sources of a job: opened as often as a run has to read them.

use std::collections::{HashMap, HashSet, VecDeque};
use std::fs::File;
use std::io::{self, Read, Write};
use std::path::PathBuf;
use std::sync::Arc;
use std::sync::atomic::Ordering;

use super::{Context, Error};
use crate::gather::{BlankValuesReader, GatheredReader, settle};
use crate::job::{Job, JobError};
use numerant_data::record::{Batch, Columns};
use numerant_data::source::{
    Input, ReadProblem, SharedFile, SourcePath, common_folder, is_open_elsewhere,
};
use numerant_data::tree::Occurrences;
use numerant_data::value::{Kind, WrittenColumn, WrittenFormat, WrittenHints, WrittenOutcome};
use numerant_format::{
    Document, Opening, ReadContext, ReadOptions, RecordReader, SchemaScan, SheetsLeftOut, Source,
};
use numerant_formats::open;
use numerant_steps::Step;

/// Names that an error keeps to list.
const LISTED: usize = 1000;

/// The name of a source column that has whole paths.
const PATH_COLUMN: &str = "path";

/// Bytes that a source takes that is open and is not being read yet.
const KEPT_OPEN: usize = 512 << 10;

/// Batches of each source that are looked at for how values are written.
const SAMPLE: usize = 4;

/// Bytes of text in a batch.
pub(super) const BATCH: usize = 1 << 17;

/// The files of a job, in order. Each is one source, or has several: the sheets of a workbook.
#[derive(Debug)]
pub(super) struct Sources {
    paths: Vec<SourcePath>,
    /// The place of each among them.
    places: HashMap<SourcePath, usize>,
    /// What can be read only once is kept in a file without a name, if it is read twice.
    kept: HashMap<usize, SharedFile>,
    /// The columns of the first source.
    columns: Columns,
    /// The columns that all sources have together, where there are several.
    together: Option<Vec<String>>,
    /// What each file is called in a column that says where records come from.
    labels: Vec<String>,
    /// Sheets are named there, too.
    names_sheets: bool,
    /// Sources may have columns of their own, as no output has records of two.
    own_columns: bool,
    /// How they are read.
    read: ReadOptions,
    /// How columns are named that are occurrences of one value, of which a condition has to hold for any.
    occurrences: Option<Occurrences>,
    /// How much of a source is read before its columns are final.
    scan: SchemaScan,
    /// How the values of columns are written that the job names, where that was detected.
    written: Vec<(String, WrittenFormat)>,
}

/// How the sources of a job are opened.
#[derive(Clone, Debug)]
pub(super) struct SourcesOpening {
    /// They are read more than once.
    pub(super) reads_twice: bool,
    /// They need not have the same columns.
    pub(super) has_own_columns: bool,
    /// How much of a source is read before its columns are final.
    pub(super) scan: SchemaScan,
}

/// A way through all sources.
#[derive(Default)]
pub(super) struct Cursor {
    /// The next file.
    next: usize,
    /// The source whose tables are read, and the next of them.
    source: Option<(Box<dyn Source>, usize)>,
    /// Sources that were opened to learn their columns, in order; what `next` says comes after them.
    opened: VecDeque<Box<dyn RecordReader>>,
    /// The first source, with the columns of all.
    pub(super) first: Option<Box<dyn RecordReader>>,
    /// Workbooks of which only some sheets are read: their names, and those of the others.
    pub(super) passed_over: Vec<(String, Vec<String>)>,
    /// Workbooks that are open in a program.
    pub(super) open_elsewhere: Vec<String>,
    /// Workbooks whose sheets come out as they are, and their sheets that hold a chart or macros.
    pub(super) without_cells: Vec<(String, Vec<String>)>,
    /// Sheets of workbooks that are empty, and were not read.
    pub(super) empty: Vec<(String, Vec<String>)>,
}

impl Cursor {
    /// Takes note of the sheets of a workbook that are not read.
    fn take_note(&mut self, path: &SourcePath, left_out: SheetsLeftOut, job: &Job) {
        let SheetsLeftOut {
            empty,
            not_chosen,
            without_cells,
        } = left_out;
        if is_open_elsewhere(path) {
            self.open_elsewhere.push(path.to_string());
        }
        if !empty.is_empty() {
            self.empty.push((path.to_string(), empty));
        }
        if (job.per_sheet || job.like_source) && !without_cells.is_empty() {
            self.without_cells.push((path.to_string(), without_cells));
        }
        if !not_chosen.is_empty() {
            self.passed_over.push((path.to_string(), not_chosen));
        }
    }
}

/// An error if two sources are one file, under two spellings or through a link.
fn check_same_file(sources: &[SourcePath]) -> Result<(), JobError> {
    let mut known = HashMap::new();
    for source in sources {
        let Some(identity) = source.identity() else {
            continue;
        };
        let member = match source {
            SourcePath::Member(member) => Some(member.name()),
            _ => None,
        };
        if let Some(first) = known.insert((identity, member), source) {
            return Err(JobError::SameFile {
                first: first.clone(),
                second: source.clone(),
            });
        }
    }
    Ok(())
}

/// An error if the names of sources do not say what they are to say.
fn check_names(job: &Job) -> Result<(), Error> {
    let Some(pattern) = &job.from_name else {
        return Ok(());
    };
    let misfits = job.sources.iter().filter(|source| {
        let path = PathBuf::from((*source).clone());
        pattern.read(&path).is_err()
    });
    let misfits: Vec<String> = misfits.map(ToString::to_string).collect();
    if misfits.is_empty() {
        return Ok(());
    }
    Err(Error::NamesDoNotFit {
        pattern: pattern.to_string(),
        count: misfits.len() as u64,
        all: job.sources.len() as u64,
        names: misfits.into_iter().take(LISTED).collect(),
    })
}

/// What is in files of layouts.
fn layouts(files: &[PathBuf]) -> Result<Vec<String>, Error> {
    let read = |path: &PathBuf| {
        let failed = |error| SourcePath::File(path.clone()).error(ReadProblem::Io(error));
        std::fs::read_to_string(path).map_err(|error| Error::Read(failed(error)))
    };
    files.iter().map(read).collect()
}

/// What each source is called: its path below the folder that all have in common, without its
/// extension unless that is what tells two of them apart.
/// Where whole paths are wanted they have their extension in any case.
fn labels(sources: &[SourcePath], are_paths: bool) -> Vec<String> {
    let shared = common_folder(sources);
    let label = |source: &SourcePath, whole: bool| {
        let folder = source.parent();
        let below = folder.strip_prefix(&shared).unwrap_or(&folder);
        let extension = source.extension();
        let name = if whole && !extension.is_empty() {
            format!("{}.{extension}", source.stem())
        } else {
            source.stem()
        };
        let path = below.join(name);
        path.to_string_lossy().replace('\\', "/")
    };
    let short: Vec<String> = sources.iter().map(|source| label(source, false)).collect();
    let mut known = HashSet::new();
    if !are_paths && short.iter().all(|label| known.insert(label)) {
        short
    } else {
        sources.iter().map(|source| label(source, true)).collect()
    }
}

impl Sources {
    /// Checks the sources and opens the first of them.
    pub(super) fn open(
        job: &Job,
        opening: SourcesOpening,
        context: &Context,
    ) -> Result<(Self, Cursor), Error> {
        let own_columns = opening.has_own_columns;
        check_same_file(&job.sources)?;
        let mut sources = Self {
            paths: job.sources.clone(),
            places: job.sources.iter().cloned().zip(0..).collect(),
            kept: HashMap::new(),
            columns: Columns::default(),
            together: None,
            labels: match job.source_column {
                Some(ref column) => labels(&job.sources, column == PATH_COLUMN),
                None => Vec::new(),
            },
            names_sheets: false,
            own_columns,
            occurrences: None,
            read: ReadOptions {
                context: ReadContext {
                    named: job.words(),
                    layouts: layouts(&job.read.layout)?,
                    ..job.read.context.clone()
                },
                ..job.read.clone()
            },
            scan: opening.scan,
            written: Vec::new(),
        };
        check_names(job)?;
        let several = job.sources.len() > 1 || !job.read.read_sheet.is_empty() || job.is_by_sheet();
        let gathers = several && (!own_columns || job.source_column.is_some());
        if opening.reads_twice || gathers {
            sources.keep_streams(context)?;
        }
        let mut cursor = Cursor::default();
        if gathers {
            cursor = sources.gather(job, context)?;
        }
        if let Some(first) = sources.next(&mut cursor, job, context)? {
            sources.columns = first.columns().clone();
            sources.occurrences = first.document().and_then(Document::occurrences);
            let is_text = !first.facts().dialect.is_tagged();
            cursor.first = Some(first);
            if is_text {
                sources.written = sources.detect_written(job, context)?;
            }
        }
        Ok((sources, cursor))
    }

    /// How columns are named that are occurrences of one value, of which a condition has to hold for any.
    pub(super) fn occurrences(&self) -> Option<Occurrences> {
        self.occurrences
    }

    /// What the first file is called.
    pub(super) fn first_name(&self) -> String {
        self.paths
            .first()
            .map_or_else(String::new, ToString::to_string)
    }

    /// How the values of columns are written that the job names, where that was detected.
    pub(super) fn written(&self) -> &[(String, WrittenFormat)] {
        &self.written
    }

    /// Looks at the first records of each source for how the columns are written that the job names.
    /// What can be read only once is left alone.
    fn detect_written(
        &self,
        job: &Job,
        context: &Context,
    ) -> Result<Vec<(String, WrittenFormat)>, Error> {
        let words = job.columns_read();
        let names = self.columns.names().iter();
        let all = job.steps.contains(&Step::Normalize);
        let named: Vec<&String> = names.filter(|name| all || words.contains(name)).collect();
        let is_read_again = |(place, path): (usize, &SourcePath)| match path {
            SourcePath::Standard => self.kept.contains_key(&place),
            path => path.bytes_on_disk().is_some() || self.kept.contains_key(&place),
        };
        if named.is_empty() || !self.paths.iter().enumerate().all(is_read_again) {
            return Ok(Vec::new());
        }
        let hints = WrittenHints {
            is_for_reading: true,
            ..job.written_hints()
        };
        let mut found: Vec<WrittenColumn> = vec![WrittenColumn::default(); named.len()];
        for path in &self.paths {
            let mut seen = 0;
            self.read(job, context, Some(path), &mut |batch, reader| {
                seen += batch.bytes.len();
                for (name, found) in named.iter().zip(&mut found) {
                    if let Ok(column) = reader.columns().find(name) {
                        look_at(batch, column, &hints, found);
                    }
                }
                Ok(seen < BATCH * SAMPLE)
            })?;
        }
        let formats = named.into_iter().zip(found).filter_map(|(name, found)| {
            let (WrittenOutcome::All(format) | WrittenOutcome::Most(format, _)) = found.finish()
            else {
                return None;
            };
            (!format.is_plain()).then(|| (name.clone(), format))
        });
        Ok(formats.collect())
    }

    /// The columns of the first source.
    pub(super) fn columns(&self) -> &Columns {
        &self.columns
    }

    /// Bytes on disk of all sources, if they are known.
    pub(super) fn size(&self) -> Option<u64> {
        let size = |(place, path): (usize, &SourcePath)| match (self.kept.get(&place), path) {
            (Some(kept), _) => Some(kept.length()),
            (None, path) => path.bytes_on_disk(),
        };
        self.paths.iter().enumerate().map(size).sum()
    }

    /// Copies what can be read only once to files without a name.
    fn keep_streams(&mut self, context: &Context) -> Result<(), Error> {
        for (place, path) in self.paths.iter().enumerate() {
            let failed = |error| path.error(ReadProblem::Io(error));
            let stream: Box<dyn Read> = match path {
                SourcePath::Standard => Box::new(io::stdin()),
                SourcePath::Member(_) => continue,
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
            let kept = SharedFile::new(Arc::new(kept)).map_err(failed)?;
            self.kept.insert(place, kept);
        }
        Ok(())
    }

    /// The next source, if there is one.
    pub(super) fn next(
        &self,
        cursor: &mut Cursor,
        job: &Job,
        context: &Context,
    ) -> Result<Option<Box<dyn RecordReader>>, Error> {
        if let Some(first) = cursor.first.take() {
            return Ok(Some(first));
        }
        let opened = match cursor.opened.pop_front() {
            Some(opened) => Some(opened),
            None => self.open_next(cursor, job, context)?,
        };
        match opened {
            Some(reader) => self.gathered(reader, job).map(Some),
            None => Ok(None),
        }
    }

    /// The next source as it is.
    fn open_next(
        &self,
        cursor: &mut Cursor,
        job: &Job,
        context: &Context,
    ) -> Result<Option<Box<dyn RecordReader>>, Error> {
        let largest = usize::try_from(job.memory.0 / 4).unwrap_or(usize::MAX);
        let opening = Opening {
            options: &self.read,
            batch_size: BATCH,
            largest_record: largest,
            scan: &self.scan,
        };
        let reader: Box<dyn RecordReader> = loop {
            if let Some((source, table)) = &mut cursor.source {
                if *table < source.tables() {
                    *table += 1;
                    break source.open_table(*table - 1, opening)?;
                }
                cursor.source = None;
            }
            let Some(path) = self.paths.get(cursor.next) else {
                return Ok(None);
            };
            let input = match self.kept.get(&cursor.next) {
                None => Input::open(path)?,
                Some(kept) => Input::from_reader(path.clone(), Box::new(kept.again()), None)?,
            };
            cursor.next += 1;
            let temporary = &context.temporary;
            let source = open(input, &self.read, largest, temporary, job.is_by_sheet())?;
            if let Some(left_out) = source.sheets_left_out() {
                cursor.take_note(path, left_out, job);
            }
            cursor.source = Some((source, 0));
        };
        Ok(Some(reader))
    }

    /// The source with the columns that all have together, and with those that its name says.
    fn gathered(
        &self,
        reader: Box<dyn RecordReader>,
        job: &Job,
    ) -> Result<Box<dyn RecordReader>, Error> {
        let constants = self.constants(reader.as_ref(), job)?;
        let own = || reader.columns().names().to_vec();
        let wanted = match &self.together {
            Some(together) => together.clone(),
            None => own(),
        };
        for (column, _) in &constants {
            if wanted.contains(column) {
                return Err(Error::OwnColumn {
                    source_name: reader.name(),
                    column: column.clone(),
                    is_of_name: job.source_column.as_ref() != Some(column),
                });
            }
        }
        let gathered = GatheredReader::around(reader, &wanted, &constants);
        Ok(BlankValuesReader::around(gathered, &self.read.blank_values))
    }

    /// Columns that are the same in all records of a source.
    fn constants(
        &self,
        reader: &dyn RecordReader,
        job: &Job,
    ) -> Result<Vec<(String, String)>, Error> {
        let mut constants = Vec::new();
        let path = PathBuf::from(reader.path().clone());
        if let Some(pattern) = &job.from_name {
            let values = pattern.read(&path).map_err(|_| Error::NamesDoNotFit {
                pattern: pattern.to_string(),
                names: vec![reader.path().to_string()],
                count: 1,
                all: 1,
            })?;
            constants.extend(pattern.columns().iter().cloned().zip(values));
        }
        if let Some(column) = &job.source_column {
            let label = self
                .places
                .get(reader.path())
                .map(|place| &self.labels[*place]);
            let mut label = label.map_or_else(|| reader.path().stem(), Clone::clone);
            if let Some(sheet) = reader.facts().sheet.as_ref().filter(|_| self.names_sheets) {
                label = format!("{label}: {sheet}");
            }
            constants.push((column.clone(), label));
        }
        Ok(constants)
    }

    /// Opens all sources to learn which columns they have together. Those that were opened are kept
    /// in the cursor, as far as there is room.
    fn gather(&mut self, job: &Job, context: &Context) -> Result<Cursor, Error> {
        let mut cursor = Cursor::default();
        let mut sources: Vec<(String, Vec<String>)> = Vec::new();
        let (mut documents, mut sheets) = (true, false);
        let room = usize::try_from(job.memory.0 / 8).unwrap_or(usize::MAX) / KEPT_OPEN;
        let room = room.min(context.open_files / 4);
        let mut opened = VecDeque::new();
        while let Some(reader) = self.open_next(&mut cursor, job, context)? {
            context.check_cancelled()?;
            documents &= reader.document().is_some();
            sheets |= reader.facts().sheet.is_some();
            sources.push((reader.name(), reader.columns().names().to_vec()));
            if opened.len() < room {
                opened.push_back(reader);
            }
        }
        self.names_sheets = sheets && sources.len() > self.paths.len();
        if !self.own_columns {
            self.together = Some(settle(job.columns, documents, &sources)?);
        }
        if sources.len() > self.paths.len() {
            // Where a file has several sources, the way through them begins anew.
            return Ok(Cursor::default());
        }
        Ok(Cursor {
            next: opened.len(),
            opened,
            passed_over: cursor.passed_over,
            empty: cursor.empty,
            without_cells: cursor.without_cells,
            open_elsewhere: cursor.open_elsewhere,
            ..Cursor::default()
        })
    }

    /// Reads all sources, batch by batch, and hands each batch to `look` until that has seen
    /// enough.
    pub(super) fn read_all(
        &self,
        job: &Job,
        context: &Context,
        look: &mut dyn FnMut(&mut Batch, &dyn RecordReader) -> Result<bool, Error>,
    ) -> Result<(), Error> {
        self.read(job, context, None, look)
    }

    /// Reads one of the files, as [`Sources::read_all`] does with all, or all.
    pub(super) fn read(
        &self,
        job: &Job,
        context: &Context,
        only: Option<&SourcePath>,
        look: &mut dyn FnMut(&mut Batch, &dyn RecordReader) -> Result<bool, Error>,
    ) -> Result<(), Error> {
        let mut before = 0;
        let mut cursor = Cursor {
            next: match only {
                None => 0,
                Some(only) => self.places.get(only).copied().unwrap_or(0),
            },
            ..Cursor::default()
        };
        while let Some(mut reader) = self.next(&mut cursor, job, context)? {
            if only.is_some_and(|only| only != reader.path()) {
                return Ok(());
            }
            let taken = Arc::clone(&reader.facts().taken);
            let mut batch = Batch::default();
            while reader.next_batch(&mut batch)? {
                context.check_cancelled()?;
                if !look(&mut batch, reader.as_ref())? {
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

/// Takes note of how the values of a column are written.
fn look_at(batch: &Batch, column: usize, hints: &WrittenHints, found: &mut WrittenColumn) {
    let mut scratch = Vec::new();
    for record in 0..batch.len() {
        if found.is_over() {
            return;
        }
        let value = batch.field(record, column).value(&mut scratch);
        let kind = Kind::of(value);
        if kind == Kind::Blank {
            continue;
        }
        let shape = kind.plain_shape(value);
        found.add(value, shape, hints, || batch.line(record));
    }
}
