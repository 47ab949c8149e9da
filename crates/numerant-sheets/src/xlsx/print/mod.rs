//! The sheets of a workbook as they are printed: what cells show under their number formats, how they look, page
//! setup, pictures and charts.
//!
//! Formulas without a computed value are computed here ([`compute`]), as no spreadsheet program has opened the
//! workbook yet.

mod cells;
mod chart;
mod compute;
mod drawing;
mod looks;
mod setup;

use std::fs::File;
use std::path::Path;
use std::sync::Arc;

use roxmltree::{Document, Node};

use self::cells::{Content, FormulaValues, SheetCells};
use self::compute::Computation;
pub use self::compute::ComputeError;
use self::looks::Looks;
use super::cell_reference::CellReference;
use super::parts::{Relations, office_document};
use super::strings::unescaped;
use crate::package::Package;
use numerant_data::source::{ReadProblem, SharedFile};
use numerant_format::sheet::{LeftOutDrawing, PrintCell, PrintKind, PrintSheet};

/// Bytes of a sheet that is printed.
const MAX_SHEET: u64 = 256 << 20;

/// Bytes of a picture.
const MAX_PICTURE: u64 = 64 << 20;

/// Why sheets cannot be printed.
#[derive(Debug, thiserror::Error)]
pub enum PrintError {
    /// The workbook cannot be read.
    #[error(transparent)]
    Read(#[from] ReadProblem),
    /// A formula has no value and cannot be computed.
    #[error(transparent)]
    Compute(#[from] ComputeError),
}

/// A sheet on its way.
struct OpenSheet {
    name: String,
    path: String,
    is_shown: bool,
    text: String,
}

/// Which sheets of a workbook are printed.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum PrintedSheets {
    /// Those that are not hidden.
    Visible,
    /// All.
    All,
}

/// The sheets of a workbook as they are printed.
///
/// # Errors
///
/// If the workbook cannot be read, or a formula without a value cannot be computed.
pub fn print_sheets(path: &Path, which: PrintedSheets) -> Result<Vec<PrintSheet>, PrintError> {
    let file = File::open(path).and_then(|file| SharedFile::new(Arc::new(file)));
    let package = Package::open(file.map_err(ReadProblem::Io)?)?;
    let book = office_document(&package)?.unwrap_or_else(|| "xl/workbook.xml".to_owned());
    let book_text = part(&package, &book, super::SMALL)?;
    let document = parsed(&book_text, &book)?;
    let relations = Relations::of(&package, &book)?;
    let root = document.root_element();
    let is_1904 = child(root, "workbookPr")
        .and_then(|settings| settings.attribute("date1904"))
        .is_some_and(is_true);
    let settings = child(root, "calcPr").and_then(|settings| settings.attribute("fullCalcOnLoad"));
    let formulas = if settings.is_some_and(is_true) {
        FormulaValues::MayBeOld
    } else {
        FormulaValues::Current
    };
    let styles = match relations.of_kind("styles") {
        Some(path) => part(&package, path, super::SMALL)?,
        None => String::new(),
    };
    let theme = relations.of_kind("theme");
    let looks = Looks::read(&package, &styles, theme, is_1904)?;
    let strings = match relations.of_kind("sharedStrings") {
        Some(path) => cells::shared_strings(&part(&package, path, MAX_SHEET)?, path)?,
        None => Vec::new(),
    };
    let mut open = Vec::new();
    for sheet in elements(child(root, "sheets")).filter(|sheet| name(*sheet) == "sheet") {
        let id = sheet
            .attributes()
            .find(|attribute| attribute.name() == "id");
        let target = id.and_then(|id| relations.target(id.value()));
        let Some(("worksheet", path)) = target else {
            continue;
        };
        let state = sheet.attribute("state").unwrap_or("visible");
        open.push(OpenSheet {
            name: unescaped(sheet.attribute("name").unwrap_or_default()).into_owned(),
            path: path.to_owned(),
            is_shown: state == "visible",
            text: part(&package, path, MAX_SHEET)?,
        });
    }
    let documents = open
        .iter()
        .map(|sheet| parsed(&sheet.text, &sheet.path))
        .collect::<Result<Vec<_>, _>>()?;
    let mut values = Vec::new();
    for (sheet, document) in open.iter().zip(&documents) {
        let found = SheetCells::read(document.root_element(), &strings, formulas, &sheet.path)?;
        values.push((sheet.name.clone(), found));
    }
    let names = setup::DefinedNames::read(root);
    let computation = Computation::new(&values, &names, &looks);
    let mut printed = Vec::new();
    for (place, (sheet, document)) in open.iter().zip(&documents).enumerate() {
        if !sheet.is_shown && which == PrintedSheets::Visible {
            continue;
        }
        let root = document.root_element();
        let (_, found) = &values[place];
        let mut print = PrintSheet {
            name: sheet.name.clone(),
            looks: looks.all.clone(),
            left_out: found.left_out(root),
            ..PrintSheet::default()
        };
        for (at, cell) in &found.cells {
            let content = match &cell.content {
                Content::Formula(_) => computation.value(place, *at)?,
                content => content.clone(),
            };
            let (text, kind) = shown(&content, &looks, cell.style);
            let color = match content {
                Content::Number(number) => looks
                    .display(cell.style)
                    .color(&looks.number(number, cell.style)),
                _ => None,
            };
            print.cells.push(PrintCell {
                row: at.row - 1,
                column: at.column,
                text,
                kind,
                look: looks.place(cell.style),
                color,
            });
        }
        setup::read(root, found, &names, place, &looks, &mut print);
        drawing::read(
            &package,
            root,
            &sheet.path,
            &looks,
            &computation,
            &mut print,
        )?;
        print
            .left_out
            .push((LeftOutDrawing::OldValues, computation.old_values(place)));
        print.left_out.retain(|(_, count)| *count > 0);
        printed.push(print);
    }
    Ok(printed)
}

/// What a cell shows of a value under its number format.
fn shown(content: &Content, looks: &Looks, style: usize) -> (String, PrintKind) {
    let display = looks.display(style);
    match content {
        Content::Blank | Content::Formula(_) => (String::new(), PrintKind::Text),
        Content::Number(number) => {
            let number = looks.number(*number, style);
            (display.number(&number), PrintKind::Number)
        }
        Content::Text(text) => (display.text(text), PrintKind::Text),
        Content::Truth(true) => ("TRUE".to_owned(), PrintKind::Word),
        Content::Truth(false) => ("FALSE".to_owned(), PrintKind::Word),
        Content::Error(text) => (text.clone(), PrintKind::Word),
    }
}

/// A part as text.
fn part(package: &Package, path: &str, most: u64) -> Result<String, ReadProblem> {
    let bytes = package.bytes(path, most)?.unwrap_or_default();
    String::from_utf8(bytes).map_err(|_| ReadProblem::Damaged {
        what: format!("bytes that are not UTF-8 (in {path})"),
    })
}

/// A part as XML.
fn parsed<'t>(text: &'t str, path: &str) -> Result<Document<'t>, ReadProblem> {
    let text = text.strip_prefix('\u{feff}').unwrap_or(text);
    Document::parse(text).map_err(|error| ReadProblem::Damaged {
        what: format!("{error} (in {path})"),
    })
}

