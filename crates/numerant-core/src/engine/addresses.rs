//! From groups to the paths of outputs, and the reasons not to write them.

use std::collections::HashMap;
use std::fs;
use std::path::{Path, PathBuf};

use jiff::civil::DateTime;

use crate::job::Job;
use crate::name::{Claim, Key, NameBook, RunField, RunValues, Template, fold, spelled_out};
use crate::output::ExistingPolicy;
use crate::route::{NOWHERE, Router};
use crate::source::{Identity, SourcePath};

/// Names that are remembered to show what was changed.
const EXAMPLES: usize = 2;

/// Names that a refusal keeps to list.
const LISTED: usize = 1000;

/// The outputs would not be what was wanted. Lists hold the first 1,000.
#[derive(Clone, Debug, PartialEq, Eq, thiserror::Error)]
#[non_exhaustive]
pub enum Refusal {
    /// More outputs than are allowed.
    #[error("this would write {}{found} outputs, more than the {most} that --max-outputs allows; nothing was written", if *.at_least { "more than " } else { "" })]
    TooMany {
        /// How many.
        found: u64,
        /// There are more; counting was given up.
        at_least: bool,
        /// How many are allowed.
        most: u64,
    },
    /// Outputs whose names fall together.
    #[error("{count} output{} would share a file with another, at least on a system that ignores case; nothing was written", if *.count == 1 { "" } else { "s" })]
    Clashes {
        /// Which.
        clashes: Vec<NameClash>,
        /// How many in all.
        count: u64,
    },
    /// Outputs that exist.
    #[error("{count} of the outputs exist{} already; nothing was written", if *.count == 1 { "s" } else { "" })]
    Existing {
        /// Which.
        outputs: Vec<ExistingOutput>,
        /// How many in all.
        count: u64,
    },
    /// The folder that would be made exists and has something in it.
    #[error("the folder {} exists already and is not empty; nothing was written", .out.display())]
    FolderExists {
        /// The folder.
        out: PathBuf,
    },
    /// An output would take the place of a source.
    #[error("the output {} is the source {source_name} itself; a source is never written to", .path.display())]
    Source {
        /// The output.
        path: PathBuf,
        /// The source.
        source_name: String,
    },
    /// An output, the ledger or the rejects would share a file.
    #[error("{} is named twice: as an output and as {what}", .path.display())]
    SideFile {
        /// The file.
        path: PathBuf,
        /// The option that names it.
        what: &'static str,
    },
}

/// Two outputs that would share a file.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct NameClash {
    /// The file.
    pub path: String,
    /// The key values of the output that has it.
    pub first: String,
    /// The key values of the output that wants it.
    pub second: String,
    /// One is a file where the other needs a folder.
    pub folder: bool,
}

/// An output that exists.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct ExistingOutput {
    /// Where.
    pub path: PathBuf,
}

/// Values that were changed for names.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct NamesChanged {
    /// How many outputs.
    pub count: u64,
    /// Values and names of the first of them.
    pub examples: Vec<(String, String)>,
}

impl Refusal {
    /// What to do about it.
    pub fn hint(&self) -> String {
        match self {
            Self::TooMany { found, .. } => {
                format!("is the column right? if so, say --max-outputs {found}")
            }
            Self::Clashes { .. } => {
                "--clash number puts a number behind the later names; or put what tells them apart \
                 into --name"
                    .to_owned()
            }
            Self::Existing { .. } => {
                "--existing replace puts the new ones in their place, --existing skip leaves them \
                 as they are; or choose another --out"
                    .to_owned()
            }
            Self::FolderExists { out } => format!(
                "--existing replace puts new outputs in the place of old ones; --out names another \
                 folder, or this one (--out {}) to add to it",
                out.display()
            ),
            Self::Source { .. } => "choose another --out or --name".to_owned(),
            Self::SideFile { what, .. } => format!("choose another file for {what}"),
        }
    }

    /// The lines that say which, the first `most` of them, and how many are left.
    pub fn details(&self, most: usize) -> (Vec<String>, u64) {
        let (lines, count): (Vec<String>, u64) = match self {
            Self::Clashes { clashes, count } => {
                (clashes.iter().map(NameClash::line).collect(), *count)
            }
            Self::Existing { outputs, count } => (
                outputs
                    .iter()
                    .map(|output| output.path.display().to_string())
                    .collect(),
                *count,
            ),
            _ => return (Vec::new(), 0),
        };
        let lines: Vec<String> = lines.into_iter().take(most).collect();
        let left = count - lines.len() as u64;
        (lines, left)
    }
}

