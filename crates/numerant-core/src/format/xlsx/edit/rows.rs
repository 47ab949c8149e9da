//! Cuts a sheet by its rows: each part has the block above the records as it is, and of the rows below it
//! those that are its own, with all that belongs to them.
//!
//! # To whoever changes this
//!
//! A part must not hold what belongs to others. That is why texts are counted anew for each part, why
//! links and comments of other rows are taken out with all that leads to them, and why charts lose the
//! values that they remember.

use std::collections::{HashMap, HashSet};
use std::io::{self, BufRead, BufReader, Read, Write};
use std::path::{Path, PathBuf};
use std::sync::Arc;

use quick_xml::Writer;
use quick_xml::events::Event;

use super::assemble::{ExtractError, Extracted, Target, Ways};
use super::book::Book;
use super::element::{Document, Element, Node};
use super::formula::{self, Cells, Reference};
use super::place::{Anchored, Area, Place};
use super::relations::Leads;
use super::sheet::Gone;
use crate::format::markup::plain_attribute;
use crate::format::repack::Change;
use crate::source::ReadProblem;

/// A sheet that is cut by its rows.
pub(crate) struct Cutting {
    path: PathBuf,
    book: Arc<Book>,
    sheet: String,
    /// The part of the sheet.
    part: String,
    /// The sheet without the rows of records.
    frame: Document,
    /// The last row above the records.
    above: u32,
    gone: Gone,
    /// Formulas that several cells share, by their number: the cell that has it, and the formula.
    shared: HashMap<String, (Place, String)>,
    texts: Vec<String>,
    values: bool,
}

/// Where rows have come to.
struct Moved<'a> {
    above: u32,
    /// The rows that were taken, in their order.
    rows: &'a [u32],
}

impl Moved<'_> {
    /// The new number of a row.
    fn row(&self, row: u32) -> Option<u32> {
        if row <= self.above {
            return Some(row);
        }
        let place = self.rows.binary_search(&row).ok()?;
        Some(self.above + 1 + place as u32)
    }

    /// What is left of an area.
    fn area(&self, area: Area) -> Option<Area> {
        let first = match area.first.row <= self.above {
            true => area.first.row,
            false => self.above + 1 + self.rows.partition_point(|row| *row < area.first.row) as u32,
        };
        let last = match area.last.row <= self.above {
            true => area.last.row,
            false => self.above + self.rows.partition_point(|row| *row <= area.last.row) as u32,
        };
        (first <= last).then(|| area.with_rows(first, last))
    }

    /// What is left of areas with blanks between them.
    fn areas(&self, text: &str) -> Option<String> {
        let parsed = text
            .split_ascii_whitespace()
            .map(|area| match Area::parse(area) {
                Some(area) => self.area(area).map(|area| area.to_string()),
                // Whole columns stay what they are.
                None => Some(area.to_owned()),
            });
        let left: Vec<String> = parsed.flatten().collect();
        (!left.is_empty()).then(|| left.join(" "))
    }

    /// A formula of a name or chart, with what is left of the areas on `sheet` that it leads to; `None`
    /// if nothing is left of one.
    fn formula(&self, formula: &str, sheet: &str) -> Option<String> {
        let (cells, _) = formula::cells(formula);
        let mut written = String::new();
        let mut done = 0;
        for named in &cells {
            let on_sheet = match &named.sheet {
                Some(Reference::Sheets(first, None)) => first.eq_ignore_ascii_case(sheet),
                None => true,
                _ => false,
            };
            if !on_sheet {
                continue;
            }
            let last = named.last.unwrap_or(named.first);
            let area = Area {
                first: named.first.place,
                last: last.place,
            };
            let left = self.area(area)?;
            let corner = |anchored: Anchored, place: Place| Anchored { place, ..anchored };
            written.push_str(&formula[done..named.range.start]);
            written.push_str(&corner(named.first, left.first).to_string());
            if named.last.is_some() {
                written.push_str(&format!(":{}", corner(last, left.last)));
            }
            done = named.range.end;
        }
        Some(written + &formula[done..])
    }
}

/// Functions whose value depends on where they stand, or that lead to cells in ways that do not show.
const UNCLEAR: [&str; 6] = ["row", "rows", "indirect", "offset", "cell", "subtotal"];

