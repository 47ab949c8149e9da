//! Makes records of the rows of a sheet: the first row with something in it names the columns.

use numerant_data::narrow::{LARGEST_RECORD, to_u32};
use std::collections::{HashMap, VecDeque};
use std::fmt;
use std::sync::Arc;
use std::sync::atomic::AtomicU64;

use super::column_style::{ColumnStyle, StyledRange};
use super::display::DisplayFormat;
use super::facts::{CellContent, Oddities, SheetFacts, SheetInfo, Uncomputed};
use super::row::{Row, letters};
use super::style::NumberFormats;
use crate::{Ragged, ReadOptions, ReadTally, RecordReader, SourceFacts};
use numerant_data::dialect::Dialect;
use numerant_data::record::{Batch, Columns, RejectedRecord, Tag, Unit, push_comma_separated};
use numerant_data::source::{Place, ReadError, ReadProblem, SourcePath};
use numerant_data::value::Size;

/// Rows that are looked at to tell how wide the records are.
const SAMPLE_ROWS: usize = 500;

/// The number formats of a source, ready to show values, by their numbers.
#[derive(Debug, Default)]
struct DisplayFormats {
    numbers: NumberFormats,
    formats: HashMap<u16, DisplayFormat>,
}

impl DisplayFormats {
    /// What is shown of the value of a cell; `None` if it is the value itself.
    fn shown(&mut self, value: &[u8], tag: Tag) -> Option<String> {
        let number = tag.number_format();
        let place = usize::from(number).checked_sub(1)?;
        let numbers = &self.numbers;
        let format = self.formats.entry(number).or_insert_with(|| {
            let codes = numbers.codes();
            DisplayFormat::new(codes.get(place).map_or("General", |code| code))
        });
        let value = std::str::from_utf8(value).ok()?;
        Some(if tag.is_text() {
            format.text(value)
        } else {
            format.number(value)
        })
    }
}

/// The rows of one sheet, from the top.
pub trait Rows: Send {
    /// Replaces what is in `row` with the next one; `false` when there are no more. Rows come in
    /// order; those without a value may be left out.
    fn next(&mut self, row: &mut Row) -> Result<bool, (Place, ReadProblem)>;

    /// What was found so far.
    fn oddities(&self) -> Oddities;

    /// Forgets what was found so far, if rows are read one by one.
    fn forget_oddities(&mut self) {}
}

/// An open workbook.
pub trait Workbook: Send + Sync {
    /// Its sheets, in order.
    fn sheets(&self) -> &[SheetInfo];

    /// How columns of the sheet with this number look; none where the format says nothing of it.
    ///
    /// # Errors
    ///
    /// If the sheet or its styles cannot be read.
    fn column_styles(
        &self,
        _sheet: usize,
        _range: &StyledRange,
    ) -> Result<Vec<ColumnStyle>, ReadProblem> {
        Ok(Vec::new())
    }

    /// Opens the sheet with this number, from 0. Formulas without a computed value are texts if
    /// that is asked for, else blank.
    fn rows(&self, sheet: usize, on_uncomputed: Uncomputed) -> Result<Box<dyn Rows>, ReadProblem>;
}

/// A source that is a sheet.
pub struct SheetReader {
    path: SourcePath,
    name: String,
    workbook: Arc<dyn Workbook>,
    /// Its number in the workbook, from 0.
    number: usize,
    rows: Box<dyn Rows>,
    facts: SourceFacts,
    sheet: SheetFacts,
    columns: Columns,
    header: Option<Batch>,
    /// Column of the sheet that the records begin in, from 0, and how many they have.
    first_column: u32,
    width: usize,
    /// Rows that were looked at and not handed on.
    waiting: VecDeque<Row>,
    spare: Row,
    ragged: Ragged,
    on_uncomputed: Uncomputed,
    /// The number formats by which values are shown, if that is what is read.
    shown: Option<DisplayFormats>,
    tally: ReadTally,
    batch_size: usize,
    largest_record: usize,
    /// The first row that was read, and the last one with something in it.
    first_row: u64,
    last_row: u64,
    ended: bool,
}

impl fmt::Debug for SheetReader {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.debug_struct("SheetReader")
            .field("name", &self.name)
            .finish_non_exhaustive()
    }
}

