//! Copies of a formatted workbook with tables and values put into them; all else stays as it is.
//!
//! The sheets that are filled are taken apart once, into rows and cells as they stand. A copy is then a
//! walk down the rows of the sheet and of the tables at the same time.

use std::collections::{BTreeMap, HashMap};
use std::io::{self, Seek, Write};
use std::path::{Path, PathBuf};
use std::sync::Mutex;

use quick_xml::events::{BytesStart, Event};
use tempfile::spooled_tempfile_in;

use super::SMALL;
use super::assemble::CONTENT_TYPES;
use super::book::Book;
use super::element::{Document, Element, Node};
use super::formula::{self, Reference};
use super::gather::ORDER;
use super::place::{Area, Place, ROWS};
use super::relations::Leads;
use super::styles::Styles;
use crate::format::markup::push_raw;
use crate::format::repack::{Change, Repack};
use crate::format::sheet::{Cell, CellFormat, Kept, Plan, looks_typed};
use crate::format::xlsx::write::push_content;
use crate::job::{Occupied, PutPlace};
use crate::record::nearest;
use crate::source::ReadProblem;

/// A formatted workbook, and where in it something is to be put.
pub(crate) struct Form {
    path: PathBuf,
    book: Book,
    sheets: Vec<FormSheet>,
    /// For each place: which of the sheets, and the cell.
    places: Vec<(usize, Place)>,
    names: Vec<String>,
    styles: Option<(String, Styles)>,
    has_chain: bool,
}

/// A sheet into which something is put.
struct FormSheet {
    name: String,
    part: String,
    /// What stands before the rows and behind them.
    head: String,
    tail: String,
    prefix: String,
    rows: BTreeMap<u32, FormRow>,
    merged: Vec<Area>,
    /// The styles of columns: first and last, and the style.
    columns: Vec<(u32, u32, u32)>,
}

/// A row as it stands.
struct FormRow {
    /// The tag without `<`, `>` and what counts its cells.
    tag: String,
    style: u32,
    cells: Vec<FormCell>,
}

/// A cell as it stands.
struct FormCell {
    column: u32,
    text: String,
    style: Option<u32>,
    /// Why it cannot give way in silence.
    holds: Holds,
}

/// What is in a cell.
#[derive(Clone, Copy, PartialEq, Eq)]
enum Holds {
    Nothing,
    Value,
    Formula,
    /// A formula that other cells need.
    SharedFormula,
}

/// A table that is put somewhere.
pub(crate) struct PutTable {
    /// The number of its place.
    pub(crate) place: usize,
    /// What stands above the columns.
    pub(crate) header: Option<Vec<String>>,
    /// How each column is written.
    pub(crate) plans: Vec<Plan>,
    pub(crate) records: u64,
    /// The file that has its records.
    pub(crate) spool: PathBuf,
}

