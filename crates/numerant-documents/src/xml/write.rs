//! Writes records as elements of XML.

use std::collections::HashSet;
use std::fs::File;
use std::io::{self, BufReader, Write};

use numerant_data::encoding::Encoding;
use numerant_data::record::{Batch, Blank};
use numerant_data::tree::{Outline, OutlineNode};
use numerant_data::value::Cells;
use numerant_format::column::{Shown, TextColumn, Typing};
use numerant_format::{
    ControlCharacters, DeferredWriteError, DeferredWriter, EncodeError, Placed, RecordEncoder,
};

use crate::Blanks;
use numerant_markup::name::{continues_name, starts_name};
use numerant_markup::{forbidden, is_allowed, push_escaped};
use numerant_naming::{OutputFacts, Words};

/// The namespace of `xsi:nil`.
pub(super) const INSTANCE: &str = "http://www.w3.org/2001/XMLSchema-instance";

/// How XML is written.
#[derive(Clone, Debug)]
pub struct XmlForm {
    /// The name of the root element.
    pub root: String,
    /// The name of the elements that are records.
    pub item: String,
    /// Blanks before what is nested, for each level; a record a line if not said.
    pub indent: Option<usize>,
    /// How blank values are written.
    pub blanks: Blanks,
    /// The encoding.
    pub encoding: Encoding,
    /// Whether a byte-order mark is in front.
    pub bom: bool,
    /// What is in a comment before the root element.
    pub comment: Option<Words>,
    /// Prefixes and their namespaces.
    pub namespaces: Vec<(String, String)>,
    /// So many of them are declared whether they are used or not.
    pub declared: usize,
    /// What becomes of control characters.
    pub control_characters: ControlCharacters,
}

/// Writes the records of a source as XML.
#[derive(Debug)]
pub struct XmlEncoder {
    form: XmlForm,
    columns: Vec<TextColumn>,
    cells: Cells,
    root: Element,
    /// Names that were made legal, with what was written instead.
    renamed: Vec<(String, String)>,
}

/// An element, with what can be in it.
#[derive(Debug)]
struct Element {
    name: String,
    /// The columns of its text, of which a record has one: that of the element, and that of the text
    /// next to its attributes.
    texts: Vec<usize>,
    /// Names and columns.
    attributes: Vec<(String, usize)>,
    children: Vec<Element>,
    /// The first column in it, and how many levels that is below.
    first: Option<(usize, usize)>,
}

/// A name that XML can have: signs that it cannot have become low lines.
fn legal_name(name: &str, prefixes: &[(String, String)]) -> String {
    let local = match name.split_once(':') {
        Some((prefix, local))
            if prefix == "xml" || prefixes.iter().any(|(known, _)| known == prefix) =>
        {
            return format!("{prefix}:{}", legal_name(local, &[]));
        }
        _ => name,
    };
    let mut legal = String::new();
    for character in local.chars() {
        if legal.is_empty() && !starts_name(character) && continues_name(character) {
            legal.push('_');
        }
        let fits = character != ':' && continues_name(character);
        legal.push(if fits { character } else { '_' });
    }
    if legal.is_empty()
        || legal
            .get(..3)
            .is_some_and(|start| start.eq_ignore_ascii_case("xml"))
    {
        legal.insert(0, '_');
    }
    legal
}

/// Makes names legal, each another one among its siblings.
struct Names<'a> {
    prefixes: &'a [(String, String)],
    renamed: Vec<(String, String)>,
}

