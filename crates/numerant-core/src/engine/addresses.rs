//! From groups to the paths of outputs, and the reasons not to write them.

use std::collections::HashMap;
use std::fs;
use std::path::{Path, PathBuf};

use jiff::civil::DateTime;

use crate::format::sheet::{SheetNames, legal};
use crate::job::{Job, Overflow};
use crate::name::{
    Claim, ClashPolicy, Key, NameBook, RunField, RunValues, Template, fold, spelled_out,
};
use crate::output::ExistingPolicy;
use crate::route::{Divider, Router};
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
    /// Outputs with more records than a sheet has room for.
    #[error("{} output{} more records than the {most} that a sheet has room for; nothing was written", .outputs.len(), if .outputs.len() == 1 { " has" } else { "s have" })]
    Outgrown {
        /// Which, and their records.
        outputs: Vec<(String, u64)>,
        /// Records that there may be.
        most: u64,
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
    /// How many outputs want it, the one that has it among them.
    pub outputs: u64,
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
                "put what tells them apart into --name; or --clash number puts a number behind the \
                 later names, first or last writes one of them and leaves the others out, together \
                 writes them into one file"
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
            Self::Outgrown { .. } => {
                "--overflow sheets goes on in further sheets, --overflow files in further files; or \
                 write csv"
                    .to_owned()
            }
            Self::SideFile { what, .. } => format!("choose another file for {what}"),
        }
    }

    /// The lines that say which, the first `most` of them, and how many are left.
    pub fn details(&self, most: usize) -> (Vec<String>, u64) {
        let (lines, count): (Vec<String>, u64) = match self {
            Self::Clashes { clashes, .. } => {
                let lines: Vec<String> = clashes.iter().map(NameClash::line).collect();
                let count = lines.len() as u64;
                (lines, count)
            }
            Self::Existing { outputs, count } => (
                outputs
                    .iter()
                    .map(|output| output.path.display().to_string())
                    .collect(),
                *count,
            ),
            Self::Outgrown { outputs, .. } => {
                let line = |(path, records): &(String, u64)| format!("{path}: {records} records");
                let lines: Vec<String> = outputs.iter().map(line).collect();
                let count = lines.len() as u64;
                (lines, count)
            }
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
            outputs,
        } = self;
        if *folder {
            return format!(
                "{path}: for '{second}' a file, for '{first}' a folder, or the reverse"
            );
        }
        if first == second {
            return match outputs {
                2 => format!("{path}: wanted twice"),
                _ => format!("{path}: wanted {outputs} times"),
            };
        }
        let more = match outputs - 2 {
            0 => String::new(),
            more => format!(" and {more} more"),
        };
        if fold(first) == fold(second) && !first.is_ascii() {
            // They look the same.
            return format!(
                "{path}: '{}' and '{}'{more}",
                spelled_out(first),
                spelled_out(second)
            );
        }
        format!("{path}: '{first}' and '{second}'{more}")
    }
}

/// Outputs whose names fell together, and what was done about it.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct NamesClashed {
    /// What was done.
    pub policy: ClashPolicy,
    /// Outputs whose name another one had before.
    pub count: u64,
    /// The first of the names.
    pub examples: Vec<String>,
}

/// What becomes of the records of an output.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(super) enum Fate {
    /// They are written.
    Write,
    /// They are written to another output.
    Joined(u32),
    /// They are left out: the output exists and is to stay as it is.
    Exists,
    /// They are left out: another output has the name.
    NameTaken,
}

/// What became of all names.
#[derive(Debug)]
pub(super) struct Named {
    /// The path of each output.
    pub(super) paths: Vec<String>,
    /// The sheet of each output; empty if outputs are text.
    pub(super) sheets: Vec<String>,
    pub(super) fates: Vec<Fate>,
    pub(super) changed: NamesChanged,
    pub(super) clashed: NamesClashed,
}

/// What is known of the source whose records are being read.
#[derive(Clone, Debug, Default)]
pub(super) struct SourceNames {
    pub(super) stem: String,
    pub(super) extension: String,
    pub(super) folder: String,
    pub(super) sheet: String,
}

