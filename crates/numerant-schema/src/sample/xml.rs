//! Samples of XML Schemas.

use std::collections::BTreeMap;
use std::fmt::Write;
use std::path::Path;

use roxmltree::{Document, Node};

use super::super::SchemaProblem;
use super::components::{Components, texts_of};
use super::{MAX_DEPTH, MAX_PARTS, Sample, XSD, place};
use numerant_markup::escaped;

pub(super) fn sample(path: &Path, text: &str) -> Result<Option<Sample>, SchemaProblem> {
    let is_schema = |document: &Document<'_>| document.root_element().has_tag_name((XSD, "schema"));
    let options = roxmltree::ParsingOptions {
        allow_dtd: true,
        ..roxmltree::ParsingOptions::default()
    };
    match Document::parse_with_options(text, options) {
        Ok(document) if is_schema(&document) => {}
        _ => return Ok(None),
    }
    let texts = texts_of(path, text)?;
    let mut documents = Vec::new();
    for (text, namespace) in &texts {
        let document =
            Document::parse(text).map_err(|error| SchemaProblem::Invalid(error.to_string()))?;
        documents.push((document, namespace.clone()));
    }
    let components = Components::of(&documents);
    let roots = components.roots();
    let Some((first, others)) = roots.split_first() else {
        return Err(SchemaProblem::Invalid("it declares no element".to_owned()));
    };
    let form = documents[0]
        .0
        .root_element()
        .attribute("elementFormDefault");
    let mut sampler = Sampler {
        components: &components,
        has_local_names: form != Some("qualified"),
        main: documents[0].1.clone(),
        prefixes: BTreeMap::new(),
        out: String::new(),
        parts: 0,
        has_records: false,
        open: Vec::new(),
        in_choice: false,
    };
    let is_repeated = sampler.repeats(*first, 0);
    sampler.element(*first, None, &[], 0, !is_repeated);
    let mut text = "<?xml version=\"1.0\" encoding=\"UTF-8\"?>\n".to_owned();
    if !others.is_empty() {
        let others: Vec<&str> = others
            .iter()
            .filter_map(|node| node.attribute("name"))
            .collect();
        let _ = writeln!(
            text,
            "<!-- other documents have the root {} -->",
            others.join(" or ")
        );
    }
    let mut declared = String::new();
    if !sampler.main.is_empty() && !sampler.has_local_names {
        let _ = write!(declared, " xmlns=\"{}\"", escaped(&sampler.main));
    }
    for (uri, prefix) in &sampler.prefixes {
        let _ = write!(declared, " xmlns:{prefix}=\"{}\"", escaped(uri));
    }
    text.push_str(&sampler.out.replacen('\u{0}', &declared, 1));
    Ok(Some(Sample {
        text,
        notes: Vec::new(),
    }))
}

struct Sampler<'c, 'd> {
    components: &'c Components<'d>,
    main: String,
    /// Elements within others are in no namespace, so that the main one needs a prefix.
    has_local_names: bool,
    /// Namespaces besides the main one, with their prefixes.
    prefixes: BTreeMap<String, String>,
    out: String,
    parts: usize,
    has_records: bool,
    /// Types that are open.
    open: Vec<roxmltree::NodeId>,
    /// The elements that are written are alternatives.
    in_choice: bool,
}

fn is_many(node: Node<'_, '_>) -> bool {
    let most = node.attribute("maxOccurs").unwrap_or("1");
    most != "1" && most != "0"
}

fn children<'d>(node: Node<'d, 'd>) -> impl Iterator<Item = Node<'d, 'd>> {
    node.children()
        .filter(|child| child.tag_name().namespace() == Some(XSD))
}

fn child<'d>(node: Node<'d, 'd>, name: &str) -> Option<Node<'d, 'd>> {
    children(node).find(|child| child.tag_name().name() == name)
}

