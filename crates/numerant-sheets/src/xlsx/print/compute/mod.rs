//! Computes the formulas that have no value (ECMA-376 Part 1, 18.17): arithmetic, comparisons, texts, and the
//! functions that forms and totals are made of. Any other formula is an error, and never blank.

mod functions;
mod operators;
mod parser;

use std::cell::RefCell;
use std::collections::{HashMap, HashSet};

use self::parser::Parser;
use super::cells::{Content, SheetCells};
use super::looks::Looks;
use super::named;
use super::setup::DefinedNames;
use crate::xlsx::cell_reference::{Area, CellReference};

/// Formulas that lead to each other.
const MAX_DEPTH: usize = 200;

/// A formula that cannot be computed.
#[derive(Clone, Debug, PartialEq, Eq, thiserror::Error)]
#[error("{place}: the formula {formula} has no computed value, and {why}")]
pub struct ComputeError {
    /// The sheet and the cell.
    pub place: String,
    /// The formula.
    pub formula: String,
    /// What is in the way.
    pub why: String,
}

/// The values of the cells of a workbook, with formulas computed when they are asked for.
pub(super) struct Computation<'c> {
    sheets: &'c [(String, SheetCells)],
    names: &'c DefinedNames,
    looks: &'c Looks,
    known: RefCell<HashMap<(usize, CellReference), Content>>,
    open: RefCell<Vec<(usize, CellReference)>>,
    /// Formulas that cannot be computed and have a value that may be old.
    old_used: RefCell<HashSet<(usize, CellReference)>>,
}

/// What an operand is.
#[derive(Clone, Debug)]
enum Operand {
    Value(Content),
    Range(usize, Area),
    /// An argument that is left out.
    Missing,
}

type Computed<T> = Result<T, String>;

impl<'c> Computation<'c> {
    pub(super) fn new(
        sheets: &'c [(String, SheetCells)],
        names: &'c DefinedNames,
        looks: &'c Looks,
    ) -> Self {
        Self {
            sheets,
            names,
            looks,
            known: RefCell::default(),
            open: RefCell::default(),
            old_used: RefCell::default(),
        }
    }

    /// The value of a cell.
    pub(super) fn value(&self, sheet: usize, at: CellReference) -> Result<Content, ComputeError> {
        let (name, cells) = &self.sheets[sheet];
        let Some(cell) = cells.cells.get(&at) else {
            return Ok(Content::Blank);
        };
        let Content::Formula(formula) = &cell.content else {
            return Ok(cell.content.clone());
        };
        if let Some(known) = self.known.borrow().get(&(sheet, at)) {
            return Ok(known.clone());
        }
        let wrong = |why: String| ComputeError {
            place: named(name, at),
            formula: format!("={formula}"),
            why,
        };
        if self.open.borrow().contains(&(sheet, at)) {
            return Err(wrong("it refers to itself".to_owned()));
        }
        if self.open.borrow().len() > MAX_DEPTH {
            return Err(wrong("it refers to too many other cells".to_owned()));
        }
        self.open.borrow_mut().push((sheet, at));
        let mut parser = Parser {
            rest: formula,
            depth: 0,
            sheet,
            all: self,
        };
        let result = parser.whole();
        self.open.borrow_mut().pop();
        let value = match (result, cells.old.get(&at)) {
            (Ok(value), _) => value,
            (Err(_), Some(old)) => {
                self.old_used.borrow_mut().insert((sheet, at));
                old.clone()
            }
            (Err(why), None) => return Err(wrong(why)),
        };
        self.known.borrow_mut().insert((sheet, at), value.clone());
        Ok(value)
    }

    /// The values of the cells that a reference in a chart leads to, row by row; `None` if it leads to no range.
    pub(super) fn range(
        &self,
        sheet: usize,
        reference: &str,
    ) -> Result<Option<Vec<(Content, usize)>>, ComputeError> {
        let mut parser = Parser {
            rest: reference,
            depth: 0,
            sheet,
            all: self,
        };
        let Ok(Operand::Range(sheet, area)) = parser.expression(0) else {
            return Ok(None);
        };
        let mut values = Vec::new();
        for row in area.first.row..=area.last.row.min(area.first.row + 10_000) {
            for column in area.first.column..=area.last.column.min(area.first.column + 1000) {
                let at = CellReference { row, column };
                let style = self.sheets[sheet]
                    .1
                    .cells
                    .get(&at)
                    .map_or(0, |cell| cell.style);
                values.push((self.value(sheet, at)?, style));
            }
        }
        Ok(Some(values))
    }

    /// How many formulas of a sheet have a value that may be old.
    pub(super) fn old_values(&self, sheet: usize) -> u64 {
        let used = self.old_used.borrow();
        used.iter().filter(|(of, _)| *of == sheet).count() as u64
    }

    /// The looks of the cells.
    pub(super) fn looks(&self) -> &Looks {
        self.looks
    }

    fn inner(&self, sheet: usize, at: CellReference) -> Computed<Content> {
        self.value(sheet, at).map_err(|error| {
            format!(
                "{} cannot be computed: {} {}",
                error.place, error.formula, error.why
            )
        })
    }