/// The sheets of outputs that are workbooks.
#[derive(Debug)]
struct Sheets {
    /// The name of each sheet; that of its source if there is none.
    template: Option<Template>,
    /// Several outputs may be sheets of one workbook.
    shared: bool,
    overflow: Overflow,
    /// Records that a sheet has room for.
    most: u64,
    /// The workbooks so far, by the values that their paths are made of: path and fate.
    books: HashMap<Vec<String>, (usize, SheetNames)>,
    /// The sheet of each output.
    names: Vec<String>,
}

/// Gives each group of a run its path.
#[derive(Debug)]
pub(super) struct Addresses {
    template: Template,
    keys: Vec<Key>,
    blank: String,
    now: DateTime,
    sheets: Option<Sheets>,
    book: NameBook,
    root: PathBuf,
    root_exists: bool,
    existing: ExistingPolicy,
    protected: HashMap<Identity, SourcePath>,
    side_files: Vec<(PathBuf, &'static str)>,
    most: u64,
    /// Groups that are counted before counting is given up.
    counted: u64,
    /// The source in which each output first appeared.
    origins: Vec<u32>,
    sources: Vec<SourceNames>,
    /// The path of each output.
    paths: Vec<String>,
    fates: Vec<Fate>,
    /// Any output has another fate than to be written.
    diverts: bool,
    changed: NamesChanged,
    clashed: NamesClashed,
    clashes: (Vec<NameClash>, u64),
    /// Which of the clashes is with which output.
    clash_places: HashMap<usize, usize>,
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
        rows_of_a_sheet: Option<u64>,
    ) -> Self {
        let sheets = rows_of_a_sheet.map(|most| Sheets {
            template: job.sheet.clone(),
            shared: job.sheet.is_some() || job.overflow == Overflow::Sheets,
            overflow: job.overflow,
            most,
            books: HashMap::new(),
            names: Vec::new(),
        });
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
            sheets,
            book: NameBook::new(job.clash),
            root: root.to_owned(),
            root_exists: fs::symlink_metadata(root).is_ok(),
            existing: job.existing,
            protected,
            side_files,
            most: job.max_outputs,
            counted: super::produce::most_outputs(job),
            origins: Vec::new(),
            sources: Vec::new(),
            paths: Vec::new(),
            fates: Vec::new(),
            diverts: false,
            changed: NamesChanged::default(),
            clashed: NamesClashed {
                policy: job.clash,
                ..NamesClashed::default()
            },
            clashes: (Vec::new(), 0),
            clash_places: HashMap::new(),
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

    /// Whether any output has another fate than to be written.
    pub(super) fn diverts_any(&self) -> bool {
        self.diverts
    }

    /// What becomes of the records of an output, as far as it is known.
    pub(super) fn fate(&self, output: u32) -> Fate {
        self.fates
            .get(output as usize)
            .copied()
            .unwrap_or(Fate::Write)
    }

    /// The path of an output as far as it is known, for messages, with its sheet where others are
    /// in the same workbook.
    pub(super) fn shown(&self, output: usize) -> String {
        let path = self.paths.get(output).cloned().unwrap_or_default();
        match &self.sheets {
            Some(sheets) if sheets.shared => with_sheet(&path, &sheets.names[output]),
            _ => path,
        }
    }

    /// A source begins; what is named from here on comes from it.
    pub(super) fn begin_source(&mut self, source: SourceNames) {
        self.sources.push(source);
    }

    /// Names the outputs that were found since the last call.
    pub(super) fn name_new(&mut self, router: &Router, divider: &Divider) {
        let outputs = divider.outputs().len();
        if outputs as u64 > self.most {
            self.refused = true;
            return;
        }
        let origin = (self.sources.len() as u32).saturating_sub(1);
        for output in self.paths.len()..outputs {
            self.origins.push(origin);
            self.paths.push(String::new());
            if let Some(sheets) = &mut self.sheets {
                sheets.names.push(String::new());
            }
            self.fates.push(Fate::Write);
            // Some names are known only when all records are.
            if !self.template.names(RunField::Rows) {
                self.name(router, divider, output, None);
            }
        }
    }

    /// Names what could not be named before all records were counted, and refuses the run if
    /// there is a reason.
    pub(super) fn finish(
        &mut self,
        router: &Router,
        divider: &Divider,
        records: &[u64],
    ) -> Result<(), Refusal> {
        let outputs = divider.outputs().len() as u64;
        if outputs > self.most {
            return Err(Refusal::TooMany {
                found: outputs,
                at_least: outputs >= self.counted,
                most: self.most,
            });
        }
        if self.template.names(RunField::Rows) {
            for output in 0..self.paths.len() {
                let rows = records.get(output).copied().unwrap_or_default();
                self.name(router, divider, output, Some(rows));
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
        if let Some(sheets) = &self.sheets {
            let outgrown = |output: &usize| {
                let kept = matches!(self.fates[*output], Fate::Write);
                kept && records
                    .get(*output)
                    .is_some_and(|records| *records > sheets.most)
            };
            let outputs: Vec<(String, u64)> = (0..self.paths.len())
                .filter(outgrown)
                .map(|output| (self.shown(output), records[output]))
                .collect();
            if !outputs.is_empty() {
                let most = sheets.most;
                return Err(Refusal::Outgrown { outputs, most });
            }
        }
        Ok(())
    }

    /// Claims a name for an output, and settles what becomes of it.
    fn name(&mut self, router: &Router, divider: &Divider, output: usize, rows: Option<u64>) {
        let key = divider.outputs()[output];
        let values = &router.groups()[key.group as usize];
        let value = |key: &Key| {
            router
                .place_of(key)
                .map_or("", |place| values[place].as_str())
        };
        let origin = &self.sources[self.origins[output] as usize];
        let run = RunValues {
            stem: &origin.stem,
            extension: &origin.extension,
            folder: &origin.folder,
            sheet: &origin.sheet,
            number: key.number,
            rows,
            now: self.now,
        };
        let mut rendered = self.template.render(value, &run, &self.blank);
        if let Some(sheets) = &mut self.sheets {
            if sheets.overflow == Overflow::Files && key.part > 1 {
                rendered.text = crate::name::numbered(&rendered.text, key.part);
            }
            let wanted = match &sheets.template {
                Some(template) => template.plain(value, &run, &self.blank),
                None => origin.sheet.clone(),
            };
            let mut legal = legal(&wanted, &self.blank);
            if legal != wanted && sheets.template.is_some() {
                self.changed.count += 1;
                if self.changed.examples.len() < EXAMPLES {
                    self.changed.examples.push((wanted, legal.clone()));
                }
            }
            if sheets.shared {
                // What the path is made of says which outputs are sheets of one workbook; what
                // neither path nor sheet is made of tells workbooks apart as well.
                let in_sheet = sheets
                    .template
                    .as_ref()
                    .map(Template::keys)
                    .unwrap_or_default();
                let mut identity: Vec<String> = vec![rendered.text.clone()];
                let in_path = self.template.keys();
                for (place, key) in self.keys.iter().enumerate() {
                    if in_path.contains(&key) || !in_sheet.contains(&key) {
                        identity.push(values[place].clone());
                    }
                }
                if self.template.names_source() {
                    identity.extend_from_slice(&values[self.keys.len()..]);
                }
                let known = sheets.books.get(&identity).map(|book| book.0);
                if let Some(first) = known {
                    let path = self.paths[first].clone();
                    self.claim_sheet(&identity, &path, legal, output, first, key.part);
                    return;
                }
                let mut names = SheetNames::default();
                if key.part > 1 {
                    legal = names.numbered(&legal, output, key.part);
                } else {
                    // The first name of a workbook is free.
                    let _ = names.claim(&legal, output);
                }
                sheets.books.insert(identity, (output, names));
            }
            sheets.names[output] = legal;
        }
        if rendered.changed {
            self.changed.count += 1;
            if self.changed.examples.len() < EXAMPLES {
                let shown = self.described(router, divider, output);
                self.changed.examples.push((shown, rendered.text.clone()));
            }
        }
        let path = match self.book.claim(&rendered.text, output) {
            Claim::Granted(path) => {
                if path != rendered.text {
                    self.note_clash(&path);
                }
                path
            }
            Claim::Refused(clash) => {
                self.note_clash(&clash.path);
                let decided = !clash.folder && self.clashed.policy != ClashPolicy::Refuse;
                if !decided {
                    self.refused = true;
                    self.clashes.1 += 1;
                    let known = self.clash_places.get(&clash.holder).copied();
                    if let Some(known) = known.filter(|_| !clash.folder) {
                        self.clashes.0[known].outputs += 1;
                    } else if self.clashes.0.len() < LISTED {
                        if !clash.folder {
                            let place = self.clashes.0.len();
                            self.clash_places.insert(clash.holder, place);
                        }
                        self.clashes.0.push(NameClash {
                            outputs: 2,
                            path: clash.path,
                            first: self.described(router, divider, clash.holder),
                            second: self.described(router, divider, clash.claimant),
                            folder: clash.folder,
                        });
                    }
                    return;
                }
                self.diverts = true;
                self.paths[output] = clash.path;
                match self.clashed.policy {
                    ClashPolicy::Together => {
                        self.fates[output] = match self.fates[clash.holder] {
                            Fate::Exists => Fate::Exists,
                            _ => Fate::Joined(clash.holder as u32),
                        };
                    }
                    ClashPolicy::Last => {
                        self.fates[output] = self.fates[clash.holder];
                        self.fates[clash.holder] = Fate::NameTaken;
                    }
                    _ => self.fates[output] = Fate::NameTaken,
                }
                return;
            }
        };
        self.check_existing(&path);
        if self.existing == ExistingPolicy::Skip
            && self.root_exists
            && fs::symlink_metadata(self.root.join(&path)).is_ok()
        {
            self.diverts = true;
            self.fates[output] = Fate::Exists;
        }
        self.paths[output] = path;
    }

    /// Claims the name of a sheet in the workbook that has output `first`, and settles what becomes
    /// of the output.
    fn claim_sheet(
        &mut self,
        identity: &[String],
        path: &str,
        name: String,
        output: usize,
        first: usize,
        part: u64,
    ) {
        let Some(sheets) = &mut self.sheets else {
            return;
        };
        let Some((_, names)) = sheets.books.get_mut(identity) else {
            return;
        };
        path.clone_into(&mut self.paths[output]);
        self.fates[output] = match self.fates[first] {
            Fate::Exists => Fate::Exists,
            _ => Fate::Write,
        };
        self.diverts |= self.fates[output] == Fate::Exists;
        if part > 1 {
            sheets.names[output] = names.numbered(&name, output, part);
            return;
        }
        let Err(holder) = names.claim(&name, output) else {
            sheets.names[output] = name;
            return;
        };
        let shown = with_sheet(path, &name);
        match self.clashed.policy {
            ClashPolicy::Refuse => {
                self.refused = true;
                self.clashes.1 += 1;
                if self.clashes.0.len() < LISTED {
                    let first = sheets.names[holder].clone();
                    self.clashes.0.push(NameClash {
                        outputs: 2,
                        path: shown,
                        first,
                        second: name,
                        folder: false,
                    });
                }
                return;
            }
            ClashPolicy::Number => {
                sheets.names[output] = names.numbered(&name, output, 2);
            }
            ClashPolicy::Together => {
                self.fates[output] = Fate::Joined(holder as u32);
                self.diverts = true;
            }
            ClashPolicy::First => {
                self.fates[output] = Fate::NameTaken;
                self.diverts = true;
            }
            ClashPolicy::Last => {
                names.hand_over(&name, output);
                sheets.names[output] = name;
                self.fates[holder] = Fate::NameTaken;
                self.diverts = true;
            }
        }
        self.note_clash(&shown);
    }

    fn note_clash(&mut self, path: &str) {
        self.clashed.count += 1;
        if self.clashed.examples.len() < EXAMPLES
            && !self.clashed.examples.iter().any(|e| e == path)
        {
            self.clashed.examples.push(path.to_owned());
        }
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

    /// The key values of an output, as people read them, or its number where it has none.
    fn described(&self, router: &Router, divider: &Divider, output: usize) -> String {
        let key = divider.outputs()[output];
        let values = &router.groups()[key.group as usize][..self.keys.len()];
        if values.is_empty() {
            return format!("output {}", key.number);
        }
        values.join(" / ")
    }

    /// What became of all names.
    pub(super) fn into_named(self) -> Named {
        Named {
            sheets: self.sheets.map(|sheets| sheets.names).unwrap_or_default(),
            paths: self.paths,
            fates: self.fates,
            changed: self.changed,
            clashed: self.clashed,
        }
    }
}

/// A path and a sheet, for messages.
fn with_sheet(path: &str, sheet: &str) -> String {
    format!("{path}, sheet '{sheet}'")
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
