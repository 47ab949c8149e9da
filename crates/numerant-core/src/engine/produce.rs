//! The first half of a run: reads records and finds the output of each.

use std::collections::HashMap;
use std::fmt;
use std::path::{Path, PathBuf};
use std::sync::Arc;
use std::sync::atomic::{AtomicU64, Ordering};

use super::addresses::SourceNames;
use super::{Addresses, Context, Error, NamesChanged, Notice};
use crate::format::delimited::{DelimitedEncoder, DelimitedReader, Dialect};
use crate::format::{RecordEncoder, RecordReader};
use crate::job::{Job, JobError};
use crate::ledger::SourceEntry;
use crate::name::{RunField, Template};
use crate::record::{Batch, ColumnError, Columns};
use crate::route::{NOWHERE, Router};
use crate::source::{Input, Place, ReadProblem, SourcePath};
use crate::step::selected;

/// Bytes of text in a batch.
const BATCH: usize = 1 << 17;

/// Groups that are counted at least, to say how many there would have been.
const COUNTED_GROUPS: u64 = 1_000_000;

/// How many groups are counted before counting is given up: more than there may be.
pub(super) fn most_groups(job: &Job) -> u64 {
    COUNTED_GROUPS
        .max(job.max_outputs.saturating_add(1))
        .min(u32::MAX.into())
}

/// What the first half hands to the second.
pub(super) enum Message {
    /// The records that follow come from this source.
    Source(SourceBegins),
    /// Records, and the group of each.
    Records(Box<Routed>),
}

/// A source begins.
pub(super) struct SourceBegins {
    pub(super) name: String,
    /// Turns its records into bytes of outputs.
    pub(super) encoder: Arc<dyn RecordEncoder>,
    /// Turns its rejected records into bytes of the rejects file.
    pub(super) reject_encoder: Arc<dyn RecordEncoder>,
    pub(super) encoding: crate::source::Encoding,
}

/// A batch with the group of each record.
#[derive(Debug, Default)]
pub(super) struct Routed {
    pub(super) batch: Batch,
    pub(super) groups: Vec<u32>,
    /// How many groups there are up to this batch.
    pub(super) groups_so_far: usize,
    /// The paths of the groups that first appear in this batch, for messages.
    pub(super) new_paths: Vec<String>,
}

/// What the first half knows at the end.
pub(super) struct Produced {
    pub(super) out: PathBuf,
    pub(super) sources: Vec<SourceEntry>,
    pub(super) notices: Vec<Notice>,
    /// The path of each group; `None` where the output exists and is left as it is.
    pub(super) paths: Vec<Option<String>>,
    /// Outputs that are left as they are, and the records that would have gone there.
    pub(super) kept: Vec<(String, u64)>,
}

/// Takes a message and gives back a batch to fill, if it has one to spare.
pub(super) type Emit<'a> = dyn FnMut(Message) -> Result<Option<Box<Routed>>, Error> + 'a;

pub(super) struct Producer {
    job: Job,
    context: Context,
    out: PathBuf,
    extension: String,
    first: Option<DelimitedReader>,
    columns: Columns,
    selection: Option<Vec<usize>>,
    router: Router,
    addresses: Addresses,
    template: Template,
    out_dialect: Option<Dialect>,
    sources: Vec<SourceEntry>,
    notices: Vec<Notice>,
    /// Records of groups that are left as they exist.
    kept: Vec<u64>,
    read_before: u64,
}

impl fmt::Debug for Producer {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.debug_struct("Producer")
            .field("job", &self.job)
            .finish_non_exhaustive()
    }
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

/// Opens a source with what the job says of reading.
pub(super) fn open_source(source: &SourcePath, job: &Job) -> Result<DelimitedReader, Error> {
    let largest = usize::try_from(job.memory.0 / 4).unwrap_or(usize::MAX);
    let input = Input::open(source)?;
    Ok(DelimitedReader::open(input, &job.read, BATCH, largest)?)
}

