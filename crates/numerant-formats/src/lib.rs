//! The registry: a list of the formats, and nothing else.

mod open;
mod table;

use std::io;
use std::sync::Arc;

pub use open::{Opened, OpenedBook, open};
pub use table::open_reader;

use numerant_data::disk::OutFile;
use numerant_documents::{json, xml};
use numerant_format::sheet::{Limits, SheetSink};
use numerant_format::{ControlSigns, EncodeError, RecordEncoder, TextFormat};
use numerant_messages as edi;
use numerant_records::{self as marc, Form, MarcTableEncoder};
use numerant_sheets::{ods, xls, xlsb, xlsx};

/// A format, its extensions and what can be done with it.
#[derive(Debug)]
pub struct Format {
    /// What it is called.
    pub name: &'static str,
    /// Extensions of file names, lower case, of files in this format.
    pub extensions: &'static [&'static str],
    /// Those of them that files can be written with.
    pub written: &'static [&'static str],
    /// How workbooks of it are written; `None` if it is text.
    pub book: Option<BookFormat>,
    /// How it is written if it is text.
    pub text: Option<TextFormat>,
}

/// Whether records of a source of this format stand in it between the same marks, so that what is around
/// them there can be around them here.
pub fn is_around(text: TextFormat, source: &str) -> bool {
    match text {
        TextFormat::Xml => source == xml::NAME,
        TextFormat::MarcXml => source == marc::XML_NAME,
        _ => false,
    }
}

/// Whether records of a source of this format are values of JSON, as they are here.
pub fn has_values_of(text: TextFormat, source: &str) -> bool {
    [json::NAME, json::LINES].contains(&source) && text.is_typed()
}

/// What writes records of which each column says where in a record of this format it belongs; `None` if
/// columns may have any names here. Columns are given with their places among the cells.
///
/// # Errors
///
/// Records of columns cannot be written in it, or not with such a column.
pub fn addressed<'n>(
    text: TextFormat,
    columns: impl IntoIterator<Item = (&'n str, usize)>,
    policy: ControlSigns,
) -> Option<Result<Arc<dyn RecordEncoder>, EncodeError>> {
    let to = match text {
        TextFormat::Edi => return Some(Err(EncodeError::OnlyMessages)),
        TextFormat::Marc => Form::Iso2709,
        TextFormat::MarcXml => Form::Xml,
        TextFormat::Delimited | TextFormat::Json | TextFormat::JsonLines | TextFormat::Xml => {
            return None;
        }
    };
    let encoder = MarcTableEncoder::new(to, policy, columns);
    let encoder = encoder.map(|encoder| Arc::new(encoder) as Arc<dyn RecordEncoder>);
    Some(encoder.map_err(EncodeError::NotMarc))
}

/// A format of workbooks that can be written.
#[derive(Debug)]
pub struct BookFormat {
    /// How much room there is.
    pub limits: Limits,
    /// Begins a workbook in a file; what its sheets share may take so many bytes.
    pub create: fn(OutFile, usize) -> io::Result<Box<dyn SheetSink>>,
}

/// What Office Open XML workbooks are called.
pub const XLSX: &str = xlsx::NAME;

/// What OpenDocument spreadsheets are called.
pub const ODS: &str = ods::NAME;

/// What documents of JSON are called, and values a line.
pub const JSON: &str = json::NAME;
/// What values of JSON a line are called.
pub const JSON_LINES: &str = json::LINES;

