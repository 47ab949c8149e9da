//! Adds the sheets of another workbook to one that is being made: their parts under names of their own,
//! their styles, texts, names and tables under numbers and names that are free.

use std::collections::{HashMap, HashSet};
use std::io::Write;

use super::assemble::{AssembleOptions, CONTENT_TYPES, Target};
use super::edited_workbook::{EditedWorkbook, edit_part};
use super::element::{Document, Element};
use super::relations::{Relationship, Relationships};
use super::sheet::{Edit, Scan, Uses};
use super::strings::Texts;
use super::styles::{Colors, PLAIN_STYLES, Styles};
use crate::repack::Change;
use crate::xlsx::parts::relations_path;
use numerant_data::source::ReadProblem;

/// The parts of a workbook, in their order (ECMA-376 Part 1, 18.2.27).
pub(super) const ORDER: [&str; 19] = [
    "fileVersion",
    "fileSharing",
    "workbookPr",
    "workbookProtection",
    "bookViews",
    "sheets",
    "functionGroups",
    "externalReferences",
    "definedNames",
    "calcPr",
    "oleSize",
    "customWorkbookViews",
    "pivotCaches",
    "smartTagPr",
    "smartTagTypes",
    "webPublishing",
    "fileRecoveryPr",
    "webPublishObjects",
    "extLst",
];

/// What leads to parts that only their own workbook can have.
const LOST: [&str; 3] = ["slicer", "timeline", "queryTable"];

/// What a workbook may have of its own for its sheets.
const STYLES_TYPE: &str = "application/vnd.openxmlformats-officedocument.spreadsheetml.styles+xml";
const STRINGS_TYPE: &str =
    "application/vnd.openxmlformats-officedocument.spreadsheetml.sharedStrings+xml";

impl Target {
    /// Adds the kept sheets of another workbook after those that there are.
    pub(super) fn graft(
        &mut self,
        mut other: EditedWorkbook,
        ways: AssembleOptions,
    ) -> Result<(), ReadProblem> {
        self.check_alike(&mut other)?;
        let mut edit = Edit {
            gone: other.gone(ways.values)?,
            deselect: true,
            ..Edit::default()
        };
        edit.renames.sheets = other.renamed();
        let mut extracted = std::mem::take(&mut self.extracted);
        other.edit_names(&mut edit.gone, &mut extracted);
        extracted.macros |= other.leads.of_kind("vbaProject").next().is_some();
        edit.renames.others = self
            .book
            .document
            .root
            .child("externalReferences")
            .map_or(0, |list| list.elements().count());
        let mut uses = Uses::default();
        let mut scans: HashMap<String, Scan> = HashMap::new();
        let mut from = Vec::new();
        for sheet in other.kept() {
            let kind = other.leads.all.iter().find(|lead| lead.id == sheet.id);
            from.push((
                sheet.path.clone(),
                kind.map(|lead| lead.kind.clone()).unwrap_or_default(),
            ));
            if sheet.has_cells {
                let scan = Scan::of(&other.package, &sheet.path, &edit.gone, &mut uses)?;
                extracted.formulas += scan.formulas;
                extracted.without_value += scan.without_value;
                extracted.rules += scan.rules;
                scans.insert(sheet.path.clone(), scan);
            }
            for (table, _) in other.tables(&sheet.path)? {
                self.rename(&table, &mut edit, &mut extracted.renamed);
            }
        }
        extracted.stale |= extracted.formulas > 0 && other.is_to_be_computed();
        let names = self.new_names(&other, &mut edit, &mut extracted.renamed);
        self.extracted = extracted;
        self.graft_styles(&other, &uses, &mut edit)?;
        self.graft_texts(&other, &uses, &mut edit)?;
        for lead in other.leads.of_kind("externalLink") {
            from.push((lead.target.clone(), lead.kind.clone()));
        }
        let reached = other.reached(from, &|kind| !LOST.contains(&kind))?;
        let places: HashMap<String, String> = reached
            .iter()
            .map(|(path, _)| (path.to_lowercase(), self.free_path(path)))
            .collect();
        let caches = self.graft_caches(&other, &places)?;
        self.carry(&other, &reached, &places, &edit, scans, &caches)?;
        self.graft_links(&other, &places);
        self.list_sheets(&other, &places);
        self.add_names(&other, names, &edit);
        Ok(())
    }

