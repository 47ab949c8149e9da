//! Bibliographic records as formats of the registry.

use numerant_data::source::ReadError;
use numerant_documents::xml as xml_format;
use numerant_format::{
    Capabilities, Document, EncodeError, EncoderRequest, Format, NewEncoder, Source, Start,
    Verbatim, Weight,
};
use numerant_trees::TreeSource;

use super::{
    EXTENSIONS, MarcTableEncoder, MarcTreeFormat, MarcXmlTreeFormat, NAME, RecordSyntax, XML_NAME,
    begins, directory_end, is_marcxml,
};

/// Records of ISO 2709 with MARC 21.
#[derive(Debug)]
pub struct MarcFormat;

/// Records of MARCXML.
#[derive(Debug)]
pub struct MarcXmlFormat;

impl Format for MarcFormat {
    fn name(&self) -> &'static str {
        NAME
    }

    fn extensions(&self) -> &'static [&'static str] {
        EXTENSIONS
    }

    fn capabilities(&self) -> Capabilities {
        Capabilities {
            has_own_columns: true,
            ..Capabilities::default()
        }
    }

    fn weight(&self) -> Weight {
        Weight::Structure
    }

    fn open(&self, start: &mut Start<'_>) -> Result<Option<Box<dyn Source>>, ReadError> {
        if !start.is_named(&[NAME]) && !start.is_free() {
            return Ok(None);
        }
        let is_marc = match directory_end(start.bytes()) {
            Some(end) if end <= start.bytes().len() => begins(start.bytes()),
            Some(end) => begins(&start.peek(end)?),
            None => false,
        };
        if is_marc {
            TreeSource::open(start, &MarcTreeFormat).map(Some)
        } else {
            Ok(None)
        }
    }

    fn encoder(&self, request: EncoderRequest<'_>) -> Result<NewEncoder, EncodeError> {
        encoder(&request, RecordSyntax::Iso2709)
    }
}

impl Format for MarcXmlFormat {
    fn name(&self) -> &'static str {
        XML_NAME
    }

    fn extensions(&self) -> &'static [&'static str] {
        &["marcxml"]
    }

    fn capabilities(&self) -> Capabilities {
        Capabilities {
            has_own_columns: true,
            ..Capabilities::default()
        }
    }

    fn weight(&self) -> Weight {
        Weight::Structure
    }

    fn open(&self, start: &mut Start<'_>) -> Result<Option<Box<dyn Source>>, ReadError> {
        let is_said = start.is_said(&[XML_NAME]);
        let claimed = start.is_named(&[XML_NAME, xml_format::NAME]);
        if start.options.records.is_some() || !(start.is_free() || is_said) {
            return Ok(None);
        }
        let is_xml = xml_format::begins(start.text(), claimed) || is_said;
        if is_xml && is_marcxml(start.text()) {
            TreeSource::open(start, &MarcXmlTreeFormat).map(Some)
        } else {
            Ok(None)
        }
    }

    // What is no such record is XML all the same, or says what is wrong with it.
    fn open_named(&self, start: &mut Start<'_>) -> Result<Box<dyn Source>, ReadError> {
        let is_xml = start.is_said(&[XML_NAME]) || xml_format::begins(start.text(), true);
        if is_xml {
            TreeSource::open(start, &xml_format::XmlTreeFormat)
        } else {
            numerant_documents::open_named_xml(start, XML_NAME)
        }
    }

    fn stands_for(&self, asked: &str, source: &str) -> bool {
        asked == xml_format::NAME && [NAME, XML_NAME].contains(&source)
    }

    fn verbatim(&self, source: &str, document: &dyn Document, alone: bool) -> Option<Verbatim> {
        let around = document.frame();
        let has_frame = !around.scattered && !around.head.is_empty();
        (source == XML_NAME && alone && has_frame).then(|| Verbatim {
            around: xml_format::in_one_encoding(around, alone),
            has_foot: true,
            one_line: false,
        })
    }

    fn encoder(&self, request: EncoderRequest<'_>) -> Result<NewEncoder, EncodeError> {
        encoder(&request, RecordSyntax::Xml)
    }
}

fn encoder(request: &EncoderRequest<'_>, form: RecordSyntax) -> Result<NewEncoder, EncodeError> {
    let columns = request.columns.iter();
    let columns = columns.map(|column| (column.name.as_str(), column.slot));
    let encoder = MarcTableEncoder::new(form, request.write.control_characters, columns);
    encoder.map(NewEncoder::of).map_err(EncodeError::NotMarc)
}
