//! Opens a source: tells its format, and gives a reader of it.

use std::io::Read;
use std::path::Path;
use std::sync::Arc;
use std::sync::atomic::AtomicU64;

use super::{edi, format_read, json, marc, ods, xls, xlsb, xlsx, xml};
use numerant_data::encoding::{Encoding, Transcoder, Utf32, Utf32Reader, mostly_utf16};
use numerant_data::source::{Input, ReadError, ReadProblem, SharedFile, SourcePath};
use numerant_format::ReadOptions;
use numerant_format::sheet::{Row, SheetReader, SheetSource, Visibility, Workbook, choose};
use numerant_sheets::Package;
use numerant_trees::{OpenedTrees, TreeFormat};

/// First bytes of a zip package, and of one without parts.
const ZIP: &[&[u8]] = &[b"PK\x03\x04", b"PK\x05\x06"];

/// First bytes of a compound file.
const COMPOUND: &[u8] = b"\xd0\xcf\x11\xe0\xa1\xb1\x1a\xe1";

/// A source whose format is told.
pub enum Opened {
    /// Text.
    Text(Input),
    /// A workbook, and the numbers of those of its sheets that are chosen.
    Book(OpenedBook),
    /// A document.
    Trees(Box<OpenedTrees>),
}

impl Opened {
    /// What its format is called.
    pub fn format_name(&self) -> &'static str {
        match self {
            Self::Text(_) => numerant_text::NAME,
            Self::Book(book) => book.format,
            Self::Trees(trees) => trees.format_name(),
        }
    }
}

/// An open workbook.
pub struct OpenedBook {
    path: SourcePath,
    workbook: Arc<dyn Workbook>,
    format: &'static str,
    size: Option<u64>,
    compression: Option<&'static str>,
    taken: Arc<AtomicU64>,
    /// The sheets that are read, from 0.
    pub chosen: Vec<usize>,
    /// The names of those that would be, and are empty.
    pub empty: Vec<String>,
}

impl OpenedBook {
    /// Opens one of its sheets.
    pub fn sheet(
        &self,
        sheet: usize,
        options: &ReadOptions,
        batch_size: usize,
        largest_record: usize,
    ) -> Result<SheetReader, ReadError> {
        let source = SheetSource {
            path: &self.path,
            format: self.format,
            size: self.size,
            compression: self.compression,
            taken: Arc::clone(&self.taken),
            may_be_empty: options.may_be_empty,
        };
        let workbook = self.workbook.as_ref();
        SheetReader::open(
            &source,
            workbook,
            sheet,
            options,
            batch_size,
            largest_record,
        )
    }

    /// The names of sheets that hold a chart or macros in place of cells.
    pub fn without_cells(&self) -> Vec<String> {
        let sheets = self.workbook.sheets().iter();
        sheets
            .filter(|sheet| !sheet.has_cells)
            .map(|sheet| sheet.name.clone())
            .collect()
    }

    /// The names of sheets that have cells and are not chosen.
    pub fn passed_over(&self) -> Vec<String> {
        let sheets = self.workbook.sheets().iter().enumerate();
        sheets
            .filter(|(place, sheet)| sheet.has_cells && !self.chosen.contains(place))
            .filter(|(_, sheet)| !self.empty.contains(&sheet.name))
            .map(|(_, sheet)| sheet.name.clone())
            .collect()
    }
}

/// Bytes in which an interchange is looked for that does not begin a file.
const FRONT: usize = 1 << 16;

