//! Entities that a document declares itself. Those outside of it are never fetched, and what the
//! others represent is kept small.

use std::collections::{HashMap, HashSet};
use std::sync::LazyLock;

use quick_xml::Reader;
use quick_xml::escape::resolve_predefined_entity;
use quick_xml::events::Event;

use super::doctype::{AttributeRules, DoctypeError, DocumentType, Entity, references};

/// Bytes that one entity may represent, and all of a document together.
const MOST_OF_ONE: usize = 1 << 16;
const MOST_OF_ALL: usize = 1 << 24;

/// Entities in entities.
const MOST_DEEP: usize = 16;

/// The entities of a document.
#[derive(Debug, Default)]
pub(super) struct Entities {
    declared: DocumentType,
    /// Those that have elements in them, or entities that do.
    with_markup: HashSet<String>,
    /// Bytes that entities stood for so far.
    expanded: usize,
}

/// What is in the place of a reference.
#[derive(Debug, PartialEq, Eq)]
pub(super) enum Replaced {
    /// Text, which was appended.
    Text,
    /// Text with elements in it, which are to be read in place of the reference.
    Markup(String),
}

impl Entities {
    /// Takes the declarations of a document type, from its `<!DOCTYPE` to its `>`.
    pub(super) fn define(&mut self, declaration: &str) -> Result<(), DoctypeError> {
        self.declared = DocumentType::parse(declaration)?;
        self.with_markup = with_markup(&self.declared);
        Ok(())
    }

    /// The declared attributes of an element.
    pub(super) fn attributes(&self, element: &str) -> &AttributeRules {
        static NONE: LazyLock<AttributeRules> = LazyLock::new(AttributeRules::default);
        let rules = self.declared.attributes.get(element);
        rules.unwrap_or(&NONE)
    }

    /// Whether any attributes are declared.
    pub(super) fn have_attributes(&self) -> bool {
        !self.declared.attributes.is_empty()
    }

    /// Appends what a reference in the value of an attribute represents, from after its `&` to
    /// before its `;`.
    pub(super) fn in_attribute(&mut self, name: &str, out: &mut Vec<u8>) -> Result<(), String> {
        self.push(name, true, out)
    }

    /// Appends what a reference in the content of an element represents, or returns its elements.
    pub(super) fn in_content(&mut self, name: &str, out: &mut Vec<u8>) -> Result<Replaced, String> {
        if resolve_predefined_entity(name).is_none()
            && let Some(Entity::Internal(text)) = self.declared.entities.get(name)
            && self.with_markup.contains(name)
        {
            let text = text.clone();
            check_balance(&text).map_err(|what| format!("the entity &{name}; {what}"))?;
            self.count(text.len())?;
            return Ok(Replaced::Markup(text));
        }
        self.push(name, false, out).map(|()| Replaced::Text)
    }

    fn push(&mut self, name: &str, is_attribute: bool, out: &mut Vec<u8>) -> Result<(), String> {
        if let Some(text) = resolve_predefined_entity(name) {
            out.extend_from_slice(text.as_bytes());
            return Ok(());
        }
        let before = out.len();
        let mut left = MOST_OF_ONE;
        self.expand(name, is_attribute, out, &mut left, 0)?;
        self.count(out.len() - before)
    }

    fn count(&mut self, bytes: usize) -> Result<(), String> {
        self.expanded += bytes.max(1);
        if self.expanded > MOST_OF_ALL {
            return Err(format!(
                "its entities expand to more than {MOST_OF_ALL} bytes: this is an entity bomb"
            ));
        }
        Ok(())
    }

    fn expand(
        &self,
        name: &str,
        is_attribute: bool,
        out: &mut Vec<u8>,
        left: &mut usize,
        depth: usize,
    ) -> Result<(), String> {
        let value = match self.declared.entities.get(name) {
            Some(Entity::Internal(value)) => value,
            Some(Entity::External | Entity::Unparsed) => {
                return Err(format!(
                    "the entity &{name}; refers to an external resource, which is not fetched"
                ));
            }
            None => return Err(format!("the entity &{name}; is not known")),
        };
        if depth > MOST_DEEP {
            return Err(format!(
                "the entity &{name}; is in itself, or nested too deep"
            ));
        }
        if value.contains('<') {
            return Err(format!(
                "the entity &{name}; holds a '<', which an attribute cannot hold"
            ));
        }
        let mut rest = value.as_str();
        let names = references(value).map_err(|what| format!("the entity &{name};: {what}"))?;
        for inner in names {
            let at = rest.find('&').unwrap_or(rest.len());
            push_text(&rest[..at], is_attribute, name, out, left)?;
            rest = &rest[at + inner.len() + 2..];
            if let Some(character) = character(inner) {
                take(character.encode_utf8(&mut [0; 4]), name, out, left)?;
            } else if let Some(text) = resolve_predefined_entity(inner) {
                take(text, name, out, left)?;
            } else {
                self.expand(inner, is_attribute, out, left, depth + 1)?;
            }
        }
        push_text(rest, is_attribute, name, out, left)
    }
}

