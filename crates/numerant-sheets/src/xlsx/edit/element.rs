//! A small part as a tree that keeps its text: what is not changed is written as it was read.

use quick_xml::Reader;
use quick_xml::events::{BytesStart, Event};

use numerant_data::source::ReadProblem;
use numerant_markup::{attribute, push_escaped};

/// Elements in each other; what is deeper would not be left again without the stack.
const MAX_DEPTH: usize = 500;

/// Attributes of an element, of which none in the standard has more than some dozens. Changing them
/// takes time that grows with the square of their number.
const MAX_ATTRIBUTES: usize = 1000;

/// Elements that say something without a child.
const MAY_BE_EMPTY: [&str; 5] = [
    "autoFilter",
    "filterColumn",
    "sheetView",
    "customSheetView",
    "commentList",
];

/// A part.
#[derive(Clone, Debug, Default)]
pub(super) struct Document {
    before: String,
    pub(super) root: Element,
    after: String,
}

/// What an element holds.
#[derive(Clone, Debug)]
pub(super) enum Node {
    Element(Element),
    /// Text, comments and all else, verbatim.
    Other(String),
}

/// An element.
#[derive(Clone, Debug, Default)]
pub(super) struct Element {
    /// Its start tag without `<` and `>`.
    tag: String,
    pub(super) children: Vec<Node>,
    /// Its end tag; `None` if it is one tag alone.
    end: Option<String>,
}

impl Document {
    pub(super) fn parse(bytes: Vec<u8>, part: &str) -> Result<Self, ReadProblem> {
        let damaged = |what: &str| ReadProblem::Damaged {
            what: format!("{what} (in {part})"),
        };
        let text = String::from_utf8(bytes).map_err(|_| damaged("bytes that are not UTF-8"))?;
        let text = text.strip_prefix('\u{feff}').unwrap_or(&text);
        let mut reader = Reader::from_str(text);
        let mut before = String::new();
        let mut open: Vec<Element> = Vec::new();
        let mut root = None;
        let mut after = String::new();
        let mut from = 0;
        loop {
            let event = reader
                .read_event()
                .map_err(|error| damaged(&error.to_string()))?;
            let to = usize::try_from(reader.buffer_position()).unwrap_or(text.len());
            let raw = &text[from..to];
            from = to;
            let done = match event {
                Event::Eof => break,
                Event::DocType(_) => return Err(ReadProblem::DocumentType),
                Event::Start(_) if open.len() >= MAX_DEPTH => {
                    return Err(damaged(&format!(
                        "more than {MAX_DEPTH} elements in each other"
                    )));
                }
                Event::Start(tag) | Event::Empty(tag)
                    if raw.len() > MAX_ATTRIBUTES * 4
                        && tag.attributes().with_checks(false).count() > MAX_ATTRIBUTES =>
                {
                    return Err(damaged(&format!(
                        "an element with more than {MAX_ATTRIBUTES} attributes"
                    )));
                }
                Event::Start(_) => {
                    open.push(Element::new(raw[1..raw.len() - 1].to_owned(), true));
                    continue;
                }
                Event::Empty(_) => Element::new(raw[1..raw.len() - 2].to_owned(), false),
                Event::End(_) => {
                    let mut element = open.pop().ok_or_else(|| damaged("an end tag alone"))?;
                    element.end = Some(raw.to_owned());
                    element
                }
                _ => {
                    match open.last_mut() {
                        Some(element) => element.children.push(Node::Other(raw.to_owned())),
                        None if root.is_none() => before.push_str(raw),
                        None => after.push_str(raw),
                    }
                    continue;
                }
            };
            match open.last_mut() {
                Some(element) => element.children.push(Node::Element(done)),
                None => root = Some(done),
            }
        }
        let root = root.filter(|_| open.is_empty());
        Ok(Self {
            before,
            root: root.ok_or_else(|| damaged("the part ends too early"))?,
            after,
        })
    }

    pub(super) fn into_bytes(self) -> Vec<u8> {
        let mut out = self.before;
        self.root.write(&mut out);
        out.push_str(&self.after);
        out.into_bytes()
    }
}