impl Cutting {
    /// Looks through a sheet whose records stand below the row `above`, and hands each row of them to
    /// `row`, with its number and as it stands. All formulas become their values where `values` says so.
    pub(crate) fn prepare(
        path: &Path,
        sheet: &str,
        above: u32,
        values: bool,
        row: &mut dyn FnMut(u32, &[u8]) -> io::Result<()>,
    ) -> Result<Self, ExtractError> {
        let failed = |problem| ExtractError::Read(path.to_owned(), problem);
        let mut book = Book::open(path).map_err(failed)?;
        for listed in &mut book.sheets {
            listed.kept = listed.name == sheet;
        }
        let part = book
            .kept()
            .next()
            .map(|sheet| sheet.path.clone())
            .unwrap_or_default();
        let mut cutting = Self {
            path: path.to_owned(),
            gone: book.gone(values).map_err(failed)?,
            book: Arc::new(book),
            sheet: sheet.to_owned(),
            part,
            frame: Document::default(),
            above,
            shared: HashMap::new(),
            texts: Vec::new(),
            values,
        };
        let frame = cutting.read(row).map_err(|error| cutting.failed(error))?;
        let part = cutting.part.clone();
        cutting.frame = Document::parse(frame, &part).map_err(failed)?;
        cutting.forbid_names();
        if let Some(strings) = cutting.book.shared("sharedStrings") {
            cutting.texts =
                texts(&cutting.book, &strings).map_err(|error| cutting.failed(error))?;
        }
        Ok(cutting)
    }

    /// Reads the sheet: what is not a row of a record is returned.
    fn read(&mut self, row: &mut dyn FnMut(u32, &[u8]) -> io::Result<()>) -> io::Result<Vec<u8>> {
        let mut frame = Writer::new(Vec::new());
        let mut open: Option<(u32, Writer<Vec<u8>>)> = None;
        let mut last = 0;
        let mut cell = Place { row: 0, column: 0 };
        let mut shared: Option<(String, String)> = None;
        let above = self.above;
        let known = &mut self.shared;
        self.book.package.visit(&self.part, &mut |event| {
            match &event {
                Event::Start(tag) | Event::Empty(tag) if tag.local_name().as_ref() == "row" => {
                    last = number(plain_attribute(tag, "r")).unwrap_or(last + 1);
                    if last > above {
                        let mut writer = Writer::new(Vec::new());
                        let ends = matches!(event, Event::Empty(_));
                        writer.write_event(event)?;
                        match ends {
                            true => row(last, writer.get_ref())?,
                            false => open = Some((last, writer)),
                        }
                        return Ok(());
                    }
                }
                Event::Start(tag) => match tag.local_name().as_ref() {
                    "c" => {
                        let place =
                            plain_attribute(tag, "r").and_then(|place| Place::parse(&place));
                        cell = place.unwrap_or(cell);
                    }
                    "f" if plain_attribute(tag, "t").as_deref() == Some("shared") => {
                        shared = plain_attribute(tag, "si").map(|group| (group, String::new()));
                    }
                    _ => {}
                },
                Event::Text(text) => {
                    if let Some((_, formula)) = &mut shared {
                        formula.push_str(&text.clone().into_inner());
                    }
                }
                Event::GeneralRef(reference) => {
                    if let Some((_, formula)) = &mut shared {
                        crate::format::markup::push_reference(reference, formula)
                            .map_err(io::Error::other)?;
                    }
                }
                Event::End(tag) if tag.local_name().as_ref() == "f" => {
                    if let Some((group, formula)) =
                        shared.take().filter(|(_, formula)| !formula.is_empty())
                    {
                        known.entry(group).or_insert((cell, formula));
                    }
                }
                _ => {}
            }
            match &mut open {
                None => frame.write_event(event),
                Some((number, writer)) => {
                    let ends =
                        matches!(&event, Event::End(tag) if tag.local_name().as_ref() == "row");
                    writer.write_event(event)?;
                    if ends {
                        row(*number, writer.get_ref())?;
                        open = None;
                    }
                    Ok(())
                }
            }
        })?;
        Ok(frame.into_inner())
    }

    fn failed(&self, error: io::Error) -> ExtractError {
        if error.raw_os_error().is_some() {
            return ExtractError::Write(error);
        }
        match error.downcast::<ReadProblem>() {
            Ok(problem) => ExtractError::Read(self.path.clone(), problem),
            Err(error) => ExtractError::Write(error),
        }
    }

