//! From the tree of an expression to a checked one: columns are found, types fit, and what is not
//! part of the scalar expressions is refused with its place.
//!
//! The text of a cell ([`Type::Cell`]) becomes what the rest of its operator needs; `coerce` is
//! where that happens.

use crate::StepName;
use std::borrow::Cow;

use super::error::{ExprError, ExprProblem};
use super::evaluate::Compiled;
use super::node::{Column, Function, Node, Reading, Value};
use super::text::Side;
use super::tree::{Expr, Kind, Name, Span, TrimSide};
use super::types::Type;
use numerant_data::record::{ColumnError, nearest};
use numerant_data::tree::Occurrences;
use numerant_data::value::{Cells, Number};

mod call;
mod compare;
mod literal;
mod operator;

/// The names of all functions.
pub const FUNCTIONS: [&str; 26] = [
    "ABS",
    "BTRIM",
    "CAST",
    "CEIL",
    "CEILING",
    "CHARACTER_LENGTH",
    "CHAR_LENGTH",
    "COALESCE",
    "EXTRACT",
    "FLOOR",
    "GREATEST",
    "LEAST",
    "LOWER",
    "LPAD",
    "LTRIM",
    "MOD",
    "NULLIF",
    "OCTET_LENGTH",
    "OVERLAY",
    "POSITION",
    "ROUND",
    "RPAD",
    "RTRIM",
    "SUBSTRING",
    "TRIM",
    "UPPER",
];

const AGGREGATES: [&str; 9] = [
    "SUM",
    "COUNT",
    "AVG",
    "MIN",
    "MAX",
    "EVERY",
    "ANY_VALUE",
    "LISTAGG",
    "ROW_NUMBER",
];

/// The columns that an expression may name.
#[derive(Clone, Copy, Debug)]
pub struct Scope<'s> {
    /// Those that there are.
    pub columns: &'s [ScopeColumn],
    /// Those that only later steps make, each with the step.
    pub later: &'s [(String, StepName)],
    /// How cells are read, which decides what a text in an expression is compared as.
    pub cells: &'s Cells,
    /// How columns are named that are occurrences of one value, if any are.
    pub occurrences: Option<Occurrences>,
}

/// A column that an expression may name.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct ScopeColumn {
    /// What it is called.
    pub name: String,
    /// Its place in batches.
    pub slot: usize,
    /// The type of its values.
    pub kind: Type,
    /// An earlier step has computed it.
    pub computed: bool,
}

type Checked = Result<(Node, Type), ExprError>;

pub(super) struct Check<'c> {
    text: &'c str,
    scope: &'c Scope<'c>,
}

impl<'c> Check<'c> {
    pub(super) fn new(text: &'c str, scope: &'c Scope<'c>) -> Self {
        Self { text, scope }
    }

    pub(super) fn compile(&self, tree: &Expr) -> Result<Compiled, ExprError> {
        let (node, kind) = self.check(tree)?;
        Ok(Compiled {
            node,
            kind,
            any: None,
        })
    }

    pub(super) fn compile_as(
        &self,
        tree: &Expr,
        what: &str,
        wanted: Type,
    ) -> Result<Compiled, ExprError> {
        let node = self.typed(tree, wanted, what)?;
        Ok(Compiled {
            node,
            kind: wanted,
            any: None,
        })
    }

    /// An error at the place of `tree`.
    fn error(&self, tree: &Expr, problem: ExprProblem) -> ExprError {
        self.error_at(tree.span, problem)
    }

    fn error_at(&self, span: Span, problem: ExprProblem) -> ExprError {
        ExprError::at(self.text, span, problem)
    }

    fn unsupported(&self, tree: &Expr, what: &str) -> ExprError {
        self.error(tree, ExprProblem::Unsupported(what.to_owned()))
    }

