//! JSON and JSON Lines as formats of the registry.

use numerant_data::source::{ReadError, ReadProblem};
use numerant_data::tree::{Outline, OutlineError};
use numerant_format::column::TextColumn;
use numerant_format::{
    Capabilities, Document, DocumentFrame, DocumentLanguage, EncodeError, EncoderRequest, Format,
    FormatOption, NewEncoder, OptionValues, Source, Start, Verbatim, Weight, other_content,
};
use numerant_trees::{TreeFormat, TreeSource};

use crate::options::{DocumentOptions, OF_JSON, OF_LINES, writes_as_usual};

use super::{JsonEncoder, JsonForm, JsonTreeFormat, LINES, LINES_EXTENSIONS, NAME, begins};

/// Documents of JSON: a list of records, or records in one.
#[derive(Debug)]
pub struct JsonFormat;

/// A value of JSON a line.
#[derive(Debug)]
pub struct JsonLinesFormat;

impl Format for JsonFormat {
    fn name(&self) -> &'static str {
        NAME
    }

    fn extensions(&self) -> &'static [&'static str] {
        &["json"]
    }

    fn capabilities(&self) -> Capabilities {
        Capabilities {
            has_typed_values: true,
            language: Some(DocumentLanguage::Json),
            ..Capabilities::default()
        }
    }

    fn weight(&self) -> Weight {
        Weight::Content
    }

    fn options(&self) -> &'static [FormatOption] {
        &OF_JSON
    }

    fn writes_as_usual(&self, write: &OptionValues) -> bool {
        writes_as_usual(write)
    }

    fn open(&self, start: &mut Start<'_>) -> Result<Option<Box<dyn Source>>, ReadError> {
        let is_named = start.is_named(&[NAME, LINES]);
        let is_said = start.is_said(&[NAME, LINES]);
        if begins(start.text(), is_named) || is_said {
            TreeSource::open(start, &JsonTreeFormat).map(Some)
        } else {
            Ok(None)
        }
    }

    fn open_named(&self, start: &mut Start<'_>) -> Result<Box<dyn Source>, ReadError> {
        if start.text().trim_ascii().is_empty() {
            return Err(start.error(ReadProblem::Empty));
        }
        open_broken(start, NAME, &JsonTreeFormat)
    }

    fn has_records_of(&self, other: &str) -> bool {
        [NAME, LINES].contains(&other)
    }

    fn verbatim(&self, source: &str, document: &dyn Document, alone: bool) -> Option<Verbatim> {
        // Only lines have a place for the names of their columns.
        if ![NAME, LINES].contains(&source) || document.facts().header.is_some() {
            return None;
        }
        let around = document.frame();
        let has_head = !around.head.is_empty() || document.facts().single;
        let is_framed = alone && !around.scattered && has_head;
        Some(Verbatim {
            around: if is_framed {
                around
            } else {
                DocumentFrame::list()
            },
            has_foot: is_framed,
            one_line: false,
        })
    }

    fn encoder(&self, request: EncoderRequest<'_>) -> Result<NewEncoder, EncodeError> {
        let options = DocumentOptions::of(&request.write.of_formats);
        let form = JsonForm {
            lines: false,
            indent: options.indent,
            blanks: options.nulls,
        };
        encoder(request, form, options.flat)
    }
}

impl Format for JsonLinesFormat {
    fn name(&self) -> &'static str {
        LINES
    }

    fn extensions(&self) -> &'static [&'static str] {
        LINES_EXTENSIONS
    }

    fn capabilities(&self) -> Capabilities {
        Capabilities {
            is_line_by_line: true,
            ..JsonFormat.capabilities()
        }
    }

    fn weight(&self) -> Weight {
        Weight::Content
    }

    fn options(&self) -> &'static [FormatOption] {
        &OF_LINES
    }

    fn writes_as_usual(&self, write: &OptionValues) -> bool {
        writes_as_usual(write)
    }

    // Values that follow each other are recognised as JSON.
    fn open(&self, _start: &mut Start<'_>) -> Result<Option<Box<dyn Source>>, ReadError> {
        Ok(None)
    }

    fn open_named(&self, start: &mut Start<'_>) -> Result<Box<dyn Source>, ReadError> {
        if start.text().trim_ascii().is_empty() {
            return TreeSource::open(start, &JsonTreeFormat);
        }
        open_broken(start, LINES, &JsonTreeFormat)
    }

    fn has_records_of(&self, other: &str) -> bool {
        [NAME, LINES].contains(&other)
    }

    fn verbatim(&self, source: &str, document: &dyn Document, _alone: bool) -> Option<Verbatim> {
        if ![NAME, LINES].contains(&source) {
            return None;
        }
        let head = match document.facts().header {
            Some(_) => document.frame().head,
            None => Vec::new(),
        };
        Some(Verbatim {
            around: DocumentFrame {
                head,
                ..DocumentFrame::lines()
            },
            has_foot: false,
            one_line: true,
        })
    }

    fn encoder(&self, request: EncoderRequest<'_>) -> Result<NewEncoder, EncodeError> {
        let options = DocumentOptions::of(&request.write.of_formats);
        let form = JsonForm {
            lines: true,
            indent: None,
            blanks: options.nulls,
        };
        encoder(request, form, options.flat)
    }
}

fn encoder(
    request: EncoderRequest<'_>,
    form: JsonForm,
    flat: bool,
) -> Result<NewEncoder, EncodeError> {
    let outline = outline(&request.columns, flat)?;
    let nested = nested(&request, &outline);
    Ok(NewEncoder {
        nested,
        ..NewEncoder::of(JsonEncoder::new(
            form,
            request.columns,
            &outline,
            request.cells,
        ))
    })
}

/// How columns nest.
pub(crate) fn outline(columns: &[TextColumn], flat: bool) -> Result<Outline, EncodeError> {
    let names: Vec<&str> = columns.iter().map(|column| column.name.as_str()).collect();
    Outline::new(&names, flat).map_err(|error| {
        let OutlineError::SamePlace { first, second } = error;
        EncodeError::OnePlace { first, second }
    })
}

/// A column that nests values, where its source has no nesting.
pub(crate) fn nested(request: &EncoderRequest<'_>, outline: &Outline) -> Option<String> {
    let columns = request.columns.iter();
    let names: Vec<&str> = columns.map(|column| column.name.as_str()).collect();
    let is_table = request.document.is_none();
    let nested = outline.nested(&names).filter(|_| is_table);
    nested.map(str::to_owned)
}

/// Opens what is named like a document and begins like a broken one, so that its error is said with its place.
pub(crate) fn open_broken(
    start: &mut Start<'_>,
    format: &'static str,
    trees: &'static dyn TreeFormat,
) -> Result<Box<dyn Source>, ReadError> {
    let text = start.text();
    let found = other_content(text);
    let begins = matches!(text.trim_ascii_start().first(), Some(b'{' | b'[' | b'<'));
    match found {
        None if begins => TreeSource::open(start, trees),
        found => {
            let found = found.unwrap_or("other text");
            Err(start.error(ReadProblem::NoDocument { format, found }))
        }
    }
}
