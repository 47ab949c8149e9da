//! A workbook as a package: its sheets, which of them are kept, and what leads where.

use std::collections::{HashMap, HashSet};
use std::path::Path;
use std::sync::{Arc, OnceLock};

use std::fs::File;

use super::element::{Document, Element};
use super::relations::{Relationship, Relationships};
use super::sheet::{Edit, Gone};
use super::{Extracted, SMALL};
use crate::package::Package;
use crate::xlsx::parts::office_document;
use crate::xlsx::strings::unescaped;
use numerant_data::source::{ReadProblem, SharedFile};

/// A sheet of a workbook.
#[derive(Clone, Debug)]
pub(super) struct Listed {
    pub(super) name: String,
    /// What it is to be called.
    pub(super) called: String,
    /// The identifier that leads to its part.
    pub(super) id: String,
    /// Its part; empty if there is none.
    pub(super) path: String,
    pub(super) kept: bool,
    pub(super) hidden: bool,
    /// It has cells, and is no chart alone.
    pub(super) has_cells: bool,
}

/// A workbook, and which of its sheets are kept.
#[derive(Clone)]
pub(super) struct EditedWorkbook {
    pub(super) package: Package,
    pub(super) path: String,
    pub(super) document: Document,
    pub(super) leads: Relationships,
    pub sheets: Vec<Listed>,
    /// The tables of all sheets, once they were looked for: the number of the sheet, the name in lower
    /// case, and the part.
    tables: Arc<OnceLock<Vec<(usize, String, String)>>>,
}

impl EditedWorkbook {
    /// Opens a workbook and reads what sheets it has, of which none is kept yet.
    pub(super) fn open(path: &Path) -> Result<Self, ReadProblem> {
        let file = File::open(path).and_then(|file| SharedFile::new(Arc::new(file)));
        let package = Package::open(file.map_err(ReadProblem::Io)?)?;
        let path = office_document(&package)?.unwrap_or_else(|| "xl/workbook.xml".to_owned());
        let damaged = |what: &str| ReadProblem::Damaged {
            what: format!("{what} (in {path})"),
        };
        let bytes = package.bytes(&path, SMALL)?;
        let bytes = bytes.ok_or_else(|| damaged("the part of the workbook is missing"))?;
        let mut document = Document::parse(bytes, &path)?;
        let leads = Relationships::of(&package, &path)?;
        let leads = leads.ok_or_else(|| damaged("the workbook has no relationship to a sheet"))?;
        let mut sheets = Vec::new();
        for sheet in document
            .root
            .child_mut("sheets")
            .ok_or_else(|| damaged("the workbook has no list of sheets"))?
            .elements()
        {
            let id = sheet.attribute("id").unwrap_or_default();
            let lead = leads.all.iter().find(|lead| lead.id == id);
            let name = sheet.attribute("name").unwrap_or_default();
            let name = unescaped(&name).into_owned();
            let path = lead.map(|lead| lead.target.clone()).unwrap_or_default();
            let is_cells = lead.is_some_and(|lead| lead.kind == "worksheet");
            sheets.push(Listed {
                kept: false,
                called: name.clone(),
                name,
                has_cells: is_cells && package.place(&path).is_some(),
                path,
                id,
                hidden: sheet
                    .attribute("state")
                    .is_some_and(|state| state != "visible"),
            });
        }
        Ok(Self {
            package,
            path,
            document,
            leads,
            sheets,
            tables: Arc::default(),
        })
    }

    /// Whether all formulas are to be computed when the workbook is opened.
    pub(super) fn is_to_be_computed(&self) -> bool {
        let settings = self.document.root.child("calcPr");
        let wanted = settings.and_then(|settings| settings.attribute("fullCalcOnLoad"));
        wanted.is_some_and(|wanted| wanted == "1" || wanted == "true")
    }

    /// The sheets that are kept.
    pub(super) fn kept(&self) -> impl Iterator<Item = &Listed> {
        self.sheets.iter().filter(|sheet| sheet.kept)
    }

