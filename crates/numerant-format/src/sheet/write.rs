//! From records to sheets: what is kept of them until the types of all columns are known, and what
//! then becomes of it.

use numerant_data::narrow::fit;
use std::fs::File;
use std::io::{self, Read};
use std::path::Path;
use std::sync::Arc;
use std::sync::atomic::{AtomicBool, Ordering};

use super::cell::{Cell, CellFormat, Class, Look};
use super::column_style::ColumnStyle;
use super::number_format::Shown;
use super::typing::{ColumnTally, Plan};
use crate::json_number::is_json_number;
use crate::{ControlCharacters, EncodeError};
use numerant_data::record::Batch;
use numerant_data::value::{Cells, ColumnType, DecimalMark, Number, WrittenHints};
use numerant_markup::is_allowed;

/// How much a sheet of a format has room for.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct Limits {
    /// Rows, the header among them.
    pub rows: u64,
    /// Columns.
    pub columns: usize,
    /// UTF-16 units of a text.
    pub text: usize,
    /// Whether a text can hold characters that XML has no way to write.
    pub control_characters: bool,
    /// Whether a text can hold carriage returns.
    pub carriage_returns: bool,
}

/// A column of the records that are kept.
#[derive(Clone, Copy, Debug, PartialEq)]
pub struct SpooledColumn {
    /// Its place in batches.
    pub slot: usize,
    /// What is not quoted there has the type that it looks like.
    pub stored: bool,
    /// Its numbers are digits, however many, and not those of cells.
    pub exact: bool,
    /// The type that it is declared to have.
    pub declared: Option<ColumnType>,
    /// The column whose number formats it has: itself in a workbook, or what it is computed from.
    pub formatted_as: Option<usize>,
    /// How it looks apart from number formats.
    pub style: ColumnStyle,
}

/// Turns records into what is kept of them.
#[derive(Clone, Debug)]
pub struct Spooler {
    /// The columns, in the order of the sheet.
    pub columns: Vec<SpooledColumn>,
    /// The texts above the columns.
    pub header: Option<Vec<String>>,
    /// How declared values are read.
    pub cells: Cells,
    /// What is stated of how values are written.
    pub hints: WrittenHints,
    /// How much room a sheet has.
    pub limits: Limits,
    /// The name of the format.
    pub format: &'static str,
    /// What becomes of control characters that the format cannot hold.
    pub control_characters: ControlCharacters,
    /// The place of the column whose values are groups of records on pages.
    pub group: Option<usize>,
}

/// Stands in a class whose value has a number format.
const FORMATTED: u8 = 0x10;

/// Lengths up to this take one byte. All bytes that say lengths are ASCII, so that what is kept is
/// text as a whole.
const SHORT: usize = 0x7f;

impl Spooler {
    /// Checks what is above the columns.
    pub fn check(&self) -> Result<(), EncodeError> {
        if self.columns.len() > self.limits.columns {
            return Err(EncodeError::TooManyColumns {
                format: self.format,
                found: self.columns.len(),
                most: self.limits.columns,
            });
        }
        for (place, header) in self.header.iter().flatten().enumerate() {
            self.check_text(header.as_bytes(), place, numerant_data::record::At::header)?;
        }
        Ok(())
    }

    /// Appends a record, and takes note of its values.
    pub fn record(
        &self,
        batch: &Batch,
        record: usize,
        tallies: &mut [ColumnTally],
        out: &mut Vec<u8>,
    ) -> Result<(), EncodeError> {
        let mut scratch = Vec::new();
        for (place, (column, tally)) in self.columns.iter().zip(tallies).enumerate() {
            let field = batch.field(record, column.slot);
            let text = column.stored && field.tag().is_text();
            let value = field.value(&mut scratch);
            let mut look = if text {
                Look::TEXT
            } else if column.stored && field.tag().is_string() {
                Look::of_string(value)
            } else {
                Look::at(value, column.stored && !column.exact)
            };
            if column.exact
                && !field.tag().is_string()
                && look.class == Class::Text
                && is_json_number(value)
            {
                tally.has_long_numbers = true;
            }
            if !column.stored {
                tally.add_written(&look, value, &self.hints, || batch.line(record));
            }
            let mut canonical = None;
            if let Some(declared) = column.declared {
                (look, canonical) = declared_look(value, column.slot, declared, &self.cells, look);
            }
            let value = canonical.as_deref().unwrap_or(value);
            tally.add(&look, value, || batch.line(record));
            let formatted_as = column.formatted_as;
            let format = formatted_as.map_or(0, |slot| batch.tag(record, slot).number_format());
            match look.class {
                Class::Blank => {
                    out.push(look.class as u8);
                    continue;
                }
                Class::Text | Class::Boolean => out.push(look.class as u8),
                _ if format == 0 => out.push(look.class as u8),
                class => {
                    out.push(class as u8 | FORMATTED);
                    out.extend([format >> 7 & 0x7f, format & 0x7f].map(fit::<_, u8>));
                }
            }
            if look.class != Class::Text {
                push_value(value, out);
                continue;
            }
            let dropped = self.check_text(value, place, || batch.at(record))?;
            push_value(dropped.as_deref().unwrap_or(value), out);
        }
        Ok(())
    }

