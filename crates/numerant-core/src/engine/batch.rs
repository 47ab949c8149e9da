//! Many files, each a run of its own: several at the same time, and one that fails stops no other.
//!
//! What can be told of all of them is told before the first is read: outputs that two of them would
//! share, outputs that exist. Each output takes its place when its file is done, so that a batch that
//! is interrupted leaves whole files only.

use std::collections::{HashMap, HashSet};
use std::fs;
use std::path::{Component, Path, PathBuf};
use std::sync::atomic::{AtomicBool, AtomicU64, AtomicUsize, Ordering};
use std::sync::{Arc, Mutex};
use std::thread;

use super::addresses::{ExistingOutput, NameClash, Refusal};
use super::{
    Context, Error, FILES_KEPT_FREE, Notice, Observer, STACK, Shared, Summary, dated, find,
    foreseen, keep_ledger, plan_once, run_once,
};
use crate::format::{TextFormat, format_read};
use crate::job::Job;
use crate::ledger::{
    FailedFile, Ledger, LeftOut, OutputEntry, Reject, SourceEntry, TypedColumn, from_folder_of,
};
use crate::name::{RunField, RunValues, Template, fold};
use crate::output::{ExistingPolicy, SideFile, Stage};
use crate::source::{Found, Identity, Selected, SourcePath, common_folder, plain};
use crate::value::{Number, Size};

/// Things to say of a batch that are kept.
const NOTICES: usize = 1000;

/// Names that a refusal keeps to list.
const LISTED: usize = 1000;

/// Memory that a file gets at least.
const LEAST_MEMORY: u64 = 8 << 20;

/// What came of a batch.
#[derive(Debug)]
#[non_exhaustive]
pub struct BatchSummary {
    /// The books of all files that were done.
    pub summary: Summary,
    /// What became of each file, in order.
    pub files: Vec<BatchFile>,
}

/// A file of a batch.
#[derive(Debug)]
pub struct BatchFile {
    /// As it was found.
    pub source: String,
    /// What became of it.
    pub fate: FileFate,
}

/// What became of a file of a batch.
#[derive(Debug)]
pub enum FileFate {
    /// It was written, or would be: so many records of it to these paths below the output folder.
    Done {
        /// Records that were written.
        records: u64,
        /// Bytes of the outputs; not known of what is only planned.
        bytes: Option<u64>,
        /// The outputs.
        outputs: Vec<String>,
    },
    /// It was left as it is.
    Skipped(SkipReason),
    /// It could not be done.
    Failed(Box<Error>),
    /// Another one had failed before, and the batch was to stop then.
    NotReached,
}

/// Why a file of a batch was left as it is.
#[derive(Clone, Debug, PartialEq, Eq)]
#[non_exhaustive]
pub enum SkipReason {
    /// Its output exists, and was to stay.
    OutputExists,
    /// Its output is newer than it.
    NotChanged,
    /// It is its own output, as one of an earlier run is.
    IsOutput,
    /// It is the output of this other file.
    OutputOf(String),
}

impl BatchSummary {
    /// How many files could not be done.
    pub fn failed(&self) -> usize {
        let failed = |file: &&BatchFile| matches!(file.fate, FileFate::Failed(_));
        self.files.iter().filter(failed).count()
    }
}

/// Runs each file of a job by itself.
///
/// # Errors
///
/// [`Error`], and then nothing was written, unless it is [`Error::BatchInterrupted`]. What goes
/// wrong with a file is told of that file.
pub fn run_batch(job: &Job, context: &Context) -> Result<BatchSummary, Error> {
    batch(job, context, false)
}

/// Shows what [`run_batch`] would do, and writes nothing.
///
/// # Errors
///
/// As [`run_batch`].
pub fn plan_batch(job: &Job, context: &Context) -> Result<BatchSummary, Error> {
    batch(job, context, true)
}

