//! Fills the places of a shape in.

use std::cell::{Cell, RefCell};
use std::collections::{BTreeSet, HashMap, HashSet};
use std::ops::Range;

use super::super::output_text;
use super::super::parts::{Each, Escape, Item, Member, Over, Piece, Value, When};
use super::super::word::{Placeholder, ShapeWord, computed_name};
use super::rows::{Filled, Rows};
use super::scope::{Scope, stands_for};
use super::{ShapeEncoder, line_of};
use numerant_data::record::{At, Blank};
use numerant_data::tree::push_json_text;
use numerant_data::value::{Moment, Number};
use numerant_format::{ControlCharacters, EncodeError};
use numerant_markup::{is_allowed, push_escaped};
use numerant_naming::{OutputFacts, OutputField, Part};

/// What was filled in so far: places of records, and those of them that were not blank.
#[derive(Clone, Copy, Debug, Default)]
pub(super) struct Tally {
    places: usize,
    full: usize,
}

/// How far a list of JSON is.
#[derive(Clone, Copy, Debug, Default)]
struct ListState {
    /// It has items.
    any: bool,
    /// The latest part with a condition is there.
    chosen: bool,
}

/// Fills a shape in.
pub(super) struct Filler<'a> {
    pub(super) encoder: &'a ShapeEncoder,
    pub(super) rows: &'a dyn Rows,
    pub(super) facts: Option<&'a OutputFacts>,
    /// Where the part that repeats would stand, if it is not to be filled in.
    pub(super) split: Option<Cell<usize>>,
    /// The parts of records that are alone in one, and which those are.
    pub(super) placed: RefCell<Vec<(Range<usize>, u32)>>,
    pub(super) tally: Cell<Tally>,
}

