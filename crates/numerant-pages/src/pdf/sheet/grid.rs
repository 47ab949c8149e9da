//! Where the rows and columns of a sheet are, and which of them are on which page.

use crate::fonts::Fonts;
use crate::pdf::layout::{Paper, lines};
use numerant_format::sheet::{CellRange, DrawingEnd, PrintCell, PrintSheet, RowHeight};

use super::face::{Face, face};

/// Points at each side of a text in its cell.
pub(super) const PADDING: f32 = 2.0;

/// The height up to which rows grow with their texts, as in spreadsheets.
const MAX_HEIGHT: f32 = 409.0;

/// The smallest scale to which a sheet is made to fit.
const MIN_SCALE: f32 = 0.1;

/// Rows or columns that are on a page, with where each begins and how wide it is; those that are repeated first.
#[derive(Clone, Debug, Default, PartialEq)]
pub(super) struct Strip {
    pub(super) parts: Vec<StripPart>,
    /// Those that are not repeated: the first and the last.
    pub(super) own: (u32, u32),
    /// Where the first of these begins on the page, and on the sheet.
    pub(super) own_start: (f32, f32),
    pub(super) length: f32,
}

/// A row or column on a page.
#[derive(Clone, Copy, Debug, PartialEq)]
pub(super) struct StripPart {
    pub(super) number: u32,
    pub(super) start: f32,
    pub(super) length: f32,
}

impl Strip {
    /// Where a row or column is on the page.
    pub(super) fn part(&self, number: u32) -> Option<StripPart> {
        self.parts
            .iter()
            .copied()
            .find(|part| part.number == number)
    }
}

/// The pages of a sheet.
#[derive(Debug)]
pub(super) struct Grid {
    pub(super) rows: Vec<f32>,
    pub(super) columns: Vec<f32>,
    pub(super) width: f32,
    pub(super) height: f32,
    pub(super) scale: f32,
    /// The rows and columns of each page, in the order of the pages.
    pub(super) pages: Vec<(Strip, Strip)>,
}

impl Grid {
    pub(super) fn of(sheet: &PrintSheet, paper: Paper, fonts: &Fonts) -> Self {
        let rows = heights(sheet, fonts);
        let mut grid = Self {
            rows,
            columns: sheet.columns.clone(),
            width: 0.0,
            height: 0.0,
            scale: sheet.setup.scale,
            pages: Vec::new(),
        };
        let (short, long) = sheet.setup.paper.unwrap_or(paper.size());
        (grid.width, grid.height) = if sheet.setup.is_landscape {
            (long, short)
        } else {
            (short, long)
        };
        let mut areas = sheet.setup.print_area.clone();
        if areas.is_empty() {
            areas.extend(grid.used(sheet));
        }
        let [left, top, right, bottom] = sheet.setup.margins;
        let room = (
            (grid.width - left - right).max(20.0),
            (grid.height - top - bottom).max(20.0),
        );
        if let Some((across, down)) = sheet.setup.fit {
            grid.scale = grid.fitting(&areas, room, across, down);
        }
        let room = (room.0 / grid.scale, room.1 / grid.scale);
        for area in areas {
            grid.take_area(sheet, area, room);
        }
        grid
    }

    /// The cells with something in them, and those after drawings.
    fn used(&mut self, sheet: &PrintSheet) -> Option<CellRange> {
        let shows = |cell: &&PrintCell| {
            let look = &sheet.looks[cell.look];
            !cell.text.is_empty() || look.fill.is_some() || look.borders.iter().any(Option::is_some)
        };
        let mut ends = sheet
            .cells
            .iter()
            .filter(shows)
            .map(|cell| (cell.row, cell.column))
            .reduce(|one, other| (one.0.max(other.0), one.1.max(other.1)));
        for drawing in &sheet.drawings {
            let end = match drawing.to {
                DrawingEnd::At(end) => (end.row, end.column),
                DrawingEnd::Size(width, height) => {
                    let right = self.start(true, drawing.from.column) + drawing.from.right + width;
                    let bottom = self.start(false, drawing.from.row) + drawing.from.down + height;
                    (self.at(false, bottom), self.at(true, right))
                }
            };
            let (row, column) = ends.unwrap_or_default();
            ends = Some((row.max(end.0), column.max(end.1)));
        }
        let (bottom, right) = ends?;
        // Drawings may go beyond the cells.
        self.extend(bottom, right);
        Some(CellRange {
            top: 0,
            left: 0,
            bottom,
            right,
        })
    }

    fn extend(&mut self, bottom: u32, right: u32) {
        let (bottom, right) = (bottom.min(100_000) as usize, right.min(2_000) as usize);
        if self.rows.len() <= bottom {
            self.rows.resize(bottom + 1, 15.0);
        }
        if self.columns.len() <= right {
            self.columns.resize(right + 1, 48.0);
        }
    }

