//! Makes a workbook of sheets of others: a copy of the package of the first, without the sheets that are
//! not taken and without what only they have led to; after them the sheets of the others.

use std::collections::HashSet;
use std::io::{self, Write};
use std::path::{Path, PathBuf};
use std::sync::Mutex;

use super::edited_workbook::{EditedWorkbook, edit_part};
use super::element::{Document, Element};
use super::relations::Relationships;
use super::sheet::{Edit, Scan, Uses};
use super::strings::{self, Texts};
use super::styles::{Colors, Styles};
use crate::repack::{Change, Repack};
use crate::xlsx::parts::relations_path;
use numerant_data::disk::OutFile;
use numerant_data::source::ReadProblem;

/// Where the types of parts stand.
pub(super) const CONTENT_TYPES: &str = "[Content_Types].xml";

/// What the content type of a workbook with macros says that one without does not.
const MACRO_MAIN: &str = "application/vnd.ms-excel.sheet.macroEnabled.main+xml";
const PLAIN_MAIN: &str =
    "application/vnd.openxmlformats-officedocument.spreadsheetml.sheet.main+xml";

/// The type of parts with relationships (ECMA-376, part 2).
const RELATIONS_TYPE: &str = "application/vnd.openxmlformats-package.relationships+xml";

/// A sheet that is taken.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct TakenSheet {
    /// Its workbook.
    pub book: PathBuf,
    /// What it is called there.
    pub sheet: String,
    /// What it is to be called.
    pub called: String,
}

/// How sheets are taken.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub struct AssembleOptions {
    /// All formulas become their values.
    pub values: bool,
    /// The file may have macros.
    pub macros: bool,
    /// Sheets without cells are taken, too, which are charts.
    pub charts: bool,
}

/// Why sheets could not be taken.
#[derive(Debug)]
pub enum ExtractError {
    /// A workbook cannot be read.
    Read(PathBuf, ReadProblem),
    /// The copy cannot be written.
    Write(io::Error),
}

/// What could not stay as it was.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct Extracted {
    /// Formulas that became the values that they had.
    pub formulas: u64,
    /// Those of them that had none, and are blank.
    pub without_value: u64,
    /// Conditional formats, validations and others that lead to a sheet that is not there.
    pub rules: u64,
    /// Ranges of charts and tables that lead to such a sheet.
    pub ranges: u64,
    /// Rules and ranges of charts for some of the records, which are in another order.
    pub reordered: u64,
    /// Names of ranges that lead to such a sheet, and were left out.
    pub names: u64,
    /// Pivot tables whose source is on such a sheet.
    pub pivots: u64,
    /// Pivot tables that were left out, as they remember the records of all parts.
    pub pivots_left_out: u64,
    /// Criteria of filters that were left out, as they name values of other parts.
    pub filters: u64,
    /// Scenarios that were left out, as they hold values of other parts.
    pub scenarios: u64,
    /// The signature, which would not hold, was left out.
    pub signature: bool,
    /// Macros were left out.
    pub macros: bool,
    /// A hidden sheet is shown, as there is no other.
    pub shown: bool,
    /// Ranges and tables that are called otherwise, as another has their name: old and new names.
    pub renamed: Vec<(String, String)>,
    /// Slicers, timelines and queries that only their own workbook can have.
    pub lost: u64,
    /// Charts and shapes follow the theme of the first workbook.
    pub theme: bool,
    /// The values that formulas had may be older than the data: the workbook was to be computed when it
    /// is opened.
    pub stale: bool,
}

impl Extracted {
    /// Adds the counts of another workbook.
    pub fn add(&mut self, other: &Self) {
        self.formulas += other.formulas;
        self.reordered += other.reordered;
        self.without_value += other.without_value;
        self.rules += other.rules;
        self.ranges += other.ranges;
        self.names += other.names;
        self.pivots += other.pivots;
        self.pivots_left_out += other.pivots_left_out;
        self.filters += other.filters;
        self.scenarios += other.scenarios;
        self.lost += other.lost;
        self.signature |= other.signature;
        self.macros |= other.macros;
        self.shown |= other.shown;
        self.theme |= other.theme;
        self.stale |= other.stale;
        self.renamed.extend(other.renamed.iter().cloned());
    }
}