    /// Whether any sheet is not kept.
    pub(super) fn is_cut(&self) -> bool {
        self.sheets.iter().any(|sheet| !sheet.kept)
    }

    /// The parts of a kind that a part leads to.
    pub(super) fn of_kind(&self, part: &str, kind: &str) -> Result<Vec<String>, ReadProblem> {
        let leads = Relationships::of(&self.package, part)?;
        let leads = leads.iter().flat_map(|leads| leads.of_kind(kind));
        Ok(leads.map(|lead| lead.target.clone()).collect())
    }

    /// The part of a kind that all sheets share.
    pub(super) fn shared(&self, kind: &str) -> Option<String> {
        let lead = self.leads.of_kind(kind).next()?;
        let path = lead.target.clone();
        self.package.place(&path).is_some().then_some(path)
    }

    /// A part as a tree, if it is there.
    pub(super) fn part(&self, path: &str) -> Result<Option<Document>, ReadProblem> {
        let bytes = self.package.bytes(path, SMALL)?;
        bytes.map(|bytes| Document::parse(bytes, path)).transpose()
    }

    /// The names of the tables of a sheet, by its part, with their parts.
    pub(super) fn tables(&self, sheet: &str) -> Result<Vec<(String, String)>, ReadProblem> {
        let of_sheet = self
            .all_tables()?
            .iter()
            .filter(|(number, ..)| self.sheets[*number].path == sheet);
        Ok(of_sheet
            .map(|(_, name, path)| (name.clone(), path.clone()))
            .collect())
    }

    /// What formulas of the kept sheets must not lead to.
    pub(super) fn gone(&self, values: bool) -> Result<Gone, ReadProblem> {
        let mut gone = Gone {
            all: values,
            ..Gone::default()
        };
        for sheet in &self.sheets {
            gone.sheets.push((sheet.name.to_lowercase(), !sheet.kept));
        }
        for (sheet, name, _) in self.all_tables()? {
            if !self.sheets[*sheet].kept {
                gone.names.insert(name.to_lowercase());
            }
        }
        Ok(gone)
    }

    /// The tables of all sheets, which are looked for once.
    fn all_tables(&self) -> Result<&[(usize, String, String)], ReadProblem> {
        if let Some(known) = self.tables.get() {
            return Ok(known);
        }
        let mut tables = Vec::new();
        for (number, sheet) in self.sheets.iter().enumerate() {
            for path in self.of_kind(&sheet.path, "table")? {
                let Some(table) = self.part(&path)? else {
                    continue;
                };
                let name = table.root.attribute("displayName").unwrap_or_default();
                tables.push((number, name, path));
            }
        }
        Ok(self.tables.get_or_init(|| tables))
    }

    /// The sheets that are called otherwise now.
    pub(super) fn renamed(&self) -> HashMap<String, String> {
        let renamed = self.kept().filter(|sheet| sheet.called != sheet.name);
        renamed
            .map(|sheet| (sheet.name.to_lowercase(), sheet.called.clone()))
            .collect()
    }

    /// Leaves out the names of ranges that belong or lead to sheets that are gone, and those that
    /// lead to such names.
    pub(super) fn edit_names(&mut self, gone: &mut Gone, extracted: &mut Extracted) {
        let mut numbers = HashMap::new();
        for (place, sheet) in self.sheets.iter().enumerate() {
            if sheet.kept {
                numbers.insert(place.to_string(), numbers.len().to_string());
            }
        }
        let root = &mut self.document.root;
        let Some(names) = root.child_mut("definedNames") else {
            return;
        };
        loop {
            let mut more = Vec::new();
            names.retain(|name| {
                let sheet = name.attribute("localSheetId");
                let of_gone = sheet.is_some_and(|sheet| !numbers.contains_key(&sheet));
                if of_gone {
                    return false;
                }
                let breaks = gone.breaks(&name.text());
                if breaks {
                    more.push(name.attribute("name").unwrap_or_default().to_lowercase());
                }
                !breaks
            });
            extracted.names += more.len() as u64;
            if more.is_empty() {
                break;
            }
            gone.names.extend(more);
        }
        for name in names.elements_mut() {
            if let Some(sheet) = name.attribute("localSheetId") {
                name.set_attribute("localSheetId", numbers.get(&sheet).map(String::as_str));
            }
        }
        if names.elements().next().is_none() {
            root.retain(|element| element.name() != "definedNames");
        }
    }

