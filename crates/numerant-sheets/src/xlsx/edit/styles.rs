//! The styles of a workbook (ECMA-376 Part 1, 18.8): those of others are added, equal ones once, and
//! further number formats are given to styles that are there.

use numerant_data::narrow::to_u32;
use std::collections::HashMap;

use super::SMALL;
use super::element::{Document, Element, Node};
use super::sheet::Used;
use crate::color::{of_digits, of_palette, tinted};
use crate::package::Package;
use numerant_data::source::ReadProblem;
use numerant_format::sheet::Rgb;

/// Number formats from this number on are a workbook's own.
const OWN_FORMATS: u32 = 164;

/// Styles that a workbook may have.
const MOST_STYLES: usize = 65_490;

/// What the styles of cells are made of, each in a list of its own.
const PIECES: [(&str, &str); 3] = [
    ("fonts", "fontId"),
    ("fills", "fillId"),
    ("borders", "borderId"),
];

/// The parts of a table of styles, in their order (18.8.39).
const ORDER: [&str; 10] = [
    "numFmts",
    "fonts",
    "fills",
    "borders",
    "cellStyleXfs",
    "cellXfs",
    "cellStyles",
    "dxfs",
    "tableStyles",
    "colors",
];

/// The styles of a workbook that has none, as programs show its cells.
pub(super) const PLAIN_STYLES: &str = "<?xml version=\"1.0\" encoding=\"UTF-8\" standalone=\"yes\"?>\n\
     <styleSheet xmlns=\"http://schemas.openxmlformats.org/spreadsheetml/2006/main\">\
     <fonts count=\"1\"><font><sz val=\"11\"/><name val=\"Calibri\"/><family val=\"2\"/></font></fonts>\
     <fills count=\"2\"><fill><patternFill patternType=\"none\"/></fill>\
     <fill><patternFill patternType=\"gray125\"/></fill></fills>\
     <borders count=\"1\"><border><left/><right/><top/><bottom/><diagonal/></border></borders>\
     <cellStyleXfs count=\"1\"><xf numFmtId=\"0\" fontId=\"0\" fillId=\"0\" borderId=\"0\"/></cellStyleXfs>\
     <cellXfs count=\"1\"><xf numFmtId=\"0\" fontId=\"0\" fillId=\"0\" borderId=\"0\" xfId=\"0\"/></cellXfs>\
     <cellStyles count=\"1\"><cellStyle name=\"Normal\" xfId=\"0\" builtinId=\"0\"/></cellStyles>\
     </styleSheet>";

/// The styles of a workbook, to be added to.
#[derive(Clone, Debug)]
pub(super) struct Styles {
    document: Document,
    prefix: String,
    /// The places of the entries of each list, by what they are.
    known: HashMap<&'static str, HashMap<String, u32>>,
    lengths: HashMap<&'static str, u32>,
    /// The numbers of the workbook's own number formats, by what they are.
    formats: HashMap<String, u32>,
    next_format: u32,
    changed: bool,
}

/// What the styles of another workbook have become.
#[derive(Clone, Debug, Default)]
pub(super) struct StyleMap {
    /// Those of cells.
    pub(super) cells: Vec<u32>,
    /// Those of rules.
    pub(super) rules: Vec<u32>,
    /// Colours that are written out, as the theme has others.
    pub(super) colors: Option<Colors>,
}

/// The colours and fonts of a theme (20.1.6.2).
#[derive(Clone, Debug, PartialEq, Eq, Default)]
pub(in crate::xlsx) struct Colors {
    colors: Vec<String>,
    fonts: Vec<String>,
}

impl Colors {
    pub(in crate::xlsx) fn read(package: &Package, path: &str) -> Result<Self, ReadProblem> {
        let mut theme = Self::default();
        let Some(bytes) = package.bytes(path, SMALL)? else {
            return Ok(theme);
        };
        let mut document = Document::parse(bytes, path)?;
        // The order in which styles count them.
        let names = [
            "lt1", "dk1", "lt2", "dk2", "accent1", "accent2", "accent3", "accent4", "accent5",
            "accent6", "hlink", "folHlink",
        ];
        theme.colors = vec![String::new(); names.len()];
        document.root.walk_mut(&mut |element| {
            if let Some(place) = names.iter().position(|name| *name == element.name())
                && let Some(color) = element.elements().next()
            {
                let value = color
                    .attribute("lastClr")
                    .or_else(|| color.attribute("val"));
                theme.colors[place] = value.unwrap_or_default();
            }
            if matches!(element.name(), "majorFont" | "minorFont") {
                let latin = element.elements().find(|font| font.name() == "latin");
                theme
                    .fonts
                    .extend(latin.and_then(|font| font.attribute("typeface")));
            }
        });
        Ok(theme)
    }

