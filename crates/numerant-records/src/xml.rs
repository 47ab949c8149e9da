//! Reads records of MARCXML: the elements are found as in any XML, and flattened as records of MARC 21.

use std::borrow::Cow;
use std::sync::Arc;

use quick_xml::Reader;
use quick_xml::events::Event;

use super::encode::{RecordSyntax, RecordsEncoder};
use super::notation::{Slice, Wanted, push_tree};
use super::patch::patcher;
use super::record::{Content, Field, Record, RecordError, SLIM};
use numerant_data::record::RejectedRecord;
use numerant_data::source::{Input, Place, ReadError, ReadProblem, SourcePath};
use numerant_data::tree::{Beside, Paths, Survey, Tree};
use numerant_documents::xml::XmlTrees;
use numerant_format::{
    ControlCharacters, DocumentFrame, EncodeError, Patch, Ragged, RecordEncoder, WriteOptions,
};
use numerant_markup::{attribute, push_reference};
use numerant_trees::{OpenedTrees, Trees};

/// Whether XML that begins so is MARCXML.
pub fn is_marcxml(start: &[u8]) -> bool {
    memchr::memmem::find(start, SLIM.as_bytes()).is_some()
}

/// Where the records of a document are: those that have fields, as others around them can be called
/// record, too (OAI-PMH, SRU).
pub(crate) fn record_path(survey: &Survey) -> String {
    let is_part = |name: &str| matches!(name, "leader" | "controlfield" | "datafield");
    let parts = (0..survey.nodes.len()).filter(|place| is_part(&survey.nodes[*place].name));
    let mut records = parts
        .map(|part| survey.parent(part))
        .filter(|place| survey.nodes[*place].name == "record");
    let mut at = records.next().unwrap_or(0);
    let mut path = String::new();
    while at != 0 {
        path = format!("/{}{path}", survey.nodes[at].name);
        at = survey.parent(at);
    }
    match path.matches('/').count() {
        0..=2 => "//record".to_owned(),
        _ => path,
    }
}

/// Reads a document of MARCXML.
pub(crate) struct MarcXmlTrees {
    path: SourcePath,
    inner: XmlTrees,
    elements: Tree,
    names: Paths,
    wanted: Wanted,
    slices: Vec<Slice>,
    rejects: bool,
    rejected: Vec<RejectedRecord>,
}

impl MarcXmlTrees {
    pub(crate) fn new(input: Input, opened: &OpenedTrees) -> Result<Self, ReadError> {
        Ok(Self {
            path: opened.path.clone(),
            inner: XmlTrees::new(input, opened)?,
            elements: Tree::default(),
            names: Paths::default(),
            wanted: Wanted::default(),
            slices: opened
                .options
                .context
                .named
                .iter()
                .filter_map(|name| Slice::parse(name))
                .collect(),
            rejects: opened.options.ragged == Ragged::Reject,
            rejected: Vec::new(),
        })
    }
}

impl Trees for MarcXmlTrees {
    fn next(&mut self, tree: &mut Tree, paths: &mut Paths) -> Result<bool, ReadError> {
        while self.inner.next(&mut self.elements, &mut self.names)? {
            match Record::parse_xml(self.inner.text()) {
                Ok(record) => {
                    push_tree(&record, &self.wanted, &self.slices, tree, paths);
                    return Ok(true);
                }
                Err(problem) if self.rejects => self.rejected.push(RejectedRecord {
                    line: self.inner.line(),
                    reason: problem.to_string(),
                    raw: [self.inner.text(), b"\n"].concat(),
                    as_it_is: true,
                }),
                Err(problem) => {
                    let place = Place::line(self.inner.line());
                    let what = problem.to_string();
                    return Err(self.path.error_at(place, ReadProblem::OtherRecord { what }));
                }
            }
        }
        Ok(false)
    }

    fn text(&self) -> &[u8] {
        self.inner.text()
    }

    fn line(&self) -> u64 {
        self.inner.line()
    }

    fn read(&self) -> u64 {
        self.inner.read()
    }

    fn frame(&self) -> DocumentFrame {
        self.inner.frame()
    }

    fn namespaces(&self) -> Vec<(String, String)> {
        self.inner.namespaces()
    }

    fn beside(&self) -> Option<&Beside> {
        self.inner.beside()
    }

    fn patcher(&self, patch: &Patch<'_>) -> Option<Result<Arc<dyn RecordEncoder>, EncodeError>> {
        patcher(RecordSyntax::Xml, patch, None)
    }

    fn take_rejected(&mut self) -> Vec<RejectedRecord> {
        std::mem::take(&mut self.rejected)
    }

    fn only(&mut self, columns: &[String]) {
        self.wanted = Wanted::of(columns);
    }

