//! The texts of cells: wrapped, shrunk, over blank cells next to them, or cut.

use krilla::tagging::Identifier;

use super::face::{Face, face};
use super::grid::{PADDING, Strip};
use super::{BASE, DrawnSheet, LINE};
use crate::fonts::MissingGlyph;
use crate::pdf::layout::lines;
use crate::pdf::pen::{Area, Pen};
use crate::table::visible;
use numerant_format::sheet::{PrintAlign, PrintCell, PrintKind, PrintVertical};

/// Points of a step of indentation.
const INDENT: f32 = 8.0;

/// The smallest share of its size to which a text shrinks.
const MIN_SHRINK: f32 = 0.4;

impl DrawnSheet<'_> {
    /// Draws what a cell shows, and returns what it is tagged by.
    pub(super) fn text(
        &mut self,
        pen: &mut Pen<'_>,
        cell: &PrintCell,
        rect: Area,
        rows: &Strip,
        columns: &Strip,
    ) -> Result<Option<Identifier>, MissingGlyph> {
        let sheet = self.sheet;
        let look = &sheet.looks[cell.look];
        let Face { face, mut size } = face(&look.font);
        let fonts = pen.fonts;
        let color = cell.color.unwrap_or(look.font.color);
        let text = visible(&cell.text);
        let indent = look.indent as f32 * INDENT;
        let room = (rect.width - 2.0 * PADDING - indent).max(1.0);
        let align = match (look.horizontal, cell.kind) {
            (PrintAlign::General, PrintKind::Text) => PrintAlign::Left,
            (PrintAlign::General, PrintKind::Number) => PrintAlign::Right,
            (PrintAlign::General, PrintKind::Word) => PrintAlign::Center,
            (stated, _) => stated,
        };
        let wraps = look.wraps && cell.kind == PrintKind::Text;
        let shown: Vec<String> = if wraps {
            let broken = lines(&text, room / size, face, fonts).into_iter();
            broken
                .map(|(from, to)| text[from..to].trim_end().to_owned())
                .collect()
        } else {
            vec![text.replace('\n', " ")]
        };
        let widest = |size: f32| {
            shown
                .iter()
                .map(|line| fonts.width(line, face) * size)
                .fold(0.0, f32::max)
        };
        // Digits that have no room would be another number.
        if look.shrinks || cell.kind == PrintKind::Number {
            let needed = widest(size);
            if needed > room {
                size *= (room / needed).max(MIN_SHRINK);
            }
        }
        let across = match align {
            PrintAlign::CenterAcross => self.across(cell, rect, columns),
            _ if !wraps && widest(size) > room => {
                self.overflowing(cell, rect, columns, align, widest(size))
            }
            _ => rect,
        };
        let is_clipped = widest(size) > across.width - 2.0 * PADDING
            || shown.len() as f32 * size * LINE > rect.height + size;
        let is_repeated = cell.row < rows.own.0 || cell.column < columns.own.0;
        let id = pen.begin_words(is_repeated);
        if is_clipped {
            self.cut += u64::from(!is_repeated && align != PrintAlign::Fill);
            pen.push_clip(across);
        }
        let height = shown.len() as f32 * size * LINE;
        let top = match look.vertical {
            PrintVertical::Top => rect.top + 1.0,
            PrintVertical::Center => rect.top + (rect.height - height) / 2.0,
            PrintVertical::Bottom => rect.top + rect.height - height - 1.0,
        };
        let mut result = Ok(());
        for (place, line) in shown.iter().enumerate() {
            let width = fonts.width(line, face) * size;
            let left = match align {
                PrintAlign::Right => rect.left + rect.width - PADDING - indent - width,
                PrintAlign::Center => rect.left + (rect.width - width) / 2.0,
                PrintAlign::CenterAcross => across.left + (across.width - width) / 2.0,
                _ => rect.left + PADDING + indent,
            };
            let base = top + place as f32 * size * LINE + size * BASE;
            let line = match align {
                PrintAlign::Fill => {
                    let times = (room / width.max(1.0)).floor().clamp(1.0, 500.0);
                    line.repeat(times as usize)
                }
                _ => line.clone(),
            };
            result = result.and_then(|()| pen.words(&line, (left, base), size, face, color));
            for (is_drawn, height) in [
                (look.font.is_underlined, base + size * 0.12),
                (look.font.is_struck, base - size * 0.28),
            ] {
                if is_drawn {
                    pen.rule((left, height), (left + width, height), size * 0.06, color);
                }
            }
        }
        if is_clipped {
            pen.surface.pop();
        }
        pen.surface.end_tagged();
        result.map(|()| Some(id).filter(|_| !is_repeated))
    }

    fn is_blank(&self, row: u32, column: u32) -> bool {
        let is_merged = self.merged.contains_key(&(row, column));
        !is_merged
            && self
                .cells
                .get(&(row, column))
                .is_none_or(|cell| cell.text.is_empty())
    }

    /// The cell and the blank ones next to it that a long text goes on into.
    fn overflowing(
        &self,
        cell: &PrintCell,
        rect: Area,
        columns: &Strip,
        align: PrintAlign,
        width: f32,
    ) -> Area {
        if cell.kind != PrintKind::Text || self.merged.contains_key(&(cell.row, cell.column)) {
            return rect;
        }
        let mut wide = rect;
        let missing = width + 2.0 * PADDING - rect.width;
        let (mut right, mut left) = match align {
            PrintAlign::Right => (0.0, missing),
            PrintAlign::Center => (missing / 2.0, missing / 2.0),
            _ => (missing, 0.0),
        };
        let place = columns
            .parts
            .iter()
            .position(|part| part.number == cell.column)
            .unwrap_or(0);
        for part in &columns.parts[place + 1..] {
            if right <= 0.0 || !self.is_blank(cell.row, part.number) {
                break;
            }
            wide.width += part.length;
            right -= part.length;
        }
        for part in columns.parts[..place].iter().rev() {
            if left <= 0.0 || !self.is_blank(cell.row, part.number) {
                break;
            }
            wide.left -= part.length;
            wide.width += part.length;
            left -= part.length;
        }
        wide
    }

    /// The cell and the blank ones after it across which a text is centered.
    fn across(&self, cell: &PrintCell, rect: Area, columns: &Strip) -> Area {
        let mut wide = rect;
        let place = columns
            .parts
            .iter()
            .position(|part| part.number == cell.column)
            .unwrap_or(0);
        for part in &columns.parts[place + 1..] {
            let look = self.look(cell.row, part.number);
            let goes_on = look.is_some_and(|look| look.horizontal == PrintAlign::CenterAcross);
            if !goes_on || !self.is_blank(cell.row, part.number) {
                break;
            }
            wide.width += part.length;
        }
        wide
    }
}
