//! Tables as pages to read: `.pdf` and `.html`.
//!
//! Pages are written from what is kept of records, as workbooks are: types, number formats and header styles are
//! decided by the same code, and each sheet of an output is a table under its name. They are not read again.
//!
//! ```
//! use numerant_format::Format;
//! use numerant_pages::PdfFormat;
//!
//! assert_eq!(PdfFormat.written(), ["pdf"]);
//! ```

mod fonts;
mod group;
mod html;
mod pdf;
mod table;

use std::io::{self, Write};

use numerant_data::disk::OutFile;
use numerant_data::source::{ReadError, ReadProblem};
use numerant_format::sheet::{Limits, PrintSheet, SheetSink};
use numerant_format::{
    Capabilities, Format, FormatOption, Printing, Side, Source, Start, Takes, Weight, WriteOptions,
};

use self::fonts::Fonts;
use self::html::HtmlWriter;
use self::pdf::{Paper, PdfWriter, SheetsRequest, typeset_sheets};

/// Tables typeset on pages.
#[derive(Debug)]
pub struct PdfFormat;

const NAME: &str = "PDF document";
const PAPER: &str = "paper";
const FONT: &str = "font";

static OPTIONS: [FormatOption; 2] = [
    FormatOption {
        name: PAPER,
        side: Side::Writing,
        takes: Takes::Text,
        value_name: "SIZE",
        help: "Write .pdf on this paper: a4 or letter; wide tables turn it [default: a4]",
        check: |text| Paper::of_name(text).map(drop),
    },
    FormatOption {
        name: FONT,
        side: Side::Writing,
        takes: Takes::File,
        value_name: "FILE",
        help: "Write characters of .pdf that the built-in fonts lack in a TrueType or OpenType font",
        check: |_| Ok(()),
    },
];

impl Format for PdfFormat {
    fn name(&self) -> &'static str {
        NAME
    }

    fn extensions(&self) -> &'static [&'static str] {
        &["pdf"]
    }

    fn read(&self) -> &'static [&'static str] {
        &[]
    }

    fn capabilities(&self) -> Capabilities {
        Capabilities {
            workbook: Some(Limits {
                // A document is in memory until it is written.
                rows: 20_000,
                columns: 500,
                text: 32_767,
                control_characters: true,
                carriage_returns: true,
            }),
            has_pages: true,
            draws_sheets: true,
            copies_sheets: true,
            cuts_rows: true,
            fills_templates: true,
            ..Capabilities::default()
        }
    }

    fn weight(&self) -> Weight {
        Weight::Signature
    }

    fn options(&self) -> &'static [FormatOption] {
        &OPTIONS
    }

    fn open(&self, start: &mut Start<'_>) -> Result<Option<Box<dyn Source>>, ReadError> {
        if start.bytes().starts_with(b"%PDF-") {
            let found = "a PDF document, which is written and not read";
            return Err(start.error(ReadProblem::NotText { found }));
        }
        Ok(None)
    }

    fn create(
        &self,
        file: OutFile,
        _memory: usize,
        options: &WriteOptions,
    ) -> io::Result<Box<dyn SheetSink>> {
        let (paper, fonts) = paper_and_fonts(options)?;
        Ok(Box::new(PdfWriter::new(file, paper, fonts)))
    }

    fn draw_sheets(
        &self,
        mut file: OutFile,
        sheets: &[PrintSheet],
        printing: &Printing<'_>,
    ) -> io::Result<u64> {
        let (paper, fonts) = paper_and_fonts(printing.options)?;
        let (bytes, cut) = typeset_sheets(&SheetsRequest {
            sheets,
            file: printing.output,
            now: printing.now,
            paper,
            fonts: &fonts,
        })?;
        file.write_all(&bytes)?;
        file.finish(false)?;
        Ok(cut)
    }
}

/// The paper and the fonts that are asked for.
fn paper_and_fonts(options: &WriteOptions) -> io::Result<(Paper, Fonts)> {
    let paper = options.of_formats.get(PAPER).map(Paper::of_name);
    let paper = paper.transpose().map_err(io::Error::other)?;
    let fonts = Fonts::load(options.of_formats.get(FONT))?;
    Ok((paper.unwrap_or_default(), fonts))
}

/// Tables on a page of HTML.
#[derive(Debug)]
pub struct HtmlFormat;

impl Format for HtmlFormat {
    fn name(&self) -> &'static str {
        "HTML page"
    }

    fn extensions(&self) -> &'static [&'static str] {
        &["html", "htm"]
    }

    fn read(&self) -> &'static [&'static str] {
        &[]
    }

    fn written(&self) -> &'static [&'static str] {
        &["html"]
    }

    fn capabilities(&self) -> Capabilities {
        Capabilities {
            workbook: Some(Limits {
                // More rows than that are more than a browser sorts at once.
                rows: 100_000,
                columns: 1_000,
                text: 1 << 20,
                control_characters: true,
                carriage_returns: true,
            }),
            has_pages: true,
            ..Capabilities::default()
        }
    }

    fn weight(&self) -> Weight {
        Weight::Signature
    }

    fn open(&self, _start: &mut Start<'_>) -> Result<Option<Box<dyn Source>>, ReadError> {
        Ok(None)
    }

    fn create(
        &self,
        file: OutFile,
        _memory: usize,
        _options: &WriteOptions,
    ) -> io::Result<Box<dyn SheetSink>> {
        Ok(Box::new(HtmlWriter::new(file)))
    }
}
