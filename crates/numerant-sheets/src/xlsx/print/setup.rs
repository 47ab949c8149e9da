//! The sizes of rows and columns of a sheet and the setup of its pages (ECMA-376 Part 1, 18.3.1), and names of
//! ranges, of which two say what is printed and what is repeated.

use std::collections::BTreeSet;

use roxmltree::Node;

use super::cells::SheetCells;
use super::looks::Looks;
use super::{child, elements, is_true, name, number};
use crate::xlsx::cell_reference::{Anchored, Area};
use crate::xlsx::strings::unescaped;
use numerant_format::sheet::{CellRange, LeftOutDrawing, PageSetup, PrintSheet, RowHeight};

/// Points of a pixel.
const PIXEL: f32 = 0.75;

/// Pixels of the widest digit of the usual font.
const DIGIT: f32 = 7.0;

/// Rows and columns that are drawn.
const MAX_ROWS: u32 = 100_000;
const MAX_COLUMNS: u32 = 2_000;

/// The names of a workbook, in the order in which they stand.
#[derive(Debug, Default)]
pub(super) struct DefinedNames {
    /// The name, the number of its sheet if it is for one alone, and what it represents.
    names: Vec<(String, Option<usize>, String)>,
}

impl DefinedNames {
    pub(super) fn read(book: Node<'_, '_>) -> Self {
        let names = elements(child(book, "definedNames")).map(|defined| {
            let name = defined.attribute("name").unwrap_or_default();
            (
                unescaped(name).into_owned(),
                number(defined, "localSheetId"),
                defined.text().unwrap_or_default().to_owned(),
            )
        });
        Self {
            names: names.collect(),
        }
    }

    /// What a name represents on a sheet.
    pub(super) fn text(&self, name: &str, sheet: usize) -> Option<&str> {
        let is_named =
            |entry: &&(String, Option<usize>, String)| entry.0.eq_ignore_ascii_case(name);
        let of_sheet = self
            .names
            .iter()
            .filter(is_named)
            .find(|entry| entry.1 == Some(sheet));
        let of_all = || {
            self.names
                .iter()
                .filter(is_named)
                .find(|entry| entry.1.is_none())
        };
        of_sheet.or_else(of_all).map(|entry| entry.2.as_str())
    }
}

/// Reads what there is to a sheet besides its cells and drawings.
pub(super) fn read(
    root: Node<'_, '_>,
    found: &SheetCells,
    names: &DefinedNames,
    sheet: usize,
    looks: &Looks,
    print: &mut PrintSheet,
) {
    print.merged = found.merged.iter().map(|area| range(*area)).collect();
    let turned = print
        .cells
        .iter()
        .filter(|cell| !cell.text.is_empty() && looks.all[cell.look].is_turned);
    let turned = turned.count() as u64;
    print.left_out.push((LeftOutDrawing::Turned, turned));
    sizes(root, found, print);
    setup(root, &mut print.setup);
    if let Some(area) = names.text("_xlnm.Print_Area", sheet) {
        print.setup.print_area = areas(area).into_iter().map(range).collect();
    }
    count_unseen(print);
    for part in split(names.text("_xlnm.Print_Titles", sheet).unwrap_or_default()) {
        let (first, last) = part.split_once(':').unwrap_or((part, part));
        let plain = |text: &str| text.replace('$', "");
        let (first, last) = (plain(first), plain(last));
        if let (Ok(top), Ok(bottom)) = (first.parse::<u32>(), last.parse::<u32>()) {
            print.setup.repeated_rows = Some((top.saturating_sub(1), bottom.saturating_sub(1)));
        } else if let (Some(left), Some(right)) = (
            Anchored::parse(&format!("{first}1")),
            Anchored::parse(&format!("{last}1")),
        ) {
            print.setup.repeated_columns = Some((left.place.column, right.place.column));
        }
    }
}

/// Counts the rows and columns with texts that are not on paper.
fn count_unseen(print: &mut PrintSheet) {
    let areas = &print.setup.print_area;
    let with_texts = || print.cells.iter().filter(|cell| !cell.text.is_empty());
    let is_outside =
        |holds: &dyn Fn(&CellRange) -> bool| !areas.is_empty() && !areas.iter().any(holds);
    let (mut rows, mut columns) = (BTreeSet::new(), BTreeSet::new());
    let (mut hidden_rows, mut hidden_columns) = (BTreeSet::new(), BTreeSet::new());
    for cell in with_texts() {
        if is_outside(&|area| (area.top..=area.bottom).contains(&cell.row)) {
            rows.insert(cell.row);
        }
        if is_outside(&|area| (area.left..=area.right).contains(&cell.column)) {
            columns.insert(cell.column);
        }
        if print.rows.get(cell.row as usize) == Some(&RowHeight::Fixed(0.0)) {
            hidden_rows.insert(cell.row);
        }
        if print.columns.get(cell.column as usize) == Some(&0.0) {
            hidden_columns.insert(cell.column);
        }
    }
    print.left_out.extend([
        (LeftOutDrawing::RowsOutside, rows.len() as u64),
        (LeftOutDrawing::ColumnsOutside, columns.len() as u64),
        (LeftOutDrawing::HiddenRows, hidden_rows.len() as u64),
        (LeftOutDrawing::HiddenColumns, hidden_columns.len() as u64),
    ]);
}

fn range(area: Area) -> CellRange {
    CellRange {
        top: area.first.row - 1,
        left: area.first.column,
        bottom: area.last.row - 1,
        right: area.last.column,
    }
}