impl Filler<'_> {
    fn count(&self, full: bool) {
        let Tally {
            places,
            full: before,
        } = self.tally.get();
        self.tally.set(Tally {
            places: places + 1,
            full: before + usize::from(full),
        });
    }

    /// The value of a column in a record; blank if there is no such column.
    pub(super) fn value_of(&self, column: &str, row: u32) -> Result<Filled, EncodeError> {
        match self.encoder.places.get(column) {
            Some(place) => self.rows.value(row, *place),
            None => Ok(Filled::Blank(None)),
        }
    }

    /// The number that a value is.
    pub(super) fn number(&self, text: &[u8]) -> Option<Number> {
        Number::parse(text).or_else(|| self.encoder.form.cells.number(text).ok())
    }

    /// The date or time that a value is.
    pub(super) fn moment(&self, text: &[u8]) -> Option<Moment> {
        self.encoder.form.cells.moment(text)
    }

    /// The value of a column, the same for all records in `scope`.
    fn value(
        &self,
        name: &str,
        scope: &Scope<'_>,
        place: &Placeholder,
    ) -> Result<Filled, EncodeError> {
        let name = scope.column(name);
        let Some((first, others)) = scope.rows.split_first() else {
            return Ok(Filled::Blank(None));
        };
        let value = self.value_of(&name, *first)?;
        for other in others {
            if self.value_of(&name, *other)? != value {
                return Err(EncodeError::NotOne {
                    at: self.rows.at(*other),
                    wanted: place.wanted(),
                    line: place.line,
                });
            }
        }
        Ok(value)
    }

    /// What a word represents, with the type of a single value.
    fn word(
        &self,
        word: &ShapeWord,
        scope: &Scope<'_>,
        place: &Placeholder,
    ) -> Result<Filled, EncodeError> {
        let filled = match word {
            ShapeWord::Literal(text) => return Ok(Filled::Text(text.as_bytes().to_vec())),
            ShapeWord::Number => return Ok(Filled::Literal(scope.number.to_string().into_bytes())),
            ShapeWord::Output(OutputField::Rows) if scope.grouped.is_some() => {
                let records = scope.grouped.unwrap_or_default();
                return Ok(Filled::Literal(records.to_string().into_bytes()));
            }
            ShapeWord::Aggregate(aggregate) => self.aggregate(aggregate, scope, place)?,
            ShapeWord::Output(field) => {
                let text = output_text(*field, self.facts).into_bytes();
                let number = text.iter().all(u8::is_ascii_digit) && !text.is_empty();
                return Ok(if number {
                    Filled::Literal(text)
                } else {
                    Filled::Text(text)
                });
            }
            ShapeWord::Expression(text) => self.value(&computed_name(text), scope, place)?,
            ShapeWord::Column(key) => {
                let value = self.value(&key.column, scope, place)?;
                match (&key.part, value) {
                    (Part::Whole, value) => value,
                    (part, Filled::Text(text) | Filled::Literal(text)) => {
                        let mut out = String::new();
                        part.of(&text, &self.encoder.form.cells, &mut out)
                            .map_err(|problem| EncodeError::Part {
                                at: self.rows.at(scope.rows[0]),
                                column: key.column.clone(),
                                problem: problem.to_string(),
                            })?;
                        Filled::Text(out.into_bytes())
                    }
                    (_, value) => value,
                }
            }
        };
        self.count(!matches!(filled, Filled::Blank(_)));
        Ok(filled)
    }

    /// The text of a place.
    fn text(&self, place: &Placeholder, scope: &Scope<'_>) -> Result<String, EncodeError> {
        let mut text = Vec::new();
        for word in &place.words {
            match self.word(word, scope, place)? {
                Filled::Blank(_) => {}
                Filled::Text(more) | Filled::Literal(more) | Filled::Json(more) => {
                    text.extend_from_slice(&more);
                }
            }
        }
        Ok(String::from_utf8_lossy(&text).into_owned())
    }

    /// Fills a part in for each record, group or item that it repeats for, in the order of first
    /// appearance.
    fn each<P>(
        &self,
        each: &Each<P>,
        scope: &Scope<'_>,
        out: &mut Vec<u8>,
        mut fill: impl FnMut(&P, &Scope<'_>, &mut Vec<u8>) -> Result<(), EncodeError>,
    ) -> Result<(), EncodeError> {
        match &each.over {
            Over::Records => {
                for (row, number) in scope.rows.iter().zip(1..) {
                    let rows = std::slice::from_ref(row);
                    let place = self.placed.borrow().len();
                    self.placed.borrow_mut().push((out.len()..out.len(), *row));
                    fill(
                        &each.body,
                        &Scope {
                            rows,
                            number,
                            ..*scope
                        },
                        out,
                    )?;
                    if let Some((part, _)) = self.placed.borrow_mut().get_mut(place) {
                        part.end = out.len();
                    }
                }
            }
            Over::Groups(_) => {
                for (rows, number) in self.groups(each, scope)?.iter().zip(1..) {
                    let grouped = Some(rows.len() as u64);
                    let inner = Scope {
                        rows,
                        number,
                        grouped,
                        ..*scope
                    };
                    fill(&each.body, &inner, out)?;
                }
            }
            Over::Items(list) => {
                let mut items = scope.items.to_vec();
                for (item, number) in self.items(list, scope)?.into_iter().zip(1..) {
                    items.push((scope.column(list), item));
                    let inner = Scope {
                        number,
                        items: &items,
                        ..*scope
                    };
                    fill(&each.body, &inner, out)?;
                    items.pop();
                }
            }
        }
        Ok(())
    }

    /// The records of a part that repeats, group by group in the order of first appearance.
    fn groups<P>(&self, each: &Each<P>, scope: &Scope<'_>) -> Result<Vec<Vec<u32>>, EncodeError> {
        let Over::Groups(keys) = &each.over else {
            return Ok(Vec::new());
        };
        let mut places: HashMap<Vec<String>, usize> = HashMap::new();
        let mut groups: Vec<Vec<u32>> = Vec::new();
        for row in scope.rows {
            let rows = std::slice::from_ref(row);
            let record = Scope { rows, ..*scope };
            let mut values = Vec::new();
            for key in keys {
                let before = self.tally.get();
                values.push(self.text(&Placeholder::of_key(key, each.line), &record)?);
                self.tally.set(before);
            }
            let group = *places.entry(values).or_insert_with(|| {
                groups.push(Vec::new());
                groups.len() - 1
            });
            groups[group].push(*row);
        }
        Ok(groups)
    }

    /// The numbers of the items of a list that any record in scope has.
    fn items(&self, list: &str, scope: &Scope<'_>) -> Result<Vec<usize>, EncodeError> {
        let list = scope.column(list);
        let outer = list.strip_suffix("[*]").unwrap_or(&list);
        let mut found = BTreeSet::new();
        for (column, place) in &self.encoder.places {
            if !stands_for(&list, column, true) {
                continue;
            }
            let number = column.get(outer.len() + 1..).unwrap_or_default();
            let digits = number.bytes().take_while(u8::is_ascii_digit).count();
            let Ok(number) = number[..digits].parse() else {
                continue;
            };
            for row in scope.rows {
                let value = self.rows.value(*row, *place)?;
                let is_there = !matches!(value, Filled::Blank(None | Some(Blank::Absent)));
                if is_there {
                    found.insert(number);
                    break;
                }
            }
        }
        Ok(found.into_iter().collect())
    }

    /// Whether a part with a condition is there. `before` says whether the part that it may be
    /// instead of is there, and from then on whether this one is.
    fn holds<P>(
        &self,
        when: &When<P>,
        scope: &Scope<'_>,
        before: &mut bool,
    ) -> Result<bool, EncodeError> {
        if when.is_else && *before {
            return Ok(false);
        }
        let holds = match &when.condition {
            None => true,
            Some(condition) => {
                let tally = self.tally.get();
                let text = self.text(condition, scope)?;
                self.tally.set(tally);
                text.eq_ignore_ascii_case("true")
            }
        };
        *before = holds;
        Ok(holds)
    }

    pub(super) fn pieces(
        &self,
        pieces: &[Piece],
        scope: &Scope<'_>,
        out: &mut Vec<u8>,
    ) -> Result<(), EncodeError> {
        let mut chosen = false;
        for piece in pieces {
            match piece {
                Piece::Literal(text) => out.extend_from_slice(text.as_bytes()),
                Piece::Placeholder(place, escape) => {
                    let text = self.text(place, scope)?;
                    self.escaped(&text, *escape, place, scope, out)?;
                }
                Piece::Each(each) => {
                    if let Some(split) = &self.split {
                        split.set(out.len());
                        continue;
                    }
                    self.each(each, scope, out, |body, scope, out| {
                        self.pieces(body, scope, out)
                    })?;
                }
                Piece::When(when) => {
                    if self.holds(when, scope, &mut chosen)? {
                        self.pieces(&when.body, scope, out)?;
                    }
                }
                Piece::Optional(inside) => {
                    let before = (out.len(), self.tally.get());
                    self.tally.set(Tally::default());
                    self.pieces(inside, scope, out)?;
                    let found = self.tally.get();
                    if found.places > 0 && found.full == 0 {
                        out.truncate(before.0);
                    }
                    self.tally.set(Tally {
                        places: before.1.places + found.places,
                        full: before.1.full + found.full,
                    });
                }
            }
        }
        Ok(())
    }

    /// Appends a text so that XML can hold it.
    fn escaped(
        &self,
        text: &str,
        escape: Escape,
        place: &Placeholder,
        scope: &Scope<'_>,
        out: &mut Vec<u8>,
    ) -> Result<(), EncodeError> {
        let mut text = std::borrow::Cow::Borrowed(text);
        if let Some(sign) = text.chars().find(|sign| !is_allowed(*sign)) {
            if self.encoder.form.control_characters == ControlCharacters::Refuse {
                return Err(EncodeError::ControlSign {
                    at: scope
                        .rows
                        .first()
                        .map_or_else(At::header, |row| self.rows.at(*row)),
                    column: place.wanted(),
                    format: numerant_documents::xml::NAME,
                    sign,
                });
            }
            text = text.chars().filter(|sign| is_allowed(*sign)).collect();
        }
        match escape {
            Escape::Text => push_escaped(&text, false, out),
            Escape::Attribute => push_escaped(&text, true, out),
            Escape::Section => {
                out.extend_from_slice(text.replace("]]>", "]]]]><![CDATA[>").as_bytes());
            }
            Escape::Comment => {
                let mut text = text.into_owned();
                while text.contains("--") {
                    text = text.replace("--", "- -");
                }
                out.extend_from_slice(text.as_bytes());
            }
        }
        Ok(())
    }

    pub(super) fn new_line(indent: Option<usize>, level: usize, out: &mut Vec<u8>) {
        if let Some(indent) = indent {
            out.push(b'\n');
            out.resize(out.len() + indent * level, b' ');
        }
    }

    /// Appends a value of JSON; whether there is one.
    pub(super) fn json(
        &self,
        value: &Value,
        indent: Option<usize>,
        level: usize,
        scope: &Scope<'_>,
        out: &mut Vec<u8>,
    ) -> Result<bool, EncodeError> {
        match value {
            Value::Literal(text) => out.extend_from_slice(text.as_bytes()),
            Value::Placeholder(place) => {
                let [word] = &place.words[..] else {
                    push_json_text(self.text(place, scope)?.as_bytes(), out);
                    return Ok(true);
                };
                match self.word(word, scope, place)? {
                    Filled::Text(text) => push_json_text(&text, out),
                    Filled::Literal(text) | Filled::Json(text) => out.extend_from_slice(&text),
                    Filled::Blank(blank) => match self.encoder.form.nulls.of(blank, Blank::Null) {
                        Blank::Empty => out.extend_from_slice(b"\"\""),
                        Blank::Null => out.extend_from_slice(b"null"),
                        Blank::Absent | Blank::EmptyContainer(_) => return Ok(false),
                    },
                }
            }
            Value::Object(members) => {
                out.push(b'{');
                let mut names = HashSet::new();
                self.members(members, indent, level, scope, &mut names, out)?;
                if !names.is_empty() {
                    Self::new_line(indent, level, out);
                }
                out.push(b'}');
            }
            Value::List(items) => {
                out.push(b'[');
                let mut list = ListState::default();
                for item in items {
                    self.item(item, indent, level + 1, scope, &mut list, out)?;
                }
                if list.any {
                    Self::new_line(indent, level, out);
                }
                out.push(b']');
            }
        }
        Ok(true)
    }

    /// Appends members of an object; `names` are those that it has.
    fn members(
        &self,
        members: &[Member],
        indent: Option<usize>,
        level: usize,
        scope: &Scope<'_>,
        names: &mut HashSet<String>,
        out: &mut Vec<u8>,
    ) -> Result<(), EncodeError> {
        let mut chosen = false;
        for member in members {
            match member {
                Member::One {
                    name,
                    value,
                    optional,
                } => {
                    let before = (out.len(), self.tally.get());
                    if !names.is_empty() {
                        out.push(b',');
                    }
                    Self::new_line(indent, level + 1, out);
                    let filled = self.text(name, scope)?;
                    push_json_text(filled.as_bytes(), out);
                    out.extend_from_slice(if indent.is_some() { b": " } else { b":" });
                    self.tally.set(Tally::default());
                    let there = self.json(value, indent, level + 1, scope, out)?;
                    let found = self.tally.get();
                    if !there || (*optional && found.places > 0 && found.full == 0) {
                        out.truncate(before.0);
                    } else if names.contains(&filled) {
                        return Err(EncodeError::KeyTwice {
                            at: scope
                                .rows
                                .first()
                                .map_or_else(At::header, |row| self.rows.at(*row)),
                            key: filled,
                            line: name.line,
                        });
                    } else {
                        names.insert(filled);
                    }
                    self.tally.set(Tally {
                        places: before.1.places + found.places,
                        full: before.1.full + found.full,
                    });
                }
                Member::Each(each) => self.each(each, scope, out, |body, scope, out| {
                    self.members(body, indent, level, scope, names, out)
                })?,
                Member::When(when) => {
                    if self.holds(when, scope, &mut chosen)? {
                        self.members(&when.body, indent, level, scope, names, out)?;
                    }
                }
            }
        }
        Ok(())
    }

    /// The lines of JSON Lines: one for each record or group that the shape repeats for.
    pub(super) fn lines(
        &self,
        value: &Value,
        scope: &Scope<'_>,
        out: &mut Vec<u8>,
    ) -> Result<(), EncodeError> {
        let line = |item: &Item, scope: &Scope<'_>, out: &mut Vec<u8>| {
            let before = out.len();
            let mut list = ListState::default();
            self.item(item, None, 0, scope, &mut list, out)?;
            if list.any {
                out.push(b'\n');
            } else {
                out.truncate(before);
            }
            Ok(())
        };
        match line_of(value) {
            Some(each) => self.each(each, scope, out, |body, scope, out| line(body, scope, out)),
            None => {
                let each = Each {
                    over: Over::Records,
                    line: 1,
                    body: Item::One(value.clone()),
                };
                self.each(&each, scope, out, line)
            }
        }
    }

    /// Appends an item of a list.
    fn item(
        &self,
        item: &Item,
        indent: Option<usize>,
        level: usize,
        scope: &Scope<'_>,
        list: &mut ListState,
        out: &mut Vec<u8>,
    ) -> Result<(), EncodeError> {
        let (value, optional) = match item {
            Item::One(value) => (value, false),
            Item::Optional(value) => (value, true),
            Item::When(when) => {
                return if self.holds(when, scope, &mut list.chosen)? {
                    self.item(&when.body, indent, level, scope, list, out)
                } else {
                    Ok(())
                };
            }
            Item::Each(each) => {
                if let Some(split) = &self.split {
                    Self::new_line(indent, level, out);
                    split.set(out.len());
                    list.any = true;
                    return Ok(());
                }
                return self.each(each, scope, out, |body, scope, out| {
                    self.item(body, indent, level, scope, list, out)
                });
            }
        };
        let before = (out.len(), self.tally.get());
        if list.any {
            out.push(b',');
        }
        Self::new_line(indent, level, out);
        self.tally.set(Tally::default());
        if !self.json(value, indent, level, scope, out)? {
            out.extend_from_slice(b"null");
        }
        let found = self.tally.get();
        if optional && found.places > 0 && found.full == 0 {
            out.truncate(before.0);
        } else {
            list.any = true;
        }
        self.tally.set(Tally {
            places: before.1.places + found.places,
            full: before.1.full + found.full,
        });
        Ok(())
    }
}
