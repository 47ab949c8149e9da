//! Workbooks as formats of the registry.

use std::io;
use std::sync::Arc;

use numerant_data::disk::OutFile;
use numerant_data::source::{ReadError, ReadProblem, SharedFile};
use numerant_format::sheet::{Limits, SheetSink, Workbook};
use numerant_format::{Capabilities, Format, Source, Start, Weight, WriteOptions};

use crate::package::Package;
use crate::source::WorkbookSource;
use crate::{ods, xls, xlsb, xlsx};

/// First bytes of a zip package, and of one without parts.
const ZIP: &[&[u8]] = &[b"PK\x03\x04", b"PK\x05\x06"];

/// First bytes of a compound file.
const COMPOUND: &[u8] = b"\xd0\xcf\x11\xe0\xa1\xb1\x1a\xe1";

/// Office Open XML workbooks.
#[derive(Debug)]
pub struct XlsxFormat;

/// OpenDocument spreadsheets.
#[derive(Debug)]
pub struct OdsFormat;

/// Binary Office Open XML workbooks.
#[derive(Debug)]
pub struct XlsbFormat;

/// Binary workbooks.
#[derive(Debug)]
pub struct XlsFormat;

impl Format for XlsxFormat {
    fn name(&self) -> &'static str {
        xlsx::NAME
    }

    fn extensions(&self) -> &'static [&'static str] {
        &["xlsx", "xlsm"]
    }

    fn written(&self) -> &'static [&'static str] {
        &["xlsx"]
    }

    fn capabilities(&self) -> Capabilities {
        Capabilities {
            workbook: Some(Limits {
                rows: 1_048_576,
                columns: 16_384,
                text: 32_767,
                control_characters: true,
                carriage_returns: true,
            }),
            copies_sheets: true,
            cuts_rows: true,
            fills_templates: true,
            ..Capabilities::default()
        }
    }

    fn weight(&self) -> Weight {
        Weight::Signature
    }

    fn open(&self, start: &mut Start<'_>) -> Result<Option<Box<dyn Source>>, ReadError> {
        let Some((package, file)) = package(start)? else {
            return Ok(None);
        };
        let book = xlsx::XlsxBook::open(
            &package,
            start.memory,
            &start.options.context.number_formats,
        );
        opened(start, &file, book, xlsx::NAME)
    }

    fn create(
        &self,
        file: OutFile,
        memory: usize,
        _: &WriteOptions,
    ) -> io::Result<Box<dyn SheetSink>> {
        Ok(Box::new(xlsx::XlsxWriter::create(file, memory)?))
    }
}

impl Format for OdsFormat {
    fn name(&self) -> &'static str {
        ods::NAME
    }

    fn extensions(&self) -> &'static [&'static str] {
        &["ods", "fods"]
    }

    fn written(&self) -> &'static [&'static str] {
        &["ods"]
    }

    fn capabilities(&self) -> Capabilities {
        Capabilities {
            workbook: Some(Limits {
                rows: 1_048_576,
                columns: 16_384,
                text: 32_767,
                control_characters: false,
                carriage_returns: false,
            }),
            copies_sheets: true,
            ..Capabilities::default()
        }
    }

    fn weight(&self) -> Weight {
        Weight::Signature
    }

    fn open(&self, start: &mut Start<'_>) -> Result<Option<Box<dyn Source>>, ReadError> {
        if is_flat(start.bytes()) {
            let file = start.file()?;
            let book =
                ods::OdsBook::open_flat(file.same_count(), &start.options.context.number_formats)
                    .map(Some);
            return opened(start, &file, book, ods::NAME);
        }
        let Some((package, file)) = package(start)? else {
            return Ok(None);
        };
        let book = ods::OdsBook::open(&package, &start.options.context.number_formats);
        opened(start, &file, book, ods::NAME)
    }

    fn create(&self, file: OutFile, _: usize, _: &WriteOptions) -> io::Result<Box<dyn SheetSink>> {
        Ok(Box::new(ods::OdsWriter::create(file)?))
    }
}