    /// The color of an element by its attributes, after 18.8.3.
    pub(in crate::xlsx) fn color(&self, attribute: impl Fn(&str) -> Option<String>) -> Option<Rgb> {
        let color = if let Some(digits) = attribute("rgb") {
            of_digits(&digits)?
        } else if let Some(place) = attribute("theme") {
            of_digits(&self.opaque(&place)?)?
        } else {
            of_palette(attribute("indexed")?.trim().parse().ok()?)?
        };
        let tint = attribute("tint").and_then(|text| text.trim().parse().ok());
        Some(tinted(color, tint.unwrap_or(0.0)))
    }

    /// The colour with a number, as opaque.
    pub(in crate::xlsx) fn opaque(&self, number: &str) -> Option<String> {
        let color = self.colors.get(number.parse::<usize>().ok()?)?;
        (color.len() == 6).then(|| format!("FF{color}"))
    }
}

impl Styles {
    pub(super) fn parse(bytes: Vec<u8>, path: &str) -> Result<Self, ReadProblem> {
        let document = Document::parse(bytes, path)?;
        let prefix = document.root.prefix().to_owned();
        let mut styles = Self {
            document,
            prefix,
            known: HashMap::new(),
            lengths: HashMap::new(),
            formats: HashMap::new(),
            next_format: OWN_FORMATS,
            changed: false,
        };
        for list in [
            "fonts",
            "fills",
            "borders",
            "cellStyleXfs",
            "cellXfs",
            "dxfs",
        ] {
            let entries = styles.list(list);
            styles.lengths.insert(list, to_u32(entries.len()));
            let mut known = HashMap::new();
            for (place, entry) in entries.iter().enumerate() {
                known
                    .entry(entry.plain("").to_text())
                    .or_insert(to_u32(place));
            }
            styles.known.insert(list, known);
        }
        for format in styles.list("numFmts") {
            let number = number(&format, "numFmtId");
            let code = format.attribute("formatCode").unwrap_or_default();
            styles.formats.entry(code).or_insert(number);
            styles.next_format = styles.next_format.max(number + 1);
        }
        Ok(styles)
    }

    pub(super) fn is_changed(&self) -> bool {
        self.changed
    }

    pub(super) fn into_bytes(self) -> Vec<u8> {
        self.document.into_bytes()
    }

    fn list(&self, name: &str) -> Vec<Element> {
        let list = self
            .document
            .root
            .elements()
            .find(|list| list.name() == name);
        let entries = list.map(|list| list.elements().cloned().collect());
        entries.unwrap_or_default()
    }

    /// Whether numbers with a style are shown as they come.
    pub(super) fn is_general(&self, style: u32) -> bool {
        let list = self
            .document
            .root
            .elements()
            .find(|list| list.name() == "cellXfs");
        let entry = list.and_then(|list| list.elements().nth(style as usize));
        entry.is_none_or(|entry| number(entry, "numFmtId") == 0)
    }

    /// The style `base` with another number format.
    pub(super) fn with_format(&mut self, base: u32, code: &str) -> u32 {
        let entries = self
            .document
            .root
            .elements()
            .find(|list| list.name() == "cellXfs");
        let entry = entries.and_then(|list| list.elements().nth(base as usize));
        let mut entry = entry.cloned().unwrap_or_else(|| Element::alone("xf"));
        let format = self.format(code);
        entry.set_attribute("numFmtId", Some(&format.to_string()));
        entry.set_attribute("applyNumberFormat", Some("1"));
        let prefix = self.prefix.clone();
        self.add("cellXfs", entry.plain(&prefix))
    }

