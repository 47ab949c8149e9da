//! Cuts a sheet by its rows: each part has the block above the records as it is, and of the rows below it
//! those that are its own, with all that belongs to them.
//!
//! # To whoever changes this
//!
//! A part must not hold what belongs to others. That is why texts are counted anew for each part, why
//! links and comments of other rows are taken out with all that leads to them, and why charts lose the
//! values that they remember.

mod computed;
mod frame;
mod moved;
mod texts;

use std::collections::HashMap;
use std::io::{self, BufRead, BufReader, Read, Seek, Write};
use std::path::{Path, PathBuf};
use std::sync::Arc;

use quick_xml::Writer;
use quick_xml::events::Event;

pub use self::computed::ComputedColumns;
use self::computed::Computing;
use self::moved::Moved;
use self::texts::{TextNumbers, texts};
use super::assemble::{AssembleOptions, ExtractError, Extracted, Target};
use super::edited_workbook::EditedWorkbook;
use super::element::{Document, Element, Node};
use super::sheet::Gone;
use crate::repack::Change;
use crate::xlsx::cell_reference::{Area, CellReference};
use crate::xlsx::formula;
use crate::xlsx::formula::{Cells, Reference};
use numerant_data::disk::OutFile;
use numerant_data::source::ReadProblem;
use numerant_markup::plain_attribute;

/// A sheet that is cut by its rows.
pub struct RowCutter {
    path: PathBuf,
    book: Arc<EditedWorkbook>,
    sheet: String,
    /// The part of the sheet.
    part: String,
    /// The sheet without the rows of records.
    frame: Document,
    /// The last row above the records.
    above: u32,
    gone: Gone,
    /// Formulas that several cells share, by their number: the cell that has it, and the formula.
    shared: HashMap<String, (CellReference, String)>,
    texts: Vec<String>,
    values: bool,
}

/// Functions whose value depends on where they stand, or that lead to cells in ways that do not show.
const UNCLEAR: [&str; 6] = ["row", "rows", "indirect", "offset", "cell", "subtotal"];

