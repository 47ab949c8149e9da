//! A sheet that is filled, taken apart into rows and cells verbatim.

use std::collections::BTreeMap;
use std::io;

use quick_xml::events::{BytesStart, Event};

use crate::xlsx::cell_reference::{Area, CellReference};
use crate::xlsx::edit::SMALL;
use crate::xlsx::edit::edited_workbook::EditedWorkbook;
use numerant_data::source::ReadProblem;
use numerant_markup::push_raw;

/// A sheet into which something is put.
pub(super) struct FormSheet {
    pub(super) name: String,
    pub(super) part: String,
    /// What is before the rows and after them.
    pub(super) head: String,
    pub(super) tail: String,
    pub(super) prefix: String,
    pub(super) rows: BTreeMap<u32, FormRow>,
    pub(super) merged: Vec<Area>,
    /// The styles of columns: first and last, and the style.
    pub(super) columns: Vec<(u32, u32, u32)>,
}

/// A row verbatim.
pub(super) struct FormRow {
    /// The tag without `<`, `>` and what counts its cells.
    pub(super) tag: String,
    pub(super) style: u32,
    pub(super) cells: Vec<FormCell>,
}

/// A cell verbatim.
pub(super) struct FormCell {
    pub(super) column: u32,
    pub(super) text: String,
    pub(super) style: Option<u32>,
    /// Why it cannot give way in silence.
    pub(super) holds: Holds,
}

/// What is in a cell.
#[derive(Clone, Copy, PartialEq, Eq)]
pub(super) enum Holds {
    Nothing,
    Value,
    Formula,
    /// A formula that other cells need.
    SharedFormula,
}

impl FormSheet {
    pub(super) fn read(
        book: &EditedWorkbook,
        name: String,
        part: String,
    ) -> Result<Self, ReadProblem> {
        // It is held in memory, so it must not be too large.
        book.package.bytes(&part, SMALL)?;
        let mut sheet = Self {
            name,
            part,
            head: String::new(),
            tail: String::new(),
            prefix: String::new(),
            rows: BTreeMap::new(),
            merged: Vec::new(),
            columns: Vec::new(),
        };
        let mut reading = Reading::default();
        let place = sheet.part.clone();
        book.package
            .visit(&place, &mut |event| sheet.take(&event, &mut reading))
            .map_err(|error| match error.downcast::<ReadProblem>() {
                Ok(problem) => problem,
                Err(error) => ReadProblem::Io(error),
            })?;
        Ok(sheet)
    }