    /// Formulas of rows must not lead to names that lead to the records of all rows.
    fn forbid_names(&mut self) {
        let names = self.book.document.root.child("definedNames");
        for name in names.into_iter().flat_map(Element::elements) {
            let (cells, whole) = formula::cells(&name.text());
            let below = |cells: &Cells| {
                let last = cells.last.unwrap_or(cells.first);
                last.place.row > self.above
            };
            if whole || cells.iter().any(below) {
                let name = name.attribute("name").unwrap_or_default();
                self.gone.names.insert(name.to_lowercase());
            }
        }
        self.gone
            .names
            .extend(UNCLEAR.iter().map(|name| (*name).to_owned()));
    }

    /// Writes the part with these rows, which `spooled` has as they stand, to a workbook at `to`.
    pub(crate) fn write(
        &self,
        called: &str,
        rows: &[u32],
        spooled: &Path,
        macros: bool,
        to: &Path,
    ) -> Result<Extracted, ExtractError> {
        let read = |problem| ExtractError::Read(self.path.clone(), problem);
        let moved = Moved {
            above: self.above,
            rows,
        };
        let mut book = Book::clone(&self.book);
        for listed in book.sheets.iter_mut().filter(|listed| listed.kept) {
            called.clone_into(&mut listed.called);
        }
        let ways = Ways {
            values: self.values,
            macros,
            charts: false,
        };
        let mut target = Target::begin(book, ways, true, false).map_err(read)?;
        let mut frame = self.frame.clone();
        let mut used = TextNumbers::default();
        self.edit_frame(&mut frame, &moved, &mut used, &mut target.told);
        self.edit_names(&mut target, &moved);
        self.edit_parts(&mut target, &mut frame, &moved)
            .map_err(read)?;
        let (head, tail) = split_frame(frame);
        // The rows are written as they come, and what they need of the texts is known behind them.
        let sheet = to.with_extension("rows");
        let result = self.write_rows(
            &sheet,
            &head,
            &tail,
            spooled,
            &moved,
            &mut used,
            &mut target.told,
        );
        let result = result.map_err(|error| self.failed(error)).and_then(|()| {
            let from = sheet.clone();
            let copy = move |out: &mut dyn Write| {
                let mut file = std::fs::File::open(&from)?;
                io::copy(&mut file, out).map(drop)
            };
            target.change(&self.part, Change::Written(Box::new(copy)));
            if let Some(strings) = self.book.shared("sharedStrings") {
                target.texts = None;
                target.change(&strings, Change::Bytes(used.list(&self.texts)));
            }
            let package = self.book.package.clone();
            let (repack, told) = target.finish(ways).map_err(read)?;
            repack
                .write(&package, to)
                .map_err(|error| self.failed(error))?;
            Ok(told)
        });
        // The stage is removed as a whole later.
        let _ = std::fs::remove_file(&sheet);
        result
    }