/// What is wrong with a formatted workbook, or with what is to be put into it.
#[derive(Clone, Debug, PartialEq, Eq, thiserror::Error)]
#[non_exhaustive]
pub enum FormProblem {
    /// Only values are read of its format.
    #[error("a template is an .xlsx or .xlsm file, unpacked")]
    OtherFormat,
    /// It has no such sheet.
    #[error("there is no sheet '{sheet}'{}; sheets: {}", did_you_mean(.nearest), .sheets.join(", "))]
    NoSheet {
        /// The sheet.
        sheet: String,
        /// The one that is called nearly so.
        nearest: Option<String>,
        /// All that it has.
        sheets: Vec<String>,
    },
    /// It has no such name.
    #[error("there is no named range '{name}'{}; a cell is written as Sheet!B6", did_you_mean(.nearest))]
    NoName {
        /// The name.
        name: String,
        /// The one that is called nearly so.
        nearest: Option<String>,
    },
    /// A name that leads to no cell.
    #[error("the name '{name}' leads to no cell: {formula}")]
    NameOfNoCell {
        /// The name.
        name: String,
        /// What it stands for.
        formula: String,
    },
    /// A cell that no sheet has.
    #[error("'{0}' is outside of the sheet, whose last cell is XFD1048576")]
    Outside(String),
    /// More records than there are rows.
    #[error("{records} records below {place} do not fit, as a sheet has {ROWS} rows")]
    TooManyRecords {
        /// How many.
        records: u64,
        /// The first cell.
        place: String,
    },
    /// More columns than there are.
    #[error("{columns} columns from {place} on do not fit, as a sheet has 16384 columns")]
    TooManyColumns {
        /// How many.
        columns: usize,
        /// The first cell.
        place: String,
    },
    /// What is put would cover something.
    #[error("{count} cell{} that would be filled hold{} something: {}", if *.count == 1 { "" } else { "s" }, if *.count == 1 { "s" } else { "" }, .cells.join(", "))]
    Occupied {
        /// The first of them.
        cells: Vec<String>,
        /// How many.
        count: u64,
    },
    /// A formula that stands in several cells would lose its first.
    #[error("{0} holds a formula that other cells share, and cannot be replaced")]
    SharedFormula(String),
    /// Two things in one place.
    #[error("{first} and {second} would lie over each other at {at}")]
    Overlap {
        /// The place of one.
        first: String,
        /// The place of the other.
        second: String,
        /// Where.
        at: String,
    },
    /// Merged cells show only the first.
    #[error("{at} lies in the merged cells {merged}, of which only the first is shown")]
    Merged {
        /// The cell.
        at: String,
        /// The merged cells.
        merged: String,
    },
    /// Macros that the output cannot have.
    #[error("the template has macros; end --name with .xlsm")]
    Macros,
    /// Files that no table is for.
    #[error("{count} file{} no {{.records}} or {{.table}} of --put: {}", if *.count == 1 { " fits" } else { "s fit" }, .files.join(", "))]
    NoTable {
        /// The first of them.
        files: Vec<String>,
        /// How many.
        count: u64,
    },
    /// A file that several tables are for.
    #[error("{file} fits {first} and {second}; its records can go to one of them")]
    TwoTables {
        /// The file.
        file: String,
        /// The place of one table.
        first: String,
        /// The place of the other.
        second: String,
    },
    /// Records that no table takes.
    #[error(
        "{records} records would be lost: --put puts only values, and they are those of one record; put a table, or let --name tell the records apart"
    )]
    OnlyValues {
        /// How many share the copy.
        records: u64,
    },
}

impl FormProblem {
    /// What to do about it.
    pub fn hint(&self) -> Option<&'static str> {
        match self {
            Self::Occupied { .. } => Some(
                "--occupied replace puts the new in the place of the old; or choose another cell",
            ),
            Self::OtherFormat => Some("save it as .xlsx in a spreadsheet program"),
            Self::NoTable { .. } => Some("--pick and --skip choose files by their names"),
            _ => None,
        }
    }
}

fn did_you_mean(nearest: &Option<String>) -> String {
    nearest.as_ref().map_or_else(String::new, |nearest| {
        format!(" (did you mean '{nearest}'?)")
    })
}

/// Why a copy could not be filled.
#[derive(Debug)]
pub(crate) enum FillError {
    /// The template cannot be read.
    Read(ReadProblem),
    /// What is to be put does not fit it.
    Form(FormProblem),
    /// The copy cannot be written.
    Write(io::Error),
}

impl From<ReadProblem> for FillError {
    fn from(problem: ReadProblem) -> Self {
        Self::Read(problem)
    }
}

impl From<FormProblem> for FillError {
    fn from(problem: FormProblem) -> Self {
        Self::Form(problem)
    }
}

/// Bytes of a sheet that is written that are kept in memory, and that are handed on at a time.
const IN_MEMORY: usize = 4 << 20;
const FULL: usize = 1 << 17;

/// Cells that an error names.
const NAMED: usize = 10;