    fn check(&self, tree: &Expr) -> Checked {
        match &tree.kind {
            Kind::Column(name) => self.column(name),
            Kind::Number(text) => self.number(tree, text),
            Kind::Text(text) => {
                let text = Cow::Owned(text.clone().into_bytes());
                Ok((Node::Constant(Value::Text(text)), Type::Text))
            }
            Kind::Boolean(value) => Ok((Node::Constant(Value::Boolean(*value)), Type::Boolean)),
            Kind::Null => Ok((Node::Constant(Value::Null), Type::Null)),
            Kind::Typed { of, text } => self.moment_literal(tree, of, text),
            Kind::Interval(literal) => self.interval_literal(tree, literal.as_ref()),
            Kind::Not(inner) => {
                let node = self.typed(inner, Type::Boolean, "NOT")?;
                Ok((Node::Not(Box::new(node)), Type::Boolean))
            }
            Kind::Signed { is_minus, inner } => self.signed(*is_minus, inner),
            Kind::Binary {
                left,
                operator,
                right,
            } => self.binary(tree, left, *operator, right),
            Kind::Between {
                value,
                low,
                high,
                negated,
            } => self.between(tree, value, low, high, *negated),
            Kind::In {
                value,
                list,
                negated,
            } => self.in_list(tree, value, list, *negated),
            Kind::Like {
                value,
                pattern,
                escape,
                negated,
            } => self.like(value, pattern, escape.as_deref(), *negated),
            Kind::IsNull { inner, negated } => self.is_null(inner, *negated),
            Kind::IsTruth {
                inner,
                wanted,
                negated,
            } => self.is_truth(inner, *wanted, *negated),
            Kind::Distinct {
                one,
                other,
                negated,
            } => self.distinct(tree, one, other, *negated),
            Kind::Case {
                operand,
                branches,
                otherwise,
            } => self.case(tree, operand.as_deref(), branches, otherwise.as_deref()),
            Kind::Cast { inner, to } => self.cast(tree, inner, to),
            Kind::Extract { unit, inner } => self.extract(unit, inner),
            Kind::Position { part, whole } => {
                let part = self.typed(part, Type::Text, "POSITION")?;
                let whole = self.typed(whole, Type::Text, "POSITION")?;
                let arguments = vec![part, whole];
                Ok((Node::Call(Function::Position, arguments), Type::Number))
            }
            Kind::Substring { text, from, length } => {
                let mut arguments = vec![self.typed(text, Type::Text, "SUBSTRING")?];
                match from {
                    Some(from) => arguments.push(self.typed(from, Type::Number, "FROM")?),
                    None => {
                        let first = Number { units: 1, scale: 0 };
                        arguments.push(Node::Constant(Value::Number(first)));
                    }
                }
                if let Some(length) = length {
                    arguments.push(self.typed(length, Type::Number, "FOR")?);
                }
                Ok((Node::Call(Function::Substring, arguments), Type::Text))
            }
            Kind::Trim {
                side,
                character,
                text,
            } => {
                let side = match side {
                    TrimSide::Both => Side::Both,
                    TrimSide::Leading => Side::Leading,
                    TrimSide::Trailing => Side::Trailing,
                };
                let character = match character {
                    Some(character) => self.typed(character, Type::Text, "TRIM")?,
                    None => space(),
                };
                let arguments = vec![character, self.typed(text, Type::Text, "TRIM")?];
                Ok((Node::Call(Function::Trim(side), arguments), Type::Text))
            }
            Kind::Overlay {
                text,
                with,
                from,
                length,
            } => {
                let mut arguments = vec![
                    self.typed(text, Type::Text, "OVERLAY")?,
                    self.typed(with, Type::Text, "PLACING")?,
                    self.typed(from, Type::Number, "FROM")?,
                ];
                if let Some(length) = length {
                    arguments.push(self.typed(length, Type::Number, "FOR")?);
                }
                Ok((Node::Call(Function::Overlay, arguments), Type::Text))
            }
            Kind::Call {
                name,
                arguments,
                is_windowed,
            } => self.call(tree, name, arguments.as_deref(), *is_windowed),
        }
    }

    fn column(&self, name: &Name) -> Checked {
        let columns = self.scope.columns;
        let exact = columns.iter().find(|column| column.name == name.text);
        let found = match exact {
            Some(column) => column,
            None => {
                // Names without quotes are the same in any case.
                let folded = name.text.to_lowercase();
                let alike: Vec<&ScopeColumn> = columns
                    .iter()
                    .filter(|column| !name.is_quoted && column.name.to_lowercase() == folded)
                    .collect();
                match alike[..] {
                    [column] => column,
                    [] => return Err(self.unknown_column(name)),
                    ref several => {
                        let candidates: Vec<String> = several
                            .iter()
                            .map(|column| format!("\"{}\"", column.name))
                            .collect();
                        let problem = ExprProblem::Case {
                            name: name.text.clone(),
                            candidates: candidates.join(", "),
                        };
                        return Err(self.error_at(name.span, problem));
                    }
                }
            }
        };
        let reading = match found.kind {
            Type::Number => Reading::Number,
            Type::Moment => Reading::Moment,
            Type::Boolean => Reading::Boolean,
            _ => Reading::Text,
        };
        let kind = match found.kind {
            Type::Null | Type::Interval => Type::Cell,
            kind => kind,
        };
        let column = Column {
            slot: found.slot,
            name: found.name.clone(),
            reading,
            computed: found.computed,
        };
        Ok((Node::Column(column), kind))
    }