    /// Brings what stands around the rows to where they have come.
    fn edit_frame(
        &self,
        frame: &mut Document,
        moved: &Moved<'_>,
        used: &mut TextNumbers,
        told: &mut Extracted,
    ) {
        let (above, gone) = (self.above, &self.gone);
        let keep = |element: &mut Element| -> bool {
            let attribute = match element.name() {
                "conditionalFormatting" | "dataValidation" | "ignoredError" | "protectedRange" => {
                    "sqref"
                }
                "mergeCell" | "hyperlink" | "autoFilter" | "dimension" | "sortState"
                | "sortCondition" => "ref",
                "brk" => {
                    let row = number(element.attribute("id"));
                    // Breaks of columns have small numbers, and stay.
                    return row.is_none_or(|row| row <= above || moved.row(row).is_some());
                }
                _ => return true,
            };
            let Some(text) = element.attribute(attribute) else {
                return true;
            };
            let whole = |area: &Area| {
                // A merged cell of which a row is gone is none.
                let length = area.last.row - area.first.row;
                let left = moved.area(*area);
                element.name() == "mergeCell"
                    && left.is_some_and(|left| left.last.row - left.first.row != length)
            };
            if Area::parse(&text).is_some_and(|area| whole(&area)) {
                return false;
            }
            match moved.areas(&text) {
                Some(left) => {
                    element.set_attribute(attribute, Some(&left));
                    true
                }
                None => false,
            }
        };
        edit_tree(&mut frame.root, &keep);
        frame.root.walk_mut(&mut |element| match element.name() {
            "c" => {
                if element.attribute("t").as_deref() == Some("s")
                    && let Some(value) = element.child_mut("v")
                    && let Ok(text) = value.text().trim().parse::<usize>()
                {
                    value.set_text(&used.of(text).to_string());
                }
                if let Some(formula) = element.child("f") {
                    let (cells, whole) = formula::cells(&formula.text());
                    let below = |cells: &Cells| cells.last.unwrap_or(cells.first).place.row > above;
                    if whole || cells.iter().any(below) || gone.all || gone.breaks(&formula.text())
                    {
                        element.retain(|child| child.name() != "f");
                        told.formulas += 1;
                        told.without_value += u64::from(element.child("v").is_none());
                    }
                }
            }
            "formula" | "formula1" | "formula2" => {
                let text = element.text();
                match moved
                    .rule(&text, &self.sheet)
                    .filter(|_| !self.breaks_rule(&text))
                {
                    Some(new) if new == text => {}
                    Some(new) => element.set_text(&new),
                    None => {
                        element.set_text("#REF!");
                        told.rules += 1;
                    }
                }
            }
            "brk" => {
                if let Some(row) = number(element.attribute("id")).and_then(|row| moved.row(row)) {
                    element.set_attribute("id", Some(&row.to_string()));
                }
            }
            _ => {}
        });
        if let Some(extensions) = frame.root.child_mut("extLst") {
            told.rules += self.edit_extensions(extensions, moved);
        }
        for list in ["mergeCells", "hyperlinks", "dataValidations"] {
            let count = frame
                .root
                .child(list)
                .map_or(0, |list| list.elements().count());
            match frame.root.child_mut(list) {
                Some(list) if count > 0 => {
                    if list.attribute("count").is_some() {
                        list.set_attribute("count", Some(&count.to_string()));
                    }
                }
                _ => frame.root.retain(|element| element.name() != list),
            }
        }
    }

    /// Brings the rules and small charts of extensions to where their rows have come; how many lead to
    /// what is not there.
    fn edit_extensions(&self, extensions: &mut Element, moved: &Moved<'_>) -> u64 {
        let mut lost = 0;
        let left = |element: &Element| -> Option<String> {
            let areas = element.child("sqref").map(Element::text)?;
            Some(moved.areas(&areas).unwrap_or_default())
        };
        let mut edit = |entry: &mut Element| -> bool {
            match left(entry) {
                Some(areas) if areas.is_empty() => return false,
                Some(areas) => {
                    if let Some(element) = entry.child_mut("sqref") {
                        element.set_text(&areas);
                    }
                }
                None => {}
            }
            true
        };
        let is_entry = |name: &str| {
            matches!(
                name,
                "conditionalFormatting" | "dataValidation" | "sparkline" | "ignoredError"
            )
        };
        walk_entries(extensions, &is_entry, &mut edit);
        extensions.walk_mut(&mut |element| {
            let ranges = element.name() == "sparkline";
            for child in element.elements_mut() {
                if child.name() != "f" {
                    continue;
                }
                let text = child.text();
                let new = match ranges {
                    true => moved.formula(&text, &self.sheet),
                    false => moved.rule(&text, &self.sheet),
                };
                match new.filter(|_| !self.breaks_rule(&text)) {
                    Some(new) => child.set_text(&new),
                    None => {
                        child.set_text("#REF!");
                        lost += 1;
                    }
                }
            }
        });
        lost
    }

    /// Whether a rule leads to what is not there.
    fn breaks_rule(&self, formula: &str) -> bool {
        let gone = Gone {
            sheets: self.gone.sheets.clone(),
            ..Gone::default()
        };
        gone.breaks(formula)
    }

    /// Brings the names of ranges to where their rows have come.
    fn edit_names(&self, target: &mut Target, moved: &Moved<'_>) {
        let mut lost = 0;
        let root = &mut target.book.document.root;
        if let Some(names) = root.child_mut("definedNames") {
            names.retain_mut(|name| {
                let text = name.text();
                match moved.formula(&text, &self.sheet) {
                    Some(new) if new == text => true,
                    Some(new) => {
                        name.set_text(&new);
                        true
                    }
                    None => {
                        lost += 1;
                        false
                    }
                }
            });
            if names.elements().next().is_none() {
                root.retain(|element| element.name() != "definedNames");
            }
        }
        target.told.names += lost;
    }