/// Workbooks that were opened last, as outputs that follow each other often have sheets of one.
#[derive(Default)]
pub struct WorkbookCache(Mutex<Vec<(PathBuf, EditedWorkbook)>>);

/// Workbooks that are on a shelf.
const ON_SHELF: usize = 4;

impl WorkbookCache {
    /// A workbook of which no sheet is kept yet.
    fn book(&self, path: &Path) -> Result<EditedWorkbook, ReadProblem> {
        let Ok(mut books) = self.0.lock() else {
            return EditedWorkbook::open(path);
        };
        if let Some((_, book)) = books.iter().find(|(known, _)| known == path) {
            return Ok(book.clone());
        }
        let book = EditedWorkbook::open(path)?;
        if books.len() == ON_SHELF {
            books.remove(0);
        }
        books.push((path.to_owned(), book.clone()));
        Ok(book)
    }
}

/// Writes these sheets to a workbook at `to`: those of the first workbook in its order, then those of the
/// second, and so on.
pub fn assemble(
    taken: &[TakenSheet],
    ways: AssembleOptions,
    shelf: &WorkbookCache,
    to: OutFile,
) -> Result<Extracted, ExtractError> {
    let mut books: Vec<(&Path, Vec<&TakenSheet>)> = Vec::new();
    for sheet in taken {
        match books.iter_mut().find(|(book, _)| *book == sheet.book) {
            Some((_, sheets)) => sheets.push(sheet),
            None => books.push((&sheet.book, vec![sheet])),
        }
    }
    let mut books = books.into_iter();
    let Some((first, sheets)) = books.next() else {
        return Ok(Extracted::default());
    };
    let failed = |book: &Path, problem| ExtractError::Read(book.to_owned(), problem);
    let open = |book: &Path, sheets: &[&TakenSheet]| Ok(opened(shelf.book(book)?, sheets, ways));
    let base = open(first, &sheets).map_err(|problem| failed(first, problem))?;
    let alone = books.len() == 0;
    let mut target =
        Target::begin(base, ways, alone, true).map_err(|problem| failed(first, problem))?;
    for (path, sheets) in books {
        let book = open(path, &sheets);
        let grafted = book.and_then(|book| target.graft(book, ways));
        grafted.map_err(|problem| failed(path, problem))?;
    }
    let package = target.book.package.clone();
    let (repack, extracted) = target
        .finish(ways)
        .map_err(|problem| failed(first, problem))?;
    repack.write(&package, to).map_err(|error| {
        let system = error.raw_os_error().is_some();
        match error.downcast::<ReadProblem>() {
            Ok(problem) if !system => failed(first, problem),
            Ok(problem) => ExtractError::Write(io::Error::other(problem)),
            Err(error) => ExtractError::Write(error),
        }
    })?;
    Ok(extracted)
}

/// A workbook of which these sheets are kept.
fn opened(
    mut book: EditedWorkbook,
    sheets: &[&TakenSheet],
    ways: AssembleOptions,
) -> EditedWorkbook {
    for listed in &mut book.sheets {
        let taken = sheets.iter().find(|taken| taken.sheet == listed.name);
        listed.kept = taken.is_some() || (ways.charts && !listed.has_cells);
        if let Some(taken) = taken {
            listed.called.clone_from(&taken.called);
        }
    }
    book
}

/// A workbook that is being made of the package of the first.
pub(super) struct Target {
    pub(super) book: EditedWorkbook,
    pub(super) repack: Repack<'static>,
    pub(super) extracted: Extracted,
    /// The types of parts.
    pub(super) types: Document,
    /// The parts that there are, in lower case.
    pub(super) parts: HashSet<String>,
    /// The parts that there are not, though others lead to them, in lower case.
    pub(super) reserved: HashSet<String>,
    /// Names of ranges and tables, in lower case.
    pub(super) names: HashSet<String>,
    /// Its styles, when any are added.
    pub(super) styles: Option<Styles>,
    pub(super) colors: Colors,
    /// The texts of its sheets, and those of others.
    pub(super) texts: Option<Texts>,
    pub(super) more_texts: Vec<Texts>,
    /// Texts so far, when they are counted.
    pub(super) next_text: Option<u32>,
    /// The part for the texts of others, where it has none of its own.
    pub(super) begun_texts: Option<String>,
    /// The part for styles, where it has none of its own.
    pub(super) begun_styles: Option<String>,
    /// Numbers that tables have, at most.
    pub(super) next_table: u32,
    root: Option<Relationships>,
    properties: Option<String>,
    cut: bool,
}

