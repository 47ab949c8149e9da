//! Reads binary workbooks.

use std::io::Read;
use std::sync::Arc;

use encoding_rs::Encoding;

use super::column_style::{CellLooks, SheetLooks};
use super::strings::Pieces;
use numerant_data::record::Tag;
use numerant_data::source::{Place, ReadProblem, SharedFile};
use numerant_data::value::Size;
use numerant_format::sheet::{
    CellStyle, CellStyles, ColumnStyle, Epoch, NumberFormats, NumberText, Oddities, Row, Rows,
    SheetInfo, Strings, StyledRange, Uncomputed, Visibility, Workbook,
};

/// Streams that hold a workbook, of BIFF8 and of BIFF5.
const STREAMS: [&str; 2] = ["/Workbook", "/Book"];

/// The last column that a sheet may have, from 0.
const LAST_COLUMN: u16 = 255;

/// An open workbook.
pub struct XlsBook {
    stream: Arc<Vec<u8>>,
    sheets: Vec<SheetInfo>,
    /// Where the part of each sheet begins.
    offsets: Vec<usize>,
    shared: Arc<Globals>,
}

/// What all sheets share.
#[derive(Default)]
struct Globals {
    strings: Strings,
    styles: CellStyles,
    looks: CellLooks,
    epoch: Epoch,
    /// Texts have one or two bytes a character and say so; else they are in an encoding.
    biff8: bool,
    encoding: Option<&'static Encoding>,
}

/// A record: its type, where its data is, and where the next one begins.
#[derive(Clone, Copy, Debug)]
pub(super) struct Record<'a> {
    pub(super) kind: u16,
    pub(super) data: &'a [u8],
    next: usize,
}

fn record(stream: &[u8], at: usize) -> Option<Record<'_>> {
    let head = stream.get(at..at + 4)?;
    let length = usize::from(u16::from_le_bytes([head[2], head[3]]));
    let data = stream.get(at + 4..at + 4 + length)?;
    Some(Record {
        kind: u16::from_le_bytes([head[0], head[1]]),
        data,
        next: at + 4 + length,
    })
}

pub(super) fn u16_at(data: &[u8], at: usize) -> u16 {
    match data.get(at..at + 2) {
        Some(bytes) => u16::from_le_bytes([bytes[0], bytes[1]]),
        None => 0,
    }
}

pub(super) fn u32_at(data: &[u8], at: usize) -> u32 {
    u32::from(u16_at(data, at)) | u32::from(u16_at(data, at + 2)) << 16
}

fn f64_at(data: &[u8], at: usize) -> f64 {
    let mut bytes = [0; 8];
    if let Some(found) = data.get(at..at + 8) {
        bytes.copy_from_slice(found);
    }
    f64::from_le_bytes(bytes)
}

fn damaged(what: impl Into<String>) -> ReadProblem {
    ReadProblem::Damaged { what: what.into() }
}

impl XlsBook {
    /// Opens the workbook of a compound file, which may take `memory` bytes. `None` if there is
    /// none.
    pub fn open(
        file: SharedFile,
        memory: usize,
        numbers: &NumberFormats,
    ) -> Result<Option<Self>, ReadProblem> {
        let mut compound = cfb::CompoundFile::open(file)
            .map_err(|error| damaged(format!("the compound file cannot be read: {error}")))?;
        if compound.is_stream("/EncryptedPackage") {
            return Err(ReadProblem::Encrypted);
        }
        let Some(name) = STREAMS.into_iter().find(|name| compound.is_stream(name)) else {
            return Ok(None);
        };
        let failed = |error: std::io::Error| damaged(format!("its stream cannot be read: {error}"));
        let part = compound.open_stream(name).map_err(failed)?;
        if part.len() > memory as u64 {
            return Err(ReadProblem::WorkbookTooLarge {
                limit: Size(memory as u64),
            });
        }
        let mut stream = Vec::with_capacity(usize::try_from(part.len()).unwrap_or_default());
        let mut part = part;
        part.read_to_end(&mut stream).map_err(failed)?;
        Self::of_stream(stream, memory, numbers).map(Some)
    }

