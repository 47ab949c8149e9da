//! The parts of a shape, and what is in them.

use super::word::{Placeholder, ShapeWord, computed_name};
use numerant_naming::Key;

/// How what is filled in has to be written.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(super) enum Escape {
    /// As text of an element.
    Text,
    /// As the value of an attribute.
    Attribute,
    /// As it is between the marks of a comment.
    Comment,
    /// As text of a CDATA section.
    Section,
}

/// What a part repeats for.
#[derive(Clone, Debug)]
pub(super) enum Over {
    /// Each record.
    Records,
    /// The records of each combination of values.
    Groups(Vec<Key>),
    /// The items of a list that one record has, such as `lines[*]`.
    Items(String),
}

/// A part that repeats.
#[derive(Clone, Debug)]
pub(super) struct Each<P> {
    pub(super) over: Over,
    pub(super) line: usize,
    pub(super) body: P,
}

/// A part that is there if a condition holds.
#[derive(Clone, Debug)]
pub(super) struct When<P> {
    /// It is not there if the part before it is.
    pub(super) is_else: bool,
    /// The condition, computed for each record; `None` if that it follows is all.
    pub(super) condition: Option<Placeholder>,
    pub(super) body: P,
}

/// A piece of an XML document.
#[derive(Clone, Debug)]
pub(super) enum Piece {
    Literal(String),
    Placeholder(Placeholder, Escape),
    Each(Each<Vec<Piece>>),
    When(When<Vec<Piece>>),
    /// Left out where all that is filled in is blank.
    Optional(Vec<Piece>),
}

/// A value of a JSON document.
#[derive(Clone, Debug)]
pub(super) enum Value {
    /// Verbatim.
    Literal(String),
    /// A text, or a single value with its type.
    Placeholder(Placeholder),
    List(Vec<Item>),
    Object(Vec<Member>),
}

/// An item of a list of a JSON document.
#[derive(Clone, Debug)]
pub(super) enum Item {
    One(Value),
    Each(Each<Box<Item>>),
    When(When<Box<Item>>),
    /// Left out where all that is filled in is blank.
    Optional(Value),
}

/// What is in an object of a JSON document.
#[derive(Clone, Debug)]
pub(super) enum Member {
    One {
        name: Placeholder,
        value: Value,
        optional: bool,
    },
    Each(Each<Vec<Member>>),
    When(When<Vec<Member>>),
}

/// The whole of a shape.
#[derive(Clone, Debug)]
pub(super) enum Body {
    Xml(Vec<Piece>),
    /// With blanks for each level, if the sample is on several lines.
    Json(Value, Option<usize>),
}

/// Hears what is in a shape.
pub(super) trait Visitor<'a> {
    fn place(&mut self, place: &'a Placeholder);
    /// The condition of a part.
    fn condition(&mut self, place: &'a Placeholder) {
        self.place(place);
    }
    /// A part that repeats begins.
    fn enter(&mut self, _over: &'a Over, _line: usize) {}
    /// It ends.
    fn leave(&mut self) {}
}

impl Body {
    pub(super) fn visit<'a>(&'a self, visitor: &mut dyn Visitor<'a>) {
        match self {
            Self::Xml(pieces) => visit_pieces(pieces, visitor),
            Self::Json(value, _) => value.visit(visitor),
        }
    }
}

fn visit_each<'a, P>(
    each: &'a Each<P>,
    visitor: &mut dyn Visitor<'a>,
    body: impl FnOnce(&'a P, &mut dyn Visitor<'a>),
) {
    visitor.enter(&each.over, each.line);
    body(&each.body, visitor);
    visitor.leave();
}

fn visit_when<'a, P>(
    when: &'a When<P>,
    visitor: &mut dyn Visitor<'a>,
    body: impl FnOnce(&'a P, &mut dyn Visitor<'a>),
) {
    when.condition
        .iter()
        .for_each(|place| visitor.condition(place));
    body(&when.body, visitor);
}

pub(super) fn visit_pieces<'a>(pieces: &'a [Piece], visitor: &mut dyn Visitor<'a>) {
    for piece in pieces {
        match piece {
            Piece::Literal(_) => {}
            Piece::Placeholder(place, _) => visitor.place(place),
            Piece::Each(each) => visit_each(each, visitor, |body, v| visit_pieces(body, v)),
            Piece::When(when) => visit_when(when, visitor, |body, v| visit_pieces(body, v)),
            Piece::Optional(inside) => visit_pieces(inside, visitor),
        }
    }
}

