//! Namespaces of XML that is written from tables.

use std::fmt;
use std::str::FromStr;

use numerant_markup::forbidden;
use numerant_markup::name::is_name;

/// A prefix and the namespace that it represents (Namespaces in XML 1.0, section 3).
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Namespace {
    /// The prefix; empty for names without one.
    pub prefix: String,
    /// The name of the namespace.
    pub uri: String,
}

/// A text that declares no namespace.
#[derive(Clone, Debug, PartialEq, Eq, thiserror::Error)]
#[error("'{0}' declares no namespace; write PREFIX=URI, or URI alone for names without a prefix")]
pub struct NamespaceError(String);

impl FromStr for Namespace {
    type Err = NamespaceError;

    fn from_str(text: &str) -> Result<Self, NamespaceError> {
        let is_prefix = |prefix: &str| is_name(prefix) && !prefix.contains(':');
        let (prefix, uri) = match text.split_once('=') {
            Some((prefix, uri)) if is_prefix(prefix) || prefix.is_empty() => (prefix, uri),
            _ => ("", text),
        };
        let is_reserved = prefix
            .get(..3)
            .is_some_and(|start| start.eq_ignore_ascii_case("xml"));
        if uri.is_empty() || is_reserved || forbidden(uri).is_some() {
            return Err(NamespaceError(text.to_owned()));
        }
        Ok(Self {
            prefix: prefix.to_owned(),
            uri: uri.to_owned(),
        })
    }
}

impl fmt::Display for Namespace {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        write!(f, "{}={}", self.prefix, self.uri)
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_prefix_may_stand_before_a_namespace() {
        for (text, prefix, uri) in [
            ("p=urn:varnholm:port", "p", "urn:varnholm:port"),
            ("urn:varnholm:port", "", "urn:varnholm:port"),
            ("=urn:varnholm:port", "", "urn:varnholm:port"),
            ("urn:port?a=b", "", "urn:port?a=b"),
        ] {
            let found: Namespace = text.parse().expect(text);
            assert_eq!((found.prefix.as_str(), found.uri.as_str()), (prefix, uri));
            let again: Namespace = found.to_string().parse().expect("written");
            assert_eq!(again, found);
        }
        for text in ["", "p=", "xmlns=urn:a", "XML=urn:a", "p=urn:\u{1}"] {
            assert!(text.parse::<Namespace>().is_err(), "{text}");
        }
    }
}