impl<'d> Sampler<'_, 'd> {
    fn line(&mut self, level: usize, text: &str) {
        let _ = writeln!(self.out, "{:width$}{text}", "", width = level * 2);
    }

    fn comment(&mut self, level: usize, text: &str) {
        let text = text.replace("--", "- -");
        self.line(level, &format!("<!-- {text} -->"));
    }

    /// The declaration that an element or attribute refers to, or itself.
    fn declared(&self, kind: &'static str, node: Node<'d, 'd>) -> Option<Node<'d, 'd>> {
        match node.attribute("ref") {
            Some(name) => self.components.find(kind, node, name),
            None => Some(node),
        }
    }

    /// The type of an element or attribute, if the schema defines it.
    fn type_of(&self, node: Node<'d, 'd>) -> Option<Node<'d, 'd>> {
        if let Some(name) = node.attribute("type") {
            let complex = self.components.find("complexType", node, name);
            return complex.or_else(|| self.components.find("simpleType", node, name));
        }
        child(node, "complexType").or_else(|| child(node, "simpleType"))
    }

    /// Whether a part for each record can be in an element.
    fn repeats(&self, element: Node<'d, 'd>, depth: usize) -> bool {
        if depth > MAX_DEPTH {
            return false;
        }
        let Some(of_type) = self
            .declared("element", element)
            .and_then(|node| self.type_of(node))
        else {
            return false;
        };
        self.elements_of(of_type, depth)
            .into_iter()
            .any(|(node, many)| many || self.repeats(node, depth + 8))
    }

    /// The elements in a type or group, and whether they occur several times.
    fn elements_of(&self, node: Node<'d, 'd>, depth: usize) -> Vec<(Node<'d, 'd>, bool)> {
        let mut found = Vec::new();
        if depth > MAX_DEPTH {
            return found;
        }
        for part in children(node) {
            let many = is_many(part);
            match part.tag_name().name() {
                "element" => found.push((part, many)),
                "group" => {
                    let group = self.declared("group", part);
                    let inside = group.map(|group| self.elements_of(group, depth + 1));
                    let inside = inside.into_iter().flatten();
                    found.extend(inside.map(|(node, inner)| (node, many || inner)));
                }
                "sequence" | "choice" | "all" | "complexContent" | "extension" | "restriction" => {
                    if let (Some(base), "extension") =
                        (part.attribute("base"), part.tag_name().name())
                        && let Some(base) = self.components.find("complexType", part, base)
                    {
                        found.extend(self.elements_of(base, depth + 1));
                    }
                    let inside = self.elements_of(part, depth + 1).into_iter();
                    found.extend(inside.map(|(node, inner)| (node, many || inner)));
                }
                _ => {}
            }
        }
        found
    }

    /// The name of an element or attribute, with the prefix of its namespace.
    fn name_of(&mut self, node: Node<'d, 'd>, is_top: bool, is_attribute: bool) -> String {
        let local = node.attribute("name").unwrap_or("unnamed").to_owned();
        let schema = node.document().root_element();
        let default = if is_attribute {
            "attributeFormDefault"
        } else {
            "elementFormDefault"
        };
        let form = node.attribute("form").or_else(|| schema.attribute(default));
        let is_qualified = is_top || form == Some("qualified");
        let namespace = if is_qualified {
            self.components.namespace_of(node).to_owned()
        } else {
            String::new()
        };
        let is_default = namespace == self.main && !is_attribute && !self.has_local_names;
        if namespace.is_empty() || is_default {
            return local;
        }
        let next = format!("n{}", self.prefixes.len() + 1);
        let prefix = self.prefixes.entry(namespace).or_insert(next);
        format!("{prefix}:{local}")
    }

    /// Writes an element; `use_of` is where it is used, if that is not where it is declared.
    fn element(
        &mut self,
        node: Node<'d, 'd>,
        use_of: Option<Node<'d, 'd>>,
        around: &[String],
        level: usize,
        is_record: bool,
    ) {
        self.parts += 1;
        let is_top = node
            .parent_element()
            .is_some_and(|parent| parent.has_tag_name((XSD, "schema")));
        let name = self.name_of(node, is_top, false);
        let of_type = self.type_of(node);
        let again = of_type.is_some_and(|of_type| self.open.contains(&of_type.id()));
        if level > MAX_DEPTH || self.parts > MAX_PARTS || again {
            self.comment(level, &format!("{name} again"));
            return;
        }
        let used = use_of.unwrap_or(node);
        let in_choice = std::mem::replace(&mut self.in_choice, false);
        let content = Content::of(self, node, of_type);
        for (name, values) in &content.enumerations {
            let what = match name {
                Some(name) => format!("@{name} is one of: {values}"),
                None => format!("one of: {values}"),
            };
            self.comment(level, &what);
        }
        let mut path = around.to_vec();
        let local = node.attribute("name").unwrap_or_default().to_owned();
        let many = is_many(used) && level > 0;
        let mut is_record = is_record && level == 0;
        if many && !self.has_records {
            self.has_records = true;
            is_record = true;
            self.line(level, "<?each?>");
        } else if level > 0 && !is_record {
            path.push(local.clone());
            if many {
                if let Some(last) = path.last_mut() {
                    last.push_str("[*]");
                }
                let list = path.join(".");
                self.line(level, &format!("<?each {list}?>"));
            } else if used.attribute("minOccurs") == Some("0") || in_choice {
                self.line(level, "<?optional?>");
            }
        }
        if is_record {
            path.clear();
        }
        let optional: Vec<&str> = content
            .attributes
            .iter()
            .filter(|(_, required, _)| !required)
            .map(|(name, ..)| name.as_str())
            .collect();
        if !optional.is_empty() {
            let names: Vec<String> = optional.iter().map(|name| format!("@{name}")).collect();
            self.line(level, &format!("<?optional {}?>", names.join(" ")));
        }
        let mut tag = format!("<{name}");
        if level == 0 {
            tag.push('\u{0}');
        }
        for (name, _, constant) in &content.attributes {
            let mut path = path.clone();
            path.push(name.rsplit(':').next().unwrap_or(name).to_owned());
            let value = constant.clone().unwrap_or_else(|| place(&path));
            let _ = write!(tag, " {name}=\"{value}\"");
        }
        if let (true, Some(parts)) = (content.is_complex, of_type) {
            self.open.push(parts.id());
            let before = self.out.len();
            self.line(level, &format!("{tag}>"));
            let inside = self.out.len();
            self.content(parts, &path, level + 1);
            if self.out.len() == inside {
                self.out.truncate(before);
                self.line(level, &format!("{tag}/>"));
            } else {
                self.line(level, &format!("</{name}>"));
            }
            self.open.pop();
        } else {
            if path.is_empty() {
                path.push(local);
            }
            let text = content.constant.clone().unwrap_or_else(|| place(&path));
            self.line(level, &format!("{tag}>{text}</{name}>"));
        }
        self.in_choice = in_choice;
    }

    /// Writes the elements of a type or group.
    fn content(&mut self, node: Node<'d, 'd>, around: &[String], level: usize) {
        if level > MAX_DEPTH {
            return;
        }
        for part in children(node) {
            match part.tag_name().name() {
                "element" => match self.declared("element", part) {
                    Some(declared) => self.element(declared, Some(part), around, level, false),
                    None => self.comment(level, "an element that the schema does not declare"),
                },
                "any" => self.comment(level, "any other elements"),
                "choice" => {
                    let elements = self.elements_of(part, level);
                    let names: Vec<&str> = elements
                        .iter()
                        .filter_map(|(node, _)| node.attribute("name").or(node.attribute("ref")))
                        .collect();
                    self.comment(level, &format!("one of the elements: {}", names.join(", ")));
                    let before = std::mem::replace(&mut self.in_choice, true);
                    self.content(part, around, level);
                    self.in_choice = before;
                }
                "sequence" | "all" | "complexContent" | "restriction" => {
                    self.content(part, around, level);
                }
                "extension" => {
                    let base = part.attribute("base");
                    let base =
                        base.and_then(|base| self.components.find("complexType", part, base));
                    if let Some(base) = base.filter(|base| !self.open.contains(&base.id())) {
                        self.open.push(base.id());
                        self.content(base, around, level);
                        self.open.pop();
                    }
                    self.content(part, around, level);
                }
                "group" => {
                    let group = self.declared("group", part);
                    if let Some(group) = group.filter(|group| !self.open.contains(&group.id())) {
                        self.open.push(group.id());
                        self.content(group, around, level);
                        self.open.pop();
                    }
                }
                _ => {}
            }
        }
    }
}

