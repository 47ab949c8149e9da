//! The part of a sheet, looked through and copied as a stream.

use std::collections::HashSet;
use std::io::{self, Write};

use quick_xml::Writer;
use quick_xml::escape::escape;
use quick_xml::events::{BytesStart, BytesText, Event};

use super::element::{Document, Element};
use super::styles::{RULE_STYLES, StyleMap};
use crate::package::Package;
use crate::xlsx::formula::{Reference, Renames, references};
use numerant_data::source::ReadProblem;
use numerant_markup::{Flow, attribute, plain_attribute, push_raw, push_reference};

/// What formulas must not lead to, because it is not in the copy.
#[derive(Clone, Debug, Default)]
pub(super) struct Gone {
    /// All sheets in order, in lower case, and whether each is gone.
    pub(super) sheets: Vec<(String, bool)>,
    /// Names of ranges and tables, in lower case.
    pub(super) names: HashSet<String>,
    /// No formula is to stay.
    pub(super) all: bool,
}

impl Gone {
    /// Whether a formula leads to something that is gone.
    pub(super) fn breaks(&self, formula: &str) -> bool {
        if self.names.is_empty() && !formula.contains('!') {
            return false;
        }
        let place = |name: &str| {
            let name = name.to_lowercase();
            self.sheets.iter().position(|(known, _)| *known == name)
        };
        let is_gone = |place: usize| self.sheets[place].1;
        references(formula).iter().any(|reference| match reference {
            Reference::Elsewhere => false,
            Reference::Name(name) => self.names.contains(&name.to_lowercase()),
            Reference::Sheets(first, None) => place(first).is_some_and(is_gone),
            Reference::Sheets(first, Some(last)) => match (place(first), place(last)) {
                (Some(first), Some(last)) => (first.min(last)..=first.max(last)).any(is_gone),
                _ => false,
            },
        })
    }
}

/// What is to be changed in a sheet.
#[derive(Clone, Debug, Default)]
pub(super) struct Edit {
    pub(super) gone: Gone,
    pub(super) renames: Renames,
    /// The numbers that styles have in the workbook that the sheet comes into.
    pub(super) styles: Option<StyleMap>,
    /// The numbers that shared texts have there.
    pub(super) strings: Option<Vec<u32>>,
    /// It is not to be the sheet that is shown first.
    pub(super) deselect: bool,
    /// Identifiers that lead to parts which are not in the copy: what leads by them is left out.
    pub(super) dangling: HashSet<String>,
}

impl Edit {
    fn changes_all(&self) -> bool {
        let numbers = self.styles.is_some() || self.strings.is_some();
        let lacks = !self.dangling.is_empty();
        self.gone.all || numbers || lacks || self.deselect || !self.renames.is_empty()
    }
}

/// What was found in a sheet.
#[derive(Debug, Default)]
pub(super) struct Scan {
    /// Formulas of cells that cannot stay.
    pub(super) formulas: u64,
    /// Those of them without a kept value.
    pub(super) without_value: u64,
    /// Rules (conditional formats, validations) that cannot stay as they are.
    pub(super) rules: u64,
    /// Shared formulas that cannot stay.
    groups: HashSet<String>,
}

/// What a sheet uses of what all sheets share.
#[derive(Clone, Debug, Default)]
pub(super) struct Uses {
    /// Texts.
    pub(super) strings: Used,
    /// Styles of cells, rows and columns.
    pub(super) styles: Used,
}

impl Scan {
    /// Whether the part can be carried over as it is.
    pub(super) fn is_untouched(&self, edit: &Edit) -> bool {
        self.formulas == 0 && self.rules == 0 && !edit.changes_all()
    }