    /// Checks that the format has room for a text. What is to be written instead, where signs are
    /// dropped.
    fn check_text(
        &self,
        value: &[u8],
        place: usize,
        at: impl Fn() -> numerant_data::record::At,
    ) -> Result<Option<Vec<u8>>, EncodeError> {
        if value.len() > self.limits.text {
            let text = String::from_utf8_lossy(value);
            let found = text.encode_utf16().count();
            if found > self.limits.text {
                return Err(EncodeError::TextTooLong {
                    at: at(),
                    column: self.column_name(place),
                    format: self.format,
                    found,
                    most: self.limits.text,
                });
            }
        }
        let suspicious = |byte: &u8| *byte < 0x20 || *byte == 0xef;
        if (self.limits.control_characters && self.limits.carriage_returns)
            || !value.iter().any(suspicious)
        {
            return Ok(None);
        }
        let text = String::from_utf8_lossy(value);
        let limits = self.limits;
        let fits = |sign: &char| match sign {
            '\r' => limits.carriage_returns,
            sign => limits.control_characters || is_allowed(*sign),
        };
        let Some(sign) = text.chars().find(|sign| !fits(sign)) else {
            return Ok(None);
        };
        match self.control_characters {
            ControlCharacters::Refuse => Err(EncodeError::ControlSign {
                at: at(),
                column: self.column_name(place),
                format: self.format,
                sign,
            }),
            ControlCharacters::Drop => {
                let kept: String = text.chars().filter(fits).collect();
                Ok(Some(kept.into_bytes()))
            }
        }
    }

    fn column_name(&self, place: usize) -> String {
        let header = self.header.as_ref().and_then(|header| header.get(place));
        header
            .cloned()
            .unwrap_or_else(|| format!("column_{}", place + 1))
    }
}

fn push_value(value: &[u8], out: &mut Vec<u8>) {
    if value.len() < SHORT {
        out.push(fit(value.len()));
    } else {
        out.push(fit(SHORT));
        for shift in [28, 21, 14, 7, 0] {
            out.push(fit(value.len() >> shift & 0x7f));
        }
    }
    out.extend_from_slice(value);
}

/// A value of a declared type as a cell can have it, and what it is then.
pub(crate) fn declared_look(
    value: &[u8],
    slot: usize,
    declared: ColumnType,
    cells: &Cells,
    look: Look,
) -> (Look, Option<Vec<u8>>) {
    let value = value.trim_ascii();
    if value.is_empty() {
        return (look, None);
    }
    let canonical = match declared {
        ColumnType::Text => return (Look::TEXT, None),
        ColumnType::Integer | ColumnType::Decimal => {
            // What is written with a point already may be computed or come from a cell.
            let mark = if look.class == Class::Text {
                cells.mark
            } else {
                DecimalMark::Point
            };
            let written = cells.written(slot).map(|_| cells.number_of(slot, value));
            let number = written.unwrap_or_else(|| Number::read(value, mark));
            number.ok().map(|number| number.to_string())
        }
        ColumnType::Date | ColumnType::Datetime => {
            let moment = match look.class {
                Class::Date | Class::Datetime => return (look, None),
                _ => cells.moment_of(slot, value),
            };
            moment.map(|moment| moment.to_string())
        }
        ColumnType::Boolean if look.class == Class::Boolean => return (look, None),
        ColumnType::Boolean => Some(value.eq_ignore_ascii_case(b"true").to_string()),
    };
    let Some(canonical) = canonical else {
        return (look, None);
    };
    match Look::at(canonical.as_bytes(), false) {
        Look {
            class: Class::Text, ..
        } => (Look::TEXT, None),
        found => (found, Some(canonical.into_bytes())),
    }
}

