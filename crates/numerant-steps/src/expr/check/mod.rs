//! From the tree of an expression to a checked one: columns are found, types fit, and what is not
//! part of the scalar expressions is refused with its place.
//!
//! The text of a cell ([`Type::Cell`]) becomes what the rest of its operator needs; `coerce` is
//! where that happens.

use std::borrow::Cow;

use sqlparser::ast::{CastKind, Expr, Ident, Spanned, TrimWhereField, Value as Literal};

use super::error::{ExprError, ExprProblem};
use super::evaluate::Compiled;
use super::node::{Column, Function, Node, Reading, Value};
use super::parse::char_place;
use super::text::Side;
use super::types::Type;
use numerant_data::record::{ColumnError, nearest};
use numerant_data::value::{Cells, Number, Rounding};

mod call;
mod compare;
mod literal;
mod operator;

/// All functions, as they are written.
pub(super) const FUNCTIONS: [&str; 26] = [
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
    pub later: &'s [(String, &'static str)],
    /// How cells are read, which decides what a text in an expression is compared as.
    pub cells: &'s Cells,
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
        self.error_at(tree.span(), problem)
    }

    fn error_at(&self, span: sqlparser::tokenizer::Span, problem: ExprProblem) -> ExprError {
        let known = span.start.line > 0;
        let start = char_place(self.text, span.start);
        let end = char_place(self.text, span.end);
        ExprError {
            text: self.text.to_owned(),
            at: known.then_some(start),
            length: end.saturating_sub(start).max(1),
            problem,
        }
    }

    fn unsupported(&self, tree: &Expr, what: &str) -> ExprError {
        self.error(tree, ExprProblem::Unsupported(what.to_owned()))
    }

    fn check(&self, tree: &Expr) -> Checked {
        match tree {
            Expr::Nested(inner) => self.check(inner),
            Expr::Identifier(name) => self.column(name),
            Expr::Value(value) => self.literal(tree, &value.value),
            Expr::TypedString(typed) => {
                let Literal::SingleQuotedString(text) = &typed.value.value else {
                    return Err(self.unsupported(tree, "this kind of literal"));
                };
                self.moment_literal(tree, &typed.data_type, text)
            }
            Expr::Interval(interval) => self.interval_literal(tree, interval),
            Expr::UnaryOp { op, expr } => self.unary(tree, *op, expr),
            Expr::BinaryOp { left, op, right } => self.binary(tree, left, op, right),
            Expr::Between {
                expr,
                negated,
                low,
                high,
            } => self.between(tree, expr, low, high, *negated),
            Expr::InList {
                expr,
                list,
                negated,
            } => self.in_list(tree, expr, list, *negated),
            Expr::Like {
                negated,
                any: false,
                expr,
                pattern,
                escape_char,
            } => self.like(expr, pattern, escape_char.as_deref(), *negated),
            Expr::ILike { .. } => Err(self.unsupported(tree, "ILIKE")),
            Expr::IsNull(inner) => self.is_null(inner, false),
            Expr::IsNotNull(inner) => self.is_null(inner, true),
            Expr::IsTrue(inner) => self.is_truth(inner, Some(true), false),
            Expr::IsNotTrue(inner) => self.is_truth(inner, Some(true), true),
            Expr::IsFalse(inner) => self.is_truth(inner, Some(false), false),
            Expr::IsNotFalse(inner) => self.is_truth(inner, Some(false), true),
            Expr::IsUnknown(inner) => self.is_truth(inner, None, false),
            Expr::IsNotUnknown(inner) => self.is_truth(inner, None, true),
            Expr::IsDistinctFrom(one, other) => self.distinct(tree, one, other, false),
            Expr::IsNotDistinctFrom(one, other) => self.distinct(tree, one, other, true),
            Expr::Case {
                operand,
                conditions,
                else_result,
                ..
            } => self.case(tree, operand.as_deref(), conditions, else_result.as_deref()),
            Expr::Cast {
                kind: CastKind::Cast,
                expr,
                data_type,
                format: None,
            } => self.cast(tree, expr, data_type),
            Expr::Extract { field, expr, .. } => self.extract(tree, field, expr),
            Expr::Ceil { expr, field } => self.rounded(tree, expr, field, Rounding::Ceiling),
            Expr::Floor { expr, field } => self.rounded(tree, expr, field, Rounding::Floor),
            Expr::Position { expr, r#in } => {
                let part = self.typed(expr, Type::Text, "POSITION")?;
                let whole = self.typed(r#in, Type::Text, "POSITION")?;
                Ok((
                    Node::Call(Function::Position, vec![part, whole]),
                    Type::Number,
                ))
            }
            Expr::Substring {
                expr,
                substring_from,
                substring_for,
                ..
            } => {
                let mut arguments = vec![self.typed(expr, Type::Text, "SUBSTRING")?];
                match substring_from {
                    Some(from) => arguments.push(self.typed(from, Type::Number, "FROM")?),
                    None => {
                        let first = Number { units: 1, scale: 0 };
                        arguments.push(Node::Constant(Value::Number(first)));
                    }
                }
                if let Some(length) = substring_for {
                    arguments.push(self.typed(length, Type::Number, "FOR")?);
                }
                Ok((Node::Call(Function::Substring, arguments), Type::Text))
            }
            Expr::Trim {
                trim_where,
                trim_what,
                expr,
                trim_characters: None,
            } => {
                let side = match trim_where {
                    None | Some(TrimWhereField::Both) => Side::Both,
                    Some(TrimWhereField::Leading) => Side::Leading,
                    Some(TrimWhereField::Trailing) => Side::Trailing,
                };
                let character = match trim_what {
                    Some(what) => self.typed(what, Type::Text, "TRIM")?,
                    None => space(),
                };
                let text = self.typed(expr, Type::Text, "TRIM")?;
                Ok((
                    Node::Call(Function::Trim(side), vec![character, text]),
                    Type::Text,
                ))
            }
            Expr::Overlay {
                expr,
                overlay_what,
                overlay_from,
                overlay_for,
            } => {
                let mut arguments = vec![
                    self.typed(expr, Type::Text, "OVERLAY")?,
                    self.typed(overlay_what, Type::Text, "PLACING")?,
                    self.typed(overlay_from, Type::Number, "FROM")?,
                ];
                if let Some(length) = overlay_for {
                    arguments.push(self.typed(length, Type::Number, "FOR")?);
                }
                Ok((Node::Call(Function::Overlay, arguments), Type::Text))
            }
            Expr::Function(call) => self.call(tree, call),
            Expr::CompoundIdentifier(_) => Err(self.unsupported(
                tree,
                "a name with a point (put a column's name with a point in double quotes: it)",
            )),
            Expr::Subquery(_) | Expr::InSubquery { .. } | Expr::Exists { .. } => {
                Err(self.unsupported(tree, "a query inside"))
            }
            _ => Err(self.unsupported(tree, "this")),
        }
    }

    fn column(&self, name: &Ident) -> Checked {
        let columns = self.scope.columns;
        let exact = columns.iter().find(|column| column.name == name.value);
        let found = match exact {
            Some(column) => column,
            None => {
                // Names without quotes are the same in any case.
                let folded = name.value.to_lowercase();
                let alike: Vec<&ScopeColumn> = columns
                    .iter()
                    .filter(|column| {
                        name.quote_style.is_none() && column.name.to_lowercase() == folded
                    })
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
                            name: name.value.clone(),
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

    fn unknown_column(&self, name: &Ident) -> ExprError {
        let later = self.scope.later.iter();
        let problem = match later.into_iter().find(|(later, _)| *later == name.value) {
            Some((name, step)) => ExprProblem::Later {
                name: name.clone(),
                step,
            },
            None => {
                let columns = self.scope.columns.iter();
                let names: Vec<String> = columns.map(|column| column.name.clone()).collect();
                let near = nearest(&name.value, names.iter().map(String::as_str));
                ExprProblem::Column {
                    problem: Box::new(ColumnError {
                        name: name.value.clone(),
                        nearest: near.map(str::to_owned),
                        columns: names,
                    }),
                    quoted: name.quote_style.is_some(),
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

    /// A node of type `kind` as one of type `wanted`, if cells are all that stands between.
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
