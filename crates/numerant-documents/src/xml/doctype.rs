//! The document type declaration with its internal subset, after XML 1.0, 2.8 and 3.2 to 4.7.
//!
//! Nothing outside of the document is read: an external subset and external entities are never
//! fetched. Declarations after a parameter entity that is not read do not count (XML 1.0, 5.1).

use std::collections::HashMap;
use std::collections::hash_map::Entry;

use super::entities::character;
use numerant_markup::is_allowed;
use numerant_markup::name::{continues_name, is_name, is_token};

/// Parameter entities within each other.
const MAX_DEPTH: usize = 16;

/// Characters that parameter entities may represent.
const MAX_PARAMETERS: usize = 1 << 20;

/// What the document type of a document declares.
#[derive(Debug, Default)]
pub(super) struct DocumentType {
    pub(super) entities: HashMap<String, Entity>,
    /// Attributes by the name of their element.
    pub(super) attributes: HashMap<String, AttributeRules>,
}

/// What a general entity represents.
#[derive(Debug)]
pub(super) enum Entity {
    /// This text, in which references to characters are replaced.
    Internal(String),
    /// Something outside of the document.
    External,
    /// Something outside of the document that is not XML.
    Unparsed,
}

/// A declared attribute.
#[derive(Debug)]
pub(super) struct AttributeRule {
    pub(super) name: String,
    /// Its blanks are kept; those of the other types are normalised (XML 1.0, 3.3.3).
    pub(super) is_cdata: bool,
    /// The value where a tag has none, verbatim.
    pub(super) default: Option<String>,
}

/// The declared attributes of an element, the first declaration of each.
#[derive(Debug, Default)]
pub(super) struct AttributeRules {
    pub(super) in_order: Vec<AttributeRule>,
    by_name: HashMap<String, usize>,
}

impl AttributeRules {
    fn add(&mut self, rule: AttributeRule) {
        if let Entry::Vacant(place) = self.by_name.entry(rule.name.clone()) {
            place.insert(self.in_order.len());
            self.in_order.push(rule);
        }
    }

    pub(super) fn get(&self, name: &str) -> Option<&AttributeRule> {
        self.by_name.get(name).map(|place| &self.in_order[*place])
    }
}

/// What is wrong, and at which byte of the declaration.
#[derive(Debug)]
pub(super) struct DoctypeError(pub(super) usize, pub(super) String);

impl DocumentType {
    /// Reads a declaration, from its `<!DOCTYPE` to its `>`.
    pub(super) fn parse(declaration: &str) -> Result<Self, DoctypeError> {
        let mut found = Self::default();
        let (mut counts, mut left) = (true, MAX_PARAMETERS);
        let mut parser = Parser {
            text: declaration,
            at: 0,
            found: &mut found,
            parameters: &mut HashMap::new(),
            depth: 0,
            counts: &mut counts,
            left: &mut left,
        };
        parser.document_type()?;
        Ok(found)
    }
}

struct Parser<'a> {
    text: &'a str,
    at: usize,
    found: &'a mut DocumentType,
    /// Parameter entities; `None` for those outside of the document.
    parameters: &'a mut HashMap<String, Option<String>>,
    depth: usize,
    /// No parameter entity was skipped that may have had other declarations.
    counts: &'a mut bool,
    /// Characters that parameter entities may still represent.
    left: &'a mut usize,
}

type Parsed<T> = Result<T, DoctypeError>;