impl NameClash {
    fn line(&self) -> String {
        let Self {
            path,
            first,
            second,
            folder,
        } = self;
        if *folder {
            return format!(
                "{path}: for '{second}' a file, for '{first}' a folder, or the reverse"
            );
        }
        if fold(first) == fold(second) && !first.is_ascii() {
            // They look the same.
            return format!(
                "{path}: '{}' and '{}'",
                spelled_out(first),
                spelled_out(second)
            );
        }
        format!("{path}: '{first}' and '{second}'")
    }
}

/// What is known of the source whose records are being read.
#[derive(Clone, Debug, Default)]
pub(super) struct SourceNames {
    pub(super) stem: String,
    pub(super) extension: String,
    pub(super) folder: String,
}

/// Gives each group of a run its path.
#[derive(Debug)]
pub(super) struct Addresses {
    template: Template,
    keys: Vec<Key>,
    blank: String,
    now: DateTime,
    book: NameBook,
    root: PathBuf,
    root_exists: bool,
    existing: ExistingPolicy,
    protected: HashMap<Identity, SourcePath>,
    side_files: Vec<(PathBuf, &'static str)>,
    most: u64,
    /// Groups that are counted before counting is given up.
    counted: u64,
    /// The source in which each group first appeared.
    origins: Vec<SourceNames>,
    /// The path of each group; `None` where it is to be left as it exists.
    paths: Vec<Option<String>>,
    kept: Vec<(usize, String)>,
    changed: NamesChanged,
    clashes: (Vec<NameClash>, u64),
    found: (Vec<ExistingOutput>, u64),
    source_hit: Option<Refusal>,
    refused: bool,
}

impl Addresses {
    pub(super) fn new(
        job: &Job,
        template: Template,
        keys: Vec<Key>,
        root: &Path,
        now: DateTime,
    ) -> Self {
        let mut protected = HashMap::new();
        for source in &job.sources {
            if let Some(identity) = source.identity() {
                protected.insert(identity, source.clone());
            }
        }
        let side_files = [(&job.ledger, "--ledger"), (&job.rejects, "--rejects")]
            .into_iter()
            .filter_map(|(path, what)| path.clone().map(|path| (path, what)))
            .collect();
        Self {
            template,
            keys,
            blank: job.blank.clone(),
            now,
            book: NameBook::new(job.clash),
            root: root.to_owned(),
            root_exists: fs::symlink_metadata(root).is_ok(),
            existing: job.existing,
            protected,
            side_files,
            most: job.max_outputs,
            counted: super::produce::most_groups(job),
            origins: Vec::new(),
            paths: Vec::new(),
            kept: Vec::new(),
            changed: NamesChanged::default(),
            clashes: (Vec::new(), 0),
            found: (Vec::new(), 0),
            source_hit: None,
            refused: false,
        }
    }

    /// Refuses what can be refused before a record is read.
    pub(super) fn check_before(&self, out_is_given: bool) -> Result<(), Refusal> {
        for (path, _) in &self.side_files {
            if let Some(source) = Identity::of(path).and_then(|found| self.protected.get(&found)) {
                let source_name = source.to_string();
                return Err(Refusal::Source {
                    path: path.clone(),
                    source_name,
                });
            }
            if self.existing != ExistingPolicy::Replace && fs::symlink_metadata(path).is_ok() {
                let outputs = vec![ExistingOutput { path: path.clone() }];
                return Err(Refusal::Existing { outputs, count: 1 });
            }
        }
        if !out_is_given
            && self.existing == ExistingPolicy::Refuse
            && fs::read_dir(&self.root).is_ok_and(|mut entries| entries.next().is_some())
        {
            return Err(Refusal::FolderExists {
                out: self.root.clone(),
            });
        }
        Ok(())
    }

    /// Whether the run is refused already, so that nothing more needs to be written.
    pub(super) fn is_refused(&self) -> bool {
        self.refused
    }

    /// Whether any group is left as it exists.
    pub(super) fn keeps_any(&self) -> bool {
        !self.kept.is_empty()
    }

    /// Whether `group` is to be left as it exists.
    pub(super) fn keeps(&self, group: u32) -> bool {
        group != NOWHERE && self.paths.get(group as usize).is_some_and(Option::is_none)
    }

    /// The path of `group` as far as it is known, for messages.
    pub(super) fn shown(&self, group: usize) -> String {
        self.paths
            .get(group)
            .and_then(Clone::clone)
            .unwrap_or_default()
    }

    /// Names the groups that the router has found since the last call.
    pub(super) fn name_new(&mut self, router: &Router, source: &SourceNames) {
        let groups = router.groups();
        if groups.len() as u64 > self.most {
            self.refused = true;
            return;
        }
        for group in self.paths.len()..groups.len() {
            self.origins.push(source.clone());
            if self.template.names(RunField::Rows) {
                // Its name is known when all of its records are.
                self.paths.push(Some(String::new()));
            } else {
                let path = self.name(router, group, None);
                self.paths.push(path);
            }
        }
    }