    /// Looks through the part of a sheet, and adds what it uses to `uses`.
    pub(super) fn of(
        package: &Package,
        path: &str,
        gone: &Gone,
        uses: &mut Uses,
    ) -> Result<Self, ReadProblem> {
        let mut scan = Self::default();
        let mut cell = Cell::default();
        let mut text = String::new();
        let mut reads = Reads::Nothing;
        package.markup(path)?.pull(|event| {
            match event {
                Event::Start(tag) => match tag.local_name().as_ref() {
                    "row" => uses.styles.add_text(plain_attribute(&tag, "s").as_deref()),
                    "c" => {
                        uses.styles.add_text(plain_attribute(&tag, "s").as_deref());
                        cell = Cell {
                            is_open: true,
                            shared: plain_attribute(&tag, "t").as_deref() == Some("s"),
                            ..Cell::default()
                        };
                    }
                    "v" if cell.is_open => {
                        reads = Reads::Value;
                        text.clear();
                    }
                    "f" if cell.is_open => {
                        cell.group = group(&tag);
                        reads = Reads::Formula;
                        text.clear();
                    }
                    name if is_rule(name) || name == "f" => {
                        reads = Reads::Rule;
                        text.clear();
                    }
                    _ => {}
                },
                Event::Empty(tag) => match tag.local_name().as_ref() {
                    "row" | "c" => uses.styles.add_text(plain_attribute(&tag, "s").as_deref()),
                    "col" => uses
                        .styles
                        .add_text(plain_attribute(&tag, "style").as_deref()),
                    "f" if cell.is_open => {
                        cell.group = group(&tag);
                        cell.has_formula = true;
                    }
                    _ => {}
                },
                Event::Text(part) if reads != Reads::Nothing => text.push_str(&part.into_inner()),
                Event::GeneralRef(reference) if reads != Reads::Nothing => {
                    push_reference(&reference, &mut text)?;
                }
                Event::End(tag) => match tag.local_name().as_ref() {
                    "v" if reads == Reads::Value => {
                        reads = Reads::Nothing;
                        cell.has_value = true;
                        if cell.shared
                            && let Ok(number) = text.trim().parse()
                        {
                            uses.strings.add(number);
                        }
                    }
                    "is" => cell.has_value = true,
                    "f" if reads == Reads::Formula => {
                        reads = Reads::Nothing;
                        cell.has_formula = true;
                        cell.breaks = gone.breaks(&text);
                        if let (true, Some(group)) = (cell.breaks, &cell.group) {
                            scan.groups.insert(group.clone());
                        }
                    }
                    "c" => {
                        scan.take(&cell, gone.all);
                        cell = Cell::default();
                    }
                    _ if reads == Reads::Rule => {
                        reads = Reads::Nothing;
                        scan.rules += u64::from(gone.breaks(&text));
                    }
                    _ => {}
                },
                _ => {}
            }
            Ok(Flow::On)
        })?;
        Ok(scan)
    }

    fn take(&mut self, cell: &Cell, all: bool) {
        let of_group = |group: &String| self.groups.contains(group);
        let goes = cell.breaks || all || cell.group.as_ref().is_some_and(of_group);
        if cell.has_formula && goes {
            self.formulas += 1;
            self.without_value += u64::from(!cell.has_value);
        }
    }

    /// Copies the part, with values in the place of formulas that cannot stay, and `#REF!` in rules.
    pub(super) fn copy(
        &self,
        package: &Package,
        path: &str,
        edit: &Edit,
        out: &mut dyn Write,
    ) -> io::Result<()> {
        let held = HeldOutput { out, held: None };
        let mut writer = Writer::new(held);
        // The cell or rule that is being read, which is written when it is complete.
        let mut kept: Option<Kept> = None;
        let mut depth = 0_u32;
        package.visit(path, &mut |event| {
            match &event {
                Event::Start(tag) => {
                    depth += 1;
                    if depth == 2
                        && !edit.dangling.is_empty()
                        && tag.local_name().as_ref() != "sheetData"
                    {
                        writer.get_mut().held = Some(Vec::new());
                    }
                }
                Event::Empty(tag) if depth == 1 && !edit.dangling.is_empty() => {
                    let tag = edit.tag(tag);
                    let alone = format!("<{}/>", tag.as_ref());
                    return writer.get_mut().write_whole(alone.into_bytes(), path, edit);
                }
                Event::End(_) => depth = depth.saturating_sub(1),
                _ => {}
            }
            let is_whole = depth == 1 && matches!(event, Event::End(_));
            self.copy_event(event, &mut kept, edit, &mut writer)?;
            match writer.get_mut().held.take_if(|_| is_whole) {
                Some(element) => writer.get_mut().write_whole(element, path, edit),
                None => Ok(()),
            }
        })
    }