/// What a reader needs to know of the file that its sheet is in.
pub struct SheetSource<'a> {
    /// The workbook.
    pub path: &'a SourcePath,
    /// The name of its format.
    pub format: &'static str,
    /// Bytes on disk, where they are known.
    pub size: Option<u64>,
    /// How it is compressed, if it is.
    pub compression: Option<&'static str>,
    /// Counts the bytes that were taken from the file.
    pub taken: Arc<AtomicU64>,
    /// A sheet with nothing in it has no columns and no records.
    pub may_be_empty: bool,
}

impl SheetReader {
    /// Begins to read a sheet of a workbook: its header, and as many rows as tell how wide the
    /// records are.
    pub fn open(
        source: &SheetSource<'_>,
        workbook: &Arc<dyn Workbook>,
        sheet: usize,
        options: &ReadOptions,
        batch_size: usize,
        largest_record: usize,
    ) -> Result<Self, ReadError> {
        let largest_record = largest_record.min(LARGEST_RECORD);
        let sheets = workbook.sheets();
        let info = &sheets[sheet];
        let name = format!("{}, sheet '{}'", source.path, info.name);
        let failed = |problem| ReadError {
            source_name: name.clone(),
            place: Place::default(),
            problem,
        };
        let rows = workbook
            .rows(sheet, options.on_uncomputed)
            .map_err(failed)?;
        let dialect = Dialect {
            header: !options.no_header,
            ..Dialect::CELLS
        };
        let taken = Arc::clone(&source.taken);
        let facts = SourceFacts {
            skipped: options.skip_lines,
            size: source.size,
            compression: source.compression,
            sheet: Some(info.name.clone()),
            ..SourceFacts::of_values(source.format, dialect, taken, Unit::Row)
        };
        let mut reader = Self {
            path: source.path.clone(),
            name,
            workbook: Arc::clone(workbook),
            number: sheet,
            rows,
            facts,
            sheet: SheetFacts {
                sheet: info.name.clone(),
                sheets: sheets.to_vec(),
                formulas_as_text: options.on_uncomputed == Uncomputed::Formula,
                ..SheetFacts::default()
            },
            columns: Columns::default(),
            header: None,
            first_column: 0,
            width: 0,
            waiting: VecDeque::new(),
            spare: Row::up_to(largest_record),
            ragged: options.ragged,
            on_uncomputed: options.on_uncomputed,
            shown: (options.cells == CellContent::Shown).then(|| DisplayFormats {
                numbers: options.context.number_formats.clone(),
                formats: HashMap::new(),
            }),
            tally: ReadTally::default(),
            batch_size,
            largest_record,
            first_row: 0,
            last_row: 0,
            ended: false,
        };
        match reader.read_header(options) {
            Err(ReadError {
                problem: ReadProblem::EmptySheet | ReadProblem::NoHeader { .. },
                ..
            }) if source.may_be_empty => reader.ended = true,
            result => result?,
        }
        Ok(reader)
    }

    fn error(&self, place: Place, problem: ReadProblem) -> ReadError {
        ReadError {
            source_name: self.name.clone(),
            place,
            problem,
        }
    }

    /// Reads the next row with something in it.
    fn pull(&mut self, row: &mut Row) -> Result<bool, ReadError> {
        loop {
            row.clear();
            match self.rows.next(row) {
                Ok(false) => return Ok(false),
                Ok(true) => {}
                Err((place, problem)) => return Err(self.error(place, problem)),
            }
            let place = Place::row(row.number);
            if row.exceeds_limit() {
                let limit = Size(self.largest_record as u64);
                return Err(self.error(place, ReadProblem::RecordTooLarge { limit }));
            }
            if row.number <= self.facts.skipped {
                // What is odd about rows that are skipped is of no concern.
                self.rows.forget_oddities();
            } else if self.on_uncomputed == Uncomputed::Error {
                self.refuse_uncomputed()?;
            }
            if row.is_blank() {
                continue;
            }
            if row.number <= self.last_row {
                let problem = ReadProblem::Damaged {
                    what: format!("row {} comes after row {}", row.number, self.last_row),
                };
                return Err(self.error(place, problem));
            }
            if let Err(column) = row.settle() {
                let problem = ReadProblem::Damaged {
                    what: format!("the cell {}{} is there twice", letters(column), row.number),
                };
                return Err(self.error(place, problem));
            }
            if self.first_row > 0 {
                self.tally.blank_lines += row.number - self.last_row - 1;
            }
            self.last_row = row.number;
            return Ok(true);
        }
    }