    /// Where a column or row begins on the sheet.
    pub(super) fn start(&self, is_column: bool, number: u32) -> f32 {
        let lengths = if is_column { &self.columns } else { &self.rows };
        let usual = if is_column { 48.0 } else { 15.0 };
        let known: f32 = lengths.iter().take(number as usize).sum();
        known + (number as usize).saturating_sub(lengths.len()) as f32 * usual
    }

    /// The column or row at a place of the sheet.
    fn at(&self, is_column: bool, place: f32) -> u32 {
        let mut number = 0;
        while self.start(is_column, number + 1) < place && number < 20_000 {
            number += 1;
        }
        number
    }

    fn length(&self, is_column: bool, (first, last): (u32, u32)) -> f32 {
        let lengths = if is_column { &self.columns } else { &self.rows };
        lengths
            .iter()
            .skip(first as usize)
            .take((last - first + 1) as usize)
            .sum()
    }

    /// The scale at which all fits on so many pages.
    fn fitting(&self, areas: &[CellRange], room: (f32, f32), across: u32, down: u32) -> f32 {
        let mut scale: f32 = 1.0;
        for area in areas {
            let width = self.length(true, (area.left, area.right));
            let height = self.length(false, (area.top, area.bottom));
            if across > 0 && width > 0.0 {
                scale = scale.min(across as f32 * room.0 / width);
            }
            if down > 0 && height > 0.0 {
                scale = scale.min(down as f32 * room.1 / height);
            }
        }
        // Widths are sums of rounded numbers.
        (scale * 0.999).max(MIN_SCALE)
    }

    fn take_area(&mut self, sheet: &PrintSheet, area: CellRange, room: (f32, f32)) {
        self.extend(area.bottom, area.right);
        let setup = &sheet.setup;
        let columns = self.strips(
            true,
            (area.left, area.right),
            setup.repeated_columns,
            &setup.breaks.1,
            room.0,
        );
        let rows = self.strips(
            false,
            (area.top, area.bottom),
            setup.repeated_rows,
            &setup.breaks.0,
            room.1,
        );
        if setup.is_over_then_down {
            for row in &rows {
                self.pages
                    .extend(columns.iter().map(|column| (row.clone(), column.clone())));
            }
        } else {
            for column in &columns {
                self.pages
                    .extend(rows.iter().map(|row| (row.clone(), column.clone())));
            }
        }
    }

    /// Rows or columns in pieces that have room on a page.
    fn strips(
        &self,
        is_column: bool,
        (first, last): (u32, u32),
        repeated: Option<(u32, u32)>,
        breaks: &[u32],
        room: f32,
    ) -> Vec<Strip> {
        let lengths = if is_column { &self.columns } else { &self.rows };
        let length = |number: u32| lengths.get(number as usize).copied().unwrap_or(0.0);
        let mut strips: Vec<Strip> = Vec::new();
        let mut number = first;
        while number <= last {
            let mut strip = Strip::default();
            if let Some((from, to)) = repeated.filter(|(_, to)| number > *to) {
                for repeated in from..=to {
                    strip.push(repeated, length(repeated));
                }
                // What leaves no room for anything else is not repeated.
                if strip.length > room * 0.8 {
                    strip = Strip::default();
                }
            }
            strip.own_start = (strip.length, self.start(is_column, number));
            let begins = number;
            while number <= last {
                let fits = strip.length + length(number) <= room;
                let is_forced = number > begins && breaks.contains(&number);
                if number > begins && (!fits || is_forced) {
                    break;
                }
                strip.push(number, length(number));
                number += 1;
            }
            strip.own = (begins, number - 1);
            strips.push(strip);
        }
        strips.retain(|strip| strip.length > 0.0);
        strips
    }
}

impl Strip {
    fn push(&mut self, number: u32, length: f32) {
        self.parts.push(StripPart {
            number,
            start: self.length,
            length,
        });
        self.length += length;
    }
}

/// The heights of rows; those that fit their texts are as high as these.
fn heights(sheet: &PrintSheet, fonts: &Fonts) -> Vec<f32> {
    let mut heights: Vec<f32> = sheet
        .rows
        .iter()
        .map(|row| match row {
            RowHeight::Fixed(height) | RowHeight::Fitting(height) => *height,
        })
        .collect();
    for cell in &sheet.cells {
        let row = cell.row as usize;
        let is_fitting = matches!(sheet.rows.get(row), Some(RowHeight::Fitting(_)));
        let in_merged = sheet
            .merged
            .iter()
            .any(|range| super::holds(range, cell.row, cell.column));
        if !is_fitting || cell.text.is_empty() || in_merged {
            continue;
        }
        let look = &sheet.looks[cell.look];
        let Face { face, size } = face(&look.font);
        let width = sheet
            .columns
            .get(cell.column as usize)
            .copied()
            .unwrap_or(0.0);
        let count = if look.wraps {
            lines(
                &cell.text,
                ((width - 2.0 * PADDING) / size).max(1.0),
                face,
                fonts,
            )
            .len()
        } else {
            1
        };
        let needed = count as f32 * size * super::LINE + 2.0;
        heights[row] = heights[row].max(needed.min(MAX_HEIGHT));
    }
    heights
}