    /// Refuses a workbook whose sheets cannot stand next to those that there are.
    fn check_alike(&mut self, other: &mut EditedWorkbook) -> Result<(), ReadProblem> {
        let is_strict = |book: &EditedWorkbook| {
            let declared = book.document.root.attributes();
            declared
                .iter()
                .any(|(_, value)| value.contains("purl.oclc.org"))
        };
        if is_strict(&self.book) != is_strict(other) {
            return Err(ReadProblem::CannotGather {
                why: "one is strict Office Open XML and the other transitional; save both in one form",
            });
        }
        let from_1904 = |book: &mut EditedWorkbook| {
            let properties = book.document.root.child_mut("workbookPr");
            let value = properties.and_then(|properties| properties.attribute("date1904"));
            value.is_some_and(|value| value == "1" || value == "true")
        };
        if from_1904(&mut self.book) != from_1904(other) {
            return Err(ReadProblem::CannotGather {
                why: "one counts days from 1900 and the other from 1904",
            });
        }
        Ok(())
    }

    /// Finds a free name for a range or table.
    fn rename(&mut self, name: &str, edit: &mut Edit, renamed: &mut Vec<(String, String)>) {
        let mut free = name.to_owned();
        let mut number = 2;
        while !self.names.insert(free.to_lowercase()) {
            free = format!("{name}_{number}");
            number += 1;
        }
        if free != name {
            edit.renames.names.insert(name.to_lowercase(), free.clone());
            renamed.push((name.to_owned(), free));
        }
    }

    /// The names of ranges of another workbook, each with a free one; those that say the same here are
    /// left out.
    fn new_names(
        &mut self,
        other: &EditedWorkbook,
        edit: &mut Edit,
        renamed: &mut Vec<(String, String)>,
    ) -> Vec<Element> {
        let Some(names) = other.document.root.child("definedNames") else {
            return Vec::new();
        };
        let own: HashMap<String, String> = self
            .book
            .document
            .root
            .child("definedNames")
            .into_iter()
            .flat_map(Element::elements)
            .filter(|name| name.attribute("localSheetId").is_none())
            .map(|name| {
                (
                    name.attribute("name").unwrap_or_default().to_lowercase(),
                    name.text(),
                )
            })
            .collect();
        let mut new = Vec::new();
        for name in names.elements() {
            if name.attribute("localSheetId").is_none() {
                let called = name.attribute("name").unwrap_or_default();
                let constant = crate::xlsx::formula::references(&name.text()).is_empty();
                if constant && own.get(&called.to_lowercase()) == Some(&name.text()) {
                    continue;
                }
                self.rename(&called, edit, renamed);
            }
            new.push(name.clone());
        }
        new
    }

    fn add_names(&mut self, other: &EditedWorkbook, names: Vec<Element>, edit: &Edit) {
        let root = &mut self.book.document.root;
        let prefix = root.prefix().to_owned();
        // The sheets of the other workbook are listed by now.
        let all = root
            .child("sheets")
            .map_or(0, |sheets| sheets.elements().count());
        let before = all - other.kept().count().min(all);
        for name in names {
            let mut new = name.plain(&prefix);
            let text = name.text();
            new.set_text(&edit.renames.apply(&text).unwrap_or(text));
            match name
                .attribute("localSheetId")
                .and_then(|place| place.parse::<usize>().ok())
            {
                Some(place) => {
                    new.set_attribute("localSheetId", Some(&(place + before).to_string()));
                }
                None => {
                    let called = name.attribute("name").unwrap_or_default().to_lowercase();
                    if let Some(called) = edit.renames.names.get(&called) {
                        new.set_attribute("name", Some(called));
                    }
                }
            }
            root.child_in_order("definedNames", &ORDER, &prefix)
                .push(new);
        }
    }

    fn graft_styles(
        &mut self,
        other: &EditedWorkbook,
        uses: &Uses,
        edit: &mut Edit,
    ) -> Result<(), ReadProblem> {
        let path = other.shared("styles");
        if path.is_none() && self.book.shared("styles").is_none() && self.styles.is_none() {
            return Ok(());
        }
        let others = styles_of(other)?;
        let colors = match other.shared("theme") {
            Some(theme) => Colors::read(&other.package, &theme)?,
            None => Colors::default(),
        };
        let differs = colors != Colors::default() && colors != self.colors;
        self.extracted.theme |= differs;
        if self.styles.is_none() {
            self.styles = Some(styles_of(&self.book)?);
            if self.book.shared("styles").is_none() {
                self.begin_styles(other);
            }
        }
        if let Some(styles) = &mut self.styles {
            edit.styles = Some(styles.graft(&others, &uses.styles, differs.then_some(colors))?);
        }
        Ok(())
    }

