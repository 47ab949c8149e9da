//! Writes workbooks as a stream.
//!
//! Texts that are not too long and not too many are shared, which is what programs expect and makes
//! sheets small; what the table has no room for is in its cell.

use numerant_data::narrow::{to_u32, whole};
use std::io::{self, Write};

use zip::CompressionMethod;
use zip::write::SimpleFileOptions;

use super::strings::escape;
use super::style_table::{HEADER, StyleTable};
use crate::repack::WIDE;
use numerant_data::disk::{Archive, OutFile};
use numerant_format::sheet::{
    Alignment, Cell, CellFormat, Head, SharedTexts, SheetSink, letters, looks_typed,
};
use numerant_markup::{is_allowed, push_escaped};

/// Bytes that are handed to the compressor at a time.
const FULL: usize = 1 << 17;

/// Bytes of the longest text that is shared.
const LONGEST_SHARED: usize = 256;

/// The level of compression: the fastest. The next one takes twice the time for files that are a
/// quarter smaller.
const LEVEL: i64 = 1;

pub(super) const MAIN: &str = "http://schemas.openxmlformats.org/spreadsheetml/2006/main";
const RELATIONS: &str = "http://schemas.openxmlformats.org/officeDocument/2006/relationships";
const PACKAGE: &str = "http://schemas.openxmlformats.org/package/2006";
const DECLARATION: &str = "<?xml version=\"1.0\" encoding=\"UTF-8\" standalone=\"yes\"?>\n";

/// A workbook that is being written.
pub struct XlsxWriter {
    zip: Archive,
    out: Vec<u8>,
    sheets: Vec<SheetEntry>,
    styles: StyleTable,
    strings: SharedTexts,
    /// The letters of the columns.
    letters: Vec<String>,
    row: u64,
    header: bool,
    /// How the values of each column stand, and the number of the style of its header.
    alignments: Vec<Alignment>,
    header_styles: Vec<usize>,
}

/// The most bytes of a cell next to its text, and of a byte of text that is escaped.
const CELL: u64 = 100;
const BYTE: u64 = 7;

struct SheetEntry {
    name: String,
    /// The range that has a filter.
    filter: Option<String>,
}

impl XlsxWriter {
    /// Begins a workbook in a file; its shared texts may take `memory` bytes.
    pub fn create(file: OutFile, memory: usize) -> io::Result<Self> {
        Ok(Self {
            zip: Archive::new(file, 1 << 16),
            out: Vec::with_capacity(FULL + FULL / 4),
            sheets: Vec::new(),
            styles: StyleTable::default(),
            strings: SharedTexts::new(memory, LONGEST_SHARED),
            letters: Vec::new(),
            row: 0,
            header: false,
            alignments: Vec::new(),
            header_styles: Vec::new(),
        })
    }

    fn begin_part(&mut self, name: &str, most: u64) -> io::Result<()> {
        let options = SimpleFileOptions::default()
            .compression_method(CompressionMethod::Deflated)
            .compression_level(Some(LEVEL))
            .last_modified_time(zip::DateTime::default())
            .large_file(most >= WIDE);
        Ok(self.zip.start_file(name, options)?)
    }

    fn part(&mut self, name: &str, text: &str) -> io::Result<()> {
        self.begin_part(name, text.len() as u64)?;
        self.zip.write_all(DECLARATION.as_bytes())?;
        self.zip.write_all(text.as_bytes())
    }

    fn flush(&mut self) -> io::Result<()> {
        self.zip.check()?;
        self.zip.write_all(&self.out)?;
        self.out.clear();
        Ok(())
    }

    fn push(&mut self, text: &str) {
        self.out.extend_from_slice(text.as_bytes());
    }

    fn write_strings(&mut self) -> io::Result<()> {
        let strings = std::mem::take(&mut self.strings);
        let most = strings.texts().map(|text| CELL + text.len() as u64 * BYTE);
        self.begin_part("xl/sharedStrings.xml", most.sum())?;
        let count = strings.len();
        self.push(DECLARATION);
        let uses = strings.uses();
        self.push(&format!(
            "<sst xmlns=\"{MAIN}\" count=\"{uses}\" uniqueCount=\"{count}\">"
        ));
        for text in strings.texts() {
            self.push("<si>");
            push_text(text, "", &mut self.out);
            self.push("</si>");
            if self.out.len() > FULL {
                self.flush()?;
            }
        }
        self.push("</sst>");
        self.flush()
    }
}