    fn of_stream(
        stream: Vec<u8>,
        memory: usize,
        numbers: &NumberFormats,
    ) -> Result<Self, ReadProblem> {
        let mut globals = Globals::default();
        let mut own: Vec<(u32, String)> = Vec::new();
        let mut formats: Vec<u32> = Vec::new();
        let mut sheets = Vec::new();
        let mut offsets = Vec::new();
        let mut names: Vec<&[u8]> = Vec::new();
        let mut at = 0;
        let first = record(&stream, 0).filter(|first| first.kind == 0x0809);
        let first = first.ok_or_else(|| damaged("it does not begin with a workbook"))?;
        globals.biff8 = match u16_at(first.data, 0) {
            0x0600 => true,
            0x0500 => false,
            version => {
                return Err(damaged(format!(
                    "a version that is not known ({version:#06x})"
                )));
            }
        };
        loop {
            let Some(found) = record(&stream, at) else {
                return Err(damaged("it ends before its list of sheets does"));
            };
            let data = found.data;
            globals.looks.take(&found);
            match found.kind {
                0x000a => break,
                0x002f => return Err(ReadProblem::Encrypted),
                0x0042 => globals.encoding = encoding(u16_at(data, 0)),
                0x0022 if u16_at(data, 0) == 1 => globals.epoch = Epoch::Year1904,
                0x041e => {
                    let text = if globals.biff8 {
                        // Some programs write a longer length than there are bytes.
                        Pieces::new(vec![data.get(2..).unwrap_or_default()]).truncated_text()
                    } else {
                        let length = usize::from(data.get(2).copied().unwrap_or(0));
                        let bytes = data.get(3..3 + length).unwrap_or_default();
                        globals.decoded(bytes)
                    };
                    own.push((u16_at(data, 0).into(), text));
                }
                0x00e0 => formats.push(u16_at(data, 2).into()),
                0x0085 => {
                    offsets.push(u32_at(data, 0) as usize);
                    let visibility = match data.get(4).copied().unwrap_or(0) & 3 {
                        1 => Visibility::Hidden,
                        2 => Visibility::VeryHidden,
                        _ => Visibility::Visible,
                    };
                    sheets.push(SheetInfo {
                        name: String::new(),
                        visibility,
                        has_cells: data.get(5) == Some(&0),
                    });
                    names.push(data.get(6..).unwrap_or_default());
                }
                0x00fc => {
                    let mut pieces = vec![data];
                    let mut next = found.next;
                    while let Some(more) = record(&stream, next).filter(|more| more.kind == 0x003c)
                    {
                        pieces.push(more.data);
                        next = more.next;
                    }
                    let mut pieces = Pieces::new(pieces);
                    let _uses = pieces.u32()?;
                    let count = pieces.u32()?;
                    for _ in 0..count {
                        globals.strings.push(&pieces.text()?);
                        if globals.strings.size() > memory {
                            return Err(ReadProblem::SharedTexts {
                                limit: Size(memory as u64),
                            });
                        }
                    }
                }
                _ => {}
            }
            at = found.next;
        }
        for (sheet, name) in sheets.iter_mut().zip(names) {
            let length = usize::from(name.first().copied().unwrap_or(0));
            sheet.name = if globals.biff8 {
                let wide = name.get(1).copied().unwrap_or(0) & 1 != 0;
                Pieces::new(vec![name.get(2..).unwrap_or_default()]).characters(length, wide)?
            } else {
                globals.decoded(name.get(1..1 + length).unwrap_or_default())
            };
        }
        globals.styles = CellStyles::new(formats.into_iter(), &own, numbers);
        Ok(Self {
            stream: Arc::new(stream),
            sheets,
            offsets,
            shared: Arc::new(globals),
        })
    }
}

