//! The cells of a sheet: values, formulas and the numbers of their styles.

use std::collections::{BTreeMap, HashMap};

use roxmltree::Node;

use super::{child, elements, is_true, name, number, parsed};
use crate::xlsx::cell_formulas::Formulas;
use crate::xlsx::cell_reference::{Area, CellReference};
use crate::xlsx::strings::unescaped;
use numerant_data::source::ReadProblem;
use numerant_format::sheet::LeftOutDrawing;

/// What a cell holds.
#[derive(Clone, Debug, PartialEq)]
pub(super) enum Content {
    Blank,
    Number(f64),
    Text(String),
    Truth(bool),
    Error(String),
    /// A formula that has no value yet.
    Formula(String),
}

/// What the values that formulas have are worth.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(super) enum FormulaValues {
    /// They are those of the data.
    Current,
    /// They may be older than the data, as the workbook is to be computed when it is opened.
    MayBeOld,
}

/// A cell.
#[derive(Clone, Debug)]
pub(super) struct SheetCell {
    pub(super) content: Content,
    pub(super) style: usize,
}

/// Columns with a width of their own.
#[derive(Clone, Copy, Debug)]
pub(super) struct ColumnWidth {
    pub(super) first: u32,
    pub(super) last: u32,
    /// In characters; none if it is the usual width.
    pub(super) width: Option<f32>,
    pub(super) is_hidden: bool,
}

/// A row with a height of its own.
#[derive(Clone, Copy, Debug)]
pub(super) struct SheetRow {
    pub(super) height: Option<f32>,
    pub(super) is_fixed: bool,
    pub(super) is_hidden: bool,
}

/// The cells of a sheet.
#[derive(Debug, Default)]
pub(super) struct SheetCells {
    pub(super) cells: BTreeMap<CellReference, SheetCell>,
    pub(super) rows: HashMap<u32, SheetRow>,
    pub(super) columns: Vec<ColumnWidth>,
    pub(super) merged: Vec<Area>,
    /// The values that formulas had, if they may be old.
    pub(super) old: HashMap<CellReference, Content>,
    rich: u64,
}

/// A shared text, and whether its font changes within.
pub(super) struct SharedString {
    text: String,
    is_rich: bool,
}

/// The shared texts of a workbook.
pub(super) fn shared_strings(text: &str, path: &str) -> Result<Vec<SharedString>, ReadProblem> {
    if text.is_empty() {
        return Ok(Vec::new());
    }
    let document = parsed(text, path)?;
    let items = elements(Some(document.root_element())).filter(|item| name(*item) == "si");
    Ok(items.map(rich_text).collect())
}

/// The text of an element with runs, without how it is read aloud.
pub(super) fn rich_text(item: Node<'_, '_>) -> SharedString {
    let mut text = String::new();
    let mut runs = 0;
    for part in elements(Some(item)) {
        match name(part) {
            "t" => text.push_str(part.text().unwrap_or_default()),
            "r" => {
                runs += 1;
                let run = child(part, "t").and_then(|run| run.text());
                text.push_str(run.unwrap_or_default());
            }
            _ => {}
        }
    }
    SharedString {
        text: unescaped(&text).into_owned(),
        is_rich: runs > 1,
    }
}

