//! Jobs as files: TOML in the words of the options, with parameters.
//!
//! A file holds one job or several, `[[job]]` each, which are run in order. `docs/jobs.md` describes
//! the form, and `docs/job.schema.json` is its JSON Schema, made of the types here.

mod check;
mod error;
mod parameter;
mod schema;
mod write;

use std::collections::BTreeMap;
use std::path::{Path, PathBuf};

use schemars::JsonSchema;
use serde::{Deserialize, Serialize};
use toml::de::{DeTable, DeValue};
use toml::{Spanned, Table, Value};

pub use error::{JobFileError, JobFileProblem};
use parameter::{Kind, Parameters};
pub use schema::schema;
pub use write::to_toml;

use super::format_options::{FormatOptions, take_from_toml};
use super::{DeliverJob, InspectJob, Job, Notification};
use numerant_data::record::nearest;
use numerant_data::source::SourcePath;
use numerant_data::value::{DateFormat, Language, NumberFormat, Size};
use numerant_format::{ReadOptions, Side};
use numerant_formats::change_files;
use numerant_steps::Step;

/// Default number of records of each kind that a comparison lists.
const LIST: usize = 20;

/// The commands that a job can be, each with the keys that it takes.
const COMMANDS: [&str; 7] = [
    "inspect", "split", "combine", "convert", "fill", "verify", "deliver",
];

/// Keys of earlier versions, and their names now.
const RENAMED: [(&str, &str); 4] = [
    ("owner", "notify"),
    ("rest", "others"),
    ("repeats", "lists"),
    ("control-signs", "control-characters"),
];

/// A job file that was read.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct JobFile {
    /// Where it is.
    pub path: PathBuf,
    /// The parameters with the values that they have.
    pub parameters: BTreeMap<String, String>,
    /// The message about a run of it.
    pub notification: Option<Notification>,
    /// What is to be done, in order.
    pub entries: Vec<Entry>,
}

/// One thing to do.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Entry {
    /// The line of the file on which it begins, from 1.
    pub line: usize,
    /// What it is.
    pub work: Work,
}

/// What an entry of a job file does.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum Work {
    /// Show what is in files.
    Inspect(Box<InspectJob>),
    /// Take files apart.
    Split(Box<Job>),
    /// Put files together.
    Combine(Box<Job>),
    /// Turn each file into another.
    Convert(Box<Job>),
    /// Fill copies of a formatted workbook.
    Fill(Box<Job>),
    /// Hold files against a ledger, or parts against the whole.
    Verify(Box<VerifyJob>),
    /// Hand outputs to their people.
    Deliver(Box<DeliverJob>),
}

impl Work {
    /// The command that does it.
    pub fn command(&self) -> &'static str {
        match self {
            Self::Inspect(_) => "inspect",
            Self::Split(_) => "split",
            Self::Combine(_) => "combine",
            Self::Convert(_) => "convert",
            Self::Fill(_) => "fill",
            Self::Verify(_) => "verify",
            Self::Deliver(_) => "deliver",
        }
    }
}