impl Target {
    /// Begins with a workbook, which is all there is if it is `alone`. Its sheets are looked through
    /// where `looks` says so.
    pub(super) fn begin(
        mut book: EditedWorkbook,
        ways: AssembleOptions,
        alone: bool,
        looks: bool,
    ) -> Result<Self, ReadProblem> {
        let mut extracted = Extracted::default();
        let mut edit = Edit {
            gone: book.gone(ways.values)?,
            ..Edit::default()
        };
        edit.renames.sheets = book.renamed();
        book.edit_names(&mut edit.gone, &mut extracted);
        if let Some(names) = book.document.root.child_mut("definedNames") {
            for name in names.elements_mut() {
                if let Some(renamed) = edit.renames.apply(&name.text()) {
                    name.set_text(&renamed);
                }
            }
        }
        let mut uses = Uses::default();
        let mut scans: Vec<(String, Scan)> = Vec::new();
        let mut names = HashSet::new();
        for sheet in book.kept() {
            if sheet.has_cells && looks {
                let scan = Scan::of(&book.package, &sheet.path, &edit.gone, &mut uses)?;
                extracted.formulas += scan.formulas;
                extracted.without_value += scan.without_value;
                extracted.rules += scan.rules;
                scans.push((sheet.path.clone(), scan));
            }
            let tables = book.tables(&sheet.path)?;
            names.extend(tables.into_iter().map(|(name, _)| name.to_lowercase()));
        }
        extracted.stale |= extracted.formulas > 0 && book.is_to_be_computed();
        let cut = book.is_cut();
        let changed = cut || extracted.formulas > 0 || !alone || !looks;
        book.choose_leads(changed, ways.macros, &mut extracted)?;
        book.edit_sheets(&mut extracted);
        if let Some(known) = book.document.root.child_mut("definedNames") {
            let known = known.elements().filter_map(|name| name.attribute("name"));
            names.extend(known.map(|name| name.to_lowercase()));
        }
        let mut root = Relationships::of(&book.package, "")?;
        if let Some(root) = &mut root {
            extracted.signature = root.retain(|lead| lead.kind != "origin");
            if cut || !alone {
                // The picture of the first page may show a sheet that is not there.
                root.retain(|lead| lead.kind != "thumbnail");
            }
        }
        let types = book.part(CONTENT_TYPES)?;
        let types = types.ok_or_else(|| ReadProblem::Damaged {
            what: "the package has no content types".to_owned(),
        })?;
        let mut from = vec![(book.path.clone(), "officeDocument".to_owned())];
        for lead in root.iter().flat_map(|root| &root.all) {
            if !lead.outside {
                from.push((lead.target.clone(), lead.kind.clone()));
            }
        }
        let reached = book.reached(from, &|_| true)?;
        let mut target = Self {
            repack: Repack::default(),
            extracted,
            types,
            parts: HashSet::new(),
            reserved: HashSet::new(),
            names,
            styles: None,
            colors: match book.shared("theme") {
                Some(theme) if !alone => Colors::read(&book.package, &theme)?,
                _ => Colors::default(),
            },
            texts: book.shared("sharedStrings").map(|path| Texts {
                package: book.package.clone(),
                path,
                used: cut.then(|| uses.strings.clone()),
            }),
            more_texts: Vec::new(),
            next_text: None,
            begun_texts: None,
            begun_styles: None,
            next_table: 1 << 16,
            root,
            properties: reached
                .iter()
                .find(|(_, kind)| kind == "extended-properties")
                .map(|(path, _)| path.clone()),
            cut: cut || !alone,
            book,
        };
        target.drop_parts(&reached);
        target.edit_parts(&reached, &edit)?;
        if !alone {
            target.reserve(&reached)?;
        }
        for (path, scan) in scans {
            if !alone {
                edit.dangling = target.drop_dangling(&path)?;
            }
            if !scan.is_untouched(&edit) {
                target.write_sheet(&path.clone(), scan, edit.clone());
            }
        }
        Ok(target)
    }

