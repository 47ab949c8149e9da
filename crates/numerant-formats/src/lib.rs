//! The registry: a list of the formats, and how a source is opened with it.
//!
//! It is the one place that names all formats. A new one is a line in [`FORMATS`].
//!
//! ```
//! use numerant_formats::format_of;
//!
//! assert_eq!(format_of("CSV").map(|format| format.name()), Some("delimited text"));
//! assert!(format_of("exe").is_none());
//! ```

mod options;

use std::path::Path;

pub use options::{change_files, files, options};

use numerant_data::source::{Input, ReadError, ReadProblem};
use numerant_documents::json::{JsonFormat, JsonLinesFormat};
use numerant_documents::xml::XmlFormat;
use numerant_format::{
    Format, Opening, ReadOptions, RecordReader, SchemaScan, Source, Start, Weight,
};
use numerant_messages::{EdifactFormat, X12Format};
use numerant_pages::{HtmlFormat, PdfFormat};
use numerant_records::{MarcFormat, MarcXmlFormat};
use numerant_sheets::{OdsFormat, XlsFormat, XlsbFormat, XlsxFormat, refuse_other_packages};
use numerant_text::DelimitedFormat;

/// All formats, in the order of documents and messages.
pub static FORMATS: &[&dyn Format] = &[
    &DelimitedFormat,
    &numerant_text::fixed::FixedWidthFormat,
    &JsonFormat,
    &JsonLinesFormat,
    &XmlFormat,
    &MarcFormat,
    &MarcXmlFormat,
    &X12Format,
    &EdifactFormat,
    &XlsxFormat,
    &OdsFormat,
    &XlsbFormat,
    &XlsFormat,
    &PdfFormat,
    &HtmlFormat,
];

/// Delimited text, which a source is that is in no other format.
pub fn delimited() -> &'static dyn Format {
    &DelimitedFormat
}

/// The format that files of this extension are written in, in any case.
pub fn format_of(extension: &str) -> Option<&'static dyn Format> {
    let extension = extension.to_lowercase();
    let mut formats = FORMATS.iter().copied();
    formats.find(|format| format.written().contains(&extension.as_str()))
}

/// The format that files of this extension are in, in any case.
pub fn format_read(extension: &str) -> Option<&'static dyn Format> {
    let extension = extension.to_lowercase();
    let mut formats = FORMATS.iter().copied();
    formats.find(|format| format.read().contains(&extension.as_str()))
}

/// The format with this name.
pub fn format_named(name: &str) -> Option<&'static dyn Format> {
    FORMATS.iter().copied().find(|format| format.name() == name)
}

/// The format in which records of a source in the format `source` are written where `asked` is asked for:
/// some have documents of their own.
pub fn format_for_records(asked: &'static dyn Format, source: &str) -> &'static dyn Format {
    let mut formats = FORMATS.iter().copied();
    let own = formats.find(|format| format.stands_for(asked.name(), source));
    own.unwrap_or(asked)
}

/// Every extension that can be written.
pub fn known_extensions() -> Vec<&'static str> {
    let written = FORMATS.iter().flat_map(|format| format.written());
    written.copied().collect()
}

/// Every extension that can be read, each once.
pub fn read_extensions() -> Vec<&'static str> {
    let mut read: Vec<&'static str> = Vec::new();
    for extension in FORMATS.iter().flat_map(|format| format.read()) {
        if !read.contains(extension) {
            read.push(extension);
        }
    }
    read
}

/// Detects the format of a source, and opens it as far as that needs.
///
/// What it holds wins over what it is called; `memory` bounds its largest record and the texts that the sheets
/// of a workbook share. What can be read only once is copied to a file without a name in `temporary` where a
/// format needs that. `all_sheets` reads all sheets of a workbook where none is chosen.
///
/// # Errors
///
/// If it cannot be read, or is not what it is said to be.
pub fn open(
    input: Input,
    options: &ReadOptions,
    memory: usize,
    temporary: &Path,
    all_sheets: bool,
) -> Result<Box<dyn Source>, ReadError> {
    let said = options.from.as_deref().and_then(format_read);
    let named = format_read(&input.path.extension());
    let names = (said.map(Format::name), named.map(Format::name));
    let is_text = said.is_some_and(|said| said.name() == delimited().name()) || options.lines;
    let mut start = Start::new(input, options, names, memory, temporary)?;
    let stated = if is_text { Some(delimited()) } else { said };
    if let Some(format) = stated
        && let Some(what) = options_of_another(options, format)
    {
        let hint = "remove one of the two";
        return Err(start.error(ReadProblem::OfFormat { what, hint }));
    }
    start.all_sheets = all_sheets;
    if is_text {
        return delimited().open_named(&mut start);
    }
    for weight in Weight::ALL {
        for format in FORMATS.iter().filter(|format| format.weight() == weight) {
            if let Some(source) = format.open(&mut start)? {
                return Ok(source);
            }
        }
    }
    refuse_other_packages(&mut start)?;
    said.or(named).unwrap_or(delimited()).open_named(&mut start)
}

/// An option of another format than the one that is stated, in words.
fn options_of_another(read: &ReadOptions, stated: &dyn Format) -> Option<String> {
    let is_own = |name: &str| stated.options().iter().any(|option| option.name == name);
    let name = read.of_formats.names().find(|name| !is_own(name))?;
    let name_of_stated = stated.name();
    Some(format!(
        "'{name}' is an option of another format than {name_of_stated}, which is stated"
    ))
}

/// A reader of a source that is one table: a text, the first of the sheets that are chosen, or the
/// records of a document.
///
/// # Errors
///
/// If it cannot be read.
pub fn open_reader(
    input: Input,
    options: &ReadOptions,
    batch_size: usize,
    largest_record: usize,
    temporary: &Path,
) -> Result<Box<dyn RecordReader>, ReadError> {
    let mut source = open(input, options, largest_record, temporary, false)?;
    let opening = Opening {
        options,
        batch_size,
        largest_record,
        scan: &SchemaScan::Full,
    };
    source.open_table(0, opening)
}
