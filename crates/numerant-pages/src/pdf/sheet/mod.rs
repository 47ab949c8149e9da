//! Sheets with their look on pages: fonts, fills, borders, merged cells, pictures and charts, as they are printed.

mod chart;
mod face;
mod grid;
mod margin_text;
mod text;

use std::collections::HashMap;
use std::io;
use std::num::NonZeroU32;

use jiff::civil::DateTime;
use krilla::Document;
use krilla::destination::XyzDestination;
use krilla::geom::{Point, Size, Transform};
use krilla::image::Image;
use krilla::outline::{Outline, OutlineNode};
use krilla::page::PageSettings;
use krilla::tagging::{Tag, TagGroup, TagTree};

use self::face::Face;
use self::grid::{Grid, Strip, StripPart};
use self::margin_text::{PageFacts, Run, sections};
use super::layout::Paper;
use super::pen::{Area, Pen};
use super::{finished, missing, new_document};
use crate::fonts::{Fonts, MissingGlyph};
use crate::table::visible;
use numerant_format::sheet::{
    Border, BorderStroke, CellLook, CellRange, Drawing, DrawingContent, DrawingEnd, PrintCell,
    PrintSheet, Rgb, letters,
};

/// Points between lines, in sizes of the text, and from the top of a line to its base.
const LINE: f32 = 1.2;
const BASE: f32 = 0.94;

const GRIDLINE: Rgb = [0xb8; 3];

/// Whether a range has a cell.
fn holds(range: &CellRange, row: u32, column: u32) -> bool {
    (range.top..=range.bottom).contains(&row) && (range.left..=range.right).contains(&column)
}

/// What sheets are drawn with.
pub(crate) struct SheetsRequest<'r> {
    pub(crate) sheets: &'r [PrintSheet],
    /// The name of the output.
    pub(crate) file: &'r str,
    pub(crate) now: DateTime,
    pub(crate) paper: Paper,
    pub(crate) fonts: &'r Fonts,
}

/// The bytes of a document with sheets, and how many texts are cut.
pub(crate) fn typeset(request: &SheetsRequest<'_>) -> io::Result<(Vec<u8>, u64)> {
    let fonts = request.fonts;
    let grids: Vec<Grid> = request
        .sheets
        .iter()
        .map(|sheet| Grid::of(sheet, request.paper, fonts))
        .collect();
    let title = request
        .sheets
        .first()
        .map_or("", |sheet| sheet.name.as_str());
    let mut document = new_document(title)?;
    let all: usize = grids.iter().map(|grid| grid.pages.len()).sum();
    let mut outline = Outline::new();
    let mut tree = TagTree::new();
    let (mut number, mut cut) = (0, 0);
    for (sheet, grid) in request.sheets.iter().zip(&grids) {
        if grid.pages.is_empty() {
            continue;
        }
        let destination = XyzDestination::new(number, Point::from_xy(0.0, 0.0));
        outline.push_child(OutlineNode::new(sheet.name.clone(), destination));
        let mut drawn = DrawnSheet::new(sheet, grid, request);
        for page in &grid.pages {
            number += 1;
            drawn.page(&mut document, page, (number, all))?;
        }
        cut += drawn.cut;
        tree.push(drawn.section);
    }
    if all == 0 {
        let paper = request.paper.size();
        let settings = PageSettings::from_wh(paper.0, paper.1);
        let settings = settings.ok_or_else(|| io::Error::other("the paper has no size"))?;
        document.start_page_with(settings).finish();
    }
    Ok((finished(document, outline, tree)?, cut))
}

/// A sheet on its way onto pages.
struct DrawnSheet<'d> {
    sheet: &'d PrintSheet,
    grid: &'d Grid,
    request: &'d SheetsRequest<'d>,
    /// The cells that have something, by row and column.
    cells: HashMap<(u32, u32), &'d PrintCell>,
    /// The merged range that each of its cells is in.
    merged: HashMap<(u32, u32), CellRange>,
    section: TagGroup,
    /// Drawings that are tagged already.
    tagged: Vec<bool>,
    /// Texts that are longer than their cells, and are cut.
    cut: u64,
}

impl<'d> DrawnSheet<'d> {
    fn new(sheet: &'d PrintSheet, grid: &'d Grid, request: &'d SheetsRequest<'d>) -> Self {
        let mut merged = HashMap::new();
        let last = (grid.rows.len() as u32, grid.columns.len() as u32);
        for range in &sheet.merged {
            for row in range.top..=range.bottom.min(last.0) {
                for column in range.left..=range.right.min(last.1) {
                    merged.insert((row, column), *range);
                }
            }
        }
        Self {
            sheet,
            grid,
            request,
            cells: sheet
                .cells
                .iter()
                .map(|cell| ((cell.row, cell.column), cell))
                .collect(),
            merged,
            section: TagGroup::new(Tag::Section),
            tagged: vec![false; sheet.drawings.len()],
            cut: 0,
        }
    }

