//! Shapes: the form that a document is to have, given as a sample of it with placeholders in braces and
//! marks where parts repeat or may be left out.
//!
//! In XML the marks are processing instructions before the element that they are for: `<?each?>`,
//! `<?each quay?>`, `<?each lines[*]?>`, `<?when CONDITION?>`, `<?else?>`, `<?optional?>` and
//! `<?optional @flag?>`. In JSON they are strings: an item such as `"{each quay}"` before the item that
//! it is for, a member such as `"{each quay}": {…}` whose members repeat, and a member
//! `"{optional}": ["name"]` for members.
//!
//! ```
//! use numerant_shapes::Shape;
//!
//! let file = tempfile::Builder::new().suffix(".json").tempfile()?;
//! std::fs::write(file.path(), r#"{"calls": ["{each}", {"id": "{call_id}"}]}"#)?;
//! let shape = Shape::read(file.path()).expect("a shape");
//! assert!(!shape.is_xml());
//! # Ok::<(), std::io::Error>(())
//! ```

mod encode;
mod json;
mod parts;
mod word;
mod xml;

use std::path::{Path, PathBuf};

pub use encode::{ShapeEncoder, ShapeForm};

use parts::{Body, Over, Unscoped, Used, When};
use word::Placeholder;

use numerant_data::record::ColumnError;
use numerant_naming::{OutputField, WordsError, parse_keys};
use numerant_steps::expr::Expression;

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

/// The form that documents are to have.
#[derive(Clone, Debug)]
pub struct Shape {
    path: PathBuf,
    body: Body,
}

/// What is wrong, and on which line.
type Wrong = (usize, ShapeProblem);

/// A mark before a part.
#[derive(Clone, Debug, Default)]
struct Marks {
    each: Option<(Over, usize)>,
    /// Whether the part is instead of the one before it, and its condition.
    when: Option<(bool, Option<Placeholder>, usize)>,
    optional: bool,
    attributes: Vec<String>,
}

/// The words that marks begin with.
const MARKS: [&str; 4] = ["each", "when", "else", "optional"];

impl Marks {
    /// Takes note of a mark: its name and what is after that.
    fn add(&mut self, mark: &str, rest: &str, line: usize) -> Result<(), Wrong> {
        let rest = rest.trim();
        let wrong = |what: String| (line, ShapeProblem::Mark(what));
        match mark {
            "each" => {
                let over = match rest {
                    "" => Over::Records,
                    list if list.ends_with("[*]") => Over::Items(list.to_owned()),
                    keys => Over::Groups(parse_keys(keys).map_err(|e| wrong(e.to_string()))?),
                };
                if self.each.replace((over, line)).is_some() {
                    return Err(wrong("two marks 'each' before one part".to_owned()));
                }
            }
            "when" | "else" => {
                let condition = match (mark, rest.strip_prefix("when ")) {
                    ("when", _) if rest.is_empty() => {
                        return Err(wrong("the condition of 'when' is missing".to_owned()));
                    }
                    ("when", _) => Some(rest),
                    (_, Some(condition)) => Some(condition.trim()),
                    (_, None) if rest.is_empty() => None,
                    (_, None) => {
                        return Err(wrong(format!("'{rest}' after 'else' is not 'when …'")));
                    }
                };
                let condition = condition.map(|text| Placeholder {
                    words: vec![word::ShapeWord::Expression(text.to_owned())],
                    line,
                });
                if self
                    .when
                    .replace((mark == "else", condition, line))
                    .is_some()
                {
                    return Err(wrong(
                        "two marks 'when' or 'else' before one part".to_owned(),
                    ));
                }
            }
            _ if rest.is_empty() => self.optional = true,
            _ => {
                for name in rest.split_whitespace() {
                    let Some(name) = name.strip_prefix('@') else {
                        return Err(wrong(format!("'{name}' is not an attribute with @")));
                    };
                    self.attributes.push(name.to_owned());
                }
            }
        }
        Ok(())
    }

    fn is_empty(&self) -> bool {
        self.each.is_none() && self.when.is_none() && !self.optional && self.attributes.is_empty()
    }

    /// The part with its condition, if it has one. `follows` says that a part with one is before it.
    fn when<P>(&mut self, body: P, follows: bool) -> Result<Result<When<P>, P>, Wrong> {
        let Some((is_else, condition, line)) = self.when.take() else {
            return Ok(Err(body));
        };
        if is_else && !follows {
            let what = "'else' follows no part with 'when'".to_owned();
            return Err((line, ShapeProblem::Mark(what)));
        }
        Ok(Ok(When {
            is_else,
            condition,
            body,
        }))
    }
}

impl Shape {
    /// Reads a shape.
    pub fn read(path: &Path) -> Result<Self, ShapeError> {
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
        let body = body.map_err(failed)?;
        let mut unscoped = Unscoped::default();
        body.visit(&mut unscoped);
        if let Some(line) = unscoped.numbers.first() {
            let what = "{.number} is not in a part that repeats".to_owned();
            return Err(failed((*line, ShapeProblem::Mark(what))));
        }
        Ok(Self {
            path: path.to_owned(),
            body,
        })
    }

    /// Whether documents of the shape are XML.
    pub fn is_xml(&self) -> bool {
        matches!(self.body, Body::Xml(_))
    }

    /// An error on a line of the shape.
    pub fn error(&self, line: usize, problem: ShapeProblem) -> ShapeError {
        ShapeError {
            path: self.path.clone(),
            line,
            problem,
        }
    }

    /// What it uses of the records.
    fn used(&self) -> Used {
        let mut used = Used::default();
        self.body.visit(&mut used);
        used
    }

    /// The columns of its conditions, with their lines.
    pub fn conditions(&self) -> Vec<(String, usize)> {
        self.used().conditions
    }

    /// The columns that its expressions compute: their names and the expressions.
    pub fn computed(&self) -> Result<Vec<(String, Expression)>, ShapeError> {
        let computed = self.used().computed.into_iter();
        let parsed = computed.map(|(name, text, line)| {
            let expression = text
                .parse()
                .map_err(|error: numerant_steps::expr::ExprError| {
                    self.error(line, ShapeProblem::Expression(error.to_string()))
                })?;
            Ok((name, expression))
        });
        parsed.collect()
    }
}

/// What of an output is in a text.
fn output_text(field: OutputField, facts: Option<&numerant_naming::OutputFacts>) -> String {
    facts.map_or_else(String::new, |facts| facts.text(field))
}