/// The entities that have elements in them, or entities that do.
fn with_markup(declared: &DocumentType) -> HashSet<String> {
    let mut found = Vec::new();
    // The entities that each is in.
    let mut outer: HashMap<&str, Vec<&str>> = HashMap::new();
    for (name, entity) in &declared.entities {
        let Entity::Internal(text) = entity else {
            continue;
        };
        if text.contains('<') {
            found.push(name.as_str());
        }
        for inner in references(text).unwrap_or_default() {
            outer.entry(inner).or_default().push(name);
        }
    }
    let mut all = HashSet::new();
    while let Some(name) = found.pop() {
        if all.insert(name.to_owned()) {
            found.extend(outer.get(name).into_iter().flatten());
        }
    }
    all
}

/// Checks that elements end in the entity that they begin in (XML 1.0, 4.3.2).
fn check_balance(text: &str) -> Result<(), String> {
    let mut reader = Reader::from_str(text);
    let config = reader.config_mut();
    config.check_end_names = true;
    config.allow_unmatched_ends = false;
    let mut open = 0_usize;
    loop {
        match reader.read_event() {
            Ok(Event::Eof) if open == 0 => return Ok(()),
            Ok(Event::Eof) => return Err("begins an element that ends outside of it".to_owned()),
            Ok(Event::Start(_)) => open += 1,
            Ok(Event::End(_)) => open = open.saturating_sub(1),
            Ok(_) => {}
            Err(error) => return Err(format!("is not well-formed: {error}")),
        }
    }
}

/// Appends text of an entity; blanks in the value of an attribute are normalised (XML 1.0, 3.3.3).
fn push_text(
    text: &str,
    is_attribute: bool,
    name: &str,
    out: &mut Vec<u8>,
    left: &mut usize,
) -> Result<(), String> {
    if is_attribute && text.contains(['\t', '\n', '\r']) {
        return take(&text.replace(['\t', '\n', '\r'], " "), name, out, left);
    }
    take(text, name, out, left)
}

fn take(text: &str, name: &str, out: &mut Vec<u8>, left: &mut usize) -> Result<(), String> {
    *left = left.checked_sub(text.len().max(1)).ok_or_else(|| {
        format!(
            "the entity &{name}; expands to more than {MOST_OF_ONE} bytes: this is an entity bomb"
        )
    })?;
    out.extend_from_slice(text.as_bytes());
    Ok(())
}

/// The character of `#65` or `#x41`.
pub(super) fn character(reference: &str) -> Option<char> {
    let number = reference.strip_prefix('#')?;
    let (digits, radix) = match number.strip_prefix('x') {
        Some(digits) => (digits, 16),
        None => (number, 10),
    };
    // A sign is none of the digits.
    if !digits.bytes().all(|byte| char::from(byte).is_digit(radix)) {
        return None;
    }
    let code = u32::from_str_radix(digits, radix).ok()?;
    char::from_u32(code).filter(|character| numerant_markup::is_allowed(*character))
}

#[cfg(test)]
mod tests {
    use super::*;

    fn expanded(subset: &str, name: &str) -> Result<String, String> {
        let mut entities = Entities::default();
        let defined = entities.define(&format!("<!DOCTYPE port [{subset}]>"));
        defined.map_err(|DoctypeError(_, what)| what)?;
        let mut out = Vec::new();
        match entities.in_content(name, &mut out)? {
            Replaced::Text => Ok(String::from_utf8_lossy(&out).into_owned()),
            Replaced::Markup(text) => Ok(format!("markup {text}")),
        }
    }

    #[test]
    fn declared_entities_are_expanded_and_others_are_not_fetched() {
        let subset =
            "<!ENTITY port 'Varnholm'> <!ENTITY harbour \"Port of &port; &#38;#38; &#x41;\">
            <!ENTITY secret SYSTEM \"file:///etc/passwd\"> <!ENTITY self \"&self;\">
            <!ENTITY open \"<quay>\"> <!ENTITY quay \"<quay>&port;</quay>\">
            <!ENTITY quays \"&quay;&quay;\"> <!ENTITY bare \"&#38; more\">";
        for (name, expected) in [
            ("harbour", "Port of Varnholm & A"),
            ("lt", "<"),
            ("quay", "markup <quay>&port;</quay>"),
            ("quays", "markup &quay;&quay;"),
        ] {
            assert_eq!(expanded(subset, name).as_deref(), Ok(expected), "{name}");
        }
        for (name, what) in [
            ("secret", "not fetched"),
            ("self", "in itself"),
            ("other", "not known"),
            ("open", "ends outside of it"),
            ("bare", "does not begin a reference"),
        ] {
            let error = expanded(subset, name).expect_err(name);
            assert!(error.contains(what), "{error}");
        }
    }

    #[test]
    fn bombs_do_not_go_off() {
        let mut subset = "<!ENTITY a0 'laugh'>".to_owned();
        for level in 1..10 {
            let inner = format!("&a{};", level - 1).repeat(10);
            subset.push_str(&format!("<!ENTITY a{level} '{inner}'>"));
        }
        let error = expanded(&subset, "a9").expect_err("a bomb");
        assert!(error.contains("entity bomb"), "{error}");
    }
}
