//! A table as texts: what is shown of each cell, and on which side it stands.

use std::collections::HashMap;
use std::io;

use numerant_format::sheet::{Cell, CellFormat, DisplayFormat, Head, HeaderStyle, Horizontal};

/// Where a text stands in its column.
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

/// A sheet as a table.
#[derive(Debug, Default)]
pub(crate) struct Table {
    pub(crate) name: String,
    pub(crate) columns: Vec<Column>,
    pub(crate) header: Option<Vec<String>>,
    pub(crate) rows: Vec<Vec<ShownCell>>,
    /// The control totals, by the places of their columns.
    pub(crate) totals: Vec<(usize, ShownCell)>,
    pub(crate) records: u64,
    formats: HashMap<CellFormat, DisplayFormat>,
    /// The number format of each column, which its control total has.
    number_formats: Vec<Option<CellFormat>>,
}

impl Table {
    /// Begins a table for a sheet.
    pub(crate) fn new(head: &Head) -> Self {
        let columns = (0..head.plans.len()).map(|place| {
            let style = head.styles.get(place).copied().unwrap_or_default();
            Column {
                header: style.header.unwrap_or_default(),
                has_own_header: style.header.is_some(),
                horizontal: style.alignment.horizontal,
            }
        });
        Self {
            name: head.name.clone(),
            columns: columns.collect(),
            records: head.records,
            number_formats: vec![None; head.plans.len()],
            ..Self::default()
        }
    }

    /// The number of its records in words.
    pub(crate) fn record_count(&self) -> String {
        match self.records {
            1 => "1 record".to_owned(),
            count => format!("{} records", grouped(count)),
        }
    }

    /// Takes the next row: the header, if there is one and it has not come yet, or a record.
    pub(crate) fn push(&mut self, cells: &[Cell<'_>], is_header: bool) -> io::Result<()> {
        if is_header {
            let texts = cells.iter().map(|cell| match cell {
                Cell::Text(text) => visible(text),
                _ => String::new(),
            });
            self.header = Some(texts.collect());
            return Ok(());
        }
        let mut row = Vec::with_capacity(cells.len());
        for (place, cell) in cells.iter().enumerate() {
            row.push(self.shown(place, cell));
        }
        self.rows.push(row);
        Ok(())
    }

    /// Sets the control totals, which are shown as the numbers of their columns.
    pub(crate) fn set_totals(&mut self, totals: &[(usize, String)]) {
        for (place, sum) in totals {
            let format = self.number_formats.get(*place).cloned().flatten();
            let format = format.unwrap_or(CellFormat::General);
            let cell = Cell::Number(sum.as_str().into(), format);
            let shown = self.shown(*place, &cell);
            self.totals.push((*place, shown));
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
        let stated = self.columns.get(place).and_then(|column| column.horizontal);
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

/// A number with a comma between groups of three digits.
fn grouped(number: u64) -> String {
    let digits = number.to_string();
    let mut out = String::new();
    for (place, digit) in digits.chars().enumerate() {
        if place > 0 && (digits.len() - place).is_multiple_of(3) {
            out.push(',');
        }
        out.push(digit);
    }
    out
}

/// The byte of the decimal mark of a number: the last point or comma with digits behind it only up to its end.
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
        // Three digits behind the only mark are a group.
        behind != 3 || number[..*mark].contains(other)
    });
    mark.unwrap_or(digits_end)
}

/// A text whose control characters show, as U+FFFD; blanks stand for tabs.
fn visible(text: &str) -> String {
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
