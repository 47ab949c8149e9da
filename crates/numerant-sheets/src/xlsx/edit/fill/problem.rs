//! What can be wrong with a formatted workbook that is to be filled.

use std::io;

use crate::xlsx::cell_reference::ROWS;
use numerant_data::source::ReadProblem;

/// What is wrong with a formatted workbook, or with what is to be put into it.
#[derive(Clone, Debug, PartialEq, Eq, thiserror::Error)]
pub enum TemplateProblem {
    /// Only values are read of its format.
    #[error("a template is an .xlsx or .xlsm file, unpacked")]
    OtherFormat,
    /// It has no such sheet.
    #[error("there is no sheet '{sheet}'{}; sheets: {}", did_you_mean(.nearest), .sheets.join(", "))]
    NoSheet {
        /// The sheet.
        sheet: String,
        /// The one that is called nearly so.
        nearest: Option<String>,
        /// All that it has.
        sheets: Vec<String>,
    },
    /// It has no such name.
    #[error("there is no named range '{name}'{}; a cell is written as Sheet!B6", did_you_mean(.nearest))]
    NoName {
        /// The name.
        name: String,
        /// The one that is called nearly so.
        nearest: Option<String>,
    },
    /// A name that leads to no cell.
    #[error("the name '{name}' refers to no cell: {formula}")]
    NameOfNoCell {
        /// The name.
        name: String,
        /// What it represents.
        formula: String,
    },
    /// A cell that no sheet has.
    #[error("'{0}' is outside of the sheet, whose last cell is XFD1048576")]
    Outside(String),
    /// More records than there are rows.
    #[error("{records} records below {place} are too many: a sheet has {ROWS} rows")]
    TooManyRecords {
        /// How many.
        records: u64,
        /// The first cell.
        place: String,
    },
    /// More columns than there are.
    #[error("{columns} columns from {place} on are too many: a sheet has 16384 columns")]
    TooManyColumns {
        /// How many.
        columns: usize,
        /// The first cell.
        place: String,
    },
    /// What is put would cover something.
    #[error("{count} cell{} that would be filled hold{} something: {}", if *.count == 1 { "" } else { "s" }, if *.count == 1 { "s" } else { "" }, .cells.join(", "))]
    Occupied {
        /// The first of them.
        cells: Vec<String>,
        /// How many.
        count: u64,
    },
    /// A formula that is in several cells would lose its first.
    #[error("{0} holds a formula that other cells share, and cannot be replaced")]
    SharedFormula(String),
    /// Two things in one place.
    #[error("{first} and {second} would lie over each other at {at}")]
    Overlap {
        /// The place of one.
        first: String,
        /// The place of the other.
        second: String,
        /// Where.
        at: String,
    },
    /// Merged cells show only the first.
    #[error("{at} lies in the merged cells {merged}, of which only the first is shown")]
    Merged {
        /// The cell.
        at: String,
        /// The merged cells.
        merged: String,
    },
    /// Macros that the output cannot have.
    #[error("the template has macros, and the outputs cannot have them")]
    Macros,
    /// Files that no table is for.
    #[error("{count} file{} no table: {}", if *.count == 1 { " fits" } else { "s fit" }, .files.join(", "))]
    NoTable {
        /// The first of them.
        files: Vec<String>,
        /// How many.
        count: u64,
    },
    /// A file that several tables are for.
    #[error("{file} matches {first} and {second}; its records can go to only one of them")]
    TwoTables {
        /// The file.
        file: String,
        /// The place of one table.
        first: String,
        /// The place of the other.
        second: String,
    },
    /// Records that no table takes.
    #[error("{records} records would be lost: only values of one record are put into each copy")]
    OnlyValues {
        /// How many share the copy.
        records: u64,
    },
}

fn did_you_mean(nearest: &Option<String>) -> String {
    nearest.as_ref().map_or_else(String::new, |nearest| {
        format!(" (did you mean '{nearest}'?)")
    })
}

/// Why a copy could not be filled.
#[derive(Debug)]
pub enum FillError {
    /// The template cannot be read.
    Read(ReadProblem),
    /// What is to be put does not fit it.
    Form(TemplateProblem),
    /// The copy cannot be written.
    Write(io::Error),
}

impl From<ReadProblem> for FillError {
    fn from(problem: ReadProblem) -> Self {
        Self::Read(problem)
    }
}

impl From<TemplateProblem> for FillError {
    fn from(problem: TemplateProblem) -> Self {
        Self::Form(problem)
    }
}
