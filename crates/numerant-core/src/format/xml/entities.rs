//! Entities that a document defines itself. Those that are elsewhere are never fetched, and what the
//! others stand for is kept small.

use std::collections::HashMap;

/// Bytes that one entity may stand for, and all of a document together.
const MOST_OF_ONE: usize = 1 << 16;
const MOST_OF_ALL: usize = 1 << 24;

/// Entities in entities.
const MOST_DEEP: usize = 16;

/// The entities of a document.
#[derive(Debug, Default)]
pub(super) struct Entities {
    /// By name: the text, or `None` for what is elsewhere.
    known: HashMap<String, Option<String>>,
    expanded: usize,
}

impl Entities {
    /// Takes note of the entities in a document type, from behind `<!DOCTYPE` to before `>`.
    pub(super) fn define(&mut self, doctype: &str) {
        let mut rest = doctype;
        while let Some(found) = rest.find("<!ENTITY") {
            rest = &rest[found + 8..];
            let mut words = rest.trim_start();
            if words.starts_with('%') {
                continue;
            }
            let end = words.find(char::is_whitespace).unwrap_or(words.len());
            let name = words[..end].to_owned();
            words = words[end..].trim_start();
            let quote = words.chars().next().filter(|c| matches!(c, '"' | '\''));
            let value = quote.and_then(|quote| {
                let inside = &words[1..];
                inside.find(quote).map(|end| inside[..end].to_owned())
            });
            // The first definition counts (XML 1.0, 4.2).
            self.known.entry(name).or_insert(value);
        }
    }

    /// Appends what an entity stands for.
    pub(super) fn push(&mut self, name: &str, out: &mut Vec<u8>) -> Result<(), String> {
        if let Some(text) = quick_xml::escape::resolve_predefined_entity(name) {
            out.extend_from_slice(text.as_bytes());
            return Ok(());
        }
        let before = out.len();
        let mut left = MOST_OF_ONE;
        self.expand(name, out, &mut left, 0)?;
        self.expanded += out.len() - before;
        if self.expanded > MOST_OF_ALL {
            return Err(format!(
                "its entities stand for more than {MOST_OF_ALL} bytes; that is how bombs are made"
            ));
        }
        Ok(())
    }

    fn expand(
        &self,
        name: &str,
        out: &mut Vec<u8>,
        left: &mut usize,
        depth: usize,
    ) -> Result<(), String> {
        let value = match self.known.get(name) {
            Some(Some(value)) => value,
            Some(None) => {
                return Err(format!(
                    "the entity &{name}; stands for something outside of the document, which is \
                     not fetched"
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
                "the entity &{name}; stands for elements, which is not supported"
            ));
        }
        let mut rest = value.as_str();
        while let Some(at) = rest.find('&') {
            take(&rest[..at], name, out, left)?;
            let behind = &rest[at + 1..];
            let Some(end) = behind.find(';') else {
                return Err(format!(
                    "the entity &{name}; has a '&' that stands for nothing"
                ));
            };
            let inner = &behind[..end];
            rest = &behind[end + 1..];
            if let Some(character) = character(inner) {
                take(character.encode_utf8(&mut [0; 4]), name, out, left)?;
            } else if let Some(text) = quick_xml::escape::resolve_predefined_entity(inner) {
                take(text, name, out, left)?;
            } else {
                self.expand(inner, out, left, depth + 1)?;
            }
        }
        take(rest, name, out, left)
    }
}

fn take(text: &str, name: &str, out: &mut Vec<u8>, left: &mut usize) -> Result<(), String> {
    *left = left.checked_sub(text.len().max(1)).ok_or_else(|| {
        format!(
            "the entity &{name}; stands for more than {MOST_OF_ONE} bytes; that is how bombs are made"
        )
    })?;
    out.extend_from_slice(text.as_bytes());
    Ok(())
}

/// The character of `#65` or `#x41`.
pub(super) fn character(reference: &str) -> Option<char> {
    let number = reference.strip_prefix('#')?;
    let code = match number.strip_prefix('x') {
        Some(digits) => u32::from_str_radix(digits, 16).ok()?,
        None => number.parse().ok()?,
    };
    char::from_u32(code).filter(|character| crate::format::markup::is_allowed(*character))
}

#[cfg(test)]
mod tests {
    use super::*;

    fn expanded(doctype: &str, name: &str) -> Result<String, String> {
        let mut entities = Entities::default();
        entities.define(doctype);
        let mut out = Vec::new();
        entities.push(name, &mut out)?;
        Ok(String::from_utf8_lossy(&out).into_owned())
    }

    #[test]
    fn own_entities_are_expanded_and_others_are_not_fetched() {
        let doctype =
            "port [<!ENTITY port 'Varnholm'> <!ENTITY harbour \"Port of &port; &#38; &#x41;\">
            <!ENTITY secret SYSTEM \"file:///etc/passwd\"> <!ENTITY self \"&self;\">]";
        assert_eq!(
            expanded(doctype, "harbour").expect("known"),
            "Port of Varnholm & A"
        );
        assert_eq!(expanded("", "lt").expect("known"), "<");
        for (name, what) in [
            ("secret", "not fetched"),
            ("self", "in itself"),
            ("other", "not known"),
        ] {
            let error = expanded(doctype, name).expect_err(name);
            assert!(error.contains(what), "{error}");
        }
    }

    #[test]
    fn bombs_do_not_go_off() {
        let mut doctype = "<!ENTITY a0 'laugh'>".to_owned();
        for level in 1..10 {
            let inner = format!("&a{};", level - 1).repeat(10);
            doctype.push_str(&format!("<!ENTITY a{level} '{inner}'>"));
        }
        let error = expanded(&doctype, "a9").expect_err("a bomb");
        assert!(error.contains("bombs"), "{error}");
    }
}