/// What is known of a sheet before its rows are written.
#[derive(Clone, Debug)]
pub struct Head {
    /// Its name.
    pub name: String,
    /// What is above the columns.
    pub header: Option<Vec<String>>,
    /// How each column is written.
    pub plans: Vec<Plan>,
    /// Characters that each column has room for.
    pub widths: Vec<f32>,
    /// How each column looks apart from that and from number formats.
    pub styles: Vec<ColumnStyle>,
    /// Records.
    pub records: u64,
    /// Bytes of the records.
    pub bytes: u64,
    /// The control totals of its records: the place of each column, and the sum.
    pub totals: Vec<(usize, String)>,
    /// The number formats of the run, which values name by their places from 1.
    pub formats: Arc<[KeptFormat]>,
    /// What is above its records on pages.
    pub heading: Heading,
    /// The place of the column whose values are groups of records on pages.
    pub group: Option<usize>,
}

/// What is above the records of a sheet on pages.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct Heading {
    /// The title; the name of the sheet if there is none.
    pub title: Option<String>,
    /// A line below it.
    pub subtitle: Option<String>,
}

/// A number format that values of a source have.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct KeptFormat {
    /// The format.
    pub format: CellFormat,
    /// It is for dates or times, and not for numbers.
    pub is_moment: bool,
}

impl KeptFormat {
    /// The format with a code.
    pub fn of(code: &Arc<str>) -> Self {
        Self {
            format: CellFormat::of_code(code),
            is_moment: matches!(Shown::of(code), Shown::Moment(_)),
        }
    }
}

impl Head {
    /// Rows, the header among them.
    pub fn rows(&self) -> u64 {
        self.records + u64::from(self.header.is_some())
    }

    /// The most bytes that its XML may have, if a cell takes `cell` bytes next to its text, and a byte of text at most
    /// `byte`.
    pub fn most(&self, cell: u64, byte: u64) -> u64 {
        let row = cell.saturating_mul(self.plans.len() as u64 + 1);
        let header = self.header.iter().flatten().map(|name| name.len() as u64);
        let texts = self.bytes.saturating_add(header.sum());
        let rows = self.rows().saturating_add(1);
        row.saturating_mul(rows)
            .saturating_add(texts.saturating_mul(byte))
    }
}

/// Writes a workbook: sheet by sheet, row by row.
pub trait SheetSink {
    /// Begins the workbook, whose sheets will be these.
    fn begin(&mut self, _heads: &[&Head]) -> io::Result<()> {
        Ok(())
    }

    /// Begins the next sheet.
    fn begin_sheet(&mut self, head: &Head) -> io::Result<()>;

    /// Writes the next row of it.
    fn row(&mut self, cells: &[Cell<'_>]) -> io::Result<()>;

    /// Ends it.
    fn end_sheet(&mut self) -> io::Result<()>;

    /// Writes what is left.
    fn finish(self: Box<Self>) -> io::Result<()>;
}

/// A workbook to write: its sheets in order, and where what was kept of their records is.
#[derive(Debug)]
pub struct WorkbookContent<'a> {
    /// The head of each sheet, and the file with its records.
    pub sheets: Vec<(Head, &'a Path)>,
}

/// Rows that are written between two looks at whether to go on.
const ROWS_AT_A_TIME: u64 = 1024;

impl WorkbookContent<'_> {
    /// Writes all sheets. `progress` is called with the number of records written.
    pub fn write(
        &self,
        mut sink: Box<dyn SheetSink>,
        cancel: &AtomicBool,
        progress: &dyn Fn(u64),
    ) -> io::Result<()> {
        let heads: Vec<&Head> = self.sheets.iter().map(|(head, _)| head).collect();
        sink.begin(&heads)?;
        for (head, path) in &self.sheets {
            sink.begin_sheet(head)?;
            if let Some(header) = &head.header {
                let cells: Vec<Cell<'_>> = header
                    .iter()
                    .map(|text| match text.as_str() {
                        "" => Cell::Blank,
                        text => Cell::Text(text),
                    })
                    .collect();
                sink.row(&cells)?;
            }
            let mut kept = Kept::open(path, head.plans.len())?;
            for record in 0..head.records {
                kept.read()?;
                let mut cells = Vec::with_capacity(head.plans.len());
                for (column, plan) in head.plans.iter().enumerate() {
                    let KeptValue {
                        class,
                        text,
                        format,
                    } = kept.value(column);
                    let format = format.checked_sub(1);
                    let format = format.and_then(|place| head.formats.get(usize::from(place)));
                    cells.push(plan.formatted_cell(class, text, format));
                }
                sink.row(&cells)?;
                if record % ROWS_AT_A_TIME == ROWS_AT_A_TIME - 1 {
                    if cancel.load(Ordering::Relaxed) {
                        return Err(io::Error::from(io::ErrorKind::Interrupted));
                    }
                    progress(ROWS_AT_A_TIME);
                }
            }
            progress(head.records % ROWS_AT_A_TIME);
            sink.end_sheet()?;
        }
        sink.finish()
    }
}

/// What was kept of records, read again.
pub struct Kept {
    file: File,
    text: String,
    /// How much of the text is done with.
    at: usize,
    cut: Vec<u8>,
    width: usize,
    /// The values of the present record, and where in the text they are.
    values: Vec<KeptPlace>,
}

/// A value that was kept.
#[derive(Clone, Copy, Debug)]
pub struct KeptValue<'k> {
    /// What it is.
    pub class: Class,
    /// Its characters.
    pub text: &'k str,
    /// The number of its number format, from 1; 0 for none.
    pub format: u16,
}

