//! Reads the cells of a table as a stream.

use std::sync::Arc;

use quick_xml::events::{BytesStart, Event};

use super::moments::{write_date, write_duration};
use super::styles::Styles;
use numerant_data::record::Tag;
use numerant_data::source::{Place, ReadProblem};
use numerant_format::sheet::{
    CellStyle, Epoch, NumberText, Oddities, Row, Rows, Uncomputed, letters,
};
use numerant_markup::{Flow, Markup, attribute, push_reference};

/// Rows and columns that a sheet may have.
const ROWS: u64 = 1_048_576;
const COLUMNS: u32 = 16_384;

/// The rows of a table.
pub(super) struct OdsRows {
    markup: Markup,
    state: State,
    /// A row that is there several times, and how often it is still to come.
    again: Row,
    left: u64,
}

impl OdsRows {
    /// The rows of a table, whose start the markup is after.
    pub(super) fn new(
        markup: Markup,
        styles: Arc<Styles>,
        is_empty: bool,
        on_uncomputed: Uncomputed,
    ) -> Self {
        Self {
            markup,
            state: State {
                styles,
                known: None,
                columns: Vec::new(),
                row: 0,
                repeated: 0,
                column: 0,
                cell: None,
                depth: 0,
                paragraphs: 0,
                in_paragraph: 0,
                text: String::new(),
                ended: is_empty,
                on_uncomputed,
                oddities: Oddities::default(),
            },
            again: Row::default(),
            left: 0,
        }
    }
}

#[derive(Clone, Debug, Default)]
struct CellHead {
    kind: String,
    value: String,
    error: bool,
    formula: Option<String>,
    style: Option<CellStyle>,
    is_merged: bool,
    repeated: u32,
}

struct State {
    styles: Arc<Styles>,
    /// The style that was looked up last.
    known: Option<(String, CellStyle)>,
    /// The style of cells that have none, for the columns up to each.
    columns: Vec<(u32, CellStyle)>,
    row: u64,
    /// How many rows the present one represents.
    repeated: u64,
    column: u32,
    cell: Option<CellHead>,
    /// Elements that are open inside the cell.
    depth: u32,
    paragraphs: u32,
    /// The depth at which the present paragraph began; 0 outside of one.
    in_paragraph: u32,
    text: String,
    ended: bool,
    on_uncomputed: Uncomputed,
    oddities: Oddities,
}

impl State {
    fn style(&mut self, style: &str) -> CellStyle {
        if let Some((known, found)) = &self.known
            && known == style
        {
            return *found;
        }
        let found = self.styles.cell_style(style);
        self.known = Some((style.to_owned(), found));
        found
    }

    fn begin_column(&mut self, tag: &BytesStart<'_>) -> Result<(), ReadProblem> {
        let repeated = repeats(attribute(tag, "number-columns-repeated").as_deref())?;
        let repeated = u32::try_from(repeated).unwrap_or(u32::MAX);
        let style = attribute(tag, "default-cell-style-name").unwrap_or_default();
        let before = self.columns.last().map_or(0, |known| known.0);
        let style = self.styles.cell_style(&style);
        self.columns.push((before.saturating_add(repeated), style));
        Ok(())
    }

    fn begin_row(&mut self, tag: &BytesStart<'_>) -> Result<(), ReadProblem> {
        self.row = self.row.saturating_add(self.repeated);
        self.repeated = repeats(attribute(tag, "number-rows-repeated").as_deref())?;
        self.column = 0;
        if attribute(tag, "visibility").is_some_and(|how| how != "visible") {
            self.oddities.hidden_rows += 1;
        }
        Ok(())
    }

    fn begin_cell(&mut self, tag: &BytesStart<'_>) -> Result<(), ReadProblem> {
        let mut head = CellHead {
            repeated: 1,
            ..CellHead::default()
        };
        let mut style = None;
        for attribute in tag.attributes().with_checks(false).flatten() {
            let value = || {
                let raw = attribute.value.as_ref();
                quick_xml::escape::unescape(raw).map_or_else(|_| raw.to_owned(), Into::into)
            };
            match attribute.key.local_name().as_ref() {
                "value-type" if attribute.value.as_ref() == "error" => head.error = true,
                "value-type" if head.kind.is_empty() => head.kind = value(),
                "value" | "date-value" | "time-value" | "boolean-value" | "string-value" => {
                    head.value = value();
                }
                "formula" => head.formula = Some(value()),
                "style-name" => style = Some(value()),
                "number-columns-repeated" => {
                    let repeated = repeats(Some(attribute.value.as_ref()))?;
                    head.repeated = u32::try_from(repeated).unwrap_or(u32::MAX);
                }
                "number-columns-spanned" | "number-rows-spanned"
                    if attribute.value.as_ref() != "1" =>
                {
                    head.is_merged = true;
                }
                _ => {}
            }
        }
        // A merged cell may say so twice, for its columns and its rows.
        if head.is_merged {
            self.oddities.merged += 1;
        }
        if !head.kind.is_empty() && head.kind != "string" {
            head.style = style.map(|style| self.style(&style));
        }
        self.cell = Some(head);
        self.depth = 0;
        self.paragraphs = 0;
        self.in_paragraph = 0;
        self.text.clear();
        Ok(())
    }