impl RowCutter {
    /// Looks through a sheet whose records are below the row `above`, and hands each row of them to
    /// `row`, with its number and verbatim. All formulas become their values where `values` says so.
    pub fn prepare(
        path: &Path,
        sheet: &str,
        above: u32,
        values: bool,
        row: &mut dyn FnMut(u32, &[u8]) -> io::Result<()>,
    ) -> Result<Self, ExtractError> {
        let failed = |problem| ExtractError::Read(path.to_owned(), problem);
        let mut book = EditedWorkbook::open(path).map_err(failed)?;
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
        let mut cell = CellReference { row: 0, column: 0 };
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
                        if ends {
                            row(last, writer.get_ref())?;
                        } else {
                            open = Some((last, writer));
                        }
                        return Ok(());
                    }
                }
                Event::Start(tag) => match tag.local_name().as_ref() {
                    "c" => {
                        let place = plain_attribute(tag, "r")
                            .and_then(|place| CellReference::parse(&place));
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
                        numerant_markup::push_reference(reference, formula)
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

    /// Writes the part with these rows to a workbook at `to`. `spooled` has, for each row, the values of the
    /// computed columns as they were kept and the row verbatim, with the length of each in front, as four
    /// bytes, the lowest first.
    #[allow(clippy::too_many_arguments, reason = "all of it is one part")]
    pub fn write(
        &self,
        called: &str,
        rows: &[u32],
        spooled: &Path,
        computed: Option<&ComputedColumns>,
        macros: bool,
        to: OutFile,
    ) -> Result<Extracted, ExtractError> {
        let read = |problem| ExtractError::Read(self.path.clone(), problem);
        let moved = Moved::new(self.above, rows);
        let mut book = EditedWorkbook::clone(&self.book);
        for listed in book.sheets.iter_mut().filter(|listed| listed.kept) {
            called.clone_into(&mut listed.called);
        }
        let ways = AssembleOptions {
            values: self.values,
            macros,
            charts: false,
        };
        let mut target = Target::begin(book, ways, true, false).map_err(read)?;
        let mut frame = self.frame.clone();
        let mut used = TextNumbers::default();
        self.edit_frame(&mut frame, &moved, &mut used, &mut target.extracted);
        self.edit_names(&mut target, &moved);
        self.edit_parts(&mut target, &mut frame, &moved)
            .map_err(read)?;
        let mut styles = match computed {
            Some(_) => Some(self.styles().map_err(read)?),
            None => None,
        };
        let mut computing = computed
            .zip(styles.as_mut())
            .map(|(columns, styles)| Computing::new(columns, styles, &self.part));
        if let Some(computing) = &mut computing {
            computing.head(&mut frame, self.above).map_err(read)?;
        }
        let (head, tail) = split_frame(frame);
        // The rows are written as they come, and what they need of the texts is known after them.
        let sheet = to.path().with_extension("rows");
        let disk = to.disk().clone();
        let result = self.write_rows(
            disk.create(&sheet).map_err(|error| self.failed(error))?,
            &head,
            &tail,
            (spooled, rows),
            computing,
            &moved,
            &mut used,
            &mut target.extracted,
        );
        if styles.is_some() {
            target.styles = styles;
        }
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
            let (repack, extracted) = target.finish(ways).map_err(read)?;
            repack
                .write(&package, to)
                .map_err(|error| self.failed(error))?;
            Ok(extracted)
        });
        // The stage is removed as a whole later.
        let _ = disk.remove(&sheet);
        result
    }

    /// Writes the sheet with the rows of the part.
    #[allow(clippy::too_many_arguments, reason = "all of it is one sheet")]
    fn write_rows(
        &self,
        to: OutFile,
        head: &str,
        tail: &str,
        (spooled, order): (&Path, &[u32]),
        mut computing: Option<Computing<'_>>,
        moved: &Moved,
        used: &mut TextNumbers,
        extracted: &mut Extracted,
    ) -> io::Result<()> {
        let mut out = io::BufWriter::with_capacity(1 << 17, to);
        out.write_all(head.as_bytes())?;
        let mut kept = BufReader::with_capacity(1 << 17, std::fs::File::open(spooled)?);
        let mut bytes = Vec::new();
        let mut values = Vec::new();
        // The rows are kept in their old order.
        let starts = if moved.is_reordered() {
            starts(&mut kept, &moved.rows)?
        } else {
            Vec::new()
        };
        for &row in order {
            if let Ok(at) = moved.rows.binary_search(&row)
                && let Some(start) = starts.get(at)
            {
                kept.seek(io::SeekFrom::Start(*start))?;
            }
            read_piece(&mut kept, &mut values)?;
            read_piece(&mut kept, &mut bytes)?;
            let text = std::str::from_utf8(&bytes).map_err(io::Error::other)?;
            let mut element =
                Document::parse(text.as_bytes().to_vec(), &self.part).map_err(io::Error::other)?;
            self.edit_row(&mut element.root, row, moved, used, extracted);
            if let Some(computing) = &mut computing {
                let values = std::str::from_utf8(&values).map_err(io::Error::other)?;
                let number = moved.row(row).unwrap_or(row);
                computing
                    .row(&mut element.root, number, values)
                    .map_err(io::Error::other)?;
            }
            out.write_all(element.root.to_text().as_bytes())?;
        }
        extracted.stale |= extracted.formulas > 0 && self.book.is_to_be_computed();
        debug_assert!(
            moved.is_reordered() || kept.fill_buf().is_ok_and(<[u8]>::is_empty),
            "all rows are taken"
        );
        out.write_all(tail.as_bytes())?;
        let out = out.into_inner().map_err(io::IntoInnerError::into_error)?;
        out.finish(false)
    }

    /// Gives a row its new number, and its cells and formulas with it.
    fn edit_row(
        &self,
        element: &mut Element,
        row: u32,
        moved: &Moved,
        used: &mut TextNumbers,
        extracted: &mut Extracted,
    ) {
        let new = moved.row(row).unwrap_or(row);
        element.set_attribute("r", Some(&new.to_string()));
        let mut column = 0;
        for cell in element.elements_mut().filter(|cell| cell.name() == "c") {
            let said = cell
                .attribute("r")
                .and_then(|place| CellReference::parse(&place));
            let place = CellReference {
                row,
                column: said.map_or(column, |place| place.column),
            };
            column = place.column + 1;
            let moved_place = CellReference { row: new, ..place };
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
                    extracted.formulas += 1;
                    extracted.without_value += u64::from(cell.child("v").is_none());
                }
            }
        }
    }

    /// The formula of a cell for its new row; `None` if it leads beyond its row and what is above.
    fn row_formula(&self, element: &Element, place: CellReference, new: u32) -> Option<String> {
        let own = element.text();
        let text = match element.attribute("t").as_deref() {
            Some("shared") if own.is_empty() => {
                let (from, shared) = self.shared.get(&element.attribute("si")?)?;
                formula::shifted(shared, *from, place)?
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

/// Where each of the rows begins that are kept.
fn starts(kept: &mut BufReader<std::fs::File>, rows: &[u32]) -> io::Result<Vec<u64>> {
    let mut starts = Vec::with_capacity(rows.len());
    let mut at = 0;
    for _ in rows {
        starts.push(at);
        for _ in 0..2 {
            let mut length = [0; 4];
            kept.read_exact(&mut length)?;
            let length = u32::from_le_bytes(length);
            kept.seek_relative(length.into())?;
            at += u64::from(length) + 4;
        }
    }
    Ok(starts)
}

/// Reads what is after its length.
fn read_piece(from: &mut impl Read, piece: &mut Vec<u8>) -> io::Result<()> {
    let mut length = [0; 4];
    from.read_exact(&mut length)?;
    piece.resize(u32::from_le_bytes(length) as usize, 0);
    from.read_exact(piece)
}

/// Whether a formula reads more of a table than its own row.
fn reads_table(formula: &str, book: &EditedWorkbook, sheet: &str) -> bool {
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

/// The frame before and after the rows.
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

fn number(text: Option<String>) -> Option<u32> {
    text?.parse().ok()
}