    /// Refuses a sheet in which a formula without a computed value was read, after the others are
    /// counted.
    fn refuse_uncomputed(&mut self) -> Result<(), ReadError> {
        let Some((row, column)) = self.rows.oddities().first_without_value else {
            return Ok(());
        };
        let mut rest = Row::up_to(self.largest_record);
        // What is wrong further down is reported when this is mended.
        while matches!(self.rows.next(&mut rest), Ok(true)) {
            rest.clear();
        }
        let problem = ReadProblem::Uncomputed {
            cell: format!("{}{row}", letters(column)),
            count: self.rows.oddities().formulas_without_value,
        };
        Err(self.error(Place::row(row), problem))
    }

    fn read_header(&mut self, options: &ReadOptions) -> Result<(), ReadError> {
        let mut first = Row::up_to(self.largest_record);
        loop {
            if !self.pull(&mut first)? {
                let problem = match options.skip_lines {
                    0 => ReadProblem::EmptySheet,
                    skipped => ReadProblem::NoHeader { skipped, blank: 0 },
                };
                return Err(self.error(Place::default(), problem));
            }
            if first.number > options.skip_lines {
                break;
            }
        }
        self.first_row = first.number;
        let ends = |row: &Row| {
            row.cells
                .first()
                .zip(row.cells.last())
                .map(|(first, last)| (first.column, last.column))
        };
        let (mut from, mut to) = ends(&first).unwrap_or_default();
        let mut bytes = 0;
        while self.waiting.len() < SAMPLE_ROWS && bytes < self.batch_size {
            let mut row = Row::up_to(self.largest_record);
            if !self.pull(&mut row)? {
                self.ended = true;
                break;
            }
            bytes += row.bytes.len();
            if let Some((row_from, row_to)) = ends(&row) {
                from = from.min(row_from);
                to = to.max(row_to);
            }
            self.waiting.push_back(row);
        }
        self.first_column = from;
        self.width = (to - from) as usize + 1;
        if options.no_header {
            self.columns = Columns::numbered(self.width);
            self.waiting.push_front(first);
            return Ok(());
        }
        let mut header = Batch::default();
        self.prepare(&mut header);
        // A header is as wide as the records by how it was detected.
        let _ = self.push_record(&first, &mut header);
        let mut scratch = Vec::new();
        let names: Vec<String> = (0..self.width)
            .map(|column| {
                let name = header.field(0, column).value(&mut scratch);
                String::from_utf8_lossy(name).into_owned()
            })
            .collect();
        self.columns = Columns::from_header(&names);
        self.header = Some(header);
        Ok(())
    }

    fn prepare(&self, batch: &mut Batch) {
        batch.clear_all();
        self.facts.dialect.prepare(batch, self.width);
        batch.unit = Unit::Row;
    }

    /// Adds a row as a record; how many fields it has if it does not fit.
    fn push_record(&mut self, row: &Row, batch: &mut Batch) -> Result<(), usize> {
        let first_cell = row.cells.first().map_or(0, |cell| cell.column);
        let last_cell = row.cells.last().map_or(0, |cell| cell.column);
        let width = to_u32(self.width);
        if first_cell < self.first_column || last_cell - self.first_column >= width {
            let first = self.first_column.min(first_cell);
            return Err((last_cell.max(self.first_column + width - 1) - first) as usize + 1);
        }
        let start = batch.begin_record();
        let mut column = self.first_column;
        for cell in &row.cells {
            batch.pass_fields((cell.column - column) as usize);
            let value = row.value(cell);
            let shown = self
                .shown
                .as_mut()
                .and_then(|formats| formats.shown(value, cell.tag));
            match shown {
                Some(text) => {
                    batch.bytes.extend_from_slice(text.as_bytes());
                    batch.end_field(Tag::TEXT);
                }
                None => {
                    batch.bytes.extend_from_slice(value);
                    batch.end_field(cell.tag);
                }
            }
            column = cell.column + 1;
        }
        batch.pass_fields((self.first_column + width - column) as usize);
        batch.end_record(start);
        batch.lines.push(row.number);
        Ok(())
    }

