//! Copies of a formatted workbook with tables and values put into them; all else stays as it is.
//!
//! The sheets that are filled are taken apart once, into rows and cells verbatim. A copy is then a
//! walk down the rows of the sheet and of the tables at the same time.

mod filling;
mod problem;
mod sheet;

use numerant_data::narrow::{fit, to_u32};
use std::collections::HashMap;
use std::io::{self, Seek, Write};
use std::path::{Path, PathBuf};
use std::sync::Mutex;

use tempfile::spooled_tempfile_in;

use self::filling::{Filling, OpenTable};
pub use self::problem::{FillError, TemplateProblem};
use self::sheet::{FormSheet, Holds};
use super::SMALL;
use super::assemble::CONTENT_TYPES;
use super::edited_workbook::EditedWorkbook;
use super::element::Element;
use super::gather::ORDER;
use super::relations::Relationships;
use super::styles::Styles;
use crate::repack::{Change, Repack};
use crate::xlsx::cell_reference::{Area, CellReference, ROWS};
use crate::xlsx::formula;
use crate::xlsx::formula::Reference;
use numerant_data::disk::OutFile;
use numerant_data::record::nearest;
use numerant_data::source::ReadProblem;
use numerant_format::sheet::{Kept, Plan};
use numerant_format::{Occupied, PutPlace};

/// A formatted workbook, and where in it something is to be put.
pub struct WorkbookTemplate {
    path: PathBuf,
    book: EditedWorkbook,
    sheets: Vec<FormSheet>,
    /// For each place: which of the sheets, and the cell.
    places: Vec<(usize, CellReference)>,
    names: Vec<String>,
    styles: Option<(String, Styles)>,
    has_chain: bool,
}

/// A table that is put somewhere.
pub struct PutTable {
    /// The number of its place.
    pub place: usize,
    /// What is above the columns.
    pub header: Option<Vec<String>>,
    /// How each column is written.
    pub plans: Vec<Plan>,
    /// Records of the table.
    pub records: u64,
    /// The file that has its records.
    pub spool: PathBuf,
}

/// Bytes of a sheet that is written that are kept in memory.
const IN_MEMORY: usize = 4 << 20;

/// Cells that an error names.
const NAMED: usize = 10;

impl WorkbookTemplate {
    /// Opens a formatted workbook and finds the places in it.
    pub fn open(path: &Path, places: &[PutPlace]) -> Result<Self, FillError> {
        let book = match EditedWorkbook::open(path) {
            Err(ReadProblem::Io(error)) => return Err(ReadProblem::Io(error).into()),
            Err(_) if !begins_as_zip(path) => return Err(TemplateProblem::OtherFormat.into()),
            book => book?,
        };
        let mut form = Self {
            path: path.to_owned(),
            styles: None,
            has_chain: book.shared("calcChain").is_some(),
            sheets: Vec::new(),
            places: Vec::new(),
            names: places.iter().map(ToString::to_string).collect(),
            book,
        };
        if let Some(styles) = form.book.shared("styles") {
            let bytes = form.book.package.bytes(&styles, SMALL)?.unwrap_or_default();
            form.styles = Some((styles.clone(), Styles::parse(bytes, &styles)?));
        }
        for place in places {
            let found = form.find(place)?;
            form.places.push(found);
        }
        Ok(form)
    }

    /// Whether the template has macros.
    pub fn has_macros(&self) -> bool {
        self.book.shared("vbaProject").is_some()
    }

    /// The sheet and cell of a place.
    fn find(&mut self, place: &PutPlace) -> Result<(usize, CellReference), FillError> {
        let (sheet, cell) = match place {
            PutPlace::Cell { sheet, cell } => {
                let place = CellReference::parse(cell);
                (
                    sheet.clone(),
                    place.ok_or_else(|| TemplateProblem::Outside(cell.clone()))?,
                )
            }
            PutPlace::Name(name) => self.named(name)?,
        };
        let folded = sheet.to_lowercase();
        let listed = self
            .book
            .sheets
            .iter()
            .find(|listed| listed.name.to_lowercase() == folded);
        let Some(listed) = listed.filter(|listed| listed.has_cells) else {
            let sheets = self.book.sheets.iter().filter(|listed| listed.has_cells);
            let sheets: Vec<String> = sheets.map(|listed| listed.name.clone()).collect();
            return Err(FillError::Form(TemplateProblem::NoSheet {
                nearest: nearest(&sheet, sheets.iter().map(String::as_str)).map(str::to_owned),
                sheet,
                sheets,
            }));
        };
        let (name, part) = (listed.name.clone(), listed.path.clone());
        let known = self.sheets.iter().position(|sheet| sheet.part == part);
        let number = match known {
            Some(number) => number,
            None => {
                self.sheets.push(FormSheet::read(&self.book, name, part)?);
                self.sheets.len() - 1
            }
        };
        Ok((number, cell))
    }