/// All formats there are.
pub const FORMATS: &[Format] = &[
    Format {
        name: numerant_text::NAME,
        extensions: numerant_text::EXTENSIONS,
        written: numerant_text::EXTENSIONS,
        book: None,
        text: Some(TextFormat::Delimited),
    },
    Format {
        name: json::NAME,
        extensions: &["json"],
        written: &["json"],
        book: None,
        text: Some(TextFormat::Json),
    },
    Format {
        name: json::LINES,
        extensions: json::LINES_EXTENSIONS,
        written: json::LINES_EXTENSIONS,
        book: None,
        text: Some(TextFormat::JsonLines),
    },
    Format {
        name: xml::NAME,
        extensions: &["xml"],
        written: &["xml"],
        book: None,
        text: Some(TextFormat::Xml),
    },
    Format {
        name: marc::NAME,
        extensions: marc::EXTENSIONS,
        written: marc::EXTENSIONS,
        book: None,
        text: Some(TextFormat::Marc),
    },
    Format {
        name: marc::XML_NAME,
        extensions: &["marcxml"],
        written: &["marcxml"],
        book: None,
        text: Some(TextFormat::MarcXml),
    },
    Format {
        name: edi::Standard::X12.name(),
        extensions: edi::X12_EXTENSIONS,
        written: edi::X12_EXTENSIONS,
        book: None,
        text: Some(TextFormat::Edi),
    },
    Format {
        name: edi::Standard::Edifact.name(),
        extensions: edi::EDIFACT_EXTENSIONS,
        written: edi::EDIFACT_EXTENSIONS,
        book: None,
        text: Some(TextFormat::Edi),
    },
    Format {
        name: xlsx::NAME,
        extensions: &["xlsx", "xlsm"],
        written: &["xlsx"],
        book: Some(BookFormat {
            limits: Limits {
                rows: 1_048_576,
                columns: 16_384,
                text: 32_767,
                control_signs: true,
                carriage_returns: true,
            },
            create: |file, memory| Ok(Box::new(xlsx::XlsxWriter::create(file, memory)?)),
        }),
        text: None,
    },
    Format {
        name: ods::NAME,
        extensions: &["ods", "fods"],
        written: &["ods"],
        book: Some(BookFormat {
            limits: Limits {
                rows: 1_048_576,
                columns: 16_384,
                text: 32_767,
                control_signs: false,
                carriage_returns: false,
            },
            create: |file, _| Ok(Box::new(ods::OdsWriter::create(file)?)),
        }),
        text: None,
    },
    Format {
        name: xlsb::NAME,
        extensions: &["xlsb"],
        written: &[],
        book: None,
        text: None,
    },
    Format {
        name: xls::NAME,
        extensions: &["xls"],
        written: &["xls"],
        book: Some(BookFormat {
            limits: Limits {
                rows: 65_536,
                columns: 256,
                text: 32_767,
                control_signs: true,
                carriage_returns: true,
            },
            create: |file, _| Ok(Box::new(xls::XlsWriter::create(file))),
        }),
        text: None,
    },
];

/// Delimited text.
pub fn delimited() -> &'static Format {
    let is_delimited = |format: &&Format| format.text == Some(TextFormat::Delimited);
    let found = FORMATS.iter().find(is_delimited);
    found.expect("the registry has delimited text")
}

/// The format that files of this extension are written in, in any case.
pub fn format_of(extension: &str) -> Option<&'static Format> {
    let extension = extension.to_lowercase();
    FORMATS
        .iter()
        .find(|format| format.written.contains(&extension.as_str()))
}

/// The format that files of this extension are in, in any case.
pub fn format_read(extension: &str) -> Option<&'static Format> {
    let extension = extension.to_lowercase();
    FORMATS
        .iter()
        .find(|format| format.extensions.contains(&extension.as_str()))
}

impl Format {
    /// The format in which records of a source are written where this one is asked for: catalogue
    /// records have XML of their own.
    pub fn for_records_of(&'static self, source: &str) -> &'static Self {
        let is_catalogue = [marc::NAME, marc::XML_NAME].contains(&source);
        if self.text != Some(TextFormat::Xml) || !is_catalogue {
            return self;
        }
        let own = FORMATS.iter().find(|format| format.name == marc::XML_NAME);
        own.unwrap_or(self)
    }
}

/// Every extension that can be written.
pub fn known_extensions() -> Vec<&'static str> {
    FORMATS
        .iter()
        .flat_map(|format| format.written.iter().copied())
        .collect()
}

/// Every extension that can be read.
pub fn read_extensions() -> Vec<&'static str> {
    FORMATS
        .iter()
        .flat_map(|format| format.extensions.iter().copied())
        .collect()
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn the_table_in_the_readme_is_made_of_the_registry() {
        let mut table = String::from("| format | reads | writes |\n|---|---|---|\n");
        for format in FORMATS {
            let listed = |extensions: &[&str]| {
                let named: Vec<String> = extensions.iter().map(|e| format!("`.{e}`")).collect();
                named.join(" ")
            };
            let (reads, writes) = (listed(format.extensions), listed(format.written));
            table.push_str(&format!("| {} | {reads} | {writes} |\n", format.name));
        }
        let path = concat!(env!("CARGO_MANIFEST_DIR"), "/../../README.md");
        let readme = std::fs::read_to_string(path).expect("the README");
        let (begin, end) = ("<!-- formats -->\n", "<!-- end of formats -->");
        let (before, rest) = readme.split_once(begin).expect("where the table begins");
        let (found, after) = rest.split_once(end).expect("where the table ends");
        if std::env::var_os("NUMERANT_WRITE_DOCS").is_some() {
            std::fs::write(path, format!("{before}{begin}{table}{end}{after}")).expect("written");
        } else {
            assert_eq!(
                found, table,
                "NUMERANT_WRITE_DOCS=1 cargo test writes it anew"
            );
        }
    }
}