impl Globals {
    fn decoded(&self, bytes: &[u8]) -> String {
        let encoding = self.encoding.unwrap_or(encoding_rs::WINDOWS_1252);
        encoding.decode_without_bom_handling(bytes).0.into_owned()
    }

    /// The text of a cell's own record, after its length.
    fn label(&self, pieces: Vec<&[u8]>) -> Result<String, ReadProblem> {
        if self.biff8 {
            return Pieces::new(pieces).text();
        }
        let bytes = pieces.concat();
        let length = usize::from(u16_at(&bytes, 0));
        let text = bytes.get(2..).unwrap_or_default();
        Ok(self.decoded(&text[..length.min(text.len())]))
    }
}

/// The encoding of a code page.
fn encoding(code_page: u16) -> Option<&'static Encoding> {
    let label = match code_page {
        367 | 1200 => return None,
        866 => "ibm866".to_owned(),
        874 => "windows-874".to_owned(),
        932 => "shift_jis".to_owned(),
        936 => "gbk".to_owned(),
        949 => "euc-kr".to_owned(),
        950 => "big5".to_owned(),
        10_000 => "macintosh".to_owned(),
        code_page => format!("windows-{code_page}"),
    };
    Encoding::for_label(label.as_bytes())
}

/// The number that the 30 bits of an RK represent ([MS-XLS] 2.5.217).
pub(crate) fn rk(bits: u32) -> f64 {
    let number = if bits & 2 != 0 {
        f64::from(bits.cast_signed() >> 2)
    } else {
        f64::from_bits(u64::from(bits & 0xffff_fffc) << 32)
    };
    if bits & 1 != 0 {
        number / 100.0
    } else {
        number
    }
}

/// What an error value is called.
pub(crate) fn error_name(code: u8) -> &'static str {
    match code {
        0x00 => "#NULL!",
        0x07 => "#DIV/0!",
        0x0f => "#VALUE!",
        0x17 => "#REF!",
        0x1d => "#NAME?",
        0x24 => "#NUM!",
        0x2a => "#N/A",
        0x2b => "#GETTING_DATA",
        _ => "#ERROR",
    }
}

impl Workbook for XlsBook {
    fn sheets(&self) -> &[SheetInfo] {
        &self.sheets
    }

    fn column_styles(
        &self,
        sheet: usize,
        range: &StyledRange,
    ) -> Result<Vec<ColumnStyle>, ReadProblem> {
        // Earlier versions have other styles.
        if !self.shared.biff8 {
            return Ok(Vec::new());
        }
        let mut looks = SheetLooks::default();
        let (mut at, mut depth) = (self.offsets[sheet], 0_u32);
        while let Some(found) = record(&self.stream, at) {
            match found.kind {
                0x0809 => depth += 1,
                0x000a if depth <= 1 => break,
                0x000a => depth -= 1,
                _ if depth == 1 => looks.take(&found, range),
                _ => {}
            }
            at = found.next;
        }
        Ok(looks.columns(&self.shared.looks, range))
    }

    fn rows(&self, sheet: usize, _: Uncomputed) -> Result<Box<dyn Rows>, ReadProblem> {
        let mut cells = Cells {
            globals: Arc::clone(&self.shared),
            bytes: Vec::new(),
            cells: Vec::new(),
            oddities: Oddities::default(),
        };
        cells.read(&self.stream, self.offsets[sheet])?;
        if let Some(cell) = cells.cells.iter().find(|cell| cell.column > LAST_COLUMN) {
            return Err(damaged(format!(
                "there is no column after IV (row {})",
                u32::from(cell.row) + 1
            )));
        }
        cells.cells.sort_by_key(|cell| (cell.row, cell.column));
        Ok(Box::new(XlsRows { cells, next: 0 }))
    }
}