    /// Adds a part for styles, of which there was none.
    fn begin_styles(&mut self, other: &EditedWorkbook) {
        let path = self.free_path("xl/styles.xml");
        let kind = relation_type(&other.leads, "styles");
        self.book.leads.add(&kind, &format!("/{path}"));
        self.declare(&path, STYLES_TYPE);
        self.begun_styles = Some(path);
    }

    fn graft_texts(
        &mut self,
        other: &EditedWorkbook,
        uses: &Uses,
        edit: &mut Edit,
    ) -> Result<(), ReadProblem> {
        let Some(path) = other.shared("sharedStrings") else {
            return Ok(());
        };
        let texts = Texts {
            package: other.package.clone(),
            path,
            used: Some(uses.strings.clone()),
        };
        let mut next = match (self.next_text, &self.texts) {
            (Some(next), _) => next,
            (None, Some(own)) => own.count()?,
            (None, None) => 0,
        };
        if self.texts.is_none() {
            self.begin_texts(other);
        }
        let count = texts.count()?;
        let mut numbers = Vec::with_capacity(count as usize);
        for number in 0..count as usize {
            numbers.push(next);
            next += u32::from(uses.strings.has(number));
        }
        self.next_text = Some(next);
        self.more_texts.push(texts);
        edit.strings = Some(numbers);
        Ok(())
    }

    /// Adds a list of shared texts, in which there are none yet.
    fn begin_texts(&mut self, other: &EditedWorkbook) {
        let path = self.free_path("xl/sharedStrings.xml");
        let kind = relation_type(&other.leads, "sharedStrings");
        self.book.leads.add(&kind, &format!("/{path}"));
        self.declare(&path, STRINGS_TYPE);
        self.begun_texts = Some(path);
    }

    /// A path for a part that no other has.
    fn free_path(&mut self, path: &str) -> String {
        let (stem, extension) = path.rsplit_once('.').unwrap_or((path, ""));
        let stem = stem.trim_end_matches(|sign: char| sign.is_ascii_digit());
        let mut free = path.to_owned();
        let mut number = 2;
        while self.reserved.contains(&free.to_lowercase())
            || !self.parts.insert(free.to_lowercase())
        {
            free = format!("{stem}{number}.{extension}");
            number += 1;
        }
        free
    }

    /// Lists the caches of pivot tables, each with a free number; what their numbers have become.
    fn graft_caches(
        &mut self,
        other: &EditedWorkbook,
        places: &HashMap<String, String>,
    ) -> Result<HashMap<String, String>, ReadProblem> {
        let mut numbers = HashMap::new();
        let Some(caches) = other.document.root.child("pivotCaches") else {
            return Ok(numbers);
        };
        for cache in caches.elements() {
            let id = cache.attribute("id").unwrap_or_default();
            let lead = other.leads.all.iter().find(|lead| lead.id == id);
            let Some(place) = lead.and_then(|lead| places.get(&lead.target.to_lowercase())) else {
                continue;
            };
            let kind = relation_type(&other.leads, "pivotCacheDefinition");
            let id = self.book.leads.add(&kind, &format!("/{place}"));
            let leads_by = self.leads_by();
            let root = &mut self.book.document.root;
            let prefix = root.prefix().to_owned();
            let list = root.child_in_order("pivotCaches", &ORDER, &prefix);
            let known = list
                .elements()
                .filter_map(|cache| cache.attribute("cacheId")?.parse().ok());
            let number = known.max().map_or(1, |most: u32| most + 1).to_string();
            let mut entry = Element::alone(format!("{prefix}pivotCache"));
            entry.set_attribute("cacheId", Some(&number));
            entry.set_attribute(&leads_by, Some(&id));
            list.push(entry);
            numbers.insert(cache.attribute("cacheId").unwrap_or_default(), number);
        }
        Ok(numbers)
    }