    /// Edits the parts that belong to the sheet.
    fn edit_parts(
        &self,
        target: &mut Target,
        frame: &mut Document,
        moved: &Moved<'_>,
    ) -> Result<(), ReadProblem> {
        let Some(mut leads) = Leads::of(&self.book.package, &self.part)? else {
            return Ok(());
        };
        let mut wanted: HashSet<String> = HashSet::new();
        frame.root.walk_mut(&mut |element| {
            if element.leads_by("id") {
                wanted.extend(element.attribute("id"));
            }
        });
        let by_id = [
            "hyperlink",
            "drawing",
            "table",
            "vmlDrawing",
            "legacyDrawingHF",
            "printerSettings",
            "image",
        ];
        let before = leads.all.len();
        leads.retain(|lead| {
            let pivots = matches!(lead.kind.as_str(), "pivotTable" | "slicer" | "timeline");
            !pivots && (!by_id.contains(&lead.kind.as_str()) || wanted.contains(&lead.id))
        });
        target.told.lost += (before > leads.all.len()) as u64
            * Leads::of(&self.book.package, &self.part)?
                .iter()
                .flat_map(|leads| &leads.all)
                .filter(|lead| matches!(lead.kind.as_str(), "pivotTable" | "slicer" | "timeline"))
                .count() as u64;
        for lead in leads.all.iter().filter(|lead| !lead.outside) {
            match lead.kind.as_str() {
                "table" => self.edit_table(target, &lead.target, moved)?,
                "comments" | "threadedComment" => edit_comments(target, &lead.target, moved)?,
                "vmlDrawing" => edit_shapes(target, &lead.target, moved)?,
                "drawing" => {
                    for chart in self.book.of_kind(&lead.target, "chart")? {
                        self.edit_chart(target, &chart, moved)?;
                    }
                }
                _ => {}
            }
        }
        let gone: Vec<String> = Leads::of(&self.book.package, &self.part)?
            .iter()
            .flat_map(|all| &all.all)
            .filter(|lead| !lead.outside && !leads.all.iter().any(|kept| kept.id == lead.id))
            .map(|lead| lead.target.clone())
            .collect();
        target.drop_from(&self.part, &gone)?;
        target.change(
            &leads.path.clone(),
            Change::Bytes(leads.document.into_bytes()),
        );
        Ok(())
    }

    fn edit_table(
        &self,
        target: &mut Target,
        path: &str,
        moved: &Moved<'_>,
    ) -> Result<(), ReadProblem> {
        let Some(mut table) = self.book.part(path)? else {
            return Ok(());
        };
        let fit = |element: &mut Element| -> bool {
            let area = element.attribute("ref").and_then(|text| Area::parse(&text));
            let left = area.and_then(|area| moved.area(area));
            if let Some(left) = left {
                element.set_attribute("ref", Some(&left.to_string()));
            }
            true
        };
        fit(&mut table.root);
        if let Some(filter) = table.root.child_mut("autoFilter") {
            fit(filter);
        }
        table.root.retain(|element| element.name() != "sortState");
        target.change(path, Change::Bytes(table.into_bytes()));
        Ok(())
    }

    fn edit_chart(
        &self,
        target: &mut Target,
        path: &str,
        moved: &Moved<'_>,
    ) -> Result<(), ReadProblem> {
        let Some(mut chart) = self.book.part(path)? else {
            return Ok(());
        };
        let mut lost = 0;
        chart.root.walk_mut(&mut |element| {
            if element.name() == "f" {
                let text = element.text();
                match moved
                    .formula(&text, &self.sheet)
                    .filter(|_| !self.breaks_rule(&text))
                {
                    Some(new) => element.set_text(&new),
                    None => {
                        element.set_text("#REF!");
                        lost += 1;
                    }
                }
            }
            element.retain(|child| {
                !matches!(child.name(), "numCache" | "strCache" | "multiLvlStrCache")
            });
        });
        target.told.ranges += lost;
        target.change(path, Change::Bytes(chart.into_bytes()));
        Ok(())
    }

