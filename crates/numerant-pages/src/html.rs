//! Writes one page of HTML for each output: its tables, which sort and filter where scripts run, and are whole where
//! they do not. Nothing is fetched from anywhere.

use std::io::{self, Write};

use numerant_data::disk::OutFile;
use numerant_format::sheet::{Cell, Head, SheetSink, hexadecimal};
use numerant_markup::push_escaped;

use crate::table::{ShownCell, Side, Table};

const STYLE: &str = include_str!("page.css");
const SCRIPT: &str = include_str!("page.js");

/// Bytes that are handed on at a time.
const FULL: usize = 1 << 16;

/// A page that is being written.
pub(crate) struct HtmlWriter {
    file: OutFile,
    out: Vec<u8>,
    table: Table,
    /// Whether each column has numbers.
    has_numbers: Vec<bool>,
    totals: Vec<(usize, String)>,
    /// The rows of each group so far.
    grouped: Vec<Vec<u8>>,
    waits_for_header: bool,
    is_begun: bool,
    number: usize,
}

impl HtmlWriter {
    /// Begins a page in a file.
    pub(crate) fn new(file: OutFile) -> Self {
        Self {
            file,
            out: Vec::with_capacity(2 * FULL),
            table: Table::default(),
            has_numbers: Vec::new(),
            totals: Vec::new(),
            grouped: Vec::new(),
            waits_for_header: false,
            is_begun: false,
            number: 0,
        }
    }

    fn push(&mut self, text: &str) {
        self.out.extend_from_slice(text.as_bytes());
    }

    fn push_text(&mut self, text: &str) {
        push_escaped(text, false, &mut self.out);
    }

    fn flush(&mut self) -> io::Result<()> {
        self.file.write_all(&self.out)?;
        self.out.clear();
        Ok(())
    }

    fn begin(&mut self, title: &str) {
        self.push("<!DOCTYPE html>\n<html lang=\"en\">\n<head>\n<meta charset=\"utf-8\">\n");
        self.push(
            "<meta name=\"viewport\" content=\"width=device-width, initial-scale=1\">\n<title>",
        );
        self.push_text(title);
        self.push("</title>\n<style>\n");
        self.push(STYLE);
        self.push("</style>\n</head>\n<body>\n<main>\n");
        self.is_begun = true;
    }

    /// Appends a cell; `value` is what it is sorted by, if that is not what it shows.
    fn cell(&mut self, cell: &ShownCell, value: Option<&str>) {
        let class = match cell.side {
            Side::Left if cell.is_whole && !cell.text.is_empty() => " class=\"w\"",
            Side::Left => "",
            Side::Center => " class=\"c\"",
            Side::Right | Side::Decimal(_) => " class=\"n\"",
        };
        self.push("<td");
        self.push(class);
        if let Some(value) = value.filter(|value| *value != cell.text) {
            self.push(" data-v=\"");
            push_escaped(value, true, &mut self.out);
            self.push("\"");
        }
        self.push(">");
        if cell.text.contains('\n') {
            let lines = cell.text.split('\n').enumerate();
            for (place, line) in lines {
                self.push(if place > 0 { "<br>" } else { "" });
                self.push_text(line);
            }
        } else {
            self.push_text(&cell.text);
        }
        self.push("</td>");
    }

    /// The records of a group, between its head and its subtotals.
    fn group(&mut self, place: usize) {
        let (head, sums) = self.table.group(place);
        let columns = self.table.columns.len();
        self.push(&format!(
            "<tbody class=\"group\"><tr class=\"head\"><th scope=\"rowgroup\" colspan=\"{columns}\">"
        ));
        self.push_text(&head);
        self.push("</th></tr>\n");
        let records = std::mem::take(&mut self.grouped[place]);
        self.out.extend(records);
        if !sums.is_empty() {
            self.totals_row("subtotal", &sums);
        }
        self.push("</tbody>\n");
    }

    /// A row of sums, by the places of their columns.
    fn totals_row(&mut self, name: &str, sums: &[(usize, ShownCell)]) {
        self.push("<tr class=\"sum\">");
        for place in 0..self.table.columns.len() {
            match sums.iter().find(|(known, _)| *known == place) {
                Some((_, cell)) => self.cell(cell, None),
                None if place == 0 => self.push(&format!("<th scope=\"row\">{name}</th>")),
                None => self.push("<td></td>"),
            }
        }
        self.push("</tr>\n");
    }