    /// Brings the parts of another workbook to their places.
    fn carry(
        &mut self,
        other: &EditedWorkbook,
        reached: &[(String, String)],
        places: &HashMap<String, String>,
        edit: &Edit,
        mut scans: HashMap<String, Scan>,
        caches: &HashMap<String, String>,
    ) -> Result<(), ReadProblem> {
        let types = other.part(CONTENT_TYPES)?;
        for (path, kind) in reached {
            let place = &places[&path.to_lowercase()];
            let mut leads = Relationships::of(&other.package, path)?;
            let mut dangling = HashSet::new();
            if let Some(leads) = &mut leads {
                let is_lost = |lead: &&Relationship| LOST.contains(&lead.kind.as_str());
                self.extracted.lost += leads.all.iter().filter(is_lost).count() as u64;
                dangling = leads.split_off(|lead| {
                    lead.outside || places.contains_key(&lead.target.to_lowercase())
                });
            }
            let known = types.as_ref().and_then(|types| type_of(types, path));
            let content_type = known.unwrap_or_else(|| usual_type(path).to_owned());
            self.declare(place, &content_type);
            let change = match (scans.remove(path), kind.as_str()) {
                (Some(scan), _) => {
                    let (package, part) = (other.package.clone(), path.clone());
                    let edit = Edit {
                        dangling,
                        ..edit.clone()
                    };
                    let write = move |out: &mut dyn Write| scan.copy(&package, &part, &edit, out);
                    Change::Written(Box::new(write))
                }
                (None, "chart" | "chartEx" | "table" | "pivotCacheDefinition" | "pivotTable") => {
                    match other.part(path)? {
                        None => continue,
                        Some(mut document) => {
                            edit_part(kind, &mut document, edit, &mut self.extracted);
                            self.number(kind, &mut document, edit, caches);
                            Change::Bytes(document.into_bytes())
                        }
                    }
                }
                (None, _) => Change::Copied(
                    other.package.clone(),
                    other.package.spelled(path).unwrap_or_default(),
                ),
            };
            self.repack.add(place.clone(), change);
            let Some(mut leads) = leads else {
                continue;
            };
            leads.redirect(|lead| {
                places
                    .get(&lead.target.to_lowercase())
                    .map(|place| format!("/{place}"))
            });
            let own = relations_path(place).0;
            self.parts.insert(own.to_lowercase());
            self.declare_relations();
            self.repack
                .add(own, Change::Bytes(leads.document.into_bytes()));
        }
        Ok(())
    }

    /// Gives tables and pivot tables the numbers and names that are free.
    fn number(
        &mut self,
        kind: &str,
        document: &mut Document,
        edit: &Edit,
        caches: &HashMap<String, String>,
    ) {
        let root = &mut document.root;
        if kind == "pivotTable" {
            let number = root
                .attribute("cacheId")
                .and_then(|number| caches.get(&number));
            if let Some(number) = number {
                root.set_attribute("cacheId", Some(number));
            }
        }
        if kind == "table" {
            for attribute in ["name", "displayName"] {
                let name = root.attribute(attribute).unwrap_or_default().to_lowercase();
                if let Some(new) = edit.renames.names.get(&name) {
                    root.set_attribute(attribute, Some(new));
                }
            }
            // Numbers of tables need only be of their own.
            self.next_table += 1;
            root.set_attribute("id", Some(&self.next_table.to_string()));
            if root
                .attribute("tableType")
                .is_some_and(|kind| kind == "queryTable")
            {
                root.set_attribute("tableType", None);
            }
        }
        if let Some(styles) = edit.styles.as_ref().filter(|_| kind != "chart") {
            root.walk_mut(&mut |element| styles.set_rule(element));
        }
    }

    /// Lists the other workbooks that formulas lead to.
    fn graft_links(&mut self, other: &EditedWorkbook, places: &HashMap<String, String>) {
        let Some(list) = other.document.root.child("externalReferences") else {
            return;
        };
        for link in list.elements() {
            let id = link.attribute("id").unwrap_or_default();
            let lead = other.leads.all.iter().find(|lead| lead.id == id);
            let place = lead.and_then(|lead| places.get(&lead.target.to_lowercase()));
            let kind = relation_type(&other.leads, "externalLink");
            let id = self
                .book
                .leads
                .add(&kind, &format!("/{}", place.map_or("", String::as_str)));
            self.list("externalReferences", "externalReference", &[], &id);
        }
    }

