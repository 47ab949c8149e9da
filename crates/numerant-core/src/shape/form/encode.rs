//! Fills shapes in: record by record where the shape lets that be, or else when all records of an
//! output are there.

use std::cell::Cell;
use std::collections::HashMap;
use std::fs::File;
use std::io::{self, BufReader, Read, Write};

use super::{Body, Each, Escape, Item, Piece, Place, Shape, Value, computed_name, output_text};
use crate::format::column::{Shown, TextColumn};
use crate::format::markup::{is_allowed, push_escaped};
use crate::format::xml::push_comment;
use crate::format::{Blanks, ControlSigns, EncodeError, Late, LateError, RecordEncoder};
use crate::name::{OutputFacts, Part, Word, Words};
use crate::record::{At, Batch, Nothing, Unit};
use crate::tree::push_json_text;
use crate::value::Cells;

/// When a shape can be filled in.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
enum Mode {
    /// Record by record.
    Stream,
    /// Record by record, but for what stands around them.
    Frame,
    /// When all records of an output are there.
    Gather,
}

/// Writes records in the form of a shape.
#[derive(Debug)]
pub(crate) struct ShapeEncoder {
    shape: Shape,
    columns: Vec<TextColumn>,
    places: HashMap<String, usize>,
    cells: Cells,
    nulls: Blanks,
    control_signs: ControlSigns,
    comment: Option<Words>,
    mode: Mode,
    between: Vec<u8>,
    /// Bytes of an output that may be kept in memory.
    most: usize,
}

impl Shape {
    /// The names of the columns that are used, each once, with the first line that it is used in.
    pub(crate) fn columns(&self) -> Vec<(String, usize)> {
        let mut columns: Vec<(String, usize)> = Vec::new();
        let mut add = |name: String, line: usize| {
            if !columns.iter().any(|(known, _)| *known == name) {
                columns.push((name, line));
            }
        };
        for place in self.places() {
            for word in &place.words {
                match word {
                    Word::Column(key) => add(key.column.clone(), place.line),
                    Word::Expression(text) => add(computed_name(text), place.line),
                    Word::Literal(_) | Word::Output(_) => {}
                }
            }
        }
        for (key, line) in self.keys() {
            add(key.column, line);
        }
        columns
    }

    fn mode(&self, comment: Option<&Words>) -> Mode {
        let around = match &self.body {
            Body::Xml(pieces) => around_pieces(pieces),
            Body::Json(value, _) => around_value(value),
        };
        let Some(around) = around else {
            return Mode::Gather;
        };
        let late = around.iter().any(|place| place.is_of_output())
            || comment.is_some_and(Words::names_output);
        match (around.iter().any(|place| place.is_of_records()), late) {
            (true, _) => Mode::Gather,
            (false, true) => Mode::Frame,
            (false, false) => Mode::Stream,
        }
    }
}

/// The places around the one part that repeats for each record; `None` if there is no such part.
fn around_pieces(pieces: &[Piece]) -> Option<Vec<&Place>> {
    let mut around = Vec::new();
    let mut bodies = 0;
    for piece in pieces {
        match piece {
            Piece::Literal(_) => {}
            Piece::Place(place, _) => around.push(place),
            Piece::Each(Each { keys, body, .. }) if keys.is_empty() => {
                let mut inside = Vec::new();
                super::places_in(body, &mut inside);
                let simple = !body.iter().any(holds_each);
                if !simple || inside.iter().any(|place| place.is_of_output()) {
                    return None;
                }
                bodies += 1;
            }
            Piece::Each(_) | Piece::Optional(_) => return None,
        }
    }
    (bodies == 1).then_some(around)
}

fn holds_each(piece: &Piece) -> bool {
    match piece {
        Piece::Each(_) => true,
        Piece::Optional(inside) => inside.iter().any(holds_each),
        Piece::Literal(_) | Piece::Place(..) => false,
    }
}

