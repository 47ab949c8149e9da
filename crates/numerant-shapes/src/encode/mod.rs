//! Fills shapes in: record by record where the shape lets that be, or else when all records of an
//! output are there.

mod aggregate;
mod fill;
mod rows;
mod scope;

use std::cell::{Cell, RefCell};
use std::collections::{HashMap, HashSet};
use std::fs::File;
use std::io::{self, BufReader, Read, Write};
use std::ops::Range;

use fill::Filler;
use rows::{Kept, Live, NoRows, Rows, keep};
use scope::Scope;

use super::Shape;
use super::parts::{Body, Each, Item, Member, Over, Piece, Value, Visitor, visit_pieces};
use super::word::Placeholder;
use numerant_data::record::Batch;
use numerant_data::value::Cells;
use numerant_documents::xml::push_comment;
use numerant_documents::{Blanks, DocumentOptions, XmlOptions};
use numerant_format::column::TextColumn;
use numerant_format::{
    ControlCharacters, DeferredWriteError, DeferredWriter, EncodeError, Placed, RecordEncoder,
    WriteOptions,
};
use numerant_naming::{OutputFacts, Words};

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

/// How a shape is filled in.
#[derive(Debug)]
pub struct ShapeForm {
    /// How values of columns are read.
    pub cells: Cells,
    /// How blank values are written.
    pub nulls: Blanks,
    /// What becomes of control characters.
    pub control_characters: ControlCharacters,
    /// What is in a comment before the root element of XML.
    pub comment: Option<Words>,
    /// Each record, or group of records, is a line of JSON.
    pub as_lines: bool,
    /// Bytes of an output that may be kept in memory.
    pub max_kept: usize,
}

impl ShapeForm {
    /// What options for writing say of it.
    pub fn of(write: &WriteOptions, cells: Cells) -> Self {
        Self {
            cells,
            nulls: DocumentOptions::of(&write.of_formats).nulls,
            control_characters: write.control_characters,
            comment: XmlOptions::of(&write.of_formats).comment,
            as_lines: false,
            max_kept: usize::MAX,
        }
    }
}

/// Writes records in the form of a shape.
#[derive(Debug)]
pub struct ShapeEncoder {
    shape: Shape,
    columns: Vec<TextColumn>,
    places: HashMap<String, usize>,
    form: ShapeForm,
    mode: Mode,
    between: Vec<u8>,
}

impl Shape {
    /// The columns that it uses: those of items, such as `lines[*].code`, once for each column of
    /// `known` that they represent. Each with the first line that it is used in.
    pub fn columns(&self, known: &[&str]) -> Vec<(String, usize)> {
        let used = self.used();
        let mut columns: Vec<(String, usize)> = Vec::new();
        let mut there = HashSet::new();
        let mut add = |name: &str, line: usize| {
            if there.insert(name.to_owned()) {
                columns.push((name.to_owned(), line));
            }
        };
        for (name, line) in &used.columns {
            if !name.contains("[*]") {
                add(name, *line);
                continue;
            }
            let fits = known
                .iter()
                .filter(|known| scope::stands_for(name, known, false));
            fits.for_each(|name| add(name, *line));
        }
        // How many items a record has shows in all columns of its list.
        for (list, line) in &used.lists {
            let fits = known
                .iter()
                .filter(|known| scope::stands_for(list, known, true));
            fits.for_each(|name| add(name, *line));
        }
        columns
    }

    /// When the lines of an output can be filled in.
    fn mode_of_lines(&self) -> Mode {
        let Body::Json(value, _) = &self.body else {
            return Mode::Gather;
        };
        let mut inside = Places::default();
        let is_plain = match line_of(value) {
            None => {
                value.visit(&mut inside);
                true
            }
            Some(each) => {
                each.body.visit(&mut inside);
                matches!(each.over, Over::Records) && matches!(*each.body, Item::One(_))
            }
        };
        if is_plain && inside.is_of_one_record() {
            Mode::Stream
        } else {
            Mode::Gather
        }
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

/// The places of a part, and whether any of it repeats.
#[derive(Default)]
struct Places<'a> {
    all: Vec<&'a Placeholder>,
    repeats: bool,
}

impl<'a> Visitor<'a> for Places<'a> {
    fn place(&mut self, place: &'a Placeholder) {
        self.all.push(place);
    }

    fn enter(&mut self, over: &'a Over, _line: usize) {
        // The items of a record are there with it.
        self.repeats |= !matches!(over, Over::Items(_));
    }
}

