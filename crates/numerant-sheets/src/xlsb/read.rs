//! Reads binary workbooks in packages: the parts are those of Office Open XML, and each is a stream
//! of records.

use std::io::{BufReader, Read};
use std::sync::{Arc, OnceLock};

use crate::package::Package;
use crate::xls::{error_name, rk};
use crate::xlsx::{Relations, check_own_parts, office_document};
use numerant_data::source::{Place, ReadProblem};
use numerant_data::value::Size;
use numerant_format::sheet::{
    CellStyle, CellStyles, ColumnStyle, Epoch, NumberFormats, NumberText, Oddities, Row, Rows,
    SheetInfo, Strings, StyledRange, Uncomputed, Visibility, Workbook,
};
use numerant_markup::unreadable;

/// Bytes of a record that is held in memory.
const LARGEST: usize = 64 << 20;

/// Columns and rows that a sheet may have.
const COLUMNS: u32 = 16_384;
const ROWS: u32 = 1_048_576;

/// The records of a part.
struct Records {
    input: BufReader<Box<dyn Read + Send>>,
    part: String,
    data: Vec<u8>,
}

impl Records {
    fn open(package: &Package, part: &str) -> Result<Self, ReadProblem> {
        Ok(Self {
            input: BufReader::with_capacity(1 << 17, package.stream(part)?),
            part: part.to_owned(),
            data: Vec::new(),
        })
    }

    fn byte(&mut self) -> Result<Option<u8>, ReadProblem> {
        let mut byte = [0];
        match self.input.read(&mut byte) {
            Ok(0) => Ok(None),
            Ok(_) => Ok(Some(byte[0])),
            Err(error) => Err(unreadable(error, &self.part)),
        }
    }

    fn short(&self) -> ReadProblem {
        ReadProblem::Damaged {
            what: format!("{} ends in the middle of a record", self.part),
        }
    }

    /// The type of the next record, whose data is in `data` then; `None` at the end.
    fn next(&mut self) -> Result<Option<u32>, ReadProblem> {
        let Some(first) = self.byte()? else {
            return Ok(None);
        };
        let mut kind = u32::from(first);
        if first & 0x80 != 0 {
            let second = self.byte()?.ok_or_else(|| self.short())?;
            kind = u32::from(first & 0x7f) | u32::from(second & 0x7f) << 7;
        }
        let mut length = 0_usize;
        for shift in [0, 7, 14, 21] {
            let byte = self.byte()?.ok_or_else(|| self.short())?;
            length |= usize::from(byte & 0x7f) << shift;
            if byte & 0x80 == 0 {
                break;
            }
        }
        if length > LARGEST {
            return Err(self.short());
        }
        self.data.resize(length, 0);
        match self.input.read_exact(&mut self.data) {
            Ok(()) => Ok(Some(kind)),
            Err(error) if error.kind() == std::io::ErrorKind::UnexpectedEof => Err(self.short()),
            Err(error) => Err(unreadable(error, &self.part)),
        }
    }

    fn u16(&self, at: usize) -> u16 {
        let bytes = self.data.get(at..at + 2);
        bytes.map_or(0, |bytes| u16::from_le_bytes([bytes[0], bytes[1]]))
    }

    fn u32(&self, at: usize) -> u32 {
        u32::from(self.u16(at)) | u32::from(self.u16(at + 2)) << 16
    }

    fn f64(&self, at: usize) -> f64 {
        f64::from_bits(u64::from(self.u32(at)) | u64::from(self.u32(at + 4)) << 32)
    }

    /// A text with its length in front, and where what follows it begins.
    fn text(&self, at: usize) -> Result<(String, usize), ReadProblem> {
        let count = self.u32(at);
        if count == u32::MAX {
            return Ok((String::new(), at + 4));
        }
        let end = at + 4 + count as usize * 2;
        let bytes = self.data.get(at + 4..end).ok_or_else(|| self.short())?;
        let units: Vec<u16> = bytes
            .chunks_exact(2)
            .map(|pair| u16::from_le_bytes([pair[0], pair[1]]))
            .collect();
        Ok((String::from_utf16_lossy(&units), end))
    }
}

/// An open workbook.
pub struct XlsbBook {
    package: Package,
    sheets: Vec<SheetInfo>,
    paths: Vec<String>,
    strings_path: Option<String>,
    strings: OnceLock<Arc<Strings>>,
    styles: Arc<CellStyles>,
    epoch: Epoch,
    memory: usize,
}