/// What an element has besides its elements.
struct Content {
    /// Names, whether they are required, and fixed values.
    attributes: Vec<(String, bool, Option<String>)>,
    /// The values that an attribute, or the element itself, can have.
    enumerations: Vec<(Option<String>, String)>,
    /// Elements are in it.
    is_complex: bool,
    /// The text that it always has.
    constant: Option<String>,
}

impl Content {
    fn of<'d>(
        sampler: &mut Sampler<'_, 'd>,
        element: Node<'d, 'd>,
        of_type: Option<Node<'d, 'd>>,
    ) -> Self {
        let fixed = |node: Node<'d, 'd>| {
            let value = node.attribute("fixed")?;
            Some(escaped(value).replace('{', "{{").replace('}', "}}"))
        };
        let mut content = Self {
            attributes: Vec::new(),
            enumerations: Vec::new(),
            is_complex: false,
            constant: fixed(element),
        };
        let Some(of_type) = of_type else {
            return content;
        };
        if of_type.has_tag_name((XSD, "simpleType")) {
            let values = enumeration(sampler, of_type, 0);
            content
                .enumerations
                .extend(values.map(|values| (None, values)));
            return content;
        }
        content.is_complex = child(of_type, "simpleContent").is_none();
        let mut attributes = Vec::new();
        attributes_of(sampler, of_type, 0, &mut attributes);
        for node in attributes {
            let Some(declared) = sampler.declared("attribute", node) else {
                let name = node.attribute("ref").unwrap_or_default().to_owned();
                if name.starts_with("xml:") {
                    content.attributes.push((
                        name,
                        node.attribute("use") == Some("required"),
                        None,
                    ));
                }
                continue;
            };
            if node.attribute("use") == Some("prohibited") {
                continue;
            }
            let is_top = declared
                .parent_element()
                .is_some_and(|p| p.has_tag_name((XSD, "schema")));
            let name = sampler.name_of(declared, is_top, true);
            let of_type = sampler.type_of(declared);
            let values = of_type.and_then(|of_type| enumeration(sampler, of_type, 0));
            content
                .enumerations
                .extend(values.map(|values| (Some(name.clone()), values)));
            let required = node.attribute("use") == Some("required");
            let constant = fixed(node).or_else(|| fixed(declared));
            if !content.attributes.iter().any(|(known, ..)| *known == name) {
                content.attributes.push((name, required, constant));
            }
        }
        content
    }
}

