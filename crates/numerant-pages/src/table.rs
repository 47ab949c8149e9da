//! A table as texts: what is shown of each cell, and on which side it stands.

use std::collections::HashMap;
use std::io;

use crate::group::Groups;
use numerant_data::value::grouped;
use numerant_format::sheet::{Cell, CellFormat, DisplayFormat, Head, HeaderStyle, Horizontal};

/// Where a text is in its column.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(crate) enum Side {
    Left,
    Center,
    Right,
    /// At the right, with the decimal mark, which is at this byte, below the others.
    Decimal(usize),
}

/// A cell as it is shown.
#[derive(Clone, Debug, PartialEq, Eq)]
pub(crate) struct ShownCell {
    pub(crate) text: String,
    pub(crate) side: Side,
    /// It is not broken into lines.
    pub(crate) is_whole: bool,
}

/// A column of a table.
#[derive(Clone, Copy, Debug, Default)]
pub(crate) struct Column {
    pub(crate) header: HeaderStyle,
    pub(crate) has_own_header: bool,
    horizontal: Option<Horizontal>,
}

/// What a row of a table is.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(crate) enum RowKind {
    /// A record.
    Record,
    /// The value of a group and its number of records, in one cell across all columns.
    GroupHead,
    /// The subtotals of a group, or the control totals.
    Subtotal,
}

/// A row of a table.
#[derive(Clone, Debug, PartialEq, Eq)]
pub(crate) struct TableRow {
    pub(crate) kind: RowKind,
    pub(crate) cells: Vec<ShownCell>,
}

/// A sheet as a table.
#[derive(Debug, Default)]
pub(crate) struct Table {
    /// The title, or the name of the sheet.
    pub(crate) title: String,
    pub(crate) subtitle: Option<String>,
    pub(crate) columns: Vec<Column>,
    pub(crate) header: Option<Vec<String>>,
    pub(crate) rows: Vec<TableRow>,
    /// The control totals below the records, if there are any.
    pub(crate) totals: Option<TableRow>,
    pub(crate) records: u64,
    formats: HashMap<CellFormat, DisplayFormat>,
    /// The number format of each column of the sheet, which its control total has.
    number_formats: Vec<Option<CellFormat>>,
    /// The groups of its records, whose column the table does not have.
    pub(crate) groups: Option<Groups>,
    /// The name of the column that groups are made by.
    group_name: Option<String>,
    /// The rows of each group so far.
    grouped: Vec<Vec<TableRow>>,
}

impl Table {
    /// Begins a table for a sheet.
    pub(crate) fn new(head: &Head) -> Self {
        // A table of one column has nothing but its groups.
        let group = head.group.filter(|_| head.plans.len() > 1);
        let places = (0..head.plans.len()).filter(|place| group != Some(*place));
        let columns = places.map(|place| {
            let style = head.styles.get(place).copied().unwrap_or_default();
            Column {
                header: style.header.unwrap_or_default(),
                has_own_header: style.header.is_some(),
                horizontal: style.alignment.horizontal,
            }
        });
        Self {
            title: head
                .heading
                .title
                .clone()
                .unwrap_or_else(|| head.name.clone()),
            subtitle: head.heading.subtitle.clone(),
            columns: columns.collect(),
            groups: group.map(|group| Groups::new(group, &head.totals)),
            records: head.records,
            number_formats: vec![None; head.plans.len()],
            ..Self::default()
        }
    }

    /// The number of its records in words.
    pub(crate) fn record_count(&self) -> String {
        records_in_words(self.records)
    }