    fn end_cell(&mut self, row: &mut Row) -> Result<(), ReadProblem> {
        let Some(head) = self.cell.take() else {
            return Ok(());
        };
        let first = self.column;
        self.column = first.saturating_add(head.repeated);
        if let Some(formula) = &head.formula {
            self.oddities.formulas += 1;
            if head.kind.is_empty() {
                self.oddities.without_value(self.row + 1, first);
                if self.on_uncomputed == Uncomputed::Formula {
                    // The prefix names the language that it is written in.
                    let text = match formula.split_once(":=") {
                        Some((language, rest)) if language.len() < 8 => format!("={rest}"),
                        _ => formula.clone(),
                    };
                    row.push_text(first, text.as_bytes());
                }
            }
        }
        if head.error {
            self.oddities.errors += 1;
        }
        if head.kind.is_empty() {
            return Ok(());
        }
        let default = || {
            let column = self.columns.iter().find(|known| first < known.0);
            column.map_or(CellStyle::PLAIN, |known| known.1)
        };
        let CellStyle { shown, format } = head.style.unwrap_or_else(default);
        let mut value = Vec::new();
        let numbers = NumberText {
            epoch: Epoch::Year1900,
        };
        let mut tag = Tag::formatted(format);
        let fits = match head.kind.as_str() {
            "float" | "percentage" | "currency" => {
                numbers.write(head.value.as_bytes(), shown, &mut value)
            }
            "date" => {
                write_date(&head.value, shown, &mut value);
                true
            }
            "time" => write_duration(&head.value, shown, &mut value),
            "boolean" => {
                let shown = self.text.as_str();
                let spelled = shown.eq_ignore_ascii_case(&head.value);
                let word = if spelled {
                    shown.to_owned()
                } else {
                    head.value.to_uppercase()
                };
                value.extend_from_slice(word.as_bytes());
                tag = Tag::PLAIN;
                true
            }
            _ => {
                let text = match self.paragraphs {
                    0 => head.value.as_str(),
                    _ => self.text.as_str(),
                };
                value.extend_from_slice(text.as_bytes());
                tag = Tag::TEXT;
                true
            }
        };
        if !fits {
            return Err(ReadProblem::Damaged {
                what: format!(
                    "cell {}{}: '{}' is no {}",
                    letters(first),
                    self.row + 1,
                    head.value,
                    head.kind
                ),
            });
        }
        if value.is_empty() {
            return Ok(());
        }
        if self.column > COLUMNS {
            return Err(ReadProblem::Damaged {
                what: format!("there is no column after XFD (row {})", self.row + 1),
            });
        }
        for column in first..self.column {
            row.push_tagged(column, tag, |out| out.extend_from_slice(&value));
        }
        Ok(())
    }

    /// Takes an event inside a cell. Only paragraphs of the cell itself are its text, not those of
    /// notes and drawings.
    fn inside(&mut self, event: &Event<'_>) -> Result<(), ReadProblem> {
        match event {
            Event::Start(tag) => {
                self.depth += 1;
                if self.depth == 1 && tag.local_name().as_ref() == "p" {
                    if self.paragraphs > 0 {
                        self.text.push('\n');
                    }
                    self.paragraphs += 1;
                    self.in_paragraph = 1;
                } else if self.in_paragraph > 0 && is_note(tag) {
                    self.in_paragraph = 0;
                }
            }
            Event::End(_) => {
                self.depth = self.depth.saturating_sub(1);
                if self.depth == 0 {
                    self.in_paragraph = 0;
                }
            }
            Event::Empty(tag) if self.in_paragraph > 0 => match tag.local_name().as_ref() {
                "s" => {
                    let count = attribute(tag, "c").and_then(|text| text.parse().ok());
                    self.text
                        .extend(std::iter::repeat_n(' ', count.unwrap_or(1).min(100_000)));
                }
                "tab" => self.text.push('\t'),
                "line-break" => self.text.push('\n'),
                _ => {}
            },
            Event::Empty(tag) if self.depth == 0 && tag.local_name().as_ref() == "p" => {
                if self.paragraphs > 0 {
                    self.text.push('\n');
                }
                self.paragraphs += 1;
            }
            Event::Text(text) if self.in_paragraph > 0 => {
                self.text.push_str(&text.xml10_content());
            }
            Event::CData(text) if self.in_paragraph > 0 => {
                self.text.push_str(&text.xml10_content());
            }
            Event::GeneralRef(name) if self.in_paragraph > 0 => {
                push_reference(name, &mut self.text)?;
            }
            _ => {}
        }
        Ok(())
    }