    fn writer(&self, to: &str, _: &WriteOptions) -> Option<Arc<dyn RecordEncoder>> {
        let to = RecordSyntax::of(to)?;
        Some(Arc::new(RecordsEncoder {
            from: RecordSyntax::Xml,
            to,
            encoding: None,
            policy: ControlCharacters::Refuse,
        }))
    }
}

impl Record<'static> {
    /// Reads the element of a record, whatever prefix it has.
    pub(super) fn parse_xml(text: &[u8]) -> Result<Self, RecordError> {
        let wrong = |what: &str| RecordError::Xml(what.to_owned());
        let text = std::str::from_utf8(text).map_err(|error| wrong(&error.to_string()))?;
        let mut reader = Reader::from_str(text);
        let mut record = Self {
            leader: Cow::default(),
            fields: Vec::new(),
        };
        let mut code = None;
        let mut value = String::new();
        loop {
            let event = reader
                .read_event()
                .map_err(|error| wrong(&error.to_string()))?;
            let alone = matches!(event, Event::Empty(_));
            match event {
                Event::Eof => break,
                Event::Start(tag) | Event::Empty(tag) => {
                    let name = tag.local_name();
                    match name.as_ref() {
                        "record" | "leader" => {}
                        "controlfield" | "datafield" => {
                            let its = attribute(&tag, "tag").unwrap_or_default();
                            if its.len() != 3 || !its.is_ascii() {
                                return Err(wrong(&format!("a field has the tag '{its}'")));
                            }
                            let sign = |name: &str| {
                                let text = attribute(&tag, name);
                                text.and_then(|text| text.chars().next()).unwrap_or(' ')
                            };
                            let content = match name.as_ref() {
                                "controlfield" => Content::Control(Cow::default()),
                                _ => Content::Data {
                                    indicators: [sign("ind1"), sign("ind2")],
                                    subfields: Vec::new(),
                                },
                            };
                            let tag = its.into();
                            record.fields.push(Field { tag, content });
                        }
                        "subfield" => {
                            let its = attribute(&tag, "code").and_then(|code| code.chars().next());
                            let its = its.ok_or_else(|| wrong("a subfield has no code"))?;
                            code = Some(its);
                            if alone {
                                record.take(code, "");
                            }
                        }
                        other => {
                            return Err(wrong(&format!("there is an element '{other}' in it")));
                        }
                    }
                    value.clear();
                }
                Event::Text(text) => value.push_str(&text.into_inner()),
                Event::CData(text) => value.push_str(&text.into_inner()),
                Event::GeneralRef(name) => {
                    push_reference(&name, &mut value).map_err(|error| wrong(&error.to_string()))?;
                }
                Event::End(tag) => {
                    match tag.local_name().as_ref() {
                        "leader" => record.leader = value.clone().into(),
                        "controlfield" => record.take(None, &value),
                        "subfield" => record.take(code.take(), &value),
                        _ => {}
                    }
                    value.clear();
                }
                _ => {}
            }
        }
        Ok(record)
    }

    /// Takes the value of the field that came last, or of a subfield of it.
    fn take(&mut self, code: Option<char>, value: &str) {
        match (self.fields.last_mut().map(|field| &mut field.content), code) {
            (Some(Content::Control(text)), None) => *text = value.to_owned().into(),
            (Some(Content::Data { subfields, .. }), Some(code)) => {
                subfields.push((code, value.to_owned().into()));
            }
            _ => {}
        }
    }
}

#[cfg(test)]
mod tests {
    use super::super::record::tests::chart;
    use super::*;
    use numerant_format::ControlCharacters;

    #[test]
    fn records_of_xml_are_those_of_iso_2709() {
        let mut xml = Vec::new();
        chart()
            .write_xml(ControlCharacters::Refuse, &mut xml)
            .expect("written");
        assert_eq!(Record::parse_xml(&xml).expect("read"), chart());
        let text = String::from_utf8(xml).expect("text");
        let prefixed = text
            .replace("</", "</m:")
            .replace('<', "<m:")
            .replace("<m:/m:", "</m:");
        assert_eq!(
            Record::parse_xml(prefixed.as_bytes()).expect("read"),
            chart()
        );
        for (wrong, what) in [
            ("<record><datafield tag=\"24\"/></record>", "the tag '24'"),
            (
                "<record><datafield tag=\"245\"><subfield>x</subfield></datafield></record>",
                "no code",
            ),
            ("<record><title/></record>", "element 'title'"),
        ] {
            let error = Record::parse_xml(wrong.as_bytes())
                .expect_err("wrong")
                .to_string();
            assert!(error.contains(what), "{error}");
        }
    }
}
