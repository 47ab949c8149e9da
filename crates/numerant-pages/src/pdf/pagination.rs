//! Which rows of a table are on which page, and how high each is.

use std::borrow::Cow;

use super::layout::{Layout, MARGIN, PADDING, Paper, face_of, lines};
use super::pen::LINE;
use super::{SUBTITLE, TITLE};
use crate::fonts::{FontFace, Fonts};
use crate::table::{RowKind, ShownCell, Side, Table, TableRow};

/// The rows of a table that are on one page, and how high each is.
pub(super) struct PageRows {
    pub(super) from: usize,
    pub(super) to: usize,
    pub(super) has_title: bool,
    pub(super) has_end: bool,
}

/// A table with the pages that it takes.
pub(super) struct Paged<'t> {
    pub(super) table: &'t Table,
    /// The records, of which those that are higher than a page are in pieces.
    pub(super) rows: Vec<Cow<'t, TableRow>>,
    pub(super) layout: Layout,
    pub(super) heights: Vec<f32>,
    pub(super) header_height: f32,
    pub(super) pages: Vec<PageRows>,
}

impl<'t> Paged<'t> {
    pub(super) fn new(table: &'t Table, paper: Paper, fonts: &Fonts) -> Self {
        let layout = Layout::of(table, paper, fonts);
        let line = layout.size * LINE;
        let count = |text: &str, place: usize, face| {
            let width = (layout.widths[place] - 2.0 * PADDING) / layout.size;
            lines(text, width, face, fonts).len()
        };
        let height = |texts: &mut dyn Iterator<Item = (usize, &str)>, face| {
            let most = texts.map(|(place, text)| count(text, place, face)).max();
            most.unwrap_or(1).max(1) as f32 * line + PADDING
        };
        let header_height = table.header.as_ref().map_or(0.0, |header| {
            let texts = header.iter().map(String::as_str);
            height(&mut texts.enumerate(), FontFace::BOLD)
        });
        let room = layout.height - 2.0 * MARGIN - header_height;
        let first_room = room - title_height(table);
        let most_lines = ((first_room - PADDING) / line).max(1.0) as usize;
        let rows: Vec<Cow<'_, TableRow>> = table
            .rows
            .iter()
            .flat_map(|row| pieces(row, &layout, most_lines, fonts))
            .collect();
        let heights: Vec<f32> = rows
            .iter()
            .map(|row| {
                if row.kind == RowKind::GroupHead {
                    return line * 1.6 + PADDING;
                }
                let texts = row.cells.iter().map(|cell| cell.text.as_str());
                height(&mut texts.enumerate(), face_of(row.kind))
            })
            .collect();
        let end = 2.0 * line + PADDING + layout.size;
        let mut pages = Vec::new();
        let (mut from, mut taken) = (0, title_height(table));
        for (place, height) in heights.iter().enumerate() {
            // The head of a group is on the page of its first record.
            let follows = match rows[place].kind {
                RowKind::GroupHead => heights.get(place + 1).copied().unwrap_or_default(),
                RowKind::Record | RowKind::Subtotal => 0.0,
            };
            if taken + height + follows > room && place > from {
                pages.push(PageRows {
                    from,
                    to: place,
                    has_title: pages.is_empty(),
                    has_end: false,
                });
                (from, taken) = (place, 0.0);
            }
            taken += height;
        }
        let fits = taken + end <= room;
        pages.push(PageRows {
            from,
            to: heights.len(),
            has_title: pages.is_empty(),
            has_end: fits,
        });
        if !fits {
            pages.push(PageRows {
                from: heights.len(),
                to: heights.len(),
                has_title: false,
                has_end: true,
            });
        }
        Self {
            table,
            rows,
            layout,
            heights,
            header_height,
            pages,
        }
    }

    pub(super) fn page_count(&self) -> usize {
        self.pages.len() * self.layout.bands.len().max(1)
    }
}

/// Points that a title takes, with what is below it.
pub(super) fn title_height(table: &Table) -> f32 {
    let subtitle = table.subtitle.as_ref().map_or(0.0, |_| SUBTITLE * LINE);
    TITLE * LINE * 2.0 + subtitle
}

/// A record in pieces of at most so many lines.
fn pieces<'t>(
    row: &'t TableRow,
    layout: &Layout,
    most_lines: usize,
    fonts: &Fonts,
) -> Vec<Cow<'t, TableRow>> {
    if row.kind == RowKind::GroupHead {
        return vec![Cow::Borrowed(row)];
    }
    let cells = &row.cells;
    let broken: Vec<Vec<(usize, usize)>> = cells
        .iter()
        .enumerate()
        .map(|(place, cell)| {
            let width = (layout.widths[place] - 2.0 * PADDING) / layout.size;
            lines(&cell.text, width, face_of(row.kind), fonts)
        })
        .collect();
    let most = broken.iter().map(Vec::len).max().unwrap_or(1);
    if most <= most_lines {
        return vec![Cow::Borrowed(row)];
    }
    let piece = |from: usize| {
        let cells = cells.iter().zip(&broken).map(|(cell, lines)| {
            let lines = lines.get(from..).unwrap_or_default();
            let lines = &lines[..lines.len().min(most_lines)];
            let text = match (lines.first(), lines.last()) {
                (Some((start, _)), Some((_, end))) => cell.text[*start..*end].to_owned(),
                _ => String::new(),
            };
            // The decimal mark is in the first piece.
            let side = match cell.side {
                Side::Decimal(_) if from > 0 => Side::Right,
                side => side,
            };
            ShownCell {
                text: text.trim_end_matches('\n').to_owned(),
                side,
                is_whole: cell.is_whole,
            }
        });
        Cow::Owned(TableRow {
            kind: row.kind,
            cells: cells.collect(),
        })
    };
    (0..most).step_by(most_lines).map(piece).collect()
}