    /// Names what could not be named before all records were counted, and refuses the run if
    /// there is a reason.
    pub(super) fn finish(&mut self, router: &Router, records: &[u64]) -> Result<(), Refusal> {
        let groups = router.groups().len() as u64;
        if groups > self.most {
            return Err(Refusal::TooMany {
                found: groups,
                at_least: groups >= self.counted,
                most: self.most,
            });
        }
        if self.template.names(RunField::Rows) {
            for group in 0..self.paths.len() {
                let rows = records.get(group).copied().unwrap_or_default();
                self.paths[group] = self.name(router, group, Some(rows));
            }
        }
        if let Some(refusal) = self.source_hit.take() {
            return Err(refusal);
        }
        let (clashes, count) = std::mem::take(&mut self.clashes);
        if count > 0 {
            return Err(Refusal::Clashes { clashes, count });
        }
        let (outputs, count) = std::mem::take(&mut self.found);
        if count > 0 {
            return Err(Refusal::Existing { outputs, count });
        }
        Ok(())
    }

    /// Claims a name for `group`; `None` if the output is to be left as it exists.
    fn name(&mut self, router: &Router, group: usize, rows: Option<u64>) -> Option<String> {
        let values = &router.groups()[group];
        let value = |key: &Key| {
            router
                .place_of(key)
                .map_or("", |place| values[place].as_str())
        };
        let origin = &self.origins[group];
        let run = RunValues {
            stem: &origin.stem,
            extension: &origin.extension,
            folder: &origin.folder,
            number: group as u64 + 1,
            rows,
            now: self.now,
        };
        let rendered = self.template.render(value, &run, &self.blank);
        if rendered.changed {
            self.changed.count += 1;
            if self.changed.examples.len() < EXAMPLES {
                let shown = self.described(router, group);
                self.changed.examples.push((shown, rendered.text.clone()));
            }
        }
        let path = match self.book.claim(&rendered.text, group) {
            Claim::Granted(path) => path,
            Claim::Refused(clash) => {
                self.refused = true;
                self.clashes.1 += 1;
                if self.clashes.0.len() < LISTED {
                    self.clashes.0.push(NameClash {
                        path: clash.path,
                        first: self.described(router, clash.holder),
                        second: self.described(router, clash.claimant),
                        folder: clash.folder,
                    });
                }
                return Some(String::new());
            }
        };
        self.check_existing(&path);
        if self.existing == ExistingPolicy::Skip
            && self.root_exists
            && fs::symlink_metadata(self.root.join(&path)).is_ok()
        {
            self.kept.push((group, path));
            return None;
        }
        Some(path)
    }

    /// Takes note if something is at `path` that must not be replaced.
    fn check_existing(&mut self, path: &str) {
        let full = self.root.join(path);
        if let Some((side_file, what)) = self
            .side_files
            .iter()
            .find(|(side_file, _)| same_path(side_file, &full))
        {
            self.refused = true;
            self.source_hit.get_or_insert(Refusal::SideFile {
                path: side_file.clone(),
                what,
            });
        }
        if !self.root_exists || fs::symlink_metadata(&full).is_err() {
            return;
        }
        let hit = Identity::of(&full).and_then(|found| self.protected.get(&found));
        if let Some(source) = hit {
            self.refused = true;
            let source_name = source.to_string();
            self.source_hit.get_or_insert(Refusal::Source {
                path: full,
                source_name,
            });
        } else if self.existing == ExistingPolicy::Refuse {
            self.refused = true;
            self.found.1 += 1;
            if self.found.0.len() < LISTED {
                self.found.0.push(ExistingOutput { path: full });
            }
        }
    }

    /// The key values of a group, as people read them.
    fn described(&self, router: &Router, group: usize) -> String {
        router.groups()[group][..self.keys.len()].join(" / ")
    }

    /// The paths, the outputs that are left as they exist, and what was changed for names.
    pub(super) fn into_parts(self) -> (Vec<Option<String>>, Vec<(usize, String)>, NamesChanged) {
        (self.paths, self.kept, self.changed)
    }
}

/// Whether two paths name one file that need not exist yet.
fn same_path(one: &Path, other: &Path) -> bool {
    let absolute = |path: &Path| {
        let folder = path
            .parent()
            .filter(|folder| !folder.as_os_str().is_empty());
        let folder = folder.unwrap_or(Path::new("."));
        let folder = folder
            .canonicalize()
            .or_else(|_| std::path::absolute(folder));
        folder
            .map(|folder| folder.join(path.file_name().unwrap_or_default()))
            .ok()
    };
    one.file_name() == other.file_name() && absolute(one) == absolute(other)
}