    fn take(&mut self, event: &Event<'_>, row: &mut Row) -> Result<Flow, ReadProblem> {
        if self.cell.is_some() {
            if self.depth == 0
                && let Event::End(tag) = event
                && matches!(
                    tag.local_name().as_ref(),
                    "table-cell" | "covered-table-cell"
                )
            {
                self.end_cell(row)?;
                return Ok(Flow::On);
            }
            self.inside(event)?;
            return Ok(Flow::On);
        }
        match event {
            Event::Start(tag) => match tag.local_name().as_ref() {
                "table-cell" | "covered-table-cell" => self.begin_cell(tag)?,
                "table-row" => self.begin_row(tag)?,
                "table-column" => self.begin_column(tag)?,
                _ => {}
            },
            Event::Empty(tag) => match tag.local_name().as_ref() {
                "table-cell" | "covered-table-cell" => {
                    self.begin_cell(tag)?;
                    self.end_cell(row)?;
                }
                "table-row" => {
                    self.begin_row(tag)?;
                    row.number = self.row.saturating_add(1);
                    return Ok(Flow::Pause);
                }
                "table-column" => self.begin_column(tag)?,
                _ => {}
            },
            Event::End(tag) => match tag.local_name().as_ref() {
                "table-row" => {
                    row.number = self.row.saturating_add(1);
                    return Ok(Flow::Pause);
                }
                "table" => {
                    self.ended = true;
                    return Ok(Flow::Pause);
                }
                _ => {}
            },
            _ => {}
        }
        Ok(Flow::On)
    }
}

/// Whether an element inside a paragraph is no part of its text.
fn is_note(tag: &BytesStart<'_>) -> bool {
    matches!(tag.local_name().as_ref(), "annotation" | "note" | "frame")
}

/// How often a row, column or cell is there: what has too many digits is as much as can be.
pub(super) fn repeats(text: Option<&str>) -> Result<u64, ReadProblem> {
    let Some(text) = text else {
        return Ok(1);
    };
    let is_number = !text.is_empty() && text.bytes().all(|byte| byte.is_ascii_digit());
    if !is_number {
        let what = format!("'{text}' is not how often a row or cell is repeated");
        return Err(ReadProblem::Damaged { what });
    }
    Ok(text.parse().unwrap_or(u64::MAX).max(1))
}

impl Rows for OdsRows {
    fn next(&mut self, row: &mut Row) -> Result<bool, (Place, ReadProblem)> {
        if self.left > 0 {
            self.left -= 1;
            self.again.number += 1;
            row.number = self.again.number;
            row.bytes.extend_from_slice(&self.again.bytes);
            row.cells.extend_from_slice(&self.again.cells);
            return Ok(true);
        }
        if self.state.ended {
            return Ok(false);
        }
        let state = &mut self.state;
        let more = self.markup.pull(|event| state.take(&event, row));
        let at = |row: u64, problem| {
            let place = Place::row(row);
            (place, problem)
        };
        let more = more.map_err(|problem| at(self.state.row.saturating_add(1), problem))?;
        if !more {
            let what = "the sheet ends in the middle of its rows".to_owned();
            return Err(at(
                self.state.row.saturating_add(1),
                ReadProblem::Damaged { what },
            ));
        }
        if self.state.ended {
            return Ok(false);
        }
        if !row.is_blank() {
            let last = self.state.row.saturating_add(self.state.repeated);
            if last > ROWS {
                let what = format!("a row with values is there up to row {last}");
                return Err(at(row.number, ReadProblem::Damaged { what }));
            }
            if self.state.repeated > 1 {
                self.left = self.state.repeated - 1;
                self.again.number = row.number;
                self.again.bytes.clone_from(&row.bytes);
                self.again.cells.clone_from(&row.cells);
            }
        }
        Ok(true)
    }

    fn oddities(&self) -> Oddities {
        self.state.oddities
    }

    fn forget_oddities(&mut self) {
        self.state.oddities = Oddities::default();
    }
}