impl Names<'_> {
    fn of(&mut self, name: &str, used: &mut HashSet<String>) -> String {
        let legal = legal_name(name, self.prefixes);
        let mut free = legal.clone();
        let mut number = 2;
        while !used.insert(free.clone()) {
            free = format!("{legal}_{number}");
            number += 1;
        }
        if free != name && !self.renamed.iter().any(|(known, _)| known == name) {
            self.renamed.push((name.to_owned(), free.clone()));
        }
        free
    }

    fn element(&mut self, name: String, node: &OutlineNode) -> Element {
        let mut element = Element {
            name,
            texts: node.column.into_iter().collect(),
            attributes: Vec::new(),
            children: Vec::new(),
            first: None,
        };
        let mut used = HashSet::new();
        let mut used_attributes = HashSet::new();
        if node.list {
            let name = self.of("item", &mut used);
            self.repeated(name, node, &mut element.children);
            element.first = first(&element);
            return element;
        }
        for child in &node.children {
            if let ("#text", true, Some(column)) =
                (child.name.as_str(), child.children.is_empty(), child.column)
            {
                element.texts.push(column);
            } else if let (Some(attribute), true, Some(column)) = (
                child.name.strip_prefix('@'),
                child.children.is_empty(),
                child.column,
            ) {
                let name = self.of(attribute, &mut used_attributes);
                element.attributes.push((name, column));
            } else {
                let name = match child.name.as_str() {
                    "" => "item",
                    name => name,
                };
                let name = self.of(name, &mut used);
                self.repeated(name, child, &mut element.children);
            }
        }
        element.first = first(&element);
        element
    }

    /// The elements of a node: one, or one for each item of a list.
    fn repeated(&mut self, name: String, node: &OutlineNode, elements: &mut Vec<Element>) {
        if !node.list {
            elements.push(self.element(name, node));
            return;
        }
        // Records in which it is no list have one value.
        if let Some(column) = node.column {
            elements.push(Element {
                name: name.clone(),
                texts: vec![column],
                attributes: Vec::new(),
                children: Vec::new(),
                first: Some((column, 0)),
            });
        }
        for item in &node.children {
            self.repeated(name.clone(), item, elements);
        }
    }
}

fn first(element: &Element) -> Option<(usize, usize)> {
    // In the order of the document: attributes, text, elements.
    let mut columns: Vec<(usize, usize)> = Vec::new();
    columns.extend(element.attributes.iter().map(|(_, column)| (*column, 1)));
    columns.extend(element.texts.iter().map(|column| (*column, 0)));
    for child in &element.children {
        columns.extend(child.first.map(|(column, levels)| (column, levels + 1)));
    }
    columns.into_iter().min()
}

impl XmlEncoder {
    /// Writes records of these columns, nested as `outline` says.
    pub fn new(
        mut form: XmlForm,
        columns: Vec<TextColumn>,
        outline: &Outline,
        cells: Cells,
    ) -> Self {
        let mut used: Vec<&str> = Vec::new();
        for column in &columns {
            used.extend(
                column
                    .name
                    .split(['.', '@'])
                    .filter_map(|name| name.split_once(':').map(|(prefix, _)| prefix)),
            );
        }
        used.extend([&form.root, &form.item].map(|n| n.split_once(':').map_or("", |(p, _)| p)));
        let mut place = 0;
        form.namespaces.retain(|(prefix, _)| {
            place += 1;
            place <= form.declared || prefix.is_empty() || used.contains(&prefix.as_str())
        });
        let prefixes = form.namespaces.clone();
        let mut names = Names {
            prefixes: &prefixes,
            renamed: Vec::new(),
        };
        form.root = names.of(&form.root, &mut HashSet::new());
        let item = names.of(&form.item, &mut HashSet::new());
        let root = names.element(item, &outline.root);
        // Only the values of JSON can be null.
        let null = |column: &TextColumn| column.tells_blanks && column.typing == Typing::AsInSource;
        if form.blanks == Blanks::Null || (form.blanks == Blanks::Keep && columns.iter().any(null))
        {
            form.namespaces
                .push(("xsi".to_owned(), INSTANCE.to_owned()));
        }
        Self {
            form,
            columns,
            cells,
            root,
            renamed: names.renamed,
        }
    }

    /// Names that were made legal.
    pub fn renamed(&self) -> &[(String, String)] {
        &self.renamed
    }

    fn head(&self, facts: Option<&OutputFacts>, out: &mut Vec<u8>) {
        let encoding = self.form.encoding.name();
        out.extend_from_slice(
            format!("<?xml version=\"1.0\" encoding=\"{encoding}\"?>\n").as_bytes(),
        );
        if let Some(comment) = &self.form.comment {
            let text = match facts {
                Some(facts) => comment.of_output(facts),
                None => comment.to_string().replace("{{", "{").replace("}}", "}"),
            };
            push_comment(&text, out);
            out.push(b'\n');
        }
        out.push(b'<');
        out.extend_from_slice(self.form.root.as_bytes());
        for (prefix, uri) in &self.form.namespaces {
            out.extend_from_slice(b" xmlns");
            if !prefix.is_empty() {
                out.push(b':');
                out.extend_from_slice(prefix.as_bytes());
            }
            out.extend_from_slice(b"=\"");
            push_escaped(uri, true, out);
            out.push(b'"');
        }
        out.extend_from_slice(b">\n");
    }

    fn line(&self, level: usize, out: &mut Vec<u8>) {
        if let Some(indent) = self.form.indent {
            if level > 1 {
                out.push(b'\n');
            }
            out.resize(out.len() + indent * level, b' ');
        }
    }