/// A file that is to be done.
struct Task {
    /// Its place among all files.
    place: usize,
    job: Job,
    /// The folder of its outputs, below that of all outputs.
    below: String,
    size: u64,
}

fn batch(job: &Job, context: &Context, planned: bool) -> Result<BatchSummary, Error> {
    let job = &dated(job, context);
    let selected = find(job)?;
    let job = &Job {
        sources: selected
            .files
            .iter()
            .map(|file| file.path.clone())
            .collect(),
        ..job.clone()
    };
    job.check()?;
    let out = root(job, &selected);
    check_side_files(job)?;
    let (tasks, mut files) = tasks(job, selected, &out, context)?;
    let all: u64 = tasks.iter().map(|task| task.size).sum();
    context.observer.begins(Some(all));
    context.observer.begins_files(tasks.len() as u64);
    let protected: HashMap<Identity, SourcePath> = tasks
        .iter()
        .flat_map(|task| &task.job.sources)
        .filter_map(|source| Some((source.identity()?, source.clone())))
        .collect();
    let stage = match planned {
        true => None,
        false => Some(Stage::beside(&out)?),
    };
    let mut results = work(&tasks, job, &Arc::new(protected), stage.as_ref(), context)?;
    results.sort_by_key(|(task, _)| *task);
    let mut done = Merged::new(job);
    let cancelled = context.check_cancelled().is_err();
    for (task, result) in results {
        let Task { place, below, .. } = &tasks[task];
        files[*place].fate = match result {
            Ok(summary) => done.take(summary, below, &files[*place].source),
            Err(Error::Interrupted) if cancelled => FileFate::NotReached,
            Err(error) => {
                done.failed.push(FailedFile {
                    path: files[*place].source.clone(),
                    reason: error.to_string(),
                });
                FileFate::Failed(Box::new(error))
            }
        };
    }
    if cancelled {
        let finished = |file: &&BatchFile| matches!(file.fate, FileFate::Done { .. });
        return Err(Error::BatchInterrupted {
            done: files.iter().filter(finished).count() as u64,
            files: files.len() as u64,
        });
    }
    let mut summary = done.close(out)?;
    if let Some(path) = job.ledger.as_ref().filter(|_| !planned) {
        summary.ledger.out = Some(from_folder_of(path, &summary.out));
        let mut side_file: SideFile = keep_ledger(&mut summary.ledger, job, path)?;
        side_file.finish(job.sync)?;
        side_file.commit()?;
        summary.kept_ledger = Some(path.clone());
    }
    Ok(BatchSummary { summary, files })
}

/// The folder that the paths of outputs begin in: the one that is given, or else the one that all
/// files are in or below.
fn root(job: &Job, selected: &Selected) -> PathBuf {
    if let Some(out) = &job.out {
        return out.clone();
    }
    let shared = common_folder(selected.files.iter().map(|file| &file.path));
    match shared.as_os_str().is_empty() {
        true => PathBuf::from("."),
        false => shared,
    }
}

fn check_side_files(job: &Job) -> Result<(), Error> {
    let Some(path) = &job.ledger else {
        return Ok(());
    };
    let stays = matches!(job.existing, ExistingPolicy::Refuse | ExistingPolicy::Skip);
    if stays && fs::symlink_metadata(path).is_ok() {
        let outputs = vec![ExistingOutput { path: path.clone() }];
        return Err(Refusal::Existing { outputs, count: 1 }.into());
    }
    Ok(())
}