    /// Takes a row that has more cells than the records have columns.
    fn surplus(&mut self, row: &Row, found: usize, batch: &mut Batch) -> Result<(), ReadError> {
        let inside = self.first_column..self.first_column + to_u32(self.width);
        let outside = row.cells.iter().find(|cell| !inside.contains(&cell.column));
        let problem = ReadProblem::OutsideColumns {
            cell: format!(
                "{}{}",
                letters(outside.map_or(0, |cell| cell.column)),
                row.number
            ),
            columns: format!("{} to {}", letters(inside.start), letters(inside.end - 1)),
        };
        if self.ragged != Ragged::Reject {
            let place = Place::row(row.number);
            return Err(self.error(place, problem));
        }
        self.tally.rejected += 1;
        let from = inside
            .start
            .min(row.cells.first().map_or(0, |cell| cell.column));
        let mut values: Vec<&[u8]> = Vec::new();
        for cell in &row.cells {
            values.resize((cell.column - from) as usize, b"");
            values.push(row.value(cell));
        }
        values.resize(values.len().max(found), b"");
        let mut raw = Vec::new();
        push_comma_separated(values.into_iter(), &mut raw);
        batch.rejected.push(RejectedRecord {
            line: row.number,
            reason: problem.to_string(),
            raw,
            as_it_is: false,
        });
        Ok(())
    }

    /// What was found in the sheet, as far as it is read.
    pub(crate) fn sheet_facts(&self) -> SheetFacts {
        let oddities = self.rows.oddities();
        let last = self.first_column + (to_u32(self.width)).saturating_sub(1);
        SheetFacts {
            range: format!(
                "{}{}:{}{}",
                letters(self.first_column),
                self.first_row,
                letters(last),
                self.last_row
            ),
            end_column: self.first_column + to_u32(self.width),
            formulas: oddities.formulas,
            formulas_without_value: oddities.formulas_without_value,
            first_without_value: oddities
                .first_without_value
                .map(|(row, column)| format!("{}{row}", letters(column))),
            errors: oddities.errors,
            merged: oddities.merged,
            hidden_rows: oddities.hidden_rows,
            extras: oddities.extras,
            ..self.sheet.clone()
        }
    }
}

impl RecordReader for SheetReader {
    fn columns(&self) -> &Columns {
        &self.columns
    }

    fn header(&self) -> Option<&Batch> {
        self.header.as_ref()
    }

    fn facts(&self) -> &SourceFacts {
        &self.facts
    }

    fn name(&self) -> String {
        self.name.clone()
    }

    fn path(&self) -> &SourcePath {
        &self.path
    }

    fn sheet(&self) -> Option<SheetFacts> {
        Some(self.sheet_facts())
    }

    fn column_styles(&self) -> Result<Vec<ColumnStyle>, ReadError> {
        let header = self.header.as_ref().map(|_| self.first_row);
        let range = StyledRange {
            header,
            first: self.waiting.front().map_or(self.last_row, |row| row.number),
            columns: self.first_column..self.first_column + to_u32(self.width),
        };
        let styles = self.workbook.column_styles(self.number, &range);
        styles.map_err(|problem| self.error(Place::default(), problem))
    }

    fn next_batch(&mut self, batch: &mut Batch) -> Result<bool, ReadError> {
        self.prepare(batch);
        while batch.bytes.len() < self.batch_size {
            let row = match self.waiting.pop_front() {
                Some(row) => row,
                None if self.ended => break,
                None => {
                    let empty = Row::up_to(self.largest_record);
                    let mut row = std::mem::replace(&mut self.spare, empty);
                    if !self.pull(&mut row)? {
                        self.ended = true;
                        break;
                    }
                    row
                }
            };
            self.tally.records += 1;
            if let Err(found) = self.push_record(&row, batch) {
                self.surplus(&row, found, batch)?;
            }
            self.spare = row;
        }
        Ok(!batch.is_empty() || !batch.rejected.is_empty())
    }

    fn tally(&self) -> ReadTally {
        self.tally.clone()
    }
}