    fn page(
        &mut self,
        document: &mut Document,
        (rows, columns): &(Strip, Strip),
        (number, all): (usize, usize),
    ) -> io::Result<()> {
        let grid = self.grid;
        let settings = PageSettings::from_wh(grid.width, grid.height)
            .ok_or_else(|| io::Error::other("the paper has no size"))?;
        let mut page = document.start_page_with(settings);
        let mut pen = Pen {
            surface: page.surface(),
            fonts: self.request.fonts,
            size: 10.0,
        };
        let setup = &self.sheet.setup;
        let [left, top, right, bottom] = setup.margins;
        let scale = grid.scale;
        let free = (
            grid.width - left - right - columns.length * scale,
            grid.height - top - bottom - rows.length * scale,
        );
        let shift = |is_centered: bool, free: f32| {
            if is_centered {
                (free / 2.0).max(0.0)
            } else {
                0.0
            }
        };
        let origin = (
            left + shift(setup.is_centered.0, free.0),
            top + shift(setup.is_centered.1, free.1),
        );
        let placed = Transform::from_row(scale, 0.0, 0.0, scale, origin.0, origin.1);
        pen.surface.push_transform(&placed);
        let drawn = self.contents(&mut pen, rows, columns);
        pen.surface.pop();
        let facts = PageFacts {
            page: number,
            pages: all,
            sheet: &self.sheet.name,
            file: self.request.file,
            now: self.request.now,
        };
        let drawn = drawn.and_then(|()| self.margin_texts(&mut pen, &facts));
        drop(pen);
        page.finish();
        drawn
    }

    fn contents(&mut self, pen: &mut Pen<'_>, rows: &Strip, columns: &Strip) -> io::Result<()> {
        self.fills(pen, rows, columns);
        let table = self.texts(pen, rows, columns)?;
        self.borders(pen, rows, columns);
        self.section.push(table);
        self.drawings(pen, rows, columns)
    }