/// The job of each file, and what becomes of those that need none.
fn tasks(
    job: &Job,
    selected: Selected,
    out: &Path,
    context: &Context,
) -> Result<(Vec<Task>, Vec<BatchFile>), Error> {
    let mut tasks = Vec::new();
    let mut files = Vec::new();
    let sources: Vec<PathBuf> = selected
        .files
        .iter()
        .map(|file| match &file.path {
            SourcePath::Standard => PathBuf::new(),
            SourcePath::File(path) => plain(path),
        })
        .collect();
    let shown: Vec<Option<PathBuf>> = selected
        .files
        .iter()
        .map(|file| address(job, file, context))
        .collect();
    let outputs: Vec<Option<PathBuf>> = shown
        .iter()
        .map(|output| output.as_deref().map(plain))
        .collect();
    let mut makes: HashMap<&Path, usize> = HashMap::new();
    for (place, output) in outputs.iter().enumerate() {
        let Some(output) = output else { continue };
        if *output != sources[place] {
            makes.entry(output.as_path()).or_insert(place);
        }
    }
    let mut wanted: HashMap<String, (usize, usize)> = HashMap::new();
    let mut clashes: Vec<NameClash> = Vec::new();
    let mut existing = Vec::new();
    let alone = Job {
        sources: Vec::new(),
        existing: match job.existing {
            ExistingPolicy::Newer => ExistingPolicy::Replace,
            other => other,
        },
        ledger: None,
        ..job.clone()
    };
    let shown_of = |place: usize| shown[place].clone().unwrap_or_default();
    for (place, found) in selected.files.iter().enumerate() {
        let source = found.path.to_string();
        let output = outputs[place].as_ref();
        let mut skipped = None;
        if selected.searched && output == Some(&sources[place]) {
            skipped = Some(SkipReason::IsOutput);
        } else if selected.searched
            && let Some(maker) = makes.get(sources[place].as_path())
        {
            let maker = selected.files[*maker].path.to_string();
            skipped = Some(SkipReason::OutputOf(maker));
        } else if let Some(output) = output {
            let key = fold(&output.to_string_lossy());
            match wanted.get(&key) {
                Some((first, clash)) if *clash < clashes.len() => {
                    clashes[*clash].outputs += 1;
                    debug_assert!(*first < place);
                }
                Some((first, _)) => {
                    let first = *first;
                    wanted.insert(key, (first, clashes.len()));
                    clashes.push(NameClash {
                        path: shown_of(place).display().to_string(),
                        first: selected.files[first].path.to_string(),
                        second: source.clone(),
                        folder: false,
                        outputs: 2,
                    });
                }
                None => {
                    wanted.insert(key, (place, usize::MAX));
                    skipped = kept(job, &found.path, &shown_of(place), &mut existing);
                }
            }
        }
        let fate = match skipped {
            Some(reason) => FileFate::Skipped(reason),
            None => {
                tasks.push(task(&alone, place, found, out));
                FileFate::NotReached
            }
        };
        files.push(BatchFile { source, fate });
    }
    if !clashes.is_empty() {
        let count = clashes.iter().map(|clash| clash.outputs - 1).sum();
        clashes.truncate(LISTED);
        return Err(Refusal::FilesClash { clashes, count }.into());
    }
    if !existing.is_empty() {
        let count = existing.len() as u64;
        existing.truncate(LISTED);
        let outputs = existing;
        return Err(Refusal::Existing { outputs, count }.into());
    }
    for (folder, cause) in selected.closed {
        files.push(BatchFile {
            source: folder.display().to_string(),
            fate: FileFate::Failed(Box::new(Error::Select(
                crate::source::SelectError::Folder { folder, cause },
            ))),
        });
    }
    Ok((tasks, files))
}

/// Why a file need not be done; takes note of its output if that is in the way.
fn kept(
    job: &Job,
    source: &SourcePath,
    output: &Path,
    existing: &mut Vec<ExistingOutput>,
) -> Option<SkipReason> {
    let found = fs::symlink_metadata(output).ok()?;
    match job.existing {
        ExistingPolicy::Replace => None,
        ExistingPolicy::Skip => Some(SkipReason::OutputExists),
        ExistingPolicy::Newer => {
            let SourcePath::File(source) = source else {
                return None;
            };
            let changed = fs::metadata(source).and_then(|found| found.modified());
            match (changed, found.modified()) {
                (Ok(changed), Ok(written)) if written >= changed => Some(SkipReason::NotChanged),
                _ => None,
            }
        }
        ExistingPolicy::Refuse => {
            existing.push(ExistingOutput {
                path: output.to_owned(),
            });
            None
        }
    }
}