    /// Keeps the names of parts that parts lead to, though they are not there, from those of other
    /// workbooks.
    fn reserve(&mut self, reached: &[(String, String)]) -> Result<(), ReadProblem> {
        for (path, _) in reached {
            let leads = Relationships::of(&self.book.package, path)?;
            let targets = leads.iter().flat_map(|leads| &leads.all);
            let inside = targets.filter(|lead| !lead.outside);
            self.reserved
                .extend(inside.map(|lead| lead.target.to_lowercase()));
        }
        Ok(())
    }

    /// Takes away from a sheet what leads to parts that are not there, and returns their identifiers.
    fn drop_dangling(&mut self, sheet: &str) -> Result<HashSet<String>, ReadProblem> {
        let Some(mut leads) = Relationships::of(&self.book.package, sheet)? else {
            return Ok(HashSet::new());
        };
        let package = &self.book.package;
        let gone = leads.split_off(|lead| lead.outside || package.place(&lead.target).is_some());
        if !gone.is_empty() {
            let path = leads.path.clone();
            self.change(&path, Change::Bytes(leads.document.into_bytes()));
        }
        Ok(gone)
    }

    /// Leaves out the parts that nothing leads to.
    fn drop_parts(&mut self, reached: &[(String, String)]) {
        let mut kept: HashSet<String> = HashSet::new();
        for (path, _) in reached {
            kept.insert(path.to_lowercase());
            kept.insert(relations_path(path).0.to_lowercase());
        }
        kept.insert(CONTENT_TYPES.to_lowercase());
        kept.insert("_rels/.rels".to_owned());
        for name in self.book.package.names() {
            let lower = name.trim_start_matches('/').to_lowercase();
            if kept.contains(&lower) {
                self.parts.insert(lower);
            } else {
                self.repack.change(name, Change::Dropped);
            }
        }
        let parts = &self.parts;
        self.types.root.retain(|element| {
            let part = element.attribute("PartName").unwrap_or_default();
            let part = part.trim_start_matches('/').to_lowercase();
            element.name() != "Override" || parts.contains(&part)
        });
    }

    /// Edits the charts, tables and pivot tables of the first workbook.
    fn edit_parts(&mut self, reached: &[(String, String)], edit: &Edit) -> Result<(), ReadProblem> {
        for (path, kind) in reached {
            if !matches!(
                kind.as_str(),
                "chart" | "chartEx" | "table" | "pivotCacheDefinition"
            ) {
                continue;
            }
            let Some(mut document) = self.book.part(path)? else {
                continue;
            };
            if edit_part(kind, &mut document, edit, &mut self.extracted) {
                self.change(path, Change::Bytes(document.into_bytes()));
            }
        }
        Ok(())
    }

    /// Writes a sheet of the first workbook with changes.
    fn write_sheet(&mut self, path: &str, scan: Scan, edit: Edit) {
        let (package, part) = (self.book.package.clone(), path.to_owned());
        let write = move |out: &mut dyn Write| scan.copy(&package, &part, &edit, out);
        self.change(path, Change::Written(Box::new(write)));
    }

    /// Leaves out parts that the part `from` does not lead to any more, with what only they lead to.
    pub(super) fn drop_from(&mut self, from: &str, gone: &[String]) -> Result<(), ReadProblem> {
        if gone.is_empty() {
            return Ok(());
        }
        let all: Vec<(String, String)> = gone
            .iter()
            .map(|path| (path.clone(), String::new()))
            .collect();
        let below = self.book.reached(all, &|_| true)?;
        let start = vec![(self.book.path.clone(), String::new())];
        let others = self.book.reached_without(start, from, gone)?;
        let kept: HashSet<String> = others.iter().map(|(path, _)| path.to_lowercase()).collect();
        for (path, _) in below
            .iter()
            .filter(|(path, _)| !kept.contains(&path.to_lowercase()))
        {
            for part in [path.clone(), relations_path(path).0] {
                self.parts.remove(&part.to_lowercase());
                self.change(&part, Change::Dropped);
            }
        }
        let parts = &self.parts;
        self.types.root.retain(|element| {
            let part = element.attribute("PartName").unwrap_or_default();
            let part = part.trim_start_matches('/').to_lowercase();
            element.name() != "Override" || parts.contains(&part)
        });
        Ok(())
    }