    fn copy_event<W: Write>(
        &self,
        event: Event<'_>,
        kept: &mut Option<Kept>,
        edit: &Edit,
        writer: &mut Writer<W>,
    ) -> io::Result<()> {
        // In extensions the formula of a rule is an element within it.
        let is_nested = |open: &mut Kept| open.name != "c" && matches!(event, Event::Start(_));
        if let Some(outer) = kept.take_if(is_nested) {
            let mut events = outer.events.into_iter();
            events.try_for_each(|event| writer.write_event(event))?;
        }
        if let Some(open) = kept {
            let is_end =
                matches!(&event, Event::End(tag) if tag.local_name().as_ref() == open.name);
            open.take(&event)?;
            if is_end && let Some(done) = kept.take() {
                return self.write(done, edit, writer);
            }
            return Ok(());
        }
        match event {
            Event::Start(tag) => {
                let name = tag.local_name();
                if matches!(name.as_ref(), "c" | "f") || is_rule(name.as_ref()) {
                    let mut open = Kept {
                        name: name.as_ref().to_owned(),
                        ..Kept::default()
                    };
                    open.take(&Event::Start(edit.tag(&tag)))?;
                    *kept = Some(open);
                    return Ok(());
                }
                writer.write_event(Event::Start(edit.tag(&tag)))
            }
            Event::Empty(tag) => writer.write_event(Event::Empty(edit.tag(&tag))),
            event => writer.write_event(event),
        }
    }

    fn write<W: Write>(&self, kept: Kept, edit: &Edit, writer: &mut Writer<W>) -> io::Result<()> {
        let gone = &edit.gone;
        let breaks = gone.breaks(&kept.formula);
        let renamed = if breaks {
            None
        } else {
            edit.renames.apply(&kept.formula)
        };
        if kept.name != "c" {
            let mut events = kept.events.into_iter();
            let text = match (breaks, renamed) {
                (true, _) => "#REF!".to_owned(),
                (false, Some(renamed)) => renamed,
                (false, None) => return events.try_for_each(|event| writer.write_event(event)),
            };
            let (Some(start), Some(end)) = (events.next(), events.next_back()) else {
                return Ok(());
            };
            writer.write_event(start)?;
            writer.write_event(Event::Text(BytesText::from_escaped(escape(text.as_str()))))?;
            return writer.write_event(end);
        }
        let of_group = |group: &String| self.groups.contains(group);
        let goes =
            kept.has_formula && (breaks || gone.all || kept.group.as_ref().is_some_and(of_group));
        let number = edit
            .strings
            .as_ref()
            .filter(|_| kept.shared)
            .and_then(|strings| {
                let number: usize = kept.value.trim().parse().ok()?;
                Some(strings.get(number).copied().unwrap_or(0).to_string())
            });
        // The text that takes the place of all that is in the open element.
        let (mut inside_formula, mut instead): (bool, Option<String>) = (false, None);
        for event in kept.events {
            match &event {
                Event::Start(tag) => match tag.local_name().as_ref() {
                    "f" => {
                        inside_formula = true;
                        instead.clone_from(&renamed);
                        if goes {
                            continue;
                        }
                    }
                    "v" => instead.clone_from(&number),
                    "c" if goes => {
                        writer.write_event(Event::Start(without_array(tag)))?;
                        continue;
                    }
                    _ => {}
                },
                Event::End(tag) => {
                    let is_formula = tag.local_name().as_ref() == "f";
                    if is_formula {
                        inside_formula = false;
                    }
                    let text = instead.take();
                    if goes && is_formula {
                        continue;
                    }
                    if let Some(text) = text {
                        let text = BytesText::from_escaped(escape(text.as_str()));
                        writer.write_event(Event::Text(text))?;
                    }
                }
                Event::Empty(tag) if goes && tag.local_name().as_ref() == "f" => continue,
                _ if (goes && inside_formula) || instead.is_some() => continue,
                _ => {}
            }
            writer.write_event(event)?;
        }
        Ok(())
    }
}