const PIECE: usize = 1 << 18;

impl Kept {
    /// Opens what was kept of records with so many values each.
    pub fn open(path: &Path, width: usize) -> io::Result<Self> {
        Ok(Self {
            file: File::open(path)?,
            text: String::new(),
            at: 0,
            cut: Vec::new(),
            width,
            values: Vec::with_capacity(width),
        })
    }

    /// A value of the present record.
    pub fn value(&self, column: usize) -> KeptValue<'_> {
        let (class, format, start, end) = self.values[column];
        KeptValue {
            class,
            text: &self.text[start..end],
            format,
        }
    }

    /// Reads the next record.
    pub fn read(&mut self) -> io::Result<()> {
        while !self.parse() {
            self.text.drain(..self.at);
            self.at = 0;
            let mut bytes = std::mem::take(&mut self.cut);
            let wanted = PIECE.max(self.text.len());
            let read = (&mut self.file)
                .take(wanted as u64)
                .read_to_end(&mut bytes)?;
            if read == 0 {
                return Err(io::Error::from(io::ErrorKind::UnexpectedEof));
            }
            match simdutf8::compat::from_utf8(&bytes) {
                Ok(text) => self.text.push_str(text),
                Err(error) if error.error_len().is_none() => {
                    let (whole, cut) = bytes.split_at(error.valid_up_to());
                    self.text.push_str(&String::from_utf8_lossy(whole));
                    self.cut = cut.to_vec();
                }
                Err(error) => return Err(io::Error::other(error.to_string())),
            }
        }
        Ok(())
    }

    /// Finds the values of the next record; `false` if it is not all there.
    fn parse(&mut self) -> bool {
        let end = parse_values(&self.text, self.at, self.width, &mut self.values);
        self.at = end.unwrap_or(self.at);
        end.is_some()
    }
}

/// Where a value that was kept is: its class, its number format, and the start and end of its text.
type KeptPlace = (Class, u16, usize, usize);

/// Finds the values of a record that was kept at a place, and where it ends; `None` if it is not all there.
fn parse_values(
    text: &str,
    start: usize,
    width: usize,
    values: &mut Vec<KeptPlace>,
) -> Option<usize> {
    let bytes = text.as_bytes();
    let mut at = start;
    values.clear();
    for _ in 0..width {
        let class = *bytes.get(at)?;
        let is_formatted = class & FORMATTED != 0;
        let class = Class::from_byte(class & !FORMATTED);
        at += 1;
        if class == Class::Blank {
            values.push((class, 0, at, at));
            continue;
        }
        let mut format = 0;
        if is_formatted {
            let digits = bytes.get(at..at + 2)?;
            format = u16::from(digits[0]) << 7 | u16::from(digits[1]);
            at += 2;
        }
        let mut length = usize::from(*bytes.get(at)?);
        at += 1;
        if length == SHORT {
            let digits = bytes.get(at..at + 5)?;
            length = digits
                .iter()
                .fold(0, |sum, digit| sum << 7 | usize::from(*digit));
            at += 5;
        }
        if bytes.len() < at + length {
            return None;
        }
        values.push((class, format, at, at + length));
        at += length;
    }
    Some(at)
}

/// The values of a record that was kept, from its text; none of one that is not whole.
pub fn kept_values(text: &str, width: usize) -> Vec<KeptValue<'_>> {
    let mut places = Vec::with_capacity(width);
    if parse_values(text, 0, width, &mut places).is_none() {
        return Vec::new();
    }
    let value = |(class, format, start, end): KeptPlace| KeptValue {
        class,
        text: &text[start..end],
        format,
    };
    places.into_iter().map(value).collect()
}

/// Characters that a column has room for at least and at most.
const WIDTHS: (usize, usize) = (8, 60);

/// The width of a column with such a header and values.
pub fn width(header: Option<&str>, tally: &ColumnTally) -> f32 {
    // The header is bold and has the sign of the filter next to it.
    let header = header.map_or(0, |header| header.chars().count() * 11 / 10 + 5);
    (tally.longest + 1).max(header).clamp(WIDTHS.0, WIDTHS.1) as f32
}