fn name<'a>(node: Node<'a, '_>) -> &'a str {
    node.tag_name().name()
}

/// The elements of an element, if that is there.
fn elements<'a, 'i: 'a>(node: Option<Node<'a, 'i>>) -> impl Iterator<Item = Node<'a, 'i>> {
    node.into_iter()
        .flat_map(|node| node.children())
        .filter(Node::is_element)
}

fn child<'a, 'i: 'a>(node: Node<'a, 'i>, wanted: &str) -> Option<Node<'a, 'i>> {
    node.children()
        .find(|child| child.is_element() && name(*child) == wanted)
}

/// The first element of a name at any depth.
fn descendant<'a, 'i: 'a>(node: Node<'a, 'i>, wanted: &str) -> Option<Node<'a, 'i>> {
    node.descendants()
        .find(|child| child.is_element() && name(*child) == wanted)
}

fn number<T: std::str::FromStr>(node: Node<'_, '_>, attribute: &str) -> Option<T> {
    node.attribute(attribute)?.trim().parse().ok()
}

fn is_true(text: &str) -> bool {
    matches!(text, "1" | "true" | "on")
}

/// Adds to what is left out.
fn leave_out(print: &mut PrintSheet, what: LeftOutDrawing) {
    match print.left_out.iter_mut().find(|(known, _)| *known == what) {
        Some((_, count)) => *count += 1,
        None => print.left_out.push((what, 1)),
    }
}

/// A cell in the words of messages.
fn named(sheet: &str, at: CellReference) -> String {
    format!("sheet '{sheet}', cell {at}")
}
