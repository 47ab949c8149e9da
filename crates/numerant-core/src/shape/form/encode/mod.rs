//! Fills shapes in: record by record where the shape lets that be, or else when all records of an
//! output are there.

mod fill;
mod rows;

use std::cell::Cell;
use std::collections::HashMap;
use std::fs::File;
use std::io::{self, BufReader, Read, Write};

use fill::Filler;
use rows::{Kept, Live, NoRows, Rows, keep};

use super::{Body, Each, Item, Piece, Place, Shape, Value, computed_name};
use crate::format::column::TextColumn;
use crate::format::xml::push_comment;
use crate::format::{Blanks, ControlSigns, EncodeError, Late, LateError, RecordEncoder};
use crate::name::{OutputFacts, Word, Words};
use crate::record::Batch;
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
