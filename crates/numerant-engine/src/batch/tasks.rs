//! What there is to do: the job of each file, and the reasons to leave one as it is or to refuse all.

use std::collections::HashMap;
use std::fs;
use std::path::{Component, Path, PathBuf};

use super::super::addresses::{ExistingOutput, NameClash, Refusal};
use super::super::found::source_format;
use super::super::{Context, Error};
use super::{BatchFile, FileDisposition, SkipReason};
use crate::job::Job;
use crate::ledger::from_folder_of;
use crate::output::ExistingPolicy;
use numerant_data::source::{Found, Selected, SourcePath, common_folder, plain};
use numerant_formats::format_read;
use numerant_naming::{RunField, RunValues, Template, fold};

/// Names that a refusal keeps to list.
const LISTED: usize = 1000;

/// A file that is to be done.
pub(super) struct Task {
    /// Its place among all files.
    pub(super) place: usize,
    pub(super) job: Job,
    /// The folder of its outputs, below that of all outputs.
    pub(super) below: String,
    pub(super) size: u64,
}

/// The folder that the paths of outputs begin in: the one that is given, or else the one that all
/// files are in or below.
pub(super) fn root(job: &Job, selected: &Selected) -> PathBuf {
    if let Some(out) = &job.out {
        return out.clone();
    }
    let shared = common_folder(selected.files.iter().map(|file| &file.path));
    if shared.as_os_str().is_empty() {
        PathBuf::from(".")
    } else {
        shared
    }
}

/// The job of each file, and what becomes of those that need none.
pub(super) fn tasks(
    job: &Job,
    selected: Selected,
    out: &Path,
    context: &Context,
) -> Result<(Vec<Task>, Vec<BatchFile>), Error> {
    let addresses = Addresses::new(job, &selected, context);
    let mut claims = Claims::default();
    let (mut tasks, mut files) = (Vec::new(), Vec::new());
    // All that the jobs of the files share.
    let shared = Job {
        sources: Vec::new(),
        ledger: None,
        ..job.clone()
    };
    let alone = !selected.searched && selected.files.len() == 1;
    for (place, found) in selected.files.iter().enumerate() {
        let mut existing = job.existing;
        let skipped = match addresses.is_output(place) {
            Some(reason) => Some(reason),
            None => match &addresses.outputs[place] {
                Some(output) if claims.claim(output, found) => {
                    settle(&found.path, &output.shown, &mut existing, &mut claims)
                }
                // It is one of several for which the run is refused, or will be known only later.
                _ => None,
            },
        };
        let disposition = match skipped {
            Some(reason) => FileDisposition::Skipped(reason),
            None => {
                let mut own = task(&shared, place, found, out, alone);
                own.job.source_format = source_format(&own.job, Some(&found.path), context);
                own.job.existing = match existing {
                    // What is not known before is written anew.
                    ExistingPolicy::Newer => ExistingPolicy::Replace,
                    other => other,
                };
                tasks.push(own);
                FileDisposition::NotReached
            }
        };
        files.push(BatchFile {
            source: found.path.to_string(),
            disposition,
        });
    }
    claims.check()?;
    for (path, error) in selected.closed {
        files.push(BatchFile {
            source: path.display().to_string(),
            disposition: FileDisposition::Failed(Box::new(error.into())),
        });
    }
    Ok((tasks, files))
}

/// A path as it is shown, and as it is compared.
struct Address {
    shown: PathBuf,
    plain: PathBuf,
}

/// Where all files are and what they become, as far as their names tell.
struct Addresses {
    searched: bool,
    sources: Vec<PathBuf>,
    outputs: Vec<Option<Address>>,
    /// The file that becomes what another one is, by that path, with its name.
    makers: HashMap<PathBuf, String>,
}

impl Addresses {
    fn new(job: &Job, selected: &Selected, context: &Context) -> Self {
        let sources: Vec<PathBuf> = selected
            .files
            .iter()
            .map(|file| match &file.path {
                SourcePath::Standard => PathBuf::new(),
                path => plain(&PathBuf::from(path.clone())),
            })
            .collect();
        let outputs: Vec<Option<Address>> = selected
            .files
            .iter()
            .map(|file| {
                let shown = address(job, file, context)?;
                let plain = plain(&shown);
                Some(Address { shown, plain })
            })
            .collect();
        let mut makers = HashMap::new();
        for ((source, output), file) in sources.iter().zip(&outputs).zip(&selected.files) {
            if let Some(output) = output.as_ref().filter(|output| output.plain != *source) {
                let maker = || file.path.to_string();
                makers.entry(output.plain.clone()).or_insert_with(maker);
            }
        }
        Self {
            searched: selected.searched,
            sources,
            outputs,
            makers,
        }
    }