fn around_value(value: &Value) -> Option<Vec<&Place>> {
    fn walk<'a>(value: &'a Value, around: &mut Vec<&'a Place>, bodies: &mut usize) -> bool {
        match value {
            Value::Literal(_) => true,
            Value::Place(place) => {
                around.push(place);
                true
            }
            Value::Object(members) => members
                .iter()
                .all(|(_, value, optional)| !optional && walk(value, around, bodies)),
            Value::List(items) => match items.as_slice() {
                [Item::Each(each)] if each.keys.is_empty() => {
                    let mut inside = Vec::new();
                    super::places_of(&each.body, &mut inside);
                    *bodies += 1;
                    !value_holds_each(&each.body) && !inside.iter().any(|p| p.is_of_output())
                }
                items => items.iter().all(|item| match item {
                    Item::One(value) => walk(value, around, bodies),
                    Item::Each(_) | Item::Optional(_) => false,
                }),
            },
        }
    }
    let (mut around, mut bodies) = (Vec::new(), 0);
    (walk(value, &mut around, &mut bodies) && bodies == 1).then_some(around)
}

fn value_holds_each(value: &Value) -> bool {
    match value {
        Value::Literal(_) | Value::Place(_) => false,
        Value::Object(members) => members.iter().any(|(_, value, _)| value_holds_each(value)),
        Value::List(items) => items.iter().any(|item| match item {
            Item::Each(_) => true,
            Item::One(value) | Item::Optional(value) => value_holds_each(value),
        }),
    }
}

/// A value that is filled in.
#[derive(Clone, Debug, PartialEq, Eq)]
enum Filled {
    Blank(Option<Nothing>),
    Text(Vec<u8>),
    Literal(Vec<u8>),
    Json(Vec<u8>),
}

impl From<Shown<'_>> for Filled {
    fn from(shown: Shown<'_>) -> Self {
        match shown {
            Shown::Blank(nothing) => Self::Blank(nothing),
            Shown::Text(text) => Self::Text(text.to_vec()),
            Shown::Literal(text) => Self::Literal(text.to_vec()),
            Shown::Json(text) => Self::Json(text.to_vec()),
        }
    }
}

/// The records that a shape is filled in with.
trait Rows {
    fn value(&self, row: u32, column: usize) -> Result<Filled, EncodeError>;
    fn at(&self, row: u32) -> At;
}

/// The records of a batch.
struct Live<'a> {
    encoder: &'a ShapeEncoder,
    batch: &'a Batch,
}

impl Rows for Live<'_> {
    fn value(&self, row: u32, column: usize) -> Result<Filled, EncodeError> {
        let mut scratch = Vec::new();
        let column = &self.encoder.columns[column];
        let shown = column.value(self.batch, row as usize, &self.encoder.cells, &mut scratch)?;
        Ok(shown.into())
    }

    fn at(&self, row: u32) -> At {
        self.batch.at(row as usize)
    }
}

/// Records that were kept, and where each begins.
struct Kept {
    bytes: Vec<u8>,
    starts: Vec<usize>,
}

impl Kept {
    fn new(bytes: Vec<u8>, columns: usize) -> Self {
        let mut starts = Vec::new();
        let mut at = 0;
        while at < bytes.len() {
            starts.push(at);
            at += 9;
            for _ in 0..columns {
                at += 5 + length(&bytes[at + 1..]);
            }
        }
        Self { bytes, starts }
    }
}

fn length(bytes: &[u8]) -> usize {
    bytes
        .first_chunk()
        .map_or(0, |length| u32::from_le_bytes(*length) as usize)
}

impl Rows for Kept {
    fn value(&self, row: u32, column: usize) -> Result<Filled, EncodeError> {
        let mut at = self.starts[row as usize] + 9;
        for _ in 0..column {
            at += 5 + length(&self.bytes[at + 1..]);
        }
        let text = || self.bytes[at + 5..at + 5 + length(&self.bytes[at + 1..])].to_vec();
        Ok(match self.bytes[at] {
            b'b' => Filled::Blank(None),
            b'a' => Filled::Blank(Some(Nothing::Absent)),
            b'e' => Filled::Blank(Some(Nothing::Empty)),
            b'n' => Filled::Blank(Some(Nothing::Null)),
            b't' => Filled::Text(text()),
            b'l' => Filled::Literal(text()),
            _ => Filled::Json(text()),
        })
    }

    fn at(&self, row: u32) -> At {
        let bytes = &self.bytes[self.starts[row as usize]..];
        let number = bytes[1..]
            .first_chunk()
            .map_or(0, |number| u64::from_le_bytes(*number));
        At {
            unit: if bytes[0] == 0 { Unit::Line } else { Unit::Row },
            number,
        }
    }
}