    /// Leaves out where the workbook leads to and no kept sheet needs.
    pub(super) fn choose_leads(
        &mut self,
        changed: bool,
        macros: bool,
        extracted: &mut Extracted,
    ) -> Result<(), ReadProblem> {
        let mut caches = HashSet::new();
        let (mut slicers, mut timelines) = (false, false);
        for sheet in self.kept() {
            for pivot in self.of_kind(&sheet.path, "pivotTable")? {
                caches.extend(self.of_kind(&pivot, "pivotCacheDefinition")?);
            }
            slicers |= !self.of_kind(&sheet.path, "slicer")?.is_empty();
            timelines |= !self.of_kind(&sheet.path, "timeline")?.is_empty();
        }
        let gone = self.sheets.iter().filter(|sheet| !sheet.kept);
        let ids: HashSet<String> = gone.map(|sheet| sheet.id.clone()).collect();
        let had = self.leads.of_kind("vbaProject").next().is_some();
        extracted.macros |= had && !macros;
        self.leads.retain(|lead| {
            let fits = match lead.kind.as_str() {
                "pivotCacheDefinition" => caches.contains(&lead.target),
                "calcChain" => !changed,
                "vbaProject" => macros,
                "slicerCache" => slicers,
                "timelineCache" => timelines,
                _ => true,
            };
            fits && !ids.contains(&lead.id)
        });
        Ok(())
    }

    /// Leaves out what leads nowhere any more, gives sheets their names, and sets which of them is
    /// shown first.
    pub(super) fn edit_sheets(&mut self, extracted: &mut Extracted) {
        let known: HashSet<&str> = self.leads.all.iter().map(|lead| lead.id.as_str()).collect();
        prune(&mut self.document.root, &known);
        let active = self
            .document
            .root
            .child_mut("bookViews")
            .and_then(|views| views.child_mut("workbookView"))
            .and_then(|view| view.attribute("activeTab"))
            .and_then(|active| active.parse::<usize>().ok());
        let active = self
            .sheets
            .get(active.unwrap_or(0))
            .map(|sheet| &sheet.name);
        let kept: Vec<&Listed> = self.sheets.iter().filter(|sheet| sheet.kept).collect();
        let shown = |sheet: &&Listed| !sheet.hidden;
        let same = |sheet: &&Listed| Some(&sheet.name) == active && !sheet.hidden;
        let place = kept
            .iter()
            .position(same)
            .or_else(|| kept.iter().position(shown));
        extracted.shown |= place.is_none();
        let hidden = place.is_none();
        let place = place.unwrap_or(0);
        let place = (place > 0).then(|| place.to_string());
        let called: Vec<String> = kept.iter().map(|sheet| sheet.called.clone()).collect();
        if let Some(views) = self.document.root.child_mut("bookViews") {
            for view in views.elements_mut() {
                view.set_attribute("activeTab", place.as_deref());
                view.set_attribute("firstSheet", None);
            }
        }
        let Some(sheets) = self.document.root.child_mut("sheets") else {
            return;
        };
        for (sheet, called) in sheets.elements_mut().zip(called) {
            if sheet
                .attribute("name")
                .is_none_or(|name| unescaped(&name) != called)
            {
                sheet.set_attribute("name", Some(&called));
            }
        }
        if hidden && let Some(first) = sheets.elements_mut().next() {
            first.set_attribute("state", None);
        }
    }

    /// All parts that are led to from `from`, those among them, each with the kind of what leads to it.
    /// `lets` says which kinds are followed.
    pub(super) fn reached(
        &self,
        from: Vec<(String, String)>,
        lets: &dyn Fn(&str) -> bool,
    ) -> Result<Vec<(String, String)>, ReadProblem> {
        self.reached_by(from, &|_, lead| lets(&lead.kind))
    }