/// A check of outputs against a ledger, or of parts against the whole.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
#[serde(default, rename_all = "kebab-case")]
pub struct VerifyJob {
    /// Ledger that outputs are compared with.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub ledger: Option<PathBuf>,
    /// Folder of the outputs, if it is not the one in the ledger.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub out: Option<PathBuf>,
    /// The whole: files, folders or patterns.
    #[serde(skip_serializing_if = "Vec::is_empty")]
    pub whole: Vec<SourcePath>,
    /// The parts: files, folders or patterns.
    #[serde(skip_serializing_if = "Vec::is_empty")]
    pub parts: Vec<SourcePath>,
    /// Columns that are compared; by default all.
    #[serde(skip_serializing_if = "Vec::is_empty")]
    pub keep: Vec<String>,
    /// Columns that are not compared.
    #[serde(skip_serializing_if = "Vec::is_empty")]
    pub ignore: Vec<String>,
    /// Number of records of each kind that are listed.
    #[serde(skip)]
    pub list: usize,
    /// How files are read.
    #[serde(flatten)]
    pub read: ReadOptions,
    /// How the parts are read, if not like the whole.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub parts_read: Option<ReadOptions>,
    /// Formats of dates in the whole, besides ISO 8601.
    #[serde(skip_serializing_if = "Vec::is_empty")]
    pub date_format: Vec<DateFormat>,
    /// Whether numbers in the whole have a decimal comma.
    pub decimal_comma: bool,
    /// Format of numbers in the whole, as an example.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub number_format: Option<NumberFormat>,
    /// Language whose month names are read, besides English.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub locale: Option<Language>,
    /// Steps that are applied to the whole before the comparison.
    #[serde(skip_serializing_if = "Vec::is_empty")]
    pub steps: Vec<Step>,
    /// Memory limit for records that must be counted.
    pub memory: Size,
    /// Number of threads; 0 for the number of processors.
    pub jobs: usize,
    /// File for an HTML page about the result.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub page: Option<PathBuf>,
}

impl Default for VerifyJob {
    fn default() -> Self {
        Self {
            ledger: None,
            out: None,
            whole: Vec::new(),
            parts: Vec::new(),
            keep: Vec::new(),
            ignore: Vec::new(),
            list: LIST,
            read: ReadOptions::default(),
            parts_read: None,
            date_format: Vec::new(),
            decimal_comma: false,
            number_format: None,
            locale: None,
            steps: Vec::new(),
            memory: Size(512_000_000),
            jobs: 0,
            page: None,
        }
    }
}

impl JobFile {
    /// Reads a job file. `given` are the values of parameters, by name.
    ///
    /// # Errors
    ///
    /// [`JobFileError`] with the line on which something is wrong.
    pub fn read(path: &Path, given: &[(String, String)]) -> Result<Self, JobFileError> {
        let bytes = std::fs::read(path).map_err(|cause| JobFileError {
            path: path.to_owned(),
            line: None,
            problem: JobFileProblem::Io(cause.to_string()),
        })?;
        let text = String::from_utf8(bytes).map_err(|_| JobFileError {
            path: path.to_owned(),
            line: None,
            problem: JobFileProblem::Encoding,
        })?;
        Self::parse(&text, path, given)
    }

    /// Reads the text of a job file that is at `path`.
    ///
    /// # Errors
    ///
    /// As [`JobFile::read`].
    pub fn parse(
        text: &str,
        path: &Path,
        given: &[(String, String)],
    ) -> Result<Self, JobFileError> {
        let source = Source { text, path };
        let spans = DeTable::parse(text)
            .map_err(|error| source.error_at(error.span(), JobFileProblem::of_toml(&error)))?;
        let values: Table = toml::from_str(text)
            .map_err(|error| source.error_at(error.span(), JobFileProblem::of_toml(&error)))?;
        let spans = spans.get_ref();
        source.check_keys(
            spans,
            &["params".to_owned(), "notify".to_owned(), "job".to_owned()],
            "a job file",
        )?;
        let parameters = Parameters::read(&source, spans, &values, given)?;
        let entries = match (values.get("job"), spans.get("job")) {
            (Some(Value::Array(jobs)), Some(of_jobs)) => match of_jobs.get_ref() {
                DeValue::Array(of_jobs) => jobs.iter().zip(of_jobs.iter()),
                _ => return Err(source.error(None, JobFileProblem::NoJob)),
            },
            (Some(Value::Table(_)), Some(of_jobs)) => {
                return Err(source.error_at(Some(of_jobs.span()), JobFileProblem::OneBracket));
            }
            _ => return Err(source.error(None, JobFileProblem::NoJob)),
        };
        let entries: Result<Vec<Entry>, JobFileError> = entries
            .map(|(job, of_job)| source.entry(job, of_job, &parameters))
            .collect();
        let entries = entries?;
        if entries.is_empty() {
            return Err(source.error(None, JobFileProblem::NoJob));
        }
        let notification = match (values.get("notify"), spans.get("notify")) {
            (Some(table), Some(spans)) => Some(source.notification(table, spans, &parameters)?),
            _ => None,
        };
        Ok(Self {
            notification,
            path: path.to_owned(),
            parameters: parameters.into_values(),
            entries,
        })
    }
}