    /// Appends an element; whether there is one.
    fn element(
        &self,
        element: &Element,
        batch: &Batch,
        record: usize,
        level: usize,
        out: &mut Vec<u8>,
    ) -> Result<bool, EncodeError> {
        let before = out.len();
        self.line(level, out);
        out.push(b'<');
        out.extend_from_slice(element.name.as_bytes());
        let mut scratch = Vec::new();
        let mut any = level == 1;
        for (name, column) in &element.attributes {
            let column = &self.columns[*column];
            let text = match column.value(batch, record, &self.cells, &mut scratch)? {
                Shown::Blank(blank) => match self.form.blanks.of(blank, Blank::Absent) {
                    Blank::Empty => b"".as_slice(),
                    _ => continue,
                },
                Shown::Text(text) | Shown::Literal(text) | Shown::Json(text) => text,
            };
            any = true;
            out.push(b' ');
            out.extend_from_slice(name.as_bytes());
            out.extend_from_slice(b"=\"");
            self.text(text, true, column, batch, record, out)?;
            out.push(b'"');
        }
        let mut scratch = Vec::new();
        let written = self.text_column(element, batch, record)?;
        let text = match written {
            None => Shown::Blank(Some(Blank::Absent)),
            Some(column) => self.columns[column].value(batch, record, &self.cells, &mut scratch)?,
        };
        let mut content = Vec::new();
        match text {
            Shown::Blank(blank) => {
                let leaf = element.children.is_empty() && element.attributes.is_empty();
                match self.form.blanks.of(blank, Blank::Absent) {
                    Blank::Empty if leaf || blank == Some(Blank::Empty) => any = true,
                    Blank::Null if leaf || blank == Some(Blank::Null) => {
                        any = true;
                        out.extend_from_slice(b" xsi:nil=\"true\"");
                    }
                    _ => {}
                }
            }
            Shown::Json(b"{}" | b"[]") => any = true,
            Shown::Text(text) | Shown::Literal(text) | Shown::Json(text) => {
                any = true;
                if let Some(column) = written {
                    let column = &self.columns[column];
                    self.text(text, false, column, batch, record, &mut content)?;
                }
            }
        }
        let mut nested = false;
        for child in &element.children {
            nested |= self.element(child, batch, record, level + 1, &mut content)?;
        }
        if !any && !nested {
            let empty_container = element.first.is_some_and(|(column, levels)| {
                self.columns[column].is_empty_container(batch, record, levels)
            });
            if !empty_container {
                out.truncate(before);
                return Ok(false);
            }
        }
        if content.is_empty() {
            out.extend_from_slice(b"/>");
        } else {
            out.push(b'>');
            out.extend_from_slice(&content);
            if let Some(indent) = self.form.indent.filter(|_| nested) {
                out.push(b'\n');
                out.resize(out.len() + indent * level, b' ');
            }
            out.extend_from_slice(b"</");
            out.extend_from_slice(element.name.as_bytes());
            out.push(b'>');
        }
        if level == 1 {
            out.push(b'\n');
        }
        Ok(true)
    }

    /// The column that an element's text comes from in a record.
    fn text_column(
        &self,
        element: &Element,
        batch: &Batch,
        record: usize,
    ) -> Result<Option<usize>, EncodeError> {
        let [first, others @ ..] = element.texts.as_slice() else {
            return Ok(None);
        };
        let mut chosen = *first;
        let mut scratch = Vec::new();
        for column in others {
            let mut is_blank = |column: usize| {
                let shown = self.columns[column].value(batch, record, &self.cells, &mut scratch)?;
                Ok(matches!(shown, Shown::Blank(_)))
            };
            if is_blank(*column)? {
                continue;
            }
            if !is_blank(chosen)? {
                return Err(EncodeError::TwoValues {
                    at: batch.at(record),
                    first: self.columns[chosen].name.clone(),
                    second: self.columns[*column].name.clone(),
                });
            }
            chosen = *column;
        }
        Ok(Some(chosen))
    }

    fn text(
        &self,
        text: &[u8],
        attribute: bool,
        column: &TextColumn,
        batch: &Batch,
        record: usize,
        out: &mut Vec<u8>,
    ) -> Result<(), EncodeError> {
        let text = String::from_utf8_lossy(text);
        if let Some(sign) = forbidden(&text) {
            if self.form.control_characters == ControlCharacters::Refuse {
                return Err(EncodeError::ControlSign {
                    at: batch.at(record),
                    column: column.name.clone(),
                    format: super::NAME,
                    sign,
                });
            }
            let kept: String = text.chars().filter(|c| is_allowed(*c)).collect();
            push_escaped(&kept, attribute, out);
            return Ok(());
        }
        push_escaped(&text, attribute, out);
        Ok(())
    }