/// The output of a file, where its name is all that there is to know.
fn address(job: &Job, file: &Found, context: &Context) -> Option<PathBuf> {
    let template: Template = job.template(&file.path);
    let open = [RunField::Number, RunField::Rows, RunField::Sheet];
    if !template.keys().is_empty() || open.iter().any(|field| template.names(*field)) {
        return None;
    }
    let run = RunValues {
        stem: &file.path.stem(),
        extension: &file.path.extension(),
        folder: &file.path.folder(),
        sheet: "",
        number: 1,
        rows: None,
        now: context.now,
    };
    let rendered = template.render(|_| "", &run, &job.blank);
    Some(folder_for(job, file).join(rendered.text))
}

/// The folder of a file's outputs: the one like its own below the given one, or its own.
fn folder_for(job: &Job, file: &Found) -> PathBuf {
    let folder = match &job.out {
        Some(out) => out.join(&file.below),
        None => file.path.parent(),
    };
    match folder.as_os_str().is_empty() {
        true => PathBuf::from("."),
        false => folder,
    }
}

/// A file's own job, made of the one of all but for their names.
fn task(job: &Job, place: usize, file: &Found, out: &Path) -> Task {
    let folder = folder_for(job, file);
    let below = folder.strip_prefix(out).map(Path::to_path_buf);
    let below = below.unwrap_or_else(|_| PathBuf::from(from_folder_of(&out.join("x"), &folder)));
    let names = below.components().filter(|part| *part != Component::CurDir);
    let names: Vec<String> = names
        .map(|part| part.as_os_str().to_string_lossy().into_owned())
        .collect();
    let size = match &file.path {
        SourcePath::Standard => 0,
        SourcePath::File(path) => fs::metadata(path).map_or(0, |found| found.len()),
    };
    let rejects = job.rejects.as_ref().map(|folder| {
        let name = match &file.path {
            SourcePath::Standard => "stdin".into(),
            SourcePath::File(path) => path.file_name().unwrap_or_default().to_string_lossy(),
        };
        let text = format_read(&file.path.extension())
            .is_some_and(|format| format.text == Some(TextFormat::Delimited));
        let ending = if text { "" } else { ".csv" };
        folder.join(&file.below).join(format!("{name}{ending}"))
    });
    Task {
        place,
        job: Job {
            sources: vec![file.path.clone()],
            out: Some(folder),
            rejects,
            ..job.clone()
        },
        below: names.join("/"),
        size,
    }
}

/// A task by its place, and what came of it.
type Outcome = (usize, Result<Summary, Error>);

