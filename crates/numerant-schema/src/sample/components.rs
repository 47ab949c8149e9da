//! The documents of an XML Schema, and what is declared in them.

use std::collections::{HashMap, HashSet};
use std::path::{Path, PathBuf};

use roxmltree::{Document, Node};

use super::super::SchemaProblem;
use super::XSD;

/// The texts of a schema and of all that it includes and imports, each with its namespace.
pub(super) fn texts_of(path: &Path, text: &str) -> Result<Vec<(String, String)>, SchemaProblem> {
    let mut texts = Vec::new();
    let mut seen: HashSet<PathBuf> = HashSet::new();
    let path = std::path::absolute(path)?;
    seen.insert(path.clone());
    let mut left = vec![(path, text.to_owned(), None::<String>)];
    while let Some((path, text, outer)) = left.pop() {
        let document =
            Document::parse(&text).map_err(|error| SchemaProblem::Invalid(error.to_string()))?;
        let root = document.root_element();
        let own = root.attribute("targetNamespace").map(str::to_owned);
        let namespace = own.or(outer).unwrap_or_default();
        let mut directives: Vec<(PathBuf, String, bool)> = Vec::new();
        for child in root.children().filter(Node::is_element) {
            let name = child.tag_name().name();
            let location = child.attribute("schemaLocation");
            if let ("include" | "import" | "redefine", Some(location)) = (name, location) {
                let target = path.parent().unwrap_or(&path).join(location);
                directives.push((target, location.to_owned(), name != "import"));
            }
        }
        drop(document);
        for (target, location, is_included) in directives.into_iter().rev() {
            if !seen.insert(target.clone()) {
                continue;
            }
            let Ok(text) = std::fs::read_to_string(&target) else {
                return Err(SchemaProblem::Missing(location));
            };
            let outer = is_included.then(|| namespace.clone());
            left.push((
                target,
                text.trim_start_matches('\u{feff}').to_owned(),
                outer,
            ));
        }
        texts.push((text, namespace));
    }
    Ok(texts)
}

/// A name in a namespace.
type Name = (String, String);

/// The named components of a schema.
pub(super) struct Components<'d> {
    by_name: HashMap<(&'static str, Name), Node<'d, 'd>>,
    /// The namespace of the document that a node is in, and whether local names are in it.
    documents: Vec<(&'d Document<'d>, &'d str)>,
}

/// Kinds of named components.
const KINDS: [&str; 6] = [
    "element",
    "complexType",
    "simpleType",
    "group",
    "attributeGroup",
    "attribute",
];

impl<'d> Components<'d> {
    pub(super) fn of(documents: &'d [(Document<'d>, String)]) -> Self {
        let mut by_name = HashMap::new();
        for (document, namespace) in documents {
            let top = document.root_element();
            let redefined = top
                .children()
                .filter(|node| node.has_tag_name((XSD, "redefine")));
            let inside = redefined.flat_map(|node| node.children());
            for node in top.children().chain(inside) {
                let kind = KINDS.iter().find(|kind| node.has_tag_name((XSD, **kind)));
                if let (Some(kind), Some(name)) = (kind, node.attribute("name")) {
                    let name = (namespace.clone(), name.to_owned());
                    by_name.entry((*kind, name)).or_insert(node);
                }
            }
        }
        let documents = documents
            .iter()
            .map(|(document, name)| (document, name.as_str()));
        Self {
            by_name,
            documents: documents.collect(),
        }
    }

    /// The namespace of the schema document that a node is in.
    pub(super) fn namespace_of(&self, node: Node<'d, 'd>) -> &'d str {
        let found = self.documents.iter();
        let mut found = found.filter(|(document, _)| std::ptr::eq(*document, node.document()));
        found.next().map_or("", |(_, namespace)| namespace)
    }

    /// The component that a name in an attribute of a node represents.
    pub(super) fn find(
        &self,
        kind: &'static str,
        node: Node<'d, 'd>,
        name: &str,
    ) -> Option<Node<'d, 'd>> {
        let (prefix, local) = match name.split_once(':') {
            Some((prefix, local)) => (Some(prefix), local),
            None => (None, name),
        };
        let uri = node.lookup_namespace_uri(prefix);
        // A document without a namespace of its own is in that of what includes it.
        let uri = uri.unwrap_or_else(|| self.namespace_of(node));
        let key = (kind, (uri.to_owned(), local.to_owned()));
        self.by_name.get(&key).copied()
    }

    /// The elements that no other refers to, in the order of the schema; all, if there are none.
    pub(super) fn roots(&self) -> Vec<Node<'d, 'd>> {
        let Some((document, _)) = self.documents.first() else {
            return Vec::new();
        };
        let top = document.root_element();
        let is_element = |node: &Node<'d, 'd>| node.has_tag_name((XSD, "element"));
        let all: Vec<Node<'d, 'd>> = top.children().filter(is_element).collect();
        let mut used = HashSet::new();
        for (document, _) in &self.documents {
            for node in document.descendants() {
                if let Some(name) = node.attribute("ref").filter(|_| is_element(&node)) {
                    used.insert(name.rsplit(':').next().unwrap_or(name).to_owned());
                }
            }
        }
        let is_root = |node: &&Node<'d, 'd>| {
            let name = node.attribute("name").unwrap_or_default();
            !used.contains(name) && node.attribute("abstract") != Some("true")
        };
        let roots: Vec<Node<'d, 'd>> = all.iter().filter(is_root).copied().collect();
        if roots.is_empty() { all } else { roots }
    }
}