/// Tells the format of a source, and opens it as far as that needs. `memory` is what the texts that
/// the sheets of a workbook share may take; what can only be read in order is copied to a file
/// without a name in `temporary` where that is not enough. `all` says that all sheets are read
/// where none is chosen.
pub fn open(
    mut input: Input,
    options: &ReadOptions,
    memory: usize,
    temporary: &Path,
    all: bool,
) -> Result<Opened, ReadError> {
    let path = input.path.clone();
    let failed = |problem| path.error(problem);
    let said = options.from.as_deref().and_then(format_read);
    let as_text =
        said.is_some_and(|format| format.book.is_none() && format.name == numerant_text::NAME);
    if as_text || options.lines {
        return Ok(Opened::Text(input));
    }
    let start = input.peek(512)?;
    let zip = ZIP.iter().any(|sign| start.starts_with(sign));
    let compound = start.starts_with(COMPOUND);
    let flat = is_flat(&start);
    if !zip && !compound && !flat {
        let extension = path.extension();
        let named = said.or_else(|| format_read(&extension));
        let claims = |names: &[&str]| match named {
            Some(format) => names.contains(&format.name),
            None => false,
        };
        let says_marc = claims(&[marc::NAME]);
        let directory = marc::directory_end(&start).filter(|_| says_marc || said.is_none());
        let is_marc = match directory {
            Some(end) if end <= start.len() => marc::begins(&start),
            Some(end) => marc::begins(&input.peek(end)?),
            None => false,
        };
        if is_marc {
            let opened = OpenedTrees::open(input, &marc::MarcFormat, options, memory, temporary)?;
            return Ok(Opened::Trees(Box::new(opened)));
        }
        let says_edi = claims(&[edi::Standard::X12.name(), edi::Standard::Edifact.name()]);
        if let Some(standard) = edi::begins(&start).filter(|_| says_edi || said.is_none()) {
            let format = edi::EdiFormat::of(standard);
            let opened = OpenedTrees::open(input, format, options, memory, temporary)?;
            return Ok(Opened::Trees(Box::new(opened)));
        }
        if says_edi && let Some(bytes) = edi::begins_behind(&input.peek(FRONT)?) {
            return Err(failed(ReadProblem::InFront { bytes }));
        }
        let (says_json, says_xml) = (
            claims(&[json::NAME, json::LINES]),
            claims(&[xml::NAME, marc::XML_NAME]),
        );
        let plain = Encoding::UTF_8;
        let start = decoded(&start, options.encoding.unwrap_or(plain));
        let as_marc = said.is_none_or(|format| format.name == marc::XML_NAME);
        let xml: &'static dyn TreeFormat =
            match options.records.is_none() && as_marc && marc::is_marcxml(&start) {
                true => &marc::MarcXmlFormat,
                false => &xml::XmlFormat,
            };
        let found: Option<&'static dyn TreeFormat> = if json::begins(&start, says_json) {
            Some(&json::JsonFormat)
        } else if xml::begins(&start, says_xml) {
            Some(xml)
        } else if said.is_some() && says_json {
            Some(&json::JsonFormat)
        } else if said.is_some() && says_xml {
            Some(xml)
        } else {
            None
        };
        if let Some(format) = found {
            let opened = OpenedTrees::open(input, format, options, memory, temporary)?;
            return Ok(Opened::Trees(Box::new(opened)));
        }
        if says_json || says_xml {
            let format = named.map_or(json::NAME, |format| format.name);
            if start.trim_ascii().is_empty() {
                if claims(&[json::LINES]) {
                    let format = &json::JsonFormat;
                    let opened = OpenedTrees::open(input, format, options, memory, temporary)?;
                    return Ok(Opened::Trees(Box::new(opened)));
                }
                return Err(failed(ReadProblem::Empty));
            }
            // What begins otherwise and has braces is rather a document that is broken.
            if let Some(b'{' | b'[' | b'<') = start.trim_ascii_start().first()
                && numerant_text::other_content(&start).is_none()
            {
                let format: &'static dyn TreeFormat = if says_json {
                    &json::JsonFormat
                } else {
                    &xml::XmlFormat
                };
                let opened = OpenedTrees::open(input, format, options, memory, temporary)?;
                return Ok(Opened::Trees(Box::new(opened)));
            }
            let found = numerant_text::other_content(&start).unwrap_or("other text");
            return Err(failed(ReadProblem::NoDocument { format, found }));
        }
        return match named {
            Some(format) if format.name != numerant_text::NAME => {
                if start.is_empty() {
                    return Err(failed(ReadProblem::Empty));
                }
                let found = numerant_text::other_content(&start).unwrap_or("text");
                let format_name = format.name;
                Err(failed(match format.text {
                    Some(_) => ReadProblem::NoDocument {
                        format: format_name,
                        found,
                    },
                    None => ReadProblem::NoWorkbook {
                        format: format_name,
                        found,
                    },
                }))
            }
            _ => Ok(Opened::Text(input)),
        };
    }
    let (size, compression) = (input.size, input.compression);
    let file = input
        .into_file(temporary)
        .map_err(|error| failed(ReadProblem::Io(error)))?;
    let shared = SharedFile::new(Arc::new(file)).map_err(|error| failed(ReadProblem::Io(error)))?;
    let taken = shared.taken();
    let (workbook, format): (Arc<dyn Workbook>, &'static str) = if zip {
        let package = Package::open(shared).map_err(failed)?;
        if let Some(book) = xlsx::XlsxBook::open(&package, memory).map_err(failed)? {
            (Arc::new(book), xlsx::NAME)
        } else if let Some(book) = xlsb::XlsbBook::open(&package, memory).map_err(failed)? {
            (Arc::new(book), xlsb::NAME)
        } else if let Some(book) = ods::OdsBook::open(&package).map_err(failed)? {
            (Arc::new(book), ods::NAME)
        } else {
            let media = package.bytes("mimetype", 200).map_err(failed)?;
            let found = match media.as_deref() {
                Some(b"application/vnd.sun.xml.calc") => {
                    "a spreadsheet in the format before OpenDocument (.sxc)"
                }
                _ => "a zip archive",
            };
            return Err(failed(no_workbook(&path, found)));
        }
    } else if flat {
        let book = ods::OdsBook::open_flat(shared).map_err(failed)?;
        (Arc::new(book), ods::NAME)
    } else if let Some(book) = xls::XlsBook::open(shared, memory).map_err(failed)? {
        (Arc::new(book), xls::NAME)
    } else {
        return Err(failed(no_workbook(&path, "a compound file")));
    };
    let mut chosen = choose(workbook.sheets(), &options.read_sheet, all).map_err(failed)?;
    let mut empty = Vec::new();
    if !options.may_be_empty {
        empty = pass_over_empty(workbook.as_ref(), options, &mut chosen).map_err(failed)?;
    }
    Ok(Opened::Book(OpenedBook {
        path,
        workbook,
        format,
        size,
        compression,
        taken,
        chosen,
        empty,
    }))
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
        match is_empty(sheet)? {
            true => empty.push(sheet),
            false => filled.push(sheet),
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

/// What is wrong with an archive that holds no workbook.
fn no_workbook(path: &SourcePath, found: &'static str) -> ReadProblem {
    match format_read(&path.extension()) {
        Some(format) if format.name != numerant_text::NAME => ReadProblem::NoWorkbook {
            format: format.name,
            found,
        },
        _ => ReadProblem::NotText { found },
    }
}

/// Whether a text begins like a spreadsheet that is one XML file.
fn is_flat(start: &[u8]) -> bool {
    let has = |word: &[u8]| memchr::memmem::find(start, word).is_some();
    start.trim_ascii_start().starts_with(b"<?xml") && has(b"<office:document")
}

/// The start of a text as UTF-8, so that what it begins with can be told.
fn decoded(start: &[u8], said: Encoding) -> Vec<u8> {
    let mut text = Vec::new();
    if let Some(order) = Utf32::detect(start) {
        let whole = &start[..start.len() / 4 * 4];
        // What is wrong with the text is reported when it is read.
        let _ = Utf32Reader::new(whole, order).read_to_end(&mut text);
        return text;
    }
    let utf16 = match start {
        [0xff, 0xfe, ..] => Some(Encoding::UTF_16LE),
        [0xfe, 0xff, ..] => Some(Encoding::UTF_16BE),
        _ => mostly_utf16(start),
    };
    let encoding = utf16.unwrap_or(said);
    if encoding.is_utf8() {
        return start.to_vec();
    }
    // A character that is cut off at the end does not matter.
    let _ = Transcoder::new(&start[..start.len() / 4 * 4], encoding).read_to_end(&mut text);
    text
}