/// The attributes of a type, those of its base first.
fn attributes_of<'d>(
    sampler: &Sampler<'_, 'd>,
    node: Node<'d, 'd>,
    depth: usize,
    found: &mut Vec<Node<'d, 'd>>,
) {
    if depth > MAX_DEPTH {
        return;
    }
    for part in children(node) {
        match part.tag_name().name() {
            "attribute" => found.push(part),
            "attributeGroup" => {
                if let Some(group) = sampler.declared("attributeGroup", part) {
                    attributes_of(sampler, group, depth + 1, found);
                }
            }
            name @ ("complexContent" | "simpleContent" | "extension" | "restriction") => {
                if let (Some(base), "extension") = (part.attribute("base"), name)
                    && let Some(base) = sampler.components.find("complexType", part, base)
                {
                    attributes_of(sampler, base, depth + 1, found);
                }
                attributes_of(sampler, part, depth + 1, found);
            }
            _ => {}
        }
    }
}

/// The values of a simple type that lists them.
fn enumeration<'d>(sampler: &Sampler<'_, 'd>, node: Node<'d, 'd>, depth: usize) -> Option<String> {
    let restriction = child(node, "restriction").filter(|_| depth < MAX_DEPTH)?;
    let values: Vec<&str> = children(restriction)
        .filter(|facet| facet.tag_name().name() == "enumeration")
        .filter_map(|facet| facet.attribute("value"))
        .collect();
    if !values.is_empty() {
        return Some(values.join(", "));
    }
    let base = restriction.attribute("base")?;
    let base = sampler.components.find("simpleType", restriction, base)?;
    enumeration(sampler, base, depth + 1)
}