/// Appends what is in a cell after its place and style, and its end: the number of a text where it
/// is shared. Tags have the prefix that is given.
pub(super) fn push_content(cell: &Cell<'_>, shared: Option<u32>, prefix: &str, out: &mut Vec<u8>) {
    let mut put = |kind: &str, value: &[u8]| {
        let pieces = [kind, "><", prefix, "v>"];
        pieces
            .iter()
            .for_each(|piece| out.extend_from_slice(piece.as_bytes()));
        out.extend_from_slice(value);
        let pieces = ["</", prefix, "v></", prefix, "c>"];
        pieces
            .iter()
            .for_each(|piece| out.extend_from_slice(piece.as_bytes()));
    };
    match cell {
        Cell::Blank => out.extend_from_slice(b"/>"),
        Cell::Text(text) => match shared {
            Some(number) => put(" t=\"s\"", itoa(number.into()).text()),
            None => {
                out.extend_from_slice(format!(" t=\"inlineStr\"><{prefix}is>").as_bytes());
                push_text(text, prefix, out);
                out.extend_from_slice(format!("</{prefix}is></{prefix}c>").as_bytes());
            }
        },
        Cell::Number(number, _) => put("", number.as_bytes()),
        Cell::Moment(serial, ..) => {
            if serial.fract() == 0.0 {
                put("", itoa(whole(*serial).unsigned_abs()).text());
            } else {
                put("", serial.to_string().as_bytes());
            }
        }
        Cell::Boolean(value, _) => put(" t=\"b\"", if *value { b"1" } else { b"0" }),
    }
}

/// Appends a text with its tags, which have a prefix.
fn push_text(text: &str, prefix: &str, out: &mut Vec<u8>) {
    let ends = |place: Option<char>| place.is_some_and(char::is_whitespace);
    if ends(text.chars().next())
        || ends(text.chars().next_back())
        || text.contains(['\n', '\t', '\r'])
    {
        out.extend_from_slice(format!("<{prefix}t xml:space=\"preserve\">").as_bytes());
    } else {
        out.extend_from_slice(format!("<{prefix}t>").as_bytes());
    }
    push_characters(text, false, out);
    out.extend_from_slice(format!("</{prefix}t>").as_bytes());
}

/// Appends a text with what XML cannot hold, and what would be taken for that, as `_xHHHH_`.
fn push_characters(text: &str, attribute: bool, out: &mut Vec<u8>) {
    let odd = |byte: u8| byte < 0x20 || byte == b'_' || byte == 0xef;
    if !text.bytes().any(odd) {
        push_escaped(text, attribute, out);
        return;
    }
    let mut plain = 0;
    for (at, sign) in text.char_indices() {
        let written = match sign {
            '_' if escape(&text[at..]).is_some() => "_x005F_".to_owned(),
            '\r' => "_x000D_".to_owned(),
            sign if !is_allowed(sign) => format!("_x{:04X}_", u32::from(sign)),
            _ => continue,
        };
        push_escaped(&text[plain..at], attribute, out);
        out.extend_from_slice(written.as_bytes());
        plain = at + sign.len_utf8();
    }
    push_escaped(&text[plain..], attribute, out);
}