    /// The number of a format that is given by its code.
    fn format(&mut self, code: &str) -> u32 {
        if let Some((number, _)) = BUILT_IN.iter().find(|(_, known)| *known == code) {
            return *number;
        }
        if let Some(known) = self.formats.get(code) {
            return *known;
        }
        let number = self.next_format;
        self.next_format += 1;
        self.formats.insert(code.to_owned(), number);
        let mut format = Element::alone(format!("{}numFmt", self.prefix));
        format.set_attribute("numFmtId", Some(&number.to_string()));
        format.set_attribute("formatCode", Some(code));
        self.push("numFmts", format);
        number
    }

    /// The place of an entry in a list, where it is put if it is not there.
    fn add(&mut self, list: &'static str, entry: Element) -> u32 {
        let known = self.known.entry(list).or_default();
        let key = entry.plain("").to_text();
        if let Some(place) = known.get(&key) {
            return *place;
        }
        let length = self.lengths.entry(list).or_default();
        let place = *length;
        *length += 1;
        known.insert(key, place);
        self.push(list, entry);
        place
    }

    fn push(&mut self, list: &str, entry: Element) {
        self.changed = true;
        let prefix = self.prefix.clone();
        let list = self.document.root.child_in_order(list, &ORDER, &prefix);
        list.push(entry);
        let count = list.elements().count().to_string();
        list.set_attribute("count", Some(&count));
    }

    /// Adds the styles of another workbook that are used; `from` are the colours of its theme, where it
    /// is another one.
    pub(super) fn graft(
        &mut self,
        other: &Self,
        used: &Used,
        from: Option<Colors>,
    ) -> Result<StyleMap, ReadProblem> {
        let mut map = StyleMap {
            colors: from,
            ..StyleMap::default()
        };
        let mut codes: HashMap<u32, String> = HashMap::new();
        for format in other.list("numFmts") {
            let code = format.attribute("formatCode").unwrap_or_default();
            codes.insert(number(&format, "numFmtId"), code);
        }
        let mut pieces: Vec<Vec<Element>> = Vec::new();
        for (list, _) in PIECES {
            let entries = other.list(list).into_iter();
            pieces.push(
                entries
                    .map(|entry| map.plain(&entry, &self.prefix))
                    .collect(),
            );
        }
        let parents = other.list("cellStyleXfs");
        let names = other.list("cellStyles");
        let mut changed_parents: HashMap<u32, u32> = HashMap::new();
        let list = other.list("cellXfs");
        for (place, entry) in list.iter().enumerate() {
            if place > 0 && !used.has(place) {
                map.cells.push(0);
                continue;
            }
            let mut new = map.plain(entry, &self.prefix);
            self.settle(&mut new, &codes, &pieces);
            let parent = number(entry, "xfId");
            let parent = match changed_parents.get(&parent) {
                Some(known) => *known,
                None => {
                    let new = self.parent(parent, &parents, &names, &codes, &pieces, &map);
                    changed_parents.insert(parent, new);
                    new
                }
            };
            new.set_attribute("xfId", Some(&parent.to_string()));
            let place = self.add("cellXfs", new);
            map.cells.push(place);
            if place as usize >= MOST_STYLES {
                return Err(ReadProblem::Damaged {
                    what: format!("the workbooks have more than {MOST_STYLES} styles together"),
                });
            }
        }
        for entry in other.list("dxfs") {
            let mut new = map.plain(&entry, &self.prefix);
            if let Some(format) = new.child_mut("numFmt") {
                let code = format.attribute("formatCode").unwrap_or_default();
                let own = number(format, "numFmtId") >= OWN_FORMATS;
                if own {
                    let number = self.format(&code).to_string();
                    format.set_attribute("numFmtId", Some(&number));
                }
            }
            map.rules.push(self.add("dxfs", new));
        }
        self.table_styles(other, &map);
        Ok(map)
    }

    /// Gives an entry the numbers that its font, fill, border and number format have here.
    fn settle(
        &mut self,
        entry: &mut Element,
        codes: &HashMap<u32, String>,
        pieces: &[Vec<Element>],
    ) {
        for ((list, attribute), entries) in PIECES.into_iter().zip(pieces) {
            let piece = entries.get(number(entry, attribute) as usize).cloned();
            let place = piece.map_or(0, |piece| self.add(list, piece));
            entry.set_attribute(attribute, Some(&place.to_string()));
        }
        let format = number(entry, "numFmtId");
        if let Some(code) = codes.get(&format).filter(|_| format >= OWN_FORMATS) {
            let format = self.format(code).to_string();
            entry.set_attribute("numFmtId", Some(&format));
        }
    }