impl Form {
    /// Opens a formatted workbook and finds the places in it.
    pub(crate) fn open(path: &Path, places: &[PutPlace]) -> Result<Self, FillError> {
        let book = match Book::open(path) {
            Err(ReadProblem::Io(error)) => return Err(ReadProblem::Io(error).into()),
            Err(_) if !begins_as_zip(path) => return Err(FormProblem::OtherFormat.into()),
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
    pub(crate) fn has_macros(&self) -> bool {
        self.book.shared("vbaProject").is_some()
    }

    /// The sheet and cell of a place.
    fn find(&mut self, place: &PutPlace) -> Result<(usize, Place), FillError> {
        let (sheet, cell) = match place {
            PutPlace::Cell { sheet, cell } => {
                let place = Place::parse(cell);
                (
                    sheet.clone(),
                    place.ok_or_else(|| FormProblem::Outside(cell.clone()))?,
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
            return Err(FillError::Form(FormProblem::NoSheet {
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
    fn named(&self, wanted: &str) -> Result<(String, Place), FormProblem> {
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
            return Err(FormProblem::NoName {
                name: wanted.to_owned(),
                nearest: nearest(wanted, names).map(str::to_owned),
            });
        };
        let (cells, _) = formula::cells(formula);
        match cells.first().map(|cells| (&cells.sheet, cells.first.place)) {
            Some((Some(Reference::Sheets(sheet, None)), place)) => Ok((sheet.clone(), place)),
            _ => Err(FormProblem::NameOfNoCell {
                name: wanted.to_owned(),
                formula: formula.clone(),
            }),
        }
    }

    /// The area of a table.
    fn area(&self, table: &PutTable) -> Result<Area, FormProblem> {
        let (_, first) = self.places[table.place];
        let rows = table.records + u64::from(table.header.is_some());
        let columns = table.plans.len();
        let last_row = u64::from(first.row) + rows.max(1) - 1;
        if last_row > u64::from(ROWS) {
            return Err(FormProblem::TooManyRecords {
                records: table.records,
                place: self.names[table.place].clone(),
            });
        }
        let last_column = first.column as usize + columns.max(1) - 1;
        if last_column >= super::place::COLUMNS as usize {
            return Err(FormProblem::TooManyColumns {
                columns,
                place: self.names[table.place].clone(),
            });
        }
        Ok(Area {
            first,
            last: Place {
                row: last_row as u32,
                column: last_column as u32,
            },
        })
    }

    /// Refuses what lies over each other, in merged cells, or over what is there.
    fn check(&self, areas: &[(usize, Area)], occupied: Occupied) -> Result<bool, FormProblem> {
        let mut formulas = false;
        let mut held: Vec<String> = Vec::new();
        let mut count = 0;
        for (number, (place, area)) in areas.iter().enumerate() {
            let (sheet, _) = self.places[*place];
            for (other, over) in &areas[..number] {
                if self.places[*other].0 == sheet && area.meets(over) {
                    return Err(FormProblem::Overlap {
                        first: self.names[*other].clone(),
                        second: self.names[*place].clone(),
                        at: Place {
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
                let at = Place {
                    row: area.first.row.max(merged.first.row),
                    column: area.first.column.max(merged.first.column),
                };
                return Err(FormProblem::Merged {
                    at: format!("{}!{at}", sheet.name),
                    merged: merged.to_string(),
                });
            }
            for (&row, form) in sheet.rows.range(area.first.row..=area.last.row) {
                for cell in &form.cells {
                    let place = Place {
                        row,
                        column: cell.column,
                    };
                    if cell.holds == Holds::Nothing || !area.holds(place) {
                        continue;
                    }
                    let shown = format!("{}!{place}", sheet.name);
                    if cell.holds == Holds::SharedFormula {
                        return Err(FormProblem::SharedFormula(shown));
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
            return Err(FormProblem::Occupied { cells: held, count });
        }
        Ok(formulas)
    }

    /// Writes a copy with tables and values, each value with the number of its place, to `to`.
    pub(crate) fn write(
        &self,
        tables: &[PutTable],
        values: &[(usize, String)],
        occupied: Occupied,
        style_down: bool,
        to: &Path,
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
            let folder = to.parent().unwrap_or(Path::new("."));
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
        if let Some(mut root) = Leads::of(package, "")? {
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
                    dropped.push(crate::format::xlsx::parts::relations_path(&path).0);
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
    pub(crate) fn path(&self) -> &Path {
        &self.path
    }
}

fn begins_as_zip(path: &Path) -> bool {
    use std::io::Read;
    let mut start = [0; 2];
    let read = std::fs::File::open(path).and_then(|mut file| file.read_exact(&mut start));
    read.is_ok() && start == *b"PK"
}

impl FormSheet {
    fn read(book: &Book, name: String, part: String) -> Result<Self, ReadProblem> {
        // It is held in memory, so it must not be too large.
        book.package.bytes(&part, SMALL)?;
        let mut sheet = Self {
            name,
            part,
            head: String::new(),
            tail: String::new(),
            prefix: String::new(),
            rows: BTreeMap::new(),
            merged: Vec::new(),
            columns: Vec::new(),
        };
        let mut reading = Reading::default();
        let place = sheet.part.clone();
        book.package
            .visit(&place, &mut |event| sheet.take(&event, &mut reading))
            .map_err(|error| match error.downcast::<ReadProblem>() {
                Ok(problem) => problem,
                Err(error) => ReadProblem::Io(error),
            })?;
        Ok(sheet)
    }

    fn take(&mut self, event: &Event<'_>, reading: &mut Reading) -> io::Result<()> {
        match event {
            Event::Start(tag) | Event::Empty(tag) => {
                let closes = matches!(event, Event::Empty(_));
                match tag.local_name().as_ref() {
                    "sheetData" => {
                        let name = tag.name().as_ref().to_owned();
                        self.prefix = name
                            .strip_suffix("sheetData")
                            .unwrap_or_default()
                            .to_owned();
                        self.head.push_str(&format!("<{}>", tag.as_ref()));
                        self.tail.push_str(&format!("</{name}>"));
                        reading.inside = !closes;
                        reading.behind = closes;
                        return Ok(());
                    }
                    "row" if reading.inside && reading.cell.is_none() => {
                        reading.row = number(tag, "r").unwrap_or(reading.row + 1);
                        reading.column = 0;
                        let row = FormRow {
                            tag: without(tag, &["spans", "r"]),
                            style: number(tag, "s").unwrap_or(0),
                            cells: Vec::new(),
                        };
                        self.rows.insert(reading.row, row);
                        return Ok(());
                    }
                    "c" if reading.inside && reading.cell.is_none() => {
                        let said = attribute(tag, "r").and_then(|place| Place::parse(&place));
                        let column = said.map_or(reading.column, |place| place.column);
                        reading.column = column + 1;
                        let cell = FormCell {
                            column,
                            text: raw(event),
                            style: number(tag, "s"),
                            holds: Holds::Nothing,
                        };
                        match closes {
                            true => self.push(cell, reading.row),
                            false => reading.cell = Some(cell),
                        }
                        return Ok(());
                    }
                    "f" => {
                        if let Some(cell) = &mut reading.cell {
                            let kind = attribute(tag, "t").unwrap_or_default();
                            let area = attribute(tag, "ref").and_then(|area| Area::parse(&area));
                            let wide = area.is_some_and(|area| area.first != area.last);
                            cell.holds = match kind.as_str() {
                                "shared" | "array" | "dataTable" if wide => Holds::SharedFormula,
                                _ => Holds::Formula,
                            };
                        }
                    }
                    "v" | "is" if !closes => {
                        if let Some(cell) = reading
                            .cell
                            .as_mut()
                            .filter(|cell| cell.holds == Holds::Nothing)
                        {
                            cell.holds = Holds::Value;
                        }
                    }
                    "mergeCell" => {
                        let area = attribute(tag, "ref").and_then(|area| Area::parse(&area));
                        self.merged.extend(area);
                    }
                    "col" => {
                        let style = number(tag, "style").unwrap_or(0);
                        if let (Some(first), Some(last)) = (number(tag, "min"), number(tag, "max"))
                        {
                            self.columns.push((first, last, style));
                        }
                    }
                    _ => {}
                }
            }
            Event::End(tag) => match tag.local_name().as_ref() {
                "sheetData" if reading.inside => {
                    reading.inside = false;
                    reading.behind = true;
                    return Ok(());
                }
                "row" if reading.inside && reading.cell.is_none() => return Ok(()),
                "c" if reading.cell.is_some() => {
                    if let Some(mut cell) = reading.cell.take() {
                        cell.text.push_str(&raw(event));
                        self.push(cell, reading.row);
                    }
                    return Ok(());
                }
                _ => {}
            },
            Event::Eof => return Ok(()),
            _ => {}
        }
        let text = raw(event);
        match (&mut reading.cell, reading.inside, reading.behind) {
            (Some(cell), ..) => cell.text.push_str(&text),
            // Nothing that means anything stands between rows.
            (None, true, _) => {}
            (None, false, true) => self.tail.push_str(&text),
            (None, false, false) => self.head.push_str(&text),
        }
        Ok(())
    }

    fn push(&mut self, cell: FormCell, row: u32) {
        if let Some(row) = self.rows.get_mut(&row) {
            row.cells.push(cell);
        }
    }

    /// The style of a column.
    fn column_style(&self, column: u32) -> u32 {
        let of = self
            .columns
            .iter()
            .find(|(first, last, _)| (*first..=*last).contains(&(column + 1)));
        of.map_or(0, |(_, _, style)| *style)
    }
}

/// How far a sheet is read.
#[derive(Default)]
struct Reading {
    inside: bool,
    behind: bool,
    row: u32,
    column: u32,
    cell: Option<FormCell>,
}

/// An event as it stands.
fn raw(event: &Event<'_>) -> String {
    let mut writer = quick_xml::Writer::new(Vec::new());
    // Writing to memory does not fail.
    let _ = writer.write_event(event.clone());
    String::from_utf8(writer.into_inner()).unwrap_or_default()
}

fn attribute(tag: &BytesStart<'_>, name: &str) -> Option<String> {
    crate::format::markup::plain_attribute(tag, name)
}

fn number(tag: &BytesStart<'_>, name: &str) -> Option<u32> {
    attribute(tag, name)?.parse().ok()
}

/// A tag's content without some attributes.
fn without(tag: &BytesStart<'_>, names: &[&str]) -> String {
    let mut new = BytesStart::new(tag.name().as_ref().to_owned());
    for attribute in tag.attributes().with_checks(false).flatten() {
        let key = attribute.key.as_ref();
        if !names.contains(&key) {
            push_raw(&mut new, key, &attribute.value);
        }
    }
    new.as_ref().to_owned()
}

/// A table whose records are being written.
struct OpenTable<'a> {
    table: &'a PutTable,
    area: Area,
    rows: Kept,
}

/// A sheet that is being filled.
struct Filling<'a> {
    sheet: &'a FormSheet,
    styles: &'a mut Option<Styles>,
    style_down: bool,
    areas: Vec<Area>,
    /// Styles with another number format: of a style and a format.
    derived: HashMap<(u32, CellFormat), u32>,
}

impl Filling<'_> {
    fn write(
        &mut self,
        mut tables: Vec<OpenTable<'_>>,
        mut values: Vec<(Place, &str)>,
        kept: &mut dyn Write,
    ) -> io::Result<()> {
        let mut out = self.head().into_bytes();
        values.sort_by_key(|(place, _)| *place);
        let mut new: Vec<(u32, Vec<u8>)> = Vec::new();
        let mut next = 1;
        loop {
            // The next row in which anything stands.
            let own = self.sheet.rows.range(next..).next().map(|(row, _)| *row);
            let of_tables = tables.iter().filter(|table| table.area.last.row >= next);
            let of_tables = of_tables.map(|table| table.area.first.row.max(next)).min();
            let of_values = values
                .iter()
                .map(|(place, _)| place.row)
                .filter(|row| *row >= next)
                .min();
            let Some(row) = [own, of_tables, of_values].into_iter().flatten().min() else {
                break;
            };
            next = row + 1;
            new.clear();
            for open in &mut tables {
                if (open.area.first.row..=open.area.last.row).contains(&row) {
                    self.table_row(open, row, &mut new)?;
                }
            }
            for (place, value) in values.iter().filter(|(place, _)| place.row == row) {
                let plan = crate::format::sheet::plan_of(value);
                let cell = plan.0.cell(plan.1, value);
                let style = self.style(*place, place.row);
                new.push((place.column, self.cell(*place, style, cell)));
            }
            new.sort_by_key(|(column, _)| *column);
            self.write_row(row, &new, &tables, &mut out);
            if out.len() > FULL {
                kept.write_all(&out)?;
                out.clear();
            }
        }
        out.extend_from_slice(self.sheet.tail.as_bytes());
        kept.write_all(&out)
    }

    /// What stands before the rows, with the area in which anything stands.
    fn head(&self) -> String {
        let Ok(mut document) = Document::parse(
            format!("{}{}", self.sheet.head, self.sheet.tail).into_bytes(),
            &self.sheet.part,
        ) else {
            return self.sheet.head.clone();
        };
        let Some(dimension) = document.root.child_mut("dimension") else {
            return self.sheet.head.clone();
        };
        let known = dimension
            .attribute("ref")
            .and_then(|area| Area::parse(&area));
        let Some(mut all) = known else {
            return self.sheet.head.clone();
        };
        for area in &self.areas {
            all.first.row = all.first.row.min(area.first.row);
            all.first.column = all.first.column.min(area.first.column);
            all.last.row = all.last.row.max(area.last.row);
            all.last.column = all.last.column.max(area.last.column);
        }
        dimension.set_attribute("ref", Some(&all.to_string()));
        const MARK: &str = "\u{e000}";
        if let Some(data) = document.root.child_mut("sheetData") {
            data.children.push(Node::Other(MARK.to_owned()));
        }
        let text = String::from_utf8(document.into_bytes()).unwrap_or_default();
        let head = text.split_once(MARK).map(|(head, _)| head.to_owned());
        head.unwrap_or_else(|| self.sheet.head.clone())
    }

    /// The cells of a table in a row.
    fn table_row(
        &mut self,
        open: &mut OpenTable<'_>,
        row: u32,
        new: &mut Vec<(u32, Vec<u8>)>,
    ) -> io::Result<()> {
        let first = open.area.first;
        let place = |column: usize| Place {
            row,
            column: first.column + column as u32,
        };
        if let Some(header) = open.table.header.as_ref().filter(|_| row == first.row) {
            for (column, text) in header.iter().enumerate() {
                let cell = if text.is_empty() {
                    Cell::Blank
                } else {
                    Cell::Text(text)
                };
                let style = self.style(place(column), row);
                new.push((place(column).column, self.cell(place(column), style, cell)));
            }
            return Ok(());
        }
        if open.table.records == 0 {
            return Ok(());
        }
        open.rows.read()?;
        let from = match self.style_down {
            true => first.row + u32::from(open.table.header.is_some()),
            false => row,
        };
        for (column, plan) in open.table.plans.iter().enumerate() {
            let (class, value) = open.rows.value(column);
            let style = self.style(place(column), from);
            let cell = plan.cell(class, value);
            new.push((place(column).column, self.cell(place(column), style, cell)));
        }
        Ok(())
    }

    /// The style of a cell: its own in the row `from`, or that of this row or its column.
    fn style(&self, place: Place, from: u32) -> u32 {
        let row = self.sheet.rows.get(&from);
        let cell = row.and_then(|row| row.cells.iter().find(|cell| cell.column == place.column));
        match (cell.and_then(|cell| cell.style), row) {
            (Some(style), _) => style,
            (None, Some(row)) if row.style > 0 => row.style,
            _ => self.sheet.column_style(place.column),
        }
    }

    /// A cell as text.
    fn cell(&mut self, place: Place, style: u32, cell: Cell<'_>) -> Vec<u8> {
        let format = match cell {
            Cell::Blank => CellFormat::General,
            Cell::Text(text) if looks_typed(text) => CellFormat::Text,
            Cell::Text(_) => CellFormat::General,
            Cell::Number(_, format) | Cell::Moment(_, _, format) | Cell::Boolean(_, format) => {
                format
            }
        };
        let style = match format {
            CellFormat::General => style,
            format => self.derived(style, format),
        };
        let prefix = &self.sheet.prefix;
        let mut out = format!("<{prefix}c r=\"{place}\"").into_bytes();
        if style > 0 {
            out.extend_from_slice(format!(" s=\"{style}\"").as_bytes());
        }
        push_content(&cell, None, prefix, &mut out);
        out
    }

    /// A style with a number format, unless it has one.
    fn derived(&mut self, style: u32, format: CellFormat) -> u32 {
        if let Some(known) = self.derived.get(&(style, format)) {
            return *known;
        }
        let Some(styles) = self.styles.as_mut() else {
            return style;
        };
        let code = format.code();
        let new = match styles.is_general(style) && code != "General" {
            true => styles.with_format(style, &code),
            false => style,
        };
        self.derived.insert((style, format), new);
        new
    }

    fn write_row(
        &self,
        row: u32,
        new: &[(u32, Vec<u8>)],
        tables: &[OpenTable<'_>],
        out: &mut Vec<u8>,
    ) {
        let prefix = &self.sheet.prefix;
        let own = self.sheet.rows.get(&row);
        let like = tables.iter().find(|open| {
            let first = open.area.first.row + u32::from(open.table.header.is_some());
            self.style_down && (first..=open.area.last.row).contains(&row)
        });
        let like = like.map(|open| open.area.first.row + u32::from(open.table.header.is_some()));
        let like = like.and_then(|first| self.sheet.rows.get(&first));
        let tag = own
            .or(like)
            .map_or_else(|| format!("{prefix}row"), |row| row.tag.clone());
        let name = tag.split(' ').next().unwrap_or_default();
        let attributes = &tag[name.len()..];
        out.extend_from_slice(format!("<{name} r=\"{row}\"{attributes}>").as_bytes());
        let mut put = new.iter().peekable();
        for cell in own.iter().flat_map(|row| &row.cells) {
            while let Some((_, text)) = put.next_if(|(column, _)| *column < cell.column) {
                out.extend_from_slice(text);
            }
            match put.next_if(|(column, _)| *column == cell.column) {
                Some((_, text)) => out.extend_from_slice(text),
                None => out.extend_from_slice(cell.text.as_bytes()),
            }
        }
        for (_, text) in put {
            out.extend_from_slice(text);
        }
        // Written to memory, it cannot fail.
        let _ = write!(out, "</{name}>");
    }
}
