//! The sheets of outputs that are workbooks: which outputs share one, and what their sheets are called.

use std::collections::HashMap;

use super::{Addresses, Claimed, Disposition, SourceNames};
use crate::job::Overflow;
use numerant_format::sheet::{Heading, SheetNames, legal};
use numerant_naming::route::{Divider, KeyValues, Router};
use numerant_naming::{ClashPolicy, Key, Template};
use numerant_steps::CASE_COLUMN;

/// The sheets of outputs that are workbooks.
#[derive(Debug)]
pub(super) struct Sheets {
    /// The name of each sheet; that of its source if there is none.
    pub(super) template: Option<Template>,
    /// Several outputs may be sheets of one workbook.
    pub(super) shared: bool,
    /// Sheets of one name are distinguished by the names of their sources.
    pub(super) by_rule: bool,
    /// They are places in copies of a template.
    pub(super) fills: bool,
    /// Those that were distinguished: old and new names.
    pub(super) renamed: Vec<(String, String)>,
    pub(super) overflow: Overflow,
    /// Records that a sheet has room for.
    pub(super) most: u64,
    /// The workbooks so far, by the values that their paths are made of.
    pub(super) places: HashMap<KeyValues, usize>,
    pub(super) workbooks: Vec<Workbook>,
    /// The sheet of each output.
    pub(super) names: Vec<String>,
    /// What is above the records of each output on pages.
    pub(super) headings: Vec<Heading>,
}

/// A workbook whose sheets are outputs.
#[derive(Debug)]
pub(super) struct Workbook {
    pub(super) path: String,
    /// What becomes of all its sheets; one of them may have a disposition of its own.
    disposition: Disposition,
    names: SheetNames,
    pub(super) outputs: Vec<usize>,
}

impl Sheets {
    /// What an output has in common with the other sheets of its workbook and with no other output:
    /// its path `text`, the values that are in it, and those that tell outputs apart besides the sheet.
    /// `None` if it is alone in its workbook.
    pub(super) fn identity(
        &self,
        text: &str,
        path: &Template,
        keys: &[Key],
        values: &KeyValues,
    ) -> Option<KeyValues> {
        if !self.shared {
            return None;
        }
        let in_sheet = self.template.as_ref().map(Template::keys);
        let in_sheet = in_sheet.unwrap_or_default();
        let in_path = path.keys();
        let mut identity: KeyValues = keys
            .iter()
            .zip(values)
            .filter(|(key, _)| in_path.contains(key) || !in_sheet.contains(key))
            .filter(|(key, _)| !self.fills || key.column != CASE_COLUMN)
            .map(|(_, value)| value.clone())
            .collect();
        identity.push(text.to_owned());
        if path.names_source() {
            // What the first of them says of a template is which of its tables they are for.
            let of_source = values[keys.len()..].iter().skip(usize::from(self.fills));
            identity.extend(of_source.cloned());
        }
        Some(identity)
    }
}

impl Sheets {
    /// Gives sheets of one name in a workbook names that tell them apart: that of their source where it
    /// has only one sheet there, else both.
    pub(super) fn tell_apart(
        &mut self,
        dispositions: &[Disposition],
        origins: &[u32],
        sources: &[SourceNames],
        blank: &str,
    ) {
        if !self.by_rule {
            return;
        }
        for workbook in &self.workbooks {
            let written = |output: &&usize| dispositions[**output] == Disposition::Write;
            let outputs: Vec<usize> = workbook.outputs.iter().filter(written).copied().collect();
            let origin = |output: usize| &sources[origins[output] as usize];
            let mut counts: HashMap<String, usize> = HashMap::new();
            let mut of_source: HashMap<(&str, &str), usize> = HashMap::new();
            for &output in &outputs {
                *counts.entry(self.names[output].to_lowercase()).or_default() += 1;
                let origin = origin(output);
                *of_source.entry((&origin.folder, &origin.stem)).or_default() += 1;
            }
            let mut names = SheetNames::default();
            let is_alone = |name: &str| counts[&name.to_lowercase()] == 1;
            for &output in outputs
                .iter()
                .filter(|output| is_alone(&self.names[**output]))
            {
                let _ = names.claim(&self.names[output], output);
            }
            for &output in &outputs {
                let name = self.names[output].clone();
                if is_alone(&name) {
                    continue;
                }
                let origin = origin(output);
                let wanted = match of_source[&(origin.folder.as_str(), origin.stem.as_str())] {
                    1 => origin.stem.clone(),
                    _ => format!("{} {name}", origin.stem),
                };
                let wanted = legal(&wanted, blank);
                let new = match names.claim(&wanted, output) {
                    Ok(()) => wanted,
                    Err(_) => names.numbered(&wanted, output, 2),
                };
                self.names[output].clone_from(&new);
                self.renamed.push((format!("{}: {name}", origin.stem), new));
            }
        }
    }
}