    /// The named style that a style is made from: one of its name if there is one here, else it is
    /// added.
    fn parent(
        &mut self,
        parent: u32,
        parents: &[Element],
        names: &[Element],
        codes: &HashMap<u32, String>,
        pieces: &[Vec<Element>],
        map: &StyleMap,
    ) -> u32 {
        let named = names.iter().find(|name| number(name, "xfId") == parent);
        let (Some(named), Some(entry)) = (named, parents.get(parent as usize)) else {
            return 0;
        };
        let name = named.attribute("name").unwrap_or_default();
        let own = self.list("cellStyles");
        let known = own.iter().find(|style| {
            let other = style.attribute("name").unwrap_or_default();
            other.eq_ignore_ascii_case(&name)
        });
        if let Some(known) = known {
            return number(known, "xfId");
        }
        let mut new = map.plain(entry, &self.prefix);
        self.settle(&mut new, codes, pieces);
        // Two names must not share an entry, so it is not looked for among those that are there.
        let place = self.lengths.get("cellStyleXfs").copied().unwrap_or(0);
        self.lengths.insert("cellStyleXfs", place + 1);
        self.push("cellStyleXfs", new);
        let mut named = named.plain(&self.prefix);
        named.set_attribute("xfId", Some(&place.to_string()));
        self.push("cellStyles", named);
        place
    }

    /// Adds the workbook's own styles of tables.
    fn table_styles(&mut self, other: &Self, map: &StyleMap) {
        let known: Vec<String> = self
            .list("tableStyles")
            .iter()
            .filter_map(|style| style.attribute("name"))
            .collect();
        for style in other.list("tableStyles") {
            let name = style.attribute("name").unwrap_or_default();
            if known.contains(&name) {
                continue;
            }
            let mut new = style.plain(&self.prefix);
            for element in new.elements_mut() {
                map.set_rule(element);
            }
            self.push("tableStyles", new);
        }
    }
}

impl StyleMap {
    /// An entry in the form in which it is added.
    fn plain(&self, entry: &Element, prefix: &str) -> Element {
        let mut plain = entry.plain(prefix);
        let Some(colors) = &self.colors else {
            return plain;
        };
        plain.walk_mut(&mut |element| {
            if let Some(color) = element
                .attribute("theme")
                .and_then(|number| colors.opaque(&number))
            {
                element.set_attribute("theme", None);
                element.set_attribute("rgb", Some(&color));
            }
            // The font is named besides.
            element.retain(|child| child.name() != "scheme");
        });
        plain
    }

    /// Gives an element of a table or rule the number that its style has here.
    pub(super) fn set_rule(&self, element: &mut Element) {
        for attribute in RULE_STYLES {
            let Some(number) = element.attribute(attribute) else {
                continue;
            };
            let new = number
                .parse()
                .ok()
                .and_then(|number: usize| self.rules.get(number));
            element.set_attribute(attribute, new.map(u32::to_string).as_deref());
        }
    }
}

/// Attributes that name a style of rules.
pub(super) const RULE_STYLES: [&str; 7] = [
    "dxfId",
    "headerRowDxfId",
    "dataDxfId",
    "totalsRowDxfId",
    "headerRowBorderDxfId",
    "tableBorderDxfId",
    "totalsRowBorderDxfId",
];

fn number(element: &Element, attribute: &str) -> u32 {
    let text = element.attribute(attribute);
    text.and_then(|text| text.parse().ok()).unwrap_or(0)
}

/// Number formats that every workbook has (18.8.30) and that are written here.
const BUILT_IN: [(u32, &str); 5] = [
    (0, "General"),
    (1, "0"),
    (2, "0.00"),
    (14, "mm-dd-yy"),
    (49, "@"),
];

impl Element {
    /// The element with names of one prefix, and without what extensions have added.
    pub(super) fn plain(&self, prefix: &str) -> Self {
        let mut plain = Self::alone(format!("{prefix}{}", self.name()));
        for (name, value) in self.attributes() {
            if !name.contains(':') && name != "xmlns" {
                plain.set_attribute(&name, Some(&value));
            }
        }
        let children = self.elements().filter(|child| child.name() != "extLst");
        for child in children {
            plain.children.push(Node::Element(child.plain(prefix)));
        }
        if !plain.children.is_empty() {
            plain.open();
        }
        plain
    }
}
