//! Writes binary workbooks of BIFF8.

use numerant_data::narrow::{fit, to_u32, whole};
use std::io::{self, Write};

use cfb::{CompoundFile, Version};

use super::record::{characters, data, push_record};
use super::style_table::StyleTable;
use numerant_data::disk::OutFile;
use numerant_format::sheet::{
    Cell, CellFormat, ColumnStyle, Head, SharedTexts, SheetSink, looks_typed,
};

/// Bytes of data that a record has room for.
const ROOM: usize = 8224;

/// Rows whose heights are in front of their cells.
const BLOCK: usize = 32;

/// A workbook that is being written.
pub struct XlsWriter {
    file: OutFile,
    /// The name and the records of each sheet.
    sheets: Vec<(String, Vec<u8>)>,
    styles: StyleTable,
    /// How the columns of the present sheet look.
    looks: Vec<ColumnStyle>,
    strings: SharedTexts,
    /// Rows that are not written yet: their heights and their cells.
    heights: Vec<u8>,
    cells: Vec<u8>,
    waiting: usize,
    row: u32,
    header: bool,
    columns: u16,
}

impl XlsWriter {
    /// Begins a workbook in a file.
    pub fn create(file: OutFile) -> Self {
        Self {
            file,
            sheets: Vec::new(),
            styles: StyleTable::default(),
            looks: Vec::new(),
            strings: SharedTexts::new(usize::MAX, usize::MAX),
            heights: Vec::new(),
            cells: Vec::new(),
            waiting: 0,
            row: 0,
            header: false,
            columns: 0,
        }
    }

    /// Writes rows that wait.
    fn flush_rows(&mut self) {
        if let Some((_, records)) = self.sheets.last_mut() {
            records.append(&mut self.heights);
            records.append(&mut self.cells);
        }
        self.waiting = 0;
    }

    /// The records in front of those of the sheets. Where the sheets begin is not in them yet: the
    /// places where it has to stand are returned as well.
    fn globals(&self) -> (Vec<u8>, Vec<usize>) {
        let mut out = Vec::new();
        push_record(
            0x0809,
            &data![0x0600_u16, 0x0005_u16, 0x0dbb_u16, 0x07cc_u16, 0_u32, 6_u32],
            &mut out,
        );
        push_record(0x0042, &data![1200_u16], &mut out);
        push_record(
            0x003d,
            &data![
                0_u16, 0_u16, 0x4000_u16, 0x2000_u16, 0x38_u16, 0_u16, 0_u16, 1_u16, 600_u16
            ],
            &mut out,
        );
        push_record(0x0022, &data![0_u16], &mut out);
        self.styles.push_records(&mut out);
        let mut places = Vec::new();
        for (name, _) in &self.sheets {
            places.push(out.len() + 4);
            let (text, wide, count) = characters(name);
            let mut record = data![0_u32, 0_u16, fit::<_, u8>(count), u8::from(wide)];
            record.extend_from_slice(&text);
            push_record(0x0085, &record, &mut out);
        }
        self.push_strings(&mut out);
        push_record(0x000a, &[], &mut out);
        (out, places)
    }

    /// The shared texts, which run over the end of one record into the next.
    fn push_strings(&self, out: &mut Vec<u8>) {
        let mut kind = 0x00fc;
        let mut record = data![
            fit::<_, u32>(self.strings.uses()),
            to_u32(self.strings.len())
        ];
        for text in self.strings.texts() {
            let (bytes, wide, count) = characters(text);
            // The length and the first character stay together.
            if record.len() + 5 > ROOM {
                push_record(kind, &record, out);
                kind = 0x003c;
                record.clear();
            }
            record.extend_from_slice(&fit::<_, u16>(count).to_le_bytes());
            record.push(u8::from(wide));
            let mut rest = bytes.as_slice();
            loop {
                let room = ROOM - record.len();
                let room = if wide { room / 2 * 2 } else { room };
                let taken = rest.len().min(room);
                record.extend_from_slice(&rest[..taken]);
                rest = &rest[taken..];
                if rest.is_empty() {
                    break;
                }
                push_record(kind, &record, out);
                kind = 0x003c;
                record.clear();
                record.push(u8::from(wide));
            }
        }
        push_record(kind, &record, out);
    }
}

/// A whole number as an RK, if it fits one.
fn as_rk(number: f64) -> Option<u32> {
    let whole = i32::try_from(whole(number)).ok()?;
    let fits = f64::from(whole) == number && (-(1 << 29)..1 << 29).contains(&whole);
    (fits && !(whole == 0 && number.is_sign_negative())).then_some((whole << 2).cast_unsigned() | 2)
}