impl Element {
    fn new(tag: String, holds: bool) -> Self {
        Self {
            tag,
            children: Vec::new(),
            end: holds.then(String::new),
        }
    }

    /// An element without children, of its tag without `<` and `/>`.
    pub(super) fn alone(tag: impl Into<String>) -> Self {
        Self::new(tag.into(), false)
    }

    /// The element as text.
    pub(super) fn to_text(&self) -> String {
        let mut text = String::new();
        self.write(&mut text);
        text
    }

    fn write(&self, out: &mut String) {
        out.push('<');
        out.push_str(&self.tag);
        match &self.end {
            None => out.push_str("/>"),
            Some(end) => {
                out.push('>');
                for child in &self.children {
                    match child {
                        Node::Element(element) => element.write(out),
                        Node::Other(text) => out.push_str(text),
                    }
                }
                out.push_str(end);
            }
        }
    }

    /// Its name with its prefix.
    pub(super) fn full_name(&self) -> &str {
        let ends = |sign: char| sign.is_ascii_whitespace();
        self.tag.split(ends).next().unwrap_or_default()
    }

    /// Its name without a prefix.
    pub(super) fn name(&self) -> &str {
        let name = self.full_name();
        name.rsplit_once(':').map_or(name, |(_, name)| name)
    }

    /// The prefix of its name with the colon, or nothing.
    pub(super) fn prefix(&self) -> &str {
        let name = self.full_name();
        &name[..name.len() - self.name().len()]
    }

    /// The value of an attribute, by its name without prefix.
    pub(super) fn attribute(&self, name: &str) -> Option<String> {
        let length = self.full_name().len();
        attribute(&BytesStart::from_content(&self.tag, length), name)
    }

    /// All attributes with their names as they are written.
    pub(super) fn attributes(&self) -> Vec<(String, String)> {
        let tag = BytesStart::from_content(&self.tag, self.full_name().len());
        let mut found = Vec::new();
        for attribute in tag.attributes().with_checks(false).flatten() {
            let value = attribute.value.as_ref();
            let value = quick_xml::escape::unescape(value)
                .map_or(value.into(), std::borrow::Cow::into_owned);
            found.push((attribute.key.as_ref().to_owned(), value));
        }
        found
    }

    /// Gives an attribute, whose name is written so, a value; `None` takes it away.
    pub(super) fn set_attribute(&mut self, name: &str, value: Option<&str>) {
        let mut found = None;
        let mut at = self.full_name().len();
        let bytes = self.tag.as_bytes();
        while at < bytes.len() {
            let start = at;
            while bytes.get(at).is_some_and(u8::is_ascii_whitespace) {
                at += 1;
            }
            let key = at;
            while bytes.get(at).is_some_and(|byte| *byte != b'=') {
                at += 1;
            }
            let key = key..at;
            while bytes
                .get(at)
                .is_some_and(|byte| !matches!(byte, b'"' | b'\''))
            {
                at += 1;
            }
            let quote = bytes.get(at).copied();
            at += 1;
            while at < bytes.len() && bytes.get(at).copied() != quote {
                at += 1;
            }
            at = (at + 1).min(bytes.len());
            if self.tag.get(key).is_some_and(|key| key.trim() == name) {
                found = Some(start..at);
                break;
            }
        }
        let mut written = String::new();
        if let Some(value) = value {
            let mut escaped = Vec::new();
            push_escaped(value, true, &mut escaped);
            written = format!(" {name}=\"{}\"", String::from_utf8_lossy(&escaped));
        }
        match found {
            Some(range) => self.tag.replace_range(range, &written),
            None => self.tag.push_str(&written),
        }
    }

    /// Its children that are elements.
    pub(super) fn elements(&self) -> impl Iterator<Item = &Self> {
        self.children.iter().filter_map(|child| match child {
            Node::Element(element) => Some(element),
            Node::Other(_) => None,
        })
    }