    /// Appends text in the encoding of the output; what that does not have becomes references.
    fn encode(&self, text: &[u8], out: &mut Vec<u8>) {
        push_encoded(&String::from_utf8_lossy(text), self.form.encoding, out);
    }
}

/// Appends text in an encoding; what that does not have becomes references.
pub(crate) fn push_encoded(text: &str, encoding: Encoding, out: &mut Vec<u8>) {
    let mut rest = text;
    loop {
        let before = out.len();
        let Err(character) = encoding.encode(rest, out) else {
            return;
        };
        out.truncate(before);
        let at = rest.find(character).unwrap_or_default();
        let _ = encoding.encode(&rest[..at], out);
        let _ = encoding.encode(&format!("&#{};", u32::from(character)), out);
        rest = &rest[at + character.len_utf8()..];
    }
}

/// Appends a comment; two hyphens cannot follow each other in one (XML 1.0, 2.5).
pub fn push_comment(text: &str, out: &mut Vec<u8>) {
    let mut text: String = text.chars().filter(|c| is_allowed(*c)).collect();
    while text.contains("--") {
        text = text.replace("--", "- -");
    }
    out.extend_from_slice(b"<!-- ");
    out.extend_from_slice(text.trim().as_bytes());
    out.extend_from_slice(b" -->");
}

impl RecordEncoder for XmlEncoder {
    fn begin(&self, out: &mut Vec<u8>) -> Result<(), EncodeError> {
        if self.late().is_some() {
            return Ok(());
        }
        if self.form.bom {
            out.extend_from_slice(self.form.encoding.byte_order_mark().unwrap_or_default());
        }
        let mut head = Vec::new();
        self.head(None, &mut head);
        self.encode(&head, out);
        Ok(())
    }

    fn record(&self, batch: &Batch, record: usize, out: &mut Vec<u8>) -> Result<(), EncodeError> {
        if self.form.encoding.is_utf8() {
            self.element(&self.root, batch, record, 1, out)?;
            return Ok(());
        }
        let mut text = Vec::new();
        self.element(&self.root, batch, record, 1, &mut text)?;
        self.encode(&text, out);
        Ok(())
    }

    fn moves_raw(&self) -> bool {
        false
    }

    fn end(&self, _records: u64, out: &mut Vec<u8>) -> Result<(), EncodeError> {
        self.encode(format!("</{}>\n", self.form.root).as_bytes(), out);
        Ok(())
    }

    fn late(&self) -> Option<&dyn DeferredWriter> {
        let comment = self.form.comment.as_ref()?;
        comment.names_output().then_some(self)
    }
}

impl DeferredWriter for XmlEncoder {
    fn write(
        &self,
        facts: &OutputFacts,
        kept: &mut BufReader<File>,
        out: &mut dyn Write,
    ) -> Result<Placed, DeferredWriteError> {
        let mut head = Vec::new();
        if self.form.bom {
            head.extend_from_slice(self.form.encoding.byte_order_mark().unwrap_or_default());
        }
        let mut text = Vec::new();
        self.head(Some(facts), &mut text);
        self.encode(&text, &mut head);
        out.write_all(&head)?;
        io::copy(kept, out)?;
        Ok(Placed::Behind(head.len() as u64))
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn names_are_made_legal() {
        for (name, legal) in [
            ("quay", "quay"),
            ("dues EUR", "dues_EUR"),
            ("2026", "_2026"),
            ("", "_"),
            ("Ærø", "Ærø"),
            ("xmlish", "_xmlish"),
            ("p:quay", "p_quay"),
            ("-a", "_-a"),
            ("a/b", "a_b"),
        ] {
            assert_eq!(legal_name(name, &[]), legal);
        }
        let declared = [("p".to_owned(), "urn:port".to_owned())];
        assert_eq!(legal_name("p:a b", &declared), "p:a_b");
    }

    #[test]
    fn comments_and_encodings_hold_anything() {
        let mut out = Vec::new();
        push_comment("a--b---c--", &mut out);
        assert_eq!(String::from_utf8_lossy(&out), "<!-- a- -b- - -c- - -->");
        out.clear();
        push_encoded("Øst № 5 €", Encoding::WINDOWS_1252, &mut out);
        assert_eq!(out, b"\xd8st &#8470; 5 \x80");
    }
}