/// Appends a record as it is kept.
fn keep(rows: &dyn Rows, row: u32, columns: usize, out: &mut Vec<u8>) -> Result<(), EncodeError> {
    let at = rows.at(row);
    out.push(u8::from(!at.unit.is_line()));
    out.extend_from_slice(&at.number.to_le_bytes());
    for column in 0..columns {
        let (tag, text) = match rows.value(row, column)? {
            Filled::Blank(None) => (b'b', Vec::new()),
            Filled::Blank(Some(Nothing::Empty)) => (b'e', Vec::new()),
            Filled::Blank(Some(Nothing::Null)) => (b'n', Vec::new()),
            Filled::Blank(Some(_)) => (b'a', Vec::new()),
            Filled::Text(text) => (b't', text),
            Filled::Literal(text) => (b'l', text),
            Filled::Json(text) => (b'j', text),
        };
        out.push(tag);
        out.extend_from_slice(&(text.len() as u32).to_le_bytes());
        out.extend_from_slice(&text);
    }
    Ok(())
}

/// What was filled in so far: places of records, and those of them that were not blank.
#[derive(Clone, Copy, Debug, Default)]
struct Tally {
    places: usize,
    full: usize,
}

/// Fills a shape in.
struct Filler<'a> {
    encoder: &'a ShapeEncoder,
    rows: &'a dyn Rows,
    facts: Option<&'a OutputFacts>,
    /// Where the part that repeats would stand, if it is not to be filled in.
    split: Option<Cell<usize>>,
    tally: Cell<Tally>,
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

    fn pieces(
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

    fn new_line(indent: Option<usize>, level: usize, out: &mut Vec<u8>) {
        if let Some(indent) = indent {
            out.push(b'\n');
            out.resize(out.len() + indent * level, b' ');
        }
    }

    /// Appends a value of JSON; whether there is one.
    fn json(
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

/// No records.
struct NoRows;

impl Rows for NoRows {
    fn value(&self, _row: u32, _column: usize) -> Result<Filled, EncodeError> {
        Ok(Filled::Blank(None))
    }

    fn at(&self, _row: u32) -> At {
        At::header()
    }
}

impl ShapeEncoder {
    /// `columns` are those that [`Shape::columns`] names, in that order.
    pub(crate) fn new(
        shape: Shape,
        columns: Vec<TextColumn>,
        cells: Cells,
        nulls: Blanks,
        control_signs: ControlSigns,
        comment: Option<Words>,
        most: usize,
    ) -> Self {
        let names = shape.columns().into_iter().enumerate();
        let places = names.map(|(place, (name, _))| (name, place)).collect();
        let mode = shape.mode(comment.as_ref());
        let mut encoder = Self {
            shape,
            columns,
            places,
            cells,
            nulls,
            control_signs,
            comment,
            mode,
            between: Vec::new(),
            most,
        };
        if let (Body::Json(value, indent), false) = (&encoder.shape.body, mode == Mode::Gather) {
            let level = level_of_each(value, 0).unwrap_or_default();
            let mut between = vec![b','];
            Filler::new_line(*indent, level, &mut between);
            encoder.between = between;
        }
        encoder
    }

    fn filler<'a>(&'a self, rows: &'a dyn Rows, facts: Option<&'a OutputFacts>) -> Filler<'a> {
        Filler {
            encoder: self,
            rows,
            facts,
            split: None,
            tally: Cell::default(),
        }
    }

    /// The whole of an output.
    fn whole(
        &self,
        filler: &Filler<'_>,
        scope: &[u32],
        out: &mut Vec<u8>,
    ) -> Result<(), EncodeError> {
        match &self.shape.body {
            Body::Json(value, indent) => {
                filler.json(value, *indent, 0, scope, out)?;
                out.push(b'\n');
            }
            Body::Xml(pieces) => {
                let start = out.len();
                filler.pieces(pieces, scope, out)?;
                self.put_comment(filler.facts, filler.split.as_ref(), start, out);
            }
        }
        Ok(())
    }

    /// Puts the comment before the root element.
    fn put_comment(
        &self,
        facts: Option<&OutputFacts>,
        split: Option<&Cell<usize>>,
        start: usize,
        out: &mut Vec<u8>,
    ) {
        let Some(comment) = &self.comment else { return };
        let text = match facts {
            Some(facts) => comment.of_output(facts),
            None => comment.to_string().replace("{{", "{").replace("}}", "}"),
        };
        let mut piece = Vec::new();
        push_comment(&text, &mut piece);
        piece.push(b'\n');
        let root = out[start..]
            .windows(2)
            .position(|pair| pair[0] == b'<' && !matches!(pair[1], b'?' | b'!'));
        let at = start + root.unwrap_or(0);
        if let Some(split) = split {
            split.set(split.get() + piece.len());
        }
        out.splice(at..at, piece);
    }

    /// What stands before and behind the part that repeats.
    fn frame(&self, facts: Option<&OutputFacts>) -> Result<(Vec<u8>, Vec<u8>), EncodeError> {
        let mut filler = self.filler(&NoRows, facts);
        filler.split = Some(Cell::new(0));
        let mut out = Vec::new();
        self.whole(&filler, &[], &mut out)?;
        let at = filler.split.as_ref().map_or(0, Cell::get);
        let foot = out.split_off(at);
        Ok((out, foot))
    }
}