impl Addresses {
    /// Finds the workbook of an output or claims its path, claims the name of the sheet, and settles
    /// what becomes of the output.
    pub(super) fn name_sheet(
        &mut self,
        router: &Router,
        divider: &Divider,
        output: usize,
        path: &str,
        identity: KeyValues,
        name: &str,
    ) {
        let Some(sheets) = &self.sheets else { return };
        let place = match sheets.places.get(&identity) {
            Some(place) => *place,
            None => {
                let place = self.workbook(router, divider, output, path);
                if let Some(sheets) = &mut self.sheets {
                    sheets.places.insert(identity, place);
                }
                place
            }
        };
        let Some(sheets) = &mut self.sheets else {
            return;
        };
        let workbook = &mut sheets.workbooks[place];
        workbook.outputs.push(output);
        self.paths[output].clone_from(&workbook.path);
        let disposition = workbook.disposition;
        if disposition != Disposition::Write {
            self.divert(output, disposition);
            return;
        }
        let part = divider.outputs()[output].part;
        if part > 1 {
            sheets.names[output] = workbook.names.numbered(name, output, part);
            return;
        }
        if sheets.by_rule || sheets.fills {
            return;
        }
        let Err(holder) = workbook.names.claim(name, output) else {
            return;
        };
        let shown = with_sheet(&workbook.path, name);
        match self.clashed.policy {
            ClashPolicy::Refuse => {
                let first = sheets.names[holder].clone();
                self.refuse_clash(shown.clone(), holder, first, name.to_owned(), false);
            }
            ClashPolicy::Number => {
                sheets.names[output] = workbook.names.numbered(name, output, 2);
            }
            ClashPolicy::Together => self.divert(output, Disposition::Joined(holder as u32)),
            ClashPolicy::First => self.divert(output, Disposition::NameTaken),
            ClashPolicy::Last => {
                workbook.names.hand_over(name, output);
                self.divert(holder, Disposition::NameTaken);
            }
        }
        self.note_clash(&shown);
    }

    /// Claims the path of a workbook, and returns its place. Where another one has the path, the
    /// policy holds for whole workbooks: together they are one.
    fn workbook(
        &mut self,
        router: &Router,
        divider: &Divider,
        output: usize,
        wanted: &str,
    ) -> usize {
        let (path, disposition) = match self.claim_path(router, divider, output, wanted) {
            Claimed::Path(path) if self.is_left(&path) => (path, Disposition::Exists),
            Claimed::Path(path) => (path, Disposition::Write),
            Claimed::Refused => (String::new(), Disposition::NameTaken),
            Claimed::Taken { path, holder } => {
                let known = |sheets: &super::Sheets| {
                    let with = |workbook: &Workbook| workbook.outputs.contains(&holder);
                    sheets.workbooks.iter().position(with)
                };
                let holder = self.sheets.as_ref().and_then(known);
                match (self.clashed.policy, holder) {
                    (ClashPolicy::Together, Some(holder)) => return holder,
                    (ClashPolicy::Last, Some(holder)) => (path, self.give_up(holder)),
                    _ => (path, Disposition::NameTaken),
                }
            }
        };
        let Some(sheets) = &mut self.sheets else {
            return 0;
        };
        sheets.workbooks.push(Workbook {
            path,
            disposition,
            names: SheetNames::default(),
            outputs: Vec::new(),
        });
        sheets.workbooks.len() - 1
    }

    /// Leaves all sheets of a workbook out, as another one takes its path; what becomes of that.
    fn give_up(&mut self, place: usize) -> Disposition {
        let Some(sheets) = &mut self.sheets else {
            return Disposition::NameTaken;
        };
        let workbook = &mut sheets.workbooks[place];
        let disposition = std::mem::replace(&mut workbook.disposition, Disposition::NameTaken);
        for output in workbook.outputs.clone() {
            self.divert(output, Disposition::NameTaken);
        }
        disposition
    }
}

/// A path and a sheet, for messages.
pub(super) fn with_sheet(path: &str, sheet: &str) -> String {
    format!("{path}, sheet '{sheet}'")
}