impl SheetSink for XlsxWriter {
    fn begin_sheet(&mut self, head: &Head) -> io::Result<()> {
        let number = self.sheets.len() + 1;
        let name = format!("xl/worksheets/sheet{number}.xml");
        self.begin_part(&name, head.most(CELL, BYTE))?;
        let columns = head.plans.len();
        self.letters = (0..to_u32(columns)).map(letters).collect();
        let last = self.letters.last().cloned().unwrap_or_default();
        let rows = head.rows().max(1);
        self.header = head.header.is_some();
        self.row = 0;
        let style = |place: usize| head.styles.get(place).copied().unwrap_or_default();
        self.alignments = (0..columns).map(|place| style(place).alignment).collect();
        let header_style = |place| match style(place).header {
            Some(header) => self.styles.of_header(header),
            None => HEADER,
        };
        self.header_styles = (0..columns).map(header_style).collect();
        let filter = (self.header && columns > 0).then(|| format!("A1:{last}{rows}"));
        self.push(DECLARATION);
        self.push(&format!("<worksheet xmlns=\"{MAIN}\">"));
        if columns > 0 {
            self.push(&format!("<dimension ref=\"A1:{last}{rows}\"/>"));
        }
        let selected = if number == 1 {
            " tabSelected=\"1\""
        } else {
            ""
        };
        self.push(&format!(
            "<sheetViews><sheetView{selected} workbookViewId=\"0\""
        ));
        if self.header {
            self.push(
                "><pane ySplit=\"1\" topLeftCell=\"A2\" activePane=\"bottomLeft\" state=\"frozen\"/>\
                 <selection pane=\"bottomLeft\" activeCell=\"A2\" sqref=\"A2\"/></sheetView>",
            );
        } else {
            self.push("/>");
        }
        self.push("</sheetViews><sheetFormatPr defaultRowHeight=\"15\"/>");
        if columns > 0 {
            self.push("<cols>");
            for (place, width) in head.widths.iter().enumerate() {
                let place = place + 1;
                self.push(&format!(
                    "<col min=\"{place}\" max=\"{place}\" width=\"{width}\" customWidth=\"1\"/>"
                ));
            }
            self.push("</cols>");
        }
        self.push("<sheetData>");
        self.sheets.push(SheetEntry {
            name: head.name.clone(),
            filter,
        });
        Ok(())
    }