    /// Writes the sheet with the rows of the part.
    #[allow(clippy::too_many_arguments, reason = "all of it is one sheet")]
    fn write_rows(
        &self,
        to: &Path,
        head: &str,
        tail: &str,
        spooled: &Path,
        moved: &Moved<'_>,
        used: &mut TextNumbers,
        told: &mut Extracted,
    ) -> io::Result<()> {
        let mut out = io::BufWriter::with_capacity(1 << 17, std::fs::File::create_new(to)?);
        out.write_all(head.as_bytes())?;
        let mut kept = BufReader::with_capacity(1 << 17, std::fs::File::open(spooled)?);
        let mut bytes = Vec::new();
        for &row in moved.rows {
            let mut length = [0; 4];
            kept.read_exact(&mut length)?;
            bytes.resize(u32::from_le_bytes(length) as usize, 0);
            kept.read_exact(&mut bytes)?;
            let text = std::str::from_utf8(&bytes).map_err(io::Error::other)?;
            let mut element =
                Document::parse(text.as_bytes().to_vec(), &self.part).map_err(io::Error::other)?;
            self.edit_row(&mut element.root, row, moved, used, told);
            out.write_all(element.root.to_text().as_bytes())?;
        }
        told.stale |= told.formulas > 0 && self.book.is_to_be_computed();
        debug_assert!(
            kept.fill_buf().is_ok_and(<[u8]>::is_empty),
            "all rows are taken"
        );
        out.write_all(tail.as_bytes())?;
        out.flush()
    }

    /// Gives a row its new number, and its cells and formulas with it.
    fn edit_row(
        &self,
        element: &mut Element,
        row: u32,
        moved: &Moved<'_>,
        used: &mut TextNumbers,
        told: &mut Extracted,
    ) {
        let new = moved.row(row).unwrap_or(row);
        element.set_attribute("r", Some(&new.to_string()));
        let mut column = 0;
        for cell in element.elements_mut().filter(|cell| cell.name() == "c") {
            let said = cell.attribute("r").and_then(|place| Place::parse(&place));
            let place = Place {
                row,
                column: said.map_or(column, |place| place.column),
            };
            column = place.column + 1;
            let moved_place = Place { row: new, ..place };
            cell.set_attribute("r", Some(&moved_place.to_string()));
            if cell.attribute("t").as_deref() == Some("s")
                && let Some(value) = cell.child_mut("v")
                && let Ok(number) = value.text().trim().parse::<usize>()
            {
                value.set_text(&used.of(number).to_string());
            }
            let Some(formula) = cell.child("f") else {
                continue;
            };
            match self.row_formula(formula, place, new) {
                Some(text) => {
                    let name = formula.full_name().to_owned();
                    let mut plain = Element::alone(name);
                    plain.set_text(&text);
                    if let Some(old) = cell.child_mut("f") {
                        *old = plain;
                    }
                }
                None => {
                    cell.retain(|child| child.name() != "f");
                    cell.set_attribute("cm", None);
                    told.formulas += 1;
                    told.without_value += u64::from(cell.child("v").is_none());
                }
            }
        }
    }

    /// The formula of a cell for its new row; `None` if it leads beyond its row and what is above.
    fn row_formula(&self, element: &Element, place: Place, new: u32) -> Option<String> {
        let own = element.text();
        let text = match element.attribute("t").as_deref() {
            Some("shared") if own.is_empty() => {
                let (from, formula) = self.shared.get(&element.attribute("si")?)?;
                shifted(formula, *from, place)?
            }
            Some("shared" | "normal") | None => own,
            Some("array") => {
                let area = element.attribute("ref").and_then(|area| Area::parse(&area));
                if area.is_none_or(|area| area.first != area.last) {
                    return None;
                }
                own
            }
            Some(_) => return None,
        };
        if self.gone.all || self.gone.breaks(&text) || reads_table(&text, &self.book, &self.part) {
            return None;
        }
        let (cells, whole) = formula::cells(&text);
        if whole {
            return None;
        }
        let in_row = |row: u32| match row {
            row if row == place.row => Some(new),
            row if row <= self.above => Some(row),
            _ => None,
        };
        formula::with_cells(&text, &cells, |named, mut cell| {
            match &named.sheet {
                None => {}
                Some(Reference::Sheets(sheet, None)) if sheet.eq_ignore_ascii_case(&self.sheet) => {
                }
                Some(_) => return Some(cell),
            }
            // An area from above down to the row grows with the rows.
            let last = named.last.unwrap_or(named.first);
            if named.first.place.row != last.place.row && last.place.row > self.above {
                return None;
            }
            cell.place.row = in_row(cell.place.row)?;
            Some(cell)
        })
    }
}

