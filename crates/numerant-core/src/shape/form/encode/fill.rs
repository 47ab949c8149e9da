//! Fills the places of a shape in.

use std::cell::Cell;
use std::collections::HashMap;

use super::super::{Each, Escape, Item, Piece, Place, Value, computed_name, output_text};
use super::ShapeEncoder;
use super::rows::{Filled, Rows};
use crate::format::markup::{is_allowed, push_escaped};
use crate::format::{ControlSigns, EncodeError};
use crate::name::{OutputFacts, Part, Word};
use crate::record::{At, Nothing};
use crate::tree::push_json_text;

/// What was filled in so far: places of records, and those of them that were not blank.
#[derive(Clone, Copy, Debug, Default)]
pub(super) struct Tally {
    places: usize,
    full: usize,
}

/// Fills a shape in.
pub(super) struct Filler<'a> {
    pub(super) encoder: &'a ShapeEncoder,
    pub(super) rows: &'a dyn Rows,
    pub(super) facts: Option<&'a OutputFacts>,
    /// Where the part that repeats would stand, if it is not to be filled in.
    pub(super) split: Option<Cell<usize>>,
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

    /// The value of a column, the same for all records in `scope`.
    fn value(&self, name: &str, scope: &[u32], place: &Place) -> Result<Filled, EncodeError> {
        let column = self.encoder.places.get(name).copied().unwrap_or_default();
        let Some((first, others)) = scope.split_first() else {
            return Ok(Filled::Blank(None));
        };
        let value = self.rows.value(*first, column)?;
        for other in others {
            if self.rows.value(*other, column)? != value {
                return Err(EncodeError::NotOne {
                    at: self.rows.at(*other),
                    wanted: place.wanted(),
                    line: place.line,
                });
            }
        }
        Ok(value)
    }

    /// What a word stands for, with the type of a single value.
    fn word(&self, word: &Word, scope: &[u32], place: &Place) -> Result<Filled, EncodeError> {
        let filled = match word {
            Word::Literal(text) => return Ok(Filled::Text(text.as_bytes().to_vec())),
            Word::Output(field) => {
                let text = output_text(*field, self.facts).into_bytes();
                let number = text.iter().all(u8::is_ascii_digit) && !text.is_empty();
                return Ok(if number {
                    Filled::Literal(text)
                } else {
                    Filled::Text(text)
                });
            }
            Word::Expression(text) => self.value(&computed_name(text), scope, place)?,
            Word::Column(key) => {
                let value = self.value(&key.column, scope, place)?;
                match (&key.part, value) {
                    (Part::Whole, value) => value,
                    (part, Filled::Text(text) | Filled::Literal(text)) => {
                        let mut out = String::new();
                        part.of(&text, &self.encoder.cells, &mut out)
                            .map_err(|problem| EncodeError::Part {
                                at: self.rows.at(scope[0]),
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
    fn text(&self, place: &Place, scope: &[u32]) -> Result<String, EncodeError> {
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

    /// The records of a part that repeats, group by group in the order of first appearance.
    fn groups<P>(&self, each: &Each<P>, scope: &[u32]) -> Result<Vec<Vec<u32>>, EncodeError> {
        if each.keys.is_empty() {
            return Ok(scope.iter().map(|row| vec![*row]).collect());
        }
        let mut places: HashMap<Vec<String>, usize> = HashMap::new();
        let mut groups: Vec<Vec<u32>> = Vec::new();
        for row in scope {
            let mut values = Vec::new();
            for key in &each.keys {
                let place = Place {
                    words: vec![Word::Column(key.clone())],
                    line: each.line,
                };
                let before = self.tally.get();
                values.push(self.text(&place, std::slice::from_ref(row))?);
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

    pub(super) fn pieces(
        &self,
        pieces: &[Piece],
        scope: &[u32],
        out: &mut Vec<u8>,
    ) -> Result<(), EncodeError> {
        for piece in pieces {
            match piece {
                Piece::Literal(text) => out.extend_from_slice(text.as_bytes()),
                Piece::Place(place, escape) => {
                    let text = self.text(place, scope)?;
                    self.escaped(&text, *escape, place, scope, out)?;
                }
                Piece::Each(each) => {
                    if let Some(split) = &self.split {
                        split.set(out.len());
                        continue;
                    }
                    for group in self.groups(each, scope)? {
                        self.pieces(&each.body, &group, out)?;
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
        place: &Place,
        scope: &[u32],
        out: &mut Vec<u8>,
    ) -> Result<(), EncodeError> {
        let mut text = std::borrow::Cow::Borrowed(text);
        if let Some(sign) = text.chars().find(|sign| !is_allowed(*sign)) {
            if self.encoder.control_signs == ControlSigns::Refuse {
                return Err(EncodeError::ControlSign {
                    at: scope
                        .first()
                        .map_or_else(At::header, |row| self.rows.at(*row)),
                    column: place.wanted(),
                    format: crate::format::xml::NAME,
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
        scope: &[u32],
        out: &mut Vec<u8>,
    ) -> Result<bool, EncodeError> {
        match value {
            Value::Literal(text) => out.extend_from_slice(text.as_bytes()),
            Value::Place(place) => {
                let [word] = &place.words[..] else {
                    push_json_text(self.text(place, scope)?.as_bytes(), out);
                    return Ok(true);
                };
                match self.word(word, scope, place)? {
                    Filled::Text(text) => push_json_text(&text, out),
                    Filled::Literal(text) | Filled::Json(text) => out.extend_from_slice(&text),
                    Filled::Blank(nothing) => match self.encoder.nulls.of(nothing, Nothing::Null) {
                        Nothing::Empty => out.extend_from_slice(b"\"\""),
                        Nothing::Null => out.extend_from_slice(b"null"),
                        Nothing::Absent | Nothing::Hollow(_) => return Ok(false),
                    },
                }
            }
            Value::Object(members) => {
                out.push(b'{');
                let mut any = false;
                for (name, value, optional) in members {
                    let before = (out.len(), self.tally.get());
                    if any {
                        out.push(b',');
                    }
                    Self::new_line(indent, level + 1, out);
                    push_json_text(name.as_bytes(), out);
                    out.extend_from_slice(if indent.is_some() { b": " } else { b":" });
                    self.tally.set(Tally::default());
                    let there = self.json(value, indent, level + 1, scope, out)?;
                    let found = self.tally.get();
                    if !there || (*optional && found.places > 0 && found.full == 0) {
                        out.truncate(before.0);
                    } else {
                        any = true;
                    }
                    self.tally.set(Tally {
                        places: before.1.places + found.places,
                        full: before.1.full + found.full,
                    });
                }
                if any {
                    Self::new_line(indent, level, out);
                }
                out.push(b'}');
            }
            Value::List(items) => {
                out.push(b'[');
                let mut any = false;
                for item in items {
                    self.item(item, indent, level + 1, scope, &mut any, out)?;
                }
                if any {
                    Self::new_line(indent, level, out);
                }
                out.push(b']');
            }
        }
        Ok(true)
    }

    fn item(
        &self,
        item: &Item,
        indent: Option<usize>,
        level: usize,
        scope: &[u32],
        any: &mut bool,
        out: &mut Vec<u8>,
    ) -> Result<(), EncodeError> {
        let (value, groups, optional) = match item {
            Item::One(value) => (value, vec![scope.to_vec()], false),
            Item::Optional(value) => (value, vec![scope.to_vec()], true),
            Item::Each(each) => {
                if let Some(split) = &self.split {
                    Self::new_line(indent, level, out);
                    split.set(out.len());
                    *any = true;
                    return Ok(());
                }
                (&each.body, self.groups(each, scope)?, false)
            }
        };
        for group in groups {
            let before = (out.len(), self.tally.get());
            if *any {
                out.push(b',');
            }
            Self::new_line(indent, level, out);
            self.tally.set(Tally::default());
            if !self.json(value, indent, level, &group, out)? {
                out.extend_from_slice(b"null");
            }
            let found = self.tally.get();
            if optional && found.places > 0 && found.full == 0 {
                out.truncate(before.0);
            } else {
                *any = true;
            }
            self.tally.set(Tally {
                places: before.1.places + found.places,
                full: before.1.full + found.full,
            });
        }
        Ok(())
    }
}