    /// The sheet and the first cell that a name leads to.
    fn named(&self, wanted: &str) -> Result<(String, CellReference), TemplateProblem> {
        let names = self.book.document.root.child("definedNames");
        let names = names.into_iter().flat_map(Element::elements);
        let known: Vec<(String, String)> = names
            .map(|name| (name.attribute("name").unwrap_or_default(), name.text()))
            .collect();
        let Some((_, formula)) = known
            .iter()
            .find(|(name, _)| name.eq_ignore_ascii_case(wanted))
        else {
            let names = known.iter().map(|(name, _)| name.as_str());
            return Err(TemplateProblem::NoName {
                name: wanted.to_owned(),
                nearest: nearest(wanted, names).map(str::to_owned),
            });
        };
        let (cells, _) = formula::cells(formula);
        match cells.first().map(|cells| (&cells.sheet, cells.first.place)) {
            Some((Some(Reference::Sheets(sheet, None)), place)) => Ok((sheet.clone(), place)),
            _ => Err(TemplateProblem::NameOfNoCell {
                name: wanted.to_owned(),
                formula: formula.clone(),
            }),
        }
    }

    /// The area of a table.
    fn area(&self, table: &PutTable) -> Result<Area, TemplateProblem> {
        let (_, first) = self.places[table.place];
        let rows = table.records + u64::from(table.header.is_some());
        let columns = table.plans.len();
        let last_row = u64::from(first.row) + rows.max(1) - 1;
        if last_row > u64::from(ROWS) {
            return Err(TemplateProblem::TooManyRecords {
                records: table.records,
                place: self.names[table.place].clone(),
            });
        }
        let last_column = first.column as usize + columns.max(1) - 1;
        if last_column >= crate::xlsx::cell_reference::COLUMNS as usize {
            return Err(TemplateProblem::TooManyColumns {
                columns,
                place: self.names[table.place].clone(),
            });
        }
        Ok(Area {
            first,
            last: CellReference {
                row: fit(last_row),
                column: to_u32(last_column),
            },
        })
    }

    /// Refuses what lies over each other, in merged cells, or over what is there.
    fn check(&self, areas: &[(usize, Area)], occupied: Occupied) -> Result<bool, TemplateProblem> {
        let mut formulas = false;
        let mut held: Vec<String> = Vec::new();
        let mut count = 0;
        for (number, (place, area)) in areas.iter().enumerate() {
            let (sheet, _) = self.places[*place];
            for (other, over) in &areas[..number] {
                if self.places[*other].0 == sheet && area.meets(over) {
                    return Err(TemplateProblem::Overlap {
                        first: self.names[*other].clone(),
                        second: self.names[*place].clone(),
                        at: CellReference {
                            row: area.first.row.max(over.first.row),
                            column: area.first.column.max(over.first.column),
                        }
                        .to_string(),
                    });
                }
            }
            let sheet = &self.sheets[sheet];
            let alone = area.first == area.last;
            let covers =
                |merged: &&Area| merged.meets(area) && !(alone && merged.first == area.first);
            if let Some(merged) = sheet.merged.iter().find(covers) {
                let at = CellReference {
                    row: area.first.row.max(merged.first.row),
                    column: area.first.column.max(merged.first.column),
                };
                return Err(TemplateProblem::Merged {
                    at: format!("{}!{at}", sheet.name),
                    merged: merged.to_string(),
                });
            }
            for (&row, form) in sheet.rows.range(area.first.row..=area.last.row) {
                for cell in &form.cells {
                    let place = CellReference {
                        row,
                        column: cell.column,
                    };
                    if cell.holds == Holds::Nothing || !area.holds(place) {
                        continue;
                    }
                    let shown = format!("{}!{place}", sheet.name);
                    if cell.holds == Holds::SharedFormula {
                        return Err(TemplateProblem::SharedFormula(shown));
                    }
                    formulas |= cell.holds == Holds::Formula;
                    count += 1;
                    if held.len() < NAMED {
                        held.push(shown);
                    }
                }
            }
        }
        if count > 0 && occupied == Occupied::Refuse {
            return Err(TemplateProblem::Occupied { cells: held, count });
        }
        Ok(formulas)
    }