impl Producer {
    /// Checks the job, opens its first source and resolves what the job names.
    pub(super) fn open(job: &Job, context: &Context) -> Result<Self, Error> {
        job.check()?;
        check_same_file(&job.sources)?;
        let first_source = &job.sources[0];
        let template = job.template(first_source);
        let (extension, _format) = job.format(first_source)?;
        let out = job
            .out
            .clone()
            .unwrap_or_else(|| PathBuf::from(first_source.stem()));
        let keys = job.keys(&template);
        let addresses = Addresses::new(job, template.clone(), keys.clone(), &out, context.now);
        let first = open_source(first_source, job)?;
        let columns = first.columns().clone();
        let unknown = |problem: ColumnError| Error::Column {
            source_name: first_source.to_string(),
            problem,
        };
        let router = Router::new(
            keys,
            &columns,
            job.date_format.clone(),
            most_groups(job) as usize,
        )
        .map_err(unknown)?;
        let selection = selected(&job.steps, &columns).map_err(unknown)?;
        addresses.check_before(job.out.is_some())?;
        let sizes: Option<u64> = job
            .sources
            .iter()
            .map(|source| match source {
                SourcePath::Standard => None,
                SourcePath::File(path) => path.metadata().ok().map(|found| found.len()),
            })
            .sum();
        context.observer.begins(sizes);
        Ok(Self {
            job: job.clone(),
            context: context.clone(),
            out,
            extension,
            first: Some(first),
            columns,
            selection,
            router,
            addresses,
            template,
            out_dialect: None,
            sources: Vec::new(),
            notices: Vec::new(),
            kept: Vec::new(),
            read_before: 0,
        })
    }

    pub(super) fn out(&self) -> &Path {
        &self.out
    }

    /// Reads all sources. Once the run is refused, records are counted and not emitted.
    pub(super) fn run(&mut self, emit: &mut Emit<'_>) -> Result<(), Error> {
        let mut spare = Box::new(Routed::default());
        for source in self.job.sources.clone() {
            let reader = match self.first.take() {
                Some(first) => first,
                None => self.open_next(&source)?,
            };
            spare = self.run_source(&source, reader, spare, emit)?;
        }
        Ok(())
    }