    /// Its children that are elements, to be changed.
    pub(super) fn elements_mut(&mut self) -> impl Iterator<Item = &mut Self> {
        self.children.iter_mut().filter_map(|child| match child {
            Node::Element(element) => Some(element),
            Node::Other(_) => None,
        })
    }

    /// The first child of this name.
    pub(super) fn child(&self, name: &str) -> Option<&Self> {
        self.elements().find(|element| element.name() == name)
    }

    /// The first child of this name, to be changed.
    pub(super) fn child_mut(&mut self, name: &str) -> Option<&mut Self> {
        self.elements_mut().find(|element| element.name() == name)
    }

    /// The first child of this name, which is put where `order` has it if there is none.
    pub(super) fn child_in_order(&mut self, name: &str, order: &[&str], prefix: &str) -> &mut Self {
        let is_it = |child: &Node| matches!(child, Node::Element(child) if child.name() == name);
        let place = match self.children.iter().position(is_it) {
            Some(place) => place,
            None => {
                let rank = |name: &str| order.iter().position(|known| *known == name);
                let own = rank(name).unwrap_or(0);
                let before = |child: &Node| match child {
                    Node::Element(child) => rank(child.name()).is_some_and(|rank| rank < own),
                    Node::Other(_) => false,
                };
                let place = self
                    .children
                    .iter()
                    .rposition(before)
                    .map_or(0, |place| place + 1);
                let child = Self::alone(format!("{prefix}{name}"));
                self.open();
                self.children.insert(place, Node::Element(child));
                place
            }
        };
        match &mut self.children[place] {
            Node::Element(child) => child,
            Node::Other(_) => unreachable!("an element was looked for"),
        }
    }

    /// Adds a child after all others.
    pub(super) fn push(&mut self, child: Self) {
        self.open();
        self.children.push(Node::Element(child));
    }

    /// Gives it an end tag, so that it can hold something.
    pub(super) fn open(&mut self) {
        if self.end.is_none() {
            self.end = Some(format!("</{}>", self.full_name()));
        }
    }

    /// Keeps those of its children that are elements and are wanted, and all else.
    pub(super) fn retain(&mut self, mut wanted: impl FnMut(&Self) -> bool) {
        self.children.retain(|child| match child {
            Node::Element(element) => wanted(element),
            Node::Other(_) => true,
        });
    }

    /// Keeps those of its children that are elements and are wanted as they are made, and all else.
    pub(super) fn retain_mut(&mut self, mut wanted: impl FnMut(&mut Self) -> bool) {
        self.children.retain_mut(|child| match child {
            Node::Element(element) => wanted(element),
            Node::Other(_) => true,
        });
    }

    /// Takes away the elements below it that `keep` does not keep, and what is empty without them: the
    /// standard lets few lists be empty. Counts of lists are brought in step.
    pub(super) fn prune(&mut self, keep: &mut dyn FnMut(&mut Self) -> bool) {
        self.retain_mut(|child| {
            if !keep(child) {
                return false;
            }
            if child.name() == "sheetData" {
                return true;
            }
            let before = child.elements().count();
            child.prune(keep);
            let after = child.elements().count();
            if after < before {
                child.count_anew(after);
            }
            after > 0 || before == 0 || MAY_BE_EMPTY.contains(&child.name())
        });
    }

    /// Writes how many children it has where that is written.
    fn count_anew(&mut self, count: usize) {
        if self.attribute("count").is_some() {
            self.set_attribute("count", Some(&count.to_string()));
        }
        if self.attribute("manualBreakCount").is_some() {
            let is_manual = |child: &&Self| {
                let set = child.attribute("man");
                set.is_some_and(|set| set == "1" || set == "true")
            };
            let manual = self.elements().filter(is_manual).count();
            self.set_attribute("manualBreakCount", Some(&manual.to_string()));
        }
    }

    /// The name of the attribute by which it leads to a part, with its prefix, and the identifier.
    pub(super) fn relationship(&self) -> Option<(String, String)> {
        let leads = |(name, _): &(String, String)| {
            name.split_once(':').is_some_and(|(_, local)| local == "id")
        };
        self.attributes().into_iter().find(leads)
    }