impl Value {
    pub(super) fn visit<'a>(&'a self, visitor: &mut dyn Visitor<'a>) {
        match self {
            Self::Literal(_) => {}
            Self::Placeholder(place) => visitor.place(place),
            Self::List(items) => items.iter().for_each(|item| item.visit(visitor)),
            Self::Object(members) => visit_members(members, visitor),
        }
    }
}

impl Item {
    pub(super) fn visit<'a>(&'a self, visitor: &mut dyn Visitor<'a>) {
        match self {
            Self::One(value) | Self::Optional(value) => value.visit(visitor),
            Self::Each(each) => visit_each(each, visitor, |body, v| body.visit(v)),
            Self::When(when) => visit_when(when, visitor, |body, v| body.visit(v)),
        }
    }
}

fn visit_members<'a>(members: &'a [Member], visitor: &mut dyn Visitor<'a>) {
    for member in members {
        match member {
            Member::One { name, value, .. } => {
                visitor.place(name);
                value.visit(visitor);
            }
            Member::Each(each) => visit_each(each, visitor, |body, v| visit_members(body, v)),
            Member::When(when) => visit_when(when, visitor, |body, v| visit_members(body, v)),
        }
    }
}

/// The columns that are used, with the first line that each is used in, and the expressions of those
/// that are computed.
#[derive(Debug, Default)]
pub(super) struct Used {
    pub(super) columns: Vec<(String, usize)>,
    pub(super) computed: Vec<(String, String, usize)>,
    /// Columns of conditions.
    pub(super) conditions: Vec<(String, usize)>,
    /// Lists whose items repeat, such as `lines[*]`.
    pub(super) lists: Vec<(String, usize)>,
}

impl Used {
    fn column(&mut self, name: &str, line: usize) {
        if !self.columns.iter().any(|(known, _)| known == name) {
            self.columns.push((name.to_owned(), line));
        }
    }

    fn expression(&mut self, text: &str, line: usize) {
        let name = computed_name(text);
        self.column(&name, line);
        if !self.computed.iter().any(|(known, ..)| *known == name) {
            self.computed.push((name, text.to_owned(), line));
        }
    }
}

impl<'a> Visitor<'a> for Used {
    fn place(&mut self, place: &'a Placeholder) {
        for word in &place.words {
            match word {
                ShapeWord::Column(key) => self.column(&key.column, place.line),
                ShapeWord::Expression(text) => self.expression(text, place.line),
                ShapeWord::Aggregate(aggregate) => match &aggregate.expression {
                    Some(text) => self.expression(text, place.line),
                    None if aggregate.column.is_empty() => {}
                    None => self.column(&aggregate.column, place.line),
                },
                ShapeWord::Literal(_) | ShapeWord::Output(_) | ShapeWord::Number => {}
            }
        }
    }

    fn condition(&mut self, place: &'a Placeholder) {
        self.place(place);
        for word in &place.words {
            if let ShapeWord::Expression(text) = word {
                self.conditions.push((computed_name(text), place.line));
            }
        }
    }

    fn enter(&mut self, over: &'a Over, line: usize) {
        match over {
            Over::Records => {}
            Over::Groups(keys) => keys.iter().for_each(|key| self.column(&key.column, line)),
            Over::Items(list) => self.lists.push((list.clone(), line)),
        }
    }
}

/// The lines of places that need a part that repeats around them and have none.
#[derive(Debug, Default)]
pub(super) struct Unscoped {
    depth: usize,
    pub(super) numbers: Vec<usize>,
}

impl<'a> Visitor<'a> for Unscoped {
    fn place(&mut self, place: &'a Placeholder) {
        let is_number = |word: &ShapeWord| matches!(word, ShapeWord::Number);
        if self.depth == 0 && place.words.iter().any(is_number) {
            self.numbers.push(place.line);
        }
    }

    fn enter(&mut self, _over: &'a Over, _line: usize) {
        self.depth += 1;
    }

    fn leave(&mut self) {
        self.depth -= 1;
    }
}