    /// Opens a further source, which must have the columns of the first.
    fn open_next(&self, source: &SourcePath) -> Result<DelimitedReader, Error> {
        let reader = open_source(source, &self.job)?;
        let (ours, theirs) = (self.columns.names(), reader.columns().names());
        if ours == theirs {
            return Ok(reader);
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
        let first = self.job.sources[0].to_string();
        let problem = ReadProblem::OtherColumns { first, difference };
        Err(source
            .error_at(
                Place {
                    line: Some(1),
                    column: None,
                },
                problem,
            )
            .into())
    }

    fn begin_source(&mut self, source: &SourcePath, reader: &DelimitedReader) -> SourceBegins {
        let name = source.to_string();
        for note in reader.columns().notes() {
            self.notices.push(Notice::Header {
                source: name.clone(),
                note: note.clone(),
            });
        }
        if reader.told().single_column {
            self.notices.push(Notice::SingleColumn {
                source: name.clone(),
            });
        }
        let mut shared = Vec::new();
        if self.template.names(RunField::Stem) {
            shared.push(source.stem());
        }
        if self.template.names(RunField::Extension) {
            shared.push(source.extension());
        }
        if self.template.names(RunField::Folder) {
            shared.push(source.folder());
        }
        self.router.begin_source(shared);
        let dialect = reader.dialect();
        // An output can hold records of several sources, so all outputs follow the first.
        let out = *self.out_dialect.get_or_insert_with(|| {
            self.job
                .write
                .dialect(&self.extension, dialect, &source.extension())
        });
        let keep_line_ends = self.job.write.line_end.is_none() && out.line_end == dialect.line_end;
        let header = reader.header();
        let encoder =
            DelimitedEncoder::new(dialect, out, self.selection.clone(), header, keep_line_ends);
        let reject_encoder = DelimitedEncoder::new(dialect, dialect, None, header, true);
        SourceBegins {
            name,
            encoder: Arc::new(encoder),
            reject_encoder: Arc::new(reject_encoder),
            encoding: dialect.encoding,
        }
    }

    fn run_source(
        &mut self,
        source: &SourcePath,
        mut reader: DelimitedReader,
        mut spare: Box<Routed>,
        emit: &mut Emit<'_>,
    ) -> Result<Box<Routed>, Error> {
        let names = SourceNames {
            stem: source.stem(),
            extension: source.extension(),
            folder: source.folder(),
        };
        let begins = self.begin_source(source, &reader);
        emit(Message::Source(begins))?;
        let taken: Arc<AtomicU64> = reader.taken();
        while reader.next_batch(&mut spare.batch)? {
            self.context.check_cancelled()?;
            self.route(source, &mut spare, &names)?;
            self.context
                .observer
                .has_read(self.read_before + taken.load(Ordering::Relaxed));
            if self.addresses.is_refused() {
                continue;
            }
            spare = emit(Message::Records(spare))?.unwrap_or_default();
        }
        self.read_before += taken.load(Ordering::Relaxed);
        let tally = reader.tally();
        let name = source.to_string();
        if tally.stray_quotes > 0 {
            let fields = tally.stray_quotes;
            self.notices.push(Notice::StrayQuotes {
                source: name.clone(),
                fields,
            });
        }
        self.sources.push(SourceEntry {
            path: name,
            bytes: reader.size(),
            records: tally.records,
            rejected: tally.rejected,
            padded: tally.padded,
            blank_lines: tally.blank_lines,
            skipped_lines: reader.told().skipped_lines,
        });
        Ok(spare)
    }

    fn route(
        &mut self,
        source: &SourcePath,
        routed: &mut Routed,
        names: &SourceNames,
    ) -> Result<(), Error> {
        let Routed {
            batch,
            groups,
            groups_so_far,
            new_paths,
        } = routed;
        self.router
            .route(batch, groups)
            .map_err(|error| Error::Value {
                source_name: source.to_string(),
                line: batch.line(error.record),
                column: error.column,
                problem: error.problem,
            })?;
        let known = self.router.groups().len();
        new_paths.clear();
        if known > self.kept.len() {
            let before = self.kept.len();
            self.addresses.name_new(&self.router, names);
            self.kept.resize(known, 0);
            new_paths.extend((before..known).map(|group| self.addresses.shown(group)));
        }
        *groups_so_far = known;
        if self.addresses.keeps_any() {
            for group in groups.iter_mut() {
                if self.addresses.keeps(*group) {
                    self.kept[*group as usize] += 1;
                    *group = NOWHERE;
                }
            }
        }
        Ok(())
    }

    /// Names what is left to name and refuses the run if there is a reason. `records` are the
    /// records of each group that were written or counted.
    pub(super) fn finish(mut self, records: &mut Vec<u64>) -> Result<Produced, Error> {
        records.resize(self.router.groups().len(), 0);
        self.addresses.finish(&self.router, records)?;
        let (paths, kept_groups, changed) = self.addresses.into_parts();
        // A name that waited for the number of records may turn out to exist only now.
        let kept = kept_groups
            .into_iter()
            .map(|(group, path)| {
                let counted = std::mem::take(&mut records[group]);
                (path, self.kept[group] + counted)
            })
            .collect();
        if changed != NamesChanged::default() {
            self.notices.push(Notice::NamesChanged(changed));
        }
        Ok(Produced {
            out: self.out,
            sources: self.sources,
            notices: self.notices,
            paths,
            kept,
        })
    }
}