/// The text of a job file, to say where something stands.
struct Source<'a> {
    text: &'a str,
    path: &'a Path,
}

impl Source<'_> {
    fn error(&self, line: Option<usize>, problem: JobFileProblem) -> JobFileError {
        JobFileError {
            path: self.path.to_owned(),
            line,
            problem,
        }
    }

    fn error_at(
        &self,
        span: Option<std::ops::Range<usize>>,
        problem: JobFileProblem,
    ) -> JobFileError {
        self.error(span.map(|span| self.line(span.start)), problem)
    }

    fn line(&self, at: usize) -> usize {
        let before = &self.text.as_bytes()[..at.min(self.text.len())];
        memchr::memchr_iter(b'\n', before).count() + 1
    }

    /// An error if a table has a key that it cannot have.
    fn check_keys(
        &self,
        table: &DeTable<'_>,
        known: &[String],
        of: &'static str,
    ) -> Result<(), JobFileError> {
        for key in table.keys() {
            let name = key.get_ref().as_ref();
            if !known.iter().any(|known| known == name) {
                if let Some((_, now)) = RENAMED.iter().find(|(old, _)| *old == name) {
                    let key_name = name.to_owned();
                    let problem = JobFileProblem::RenamedKey { key: key_name, now };
                    return Err(self.error_at(Some(key.span()), problem));
                }
                let problem = JobFileProblem::UnknownKey {
                    key: name.to_owned(),
                    nearest: nearest(name, known.iter().map(String::as_str)).map(str::to_owned),
                    of,
                };
                return Err(self.error_at(Some(key.span()), problem));
            }
        }
        Ok(())
    }

    fn entry(
        &self,
        job: &Value,
        of_job: &Spanned<DeValue<'_>>,
        parameters: &Parameters,
    ) -> Result<Entry, JobFileError> {
        let (Value::Table(job), DeValue::Table(spans)) = (job, of_job.get_ref()) else {
            return Err(self.error_at(Some(of_job.span()), JobFileProblem::NoJob));
        };
        let line = self.line(of_job.span().start);
        let command = match job.get("command") {
            Some(Value::String(command)) => command.as_str(),
            Some(_) | None => return Err(self.error(Some(line), JobFileProblem::NoCommand)),
        };
        let Some(command) = COMMANDS.iter().find(|known| **known == command) else {
            let problem = JobFileProblem::UnknownCommand(command.to_owned());
            let span = spans.get("command").map(Spanned::span);
            return Err(self.error_at(span, problem));
        };
        let keys = schema::keys(command);
        self.check_keys(spans, &keys, command)?;
        let values = job.iter().filter(|(key, _)| *key != "command");
        let mut filled = self.filled(values, spans, parameters)?;
        let of_formats = take_from_toml(&mut filled).map_err(|(key, reason)| {
            let span = spans.get(key.as_str()).map(Spanned::span);
            self.error_at(span, JobFileProblem::Value { key, reason })
        })?;
        let work = match *command {
            "verify" => {
                let mut verify: VerifyJob = self.typed(filled, spans)?;
                verify.read.of_formats = of_formats.read;
                Work::Verify(Box::new(verify))
            }
            "deliver" => Work::Deliver(Box::new(self.typed(filled, spans)?)),
            "inspect" => {
                let mut inspect: InspectJob = self.typed(filled, spans)?;
                inspect.job.read.of_formats = of_formats.read;
                Work::Inspect(Box::new(inspect))
            }
            "split" => Work::Split(Box::new(self.job(filled, spans, of_formats)?)),
            "combine" => {
                let mut job = self.job(filled, spans, of_formats)?;
                job.out.get_or_insert_with(|| job.base.clone());
                Work::Combine(Box::new(job))
            }
            "fill" => Work::Fill(Box::new(self.job(filled, spans, of_formats)?)),
            _ => {
                let mut job = self.job(filled, spans, of_formats)?;
                job.batch = true;
                if job.name.is_some() && job.pack.is_none() {
                    job.out.get_or_insert_with(|| job.base.clone());
                }
                Work::Convert(Box::new(job))
            }
        };
        let folder = self.folder();
        Ok(Entry {
            line,
            work: match work {
                Work::Inspect(mut inspect) => {
                    inspect.job.map_paths(&|path| from_folder(&folder, path));
                    Work::Inspect(inspect)
                }
                Work::Verify(mut verify) => {
                    verify.map_paths(&|path| from_folder(&folder, path));
                    Work::Verify(verify)
                }
                Work::Deliver(mut deliver) => {
                    deliver.map_paths(&|path| from_folder(&folder, path));
                    Work::Deliver(deliver)
                }
                other => other,
            },
        })
    }

    /// The message about a run of the file.
    fn notification(
        &self,
        table: &Value,
        spans: &Spanned<DeValue<'_>>,
        parameters: &Parameters,
    ) -> Result<Notification, JobFileError> {
        let (Value::Table(table), DeValue::Table(keys)) = (table, spans.get_ref()) else {
            let problem = JobFileProblem::Value {
                key: "notify".to_owned(),
                reason: "it is not a table".to_owned(),
            };
            return Err(self.error_at(Some(spans.span()), problem));
        };
        self.check_keys(keys, &schema::notification_keys(), "[notify]")?;
        let filled = self.filled(table.iter(), keys, parameters)?;
        let mut notification: Notification = self.typed(filled, keys)?;
        if let Some((key, reason)) = notification.problem() {
            let span = keys.get(key).map_or(spans.span(), Spanned::span);
            let (key, reason) = (key.to_owned(), reason.to_owned());
            return Err(self.error_at(Some(span), JobFileProblem::Value { key, reason }));
        }
        let folder = self.folder();
        notification.map_paths(&|path| from_folder(&folder, path));
        Ok(notification)
    }

    /// The values of a table, with those of parameters in them.
    fn filled<'v>(
        &self,
        values: impl Iterator<Item = (&'v String, &'v Value)>,
        spans: &DeTable<'_>,
        parameters: &Parameters,
    ) -> Result<Table, JobFileError> {
        let filled = values.map(|(key, value)| {
            let span = spans.get(key.as_str()).map(Spanned::span);
            let value = parameters.fill(value, Kind::of(key));
            let value = value.map_err(|problem| self.error_at(span, problem))?;
            Ok((key.clone(), value))
        });
        filled.collect()
    }

    fn folder(&self) -> PathBuf {
        self.path.parent().unwrap_or(Path::new("")).to_owned()
    }

    /// A job whose paths begin in the folder of its file.
    fn job(
        &self,
        table: Table,
        spans: &DeTable<'_>,
        of_formats: FormatOptions,
    ) -> Result<Job, JobFileError> {
        let mut job: Job = self.typed(table, spans)?;
        job.read.of_formats = of_formats.read;
        job.write.of_formats = of_formats.write;
        let folder = self.folder();
        job.map_paths(&|path| from_folder(&folder, path));
        job.base = if folder.as_os_str().is_empty() {
            PathBuf::from(".")
        } else {
            folder
        };
        Ok(job)
    }

    /// A table as what it represents. Where a text represents a number or a yes, it is taken as one,
    /// as the value of a parameter is a text.
    fn typed<T: serde::de::DeserializeOwned>(
        &self,
        mut table: Table,
        spans: &DeTable<'_>,
    ) -> Result<T, JobFileError> {
        for (key, value) in &mut table {
            let alone = |value: &Value| {
                let mut single = Table::new();
                single.insert(key.clone(), value.clone());
                single.try_into::<T>().map(|_| ())
            };
            let Err(error) = alone(value) else { continue };
            let other = value.as_str().and_then(|text| {
                let number = text.parse().map(Value::Integer).ok();
                number.or_else(|| text.parse().map(Value::Boolean).ok())
            });
            match other.filter(|other| alone(other).is_ok()) {
                Some(other) => *value = other,
                None => {
                    let problem = JobFileProblem::Value {
                        key: key.clone(),
                        reason: error.message().trim().to_owned(),
                    };
                    let written = spans.get(key.as_str());
                    let span = written.map(|written| place_of(value, written, &alone));
                    return Err(self.error_at(span, problem));
                }
            }
        }
        table.try_into().map_err(|error: toml::de::Error| {
            let reason = error.message().trim().to_owned();
            let key = String::new();
            self.error(None, JobFileProblem::Value { key, reason })
        })
    }
}