    fn unknown_column(&self, name: &Name) -> ExprError {
        let later = self.scope.later.iter();
        let problem = match later.into_iter().find(|(later, _)| *later == name.text) {
            Some((name, step)) => ExprProblem::Later {
                name: name.clone(),
                step: *step,
            },
            None => {
                let columns = self.scope.columns.iter();
                let names: Vec<String> = columns.map(|column| column.name.clone()).collect();
                let near = nearest(&name.text, names.iter().map(String::as_str));
                ExprProblem::Column {
                    problem: Box::new(ColumnError {
                        name: name.text.clone(),
                        nearest: near.map(str::to_owned),
                        columns: names,
                    }),
                    quoted: name.is_quoted,
                }
            }
        };
        self.error_at(name.span, problem)
    }

    fn mismatch(&self, tree: &Expr, what: &str, one: Type, other: Type) -> ExprError {
        let problem = ExprProblem::Mismatch {
            what: what.to_owned(),
            one,
            other,
        };
        self.error(tree, problem)
    }

    /// Parts made to be of one type, and the type. Cells become what the others are.
    fn unified(
        &self,
        tree: &Expr,
        what: &str,
        parts: &[&Expr],
    ) -> Result<(Vec<Node>, Type), ExprError> {
        let mut checked = Vec::with_capacity(parts.len());
        for part in parts {
            checked.push(self.check(part)?);
        }
        self.unify(tree, what, parts, checked)
    }

    /// [`Check::unified`] of parts that are checked.
    fn unify(
        &self,
        tree: &Expr,
        what: &str,
        parts: &[&Expr],
        checked: Vec<(Node, Type)>,
    ) -> Result<(Vec<Node>, Type), ExprError> {
        let mut common: Option<Type> = None;
        let mut cells = false;
        for (_, kind) in &checked {
            match (*kind, common) {
                (Type::Null, _) => {}
                (Type::Cell, _) => cells = true,
                (kind, None) => common = Some(kind),
                (kind, Some(known)) if kind == known => {}
                (kind, Some(known)) => return Err(self.mismatch(tree, what, known, kind)),
            }
        }
        let fallback = if cells { Type::Cell } else { Type::Null };
        let common = common.unwrap_or(fallback);
        let nodes: Result<Vec<Node>, ExprError> = checked
            .into_iter()
            .zip(parts)
            .map(|((node, kind), part)| match common {
                Type::Cell | Type::Null => Ok(node),
                wanted => self.coerce(part, node, kind, wanted, what),
            })
            .collect();
        Ok((nodes?, common))
    }

    /// A part that is to be of type `wanted`.
    fn typed(&self, tree: &Expr, wanted: Type, what: &str) -> Result<Node, ExprError> {
        let (node, kind) = self.check(tree)?;
        self.coerce(tree, node, kind, wanted, what)
    }

    /// A node of type `kind` as one of type `wanted`, if cells are all that is between.
    fn coerce(
        &self,
        tree: &Expr,
        node: Node,
        kind: Type,
        wanted: Type,
        what: &str,
    ) -> Result<Node, ExprError> {
        if kind == wanted || kind == Type::Null {
            return Ok(node);
        }
        let reading = match (kind, wanted) {
            (Type::Cell, Type::Text) => return Ok(node),
            (Type::Cell, Type::Number) => Reading::Number,
            (Type::Cell, Type::Moment) => Reading::Moment,
            (Type::Cell, Type::Boolean) => Reading::Boolean,
            _ => {
                let problem = ExprProblem::Wanted {
                    what: what.to_owned(),
                    wanted,
                    found: kind,
                };
                return Err(self.error(tree, problem));
            }
        };
        Ok(match node {
            Node::Column(column) => Node::Column(Column { reading, ..column }),
            node => Node::Read(Box::new(node), reading),
        })
    }
}

fn space() -> Node {
    Node::Constant(Value::Text(Cow::Borrowed(b" ")))
}