    /// Takes the next row: the header, if there is one and it has not come yet, or a record.
    pub(crate) fn push(&mut self, cells: &[Cell<'_>], is_header: bool) -> io::Result<()> {
        if is_header {
            self.set_header(cells);
            return Ok(());
        }
        let (group, row) = self.record(cells)?;
        match group {
            None => self.rows.push(row),
            Some(group) => {
                if group == self.grouped.len() {
                    self.grouped.push(Vec::new());
                }
                self.grouped[group].push(row);
            }
        }
        Ok(())
    }

    /// Takes the header.
    pub(crate) fn set_header(&mut self, cells: &[Cell<'_>]) {
        let texts = cells.iter().map(|cell| match cell {
            Cell::Text(text) => visible(text),
            _ => String::new(),
        });
        let mut header: Vec<String> = texts.collect();
        if let Some(groups) = &self.groups {
            self.group_name = Some(header.remove(groups.column));
        }
        self.header = Some(header);
    }

    /// A record as a row, with the place of its group; it counts for that and is not kept.
    pub(crate) fn record(&mut self, cells: &[Cell<'_>]) -> io::Result<(Option<usize>, TableRow)> {
        let mut row = Vec::with_capacity(cells.len());
        for (place, cell) in cells.iter().enumerate() {
            row.push(self.shown(place, cell));
        }
        let mut group = None;
        if let Some(groups) = &mut self.groups {
            let value = row.remove(groups.column).text;
            group = Some(groups.take(&value, cells)?);
        }
        let kind = RowKind::Record;
        Ok((group, TableRow { kind, cells: row }))
    }

    /// Sets the control totals, and puts records into their groups.
    pub(crate) fn finish(&mut self, totals: &[(usize, String)]) -> io::Result<()> {
        let sums = self.sums(totals);
        self.totals = self.sum_row("total", sums);
        if let Some(groups) = &self.groups {
            groups.check(totals)?;
        }
        for (place, records) in std::mem::take(&mut self.grouped).into_iter().enumerate() {
            let (head, sums) = self.group(place);
            let kind = RowKind::GroupHead;
            let cells = vec![text_cell(head)];
            self.rows.push(TableRow { kind, cells });
            self.rows.extend(records);
            let subtotals = self.sum_row("subtotal", sums);
            self.rows.extend(subtotals);
        }
        Ok(())
    }

    /// A row of sums after its name; `None` if there are none.
    fn sum_row(&self, name: &str, sums: Vec<(usize, ShownCell)>) -> Option<TableRow> {
        if sums.is_empty() {
            return None;
        }
        let mut cells = vec![text_cell(String::new()); self.columns.len()];
        cells[0] = text_cell(name.to_owned());
        for (column, sum) in sums {
            cells[column] = sum;
        }
        let kind = RowKind::Subtotal;
        Some(TableRow { kind, cells })
    }

    /// The head of a group, and its subtotals by the places of their columns.
    pub(crate) fn group(&mut self, place: usize) -> (String, Vec<(usize, ShownCell)>) {
        let groups = self.groups.as_ref().map(|groups| &groups.groups);
        let Some(group) = groups.map(|groups| groups[place].clone()) else {
            return (String::new(), Vec::new());
        };
        let value = match group.value.as_str() {
            "" => "blank",
            value => value,
        };
        let name = match &self.group_name {
            Some(name) => format!("{name}: {value}"),
            None => value.to_owned(),
        };
        let head = format!("{name} ({})", records_in_words(group.records));
        let sums = group
            .sums
            .iter()
            .map(|(place, sum)| (*place, sum.to_string()));
        (head, self.sums(&sums.collect::<Vec<_>>()))
    }

    /// Sums by the places of their columns in the sheet, as the numbers of these are shown, by their places in the
    /// table.
    pub(crate) fn sums(&mut self, sums: &[(usize, String)]) -> Vec<(usize, ShownCell)> {
        let mut shown = Vec::new();
        for (place, sum) in sums {
            let Some(column) = self.column_of(*place) else {
                continue;
            };
            let format = self.number_formats.get(*place).cloned().flatten();
            let format = format.unwrap_or(CellFormat::General);
            shown.push((
                column,
                self.shown(*place, &Cell::Number(sum.as_str().into(), format)),
            ));
        }
        shown
    }

    /// The place in the table of a column of the sheet; `None` for that of groups.
    pub(crate) fn column_of(&self, place: usize) -> Option<usize> {
        match self.groups.as_ref().map(|groups| groups.column) {
            Some(group) if group == place => None,
            Some(group) if group < place => Some(place - 1),
            _ => Some(place),
        }
    }

    fn shown(&mut self, place: usize, cell: &Cell<'_>) -> ShownCell {
        let (text, usual) = match cell {
            Cell::Blank => (String::new(), Side::Left),
            Cell::Text(text) => (visible(text), Side::Left),
            Cell::Number(digits, format) => {
                if let Some(known) = self.number_formats.get_mut(place) {
                    known.get_or_insert_with(|| format.clone());
                }
                let text = visible(&self.display(format).number(digits));
                let mark = decimal_mark(&text);
                (text, Side::Decimal(mark))
            }
            Cell::Moment(_, moment, format) => {
                (visible(&self.display(format).number(moment)), Side::Left)
            }
            Cell::Boolean(value, format) => {
                let word = match format {
                    CellFormat::Boolean(spelling) => spelling.word(*value),
                    _ if *value => "TRUE",
                    _ => "FALSE",
                };
                (word.to_owned(), Side::Left)
            }
        };
        let column = self
            .column_of(place)
            .and_then(|place| self.columns.get(place));
        let stated = column.and_then(|column| column.horizontal);
        let side = match stated {
            None => usual,
            Some(Horizontal::Left | Horizontal::Justify) => Side::Left,
            Some(Horizontal::Center) => Side::Center,
            Some(Horizontal::Right) => Side::Right,
        };
        ShownCell {
            text,
            side,
            is_whole: !matches!(cell, Cell::Text(_)),
        }
    }

    fn display(&mut self, format: &CellFormat) -> &DisplayFormat {
        let formats = &mut self.formats;
        formats
            .entry(format.clone())
            .or_insert_with(|| DisplayFormat::new(&format.code()))
    }
}

fn records_in_words(count: u64) -> String {
    match count {
        1 => "1 record".to_owned(),
        count => format!("{} records", grouped(&count.to_string())),
    }
}

/// A cell with a text of Numerant.
fn text_cell(text: String) -> ShownCell {
    ShownCell {
        text,
        side: Side::Left,
        is_whole: false,
    }
}

/// The byte of the decimal mark of a number: the last point or comma with digits after it only up to its end.
fn decimal_mark(text: &str) -> usize {
    let digits_end = text
        .rfind(|character: char| character.is_ascii_digit())
        .map_or(text.len(), |last| last + 1);
    let number = &text[..digits_end];
    let mark = number.rfind(['.', ',']).filter(|mark| {
        let behind = number.len() - mark - 1;
        let other = if number.as_bytes()[*mark] == b'.' {
            ','
        } else {
            '.'
        };
        // Three digits after the only mark are a group.
        behind != 3 || number[..*mark].contains(other)
    });
    mark.unwrap_or(digits_end)
}

/// A text whose control characters show, as U+FFFD; blanks represent tabs.
pub(crate) fn visible(text: &str) -> String {
    if !text.contains(|character: char| character.is_control()) {
        return text.to_owned();
    }
    let text = text.replace("\r\n", "\n");
    text.chars()
        .map(|character| match character {
            '\n' => '\n',
            '\r' => '\n',
            '\t' => ' ',
            control if control.is_control() => '\u{fffd}',
            other => other,
        })
        .collect()
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn decimal_marks_are_found() {
        for (text, mark) in [
            ("1,234.50", 5),
            ("1.234,50 €", 5),
            ("1,234", 5),
            ("12", 2),
            ("($7.25)", 3),
            ("12.5%", 2),
            ("1,234.567", 5),
            ("", 0),
        ] {
            assert_eq!(decimal_mark(text), mark, "{text}");
        }
    }

    #[test]
    fn control_characters_show() {
        assert_eq!(visible("a\tb\u{0}c\r\nd\u{7f}"), "a b\u{fffd}c\nd\u{fffd}");
    }
}