/// Where in a value the first thing is that is wrong: the item of a list, or the value itself.
fn place_of(
    value: &Value,
    written: &Spanned<DeValue<'_>>,
    alone: &dyn Fn(&Value) -> Result<(), toml::de::Error>,
) -> std::ops::Range<usize> {
    if let (Value::Array(items), DeValue::Array(written)) = (value, written.get_ref()) {
        let wrong = |item: &Value| alone(&Value::Array(vec![item.clone()])).is_err();
        let found = items.iter().zip(written).find(|(item, _)| wrong(item));
        if let Some((_, written)) = found {
            return written.span();
        }
    }
    written.span()
}

/// A path that begins in a folder, unless it is one from the root.
fn from_folder(folder: &Path, path: &Path) -> PathBuf {
    if path.as_os_str() == "-" {
        path.to_owned()
    } else {
        folder.join(path)
    }
}

impl Job {
    /// Changes all paths that the job names.
    pub(super) fn map_paths(&mut self, change: &dyn Fn(&Path) -> PathBuf) {
        for source in &mut self.sources {
            change_source(source, change);
        }
        let paths = [
            &mut self.out,
            &mut self.pack,
            &mut self.ledger,
            &mut self.page,
            &mut self.rejects,
            &mut self.write.shape,
            &mut self.write.schema,
            &mut self.fill.template,
        ];
        for path in paths.into_iter().flatten() {
            *path = change(path);
        }
        change_inner(&mut self.read, &mut self.steps, change);
        change_files(&mut self.write.of_formats, Side::Writing, &changed(change));
    }
}