    fn look(&self, row: u32, column: u32) -> Option<&'d CellLook> {
        let cell = self.cells.get(&(row, column))?;
        self.sheet.looks.get(cell.look)
    }

    fn fills(&self, pen: &mut Pen<'_>, rows: &Strip, columns: &Strip) {
        pen.artifact(|pen| {
            for row in &rows.parts {
                for column in &columns.parts {
                    let merged = self.merged.get(&(row.number, column.number));
                    let from =
                        merged.map_or((row.number, column.number), |range| (range.top, range.left));
                    let fill = self.look(from.0, from.1).and_then(|look| look.fill);
                    let area = area(*row, *column);
                    if let Some(fill) = fill {
                        pen.rect(area, fill);
                    } else if self.sheet.setup.has_gridlines && merged.is_none() {
                        pen.frame(area, 0.3, GRIDLINE);
                    }
                }
            }
        });
    }

    /// Draws what cells show, and tags it as a table.
    fn texts(&mut self, pen: &mut Pen<'_>, rows: &Strip, columns: &Strip) -> io::Result<TagGroup> {
        let mut table = TagGroup::new(Tag::Table);
        for row in &rows.parts {
            let is_repeated = row.number < rows.own.0;
            let mut group = TagGroup::new(Tag::TR);
            for column in &columns.parts {
                let at = (row.number, column.number);
                let (rect, spans) = match self.merged.get(&at) {
                    Some(range) if (range.top, range.left) != at => continue,
                    Some(range) => merged_area(range, rows, columns),
                    None => (area(*row, *column), (1, 1)),
                };
                let id = match self.cells.get(&at).copied() {
                    Some(cell)
                        if !cell.text.is_empty() && rect.width > 0.0 && rect.height > 0.0 =>
                    {
                        let drawn = self.text(pen, cell, rect, rows, columns);
                        drawn.map_err(|missing_glyph| {
                            let place = format!("{}{}", letters(cell.column), cell.row + 1);
                            let why = missing(missing_glyph);
                            io::Error::other(format!(
                                "sheet '{}', cell {place}: {why}",
                                self.sheet.name
                            ))
                        })?
                    }
                    _ => None,
                };
                let span = |count: u32| NonZeroU32::new(count).filter(|count| count.get() > 1);
                let cell = Tag::TD
                    .with_row_span(span(spans.0))
                    .with_col_span(span(spans.1));
                let mut cell = TagGroup::new(cell);
                cell.children.extend(id.map(Into::into));
                group.push(cell);
            }
            // Rows that are repeated are read aloud once.
            if !is_repeated {
                table.push(group);
            }
        }
        Ok(table)
    }

    fn borders(&self, pen: &mut Pen<'_>, rows: &Strip, columns: &Strip) {
        pen.artifact(|pen| {
            for row in &rows.parts {
                for column in &columns.parts {
                    let Some(look) = self.look(row.number, column.number) else {
                        continue;
                    };
                    let rect = area(*row, *column);
                    if rect.width <= 0.0 || rect.height <= 0.0 {
                        continue;
                    }
                    let (right, bottom) = (rect.left + rect.width, rect.top + rect.height);
                    let sides = [
                        ((rect.left, rect.top), (rect.left, bottom)),
                        ((rect.left, rect.top), (right, rect.top)),
                        ((right, rect.top), (right, bottom)),
                        ((rect.left, bottom), (right, bottom)),
                    ];
                    let is_inner = self.inner_sides(row.number, column.number);
                    for (place, (from, to)) in sides.into_iter().enumerate() {
                        if let Some(border) = look.borders[place].filter(|_| !is_inner[place]) {
                            line(pen, border, from, to);
                        }
                    }
                }
            }
        });
    }

    /// Which of the sides of a cell, left, top, right and bottom, are within a merged range.
    fn inner_sides(&self, row: u32, column: u32) -> [bool; 4] {
        match self.merged.get(&(row, column)) {
            None => [false; 4],
            Some(range) => [
                column > range.left,
                row > range.top,
                column < range.right,
                row < range.bottom,
            ],
        }
    }

    /// Draws what of pictures and charts is on a page.
    fn drawings(&mut self, pen: &mut Pen<'_>, rows: &Strip, columns: &Strip) -> io::Result<()> {
        let shown = Area {
            left: columns.own_start.0,
            top: rows.own_start.0,
            width: columns.length - columns.own_start.0,
            height: rows.length - rows.own_start.0,
        };
        for place in 0..self.sheet.drawings.len() {
            let drawing = &self.sheet.drawings[place];
            let on_sheet = self.drawing_area(drawing);
            let rect = Area {
                left: on_sheet.left - columns.own_start.1 + columns.own_start.0,
                top: on_sheet.top - rows.own_start.1 + rows.own_start.0,
                ..on_sheet
            };
            let is_here = rect.left < shown.left + shown.width
                && rect.left + rect.width > shown.left
                && rect.top < shown.top + shown.height
                && rect.top + rect.height > shown.top;
            if !is_here || rect.width < 1.0 || rect.height < 1.0 {
                continue;
            }
            let is_first = !std::mem::replace(&mut self.tagged[place], true);
            let id = pen.begin_words(!is_first);
            pen.push_clip(shown);
            let drawn = match &drawing.content {
                DrawingContent::Picture(bytes) => picture(pen, bytes, rect),
                DrawingContent::Chart(chart) => chart::draw(pen, chart, rect).map_err(missing),
            };
            pen.surface.pop();
            pen.surface.end_tagged();
            drawn.map_err(|why| {
                io::Error::other(format!(
                    "sheet '{}', '{}': {why}",
                    self.sheet.name, drawing.description
                ))
            })?;
            if is_first {
                let words = match &drawing.content {
                    DrawingContent::Picture(_) if drawing.description.is_empty() => {
                        "picture".to_owned()
                    }
                    DrawingContent::Picture(_) => drawing.description.clone(),
                    DrawingContent::Chart(chart) => chart::description(chart),
                };
                let mut figure = TagGroup::new(Tag::Figure(Some(visible(&words))));
                figure.push(id);
                self.section.push(figure);
            }
        }
        Ok(())
    }

    /// Where a drawing is on the sheet.
    fn drawing_area(&self, drawing: &Drawing) -> Area {
        let place = |anchor: &numerant_format::sheet::Anchor| {
            (
                self.grid.start(true, anchor.column) + anchor.right,
                self.grid.start(false, anchor.row) + anchor.down,
            )
        };
        let (left, top) = place(&drawing.from);
        let (width, height) = match drawing.to {
            DrawingEnd::Size(width, height) => (width, height),
            DrawingEnd::At(end) => {
                let (right, bottom) = place(&end);
                (right - left, bottom - top)
            }
        };
        Area {
            left,
            top,
            width,
            height,
        }
    }

    fn margin_texts(&self, pen: &mut Pen<'_>, facts: &PageFacts<'_>) -> io::Result<()> {
        let setup = &self.sheet.setup;
        for (code, is_header) in [(&setup.header, true), (&setup.footer, false)] {
            if code.is_empty() {
                continue;
            }
            for (section, section_lines) in sections(code, facts).iter().enumerate() {
                self.margin_section(pen, section, section_lines, is_header)
                    .map_err(missing)?;
            }
        }
        Ok(())
    }

    fn margin_section(
        &self,
        pen: &mut Pen<'_>,
        section: usize,
        section_lines: &[Vec<Run>],
        is_header: bool,
    ) -> Result<(), MissingGlyph> {
        let setup = &self.sheet.setup;
        let height =
            |runs: &[Run]| runs.iter().map(|run| run.face().size).fold(10.0, f32::max) * LINE;
        let all: f32 = section_lines.iter().map(|runs| height(runs)).sum();
        let mut top = if is_header {
            setup.header_footer[0]
        } else {
            self.grid.height - setup.header_footer[1] - all
        };
        let id = pen.begin_words(true);
        let _ = id;
        let mut result = Ok(());
        for runs in section_lines {
            let fonts = pen.fonts;
            let width: f32 = runs
                .iter()
                .map(|run| fonts.width(&run.text, run.face().face) * run.face().size)
                .sum();
            let [left, _, right, _] = setup.margins;
            let mut at = match section {
                0 => left,
                1 => left + (self.grid.width - left - right - width) / 2.0,
                _ => self.grid.width - right - width,
            };
            let base = top + height(runs) / LINE * BASE;
            for run in runs {
                let Face { face, size } = run.face();
                let text = visible(&run.text);
                result =
                    result.and_then(|()| pen.words(&text, (at, base), size, face, run.look.color));
                at += fonts.width(&text, face) * size;
            }
            top += height(runs);
        }
        pen.surface.end_tagged();
        result
    }
}