impl Moved<'_> {
    /// The formula of a rule, which counts its rows from the first of those that it is for.
    fn rule(&self, formula: &str, sheet: &str) -> Option<String> {
        let (cells, _) = formula::cells(formula);
        formula::with_cells(formula, &cells, |named, mut cell| {
            let on_sheet = match &named.sheet {
                None => true,
                Some(Reference::Sheets(first, None)) => first.eq_ignore_ascii_case(sheet),
                Some(_) => return Some(cell),
            };
            let row = cell.place.row;
            if on_sheet && row > self.above {
                cell.place.row = match cell.fixed_row {
                    // A fixed row is a certain record, but for the ends of an area.
                    true if named.last.is_none() => self.row(row)?,
                    true => {
                        let below = self.rows.partition_point(|known| *known <= row) as u32;
                        self.above + below.max(1)
                    }
                    // The first of the rule's rows comes to be the first that is left.
                    false => {
                        let before = self.rows.partition_point(|known| *known < row) as u32;
                        self.above + 1 + before.min(self.rows.len().saturating_sub(1) as u32)
                    }
                };
            }
            Some(cell)
        })
    }
}

/// Whether a formula reads more of a table than its own row.
fn reads_table(formula: &str, book: &Book, sheet: &str) -> bool {
    let tables = book.tables(sheet).unwrap_or_default();
    formula::pieces(formula).iter().any(|piece| {
        let Reference::Name(name) = &piece.is else {
            return false;
        };
        let known = |(table, _): &(String, String)| table.eq_ignore_ascii_case(name);
        if !tables.iter().any(known) {
            return false;
        }
        let behind = formula[piece.range.end..].to_lowercase();
        !behind.starts_with("[[#this row]") && !behind.starts_with("[@")
    })
}

/// A formula that another cell shares, as it is for this one.
fn shifted(formula: &str, from: Place, to: Place) -> Option<String> {
    let (cells, _) = formula::cells(formula);
    formula::with_cells(formula, &cells, |_, mut cell| {
        let shift = |value: u32, from: u32, to: u32| (value + to).checked_sub(from);
        if !cell.fixed_row {
            cell.place.row = shift(cell.place.row, from.row, to.row).filter(|row| *row > 0)?;
        }
        if !cell.fixed_column {
            cell.place.column = shift(cell.place.column, from.column, to.column)?;
        }
        Some(cell)
    })
}

/// Hands the entries of extensions to `edit`, and takes those away that it does not keep.
fn walk_entries(
    element: &mut Element,
    is_entry: &dyn Fn(&str) -> bool,
    edit: &mut dyn FnMut(&mut Element) -> bool,
) {
    element.retain_mut(|child| {
        if is_entry(child.name()) {
            return edit(child);
        }
        walk_entries(child, is_entry, edit);
        true
    });
}

/// Takes away children that `keep` does not keep, and what they leave empty.
fn edit_tree(element: &mut Element, keep: &impl Fn(&mut Element) -> bool) {
    element.retain_mut(|child| {
        if !keep(child) {
            return false;
        }
        if !matches!(child.name(), "sheetData" | "extLst") {
            edit_tree(child, keep);
        }
        true
    });
}

/// The comments of rows that are left.
fn edit_comments(target: &mut Target, path: &str, moved: &Moved<'_>) -> Result<(), ReadProblem> {
    let Some(mut document) = target.book.part(path)? else {
        return Ok(());
    };
    let keep = |element: &mut Element| -> bool {
        if !matches!(element.name(), "comment" | "threadedComment") {
            return true;
        }
        let place = element
            .attribute("ref")
            .and_then(|place| Place::parse(&place));
        let Some(place) = place else { return true };
        match moved.row(place.row) {
            Some(row) => {
                let new = Place { row, ..place };
                element.set_attribute("ref", Some(&new.to_string()));
                true
            }
            None => false,
        }
    };
    edit_tree(&mut document.root, &keep);
    target.change(path, Change::Bytes(document.into_bytes()));
    Ok(())
}