    fn row(&mut self, cells: &[Cell<'_>]) -> io::Result<()> {
        self.row += 1;
        let mut digits = itoa(self.row);
        let row = digits.text();
        let out = &mut self.out;
        out.extend_from_slice(b"<row r=\"");
        out.extend_from_slice(row);
        out.extend_from_slice(b"\">");
        let above = self.header && self.row == 1;
        for (place, (cell, letters)) in cells.iter().zip(&self.letters).enumerate() {
            if *cell == Cell::Blank {
                continue;
            }
            out.extend_from_slice(b"<c r=\"");
            out.extend_from_slice(letters.as_bytes());
            out.extend_from_slice(row);
            out.push(b'"');
            let mut shared = None;
            let alignment = self.alignments[place];
            let style = match cell {
                Cell::Blank => 0,
                Cell::Text(text) => {
                    shared = self.strings.number(text);
                    match (above, looks_typed(text)) {
                        (true, _) => self.header_styles[place],
                        (false, true) => self.styles.of(&CellFormat::Text, alignment),
                        (false, false) => self.styles.of(&CellFormat::General, alignment),
                    }
                }
                Cell::Number(_, format) | Cell::Moment(_, _, format) | Cell::Boolean(_, format) => {
                    self.styles.of(format, alignment)
                }
            };
            push_style(style, out);
            push_content(cell, shared, "", out);
        }
        out.extend_from_slice(b"</row>");
        if out.len() > FULL {
            self.flush()?;
        }
        Ok(())
    }

    fn end_sheet(&mut self) -> io::Result<()> {
        self.push("</sheetData>");
        if let Some(SheetEntry {
            filter: Some(filter),
            ..
        }) = self.sheets.last()
        {
            let filter = format!("<autoFilter ref=\"{filter}\"/>");
            self.push(&filter);
        }
        self.push("</worksheet>");
        self.flush()
    }

    fn finish(mut self: Box<Self>) -> io::Result<()> {
        self.write_strings()?;
        let styles = self.styles.xml();
        self.part("xl/styles.xml", &styles)?;
        let (mut sheets, mut names, mut relations, mut types) =
            (String::new(), String::new(), String::new(), String::new());
        for (place, entry) in self.sheets.iter().enumerate() {
            let number = place + 1;
            let mut name = Vec::new();
            push_characters(&entry.name, true, &mut name);
            let name = String::from_utf8_lossy(&name).into_owned();
            sheets.push_str(&format!(
                "<sheet name=\"{name}\" sheetId=\"{number}\" r:id=\"rId{number}\"/>"
            ));
            if let Some((from, to)) = entry
                .filter
                .as_deref()
                .and_then(|range| range.split_once(':'))
            {
                let column = |cell: &str| {
                    cell.trim_end_matches(|c: char| c.is_ascii_digit())
                        .to_owned()
                };
                let row = |cell: &str| {
                    cell.trim_start_matches(|c: char| c.is_ascii_alphabetic())
                        .to_owned()
                };
                names.push_str(&format!(
                    "<definedName name=\"_xlnm._FilterDatabase\" localSheetId=\"{place}\" \
                     hidden=\"1\">'{}'!${}${}:${}${}</definedName>",
                    name.replace('\'', "''"),
                    column(from),
                    row(from),
                    column(to),
                    row(to)
                ));
            }
            relations.push_str(&format!(
                "<Relationship Id=\"rId{number}\" Type=\"{RELATIONS}/worksheet\" \
                 Target=\"worksheets/sheet{number}.xml\"/>"
            ));
            types.push_str(&format!(
                "<Override PartName=\"/xl/worksheets/sheet{number}.xml\" ContentType=\"\
                 application/vnd.openxmlformats-officedocument.spreadsheetml.worksheet+xml\"/>"
            ));
        }
        if !names.is_empty() {
            names = format!("<definedNames>{names}</definedNames>");
        }
        let workbook = format!(
            "<workbook xmlns=\"{MAIN}\" xmlns:r=\"{RELATIONS}\"><bookViews><workbookView/></bookViews>\
             <sheets>{sheets}</sheets>{names}</workbook>"
        );
        self.part("xl/workbook.xml", &workbook)?;
        let (styles, strings) = (self.sheets.len() + 1, self.sheets.len() + 2);
        let relations = format!(
            "<Relationships xmlns=\"{PACKAGE}/relationships\">{relations}\
             <Relationship Id=\"rId{styles}\" Type=\"{RELATIONS}/styles\" Target=\"styles.xml\"/>\
             <Relationship Id=\"rId{strings}\" Type=\"{RELATIONS}/sharedStrings\" \
             Target=\"sharedStrings.xml\"/></Relationships>"
        );
        self.part("xl/_rels/workbook.xml.rels", &relations)?;
        let root = format!(
            "<Relationships xmlns=\"{PACKAGE}/relationships\"><Relationship Id=\"rId1\" \
             Type=\"{RELATIONS}/officeDocument\" Target=\"xl/workbook.xml\"/></Relationships>"
        );
        self.part("_rels/.rels", &root)?;
        let base = "application/vnd.openxmlformats-officedocument.spreadsheetml";
        let types = format!(
            "<Types xmlns=\"{PACKAGE}/content-types\"><Default Extension=\"rels\" \
             ContentType=\"application/vnd.openxmlformats-package.relationships+xml\"/>\
             <Default Extension=\"xml\" ContentType=\"application/xml\"/>\
             <Override PartName=\"/xl/workbook.xml\" ContentType=\"{base}.sheet.main+xml\"/>{types}\
             <Override PartName=\"/xl/styles.xml\" ContentType=\"{base}.styles+xml\"/>\
             <Override PartName=\"/xl/sharedStrings.xml\" ContentType=\"{base}.sharedStrings+xml\"/>\
             </Types>"
        );
        self.part("[Content_Types].xml", &types)?;
        self.zip.finish(false)
    }
}

fn push_style(style: usize, out: &mut Vec<u8>) {
    if style > 0 {
        out.extend_from_slice(b" s=\"");
        out.extend_from_slice(itoa(style as u64).text());
        out.push(b'"');
    }
}

/// A whole number as digits.
struct Digits {
    bytes: [u8; 20],
    from: usize,
}

fn itoa(mut number: u64) -> Digits {
    let mut digits = Digits {
        bytes: [b'0'; 20],
        from: 20,
    };
    loop {
        digits.from -= 1;
        digits.bytes[digits.from] = b'0' + (number % 10) as u8;
        number /= 10;
        if number == 0 {
            return digits;
        }
    }
}

impl Digits {
    fn text(&mut self) -> &[u8] {
        &self.bytes[self.from..]
    }
}