    /// Lists the sheets of another workbook.
    fn list_sheets(&mut self, other: &EditedWorkbook, places: &HashMap<String, String>) {
        let listed = other.document.root.child("sheets");
        for sheet in other.kept() {
            let Some(place) = places.get(&sheet.path.to_lowercase()) else {
                continue;
            };
            let lead = other.leads.all.iter().find(|lead| lead.id == sheet.id);
            let kind = lead.map_or("worksheet", |lead| &lead.kind);
            let kind = relation_type(&other.leads, kind);
            let id = self.book.leads.add(&kind, &format!("/{place}"));
            let entry = listed.and_then(|list| {
                list.elements()
                    .find(|entry| entry.attribute("id").as_ref() == Some(&sheet.id))
            });
            let state = entry.and_then(|entry| entry.attribute("state"));
            let known = self.book.document.root.child("sheets");
            let known = known.into_iter().flat_map(Element::elements);
            let known = known.filter_map(|sheet| sheet.attribute("sheetId")?.parse::<u32>().ok());
            let number = known.max().map_or(1, |most| most + 1).to_string();
            let mut attributes = vec![("name", sheet.called.as_str()), ("sheetId", &number)];
            if let Some(state) = &state {
                attributes.push(("state", state));
            }
            self.list("sheets", "sheet", &attributes, &id);
        }
    }

    /// Adds an entry that leads to a part to a list of the workbook.
    fn list(&mut self, list: &str, name: &str, attributes: &[(&str, &str)], id: &str) {
        let leads_by = self.leads_by();
        let root = &mut self.book.document.root;
        let prefix = root.prefix().to_owned();
        let mut entry = Element::alone(format!("{prefix}{name}"));
        for (attribute, value) in attributes {
            entry.set_attribute(attribute, Some(value));
        }
        entry.set_attribute(&leads_by, Some(id));
        root.child_in_order(list, &ORDER, &prefix).push(entry);
    }

    /// How the attribute is called that leads to parts.
    fn leads_by(&mut self) -> String {
        let root = &mut self.book.document.root;
        let of_relations = |(name, value): &(String, String)| {
            let prefix = name.strip_prefix("xmlns:")?;
            let fits = value.ends_with("officeDocument/2006/relationships")
                || value.ends_with("officeDocument/relationships");
            fits.then(|| format!("{prefix}:id"))
        };
        if let Some(known) = root.attributes().iter().find_map(of_relations) {
            return known;
        }
        let relations = "http://schemas.openxmlformats.org/officeDocument/2006/relationships";
        root.set_attribute("xmlns:r", Some(relations));
        "r:id".to_owned()
    }
}

/// The styles of a workbook; those that programs take for cells where it has none.
pub(super) fn styles_of(book: &EditedWorkbook) -> Result<Styles, ReadProblem> {
    let path = book.shared("styles");
    let bytes = match &path {
        Some(path) => book.package.bytes(path, super::SMALL)?,
        None => None,
    };
    let bytes = bytes.unwrap_or_else(|| PLAIN_STYLES.as_bytes().to_vec());
    Styles::parse(bytes, path.as_deref().unwrap_or_default())
}

/// The type of a relation of a kind, as a workbook writes it.
fn relation_type(leads: &Relationships, kind: &str) -> String {
    let written = leads
        .document
        .root
        .elements()
        .filter_map(|lead| lead.attribute("Type"));
    let mut written = written.filter(|text| text.rsplit('/').next() == Some(kind));
    written.next().unwrap_or_else(|| {
        format!("http://schemas.openxmlformats.org/officeDocument/2006/relationships/{kind}")
    })
}

/// The type of a part of which its own workbook says none.
fn usual_type(path: &str) -> &'static str {
    let extension = path.rsplit_once('.').map_or("", |(_, extension)| extension);
    match extension.to_ascii_lowercase().as_str() {
        "xml" => "application/xml",
        "vml" => "application/vnd.openxmlformats-officedocument.vmlDrawing",
        "png" => "image/png",
        "jpg" | "jpeg" => "image/jpeg",
        "gif" => "image/gif",
        "emf" => "image/x-emf",
        "wmf" => "image/x-wmf",
        _ => "application/octet-stream",
    }
}

/// The type of a part.
fn type_of(types: &Document, path: &str) -> Option<String> {
    let extension = path.rsplit_once('.').map_or("", |(_, extension)| extension);
    let own = types.root.elements().find(|entry| {
        let part = entry.attribute("PartName").unwrap_or_default();
        part.trim_start_matches('/').eq_ignore_ascii_case(path)
    });
    let by_extension = || {
        types.root.elements().find(|entry| {
            let of = entry.attribute("Extension");
            of.is_some_and(|of| of.eq_ignore_ascii_case(extension))
        })
    };
    own.or_else(by_extension)?.attribute("ContentType")
}