impl<'a> Parser<'a> {
    fn rest(&self) -> &'a str {
        &self.text[self.at..]
    }

    fn wrong<T>(&self, what: impl Into<String>) -> Parsed<T> {
        Err(DoctypeError(self.at, what.into()))
    }

    fn takes(&mut self, word: &str) -> bool {
        let is_there = self.rest().starts_with(word);
        if is_there {
            self.at += word.len();
        }
        is_there
    }

    fn expect(&mut self, word: &str) -> Parsed<()> {
        if self.takes(word) {
            Ok(())
        } else {
            self.wrong(format!("'{word}' is missing here in the document type"))
        }
    }

    /// Passes over blanks; whether there were any.
    fn blanks(&mut self) -> bool {
        let blank = |byte: &u8| matches!(byte, b' ' | b'\t' | b'\n' | b'\r');
        let count = self.rest().bytes().take_while(|byte| blank(byte)).count();
        self.at += count;
        count > 0
    }

    fn blank(&mut self) -> Parsed<()> {
        if self.blanks() {
            Ok(())
        } else {
            self.wrong("a blank is missing here in the document type")
        }
    }

    fn word(&mut self) -> &'a str {
        let rest = self.rest();
        let end = rest
            .find(|c: char| !continues_name(c))
            .unwrap_or(rest.len());
        self.at += end;
        &rest[..end]
    }

    fn name(&mut self) -> Parsed<&'a str> {
        let start = self.at;
        let word = self.word();
        if is_name(word) {
            return Ok(word);
        }
        self.at = start;
        self.wrong("a name is missing here in the document type")
    }

    fn token(&mut self) -> Parsed<&'a str> {
        let start = self.at;
        let word = self.word();
        if is_token(word) {
            return Ok(word);
        }
        self.at = start;
        self.wrong("a name token is missing here in the document type")
    }

    fn quoted(&mut self) -> Parsed<&'a str> {
        let quote = match self.rest().chars().next() {
            Some(quote @ ('"' | '\'')) => quote,
            _ => return self.wrong("a quoted text is missing here in the document type"),
        };
        let inside = &self.rest()[1..];
        let Some(end) = inside.find(quote) else {
            return self.wrong("a quoted text does not end in the document type");
        };
        let inside = &inside[..end];
        if let Some(at) = inside.find(|c| !is_allowed(c)) {
            self.at += 1 + at;
            return self.wrong("a character that XML cannot hold");
        }
        self.at += end + 2;
        Ok(inside)
    }

    fn document_type(&mut self) -> Parsed<()> {
        self.expect("<!DOCTYPE")?;
        self.blank()?;
        self.name()?;
        if self.blanks() && self.rest().starts_with(['S', 'P']) {
            self.external(false)?;
            self.blanks();
        }
        if self.takes("[") {
            self.subset()?;
            self.expect("]")?;
            self.blanks();
        }
        self.expect(">")
    }

    /// A system identifier, or a public one with it; for notations the public one alone will do.
    fn external(&mut self, is_notation: bool) -> Parsed<()> {
        if self.takes("SYSTEM") {
            self.blank()?;
            self.quoted()?;
            return Ok(());
        }
        self.expect("PUBLIC")?;
        self.blank()?;
        let start = self.at;
        let public = self.quoted()?;
        let allowed = |c: char| c.is_ascii_alphanumeric() || " \r\n-'()+,./:=?;!*#@$_%".contains(c);
        if !public.chars().all(allowed) {
            self.at = start;
            return self.wrong("a public identifier has a character that it cannot have");
        }
        let blank = self.blanks();
        if is_notation && !self.rest().starts_with(['"', '\'']) {
            return Ok(());
        }
        if !blank {
            return self.wrong("a blank is missing here in the document type");
        }
        self.quoted()?;
        Ok(())
    }

    /// Declarations, up to the `]` of the document or the end of a parameter entity.
    fn subset(&mut self) -> Parsed<()> {
        loop {
            self.blanks();
            if self.takes("<!ENTITY") {
                self.entity()?;
            } else if self.takes("<!ATTLIST") {
                self.attribute_list()?;
            } else if self.takes("<!ELEMENT") {
                self.element()?;
            } else if self.takes("<!NOTATION") {
                self.blank()?;
                self.name()?;
                self.blank()?;
                self.external(true)?;
                self.blanks();
                self.expect(">")?;
            } else if self.rest().starts_with("<!--") {
                let end = self.rest()[4..].find("-->");
                let Some(end) = end else {
                    return self.wrong("a comment does not end in the document type");
                };
                let comment = &self.rest()[4..4 + end];
                if let Some(what) = super::syntax::wrong_comment(comment) {
                    return self.wrong(what);
                }
                self.at += end + 7;
            } else if self.rest().starts_with("<?") {
                let Some(end) = self.rest().find("?>") else {
                    return self.wrong("a processing instruction does not end");
                };
                if let Some(what) = super::syntax::wrong_instruction(&self.rest()[2..end]) {
                    return self.wrong(what);
                }
                self.at += end + 2;
            } else if self.takes("%") {
                self.parameter()?;
            } else if self.rest().is_empty() && self.depth > 0
                || self.rest().starts_with(']') && self.depth == 0
            {
                return Ok(());
            } else {
                return self.wrong("this is not a declaration of a document type");
            }
        }
    }

    /// A reference to a parameter entity between declarations.
    fn parameter(&mut self) -> Parsed<()> {
        let name = self.name()?;
        self.expect(";")?;
        let text = match self.parameters.get(name) {
            Some(Some(text)) => text.clone(),
            _ => {
                *self.counts = false;
                return Ok(());
            }
        };
        let left = self.left.checked_sub(text.len().max(1));
        let Some(left) = left.filter(|_| self.depth < MAX_DEPTH) else {
            return self.wrong(format!(
                "the parameter entity %{name}; is nested too deep or too long"
            ));
        };
        *self.left = left;
        let mut inner = Parser {
            text: &text,
            at: 0,
            found: self.found,
            parameters: self.parameters,
            depth: self.depth + 1,
            counts: self.counts,
            left: self.left,
        };
        // Errors in its text are reported at the reference.
        let outcome = inner.subset();
        outcome.map_err(|DoctypeError(_, what)| DoctypeError(self.at, what))
    }

    fn entity(&mut self) -> Parsed<()> {
        self.blank()?;
        let is_parameter = self.rest().starts_with('%');
        if is_parameter {
            self.at += 1;
            self.blank()?;
        }
        let name = self.name()?.to_owned();
        self.blank()?;
        let entity = if self.rest().starts_with(['"', '\'']) {
            let start = self.at;
            let literal = self.quoted()?;
            match replacement(literal) {
                Ok(text) => Entity::Internal(text),
                Err(what) => {
                    self.at = start;
                    return self.wrong(what);
                }
            }
        } else {
            self.external(false)?;
            let blank = self.blanks();
            if !is_parameter && blank && self.takes("NDATA") {
                self.blank()?;
                self.name()?;
                Entity::Unparsed
            } else {
                Entity::External
            }
        };
        self.blanks();
        self.expect(">")?;
        if !*self.counts {
            return Ok(());
        }
        // The first declaration counts (XML 1.0, 4.2).
        if is_parameter {
            let text = match entity {
                Entity::Internal(text) => Some(text),
                _ => None,
            };
            self.parameters.entry(name).or_insert(text);
        } else {
            self.found.entities.entry(name).or_insert(entity);
        }
        Ok(())
    }

    fn attribute_list(&mut self) -> Parsed<()> {
        self.blank()?;
        let element = self.name()?.to_owned();
        loop {
            let blank = self.blanks();
            if self.takes(">") {
                return Ok(());
            }
            if !blank {
                return self.wrong("a blank is missing here in the document type");
            }
            let name = self.name()?.to_owned();
            self.blank()?;
            let is_cdata = self.attribute_type()?;
            self.blank()?;
            let default = if self.takes("#REQUIRED") || self.takes("#IMPLIED") {
                None
            } else {
                if self.takes("#FIXED") {
                    self.blank()?;
                }
                let start = self.at;
                let value = self.quoted()?;
                if let Err(what) = self.check_default(value) {
                    self.at = start;
                    return self.wrong(what);
                }
                Some(value.to_owned())
            };
            if !*self.counts {
                continue;
            }
            let rules = self.found.attributes.entry(element.clone()).or_default();
            rules.add(AttributeRule {
                name,
                is_cdata,
                default,
            });
        }
    }

    /// The type of an attribute; whether that is CDATA.
    fn attribute_type(&mut self) -> Parsed<bool> {
        if self.takes("(") {
            return self.choice(Self::token).map(|()| false);
        }
        let start = self.at;
        match self.word() {
            "CDATA" => Ok(true),
            "ID" | "IDREF" | "IDREFS" | "ENTITY" | "ENTITIES" | "NMTOKEN" | "NMTOKENS" => Ok(false),
            "NOTATION" => {
                self.blank()?;
                self.expect("(")?;
                self.choice(Self::name).map(|()| false)
            }
            _ => {
                self.at = start;
                self.wrong("this is not a type of an attribute")
            }
        }
    }

    /// Words between bars, from after the opening bracket.
    fn choice(&mut self, word: fn(&mut Self) -> Parsed<&'a str>) -> Parsed<()> {
        loop {
            self.blanks();
            word(self)?;
            self.blanks();
            if self.takes(")") {
                return Ok(());
            }
            self.expect("|")?;
        }
    }

    fn check_default(&self, value: &str) -> Result<(), String> {
        if value.contains('<') {
            return Err("a default value holds a '<', which is written &lt;".to_owned());
        }
        for name in references(value)? {
            if name.starts_with('#') || quick_xml::escape::resolve_predefined_entity(name).is_some()
            {
                continue;
            }
            match self.found.entities.get(name) {
                Some(Entity::Internal(text)) if !text.contains('<') => {}
                Some(Entity::Internal(_)) => {
                    return Err(format!(
                        "the entity &{name}; holds a '<' and is in a default value"
                    ));
                }
                Some(_) => {
                    return Err(format!(
                        "the entity &{name}; in a default value is outside of the document"
                    ));
                }
                None if *self.counts => {
                    return Err(format!(
                        "the entity &{name}; in a default value is not declared before"
                    ));
                }
                None => {}
            }
        }
        Ok(())
    }

    fn element(&mut self) -> Parsed<()> {
        self.blank()?;
        self.name()?;
        self.blank()?;
        if !self.takes("EMPTY") && !self.takes("ANY") {
            self.expect("(")?;
            self.blanks();
            if self.takes("#PCDATA") {
                self.mixed()?;
            } else {
                self.group(0)?;
                self.occurrence();
            }
        }
        self.blanks();
        self.expect(">")
    }

    /// Texts among elements, from after `#PCDATA`.
    fn mixed(&mut self) -> Parsed<()> {
        let mut has_names = false;
        loop {
            self.blanks();
            if self.takes(")") {
                let starred = self.takes("*");
                return if has_names && !starred {
                    self.wrong("'*' is missing here in the document type")
                } else {
                    Ok(())
                };
            }
            self.expect("|")?;
            self.blanks();
            self.name()?;
            has_names = true;
        }
    }

    /// Elements in a row or to choose from, from after the opening bracket.
    fn group(&mut self, depth: usize) -> Parsed<()> {
        if depth > 200 {
            return self.wrong("brackets are nested too deep in the document type");
        }
        let mut separator = None;
        loop {
            self.blanks();
            if self.takes("(") {
                self.group(depth + 1)?;
            } else {
                self.name()?;
            }
            self.occurrence();
            self.blanks();
            if self.takes(")") {
                return Ok(());
            }
            let found = match (self.takes(","), separator) {
                (true, _) => ',',
                (false, _) if self.takes("|") => '|',
                _ => return self.wrong("',' or '|' is missing here in the document type"),
            };
            if *separator.get_or_insert(found) != found {
                return self.wrong("',' and '|' are mixed in one bracket of the document type");
            }
        }
    }

    fn occurrence(&mut self) {
        let _ = self.takes("?") || self.takes("*") || self.takes("+");
    }
}