/// References after the names of their sheet.
fn split(text: &str) -> impl Iterator<Item = &str> {
    let parts = text.split(',').filter(|part| !part.is_empty());
    parts.map(|part| part.rsplit('!').next().unwrap_or(part))
}

fn areas(text: &str) -> Vec<Area> {
    split(text).filter_map(Area::parse).collect()
}

/// The widths of columns and the heights of rows, as far as something is in them.
fn sizes(root: Node<'_, '_>, found: &SheetCells, print: &mut PrintSheet) {
    let format = child(root, "sheetFormatPr");
    let usual_width = format.and_then(|format| number::<f32>(format, "defaultColWidth"));
    let usual_height = format.and_then(|format| number::<f32>(format, "defaultRowHeight"));
    let usual_height = usual_height.filter(|height| *height > 0.0).unwrap_or(15.0);
    let in_cells = print.cells.iter().map(|cell| (cell.row, cell.column));
    let in_merged = print.merged.iter().map(|range| (range.bottom, range.right));
    let ends = in_cells
        .chain(in_merged)
        .fold((0, 0), |(row, column), (its_row, its_column)| {
            (row.max(its_row + 1), column.max(its_column + 1))
        });
    let (rows, columns) = (ends.0.min(MAX_ROWS), ends.1.min(MAX_COLUMNS));
    let points = |width: f32| (width.clamp(0.0, 255.0) * DIGIT + 0.5).floor() * PIXEL;
    print.columns = (0..columns)
        .map(|column| {
            let stated = found
                .columns
                .iter()
                .find(|known| (known.first..=known.last).contains(&column));
            match stated {
                Some(known) if known.is_hidden => 0.0,
                Some(known) => points(known.width.or(usual_width).unwrap_or(9.14)),
                None => points(usual_width.unwrap_or(9.14)),
            }
        })
        .collect();
    print.rows = (0..rows)
        .map(|row| match found.rows.get(&(row + 1)) {
            Some(known) if known.is_hidden => RowHeight::Fixed(0.0),
            Some(known) => match (known.height, known.is_fixed) {
                (Some(height), true) => RowHeight::Fixed(height),
                (height, _) => RowHeight::Fitting(height.unwrap_or(usual_height)),
            },
            None => RowHeight::Fitting(usual_height),
        })
        .collect();
}

/// Paper, margins, scale, header and footer.
fn setup(root: Node<'_, '_>, setup: &mut PageSetup) {
    let mut fits = false;
    if let Some(properties) = child(root, "sheetPr") {
        let page = child(properties, "pageSetUpPr");
        fits = page
            .and_then(|page| page.attribute("fitToPage"))
            .is_some_and(is_true);
    }
    if let Some(margins) = child(root, "pageMargins") {
        let inches = |side: &str, usual: f32| {
            let stated = number::<f32>(margins, side).map(|inches| inches * 72.0);
            stated
                .filter(|points| (0.0..=300.0).contains(points))
                .unwrap_or(usual)
        };
        setup.margins = [
            inches("left", 50.4),
            inches("top", 54.0),
            inches("right", 50.4),
            inches("bottom", 54.0),
        ];
        setup.header_footer = [inches("header", 21.6), inches("footer", 21.6)];
    }
    if let Some(page) = child(root, "pageSetup") {
        setup.paper = number::<u32>(page, "paperSize").and_then(paper);
        setup.is_landscape = page.attribute("orientation") == Some("landscape");
        setup.is_over_then_down = page.attribute("pageOrder") == Some("overThenDown");
        let scale = number::<f32>(page, "scale").map(|percent| percent / 100.0);
        setup.scale = scale
            .filter(|scale| (0.1..=4.0).contains(scale))
            .unwrap_or(1.0);
    }
    if fits {
        let page = child(root, "pageSetup");
        let count = |side| page.and_then(|page| number(page, side)).unwrap_or(1);
        setup.fit = Some((count("fitToWidth"), count("fitToHeight")));
    }
    if let Some(options) = child(root, "printOptions") {
        let is = |option: &str| options.attribute(option).is_some_and(is_true);
        setup.is_centered = (is("horizontalCentered"), is("verticalCentered"));
        setup.has_gridlines = is("gridLines");
    }
    let breaks = |list: &str| {
        let breaks = elements(child(root, list)).filter(|entry| name(*entry) == "brk");
        breaks.filter_map(|entry| number(entry, "id")).collect()
    };
    setup.breaks = (breaks("rowBreaks"), breaks("colBreaks"));
    let texts = child(root, "headerFooter");
    let text = |part: &str| {
        let part = texts.and_then(|texts| child(texts, part));
        part.and_then(|part| part.text())
            .unwrap_or_default()
            .to_owned()
    };
    setup.header = text("oddHeader");
    setup.footer = text("oddFooter");
}

/// Width and height of a paper by its number, upright (18.3.1.63).
fn paper(number: u32) -> Option<(f32, f32)> {
    let millimeters = |width: f32, height: f32| Some((width * 72.0 / 25.4, height * 72.0 / 25.4));
    match number {
        1 | 2 => Some((612.0, 792.0)),
        3 => Some((792.0, 1224.0)),
        5 => Some((612.0, 1008.0)),
        7 => Some((522.0, 756.0)),
        8 => millimeters(297.0, 420.0),
        9 | 10 => millimeters(210.0, 297.0),
        11 => millimeters(148.0, 210.0),
        12 => millimeters(250.0, 354.0),
        13 => millimeters(182.0, 257.0),
        _ => None,
    }
}