    /// Changes a part of the first workbook.
    pub(super) fn change(&mut self, path: &str, change: Change<'static>) {
        if let Some(name) = self.book.package.spelled(path) {
            self.repack.change(name, change);
        }
    }

    /// Says that there is a part of a type.
    pub(super) fn declare(&mut self, path: &str, content_type: &str) {
        let prefix = self.types.root.prefix().to_owned();
        let mut entry = Element::alone(format!("{prefix}Override"));
        entry.set_attribute("PartName", Some(&format!("/{path}")));
        entry.set_attribute("ContentType", Some(content_type));
        self.types.root.push(entry);
    }

    /// Says of what type parts with relationships are, unless that is said for all of them: in some
    /// packages each has an entry of its own.
    pub(super) fn declare_relations(&mut self) {
        let is_default = |entry: &Element| {
            let of = entry.attribute("Extension");
            entry.name() == "Default" && of.is_some_and(|of| of.eq_ignore_ascii_case("rels"))
        };
        if self.types.root.elements().any(is_default) {
            return;
        }
        let prefix = self.types.root.prefix().to_owned();
        let mut entry = Element::alone(format!("{prefix}Default"));
        entry.set_attribute("Extension", Some("rels"));
        entry.set_attribute("ContentType", Some(RELATIONS_TYPE));
        self.types.root.push(entry);
    }

    /// Writes all that was kept to be written last.
    pub(super) fn finish(
        mut self,
        ways: AssembleOptions,
    ) -> Result<(Repack<'static>, Extracted), ReadProblem> {
        let macros = ways.macros;
        for element in self.types.root.elements_mut() {
            let part = element.attribute("PartName").unwrap_or_default();
            if part
                .trim_start_matches('/')
                .eq_ignore_ascii_case(&self.book.path)
            {
                let now = element.attribute("ContentType").unwrap_or_default();
                match (now.as_str(), macros) {
                    (MACRO_MAIN, false) => element.set_attribute("ContentType", Some(PLAIN_MAIN)),
                    (PLAIN_MAIN, true) => element.set_attribute("ContentType", Some(MACRO_MAIN)),
                    _ => {}
                }
            }
        }
        if self.cut
            && let Some(path) = self.properties.clone()
        {
            // The list of sheets in the document's properties tells of those that are gone.
            if let Some(mut document) = self.book.part(&path)? {
                let lists = ["TitlesOfParts", "HeadingPairs"];
                document
                    .root
                    .retain(|element| !lists.contains(&element.name()));
                self.change(&path, Change::Bytes(document.into_bytes()));
            }
        }
        if let Some(texts) = self.texts.take()
            && (texts.used.is_some() || !self.more_texts.is_empty())
        {
            let (path, more) = (texts.path.clone(), std::mem::take(&mut self.more_texts));
            let write = move |out: &mut dyn Write| strings::copy(&texts, &more, out);
            self.change(&path, Change::Written(Box::new(write)));
        }
        if let Some(path) = self.begun_texts.take() {
            let more = std::mem::take(&mut self.more_texts);
            let write = move |out: &mut dyn Write| strings::begin(&more, out);
            self.repack.add(path, Change::Written(Box::new(write)));
        }
        if let Some(styles) = self.styles.take() {
            match (self.begun_styles.take(), self.book.shared("styles")) {
                (Some(path), _) => self.repack.add(path, Change::Bytes(styles.into_bytes())),
                (None, Some(path)) if styles.is_changed() => {
                    self.change(&path, Change::Bytes(styles.into_bytes()));
                }
                _ => {}
            }
        }
        if let Some(root) = self.root.take() {
            self.change(
                &root.path.clone(),
                Change::Bytes(root.document.into_bytes()),
            );
        }
        let types = std::mem::take(&mut self.types);
        self.change(CONTENT_TYPES, Change::Bytes(types.into_bytes()));
        let document = std::mem::take(&mut self.book.document);
        self.change(
            &self.book.path.clone(),
            Change::Bytes(document.into_bytes()),
        );
        let leads = std::mem::take(&mut self.book.leads.document);
        self.change(
            &self.book.leads.path.clone(),
            Change::Bytes(leads.into_bytes()),
        );
        Ok((self.repack, self.extracted))
    }
}