/// The references in a text, without `&` and `;`.
pub(super) fn references(text: &str) -> Result<Vec<&str>, String> {
    let mut found = Vec::new();
    let mut rest = text;
    while let Some(at) = rest.find('&') {
        let behind = &rest[at + 1..];
        let name = behind.find(';').map(|end| &behind[..end]);
        let Some(name) = name.filter(|name| is_name(name) || character(name).is_some()) else {
            return Err("a '&' does not begin a reference; it is written &amp;".to_owned());
        };
        found.push(name);
        rest = &behind[name.len() + 1..];
    }
    Ok(found)
}

/// What an entity represents (XML 1.0, 4.5): references to characters are replaced, others are kept.
fn replacement(literal: &str) -> Result<String, String> {
    if literal.contains('%') {
        return Err(
            "'%' in the value of an entity is written &#37;; parameter entities are not possible there"
                .to_owned(),
        );
    }
    let mut text = String::new();
    let mut rest = literal;
    for name in references(literal)? {
        let at = rest.find('&').unwrap_or(rest.len());
        text.push_str(&rest[..at]);
        rest = &rest[at + name.len() + 2..];
        match character(name) {
            Some(character) => text.push(character),
            None => text.push_str(&format!("&{name};")),
        }
    }
    text.push_str(rest);
    Ok(text)
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn declarations_are_read() {
        let found = DocumentType::parse(
            "<!DOCTYPE port PUBLIC '-//Varnholm//Port' 'port.dtd' [\n<!-- quays --><?note ?>\
             <!ENTITY % more \"<!ENTITY quay 'Ost &#38;#38; West'>\"> %more; <!NOTATION gif PUBLIC 'gif'>\
             <!ENTITY map SYSTEM 'map.gif' NDATA gif><!ENTITY far SYSTEM 'far.xml'>\
             <!ELEMENT port (#PCDATA | quay)*><!ELEMENT quay (a, (b | c)+, d?)><!ELEMENT a EMPTY>\
             <!ATTLIST quay kind (deep|tidal) 'tidal' id ID #REQUIRED name CDATA #FIXED 'Ost'>\
             ] >",
        )
        .expect("well-formed");
        assert!(matches!(&found.entities["quay"], Entity::Internal(text) if text == "Ost & West"));
        assert!(matches!(found.entities["map"], Entity::Unparsed));
        assert!(matches!(found.entities["far"], Entity::External));
        let rules = &found.attributes["quay"].in_order;
        let defaults = rules.iter().map(|rule| rule.default.as_deref());
        let defaults: Vec<_> = defaults.collect();
        assert_eq!(defaults, [Some("tidal"), None, Some("Ost")]);
    }

    #[test]
    fn declarations_behind_an_unread_parameter_entity_do_not_count() {
        let found = DocumentType::parse(
            "<!DOCTYPE port [<!ENTITY a 'A'><!ENTITY % x SYSTEM 'x'>%x;<!ENTITY b 'B'>]>",
        )
        .expect("well-formed");
        assert!(found.entities.contains_key("a") && !found.entities.contains_key("b"));
    }

    #[test]
    fn parameter_entities_end() {
        let itself = "<!DOCTYPE a [<!ENTITY % x '&#37;x;'>%x;]>";
        assert!(DocumentType::parse(itself).is_err());
        let mut bomb = "<!DOCTYPE a [<!ENTITY % x0 '<!ELEMENT a EMPTY>'>".to_owned();
        for level in 1..12 {
            let inner = format!("&#37;x{};", level - 1).repeat(10);
            bomb.push_str(&format!("<!ENTITY % x{level} '{inner}'>"));
        }
        bomb.push_str("%x11;]>");
        assert!(DocumentType::parse(&bomb).is_err());
    }
}
