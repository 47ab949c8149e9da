//! From groups to the paths of outputs, and the reasons not to write them.

mod copies;
mod protect;
mod refusal;
mod sheets;
mod source_names;

use std::collections::{HashMap, HashSet};
use std::fs;
use std::path::{Path, PathBuf};
use std::sync::Arc;

use jiff::civil::DateTime;

pub(super) use copies::{FilledCopy, table_of};
pub(super) use protect::check_beside;
use protect::same_path;
pub use refusal::{ExistingOutput, NameClash, NamesChanged, NamesClashed, Refusal, SideFileKind};
use sheets::{Sheets, with_sheet};
pub(super) use source_names::SourceNames;

use super::plan::RunPlan;
use crate::job::Overflow;
use crate::output::ExistingPolicy;
use numerant_data::source::Identity;
use numerant_format::FillOptions;
use numerant_format::sheet::{Heading, legal};
use numerant_formats::format_of;
use numerant_naming::route::{Divider, Router};
use numerant_naming::{
    Claim, ClashPolicy, Key, NameRegistry, RunField, RunValues, Template, numbered,
};

/// Names that are remembered to show what was changed.
const EXAMPLES: usize = 2;

/// Names that a refusal keeps to list.
const LISTED: usize = 1000;

/// What becomes of the records of an output.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(super) enum Disposition {
    /// They are written.
    Write,
    /// They are written to another output.
    Joined(u32),
    /// They are left out: the output exists and is to stay as it is.
    Exists,
    /// They are left out: another output has the name.
    NameTaken,
    /// They are left out: their copy of a template lacks another table.
    Incomplete,
}

/// What became of all names.
#[derive(Debug)]
pub(super) struct Named {
    /// The path of each output.
    pub(super) paths: Vec<String>,
    /// The sheet of each output; empty if outputs are text.
    pub(super) sheets: Vec<String>,
    /// What is above the records of each output, if outputs are pages.
    pub(super) headings: Vec<Heading>,
    pub(super) dispositions: Vec<Disposition>,
    pub(super) changed: NamesChanged,
    pub(super) clashed: NamesClashed,
    /// Sheets that are called otherwise, as another has their name: old and new names.
    pub(super) renamed: Vec<(String, String)>,
    /// Copies of a template that is filled.
    pub(super) copies: Vec<FilledCopy>,
    /// Copies that lack tables, with the places of these.
    pub(super) lacking: Vec<(String, Vec<String>)>,
}

/// What came of a claim to a path.
enum Claimed {
    /// It is granted, perhaps with a number.
    Path(String),
    /// Another output has it, and the policy says what that means.
    Taken { path: String, holder: usize },
    /// Another output has it, and the run is refused.
    Refused,
}