    pub(super) fn take(&mut self, event: &Event<'_>, reading: &mut Reading) -> io::Result<()> {
        match event {
            Event::Start(tag) | Event::Empty(tag) => {
                let closes = matches!(event, Event::Empty(_));
                match tag.local_name().as_ref() {
                    "sheetData" => {
                        let name = tag.name().as_ref().to_owned();
                        self.prefix = name
                            .strip_suffix("sheetData")
                            .unwrap_or_default()
                            .to_owned();
                        self.head.push_str(&format!("<{}>", tag.as_ref()));
                        self.tail.push_str(&format!("</{name}>"));
                        reading.inside = !closes;
                        reading.behind = closes;
                        return Ok(());
                    }
                    "row" if reading.inside && reading.cell.is_none() => {
                        reading.row = number(tag, "r").unwrap_or(reading.row + 1);
                        reading.column = 0;
                        let row = FormRow {
                            tag: without(tag, &["spans", "r"]),
                            style: number(tag, "s").unwrap_or(0),
                            cells: Vec::new(),
                        };
                        self.rows.insert(reading.row, row);
                        return Ok(());
                    }
                    "c" if reading.inside && reading.cell.is_none() => {
                        let said =
                            attribute(tag, "r").and_then(|place| CellReference::parse(&place));
                        let column = said.map_or(reading.column, |place| place.column);
                        reading.column = column + 1;
                        let cell = FormCell {
                            column,
                            text: raw(event),
                            style: number(tag, "s"),
                            holds: Holds::Nothing,
                        };
                        if closes {
                            self.push(cell, reading.row);
                        } else {
                            reading.cell = Some(cell);
                        }
                        return Ok(());
                    }
                    "f" => {
                        if let Some(cell) = &mut reading.cell {
                            let kind = attribute(tag, "t").unwrap_or_default();
                            let area = attribute(tag, "ref").and_then(|area| Area::parse(&area));
                            let wide = area.is_some_and(|area| area.first != area.last);
                            cell.holds = match kind.as_str() {
                                "shared" | "array" | "dataTable" if wide => Holds::SharedFormula,
                                _ => Holds::Formula,
                            };
                        }
                    }
                    "v" | "is" if !closes => {
                        if let Some(cell) = reading
                            .cell
                            .as_mut()
                            .filter(|cell| cell.holds == Holds::Nothing)
                        {
                            cell.holds = Holds::Value;
                        }
                    }
                    "mergeCell" => {
                        let area = attribute(tag, "ref").and_then(|area| Area::parse(&area));
                        self.merged.extend(area);
                    }
                    "col" => {
                        let style = number(tag, "style").unwrap_or(0);
                        if let (Some(first), Some(last)) = (number(tag, "min"), number(tag, "max"))
                        {
                            self.columns.push((first, last, style));
                        }
                    }
                    _ => {}
                }
            }
            Event::End(tag) => match tag.local_name().as_ref() {
                "sheetData" if reading.inside => {
                    reading.inside = false;
                    reading.behind = true;
                    return Ok(());
                }
                "row" if reading.inside && reading.cell.is_none() => return Ok(()),
                "c" if reading.cell.is_some() => {
                    if let Some(mut cell) = reading.cell.take() {
                        cell.text.push_str(&raw(event));
                        self.push(cell, reading.row);
                    }
                    return Ok(());
                }
                _ => {}
            },
            Event::Eof => return Ok(()),
            _ => {}
        }
        let text = raw(event);
        match (&mut reading.cell, reading.inside, reading.behind) {
            (Some(cell), ..) => cell.text.push_str(&text),
            // Nothing that means anything is between rows.
            (None, true, _) => {}
            (None, false, true) => self.tail.push_str(&text),
            (None, false, false) => self.head.push_str(&text),
        }
        Ok(())
    }

    pub(super) fn push(&mut self, cell: FormCell, row: u32) {
        if let Some(row) = self.rows.get_mut(&row) {
            row.cells.push(cell);
        }
    }

    /// The style of a column.
    pub(super) fn column_style(&self, column: u32) -> u32 {
        let of = self
            .columns
            .iter()
            .find(|(first, last, _)| (*first..=*last).contains(&(column + 1)));
        of.map_or(0, |(_, _, style)| *style)
    }
}

/// How far a sheet is read.
#[derive(Default)]
pub(super) struct Reading {
    inside: bool,
    behind: bool,
    row: u32,
    column: u32,
    cell: Option<FormCell>,
}

/// An event verbatim.
pub(super) fn raw(event: &Event<'_>) -> String {
    let mut writer = quick_xml::Writer::new(Vec::new());
    // Writing to memory does not fail.
    let _ = writer.write_event(event.clone());
    String::from_utf8(writer.into_inner()).unwrap_or_default()
}

pub(super) fn attribute(tag: &BytesStart<'_>, name: &str) -> Option<String> {
    numerant_markup::plain_attribute(tag, name)
}

pub(super) fn number(tag: &BytesStart<'_>, name: &str) -> Option<u32> {
    attribute(tag, name)?.parse().ok()
}

/// A tag's content without some attributes.
pub(super) fn without(tag: &BytesStart<'_>, names: &[&str]) -> String {
    let mut new = BytesStart::new(tag.name().as_ref().to_owned());
    for attribute in tag.attributes().with_checks(false).flatten() {
        let key = attribute.key.as_ref();
        if !names.contains(&key) {
            push_raw(&mut new, key, &attribute.value);
        }
    }
    new.as_ref().to_owned()
}
