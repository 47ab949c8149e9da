//! Computed columns of the rows of a sheet: in the place and look of a column of the sheet, or after the others in
//! the look of the last of them.

use std::collections::HashMap;
use std::sync::Arc;

use super::{CellReference, RowCutter};
use crate::xlsx::edit::element::{Document, Element, Node};
use crate::xlsx::edit::styles::Styles;
use crate::xlsx::write::push_content;
use numerant_data::source::ReadProblem;
use numerant_format::sheet::{Cell, CellFormat, KeptFormat, Plan, kept_values, letters};

/// Computed columns of the rows of a sheet.
#[derive(Clone, Debug)]
pub struct ComputedColumns {
    /// Where each stands, from 0, in ascending order.
    pub columns: Vec<u32>,
    /// The column after those of the sheet.
    pub end: u32,
    /// What is above them.
    pub header: Vec<String>,
    /// How each is written.
    pub plans: Vec<Plan>,
    /// The number formats of the run, which values name by their places from 1.
    pub formats: Arc<[KeptFormat]>,
}

/// Columns on their way into a part.
pub(super) struct Computing<'a> {
    columns: &'a ComputedColumns,
    styles: &'a mut Styles,
    /// Styles with another number format: of a style and a format.
    derived: HashMap<(u32, CellFormat), u32>,
    part: &'a str,
}

impl<'a> Computing<'a> {
    pub(super) fn new(columns: &'a ComputedColumns, styles: &'a mut Styles, part: &'a str) -> Self {
        Self {
            columns,
            styles,
            derived: HashMap::new(),
            part,
        }
    }

    /// Appends the names of the columns to the header, and gives them the width of the column next to them.
    pub(super) fn head(&mut self, frame: &mut Document, above: u32) -> Result<(), ReadProblem> {
        let last = self.columns.columns.last().copied().unwrap_or(0);
        if let Some(dimension) = frame.root.child_mut("dimension") {
            let area = dimension.attribute("ref").unwrap_or_default();
            let known = super::Area::parse(&area);
            if let Some(mut area) = known {
                area.last.column = area.last.column.max(last);
                dimension.set_attribute("ref", Some(&area.to_string()));
            }
        }
        if let Some(columns) = frame
            .root
            .child_mut("cols")
            .filter(|_| last >= self.columns.end)
        {
            self.widths(columns, last);
        }
        let Some(data) = frame.root.child_mut("sheetData") else {
            return Ok(());
        };
        let is_header = |row: &&mut Element| row.attribute("r") == Some(above.to_string());
        if let Some(row) = data.elements_mut().find(is_header) {
            let header = self.columns.header.clone();
            let columns = self.columns.columns.iter().copied().zip(&header);
            let new = columns.filter(|(column, _)| *column >= self.columns.end);
            let cells: Vec<(u32, Cell<'_>)> = new
                .map(|(column, text)| (column, Cell::Text(text)))
                .collect();
            self.put(row, above, &cells)?;
        }
        Ok(())
    }

    /// The entry of the column next to the first goes on to the last, unless that has one.
    fn widths(&self, columns: &mut Element, last: u32) {
        let number = |element: &Element, name| -> Option<u32> {
            element.attribute(name).and_then(|text| text.parse().ok())
        };
        // Columns are counted from 1 here, so that the number of the first is that of the one next to it.
        let beside = self.columns.end;
        let taken = columns
            .elements()
            .filter_map(|entry| number(entry, "min"))
            .filter(|min| *min > beside)
            .min();
        let end = taken.map_or(last + 1, |taken| (taken - 1).min(last + 1));
        let mut entries = columns.elements_mut();
        let entry = entries.find(|entry| number(entry, "max") == Some(beside));
        if let Some(entry) = entry.filter(|_| end > beside) {
            entry.set_attribute("max", Some(&end.to_string()));
        }
    }

    /// Appends the values of a record, as they were kept, to its row.
    pub(super) fn row(
        &mut self,
        row: &mut Element,
        number: u32,
        kept: &str,
    ) -> Result<(), ReadProblem> {
        let columns = self.columns;
        let values = kept_values(kept, columns.plans.len());
        let cells: Vec<(u32, Cell<'_>)> = columns
            .plans
            .iter()
            .zip(&values)
            .zip(&columns.columns)
            .map(|((plan, value), column)| {
                let format = usize::from(value.format).checked_sub(1);
                let format = format.and_then(|place| columns.formats.get(place));
                (
                    *column,
                    plan.formatted_cell(value.class, value.text, format),
                )
            })
            .collect();
        self.put(row, number, &cells)
    }

    /// Puts cells into a row, in place of what is there: in the style of that, or, after the columns of the
    /// sheet, in the style of the last of these.
    fn put(
        &mut self,
        row: &mut Element,
        number: u32,
        cells: &[(u32, Cell<'_>)],
    ) -> Result<(), ReadProblem> {
        let end = self.columns.end;
        let column_of = |cell: &Element| {
            let place = cell
                .attribute("r")
                .and_then(|place| CellReference::parse(&place));
            place.map(|place| place.column)
        };
        let style_of = |row: &Element, column: Option<u32>| {
            let cell = row.elements().find(|cell| column_of(cell) == column)?;
            cell.attribute("s")?.parse::<u32>().ok()
        };
        let beside = style_of(row, end.checked_sub(1)).unwrap_or(0);
        let prefix = row.prefix().to_owned();
        row.open();
        for (column, cell) in cells {
            let base = if *column < end {
                style_of(row, Some(*column)).unwrap_or(0)
            } else {
                beside
            };
            let style = self.style(base, cell);
            let mut text = format!("<{prefix}c r=\"{}{number}\"", letters(*column));
            if style > 0 {
                text.push_str(&format!(" s=\"{style}\""));
            }
            let mut text = text.into_bytes();
            push_content(cell, None, &prefix, &mut text);
            let element = Node::Element(Document::parse(text, self.part)?.root);
            let is_at_or_behind = |child: &Node| matches!(child, Node::Element(cell) if column_of(cell).is_none_or(|known| known >= *column));
            let at = row.children.iter().position(is_at_or_behind);
            let at = at.unwrap_or(row.children.len());
            let is_there = matches!(row.children.get(at), Some(Node::Element(cell)) if column_of(cell) == Some(*column));
            row.children
                .splice(at..at + usize::from(is_there), [element]);
        }
        // Where the cells of a row begin and end is said only to be read faster.
        row.set_attribute("spans", None);
        Ok(())
    }

    /// The style next to a cell, with the number format of the cell.
    fn style(&mut self, beside: u32, cell: &Cell<'_>) -> u32 {
        let format = match cell {
            Cell::Blank | Cell::Text(_) => return beside,
            Cell::Number(_, format) | Cell::Moment(_, _, format) | Cell::Boolean(_, format) => {
                format
            }
        };
        if let Some(known) = self.derived.get(&(beside, format.clone())) {
            return *known;
        }
        let style = match format {
            // A number keeps the number format next to it only if that shows numbers as they are.
            CellFormat::General if self.styles.is_general(beside) => beside,
            format => self.styles.with_format(beside, &format.code()),
        };
        self.derived.insert((beside, format.clone()), style);
        style
    }
}

impl RowCutter {
    /// The styles of the workbook, to be added to.
    pub(super) fn styles(&self) -> Result<Styles, ReadProblem> {
        crate::xlsx::edit::gather::styles_of(&self.book)
    }
}