/// How deep the part that repeats is.
fn level_of_each(value: &Value, level: usize) -> Option<usize> {
    match value {
        Value::Literal(_) | Value::Place(_) => None,
        Value::Object(members) => members
            .iter()
            .find_map(|(_, value, _)| level_of_each(value, level + 1)),
        Value::List(items) => items.iter().find_map(|item| match item {
            Item::Each(_) => Some(level + 1),
            Item::One(value) | Item::Optional(value) => level_of_each(value, level + 1),
        }),
    }
}

/// The part that repeats for each record.
fn body_of_pieces(pieces: &[Piece]) -> Option<&[Piece]> {
    pieces.iter().find_map(|piece| match piece {
        Piece::Each(each) => Some(each.body.as_slice()),
        _ => None,
    })
}

fn body_of_value(value: &Value) -> Option<&Value> {
    match value {
        Value::Literal(_) | Value::Place(_) => None,
        Value::Object(members) => members
            .iter()
            .find_map(|(_, value, _)| body_of_value(value)),
        Value::List(items) => items.iter().find_map(|item| match item {
            Item::Each(each) => Some(&each.body),
            Item::One(value) | Item::Optional(value) => body_of_value(value),
        }),
    }
}

impl RecordEncoder for ShapeEncoder {
    fn begin(&self, out: &mut Vec<u8>) -> Result<(), EncodeError> {
        if self.mode == Mode::Stream {
            out.extend_from_slice(&self.frame(None)?.0);
        }
        Ok(())
    }

    fn record(&self, batch: &Batch, record: usize, out: &mut Vec<u8>) -> Result<(), EncodeError> {
        let live = Live {
            encoder: self,
            batch,
        };
        let row = record as u32;
        if self.mode == Mode::Gather {
            return keep(&live, row, self.columns.len(), out);
        }
        let filler = self.filler(&live, None);
        match &self.shape.body {
            Body::Xml(pieces) => {
                filler.pieces(body_of_pieces(pieces).unwrap_or_default(), &[row], out)
            }
            Body::Json(value, indent) => {
                let level = level_of_each(value, 0).unwrap_or_default();
                if let Some(body) = body_of_value(value)
                    && !filler.json(body, *indent, level, &[row], out)?
                {
                    out.extend_from_slice(b"null");
                }
                Ok(())
            }
        }
    }

    fn moves_raw(&self) -> bool {
        false
    }

    fn between(&self) -> &[u8] {
        &self.between
    }

    fn end(&self, _records: u64, out: &mut Vec<u8>) {
        if self.mode == Mode::Stream
            && let Ok((_, foot)) = self.frame(None)
        {
            out.extend_from_slice(&foot);
        }
    }

    fn late(&self) -> Option<&dyn Late> {
        (self.mode != Mode::Stream).then_some(self)
    }
}

impl Late for ShapeEncoder {
    fn write(
        &self,
        facts: &OutputFacts,
        kept: &mut BufReader<File>,
        out: &mut dyn Write,
    ) -> Result<(), LateError> {
        if self.mode == Mode::Frame {
            let (head, foot) = self.frame(Some(facts))?;
            out.write_all(&head)?;
            io::copy(kept, out)?;
            out.write_all(&foot)?;
            return Ok(());
        }
        let mut bytes = Vec::new();
        kept.take(self.most as u64 + 1).read_to_end(&mut bytes)?;
        if bytes.len() > self.most {
            return Err(LateError::TooLarge);
        }
        let rows = Kept::new(bytes, self.columns.len());
        let scope: Vec<u32> = (0..rows.starts.len() as u32).collect();
        let mut text = Vec::new();
        self.whole(&self.filler(&rows, Some(facts)), &scope, &mut text)?;
        out.write_all(&text)?;
        Ok(())
    }
}