/// Where a cell is.
fn area(row: StripPart, column: StripPart) -> Area {
    Area {
        left: column.start,
        top: row.start,
        width: column.length,
        height: row.length,
    }
}

/// Where the part of a merged range is that is on a page, and the rows and columns of it.
fn merged_area(range: &CellRange, rows: &Strip, columns: &Strip) -> (Area, (u32, u32)) {
    let within = |strip: &Strip, from: u32, to: u32| {
        let parts = strip
            .parts
            .iter()
            .filter(|part| (from..=to).contains(&part.number));
        parts.fold((0.0, 0), |(length, count), part| {
            (length + part.length, count + 1)
        })
    };
    let (height, row_count) = within(rows, range.top, range.bottom);
    let (width, column_count) = within(columns, range.left, range.right);
    let start = |strip: &Strip, number| strip.part(number).map_or(0.0, |part| part.start);
    let area = Area {
        left: start(columns, range.left),
        top: start(rows, range.top),
        width,
        height,
    };
    (area, (row_count, column_count))
}

fn line(pen: &mut Pen<'_>, border: Border, from: (f32, f32), to: (f32, f32)) {
    match border.stroke {
        BorderStroke::Solid => pen.rule(from, to, border.width, border.color),
        BorderStroke::Dashed => pen.dashed(from, to, border.width, border.color, &[4.0, 2.0]),
        BorderStroke::Dotted => pen.dashed(from, to, border.width, border.color, &[1.0, 1.5]),
        BorderStroke::Double => {
            let is_upright = (from.0 - to.0).abs() < f32::EPSILON;
            let moved =
                |(x, y): (f32, f32), by: f32| if is_upright { (x + by, y) } else { (x, y + by) };
            pen.rule(moved(from, -0.9), moved(to, -0.9), 0.6, border.color);
            pen.rule(moved(from, 0.9), moved(to, 0.9), 0.6, border.color);
        }
    }
}

/// Draws a picture into an area.
fn picture(pen: &mut Pen<'_>, bytes: &[u8], area: Area) -> io::Result<()> {
    let data = bytes.to_vec().into();
    let image = if bytes.starts_with(b"\x89PNG") {
        Image::from_png(data, false)
    } else if bytes.starts_with(b"GIF8") {
        Image::from_gif(data, false)
    } else {
        Image::from_jpeg(data, false)
    };
    let image =
        image.map_err(|why| io::Error::other(format!("the picture cannot be read: {why}")))?;
    let Some(size) = Size::from_wh(area.width, area.height) else {
        return Ok(());
    };
    pen.surface
        .push_transform(&Transform::from_translate(area.left, area.top));
    pen.surface.draw_image(image, size);
    pen.surface.pop();
    Ok(())
}