impl SheetCells {
    /// Reads a sheet.
    pub(super) fn read(
        root: Node<'_, '_>,
        strings: &[SharedString],
        formula_values: FormulaValues,
        path: &str,
    ) -> Result<Self, ReadProblem> {
        let mut found = Self::default();
        for column in elements(child(root, "cols")) {
            let (Some(first), Some(last)) =
                (number::<u32>(column, "min"), number::<u32>(column, "max"))
            else {
                continue;
            };
            found.columns.push(ColumnWidth {
                first: first.saturating_sub(1),
                last: last.saturating_sub(1),
                width: number(column, "width"),
                is_hidden: column.attribute("hidden").is_some_and(is_true),
            });
        }
        for range in elements(child(root, "mergeCells")) {
            found
                .merged
                .extend(range.attribute("ref").and_then(Area::parse));
        }
        let mut formulas = Formulas::default();
        let mut row_number = 0;
        for row in elements(child(root, "sheetData")) {
            row_number = number(row, "r").unwrap_or(row_number + 1);
            let height = number::<f32>(row, "ht").filter(|height| (0.0..=1000.0).contains(height));
            found.rows.insert(
                row_number,
                SheetRow {
                    height,
                    is_fixed: row.attribute("customHeight").is_some_and(is_true),
                    is_hidden: row.attribute("hidden").is_some_and(is_true),
                },
            );
            let mut column = 0;
            for cell in elements(Some(row)).filter(|cell| name(*cell) == "c") {
                let stated = cell.attribute("r").and_then(CellReference::parse);
                let at = stated.unwrap_or(CellReference {
                    row: row_number,
                    column,
                });
                column = at.column + 1;
                let (formula, value) = found.content(cell, at, strings, &mut formulas, path)?;
                let content = match formula {
                    Some(formula) if value == Content::Blank => Content::Formula(formula),
                    Some(formula)
                        if formula_values == FormulaValues::MayBeOld && !formula.is_empty() =>
                    {
                        found.old.insert(at, value);
                        Content::Formula(formula)
                    }
                    _ => value,
                };
                let style = number(cell, "s").unwrap_or(0);
                found.cells.insert(at, SheetCell { content, style });
            }
        }
        Ok(found)
    }

    /// The formula of a cell, if it has one, and its value.
    fn content(
        &mut self,
        cell: Node<'_, '_>,
        at: CellReference,
        strings: &[SharedString],
        formulas: &mut Formulas,
        path: &str,
    ) -> Result<(Option<String>, Content), ReadProblem> {
        let damaged = |what: &str| ReadProblem::Damaged {
            what: format!("cell {at}: {what} (in {path})"),
        };
        let value = child(cell, "v").map(|value| value.text().unwrap_or_default());
        let mut formula = None;
        if let Some(node) = child(cell, "f") {
            formulas.begin(|name| node.attribute(name).map(str::to_owned));
            formulas.text.push_str(node.text().unwrap_or_default());
            formula = Some(formulas.take(at));
        }
        let kind = cell.attribute("t").unwrap_or("n");
        if kind == "inlineStr" {
            let text = child(cell, "is").map(rich_text);
            self.rich += u64::from(text.as_ref().is_some_and(|text| text.is_rich));
            let value = text.map_or(Content::Blank, |text| Content::Text(text.text));
            return Ok((formula, value));
        }
        let Some(value) = value.filter(|value| !value.is_empty() || kind == "str") else {
            return Ok((formula, Content::Blank));
        };
        let value = match kind {
            "s" => {
                let place: usize = value
                    .trim()
                    .parse()
                    .map_err(|_| damaged("no shared text"))?;
                let text = strings
                    .get(place)
                    .ok_or_else(|| damaged("no such shared text"))?;
                self.rich += u64::from(text.is_rich);
                Content::Text(text.text.clone())
            }
            "str" | "d" => Content::Text(unescaped(value).into_owned()),
            "b" => Content::Truth(is_true(value.trim())),
            "e" => Content::Error(value.to_owned()),
            _ => Content::Number(value.trim().parse().map_err(|_| damaged("no number"))?),
        };
        Ok((formula, value))
    }

    /// What a sheet has besides cells that is not drawn, as far as it is in the sheet itself.
    pub(super) fn left_out(&self, root: Node<'_, '_>) -> Vec<(LeftOutDrawing, u64)> {
        let count = |wanted: &str| {
            let found = root
                .descendants()
                .filter(|node| node.is_element() && name(*node) == wanted);
            found.count() as u64
        };
        vec![
            (
                LeftOutDrawing::ConditionalFormats,
                count("conditionalFormatting"),
            ),
            (LeftOutDrawing::Sparklines, count("sparkline")),
            (LeftOutDrawing::RichTexts, self.rich),
        ]
    }
}