impl Places<'_> {
    /// Whether the part can be filled in with one record.
    fn is_of_one_record(&self) -> bool {
        let in_items = |place: &&Placeholder| place.is_of_output();
        !self.repeats && !self.all.iter().any(in_items)
    }
}

/// The places around the one part that repeats for each record; `None` if there is no such part.
fn around_pieces(pieces: &[Piece]) -> Option<Vec<&Placeholder>> {
    let mut around = Vec::new();
    let mut bodies = 0;
    for piece in pieces {
        match piece {
            Piece::Literal(_) => {}
            Piece::Placeholder(place, _) => around.push(place),
            Piece::Each(Each {
                over: Over::Records,
                body,
                ..
            }) => {
                let mut inside = Places::default();
                visit_pieces(body, &mut inside);
                if !inside.is_of_one_record() {
                    return None;
                }
                bodies += 1;
            }
            Piece::Each(_) | Piece::When(_) | Piece::Optional(_) => return None,
        }
    }
    (bodies == 1).then_some(around)
}

fn around_value(value: &Value) -> Option<Vec<&Placeholder>> {
    fn walk<'a>(value: &'a Value, around: &mut Vec<&'a Placeholder>, bodies: &mut usize) -> bool {
        match value {
            Value::Literal(_) => true,
            Value::Placeholder(place) => {
                around.push(place);
                true
            }
            Value::Object(members) => members.iter().all(|member| match member {
                Member::One {
                    name,
                    value,
                    optional: false,
                } if name.constant().is_some() => walk(value, around, bodies),
                _ => false,
            }),
            Value::List(items) => match items.as_slice() {
                [
                    Item::Each(Each {
                        over: Over::Records,
                        body,
                        ..
                    }),
                ] => {
                    let mut inside = Places::default();
                    body.visit(&mut inside);
                    *bodies += 1;
                    // What may be left out has no comma either.
                    matches!(**body, Item::One(_)) && inside.is_of_one_record()
                }
                items => items.iter().all(|item| match item {
                    Item::One(value) => walk(value, around, bodies),
                    Item::Each(_) | Item::When(_) | Item::Optional(_) => false,
                }),
            },
        }
    }
    let (mut around, mut bodies) = (Vec::new(), 0);
    (walk(value, &mut around, &mut bodies) && bodies == 1).then_some(around)
}

/// What a line of JSON Lines is: the item of the one list that repeats, or all of the shape.
fn line_of(value: &Value) -> Option<&Each<Box<Item>>> {
    match value {
        Value::List(items) => match items.as_slice() {
            [Item::Each(each)] => Some(each),
            _ => None,
        },
        _ => None,
    }
}

impl ShapeEncoder {
    /// `columns` are those that [`Shape::columns`] names.
    pub fn new(shape: Shape, columns: Vec<TextColumn>, form: ShapeForm) -> Self {
        let names = columns.iter().enumerate();
        let places = names.map(|(place, column)| (column.name.clone(), place));
        let places = places.collect();
        let mode = if form.as_lines {
            shape.mode_of_lines()
        } else {
            shape.mode(form.comment.as_ref())
        };
        let mut encoder = Self {
            shape,
            columns,
            places,
            form,
            mode,
            between: Vec::new(),
        };
        if mode == Mode::Gather {
            // Blank is between records that are kept.
        } else if encoder.form.as_lines {
            encoder.between = b"\n".to_vec();
        } else if let Body::Json(value, indent) = &encoder.shape.body {
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
            placed: RefCell::default(),
            tally: Cell::default(),
        }
    }

    /// The whole of an output.
    fn whole(
        &self,
        filler: &Filler<'_>,
        scope: &Scope<'_>,
        out: &mut Vec<u8>,
    ) -> Result<(), EncodeError> {
        match &self.shape.body {
            Body::Json(value, _) if self.form.as_lines => filler.lines(value, scope, out),
            Body::Json(value, indent) => {
                filler.json(value, *indent, 0, scope, out)?;
                out.push(b'\n');
                Ok(())
            }
            Body::Xml(pieces) => {
                let start = out.len();
                filler.pieces(pieces, scope, out)?;
                self.put_comment(filler, start, out);
                Ok(())
            }
        }
    }

    /// Puts the comment before the root element.
    fn put_comment(&self, filler: &Filler<'_>, start: usize, out: &mut Vec<u8>) {
        let facts = filler.facts;
        let Some(comment) = &self.form.comment else {
            return;
        };
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
        if let Some(split) = &filler.split {
            split.set(split.get() + piece.len());
        }
        for (place, _) in filler.placed.borrow_mut().iter_mut() {
            *place = place.start + piece.len()..place.end + piece.len();
        }
        out.splice(at..at, piece);
    }