impl Format for XlsbFormat {
    fn name(&self) -> &'static str {
        xlsb::NAME
    }

    fn extensions(&self) -> &'static [&'static str] {
        &["xlsb"]
    }

    fn written(&self) -> &'static [&'static str] {
        &[]
    }

    fn weight(&self) -> Weight {
        Weight::Signature
    }

    fn open(&self, start: &mut Start<'_>) -> Result<Option<Box<dyn Source>>, ReadError> {
        let Some((package, file)) = package(start)? else {
            return Ok(None);
        };
        let book = xlsb::XlsbBook::open(
            &package,
            start.memory,
            &start.options.context.number_formats,
        );
        opened(start, &file, book, xlsb::NAME)
    }

    fn capabilities(&self) -> Capabilities {
        Capabilities {
            workbook: XlsxFormat.capabilities().workbook,
            ..Capabilities::default()
        }
    }
}

impl Format for XlsFormat {
    fn name(&self) -> &'static str {
        xls::NAME
    }

    fn extensions(&self) -> &'static [&'static str] {
        &["xls"]
    }

    fn capabilities(&self) -> Capabilities {
        Capabilities {
            workbook: Some(Limits {
                rows: 65_536,
                columns: 256,
                text: 32_767,
                control_characters: true,
                carriage_returns: true,
            }),
            ..Capabilities::default()
        }
    }

    fn weight(&self) -> Weight {
        Weight::Signature
    }

    fn open(&self, start: &mut Start<'_>) -> Result<Option<Box<dyn Source>>, ReadError> {
        if !start.bytes().starts_with(COMPOUND) {
            return Ok(None);
        }
        let file = start.file()?;
        let book = xls::XlsBook::open(
            file.same_count(),
            start.memory,
            &start.options.context.number_formats,
        );
        match opened(start, &file, book, xls::NAME)? {
            Some(source) => Ok(Some(source)),
            None => Err(no_workbook(start, "a compound file")),
        }
    }

    fn create(&self, file: OutFile, _: usize, _: &WriteOptions) -> io::Result<Box<dyn SheetSink>> {
        Ok(Box::new(xls::XlsWriter::create(file)))
    }
}

/// The package that a source is, if it is one, and the file that it is in.
fn package(start: &mut Start<'_>) -> Result<Option<(Package, SharedFile)>, ReadError> {
    if !ZIP.iter().any(|sign| start.bytes().starts_with(sign)) {
        return Ok(None);
    }
    let file = start.file()?;
    let package = Package::open(file.same_count()).map_err(|problem| start.error(problem))?;
    Ok(Some((package, file)))
}

/// A workbook as a source, if it is one.
fn opened<W: Workbook + 'static>(
    start: &Start<'_>,
    file: &SharedFile,
    book: Result<Option<W>, ReadProblem>,
    format: &'static str,
) -> Result<Option<Box<dyn Source>>, ReadError> {
    let Some(book) = book.map_err(|problem| start.error(problem))? else {
        return Ok(None);
    };
    let source = WorkbookSource::open(start, Arc::new(book), format, file.taken())?;
    Ok(Some(Box::new(source)))
}

/// That a package holds no workbook, for whoever looks at it last.
///
/// # Errors
///
/// If it is a package.
pub fn refuse_other_packages(start: &mut Start<'_>) -> Result<(), ReadError> {
    let Some((package, _)) = package(start)? else {
        return Ok(());
    };
    let media = package.bytes("mimetype", 200);
    let media = media.map_err(|problem| start.error(problem))?;
    let found = match media.as_deref() {
        Some(b"application/vnd.sun.xml.calc") => {
            "a spreadsheet in the format before OpenDocument (.sxc)"
        }
        _ => "a zip archive",
    };
    Err(no_workbook(start, found))
}

/// That an archive holds no workbook.
fn no_workbook(start: &Start<'_>, found: &'static str) -> ReadError {
    let names = [xlsx::NAME, xlsb::NAME, xls::NAME, ods::NAME];
    start.error(match start.named() {
        Some(format) if names.contains(&format) => ReadProblem::NoWorkbook { format, found },
        _ => ReadProblem::NotText { found },
    })
}

/// Whether a text begins like a spreadsheet that is one XML file.
fn is_flat(start: &[u8]) -> bool {
    let has = |word: &[u8]| memchr::memmem::find(start, word).is_some();
    start.trim_ascii_start().starts_with(b"<?xml") && has(b"<office:document")
}