impl SheetSink for XlsWriter {
    fn begin_sheet(&mut self, head: &Head) -> io::Result<()> {
        let mut out = Vec::new();
        push_record(
            0x0809,
            &data![0x0600_u16, 0x0010_u16, 0x0dbb_u16, 0x07cc_u16, 0_u32, 6_u32],
            &mut out,
        );
        for (place, width) in head.widths.iter().enumerate() {
            let place: u16 = fit(place);
            let width: u16 = fit(whole((*width * 256.0).into()).clamp(0, 0xffff));
            let record = data![place, place, width, 15_u16, 2_u16, 0_u16];
            push_record(0x007d, &record, &mut out);
        }
        self.looks.clone_from(&head.styles);
        self.columns = fit(head.plans.len());
        push_record(
            0x0200,
            &data![
                0_u32,
                fit::<_, u32>(head.rows()),
                0_u16,
                self.columns,
                0_u16
            ],
            &mut out,
        );
        self.sheets.push((head.name.clone(), out));
        self.row = 0;
        self.header = head.header.is_some();
        Ok(())
    }

    fn row(&mut self, cells: &[Cell<'_>]) -> io::Result<()> {
        let row: u16 = fit(self.row);
        let above = self.header && row == 0;
        let height = data![
            row,
            0_u16,
            self.columns,
            0xff_u16,
            0_u16,
            0_u16,
            0x0f_0100_u32
        ];
        push_record(0x0208, &height, &mut self.heights);
        for (column, cell) in cells.iter().enumerate() {
            let look = self.looks.get(column).copied().unwrap_or_default();
            let column: u16 = fit(column);
            match cell {
                Cell::Blank => {}
                Cell::Text(text) => {
                    let style = if above {
                        self.styles.of_header(look.header)
                    } else if looks_typed(text) {
                        self.styles.of(&CellFormat::Text, look.alignment)
                    } else {
                        self.styles.of(&CellFormat::General, look.alignment)
                    };
                    let number = self.strings.number(text).unwrap_or_default();
                    push_record(0x00fd, &data![row, column, style, number], &mut self.cells);
                }
                Cell::Number(text, format) => {
                    let style = self.styles.of(format, look.alignment);
                    // The text was found to be a number that a double holds.
                    let number: f64 = text.parse().map_err(io::Error::other)?;
                    self.push_number(row, column, style, number);
                }
                Cell::Moment(serial, _, format) => {
                    let style = self.styles.of(format, look.alignment);
                    self.push_number(row, column, style, *serial);
                }
                Cell::Boolean(value, format) => {
                    let style = self.styles.of(format, look.alignment);
                    let record = data![row, column, style, u8::from(*value), 0_u8];
                    push_record(0x0205, &record, &mut self.cells);
                }
            }
        }
        self.row += 1;
        self.waiting += 1;
        if self.waiting == BLOCK {
            self.flush_rows();
        }
        Ok(())
    }

    fn end_sheet(&mut self) -> io::Result<()> {
        self.flush_rows();
        let first = self.sheets.len() == 1;
        if let Some((_, out)) = self.sheets.last_mut() {
            let mut flags: u16 = if first { 0x06b6 } else { 0x00b6 };
            if self.header {
                flags |= 0x0108;
            }
            push_record(
                0x023e,
                &data![flags, 0_u16, 0_u16, 0x40_u16, 0_u16, 0_u16, 0_u16, 0_u32],
                out,
            );
            if self.header {
                push_record(0x0041, &data![0_u16, 1_u16, 1_u16, 0_u16, 2_u8, 0_u8], out);
            }
            push_record(0x000a, &[], out);
        }
        Ok(())
    }

    fn finish(mut self: Box<Self>) -> io::Result<()> {
        let (mut globals, places) = self.globals();
        let mut offset = globals.len();
        for ((_, records), place) in self.sheets.iter().zip(places) {
            globals[place..place + 4].copy_from_slice(&to_u32(offset).to_le_bytes());
            offset += records.len();
        }
        let mut compound = CompoundFile::create_with_version(Version::V3, &mut self.file)?;
        let mut stream = compound.create_stream("/Workbook")?;
        stream.write_all(&globals)?;
        for (_, records) in &self.sheets {
            stream.write_all(records)?;
        }
        stream.flush()?;
        drop(stream);
        compound.flush()?;
        drop(compound);
        self.file.finish(false)
    }
}

impl XlsWriter {
    fn push_number(&mut self, row: u16, column: u16, style: u16, number: f64) {
        match as_rk(number) {
            Some(rk) => push_record(0x027e, &data![row, column, style, rk], &mut self.cells),
            None => push_record(0x0203, &data![row, column, style, number], &mut self.cells),
        }
    }
}