/// Changes the paths in reading options and steps.
fn change_inner(read: &mut ReadOptions, steps: &mut [Step], change: &dyn Fn(&Path) -> PathBuf) {
    for layout in &mut read.layout {
        *layout = change(layout);
    }
    change_files(&mut read.of_formats, Side::Reading, &changed(change));
    for step in steps {
        if let Step::Lookup(lookup) = step {
            lookup.file = change(&lookup.file);
        }
    }
}

/// The change of a path, of one that is a text.
fn changed(change: &dyn Fn(&Path) -> PathBuf) -> impl Fn(&str) -> String {
    |path| change(Path::new(path)).to_string_lossy().into_owned()
}

impl VerifyJob {
    fn map_paths(&mut self, change: &dyn Fn(&Path) -> PathBuf) {
        for source in self.whole.iter_mut().chain(&mut self.parts) {
            change_source(source, change);
        }
        let paths = [&mut self.ledger, &mut self.out, &mut self.page];
        for path in paths.into_iter().flatten() {
            *path = change(path);
        }
        change_inner(&mut self.read, &mut self.steps, change);
        if let Some(read) = &mut self.parts_read {
            change_inner(read, &mut [], change);
        }
    }
}

fn change_source(source: &mut SourcePath, change: &dyn Fn(&Path) -> PathBuf) {
    if let SourcePath::File(path) = source {
        *path = change(path);
    }
}

#[cfg(test)]
mod tests;
