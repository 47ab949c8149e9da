//! An open workbook as a source of several tables.

use std::sync::Arc;
use std::sync::atomic::AtomicU64;

use numerant_data::source::{ReadError, ReadProblem, SourcePath};
use numerant_format::sheet::{Row, SheetReader, SheetSource, Visibility, Workbook, choose};
use numerant_format::{Opening, ReadOptions, RecordReader, SheetsLeftOut, Source, Start};

/// An open workbook, and which of its sheets are read.
pub(crate) struct WorkbookSource {
    path: SourcePath,
    workbook: Arc<dyn Workbook>,
    format: &'static str,
    size: Option<u64>,
    compression: Option<&'static str>,
    taken: Arc<AtomicU64>,
    /// The sheets that are read, from 0.
    chosen: Vec<usize>,
    /// The names of those that would be, and are empty.
    empty: Vec<String>,
}

impl WorkbookSource {
    /// Chooses the sheets of a workbook that are read.
    pub(crate) fn open(
        start: &Start<'_>,
        workbook: Arc<dyn Workbook>,
        format: &'static str,
        taken: Arc<AtomicU64>,
    ) -> Result<Self, ReadError> {
        let options = start.options;
        let failed = |problem| start.error(problem);
        let chosen = choose(workbook.sheets(), &options.read_sheet, start.all_sheets);
        let mut chosen = chosen.map_err(failed)?;
        let mut empty = Vec::new();
        if !options.context.may_be_empty {
            let passed = pass_over_empty(workbook.as_ref(), options, &mut chosen);
            empty = passed.map_err(failed)?;
        }
        Ok(Self {
            path: start.path.clone(),
            workbook,
            format,
            size: start.size,
            compression: start.compression,
            taken,
            chosen,
            empty,
        })
    }
}

impl Source for WorkbookSource {
    fn format_name(&self) -> &'static str {
        self.format
    }

    fn tables(&self) -> usize {
        self.chosen.len()
    }

    fn open_table(
        &mut self,
        table: usize,
        opening: Opening<'_>,
    ) -> Result<Box<dyn RecordReader>, ReadError> {
        let source = SheetSource {
            path: &self.path,
            format: self.format,
            size: self.size,
            compression: self.compression,
            taken: Arc::clone(&self.taken),
            may_be_empty: opening.options.context.may_be_empty,
        };
        let reader = SheetReader::open(
            &source,
            &self.workbook,
            self.chosen.get(table).copied().unwrap_or_default(),
            opening.options,
            opening.batch_size,
            opening.largest_record,
        )?;
        Ok(Box::new(reader))
    }

    fn sheets_left_out(&self) -> Option<SheetsLeftOut> {
        let sheets = self.workbook.sheets();
        let without_cells = sheets.iter().filter(|sheet| !sheet.has_cells);
        let not_chosen = sheets
            .iter()
            .enumerate()
            .filter(|(place, sheet)| sheet.has_cells && !self.chosen.contains(place))
            .filter(|(_, sheet)| !self.empty.contains(&sheet.name));
        Some(SheetsLeftOut {
            empty: self.empty.clone(),
            not_chosen: not_chosen.map(|(_, sheet)| sheet.name.clone()).collect(),
            without_cells: without_cells.map(|sheet| sheet.name.clone()).collect(),
        })
    }
}

/// Leaves out the sheets without any value of those that are chosen, and returns their names. Where
/// no sheet was asked for and the first is empty, the next one that is not is chosen. One that was
/// asked for alone stays.
fn pass_over_empty(
    workbook: &dyn Workbook,
    options: &ReadOptions,
    chosen: &mut Vec<usize>,
) -> Result<Vec<String>, ReadProblem> {
    let sheets = workbook.sheets();
    let is_empty = |sheet: usize| -> Result<bool, ReadProblem> {
        let mut rows = workbook.rows(sheet, options.on_uncomputed)?;
        let mut row = Row::default();
        loop {
            row.clear();
            // What is wrong with a row is reported when it is read.
            match rows.next(&mut row) {
                // Where nothing is computed, something is there.
                Ok(false) => return Ok(rows.oddities().formulas_without_value == 0),
                Ok(true) if row.is_blank() => {}
                Ok(true) | Err(_) => return Ok(false),
            }
        }
    };
    if let ([_], false) = (chosen.as_slice(), options.read_sheet.is_empty()) {
        return Ok(Vec::new());
    }
    let mut empty = Vec::new();
    let mut filled = Vec::new();
    for sheet in chosen.iter().copied() {
        if is_empty(sheet)? {
            empty.push(sheet);
        } else {
            filled.push(sheet);
        }
    }
    if filled.is_empty() && options.read_sheet.is_empty() {
        let shown = (0..sheets.len()).filter(|sheet| {
            let info = &sheets[*sheet];
            info.has_cells && info.visibility == Visibility::Visible && !empty.contains(sheet)
        });
        for sheet in shown.collect::<Vec<_>>() {
            if !is_empty(sheet)? {
                filled.push(sheet);
                break;
            }
            empty.push(sheet);
        }
    }
    empty.sort_unstable();
    let names: Vec<String> = empty
        .iter()
        .map(|sheet| sheets[*sheet].name.clone())
        .collect();
    if filled.is_empty() {
        return Err(ReadProblem::EmptyWorkbook { sheets: names });
    }
    *chosen = filled;
    Ok(names)
}