/// Does all tasks, the largest first, so that no thread is left alone with one at the end.
fn work(
    tasks: &[Task],
    job: &Job,
    protected: &Arc<HashMap<Identity, SourcePath>>,
    stage: Option<&Stage>,
    context: &Context,
) -> Result<Vec<Outcome>, Error> {
    let mut order: Vec<usize> = (0..tasks.len()).collect();
    order.sort_by_key(|task| std::cmp::Reverse(tasks[*task].size));
    let threads = context.threads(job).min(tasks.len()).max(1);
    // One file alone may have all threads.
    let threads_each = if threads == 1 { job.jobs } else { 1 };
    let memory = (job.memory.0 / threads as u64).max(LEAST_MEMORY.min(job.memory.0));
    let next = AtomicUsize::new(0);
    let stopped = AtomicBool::new(false);
    let results = Mutex::new(Vec::new());
    let worker = |number: usize| -> Result<(), Error> {
        let stage = stage
            .map(|stage| stage.within(&number.to_string()))
            .transpose()?;
        while let Some(task) = order.get(next.fetch_add(1, Ordering::Relaxed)) {
            if stopped.load(Ordering::Relaxed) || context.check_cancelled().is_err() {
                return Ok(());
            }
            let file = &tasks[*task];
            context
                .observer
                .file_begins(&file.job.sources[0].to_string());
            let part = Arc::new(FileProgress {
                outer: Arc::clone(&context.observer),
                before: AtomicU64::new(0),
            });
            let own = Context {
                observer: Arc::clone(&part) as Arc<dyn Observer>,
                open_files: (context.open_files / threads).max(FILES_KEPT_FREE + 8),
                ..context.clone()
            };
            let shared = Shared {
                stage: stage.as_ref(),
                protected: Some(protected),
                digest: job.ledger.is_some(),
            };
            let single = Job {
                jobs: threads_each,
                memory: Size(memory),
                ..file.job.clone()
            };
            let result = foreseen(|thorough| match &stage {
                Some(stage) => {
                    let result = run_once(&single, &own, thorough, &shared);
                    if leaves_something(&single, &result) {
                        stage.clear();
                    }
                    result
                }
                None => plan_once(&single, &own, thorough, &shared),
            });
            // What was not read of it is done with, too.
            let seen = part.before.load(Ordering::Relaxed);
            context
                .observer
                .has_read_more(file.size.saturating_sub(seen));
            context.observer.file_done(result.is_err());
            let failed = result.is_err();
            if let Ok(mut results) = results.lock() {
                results.push((*task, result));
            }
            if failed && job.stop_on_error {
                stopped.store(true, Ordering::Relaxed);
            }
        }
        Ok(())
    };
    thread::scope(|scope| {
        let begin = |number: usize| {
            let builder = thread::Builder::new().name(format!("file-{number}"));
            let worker = &worker;
            builder
                .stack_size(STACK)
                .spawn_scoped(scope, move || worker(number))
        };
        let begun: Result<Vec<_>, _> = (0..threads).map(begin).collect();
        for handle in begun.map_err(Error::Thread)? {
            match handle.join() {
                Ok(result) => result?,
                Err(panic) => std::panic::resume_unwind(panic),
            }
        }
        Ok::<(), Error>(())
    })?;
    Ok(results.into_inner().unwrap_or_default())
}

/// Whether a run may have left files on its stage.
fn leaves_something(job: &Job, result: &Result<Summary, Error>) -> bool {
    match result {
        Err(_) => true,
        Ok(summary) => {
            job.existing == ExistingPolicy::Replace
                || summary
                    .ledger
                    .left_out
                    .iter()
                    .any(|entry| entry.path.is_some())
        }
    }
}

/// Hears of one file and tells of the bytes of all.
struct FileProgress {
    outer: Arc<dyn Observer>,
    before: AtomicU64,
}

impl Observer for FileProgress {
    fn begins(&self, _bytes: Option<u64>) {}

    fn has_read(&self, bytes: u64) {
        let before = self.before.fetch_max(bytes, Ordering::Relaxed);
        self.outer.has_read_more(bytes.saturating_sub(before));
    }
}

/// The books of several runs, put together.
struct Merged {
    sources: Vec<SourceEntry>,
    outputs: Vec<OutputEntry>,
    left_out: Vec<LeftOut>,
    rejects: Vec<Reject>,
    types: Vec<TypedColumn>,
    sums: Vec<(String, Number, Number)>,
    order: Vec<String>,
    notices: Vec<Notice>,
    kept_text: Vec<TypedColumn>,
    known: HashSet<String>,
    failed: Vec<FailedFile>,
    too_large: Option<String>,
}

impl Merged {
    fn new(job: &Job) -> Self {
        let zero = |column: &String| (column.clone(), Number::ZERO, Number::ZERO);
        Self {
            sources: Vec::new(),
            outputs: Vec::new(),
            left_out: Vec::new(),
            rejects: Vec::new(),
            types: Vec::new(),
            sums: job.total.iter().map(zero).collect(),
            order: Vec::new(),
            notices: Vec::new(),
            kept_text: Vec::new(),
            known: HashSet::new(),
            failed: Vec::new(),
            too_large: None,
        }
    }