    /// Why a file that was found and not named is none to be read: it is an output itself.
    fn is_output(&self, place: usize) -> Option<SkipReason> {
        let source = self.sources.get(place).filter(|_| self.searched)?;
        if let Some(maker) = self.makers.get(source) {
            return Some(SkipReason::OutputOf(maker.clone()));
        }
        let own = self.outputs[place].as_ref()?;
        (own.plain == *source).then_some(SkipReason::IsOutput)
    }
}

/// The outputs that files will have.
#[derive(Default)]
struct Claims {
    /// The file that has each, and the clash that it is part of.
    wanted: HashMap<String, (String, Option<usize>)>,
    clashes: Vec<NameClash>,
    existing: Vec<ExistingOutput>,
}

impl Claims {
    /// Whether a file is the first that would become this output; what it is not is noted.
    fn claim(&mut self, output: &Address, file: &Found) -> bool {
        let key = fold(&output.plain.to_string_lossy());
        let Some((first, clash)) = self.wanted.get_mut(&key) else {
            self.wanted.insert(key, (file.path.to_string(), None));
            return true;
        };
        match clash {
            Some(clash) => self.clashes[*clash].outputs += 1,
            None => {
                *clash = Some(self.clashes.len());
                self.clashes.push(NameClash {
                    path: output.shown.display().to_string(),
                    first: first.clone(),
                    second: file.path.to_string(),
                    folder: false,
                    outputs: 2,
                });
            }
        }
        false
    }

    /// Refuses all files if two would become one, or if an output is in the way.
    fn check(mut self) -> Result<(), Refusal> {
        if !self.clashes.is_empty() {
            let count = self.clashes.iter().map(|clash| clash.outputs - 1).sum();
            self.clashes.truncate(LISTED);
            let clashes = self.clashes;
            return Err(Refusal::FilesClash { clashes, count });
        }
        if !self.existing.is_empty() {
            let count = self.existing.len() as u64;
            self.existing.truncate(LISTED);
            let outputs = self.existing;
            return Err(Refusal::Existing { outputs, count });
        }
        Ok(())
    }
}

/// Why a file need not be done. Its output is noted if that is in the way, and what is not there
/// is no longer `existing`.
fn settle(
    source: &SourcePath,
    output: &Path,
    existing: &mut ExistingPolicy,
    claims: &mut Claims,
) -> Option<SkipReason> {
    let Ok(found) = fs::symlink_metadata(output) else {
        if *existing == ExistingPolicy::Newer {
            *existing = ExistingPolicy::Refuse;
        }
        return None;
    };
    match existing {
        ExistingPolicy::Replace | ExistingPolicy::Clear => None,
        ExistingPolicy::Skip => Some(SkipReason::OutputExists),
        ExistingPolicy::Newer => {
            let changed = fs::metadata(source.on_disk()?).and_then(|found| found.modified());
            match (changed, found.modified()) {
                (Ok(changed), Ok(written)) if written >= changed => Some(SkipReason::NotChanged),
                _ => None,
            }
        }
        ExistingPolicy::Refuse => {
            let path = output.to_owned();
            claims.existing.push(ExistingOutput { path });
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
        allows_absolute: job.allow_absolute,
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
    if folder.as_os_str().is_empty() {
        PathBuf::from(".")
    } else {
        folder
    }
}

/// A file's own job, made of what all share. Where it is `alone`, its rejects are a file, and else
/// one in a folder.
fn task(shared: &Job, place: usize, file: &Found, out: &Path, alone: bool) -> Task {
    let folder = folder_for(shared, file);
    let below = folder.strip_prefix(out).map(Path::to_path_buf);
    let below = below.unwrap_or_else(|_| PathBuf::from(from_folder_of(&out.join("x"), &folder)));
    let names = below.components().filter(|part| *part != Component::CurDir);
    let names: Vec<String> = names
        .map(|part| part.as_os_str().to_string_lossy().into_owned())
        .collect();
    let rejects = match &shared.rejects {
        Some(folder) if !alone => Some(folder.join(&file.below).join(name_of_rejects(&file.path))),
        rejects => rejects.clone(),
    };
    Task {
        place,
        job: Job {
            sources: vec![file.path.clone()],
            out: Some(folder),
            rejects,
            ..shared.clone()
        },
        below: names.join("/"),
        size: file.path.bytes_on_disk().unwrap_or(0),
    }
}

/// The name of the file with the rejected records of a source: its own, with `.csv` after it if
/// that says another format.
fn name_of_rejects(source: &SourcePath) -> String {
    let name = source.file_name();
    let text =
        format_read(&source.extension()).is_some_and(|format| format.capabilities().has_dialect);
    let ending = if text { "" } else { ".csv" };
    format!("{name}{ending}")
}