    /// What is before and after the part that repeats.
    fn frame(&self, facts: Option<&OutputFacts>) -> Result<(Vec<u8>, Vec<u8>), EncodeError> {
        let mut filler = self.filler(&NoRows, facts);
        filler.split = Some(Cell::new(0));
        let mut out = Vec::new();
        self.whole(&filler, &Scope::of(&[]), &mut out)?;
        let at = filler.split.as_ref().map_or(0, Cell::get);
        let foot = out.split_off(at);
        Ok((out, foot))
    }
}

/// How deep the part that repeats is.
fn level_of_each(value: &Value, level: usize) -> Option<usize> {
    let member = |member: &Member| match member {
        Member::One { value, .. } => level_of_each(value, level + 1),
        Member::Each(_) | Member::When(_) => None,
    };
    match value {
        Value::Literal(_) | Value::Placeholder(_) => None,
        Value::Object(members) => members.iter().find_map(member),
        Value::List(items) => items.iter().find_map(|item| match item {
            Item::Each(_) => Some(level + 1),
            Item::One(value) | Item::Optional(value) => level_of_each(value, level + 1),
            Item::When(_) => None,
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

fn body_of_value(value: &Value) -> Option<&Item> {
    match value {
        Value::Literal(_) | Value::Placeholder(_) => None,
        Value::Object(members) => members.iter().find_map(|member| match member {
            Member::One { value, .. } => body_of_value(value),
            Member::Each(_) | Member::When(_) => None,
        }),
        Value::List(items) => items.iter().find_map(|item| match item {
            Item::Each(each) => Some(&*each.body),
            Item::One(value) | Item::Optional(value) => body_of_value(value),
            Item::When(_) => None,
        }),
    }
}

impl RecordEncoder for ShapeEncoder {
    fn begin(&self, out: &mut Vec<u8>) -> Result<(), EncodeError> {
        if self.mode == Mode::Stream && !self.form.as_lines {
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
        let rows = [row];
        let scope = Scope::of(&rows);
        match &self.shape.body {
            Body::Xml(pieces) => {
                filler.pieces(body_of_pieces(pieces).unwrap_or_default(), &scope, out)
            }
            Body::Json(value, indent) => {
                let level = level_of_each(value, 0).unwrap_or_default();
                let body = match body_of_value(value) {
                    Some(Item::One(body)) => body,
                    _ => value,
                };
                let (indent, level) = if self.form.as_lines {
                    (None, 0)
                } else {
                    (*indent, level)
                };
                if !filler.json(body, indent, level, &scope, out)? {
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

    fn end(&self, records: u64, out: &mut Vec<u8>) -> Result<(), EncodeError> {
        if self.mode != Mode::Stream {
            return Ok(());
        }
        if self.form.as_lines {
            if records > 0 {
                out.push(b'\n');
            }
            return Ok(());
        }
        let (_, foot) = self.frame(None)?;
        out.extend_from_slice(&foot);
        Ok(())
    }

    fn late(&self) -> Option<&dyn DeferredWriter> {
        (self.mode != Mode::Stream).then_some(self)
    }
}

impl DeferredWriter for ShapeEncoder {
    fn write(
        &self,
        facts: &OutputFacts,
        kept: &mut BufReader<File>,
        out: &mut dyn Write,
    ) -> Result<Placed, DeferredWriteError> {
        if self.mode == Mode::Frame {
            let (head, foot) = self.frame(Some(facts))?;
            out.write_all(&head)?;
            io::copy(kept, out)?;
            out.write_all(&foot)?;
            return Ok(Placed::Behind(head.len() as u64));
        }
        let mut bytes = Vec::new();
        kept.take(self.form.max_kept as u64 + 1)
            .read_to_end(&mut bytes)?;
        if bytes.len() > self.form.max_kept {
            return Err(DeferredWriteError::TooLarge);
        }
        let rows = Kept::new(bytes, self.columns.len());
        let scope: Vec<u32> = (0..rows.starts.len() as u32).collect();
        let mut text = Vec::new();
        let filler = self.filler(&rows, Some(facts));
        self.whole(&filler, &Scope::of(&scope), &mut text)?;
        out.write_all(&text)?;
        let placed = filler.placed.take().into_iter();
        let at = |(place, row): (Range<usize>, u32)| {
            (place.start as u64..place.end as u64, filler.rows.at(row))
        };
        Ok(Placed::Within(placed.map(at).collect()))
    }
}