    fn header(&mut self, cells: &[Cell<'_>]) {
        self.table.set_header(cells);
        let group = self.table.groups.as_ref().map(|groups| groups.column);
        self.push("<thead><tr>");
        let cells = cells.iter().enumerate();
        let cells = cells.filter(|(place, _)| Some(*place) != group);
        for (place, (_, cell)) in cells.enumerate() {
            let column = self.table.columns.get(place).copied().unwrap_or_default();
            let mut style = String::new();
            for (name, color) in [
                ("background", column.header.fill),
                ("color", column.header.color),
            ] {
                if let Some(color) = color {
                    style.push_str(&format!("{name}:{};", hexadecimal(color)));
                }
            }
            if column.has_own_header && !column.header.is_bold {
                style.push_str("font-weight:normal;");
            }
            self.push("<th scope=\"col\"");
            if self.has_numbers.get(place) == Some(&true) {
                self.push(" class=\"n\"");
            }
            if !style.is_empty() {
                self.push(&format!(" style=\"{style}\""));
            }
            self.push(">");
            if let Cell::Text(text) = cell {
                self.push_text(text);
            }
            self.push("</th>");
        }
        self.push("</tr></thead>\n");
        if group.is_none() {
            self.push("<tbody>\n");
        }
    }
}

impl SheetSink for HtmlWriter {
    fn begin_sheet(&mut self, head: &Head) -> io::Result<()> {
        if !self.is_begun {
            let title = head.heading.title.as_ref().unwrap_or(&head.name);
            self.begin(title);
        }
        self.number += 1;
        self.table = Table::new(head);
        self.totals.clone_from(&head.totals);
        let group = self.table.groups.as_ref().map(|groups| groups.column);
        let plans = head.plans.iter().enumerate();
        let plans = plans.filter(|(place, _)| Some(*place) != group);
        self.has_numbers = plans.map(|(_, plan)| plan.name() == "number").collect();
        self.grouped.clear();
        self.waits_for_header = head.header.is_some();
        let number = self.number;
        self.push(&format!(
            "<section aria-labelledby=\"t{number}\">\n<h1 id=\"t{number}\">"
        ));
        let title = std::mem::take(&mut self.table.title);
        self.push_text(&title);
        self.push("</h1>\n");
        if let Some(subtitle) = self.table.subtitle.take() {
            self.push("<p class=\"sub\">");
            self.push_text(&subtitle);
            self.push("</p>\n");
        }
        let count = self.table.record_count();
        self.push(&format!(
            "<p class=\"count\">{count}</p>\n<div class=\"wide\"><table>\n"
        ));
        if !self.waits_for_header && group.is_none() {
            self.push("<tbody>\n");
        }
        Ok(())
    }

    fn row(&mut self, cells: &[Cell<'_>]) -> io::Result<()> {
        if std::mem::take(&mut self.waits_for_header) {
            self.header(cells);
            return Ok(());
        }
        let (group, shown) = self.table.record(cells)?;
        let column = self.table.groups.as_ref().map(|groups| groups.column);
        let begins = self.out.len();
        self.push("<tr>");
        let cells = cells.iter().enumerate();
        let cells = cells.filter(|(place, _)| Some(*place) != column);
        for (shown, (_, cell)) in shown.cells.iter().zip(cells) {
            let value = match cell {
                Cell::Number(value, _) | Cell::Moment(_, value, _) => Some(&**value),
                _ => None,
            };
            self.cell(shown, value);
        }
        self.push("</tr>\n");
        if let Some(group) = group {
            if group == self.grouped.len() {
                self.grouped.push(Vec::new());
            }
            self.grouped[group].extend(self.out.drain(begins..));
        }
        if self.out.len() > FULL {
            self.flush()?;
        }
        Ok(())
    }

    fn end_sheet(&mut self) -> io::Result<()> {
        let totals = std::mem::take(&mut self.totals);
        if let Some(groups) = &self.table.groups {
            groups.check(&totals)?;
            for place in 0..self.grouped.len() {
                self.group(place);
            }
        } else {
            self.push("</tbody>\n");
        }
        let totals = self.table.sums(&totals);
        if !totals.is_empty() {
            self.push("<tfoot>");
            self.totals_row("total", &totals);
            self.push("</tfoot>\n");
        }
        self.push("</table></div>\n</section>\n");
        self.flush()
    }

    fn finish(mut self: Box<Self>) -> io::Result<()> {
        self.push("</main>\n<script>\n");
        self.push(SCRIPT);
        self.push("</script>\n</body>\n</html>\n");
        self.flush()?;
        self.file.finish(false)
    }
}