impl Edit {
    /// A tag with what is to be changed in it.
    fn tag<'t>(&self, tag: &BytesStart<'t>) -> BytesStart<'t> {
        let name = tag.local_name();
        let name = name.as_ref();
        let style = match name {
            "c" | "row" => "s",
            "col" => "style",
            _ => "",
        };
        let of = |attribute: &str, value: &str| -> Option<Option<String>> {
            let map = self.styles.as_ref();
            let number = || value.parse::<usize>().ok();
            if attribute == style {
                let new = map?.cells.get(number()?).copied().unwrap_or(0);
                return Some(Some(new.to_string()));
            }
            match attribute {
                // What says more of a cell is in a part of its own workbook.
                "cm" | "vm" if name == "c" && map.is_some() => Some(None),
                "theme" => {
                    let colors = map?.colors.as_ref()?;
                    Some(Some(colors.opaque(value)?))
                }
                "tabSelected" if self.deselect => Some(None),
                "location" if name == "hyperlink" => {
                    let text = quick_xml::escape::unescape(value).ok()?;
                    let new = self.renames.apply(&text)?;
                    Some(Some(escape(new.as_str()).into_owned()))
                }
                attribute if RULE_STYLES.contains(&attribute) => {
                    let new = map?.rules.get(number()?);
                    Some(new.map(u32::to_string))
                }
                _ => None,
            }
        };
        let mut attributes = tag.attributes();
        let attributes = attributes.with_checks(false).flatten();
        let mut has_style = false;
        let attributes = attributes.inspect(|attribute| has_style |= attribute.key.as_ref() == "s");
        let changed: Vec<(String, Option<String>)> = attributes
            .filter_map(|attribute| {
                let key = attribute.key.as_ref();
                Some((key.to_owned(), of(key, attribute.value.as_ref())?))
            })
            .collect();
        // A cell that names no style has the first of its workbook.
        let first = self.styles.as_ref().and_then(|map| map.cells.first());
        let first = first.filter(|first| **first > 0 && name == "c" && !has_style);
        if changed.is_empty() && first.is_none() {
            return tag.clone();
        }
        let mut new = BytesStart::new(tag.name().as_ref().to_owned());
        for attribute in tag.attributes().with_checks(false).flatten() {
            let key = attribute.key.as_ref();
            match changed.iter().find(|(changed, _)| changed == key) {
                None => push_raw(&mut new, key, &attribute.value),
                Some((_, None)) => {}
                // A colour of the theme is written out.
                Some((_, Some(value))) if key == "theme" => push_raw(&mut new, "rgb", value),
                Some((_, Some(value))) => push_raw(&mut new, key, value),
            }
        }
        if let Some(first) = first {
            push_raw(&mut new, "s", &first.to_string());
        }
        new
    }
}

/// Where a sheet is written, or the element below its root that is being read, which is pruned before
/// it is written.
struct HeldOutput<'a> {
    out: &'a mut dyn Write,
    held: Option<Vec<u8>>,
}

impl HeldOutput<'_> {
    /// Writes an element without what leads to parts that are not there.
    fn write_whole(&mut self, element: Vec<u8>, part: &str, edit: &Edit) -> io::Result<()> {
        let document = Document::parse(element, part).map_err(io::Error::other)?;
        let mut sheet = Element::alone("worksheet");
        sheet.push(document.root);
        sheet.drop_dangling(&|id| !edit.dangling.contains(id));
        let mut left = sheet.elements();
        left.try_for_each(|element| self.out.write_all(element.to_text().as_bytes()))
    }
}

impl Write for HeldOutput<'_> {
    fn write(&mut self, bytes: &[u8]) -> io::Result<usize> {
        match &mut self.held {
            Some(held) => held.write(bytes),
            None => self.out.write(bytes),
        }
    }

    fn flush(&mut self) -> io::Result<()> {
        self.out.flush()
    }
}