    /// The values of the cells in a range that are not blank, row by row.
    fn values(&self, sheet: usize, area: Area) -> Computed<Vec<(CellReference, Content)>> {
        let cells = &self.sheets[sheet].1.cells;
        let first = CellReference {
            row: area.first.row,
            column: 0,
        };
        let last = CellReference {
            row: area.last.row,
            column: u32::MAX,
        };
        let mut values = Vec::new();
        for (at, _) in cells.range(first..=last) {
            if area.holds(*at) {
                values.push((*at, self.inner(sheet, *at)?));
            }
        }
        Ok(values)
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::xlsx::print::cells::{FormulaValues, SheetCells};
    use roxmltree::Document;

    /// What LibreOffice computes: a formula and its value.
    const COMPUTED: &str = include_str!("../../../../tests/data/computed.tsv");

    const CALLS: &str = "<worksheet><sheetData>\
        <row r='2'><c r='A2' t='str'><v>North Quay</v></c><c r='B2' t='str'><v>grain</v></c>\
        <c r='C2'><v>10.5</v></c><c r='D2'><v>100</v></c><c r='E2'><v>46000</v></c></row>\
        <row r='3'><c r='A3' t='str'><v>Coal Dock</v></c><c r='B3' t='str'><v>coal</v></c>\
        <c r='C3'><v>3</v></c><c r='D3'><v>0.1</v></c><c r='E3'><v>46001</v></c></row>\
        <row r='4'><c r='A4' t='str'><v>North Quay</v></c><c r='B4' t='str'><v>coal</v></c>\
        <c r='D4'><v>0.2</v></c><c r='E4'><v>46002</v></c></row>\
        <row r='5'><c r='A5' t='str'><v>East Mole</v></c><c r='C5'><v>7</v></c>\
        <c r='D5'><v>-3.25</v></c><c r='E5'><v>46003</v></c></row></sheetData></worksheet>";

    const OTHER: &str = "<worksheet><sheetData><row r='1'><c r='A1'><v>5</v></c></row>\
        <row r='2'><c r='A2' t='b'><v>1</v></c><c r='B2' t='str'><v>x y</v></c></row></sheetData></worksheet>";

    fn cells(text: &str) -> SheetCells {
        let document = Document::parse(text).expect("XML");
        SheetCells::read(
            document.root_element(),
            &[],
            FormulaValues::Current,
            "sheet",
        )
        .expect("a sheet")
    }

    /// The value of a formula in the cell H1 of a sheet like that of `computed.tsv`.
    fn value(formula: &str) -> Result<String, String> {
        let mut calls = cells(CALLS);
        let at = CellReference { row: 1, column: 7 };
        let content = Content::Formula(formula.to_owned());
        calls.cells.insert(
            at,
            crate::xlsx::print::cells::SheetCell { content, style: 0 },
        );
        let sheets = vec![
            ("Calls".to_owned(), calls),
            ("Other Sheet".to_owned(), cells(OTHER)),
        ];
        let (names, looks) = (DefinedNames::default(), Looks::plain());
        let computation = Computation::new(&sheets, &names, &looks);
        let value = computation
            .value(0, at)
            .map_err(|error| error.to_string())?;
        Ok(match value {
            Content::Blank | Content::Formula(_) => String::new(),
            Content::Number(number) => {
                let text = format!("{number:.12}");
                text.trim_end_matches('0').trim_end_matches('.').to_owned()
            }
            Content::Text(text) | Content::Error(text) => text,
            Content::Truth(truth) => truth.to_string().to_uppercase(),
        })
    }

    #[test]
    fn formulas_are_computed_as_a_spreadsheet_program_computes_them() {
        let mut wrong = Vec::new();
        for line in COMPUTED.lines() {
            let (formula, expected) = line.split_once('\t').expect("two columns");
            let found = value(formula);
            if found.as_deref() != Ok(expected) {
                wrong.push(format!("{formula}: {found:?}, not {expected}"));
            }
        }
        assert!(wrong.is_empty(), "{}", wrong.join("\n"));
        assert!(COMPUTED.lines().count() > 75);
    }

    #[test]
    fn what_is_not_computed_is_an_error() {
        for (formula, why) in [
            ("H1", "refers to itself"),
            ("SUM(H1:H3)", "refers to itself"),
            ("NPV(0.1,C2:C5)", "NPV"),
            ("Calls[dues]", "tables"),
            ("[1]Sheet1!A1", "not understood"),
            ("Nowhere!A1", "not there"),
            ("undefined_name", "not known"),
            ("1+", "ends too early"),
            ("(1", "')' is missing"),
            ("\"x", "does not end"),
            ("C2:C5*2", "one value"),
            ("1 2", "not understood"),
        ] {
            let found = value(formula).expect_err(formula);
            assert!(
                found.contains(why) && found.contains("cell H1"),
                "{formula}: {found}"
            );
        }
        let deep = "(".repeat(5_000);
        assert!(
            value(&deep)
                .expect_err("deep")
                .contains("nested too deeply")
        );
        let minus = "-".repeat(100_000) + "1";
        assert!(value(&minus).is_err());
    }
}
