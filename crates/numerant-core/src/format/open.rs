//! Opens a source: tells its format, and gives a reader of it.

use std::fs::File;
use std::io::{self, Read, Write};
use std::path::Path;
use std::sync::Arc;
use std::sync::atomic::AtomicU64;

use super::delimited::{DelimitedReader, ReadOptions};
use super::package::Package;
use super::sheet::{SheetReader, SheetSource, Workbook, choose};
use super::{RecordReader, format_read, ods, xls, xlsb, xlsx};
use crate::source::{Input, ReadError, ReadProblem, SharedFile, SourcePath};

/// First bytes of a zip package, and of one without parts.
const ZIP: &[&[u8]] = &[b"PK\x03\x04", b"PK\x05\x06"];

/// First bytes of a compound file.
const COMPOUND: &[u8] = b"\xd0\xcf\x11\xe0\xa1\xb1\x1a\xe1";

/// A source whose format is told.
pub(crate) enum Opened {
    /// Text.
    Text(Input),
    /// A workbook, and the numbers of those of its sheets that are chosen.
    Book(OpenedBook),
}

/// An open workbook.
pub(crate) struct OpenedBook {
    path: SourcePath,
    workbook: Arc<dyn Workbook>,
    format: &'static str,
    size: Option<u64>,
    compression: Option<&'static str>,
    taken: Arc<AtomicU64>,
    /// The sheets that are read, from 0.
    pub(crate) chosen: Vec<usize>,
}

impl OpenedBook {
    /// Opens one of its sheets.
    pub(crate) fn sheet(
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

    /// The names of sheets that are shown and not chosen.
    pub(crate) fn passed_over(&self) -> Vec<String> {
        let sheets = self.workbook.sheets().iter().enumerate();
        sheets
            .filter(|(place, sheet)| sheet.has_cells && !self.chosen.contains(place))
            .map(|(_, sheet)| sheet.name.clone())
            .collect()
    }
}

/// Tells the format of a source, and opens it as far as that needs. `memory` is what the texts that
/// the sheets of a workbook share may take; what can only be read in order is copied to a file
/// without a name in `temporary` where that is not enough. `all` says that all sheets are read
/// where none is chosen.
pub(crate) fn open(
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
        said.is_some_and(|format| format.book.is_none() && format.name == super::delimited::NAME);
    if as_text {
        return Ok(Opened::Text(input));
    }
    let start = input.peek(512)?;
    let zip = ZIP.iter().any(|sign| start.starts_with(sign));
    let compound = start.starts_with(COMPOUND);
    let flat = is_flat(&start);
    if !zip && !compound && !flat {
        let extension = path.extension();
        let named = said.or_else(|| format_read(&extension));
        return match named {
            Some(format) if format.name != super::delimited::NAME => {
                if start.is_empty() {
                    return Err(failed(ReadProblem::Empty));
                }
                Err(failed(ReadProblem::NoWorkbook {
                    format: format.name,
                    found: super::delimited::other_content(&start).unwrap_or("text"),
                }))
            }
            _ => Ok(Opened::Text(input)),
        };
    }
    let (size, compression) = (input.size, input.compression);
    let file = into_file(input, temporary).map_err(|error| failed(ReadProblem::Io(error)))?;
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
            return Err(failed(no_workbook(&path, "a zip archive")));
        }
    } else if flat {
        let book = ods::OdsBook::open_flat(shared).map_err(failed)?;
        (Arc::new(book), ods::NAME)
    } else if let Some(book) = xls::XlsBook::open(shared, memory).map_err(failed)? {
        (Arc::new(book), xls::NAME)
    } else {
        return Err(failed(no_workbook(&path, "a compound file")));
    };
    let chosen = choose(workbook.sheets(), &options.read_sheet, all).map_err(failed)?;
    Ok(Opened::Book(OpenedBook {
        path,
        workbook,
        format,
        size,
        compression,
        taken,
        chosen,
    }))
}

/// What is wrong with an archive that holds no workbook.
fn no_workbook(path: &SourcePath, found: &'static str) -> ReadProblem {
    match format_read(&path.extension()) {
        Some(format) if format.name != super::delimited::NAME => ReadProblem::NoWorkbook {
            format: format.name,
            found,
        },
        _ => ReadProblem::NotText { found },
    }
}

/// A reader of a source that is one table: a text, or the first of the sheets that are chosen.
pub(crate) fn open_reader(
    input: Input,
    options: &ReadOptions,
    batch_size: usize,
    largest_record: usize,
    temporary: &Path,
) -> Result<Box<dyn RecordReader>, ReadError> {
    match open(input, options, largest_record, temporary, false)? {
        Opened::Text(input) => {
            let reader = DelimitedReader::open(input, options, batch_size, largest_record)?;
            Ok(Box::new(reader))
        }
        Opened::Book(book) => {
            let first = book.chosen.first().copied().unwrap_or_default();
            let reader = book.sheet(first, options, batch_size, largest_record)?;
            Ok(Box::new(reader))
        }
    }
}

/// Whether a text begins like a spreadsheet that is one XML file.
fn is_flat(start: &[u8]) -> bool {
    let has = |word: &[u8]| memchr::memmem::find(start, word).is_some();
    start.trim_ascii_start().starts_with(b"<?xml") && has(b"<office:document")
}

/// The file of an input as it is, or a copy of what comes out of it.
fn into_file(mut input: Input, temporary: &Path) -> io::Result<File> {
    if let (SourcePath::File(path), Some(_), None) = (&input.path, input.size, input.compression) {
        return File::open(path);
    }
    let mut file = tempfile::tempfile_in(temporary)?;
    let mut buffer = vec![0; 1 << 17];
    loop {
        match input.read(&mut buffer) {
            Ok(0) => break,
            Ok(read) => file.write_all(&buffer[..read])?,
            Err(error) if error.kind() == io::ErrorKind::Interrupted => {}
            Err(error) => return Err(error),
        }
    }
    Ok(file)
}
