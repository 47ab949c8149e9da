//! XML as a format of the registry.

use numerant_data::source::{ReadError, ReadProblem};
use numerant_format::{
    Capabilities, Document, DocumentLanguage, EncodeError, EncoderRequest, Format, FormatOption,
    NewEncoder, OptionValues, Source, Start, Verbatim, Weight,
};
use numerant_trees::TreeSource;

use super::{NAME, XmlEncoder, XmlForm, XmlTreeFormat, begins, in_one_encoding};
use crate::json::{nested, open_broken, outline};
use crate::options::{DocumentOptions, OF_XML, XmlOptions, names_elements, writes_as_usual};

/// Documents of XML.
#[derive(Debug)]
pub struct XmlFormat;

impl Format for XmlFormat {
    fn name(&self) -> &'static str {
        NAME
    }

    fn extensions(&self) -> &'static [&'static str] {
        &["xml"]
    }

    fn capabilities(&self) -> Capabilities {
        Capabilities {
            language: Some(DocumentLanguage::Xml),
            has_namespaces: true,
            ..Capabilities::default()
        }
    }

    fn weight(&self) -> Weight {
        Weight::Content
    }

    fn options(&self) -> &'static [FormatOption] {
        &OF_XML
    }

    fn writes_as_usual(&self, write: &OptionValues) -> bool {
        writes_as_usual(write)
    }

    fn names_elements(&self, write: &OptionValues) -> bool {
        names_elements(write)
    }

    fn open(&self, start: &mut Start<'_>) -> Result<Option<Box<dyn Source>>, ReadError> {
        let is_named = start.is_named(&[NAME]);
        let is_said = start.is_said(&[NAME]);
        if begins(start.text(), is_named) || is_said {
            TreeSource::open(start, &XmlTreeFormat).map(Some)
        } else {
            Ok(None)
        }
    }

    fn open_named(&self, start: &mut Start<'_>) -> Result<Box<dyn Source>, ReadError> {
        if start.text().trim_ascii().is_empty() {
            return Err(start.error(ReadProblem::Empty));
        }
        open_broken(start, NAME, &XmlTreeFormat)
    }

    fn verbatim(&self, source: &str, document: &dyn Document, alone: bool) -> Option<Verbatim> {
        let around = document.frame();
        (source == NAME && alone && !around.scattered).then(|| Verbatim {
            around: in_one_encoding(around, alone),
            has_foot: true,
            one_line: false,
        })
    }

    fn encoder(&self, request: EncoderRequest<'_>) -> Result<NewEncoder, EncodeError> {
        let write = request.write;
        let document = DocumentOptions::of(&write.of_formats);
        let own = XmlOptions::of(&write.of_formats);
        let outline = outline(&request.columns, document.flat)?;
        let nested = nested(&request, &outline);
        let names = request.document.unwrap_or_default();
        let (root, item) = names
            .elements
            .unwrap_or_else(|| ("records".to_owned(), "record".to_owned()));
        let declared = own.namespaces.iter();
        let declared = declared.map(|found| (found.prefix.clone(), found.uri.clone()));
        let mut namespaces: Vec<(String, String)> = declared.collect();
        for (prefix, uri) in names.namespaces {
            if !namespaces.iter().any(|(known, _)| *known == prefix) {
                namespaces.push((prefix, uri));
            }
        }
        let form = XmlForm {
            root: own.root.unwrap_or(root),
            item: own.item.unwrap_or(item),
            indent: document.indent,
            blanks: document.nulls,
            encoding: request.out.encoding,
            bom: request.out.bom,
            comment: own.comment,
            namespaces,
            declared: own.namespaces.len(),
            control_characters: write.control_characters,
        };
        let encoder = XmlEncoder::new(form, request.columns, &outline, request.cells);
        Ok(NewEncoder {
            nested,
            renamed: encoder.renamed().to_vec(),
            ..NewEncoder::of(encoder)
        })
    }
}
