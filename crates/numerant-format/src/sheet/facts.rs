//! What there is to a sheet besides its rows, which sheets of a workbook are read, and what of their cells.

use std::fmt;

use serde::{Deserialize, Serialize};

use numerant_data::source::ReadProblem;

/// Which sheets of a workbook are read.
#[derive(Clone, Debug, PartialEq, Eq, Hash, Serialize, Deserialize, schemars::JsonSchema)]
#[serde(from = "String", into = "String")]
pub struct SheetChoice(String);

impl From<String> for SheetChoice {
    fn from(text: String) -> Self {
        Self(text)
    }
}

impl From<SheetChoice> for String {
    fn from(choice: SheetChoice) -> Self {
        choice.0
    }
}

impl fmt::Display for SheetChoice {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str(&self.0)
    }
}

/// Whether a sheet is shown.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, Serialize)]
#[serde(rename_all = "kebab-case")]
pub enum Visibility {
    /// It is.
    #[default]
    Visible,
    /// It is hidden.
    Hidden,
    /// It is hidden so that the programs' own menus do not bring it back.
    VeryHidden,
}

/// A sheet of a workbook.
#[derive(Clone, Debug, PartialEq, Eq, Serialize)]
#[serde(rename_all = "kebab-case")]
pub struct SheetInfo {
    /// Its name.
    pub name: String,
    /// Whether it is shown.
    pub visibility: Visibility,
    /// Whether it has cells; charts and macros have none.
    pub has_cells: bool,
}

/// What was found in a sheet besides its records.
#[derive(Clone, Debug, Default, PartialEq, Eq, Serialize)]
#[serde(rename_all = "kebab-case")]
pub struct SheetFacts {
    /// The sheet that was read.
    pub sheet: String,
    /// All sheets of the workbook.
    pub sheets: Vec<SheetInfo>,
    /// The cells that were read, as `B3:H120`; known when all are read.
    pub range: String,
    /// Cells with formulas, of which the computed values were read.
    pub formulas: u64,
    /// Formulas without a computed value.
    pub formulas_without_value: u64,
    /// The first of their cells.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub first_without_value: Option<String>,
    /// Those were read as texts, and not as blank.
    pub formulas_as_text: bool,
    /// Cells that hold an error, such as `#N/A`.
    pub errors: u64,
    /// Ranges of merged cells: the first cell of each has the value.
    pub merged: u64,
    /// Rows that are hidden, and were read.
    pub hidden_rows: u64,
    /// The column after the last of the records, from 0.
    #[serde(skip)]
    pub end_column: u32,
    /// What there is besides the cells.
    #[serde(skip)]
    pub extras: SheetExtras,
}

/// What a sheet has besides its cells, which a workbook written anew has not.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, Serialize)]
#[serde(rename_all = "kebab-case")]
pub struct SheetExtras {
    /// Conditional formats and validations.
    pub rules: u64,
    /// Links of cells.
    pub links: u64,
    /// Whether there are charts or pictures.
    pub has_drawings: bool,
    /// Whether there are comments.
    pub has_comments: bool,
}

/// What is odd about the cells of a sheet.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub struct Oddities {
    /// Cells with a formula.
    pub formulas: u64,
    /// Cells with a formula that no program has computed.
    pub formulas_without_value: u64,
    /// Cells with an error value.
    pub errors: u64,
    /// Merged areas.
    pub merged: u64,
    /// Rows that are not shown.
    pub hidden_rows: u64,
    /// What there is besides the cells, where the format says so.
    pub extras: SheetExtras,
    /// The row, from 1, and column, from 0, of the first formula without a computed value.
    pub(super) first_without_value: Option<(u64, u32)>,
}

impl Oddities {
    /// Counts a formula without a computed value.
    pub fn without_value(&mut self, row: u64, column: u32) {
        self.formulas_without_value += 1;
        self.first_without_value.get_or_insert((row, column));
    }
}

/// What becomes of formulas that no program has computed, as libraries write them.
#[derive(
    Clone, Copy, Debug, Default, PartialEq, Eq, Serialize, Deserialize, schemars::JsonSchema,
)]
#[serde(rename_all = "kebab-case")]
pub enum Uncomputed {
    /// The sheet is refused.
    #[default]
    Error,
    /// The cell is blank.
    Blank,
    /// The cell is the formula as a text, such as `=B2*C2`.
    Formula,
}

/// What of a cell is read.
#[derive(
    Clone, Copy, Debug, Default, PartialEq, Eq, Serialize, Deserialize, schemars::JsonSchema,
)]
#[serde(rename_all = "kebab-case")]
pub enum CellContent {
    /// Its value.
    #[default]
    Value,
    /// The text that the sheet shows by its number format.
    Shown,
}

/// The numbers of the sheets that are chosen, from 0; the first that is shown if none is.
pub fn choose(
    sheets: &[SheetInfo],
    choices: &[SheetChoice],
    all: bool,
) -> Result<Vec<usize>, ReadProblem> {
    let with_cells = || (0..sheets.len()).filter(|sheet| sheets[*sheet].has_cells);
    let visible = |sheet: &usize| sheets[*sheet].visibility == Visibility::Visible;
    if with_cells().next().is_none() {
        return Err(ReadProblem::NoSheets);
    }
    if choices.is_empty() {
        if all {
            return Ok(with_cells().filter(visible).collect());
        }
        let first = with_cells().find(visible).or_else(|| with_cells().next());
        return Ok(Vec::from_iter(first));
    }
    let mut chosen = Vec::new();
    for SheetChoice(choice) in choices {
        let exact = sheets.iter().position(|sheet| sheet.name == *choice);
        let folded = || {
            let folded = choice.to_lowercase();
            sheets
                .iter()
                .position(|sheet| sheet.name.to_lowercase() == folded)
        };
        let number = || {
            let number = choice.parse::<usize>().ok()?;
            (1..=sheets.len()).contains(&number).then(|| number - 1)
        };
        let found: Vec<usize> = match exact.or_else(folded).or_else(number) {
            Some(sheet) => vec![sheet],
            None if choice == "all" => with_cells().collect(),
            None => {
                return Err(ReadProblem::NoSuchSheet {
                    wanted: choice.clone(),
                    sheets: sheets.iter().map(|sheet| sheet.name.clone()).collect(),
                });
            }
        };
        if let Some(without) = found.iter().find(|sheet| !sheets[**sheet].has_cells) {
            return Err(ReadProblem::SheetWithoutCells {
                sheet: sheets[*without].name.clone(),
            });
        }
        for sheet in found {
            if !chosen.contains(&sheet) {
                chosen.push(sheet);
            }
        }
    }
    Ok(chosen)
}