    /// As [`EditedWorkbook::reached`], where the part `without` does not lead to `gone`.
    pub(super) fn reached_without(
        &self,
        from: Vec<(String, String)>,
        without: &str,
        gone: &[String],
    ) -> Result<Vec<(String, String)>, ReadProblem> {
        self.reached_by(from, &|part, lead| {
            part != without || !gone.contains(&lead.target)
        })
    }

    fn reached_by(
        &self,
        from: Vec<(String, String)>,
        lets: &dyn Fn(&str, &Relationship) -> bool,
    ) -> Result<Vec<(String, String)>, ReadProblem> {
        let mut reached: Vec<(String, String)> = Vec::new();
        let mut known: HashSet<String> = HashSet::new();
        let inside = |part: &str, leads: &Relationships| -> Vec<(String, String)> {
            let all = leads
                .all
                .iter()
                .filter(|lead| !lead.outside && lets(part, lead));
            all.map(|lead| (lead.target.clone(), lead.kind.clone()))
                .collect()
        };
        let mut next = 0;
        let mut found = from;
        loop {
            for (target, kind) in found {
                if known.insert(target.to_lowercase()) && self.package.place(&target).is_some() {
                    reached.push((target, kind));
                }
            }
            let Some((path, _)) = reached.get(next) else {
                return Ok(reached);
            };
            next += 1;
            found = if *path == self.path {
                inside(path, &self.leads)
            } else {
                match Relationships::of(&self.package, path)? {
                    Some(leads) => inside(path, &leads),
                    None => Vec::new(),
                }
            };
        }
    }
}

/// Puts what formulas of charts and tables are to be in their place, and counts what cannot work any
/// more; whether anything was changed.
pub(super) fn edit_part(
    kind: &str,
    document: &mut Document,
    edit: &Edit,
    extracted: &mut Extracted,
) -> bool {
    let names: &[&str] = match kind {
        "chart" | "chartEx" => &["f"],
        "table" => &["calculatedColumnFormula", "totalsRowFormula"],
        "pivotCacheDefinition" => &["worksheetSource"],
        _ => return false,
    };
    let (gone, renames) = (&edit.gone, &edit.renames);
    let mut changed = false;
    document.root.walk_mut(&mut |element: &mut Element| {
        if !names.contains(&element.name()) {
            return;
        }
        if kind == "pivotCacheDefinition" {
            let sheet = element
                .attribute("sheet")
                .unwrap_or_default()
                .to_lowercase();
            let name = element.attribute("name").unwrap_or_default().to_lowercase();
            let is_gone = |known: &(String, bool)| known.0 == sheet && known.1;
            let lost = gone.sheets.iter().any(is_gone) || gone.names.contains(&name);
            extracted.pivots += u64::from(lost);
            for (attribute, new) in [
                ("sheet", renames.sheets.get(&sheet)),
                ("name", renames.names.get(&name)),
            ] {
                if let Some(new) = new {
                    element.set_attribute(attribute, Some(new));
                    changed = true;
                }
            }
            return;
        }
        let formula = element.text();
        if gone.breaks(&formula) {
            element.set_text("#REF!");
            extracted.ranges += 1;
            changed = true;
        } else if let Some(renamed) = renames.apply(&formula) {
            element.set_text(&renamed);
            changed = true;
        }
    });
    changed
}

/// Takes away elements whose identifier leads nowhere, and what holds nothing else.
fn prune(element: &mut Element, known: &HashSet<&str>) {
    let leads = |element: &Element| {
        let tag = element.attribute("id");
        let named = element.leads_by("id");
        !named || tag.is_some_and(|id| known.contains(id.as_str()))
    };
    element.retain(leads);
    element.retain_mut(|child| {
        let had = child.elements().next().is_some();
        prune(child, known);
        !had || child.elements().next().is_some()
    });
}
