//! Shapes: the form that a document is to have, given as a sample of it with places in braces and
//! marks where parts repeat or may be left out.
//!
//! In XML the marks are processing instructions before the element that they are for: `<?each?>`,
//! `<?each quay?>`, `<?optional?>` and `<?optional @flag?>`. In JSON they are strings of their own: an
//! item `"{each}"`, `"{each quay}"` or `"{optional}"` before the item that it is for, and a member
//! `"{optional}": ["name"]` for members.

mod encode;
mod json;
mod xml;

use std::path::{Path, PathBuf};

pub(crate) use encode::ShapeEncoder;

use crate::expr::Expression;
use crate::name::{Key, OutputField, Word, Words, WordsError, parse_keys};
use crate::record::ColumnError;

/// A shape that cannot be used.
#[derive(Debug, thiserror::Error)]
#[error("{}{}: {problem}", .path.display(), at_line(*.line))]
pub struct ShapeError {
    /// The file.
    pub path: PathBuf,
    /// The line of it, from 1; 0 if it could not be read.
    pub line: usize,
    /// What is wrong.
    #[source]
    pub problem: ShapeProblem,
}

fn at_line(line: usize) -> String {
    match line {
        0 => String::new(),
        line => format!(", line {line}"),
    }
}

/// What is wrong with a shape.
#[derive(Debug, thiserror::Error)]
#[non_exhaustive]
pub enum ShapeProblem {
    /// It cannot be read.
    #[error("{0}")]
    Io(#[source] std::io::Error),
    /// It is neither JSON nor XML.
    #[error("this is {0}")]
    Malformed(String),
    /// It is of another format than the outputs.
    #[error("this is {shape}, and the outputs are {wanted}")]
    OtherFormat {
        /// The format of the shape.
        shape: &'static str,
        /// The format of the outputs.
        wanted: &'static str,
    },
    /// A place cannot be understood.
    #[error(transparent)]
    Words(#[from] WordsError),
    /// A mark cannot be understood.
    #[error("{0}")]
    Mark(String),
    /// A name is no column's.
    #[error("{0}")]
    Column(#[source] ColumnError),
    /// An expression cannot be understood.
    #[error("{0}")]
    Expression(String),
}

impl ShapeProblem {
    /// What to do about it, if there is something to say.
    pub fn hint(&self) -> Option<String> {
        match self {
            Self::Column(problem) => Some(problem.hint()),
            Self::Mark(_) => Some(
                "marks are <?each?>, <?each COLUMN,…?>, <?optional?> and <?optional @NAME?> in XML, \
                 \"{each}\", \"{each COLUMN,…}\" and \"{optional}\" in JSON"
                    .to_owned(),
            ),
            _ => None,
        }
    }
}

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

/// A place that is filled in.
#[derive(Clone, Debug)]
pub(super) struct Place {
    pub(super) words: Vec<Word>,
    pub(super) line: usize,
}

impl Place {
    fn new(text: &str, line: usize) -> Result<Self, (usize, ShapeProblem)> {
        let words: Words = text
            .parse()
            .map_err(|error: WordsError| (line, error.into()))?;
        Ok(Self {
            words: words.words,
            line,
        })
    }

    /// What is wanted, for messages.
    fn wanted(&self) -> String {
        let of_record = self.words.iter().find_map(|word| match word {
            Word::Column(key) => Some(format!("{{{key}}}")),
            Word::Expression(text) => Some(format!("{{= {text}}}")),
            _ => None,
        });
        of_record.unwrap_or_default()
    }

    fn is_of_records(&self) -> bool {
        let of_record = |word: &Word| matches!(word, Word::Column(_) | Word::Expression(_));
        self.words.iter().any(of_record)
    }

    fn is_of_output(&self) -> bool {
        self.words
            .iter()
            .any(|word| matches!(word, Word::Output(_)))
    }
}

/// A part that repeats.
#[derive(Clone, Debug)]
pub(super) struct Each<P> {
    /// For each value of these; for each record if there are none.
    pub(super) keys: Vec<Key>,
    pub(super) line: usize,
    pub(super) body: P,
}

/// A piece of an XML document.
#[derive(Clone, Debug)]
pub(super) enum Piece {
    Literal(String),
    Place(Place, Escape),
    Each(Each<Vec<Piece>>),
    /// Left out where all that is filled in is blank.
    Optional(Vec<Piece>),
}

/// A value of a JSON document.
#[derive(Clone, Debug)]
pub(super) enum Value {
    /// As it stands.
    Literal(String),
    /// A text, or a single value with its type.
    Place(Place),
    List(Vec<Item>),
    Object(Vec<(String, Value, bool)>),
}

/// An item of a list of a JSON document.
#[derive(Clone, Debug)]
pub(super) enum Item {
    One(Value),
    Each(Each<Value>),
    Optional(Value),
}

#[derive(Clone, Debug)]
pub(super) enum Body {
    Xml(Vec<Piece>),
    /// With blanks for each level, if the sample is on several lines.
    Json(Value, Option<usize>),
}

/// The form that documents are to have.
#[derive(Clone, Debug)]
pub(crate) struct Shape {
    path: PathBuf,
    body: Body,
}

/// A mark before a part.
#[derive(Clone, Debug, Default)]
struct Marks {
    each: Option<(Vec<Key>, usize)>,
    optional: bool,
    attributes: Vec<String>,
}

impl Marks {
    /// Takes note of a mark: its name and what stands behind that.
    fn add(&mut self, mark: &str, rest: &str, line: usize) -> Result<(), (usize, ShapeProblem)> {
        let rest = rest.trim();
        match mark {
            "each" => {
                let keys = match rest {
                    "" => Vec::new(),
                    rest => parse_keys(rest)
                        .map_err(|error| (line, ShapeProblem::Mark(error.to_string())))?,
                };
                if self.each.replace((keys, line)).is_some() {
                    let what = "two marks 'each' before one part".to_owned();
                    return Err((line, ShapeProblem::Mark(what)));
                }
            }
            _ if rest.is_empty() => self.optional = true,
            _ => {
                for name in rest.split_whitespace() {
                    let Some(name) = name.strip_prefix('@') else {
                        let what = format!("'{name}' is no attribute with its @");
                        return Err((line, ShapeProblem::Mark(what)));
                    };
                    self.attributes.push(name.to_owned());
                }
            }
        }
        Ok(())
    }

    fn is_empty(&self) -> bool {
        self.each.is_none() && !self.optional && self.attributes.is_empty()
    }
}

impl Shape {
    /// Reads a shape.
    pub(crate) fn read(path: &Path) -> Result<Self, ShapeError> {
        let failed = |(line, problem)| ShapeError {
            path: path.to_owned(),
            line,
            problem,
        };
        let text =
            std::fs::read_to_string(path).map_err(|error| failed((0, ShapeProblem::Io(error))))?;
        let text = text.strip_prefix('\u{feff}').unwrap_or(&text);
        let body = match text.trim_start().chars().next() {
            Some('<') => xml::parse(text).map(Body::Xml),
            Some('{' | '[') => json::parse(text),
            _ => Err((
                1,
                ShapeProblem::Malformed("neither an XML nor a JSON document".to_owned()),
            )),
        };
        Ok(Self {
            path: path.to_owned(),
            body: body.map_err(failed)?,
        })
    }

    pub(crate) fn is_xml(&self) -> bool {
        matches!(self.body, Body::Xml(_))
    }

    pub(crate) fn error(&self, line: usize, problem: ShapeProblem) -> ShapeError {
        ShapeError {
            path: self.path.clone(),
            line,
            problem,
        }
    }

    /// All places in it.
    fn places(&self) -> Vec<&Place> {
        let mut places = Vec::new();
        match &self.body {
            Body::Xml(pieces) => places_in(pieces, &mut places),
            Body::Json(value, _) => places_of(value, &mut places),
        }
        places
    }

    /// All keys that parts repeat by, with their lines.
    fn keys(&self) -> Vec<(Key, usize)> {
        fn pieces_keys(pieces: &[Piece], keys: &mut Vec<(Key, usize)>) {
            for piece in pieces {
                match piece {
                    Piece::Each(each) => {
                        keys.extend(each.keys.iter().map(|key| (key.clone(), each.line)));
                        pieces_keys(&each.body, keys);
                    }
                    Piece::Optional(inside) => pieces_keys(inside, keys),
                    Piece::Literal(_) | Piece::Place(..) => {}
                }
            }
        }
        fn value_keys(value: &Value, keys: &mut Vec<(Key, usize)>) {
            match value {
                Value::List(items) => {
                    for item in items {
                        match item {
                            Item::One(value) | Item::Optional(value) => value_keys(value, keys),
                            Item::Each(each) => {
                                keys.extend(each.keys.iter().map(|key| (key.clone(), each.line)));
                                value_keys(&each.body, keys);
                            }
                        }
                    }
                }
                Value::Object(members) => {
                    members
                        .iter()
                        .for_each(|(_, value, _)| value_keys(value, keys));
                }
                Value::Literal(_) | Value::Place(_) => {}
            }
        }
        let mut keys = Vec::new();
        match &self.body {
            Body::Xml(pieces) => pieces_keys(pieces, &mut keys),
            Body::Json(value, _) => value_keys(value, &mut keys),
        }
        keys
    }

    /// The columns that its expressions compute: their names and the expressions.
    pub(crate) fn computed(&self) -> Result<Vec<(String, Expression)>, ShapeError> {
        let mut computed: Vec<(String, Expression)> = Vec::new();
        for place in self.places() {
            for word in &place.words {
                let Word::Expression(text) = word else {
                    continue;
                };
                let name = computed_name(text);
                if computed.iter().any(|(known, _)| *known == name) {
                    continue;
                }
                let expression = text.parse().map_err(|error: crate::expr::ExprError| {
                    self.error(place.line, ShapeProblem::Expression(error.to_string()))
                })?;
                computed.push((name, expression));
            }
        }
        Ok(computed)
    }
}

/// The name of the column that an expression computes.
fn computed_name(expression: &str) -> String {
    format!("= {expression}")
}

fn places_in<'a>(pieces: &'a [Piece], places: &mut Vec<&'a Place>) {
    for piece in pieces {
        match piece {
            Piece::Place(place, _) => places.push(place),
            Piece::Each(each) => places_in(&each.body, places),
            Piece::Optional(inside) => places_in(inside, places),
            Piece::Literal(_) => {}
        }
    }
}

fn places_of<'a>(value: &'a Value, places: &mut Vec<&'a Place>) {
    match value {
        Value::Place(place) => places.push(place),
        Value::List(items) => {
            for item in items {
                match item {
                    Item::One(value) | Item::Optional(value) => places_of(value, places),
                    Item::Each(each) => places_of(&each.body, places),
                }
            }
        }
        Value::Object(members) => {
            members
                .iter()
                .for_each(|(_, value, _)| places_of(value, places));
        }
        Value::Literal(_) => {}
    }
}

/// What of an output stands in a text.
fn output_text(field: OutputField, facts: Option<&crate::name::OutputFacts>) -> String {
    facts.map_or_else(String::new, |facts| facts.text(field))
}