impl XlsbBook {
    /// Opens the workbook of a package, whose shared texts may take `memory` bytes. `None` if the
    /// package is none.
    pub fn open(
        package: &Package,
        memory: usize,
        numbers: &NumberFormats,
    ) -> Result<Option<Self>, ReadProblem> {
        let path = office_document(package)?.unwrap_or_else(|| "xl/workbook.bin".to_owned());
        if !path.ends_with(".bin") || package.place(&path).is_none() {
            return Ok(None);
        }
        let relations = Relations::of(package, &path)?;
        let mut epoch = Epoch::Year1900;
        let (mut sheets, mut paths) = (Vec::new(), Vec::new());
        let mut records = Records::open(package, &path)?;
        while let Some(kind) = records.next()? {
            match kind {
                153 if records.u32(0) & 1 != 0 => epoch = Epoch::Year1904,
                156 => {
                    let (id, behind) = records.text(8)?;
                    let (name, _) = records.text(behind)?;
                    let (kind, path) = relations.target(&id).unwrap_or(("worksheet", ""));
                    sheets.push(SheetInfo {
                        name,
                        visibility: match records.u32(0) {
                            1 => Visibility::Hidden,
                            2 => Visibility::VeryHidden,
                            _ => Visibility::Visible,
                        },
                        has_cells: kind == "worksheet",
                    });
                    paths.push(path.to_owned());
                }
                _ => {}
            }
        }
        let own = sheets.iter().zip(paths.iter().map(String::as_str));
        check_own_parts(own)?;
        let styles = match relations.of_kind("styles") {
            Some(path) => read_styles(package, path, numbers)?,
            None => CellStyles::default(),
        };
        let strings_path = relations.of_kind("sharedStrings").map(str::to_owned);
        Ok(Some(Self {
            package: package.clone(),
            sheets,
            paths,
            strings_path: strings_path.filter(|path| package.place(path).is_some()),
            strings: OnceLock::new(),
            styles: Arc::new(styles),
            epoch,
            memory,
        }))
    }

    /// The shared texts, read once.
    fn strings(&self) -> Result<Arc<Strings>, ReadProblem> {
        if let Some(known) = self.strings.get() {
            return Ok(Arc::clone(known));
        }
        let mut strings = Strings::default();
        if let Some(path) = &self.strings_path {
            let mut records = Records::open(&self.package, path)?;
            while let Some(kind) = records.next()? {
                if kind == 19 {
                    // Behind a byte of flags; what is after the text says how it looks and sounds.
                    strings.push(&records.text(1)?.0);
                    if strings.size() > self.memory {
                        return Err(ReadProblem::SharedTexts {
                            limit: Size(self.memory as u64),
                        });
                    }
                }
            }
        }
        Ok(Arc::clone(self.strings.get_or_init(|| Arc::new(strings))))
    }
}

/// The cell styles, as far as they are about numbers.
fn read_styles(
    package: &Package,
    path: &str,
    numbers: &NumberFormats,
) -> Result<CellStyles, ReadProblem> {
    let mut records = Records::open(package, path)?;
    let mut own: Vec<(u32, String)> = Vec::new();
    let mut formats = Vec::new();
    let mut in_cell_styles = false;
    while let Some(kind) = records.next()? {
        match kind {
            44 => own.push((records.u16(0).into(), records.text(2)?.0)),
            617 => in_cell_styles = true,
            618 => in_cell_styles = false,
            47 if in_cell_styles => {
                formats.push(u32::from(records.u16(2)));
            }
            _ => {}
        }
    }
    Ok(CellStyles::new(formats.into_iter(), &own, numbers))
}

impl Workbook for XlsbBook {
    fn sheets(&self) -> &[SheetInfo] {
        &self.sheets
    }

    /// The widths of columns; alignment and the style of the header are not read.
    fn column_styles(
        &self,
        sheet: usize,
        range: &StyledRange,
    ) -> Result<Vec<ColumnStyle>, ReadProblem> {
        let mut styles = vec![ColumnStyle::default(); range.columns.len()];
        let mut records = Records::open(&self.package, &self.paths[sheet])?;
        while let Some(kind) = records.next()? {
            match kind {
                // Where the cells begin.
                145 => break,
                60 => {
                    let (first, last) = (records.u32(0), records.u32(4));
                    // In 256ths of a character; there are at most 255.
                    let width = records.u32(8).min(255 * 256);
                    let width = u16::try_from(width).map_or(0.0, f32::from) / 256.0;
                    for (column, style) in range.columns.clone().zip(&mut styles) {
                        if (first..=last).contains(&column) && width > 0.0 {
                            style.width = Some(width);
                        }
                    }
                }
                _ => {}
            }
        }
        Ok(styles)
    }

    fn rows(&self, sheet: usize, _: Uncomputed) -> Result<Box<dyn Rows>, ReadProblem> {
        let path = &self.paths[sheet];
        if path.is_empty() {
            return Err(ReadProblem::Damaged {
                what: format!(
                    "the part of the sheet '{}' is missing",
                    self.sheets[sheet].name
                ),
            });
        }
        let records = Records::open(&self.package, path)?;
        Ok(Box::new(XlsbRows {
            records,
            strings: self.strings()?,
            styles: Arc::clone(&self.styles),
            numbers: NumberText { epoch: self.epoch },
            next_row: None,
            column: 0,
            stage: Stage::Before,
            oddities: Oddities::default(),
        }))
    }
}