    fn take(&mut self, summary: Summary, below: &str, source: &str) -> FileFate {
        let Ledger {
            sources,
            mut outputs,
            left_out,
            rejects,
            types,
            sums,
            totals,
            ..
        } = summary.ledger;
        let placed = |path: &str| match below {
            "" => path.to_owned(),
            below => format!("{below}/{path}"),
        };
        for output in &mut outputs {
            output.path = placed(&output.path);
        }
        let bytes = outputs.iter().map(|output| output.bytes);
        let bytes = bytes.flatten().reduce(|one, other| one + other);
        let mut paths: Vec<String> = outputs.iter().map(|output| output.path.clone()).collect();
        paths.dedup();
        for mut entry in left_out {
            entry.path = entry.path.as_deref().map(placed);
            self.leave_out(entry);
        }
        for (all, sum) in self.sums.iter_mut().zip(sums) {
            match (all.1.plus(sum.read), all.2.plus(sum.rejected)) {
                (Ok(read), Ok(rejected)) => (all.1, all.2) = (read, rejected),
                _ => self.too_large = Some(all.0.clone()),
            }
        }
        self.sources.extend(sources);
        self.outputs.extend(outputs);
        let room = LISTED.saturating_sub(self.rejects.len());
        self.rejects.extend(rejects.into_iter().take(room));
        let told = |mut column: TypedColumn| {
            column.source.get_or_insert_with(|| source.to_owned());
            column
        };
        self.types.extend(types.into_iter().map(told));
        if self.order.is_empty() {
            self.order = summary.order;
        }
        for notice in summary.notices {
            match notice {
                Notice::KeptText(columns) => {
                    for column in columns.into_iter().map(told) {
                        let known = self.kept_text.iter();
                        // One file shows what it is about; the types of all are in the ledger.
                        if !known.into_iter().any(|other| other.column == column.column) {
                            self.kept_text.push(column);
                        }
                    }
                }
                other => self.notice(other),
            }
        }
        FileFate::Done {
            records: totals.written,
            bytes,
            outputs: paths,
        }
    }

    fn leave_out(&mut self, entry: LeftOut) {
        let same = |known: &&mut LeftOut| {
            known.path.is_none()
                && (known.reason, &known.condition, &known.path)
                    == (entry.reason, &entry.condition, &entry.path)
        };
        match self.left_out.iter_mut().find(same) {
            Some(known) => {
                known.records += entry.records;
                for (sum, more) in known.sums.iter_mut().zip(&entry.sums) {
                    match sum.plus(*more) {
                        Ok(all) => *sum = all,
                        Err(_) => self.too_large = Some("--total".to_owned()),
                    }
                }
            }
            None => self.left_out.push(entry),
        }
    }

    fn notice(&mut self, notice: Notice) {
        if let Notice::Records { found, .. } = &notice {
            for known in &mut self.notices {
                if let Notice::Records {
                    found: other, more, ..
                } = known
                    && other == found
                {
                    *more += 1;
                    return;
                }
            }
        }
        if self.notices.len() < NOTICES && self.known.insert(format!("{notice:?}")) {
            self.notices.push(notice);
        }
    }

    fn close(mut self, out: PathBuf) -> Result<Summary, Error> {
        if !self.kept_text.is_empty() {
            self.notices.push(Notice::KeptText(self.kept_text));
        }
        if let Some(column) = self.too_large {
            return Err(Error::Sum { column });
        }
        let mut ledger = Ledger::close(
            self.sources,
            self.outputs,
            self.left_out,
            self.rejects,
            &self.sums,
        );
        ledger.types = self.types;
        ledger.failed = self.failed;
        if !ledger.balanced {
            return Err(Error::Unbalanced(ledger.totals));
        }
        Ok(Summary {
            ledger,
            out,
            kept_ledger: None,
            order: self.order,
            notices: self.notices,
        })
    }
}