    /// Writes a copy with tables and values, each value with the number of its place, to `to`.
    pub fn write(
        &self,
        tables: &[PutTable],
        values: &[(usize, String)],
        occupied: Occupied,
        style_down: bool,
        to: OutFile,
    ) -> Result<(), FillError> {
        let mut areas = Vec::new();
        for table in tables {
            areas.push((table.place, self.area(table)?));
        }
        for (place, _) in values {
            let (_, cell) = self.places[*place];
            let (first, last) = (cell, cell);
            areas.push((*place, Area { first, last }));
        }
        let formulas = self.check(&areas, occupied)?;
        let mut styles = self.styles.as_ref().map(|(_, styles)| styles.clone());
        let mut repack = Repack::default();
        let change = |repack: &mut Repack<'_>, path: &str, change| {
            if let Some(name) = self.book.package.spelled(path) {
                repack.change(name, change);
            }
        };
        for (number, sheet) in self.sheets.iter().enumerate() {
            let of_sheet = |place: usize| self.places[place].0 == number;
            let mut filling = Filling {
                sheet,
                styles: &mut styles,
                style_down,
                areas: areas
                    .iter()
                    .filter(|(place, _)| of_sheet(*place))
                    .map(|(_, area)| *area)
                    .collect(),
                derived: HashMap::new(),
            };
            if filling.areas.is_empty() {
                continue;
            }
            let mut open = Vec::new();
            for (table, (_, area)) in tables.iter().zip(&areas) {
                if of_sheet(table.place) {
                    let rows =
                        Kept::open(&table.spool, table.plans.len()).map_err(FillError::Write)?;
                    open.push(OpenTable {
                        table,
                        area: *area,
                        rows,
                    });
                }
            }
            let single = values.iter().filter(|(place, _)| of_sheet(*place));
            let single = single.map(|(place, value)| (self.places[*place].1, value.as_str()));
            // Large sheets wait on the disk until the package is written.
            let folder = to.path().parent().unwrap_or(Path::new("."));
            let mut kept = spooled_tempfile_in(IN_MEMORY, folder);
            filling
                .write(open, single.collect(), &mut kept)
                .map_err(FillError::Write)?;
            let kept = Mutex::new(kept);
            let write = move |out: &mut dyn Write| -> io::Result<()> {
                let mut kept = kept
                    .lock()
                    .map_err(|_| io::Error::other("a thread failed"))?;
                kept.rewind()?;
                io::copy(&mut *kept, out).map(drop)
            };
            change(&mut repack, &sheet.part, Change::Written(Box::new(write)));
        }
        if let (Some(styles), Some((path, _))) = (styles, &self.styles)
            && styles.is_changed()
        {
            change(&mut repack, path, Change::Bytes(styles.into_bytes()));
        }
        self.set_to_compute(&mut repack);
        self.drop_stale(&mut repack, formulas)?;
        repack
            .write(&self.book.package, to)
            .map_err(FillError::Write)
    }

    /// Has all formulas computed when the copy is opened.
    fn set_to_compute(&self, repack: &mut Repack<'_>) {
        let mut document = self.book.document.clone();
        let prefix = document.root.prefix().to_owned();
        let settings = document.root.child_in_order("calcPr", &ORDER, &prefix);
        settings.set_attribute("fullCalcOnLoad", Some("1"));
        if let Some(name) = self.book.package.spelled(&self.book.path) {
            repack.change(name, Change::Bytes(document.into_bytes()));
        }
    }

    /// Leaves out the order of computing, where a formula is gone, and a signature, which does not hold.
    fn drop_stale(&self, repack: &mut Repack<'_>, formulas: bool) -> Result<(), ReadProblem> {
        let package = &self.book.package;
        let mut dropped: Vec<String> = Vec::new();
        if formulas && self.has_chain {
            let mut leads = self.book.leads.clone();
            dropped.extend(leads.of_kind("calcChain").map(|lead| lead.target.clone()));
            leads.retain(|lead| lead.kind != "calcChain");
            if let Some(name) = package.spelled(&leads.path) {
                repack.change(name, Change::Bytes(leads.document.into_bytes()));
            }
        }
        if let Some(mut root) = Relationships::of(package, "")? {
            let signed: Vec<String> = root
                .of_kind("origin")
                .map(|lead| lead.target.clone())
                .collect();
            if !signed.is_empty() {
                let parts = signed
                    .into_iter()
                    .map(|path| (path, String::new()))
                    .collect();
                let parts = self.book.reached(parts, &|_| true)?;
                for (path, _) in parts {
                    dropped.push(crate::xlsx::parts::relations_path(&path).0);
                    dropped.push(path);
                }
                root.retain(|lead| lead.kind != "origin");
                if let Some(name) = package.spelled(&root.path) {
                    repack.change(name, Change::Bytes(root.document.into_bytes()));
                }
            }
        }
        if dropped.is_empty() {
            return Ok(());
        }
        if let Some(mut types) = self.book.part(CONTENT_TYPES)? {
            types.root.retain(|element| {
                let part = element.attribute("PartName").unwrap_or_default();
                let part = part.trim_start_matches('/');
                !dropped.iter().any(|gone| gone.eq_ignore_ascii_case(part))
            });
            repack.change(CONTENT_TYPES, Change::Bytes(types.into_bytes()));
        }
        for path in dropped {
            if let Some(name) = package.spelled(&path) {
                repack.change(name, Change::Dropped);
            }
        }
        Ok(())
    }

    /// Where the template is.
    pub fn path(&self) -> &Path {
        &self.path
    }
}

fn begins_as_zip(path: &Path) -> bool {
    use std::io::Read;
    let mut start = [0; 2];
    let read = std::fs::File::open(path).and_then(|mut file| file.read_exact(&mut start));
    read.is_ok() && start == *b"PK"
}