/// How far a sheet is read.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
enum Stage {
    Before,
    Data,
    Behind,
}

/// The rows of a sheet.
struct XlsbRows {
    records: Records,
    strings: Arc<Strings>,
    styles: Arc<CellStyles>,
    numbers: NumberText,
    /// The row whose header was read, from 1.
    next_row: Option<u64>,
    /// The column of the next cell that does not say it.
    column: u32,
    stage: Stage,
    oddities: Oddities,
}

impl XlsbRows {
    fn damaged(&self, what: String) -> ReadProblem {
        ReadProblem::Damaged { what }
    }

    fn style(&self, style: u32) -> CellStyle {
        self.styles.get(style as usize & 0x00ff_ffff)
    }

    fn header(&mut self) -> Result<u64, ReadProblem> {
        let row = self.records.u32(0);
        if row >= ROWS {
            return Err(self.damaged(format!("there is no row {row}")));
        }
        if self
            .records
            .data
            .get(11)
            .is_some_and(|flags| flags & 0x10 != 0)
        {
            self.oddities.hidden_rows += 1;
        }
        self.column = 0;
        Ok(u64::from(row) + 1)
    }

    /// Takes the record of a cell: its kind without regard to how it says where it is, and where
    /// its value begins.
    fn cell(&mut self, kind: u32, row: &mut Row) -> Result<(), ReadProblem> {
        // The short forms leave the column out: it is the one after the last.
        let (kind, at) = match kind {
            12..=18 => (kind - 11, 4),
            kind => (kind, 8),
        };
        let column = match at {
            4 => self.column,
            _ => self.records.u32(0),
        };
        if column >= COLUMNS {
            return Err(self.damaged(format!("there is no column {column}")));
        }
        self.column = column + 1;
        let CellStyle { shown, format } = self.style(self.records.u32(at - 4));
        if matches!(kind, 8..=11) {
            self.oddities.formulas += 1;
        }
        match kind {
            2 => {
                let number = rk(self.records.u32(at));
                row.push_value(column, format, |out| {
                    self.numbers.write_double(number, shown, out);
                });
            }
            5 | 9 => {
                let number = self.records.f64(at);
                row.push_value(column, format, |out| {
                    self.numbers.write_double(number, shown, out);
                });
            }
            3 | 11 => {
                self.oddities.errors += 1;
                let code = self.records.data.get(at).copied().unwrap_or(0);
                row.push_text(column, error_name(code).as_bytes());
            }
            4 | 10 => {
                let value = self.records.data.get(at).copied().unwrap_or(0);
                row.push_boolean(column, value != 0, shown);
            }
            6 | 8 => row.push_text(column, self.records.text(at)?.0.as_bytes()),
            7 => {
                let number = self.records.u32(at) as usize;
                let Some(text) = self.strings.get(number) else {
                    return Err(self.damaged(format!(
                        "a cell holds the shared text {number}, and there are {}",
                        self.strings.len()
                    )));
                };
                row.push_text(column, text);
            }
            62 => row.push_text(column, self.records.text(at + 1)?.0.as_bytes()),
            _ => {}
        }
        Ok(())
    }

    fn read(&mut self, row: &mut Row) -> Result<bool, ReadProblem> {
        if self.stage == Stage::Behind {
            return Ok(false);
        }
        row.number = self.next_row.unwrap_or(0);
        while let Some(kind) = self.records.next()? {
            match kind {
                145 => self.stage = Stage::Data,
                146 => self.stage = Stage::Behind,
                176 => self.oddities.merged += 1,
                0 if self.stage == Stage::Data => {
                    let next = self.header()?;
                    if let Some(_done) = self.next_row.replace(next) {
                        return Ok(true);
                    }
                    row.number = next;
                }
                1..=18 | 62 if self.stage == Stage::Data => self.cell(kind, row)?,
                _ => {}
            }
        }
        if self.stage != Stage::Behind {
            return Err(self.damaged("the sheet ends in the middle of its rows".to_owned()));
        }
        Ok(self.next_row.take().is_some())
    }
}

impl Rows for XlsbRows {
    fn next(&mut self, row: &mut Row) -> Result<bool, (Place, ReadProblem)> {
        self.read(row).map_err(|problem| {
            let place = self.next_row.map_or_else(Place::default, Place::row);
            (place, problem)
        })
    }

    fn oddities(&self) -> Oddities {
        self.oddities
    }

    fn forget_oddities(&mut self) {
        self.oddities = Oddities::default();
    }
}