/// Gives each group of a run its path.
#[derive(Debug)]
pub(super) struct Addresses {
    plan: Arc<RunPlan>,
    now: DateTime,
    sheets: Option<Sheets>,
    /// How copies of a template are filled, if outputs are such.
    fill: Option<FillOptions>,
    copies: Vec<FilledCopy>,
    lacking: Vec<(String, Vec<String>)>,
    book: NameRegistry,
    root_exists: bool,
    /// The output folder from the root of the file system on.
    absolute_out: PathBuf,
    /// Paths that the run before has written, where its outputs may be replaced.
    earlier: HashSet<String>,
    side_files: Vec<(PathBuf, SideFileKind)>,
    /// The source in which each output first appeared.
    origins: Vec<u32>,
    sources: Vec<SourceNames>,
    /// The path of each output.
    paths: Vec<String>,
    dispositions: Vec<Disposition>,
    /// Any output has another disposition than to be written.
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
    pub(super) fn new(plan: &Arc<RunPlan>, now: DateTime) -> Self {
        let (job, template, root) = (&plan.job, &plan.template, &plan.out);
        let sheets = plan.rows_of_a_sheet.map(|most| Sheets {
            template: job.sheet.clone(),
            shared: job.sheet.is_some()
                || job.overflow == Overflow::Sheets
                || (job.is_by_sheet() && !template.names(RunField::Sheet))
                || job.fill.template.is_some(),
            fills: job.fill.template.is_some(),
            by_rule: job.is_by_sheet() && job.sheet.is_none(),
            renamed: Vec::new(),
            overflow: job.overflow,
            most,
            places: HashMap::new(),
            workbooks: Vec::new(),
            names: Vec::new(),
            headings: Vec::new(),
        });
        let side_files = [
            (&job.ledger, SideFileKind::Ledger),
            (&job.rejects, SideFileKind::Rejects),
            (&job.page, SideFileKind::Page),
        ]
        .into_iter()
        .filter_map(|(path, kind)| Some((path.clone()?, kind)))
        .collect();
        Self {
            now,
            sheets,
            fill: job.fill.template.is_some().then(|| job.fill.clone()),
            copies: Vec::new(),
            lacking: Vec::new(),
            book: NameRegistry::new(job.clash),
            root_exists: fs::symlink_metadata(root).is_ok(),
            absolute_out: std::path::absolute(root).unwrap_or_else(|_| root.to_owned()),
            earlier: HashSet::new(),
            side_files,
            origins: Vec::new(),
            sources: Vec::new(),
            paths: Vec::new(),
            dispositions: Vec::new(),
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
            plan: Arc::clone(plan),
        }
    }

    /// With paths that the run before has written, and that may be replaced.
    pub(super) fn with_earlier(self, earlier: HashSet<String>) -> Self {
        Self { earlier, ..self }
    }

    /// Refuses what can be refused before a record is read.
    pub(super) fn check_before(&self, out_is_given: bool) -> Result<(), Refusal> {
        // A page of an earlier run gives way to that of this one.
        let is_kept = |(_, kind): &&(PathBuf, SideFileKind)| *kind != SideFileKind::Page;
        for (path, _) in self.side_files.iter().filter(is_kept) {
            check_beside(path, &self.plan.protected, self.plan.job.existing)?;
        }
        if !out_is_given
            && self.plan.job.existing == ExistingPolicy::Refuse
            && fs::read_dir(&self.plan.out).is_ok_and(|mut entries| entries.next().is_some())
        {
            return Err(Refusal::FolderExists {
                out: self.plan.out.clone(),
            });
        }
        Ok(())
    }

    /// Whether the run is refused already, so that nothing more needs to be written.
    pub(super) fn is_refused(&self) -> bool {
        self.refused
    }

    /// Whether any output has another disposition than to be written.
    pub(super) fn diverts_any(&self) -> bool {
        self.diverts
    }