/// A cell that holds something, with its row and column from 0.
struct HeldCell {
    row: u16,
    column: u16,
    text: HeldText,
}

/// Where the text of a cell is.
#[derive(Clone, Copy)]
enum HeldText {
    /// The shared text with this number.
    Shared(u32),
    /// So many bytes of those of the sheet, from a place on, with their tag.
    Own(u32, u32, Tag),
}

/// The cells of a sheet. What they take is bound by the bytes of the file, which fit into memory:
/// a shared text is not copied to the cells that hold it.
struct Cells {
    globals: Arc<Globals>,
    bytes: Vec<u8>,
    cells: Vec<HeldCell>,
    oddities: Oddities,
}

impl Cells {
    fn push_with(
        &mut self,
        (row, column): (u16, u16),
        tag: Tag,
        write: impl FnOnce(&Globals, &mut Vec<u8>),
    ) {
        let start = self.bytes.len();
        write(&self.globals, &mut self.bytes);
        if self.bytes.len() > start {
            #[allow(
                clippy::cast_possible_truncation,
                reason = "the bytes are held to less than 4 GiB"
            )]
            let text = HeldText::Own(start as u32, (self.bytes.len() - start) as u32, tag);
            self.cells.push(HeldCell { row, column, text });
        }
    }

    fn number(&mut self, row: u16, column: u16, style: u16, number: f64) {
        let CellStyle { shown, format } = self.globals.styles.get(usize::from(style));
        self.push_with((row, column), Tag::formatted(format), |globals, out| {
            let numbers = NumberText {
                epoch: globals.epoch,
            };
            numbers.write_double(number, shown, out);
        });
    }

    fn text(&mut self, row: u16, column: u16, text: &str) {
        self.push_with((row, column), Tag::TEXT, |_, out| {
            out.extend_from_slice(text.as_bytes());
        });
    }

    fn boolean(&mut self, row: u16, column: u16, style: u16, value: bool) {
        let mut cell = Row::default();
        let shown = self.globals.styles.get(usize::from(style)).shown;
        cell.push_boolean(0, value, shown);
        self.push_with((row, column), Tag::PLAIN, |_, out| {
            out.extend_from_slice(&cell.bytes);
        });
    }

    fn error(&mut self, row: u16, column: u16, code: u8) {
        self.oddities.errors += 1;
        self.text(row, column, error_name(code));
    }

    fn read(&mut self, stream: &[u8], offset: usize) -> Result<(), ReadProblem> {
        let ends_early = || damaged("the sheet ends in the middle of its rows");
        let mut at = offset;
        let mut depth = 0_u32;
        // The place of a formula whose text is in a record of its own.
        let mut formula: Option<(u16, u16)> = None;
        loop {
            let found = record(stream, at).ok_or_else(ends_early)?;
            let data = found.data;
            let (row, column, style) = (u16_at(data, 0), u16_at(data, 2), u16_at(data, 4));
            match found.kind {
                0x0809 => depth += 1,
                0x000a if depth <= 1 => {
                    if let Some((row, column)) = formula {
                        self.oddities
                            .without_value(u64::from(row) + 1, column.into());
                    }
                    return Ok(());
                }
                0x000a => depth -= 1,
                // What is drawn on the sheet has records of its own.
                _ if depth > 1 => {}
                0x00fd => {
                    let number = u32_at(data, 6);
                    let strings = &self.globals.strings;
                    let Some(shared) = strings.get(number as usize) else {
                        return Err(damaged(format!(
                            "row {} holds the shared text {number}, and there are {}",
                            u32::from(row) + 1,
                            strings.len()
                        )));
                    };
                    if !shared.is_empty() {
                        let text = HeldText::Shared(number);
                        self.cells.push(HeldCell { row, column, text });
                    }
                }
                0x0204 | 0x00d6 => {
                    let pieces = with_continued(stream, found, 6);
                    let text = self.globals.label(pieces)?;
                    self.text(row, column, &text);
                }
                0x0203 => self.number(row, column, style, f64_at(data, 6)),
                0x027e => self.number(row, column, style, rk(u32_at(data, 6))),
                0x00bd => {
                    let cells = data.len().saturating_sub(6) / 6;
                    for place in 0..cells {
                        let start = 4 + place * 6;
                        let number = rk(u32_at(data, start + 2));
                        let column =
                            column.saturating_add(u16::try_from(place).unwrap_or(u16::MAX));
                        self.number(row, column, u16_at(data, start), number);
                    }
                }
                0x0205 => match data.get(6..8) {
                    Some([value, 0]) => self.boolean(row, column, style, *value != 0),
                    Some([code, _]) => self.error(row, column, *code),
                    _ => {}
                },
                // Some programs write the numbers that the record had in earlier versions.
                0x0006 | 0x0206 | 0x0406 => {
                    self.oddities.formulas += 1;
                    if let Some((row, column)) = formula.take() {
                        self.oddities
                            .without_value(u64::from(row) + 1, column.into());
                    }
                    match data.get(6..14) {
                        Some([0, .., 0xff, 0xff]) => formula = Some((row, column)),
                        Some([1, _, value, .., 0xff, 0xff]) => {
                            self.boolean(row, column, style, *value != 0);
                        }
                        Some([2, _, code, .., 0xff, 0xff]) => self.error(row, column, *code),
                        Some([3, .., 0xff, 0xff]) => {}
                        None => {
                            return Err(damaged(format!(
                                "the formula in row {} ends too early",
                                u32::from(row) + 1
                            )));
                        }
                        Some(_) => self.number(row, column, style, f64_at(data, 6)),
                    }
                }
                0x0207 => {
                    if let Some((row, column)) = formula.take() {
                        let pieces = with_continued(stream, found, 0);
                        let text = self.globals.label(pieces)?;
                        self.text(row, column, &text);
                    }
                }
                0x0208 if u16_at(data, 12) & 0x20 != 0 => self.oddities.hidden_rows += 1,
                0x00e5 => self.oddities.merged += u64::from(u16_at(data, 0)),
                _ => {}
            }
            if self.bytes.len() > u32::MAX as usize {
                return Err(damaged("its texts take more than 4 GiB"));
            }
            at = found.next;
        }
    }
}

