//! A copy: the rows of a sheet and of the tables that are put into it, at the same time.

use numerant_data::narrow::to_u32;
use std::collections::HashMap;
use std::io::{self, Write};

use super::PutTable;
use super::sheet::FormSheet;
use crate::xlsx::cell_reference::{Area, CellReference};
use crate::xlsx::edit::element::{Document, Node};
use crate::xlsx::edit::styles::Styles;
use crate::xlsx::write::push_content;
use numerant_format::sheet::{Cell, CellFormat, Kept, KeptValue, looks_typed};

/// Bytes of a sheet that are handed on at a time.
const FULL: usize = 1 << 17;

/// A table whose records are being written.
pub(super) struct OpenTable<'a> {
    pub(super) table: &'a PutTable,
    pub(super) area: Area,
    pub(super) rows: Kept,
}

/// A sheet that is being filled.
pub(super) struct Filling<'a> {
    pub(super) sheet: &'a FormSheet,
    pub(super) styles: &'a mut Option<Styles>,
    pub(super) style_down: bool,
    pub(super) areas: Vec<Area>,
    /// Styles with another number format: of a style and a format.
    pub(super) derived: HashMap<(u32, CellFormat), u32>,
}

impl Filling<'_> {
    pub(super) fn write(
        &mut self,
        mut tables: Vec<OpenTable<'_>>,
        mut values: Vec<(CellReference, &str)>,
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
                let plan = numerant_format::sheet::plan_of(value);
                let cell = plan.0.cell(plan.1, value);
                let style = self.style(*place, place.row);
                new.push((place.column, self.cell(*place, style, &cell)));
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

    /// What is before the rows, with the area in which anything stands.
    pub(super) fn head(&self) -> String {
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
    pub(super) fn table_row(
        &mut self,
        open: &mut OpenTable<'_>,
        row: u32,
        new: &mut Vec<(u32, Vec<u8>)>,
    ) -> io::Result<()> {
        let first = open.area.first;
        let place = |column: usize| CellReference {
            row,
            column: first.column + to_u32(column),
        };
        if let Some(header) = open.table.header.as_ref().filter(|_| row == first.row) {
            for (column, text) in header.iter().enumerate() {
                let cell = if text.is_empty() {
                    Cell::Blank
                } else {
                    Cell::Text(text)
                };
                let style = self.style(place(column), row);
                new.push((place(column).column, self.cell(place(column), style, &cell)));
            }
            return Ok(());
        }
        if open.table.records == 0 {
            return Ok(());
        }
        open.rows.read()?;
        let from = if self.style_down {
            first.row + u32::from(open.table.header.is_some())
        } else {
            row
        };
        for (column, plan) in open.table.plans.iter().enumerate() {
            let KeptValue { class, text, .. } = open.rows.value(column);
            let style = self.style(place(column), from);
            let cell = plan.cell(class, text);
            new.push((place(column).column, self.cell(place(column), style, &cell)));
        }
        Ok(())
    }

    /// The style of a cell: its own in the row `from`, or that of this row or its column.
    pub(super) fn style(&self, place: CellReference, from: u32) -> u32 {
        let row = self.sheet.rows.get(&from);
        let cell = row.and_then(|row| row.cells.iter().find(|cell| cell.column == place.column));
        match (cell.and_then(|cell| cell.style), row) {
            (Some(style), _) => style,
            (None, Some(row)) if row.style > 0 => row.style,
            _ => self.sheet.column_style(place.column),
        }
    }

    /// A cell as text.
    pub(super) fn cell(&mut self, place: CellReference, style: u32, cell: &Cell<'_>) -> Vec<u8> {
        let format = match cell {
            Cell::Blank => CellFormat::General,
            Cell::Text(text) if looks_typed(text) => CellFormat::Text,
            Cell::Text(_) => CellFormat::General,
            Cell::Number(_, format) | Cell::Moment(_, _, format) | Cell::Boolean(_, format) => {
                format.clone()
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
        push_content(cell, None, prefix, &mut out);
        out
    }

    /// A style with a number format, unless it has one.
    pub(super) fn derived(&mut self, style: u32, format: CellFormat) -> u32 {
        if let Some(known) = self.derived.get(&(style, format.clone())) {
            return *known;
        }
        let Some(styles) = self.styles.as_mut() else {
            return style;
        };
        let code = format.code();
        let new = if styles.is_general(style) && code != "General" {
            styles.with_format(style, &code)
        } else {
            style
        };
        self.derived.insert((style, format), new);
        new
    }

    pub(super) fn write_row(
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