    /// What becomes of the records of an output, as far as it is known.
    pub(super) fn disposition(&self, output: u32) -> Disposition {
        self.dispositions
            .get(output as usize)
            .copied()
            .unwrap_or(Disposition::Write)
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
        if outputs as u64 > self.plan.job.max_outputs {
            self.refused = true;
            return;
        }
        let origin = (self.sources.len() as u32).saturating_sub(1);
        for output in self.paths.len()..outputs {
            self.origins.push(origin);
            self.paths.push(String::new());
            if let Some(sheets) = &mut self.sheets {
                sheets.names.push(String::new());
                sheets.headings.push(Heading::default());
            }
            self.dispositions.push(Disposition::Write);
            // Some names are known only when all records are.
            if !self.plan.template.names(RunField::Rows) {
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
        if outputs > self.plan.job.max_outputs {
            return Err(Refusal::TooMany {
                found: outputs,
                at_least: outputs >= self.plan.max_counted,
                most: self.plan.job.max_outputs,
            });
        }
        if self.plan.template.names(RunField::Rows) {
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
        if let Some(sheets) = &mut self.sheets {
            sheets.tell_apart(
                &self.dispositions,
                &self.origins,
                &self.sources,
                &self.plan.job.blank,
            );
        }
        self.fill(router, divider, records)?;
        if let Some(sheets) = &self.sheets {
            let outgrown = |output: &usize| {
                let kept = matches!(self.dispositions[*output], Disposition::Write);
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
            allows_absolute: self.plan.job.allow_absolute,
        };
        let mut rendered = self.plan.template.render(value, &run, &self.plan.job.blank);
        // What begins at the root of the file system and is in the output folder has its name there.
        let below = Path::new(&rendered.text)
            .strip_prefix(&self.absolute_out)
            .ok();
        if let Some(below) = below.and_then(Path::to_str).map(str::to_owned) {
            rendered.text = below;
        }
        if self.plan.template.ends_with_path() {
            // An output of another format than its name says would not be opened by anybody.
            let ending = format!(".{}", self.plan.extension);
            if !rendered.text.to_lowercase().ends_with(&ending) {
                rendered.text.push_str(&ending);
            }
        }
        let table = self
            .fill
            .as_ref()
            .map(|fill| self.place_of_table(fill, router, values));
        let shared = match &mut self.sheets {
            None => None,
            Some(sheets) if let Some(table) = table => {
                let identity =
                    sheets.identity(&rendered.text, &self.plan.template, &self.plan.keys, values);
                sheets.names[output].clone_from(&table);
                identity.map(|identity| (identity, table))
            }
            Some(sheets) => {
                if sheets.overflow == Overflow::Files && key.part > 1 {
                    rendered.text = numbered(&rendered.text, key.part);
                }
                let wanted = match &sheets.template {
                    Some(template) => template.plain(value, &run, &self.plan.job.blank),
                    None => origin.sheet.clone(),
                };
                let pages = &self.plan.job.pages;
                let title = |template: &Option<Template>| {
                    let template = template.as_ref()?;
                    Some(template.plain(value, &run, &self.plan.job.blank))
                };
                sheets.headings[output] = Heading {
                    title: title(&pages.title),
                    subtitle: title(&pages.subtitle),
                };
                let format = format_of(&self.plan.extension);
                let has_pages = format.is_some_and(|format| format.capabilities().has_pages);
                let name = if has_pages {
                    wanted.clone()
                } else {
                    legal(&wanted, &self.plan.job.blank)
                };
                let is_reported = sheets.template.is_some() && name != wanted;
                let identity =
                    sheets.identity(&rendered.text, &self.plan.template, &self.plan.keys, values);
                sheets.names[output].clone_from(&name);
                if is_reported {
                    self.note_changed(wanted, &name);
                }
                identity.map(|identity| (identity, name))
            }
        };
        let known = shared.as_ref().is_some_and(|(identity, _)| {
            let sheets = self.sheets.as_ref();
            sheets.is_some_and(|sheets| sheets.places.contains_key(identity))
        });
        if rendered.changed && !known {
            let shown = self.described(router, divider, output);
            self.note_changed(shown, &rendered.text);
        }
        match shared {
            Some((identity, name)) => {
                self.name_sheet(router, divider, output, &rendered.text, identity, &name);
            }
            None => self.name_file(router, divider, output, &rendered.text),
        }
    }

    /// Claims the path of an output that is a file of its own.
    fn name_file(&mut self, router: &Router, divider: &Divider, output: usize, wanted: &str) {
        match self.claim_path(router, divider, output, wanted) {
            Claimed::Path(path) => {
                if self.is_left(&path) {
                    self.divert(output, Disposition::Exists);
                }
                self.paths[output] = path;
            }
            Claimed::Refused => {}
            Claimed::Taken { path, holder } => {
                self.paths[output] = path;
                match (self.clashed.policy, self.dispositions[holder]) {
                    (ClashPolicy::Together, Disposition::Exists) => {
                        self.divert(output, Disposition::Exists);
                    }
                    (ClashPolicy::Together, _) => {
                        self.divert(output, Disposition::Joined(holder as u32));
                    }
                    (ClashPolicy::Last, disposition) => {
                        self.divert(output, disposition);
                        self.divert(holder, Disposition::NameTaken);
                    }
                    _ => self.divert(output, Disposition::NameTaken),
                }
            }
        }
    }

    fn divert(&mut self, output: usize, disposition: Disposition) {
        self.dispositions[output] = disposition;
        self.diverts |= disposition != Disposition::Write;
    }

    /// Claims a path, and takes note if another output has it.
    fn claim_path(
        &mut self,
        router: &Router,
        divider: &Divider,
        output: usize,
        wanted: &str,
    ) -> Claimed {
        let clash = match self.book.claim(wanted, output) {
            Claim::Granted(path) => {
                if path != wanted {
                    self.note_clash(&path);
                }
                self.check_existing(&path);
                return Claimed::Path(path);
            }
            Claim::Refused(clash) => clash,
        };
        self.note_clash(&clash.path);
        if !clash.folder && self.clashed.policy != ClashPolicy::Refuse {
            return Claimed::Taken {
                path: clash.path,
                holder: clash.holder,
            };
        }
        let first = self.described(router, divider, clash.holder);
        let second = self.described(router, divider, clash.claimant);
        self.refuse_clash(clash.path, clash.holder, first, second, clash.folder);
        Claimed::Refused
    }

    /// Takes note of two outputs that would share a file or sheet, for which the run is refused.
    fn refuse_clash(
        &mut self,
        path: String,
        holder: usize,
        first: String,
        second: String,
        folder: bool,
    ) {
        self.refused = true;
        self.clashes.1 += 1;
        let known = self.clash_places.get(&holder).copied();
        if let Some(known) = known.filter(|_| !folder) {
            self.clashes.0[known].outputs += 1;
        } else if self.clashes.0.len() < LISTED {
            if !folder {
                self.clash_places.insert(holder, self.clashes.0.len());
            }
            self.clashes.0.push(NameClash {
                outputs: 2,
                path,
                first,
                second,
                folder,
            });
        }
    }

    /// Whether what is at a path is to be left as it is.
    fn is_left(&self, path: &str) -> bool {
        self.plan.job.existing == ExistingPolicy::Skip
            && (self.root_exists || path.starts_with('/'))
            && fs::symlink_metadata(self.plan.out.join(path)).is_ok()
    }

    /// Takes note of a value that was changed for a name.
    fn note_changed(&mut self, value: String, name: &str) {
        self.changed.count += 1;
        if self.changed.examples.len() < EXAMPLES {
            self.changed.examples.push((value, name.to_owned()));
        }
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
        let full = self.plan.out.join(path);
        if let Some((side_file, kind)) = self
            .side_files
            .iter()
            .find(|(side_file, _)| same_path(side_file, &full))
        {
            self.refused = true;
            self.source_hit.get_or_insert(Refusal::SideFile {
                path: side_file.clone(),
                kind: *kind,
            });
        }
        let may_exist = self.root_exists || path.starts_with('/');
        if !may_exist || fs::symlink_metadata(&full).is_err() {
            return;
        }
        let hit = Identity::of(&full).and_then(|found| self.plan.protected.get(&found));
        if let Some(source) = hit {
            self.refused = true;
            let source_name = source.to_string();
            self.source_hit.get_or_insert(Refusal::Source {
                path: full,
                source_name,
            });
        } else if self.plan.job.existing == ExistingPolicy::Refuse
            || (self.plan.job.existing == ExistingPolicy::Clear && !self.earlier.contains(path))
        {
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
        let values = &router.groups()[key.group as usize][..self.plan.keys.len()];
        if values.is_empty() {
            return format!("output {}", key.number);
        }
        values.join(" / ")
    }

    /// What became of all names.
    pub(super) fn into_named(self) -> Named {
        let (sheets, headings, renamed) = match self.sheets {
            Some(sheets) => (sheets.names, sheets.headings, sheets.renamed),
            None => Default::default(),
        };
        Named {
            sheets,
            headings,
            renamed,
            copies: self.copies,
            lacking: self.lacking,
            paths: self.paths,
            dispositions: self.dispositions,
            changed: self.changed,
            clashed: self.clashed,
        }
    }
}