/// The boxes of comments of rows that are left.
fn edit_shapes(target: &mut Target, path: &str, moved: &Moved<'_>) -> Result<(), ReadProblem> {
    let Some(mut document) = target.book.part(path)? else {
        return Ok(());
    };
    document.root.retain_mut(|shape| {
        if shape.name() != "shape" {
            return true;
        }
        let Some(data) = shape.child_mut("ClientData") else {
            return true;
        };
        let Some(row) = data
            .child("Row")
            .and_then(|row| row.text().trim().parse::<u32>().ok())
        else {
            return true;
        };
        // Rows are counted from 0 here.
        let Some(new) = moved.row(row + 1) else {
            return false;
        };
        if let Some(row) = data.child_mut("Row") {
            row.set_text(&(new - 1).to_string());
        }
        if let Some(anchor) = data.child_mut("Anchor") {
            let mut numbers: Vec<String> = anchor
                .text()
                .split(',')
                .map(|n| n.trim().to_owned())
                .collect();
            for place in [2, 6] {
                if let Some(number) = numbers.get_mut(place)
                    && let Ok(value) = number.parse::<u32>()
                {
                    *number = (value + new).saturating_sub(row + 1).to_string();
                }
            }
            anchor.set_text(&numbers.join(", "));
        }
        true
    });
    target.change(path, Change::Bytes(document.into_bytes()));
    Ok(())
}

/// The frame before and behind the rows.
fn split_frame(mut frame: Document) -> (String, String) {
    const MARK: &str = "\u{e000}rows\u{e000}";
    if let Some(data) = frame.root.child_mut("sheetData") {
        data.open();
        data.children.push(Node::Other(MARK.to_owned()));
    }
    let text = String::from_utf8(frame.into_bytes()).unwrap_or_default();
    match text.rsplit_once(MARK) {
        Some((head, tail)) => (head.to_owned(), tail.to_owned()),
        None => (text, String::new()),
    }
}

/// The numbers that texts have in a part, in the order in which they are used.
#[derive(Default)]
struct TextNumbers {
    numbers: HashMap<usize, usize>,
    order: Vec<usize>,
}

impl TextNumbers {
    fn of(&mut self, text: usize) -> usize {
        let order = &mut self.order;
        *self.numbers.entry(text).or_insert_with(|| {
            order.push(text);
            order.len() - 1
        })
    }

    /// The list of those that are used.
    fn list(&self, texts: &[String]) -> Vec<u8> {
        let mut list = texts.first().cloned().unwrap_or_default().into_bytes();
        for text in &self.order {
            list.extend_from_slice(
                texts
                    .get(text + 2)
                    .map_or("<si/>", String::as_str)
                    .as_bytes(),
            );
        }
        list.extend_from_slice(texts.get(1).map_or("", String::as_str).as_bytes());
        list
    }
}

/// All shared texts as they stand, behind what stands before and behind all of them.
fn texts(book: &Book, path: &str) -> io::Result<Vec<String>> {
    let mut found = vec![String::new(), String::new()];
    let mut writer = Writer::new(Vec::new());
    let mut depth = 0;
    let mut close = String::new();
    book.package.visit(path, &mut |event| {
        let ended = match &event {
            Event::Start(tag) => {
                depth += 1;
                if depth == 1 {
                    let mut plain = Element::alone(tag.as_ref().to_owned());
                    plain.set_attribute("count", None);
                    plain.set_attribute("uniqueCount", None);
                    let text = plain.to_text();
                    found[0].push_str(text.strip_suffix("/>").unwrap_or(&text));
                    found[0].push('>');
                    close = format!("</{}>", tag.name().as_ref());
                    return Ok(());
                }
                false
            }
            Event::End(_) => {
                depth -= 1;
                depth == 1
            }
            Event::Empty(_) => depth == 1,
            _ => false,
        };
        if depth == 0 {
            if let Event::Decl(_) = event {
                let mut head = Writer::new(Vec::new());
                head.write_event(event)?;
                found[0].push_str(&String::from_utf8_lossy(head.get_ref()));
            }
            return Ok(());
        }
        if depth > 1 || ended {
            writer.write_event(event)?;
        }
        if ended {
            let text = std::mem::take(writer.get_mut());
            found.push(String::from_utf8(text).map_err(io::Error::other)?);
        }
        Ok(())
    })?;
    found[1] = close;
    Ok(found)
}

fn number(text: Option<String>) -> Option<u32> {
    text?.parse().ok()
}