/// Words of bits that tell which entries of a list are used, at most.
const MOST_NUMBERED: usize = 1 << 24;

/// The numbers of what is used in a list.
#[derive(Clone, Debug, Default)]
pub(super) struct Used(Vec<u64>);

impl Used {
    fn add_text(&mut self, number: Option<&str>) {
        if let Some(number) = number.and_then(|number| number.parse().ok()) {
            self.add(number);
        }
    }

    fn add(&mut self, number: usize) {
        let (word, bit) = (number / 64, number % 64);
        // A list cannot be that long: the file is damaged, which is reported where the list is read.
        if word > MOST_NUMBERED {
            return;
        }
        if self.0.len() <= word {
            self.0.resize(word + 1, 0);
        }
        self.0[word] |= 1 << bit;
    }

    pub(super) fn has(&self, number: usize) -> bool {
        let word = self.0.get(number / 64).copied().unwrap_or(0);
        word & (1 << (number % 64)) != 0
    }
}

/// A cell that is being looked at.
#[derive(Debug, Default)]
struct Cell {
    is_open: bool,
    /// Its value is the number of a shared text.
    shared: bool,
    has_formula: bool,
    has_value: bool,
    breaks: bool,
    /// The shared formula that it has.
    group: Option<String>,
}

#[derive(Clone, Copy, PartialEq, Eq)]
enum Reads {
    Nothing,
    Value,
    Formula,
    Rule,
}

/// A cell or rule that is kept until it is complete.
#[derive(Default)]
struct Kept {
    name: String,
    events: Vec<Event<'static>>,
    formula: String,
    has_formula: bool,
    group: Option<String>,
    reads: bool,
    /// What is in the cell is the number of a shared text.
    shared: bool,
    value: String,
    reads_value: bool,
}

impl Kept {
    fn take(&mut self, event: &Event<'_>) -> io::Result<()> {
        let is_formula = |name: &str| name == "f" || is_rule(name);
        match event {
            Event::Start(tag) if is_formula(tag.local_name().as_ref()) => {
                self.reads = true;
                self.has_formula = true;
                self.group = group(tag);
            }
            Event::Empty(tag) if is_formula(tag.local_name().as_ref()) => {
                self.has_formula = true;
                self.group = group(tag);
            }
            Event::End(tag) if is_formula(tag.local_name().as_ref()) => self.reads = false,
            Event::Start(tag) if tag.local_name().as_ref() == "c" => {
                self.shared = plain_attribute(tag, "t").as_deref() == Some("s");
            }
            Event::Start(tag) if tag.local_name().as_ref() == "v" => self.reads_value = true,
            Event::End(tag) if tag.local_name().as_ref() == "v" => self.reads_value = false,
            Event::Text(text) if self.reads_value => {
                self.value.push_str(&text.clone().into_inner());
            }
            Event::Text(text) if self.reads => {
                self.formula.push_str(&text.clone().into_inner());
            }
            Event::GeneralRef(reference) if self.reads => {
                push_reference(reference, &mut self.formula).map_err(io::Error::other)?;
            }
            _ => {}
        }
        self.events.push(event.clone().into_owned());
        Ok(())
    }
}

/// Whether an element outside of cells holds a formula: of a conditional format or a validation.
/// Those in extensions are called `f`, as those of cells are.
fn is_rule(name: &str) -> bool {
    matches!(name, "formula" | "formula1" | "formula2")
}

/// The number of a shared formula.
fn group(tag: &BytesStart<'_>) -> Option<String> {
    let shared = plain_attribute(tag, "t").as_deref() == Some("shared");
    attribute(tag, "si").filter(|_| shared)
}

/// A cell's tag without what says that its value fills further cells.
fn without_array(tag: &BytesStart<'_>) -> BytesStart<'static> {
    let mut plain = BytesStart::new(tag.name().as_ref().to_owned());
    for attribute in tag.attributes().with_checks(false).flatten() {
        let key = attribute.key.as_ref();
        if key != "cm" {
            push_raw(&mut plain, key, &attribute.value);
        }
    }
    plain.into_owned()
}