    /// Takes away the elements below it that lead by identifiers which are not known.
    pub(super) fn drop_dangling(&mut self, is_known: &dyn Fn(&str) -> bool) {
        self.prune(&mut |element| match element.relationship() {
            Some((name, id)) if !is_known(&id) => {
                // Printing is set without the settings of a printer, too.
                let is_setup = element.name() == "pageSetup";
                if is_setup {
                    element.set_attribute(&name, None);
                }
                is_setup
            }
            _ => true,
        });
    }

    /// Whether it has an attribute of this name with a prefix, as those have that lead to parts.
    pub(super) fn leads_by(&self, name: &str) -> bool {
        let tag = BytesStart::from_content(&self.tag, self.full_name().len());
        tag.attributes()
            .with_checks(false)
            .flatten()
            .any(|attribute| {
                let key = attribute.key.as_ref();
                key.split_once(':').is_some_and(|(_, local)| local == name)
            })
    }

    /// Its text, with references resolved.
    pub(super) fn text(&self) -> String {
        let mut text = String::new();
        for child in &self.children {
            if let Node::Other(raw) = child {
                match quick_xml::escape::unescape(raw) {
                    Ok(plain) => text.push_str(&plain),
                    Err(_) => text.push_str(raw),
                }
            }
        }
        text
    }

    /// Replaces all that it holds with a text.
    pub(super) fn set_text(&mut self, text: &str) {
        let mut escaped = Vec::new();
        push_escaped(text, false, &mut escaped);
        self.children = vec![Node::Other(String::from_utf8_lossy(&escaped).into_owned())];
        self.open();
    }

    /// Hands itself and all elements below to `change`, from the top.
    pub(super) fn walk_mut(&mut self, change: &mut impl FnMut(&mut Self)) {
        change(self);
        for child in self.elements_mut() {
            child.walk_mut(change);
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    const TEXT: &str = "<?xml version=\"1.0\"?>\r\n<!-- kept --><x:book xmlns:x='urn:x' a = \"1\">\n  \
                        <x:sheet name=\"Q &amp; A\" r:id='r1' /><x:f>'A'!B1 &lt; 2</x:f>\n</x:book>\n";

    fn parsed() -> Document {
        Document::parse(TEXT.as_bytes().to_vec(), "part").expect("a document")
    }

    #[test]
    fn what_is_not_changed_stays_as_it_is() {
        assert_eq!(
            String::from_utf8(parsed().into_bytes()).expect("text"),
            TEXT
        );
        let broken = |text: &str| Document::parse(text.as_bytes().to_vec(), "part").is_err();
        assert!(broken("<a><b></a>") && broken("<a>") && broken("") && broken("<!DOCTYPE a><a/>"));
    }

    #[test]
    fn attributes_and_texts_are_changed_in_place() {
        let mut document = parsed();
        let root = &mut document.root;
        assert_eq!((root.name(), root.prefix()), ("book", "x:"));
        root.set_attribute("a", Some("<2>"));
        let sheet = root.child_mut("sheet").expect("a sheet");
        assert_eq!(sheet.attribute("name").as_deref(), Some("Q & A"));
        assert_eq!(sheet.attribute("id").as_deref(), Some("r1"));
        sheet.set_attribute("r:id", None);
        sheet.set_attribute("state", Some("hidden"));
        let formula = root.child_mut("f").expect("a formula");
        assert_eq!(formula.text(), "'A'!B1 < 2");
        formula.set_text("1 & 2");
        let text = String::from_utf8(document.into_bytes()).expect("text");
        assert!(text.contains("xmlns:x='urn:x' a=\"&lt;2&gt;\">"), "{text}");
        assert!(
            text.contains("<x:sheet name=\"Q &amp; A\"  state=\"hidden\"/>"),
            "{text}"
        );
        assert!(text.contains("<x:f>1 &amp; 2</x:f>"), "{text}");
    }
}