/// The data of a record from a place on, and of those that continue it.
fn with_continued<'a>(stream: &'a [u8], first: Record<'a>, from: usize) -> Vec<&'a [u8]> {
    let mut pieces = vec![first.data.get(from..).unwrap_or_default()];
    let mut next = first.next;
    while let Some(more) = record(stream, next).filter(|more| more.kind == 0x003c) {
        pieces.push(more.data);
        next = more.next;
    }
    pieces
}

struct XlsRows {
    cells: Cells,
    next: usize,
}

impl Rows for XlsRows {
    fn next(&mut self, row: &mut Row) -> Result<bool, (Place, ReadProblem)> {
        let Some(first) = self.cells.cells.get(self.next) else {
            return Ok(false);
        };
        let number = first.row;
        row.number = u64::from(number) + 1;
        while let Some(cell) = self.cells.cells.get(self.next)
            && cell.row == number
        {
            let (value, tag) = match cell.text {
                HeldText::Shared(number) => {
                    let text = self.cells.globals.strings.get(number as usize);
                    (text, Tag::TEXT)
                }
                HeldText::Own(start, length, tag) => {
                    let start = start as usize;
                    (self.cells.bytes.get(start..start + length as usize), tag)
                }
            };
            row.push_tagged(u32::from(cell.column), tag, |out| {
                out.extend_from_slice(value.unwrap_or_default());
            });
            self.next += 1;
        }
        Ok(true)
    }

    fn oddities(&self) -> Oddities {
        self.cells.oddities
    }
}
