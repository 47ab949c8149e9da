//! From the tree of an expression to a checked one: columns are found, types fit, and what is not
//! part of the scalar expressions is refused with its place.
//!
//! The text of a cell ([`Type::Cell`]) becomes what the rest of its operator needs; `coerce` is
//! where that happens.

use std::borrow::Cow;

use sqlparser::ast::{
    BinaryOperator, CastKind, CeilFloorKind, CharacterLength, DataType, DateTimeField,
    ExactNumberInfo, Expr, Function as Call, FunctionArg, FunctionArgExpr, FunctionArguments,
    Ident, ObjectNamePart, Spanned, TrimWhereField, UnaryOperator, Value as Literal,
};

use super::error::{ExprError, ExprProblem};
use super::evaluate::Compiled;
use super::interval::{Interval, Unit};
use super::like::Like;
use super::node::{Column, Comparison, Function, Node, Operation, Reading, Target, Value};
use super::parse::char_place;
use super::text::Side;
use super::types::Type;
use crate::record::{ColumnError, nearest};
use crate::value::{Moment, Number, NumberProblem, Rounding};

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
        Ok(Compiled { node, kind })
    }

    pub(super) fn compile_as(
        &self,
        tree: &Expr,
        what: &str,
        wanted: Type,
    ) -> Result<Compiled, ExprError> {
        let node = self.typed(tree, wanted, what)?;
        Ok(Compiled { node, kind: wanted })
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
            } => {
                let parts = [expr.as_ref(), low, high];
                let [value, low, high] = self.alike(tree, "BETWEEN", parts)?;
                let (value, low, high) = (Box::new(value), Box::new(low), Box::new(high));
                let negated = *negated;
                let node = Node::Between {
                    value,
                    low,
                    high,
                    negated,
                };
                Ok((node, Type::Boolean))
            }
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

    fn literal(&self, tree: &Expr, literal: &Literal) -> Checked {
        Ok(match literal {
            Literal::Number(text, _) => {
                let number = Number::read(
                    // The standard lets a literal begin or end with its point.
                    format!("{}{}", if text.starts_with('.') { "0" } else { "" }, text)
                        .trim_end_matches('.')
                        .as_bytes(),
                    crate::value::DecimalMark::Point,
                );
                let number = number.map_err(|problem| {
                    let why = match problem {
                        NumberProblem::TooLong => "has more than 38 digits",
                        _ => "is not a number",
                    };
                    let start: String = text.chars().take(40).collect();
                    self.error(tree, ExprProblem::Literal(format!("{start} {why}")))
                })?;
                (Node::Constant(Value::Number(number)), Type::Number)
            }
            Literal::SingleQuotedString(text) | Literal::NationalStringLiteral(text) => {
                let text = Cow::Owned(text.clone().into_bytes());
                (Node::Constant(Value::Text(text)), Type::Text)
            }
            Literal::Boolean(value) => (Node::Constant(Value::Boolean(*value)), Type::Boolean),
            Literal::Null => (Node::Constant(Value::Null), Type::Null),
            _ => return Err(self.unsupported(tree, "this kind of literal")),
        })
    }

    fn moment_literal(&self, tree: &Expr, kind: &DataType, text: &str) -> Checked {
        let failed = |wanted: &str| {
            self.error(
                tree,
                ExprProblem::Literal(format!("'{text}' is not {wanted}")),
            )
        };
        let parsed = Moment::parse_iso(text.trim().as_bytes());
        let moment = match kind {
            DataType::Date => parsed
                .filter(|moment| moment.time.is_none())
                .ok_or_else(|| failed("a date; write one such as DATE '2026-03-05'"))?,
            DataType::Timestamp(..) => {
                let moment = parsed.ok_or_else(|| {
                    failed("a date with a time; write one such as TIMESTAMP '2026-03-05 14:20:00'")
                })?;
                Moment {
                    time: Some(moment.datetime().time()),
                    ..moment
                }
            }
            other => return Err(self.unsupported(tree, &format!("a literal of type {other}"))),
        };
        Ok((Node::Constant(Value::Moment(moment)), Type::Moment))
    }

    fn unit(&self, tree: &Expr, field: &DateTimeField) -> Result<Unit, ExprError> {
        Ok(match field {
            DateTimeField::Year => Unit::Year,
            DateTimeField::Month => Unit::Month,
            DateTimeField::Day => Unit::Day,
            DateTimeField::Hour => Unit::Hour,
            DateTimeField::Minute => Unit::Minute,
            DateTimeField::Second => Unit::Second,
            other => {
                return Err(self.unsupported(
                    tree,
                    &format!("{other} (there are YEAR, MONTH, DAY, HOUR, MINUTE and SECOND)"),
                ));
            }
        })
    }

    fn interval_literal(&self, tree: &Expr, interval: &sqlparser::ast::Interval) -> Checked {
        let (negative, value) = match interval.value.as_ref() {
            Expr::UnaryOp {
                op: UnaryOperator::Minus,
                expr,
            } => (true, expr.as_ref()),
            other => (false, other),
        };
        let text = match value {
            Expr::Value(value) => match &value.value {
                Literal::SingleQuotedString(text) => Some(text),
                _ => None,
            },
            _ => None,
        };
        let usual = "an interval is written INTERVAL '14' DAY or INTERVAL '1-6' YEAR TO MONTH";
        let failed = || self.error(tree, ExprProblem::Literal(usual.to_owned()));
        let (Some(text), Some(first)) = (text, &interval.leading_field) else {
            return Err(failed());
        };
        let first = self.unit(tree, first)?;
        let last = match &interval.last_field {
            Some(last) => self.unit(tree, last)?,
            None => first,
        };
        let parsed = Interval::parse(text, first, last).ok_or_else(failed)?;
        let parsed = if negative { parsed.negated() } else { parsed };
        Ok((Node::Constant(Value::Interval(parsed)), Type::Interval))
    }

    fn unary(&self, tree: &Expr, op: UnaryOperator, inner: &Expr) -> Checked {
        match op {
            UnaryOperator::Not => {
                let node = self.typed(inner, Type::Boolean, "NOT")?;
                Ok((Node::Not(Box::new(node)), Type::Boolean))
            }
            UnaryOperator::Minus | UnaryOperator::Plus => {
                let (node, kind) = self.check(inner)?;
                let wanted = if kind == Type::Interval {
                    Type::Interval
                } else {
                    Type::Number
                };
                let sign = if op == UnaryOperator::Minus { "-" } else { "+" };
                let node = self.coerce(inner, node, kind, wanted, sign)?;
                Ok(match (op, node) {
                    (UnaryOperator::Plus, node) => (node, wanted),
                    (_, Node::Constant(Value::Number(number))) => {
                        (Node::Constant(Value::Number(number.negated())), wanted)
                    }
                    (_, node) => (Node::Negate(Box::new(node)), wanted),
                })
            }
            _ => Err(self.unsupported(tree, "this operator")),
        }
    }

    fn binary(&self, tree: &Expr, left: &Expr, op: &BinaryOperator, right: &Expr) -> Checked {
        let comparison = match op {
            BinaryOperator::Eq => Some(Comparison::Equal),
            BinaryOperator::NotEq => Some(Comparison::Unequal),
            BinaryOperator::Lt => Some(Comparison::Less),
            BinaryOperator::LtEq => Some(Comparison::LessOrEqual),
            BinaryOperator::Gt => Some(Comparison::Greater),
            BinaryOperator::GtEq => Some(Comparison::GreaterOrEqual),
            _ => None,
        };
        if let Some(comparison) = comparison {
            let sign = op.to_string();
            let (nodes, kind) = self.unified(tree, &sign, &[left, right])?;
            let Ok([one, other]) = <[Node; 2]>::try_from(nodes) else {
                return Err(self.unsupported(tree, &sign));
            };
            for (node, opposite) in [(&one, &other), (&other, &one)] {
                if matches!(node, Node::Constant(Value::Text(text)) if text.is_empty())
                    && matches!(opposite, Node::Column(_))
                {
                    return Err(self.error(tree, ExprProblem::EmptyText));
                }
            }
            let node = match (kind, one, other) {
                (Type::Number, one, other) => {
                    Node::CompareNumbers(comparison, Box::new(one), Box::new(other))
                }
                (_, Node::Column(column), Node::Constant(Value::Text(text)))
                    if column.reading == Reading::Text =>
                {
                    Node::CompareText(comparison, column, text.into_owned())
                }
                (_, one, other) => Node::Compare(comparison, Box::new(one), Box::new(other)),
            };
            return Ok((node, Type::Boolean));
        }
        match op {
            BinaryOperator::And | BinaryOperator::Or => {
                let mut nodes = Vec::new();
                let sign = op.to_string();
                for side in [left, right] {
                    match (op, self.typed(side, Type::Boolean, &sign)?) {
                        (BinaryOperator::And, Node::And(inner))
                        | (BinaryOperator::Or, Node::Or(inner)) => nodes.extend(inner),
                        (_, node) => nodes.push(node),
                    }
                }
                let node = if *op == BinaryOperator::And {
                    Node::And(nodes)
                } else {
                    Node::Or(nodes)
                };
                Ok((node, Type::Boolean))
            }
            BinaryOperator::StringConcat => {
                let mut nodes = Vec::new();
                for side in [left, right] {
                    match self.typed(side, Type::Text, "||")? {
                        Node::Concat(inner) => nodes.extend(inner),
                        node => nodes.push(node),
                    }
                }
                Ok((Node::Concat(nodes), Type::Text))
            }
            BinaryOperator::Plus => self.arithmetic(tree, left, Operation::Plus, "+", right),
            BinaryOperator::Minus => self.arithmetic(tree, left, Operation::Minus, "-", right),
            BinaryOperator::Multiply => self.arithmetic(tree, left, Operation::Times, "*", right),
            BinaryOperator::Divide => self.arithmetic(tree, left, Operation::Divide, "/", right),
            BinaryOperator::Modulo => Err(self.unsupported(tree, "%")),
            _ => Err(self.unsupported(tree, &format!("the operator {op}"))),
        }
    }

    fn arithmetic(
        &self,
        tree: &Expr,
        left: &Expr,
        operation: Operation,
        sign: &str,
        right: &Expr,
    ) -> Checked {
        use Type::{Cell, Interval, Moment, Null, Number};
        let (one, one_kind) = self.check(left)?;
        let (other, other_kind) = self.check(right)?;
        let (wanted, result) = match (operation, one_kind, other_kind) {
            (Operation::Plus | Operation::Minus, Moment | Cell, Interval) => {
                ((Moment, Interval), Moment)
            }
            (Operation::Plus, Interval, Moment | Cell) => ((Interval, Moment), Moment),
            (Operation::Minus, Moment, Moment | Cell) | (Operation::Minus, Cell, Moment) => {
                ((Moment, Moment), Interval)
            }
            (Operation::Plus | Operation::Minus, Interval, Interval) => {
                ((Interval, Interval), Interval)
            }
            (_, Number | Cell | Null, Number | Cell | Null) => ((Number, Number), Number),
            _ => {
                // A text by itself is the likelier slip than the other side.
                let found = [(left, one_kind), (right, other_kind)];
                let culprit = found
                    .iter()
                    .find(|(_, kind)| matches!(kind, Type::Text | Type::Boolean));
                return Err(match culprit {
                    Some((part, found)) => self.error(
                        part,
                        ExprProblem::Wanted {
                            what: sign.to_owned(),
                            wanted: Number,
                            found: *found,
                        },
                    ),
                    None => self.mismatch(tree, sign, one_kind, other_kind),
                });
            }
        };
        let one = self.coerce(left, one, one_kind, wanted.0, sign)?;
        let other = self.coerce(right, other, other_kind, wanted.1, sign)?;
        let (one, other) = (Box::new(one), Box::new(other));
        let node = if result == Number {
            Node::Calculate(operation, one, other)
        } else {
            Node::Arithmetic(operation, one, other)
        };
        Ok((node, result))
    }

    fn mismatch(&self, tree: &Expr, what: &str, one: Type, other: Type) -> ExprError {
        let problem = ExprProblem::Mismatch {
            what: what.to_owned(),
            one,
            other,
        };
        self.error(tree, problem)
    }

    fn in_list(&self, tree: &Expr, value: &Expr, list: &[Expr], negated: bool) -> Checked {
        let mut parts = vec![value];
        parts.extend(list);
        let (mut nodes, _) = self.unified(tree, "IN", &parts)?;
        let value = Box::new(nodes.remove(0));
        let texts: Option<_> = nodes
            .iter()
            .map(|node| match node {
                Node::Constant(Value::Text(text)) => Some(text.to_vec()),
                _ => None,
            })
            .collect();
        let node = match texts {
            Some(texts) => Node::InTexts {
                value,
                texts,
                negated,
            },
            None => Node::In {
                value,
                list: nodes,
                negated,
            },
        };
        Ok((node, Type::Boolean))
    }

    fn like(&self, value: &Expr, pattern: &Expr, escape: Option<&Expr>, negated: bool) -> Checked {
        let value_node = Box::new(self.typed(value, Type::Text, "LIKE")?);
        let pattern_node = self.typed(pattern, Type::Text, "LIKE")?;
        let escape_node = match escape {
            Some(escape) => Some(self.typed(escape, Type::Text, "ESCAPE")?),
            None => None,
        };
        let known = match (&pattern_node, &escape_node) {
            (Node::Constant(Value::Text(pattern)), None) => Some(Like::new(pattern, None)),
            (Node::Constant(Value::Text(pattern)), Some(Node::Constant(Value::Text(escape)))) => {
                Some(Like::new(pattern, Some(escape)))
            }
            _ => None,
        };
        let node = match known {
            Some(Ok(like)) => Node::LikePattern(value_node, like, negated),
            Some(Err(error)) => {
                return Err(self.error(pattern, ExprProblem::Literal(error.to_string())));
            }
            None => Node::Like {
                value: value_node,
                pattern: Box::new(pattern_node),
                escape: escape_node.map(Box::new),
                negated,
            },
        };
        Ok((node, Type::Boolean))
    }

    fn is_null(&self, inner: &Expr, negated: bool) -> Checked {
        let (node, _) = self.check(inner)?;
        // Whether a cell is blank does not depend on what it is taken for.
        let node = match node {
            Node::Column(column) => Node::Column(Column {
                reading: Reading::Text,
                ..column
            }),
            node => node,
        };
        Ok((Node::IsNull(Box::new(node), negated), Type::Boolean))
    }

    fn is_truth(&self, inner: &Expr, wanted: Option<bool>, negated: bool) -> Checked {
        let node = self.typed(inner, Type::Boolean, "IS")?;
        Ok((
            Node::IsTruth(Box::new(node), wanted, negated),
            Type::Boolean,
        ))
    }

    fn distinct(&self, tree: &Expr, one: &Expr, other: &Expr, negated: bool) -> Checked {
        let [one, other] = self.alike(tree, "IS DISTINCT FROM", [one, other])?;
        let node = Node::Distinct(Box::new(one), Box::new(other), negated);
        Ok((node, Type::Boolean))
    }

    fn case(
        &self,
        tree: &Expr,
        operand: Option<&Expr>,
        conditions: &[sqlparser::ast::CaseWhen],
        otherwise: Option<&Expr>,
    ) -> Checked {
        let mut results: Vec<&Expr> = conditions.iter().map(|when| &when.result).collect();
        results.extend(otherwise);
        let (mut nodes, kind) = self.unified(tree, "CASE", &results)?;
        let otherwise = match otherwise {
            Some(_) => nodes.pop().unwrap_or(Node::Constant(Value::Null)),
            None => Node::Constant(Value::Null),
        };
        let mut branches = Vec::new();
        for (when, result) in conditions.iter().zip(nodes) {
            let condition = match operand {
                None => self.typed(&when.condition, Type::Boolean, "WHEN")?,
                Some(operand) => {
                    let [one, other] =
                        self.alike(&when.condition, "CASE", [operand, &when.condition])?;
                    Node::Compare(Comparison::Equal, Box::new(one), Box::new(other))
                }
            };
            branches.push((condition, result));
        }
        let node = Node::Case {
            branches,
            otherwise: Box::new(otherwise),
        };
        Ok((node, kind))
    }

    fn cast(&self, tree: &Expr, inner: &Expr, data_type: &DataType) -> Checked {
        let length = |length: &Option<CharacterLength>| match length {
            Some(CharacterLength::IntegerLength { length, .. }) => Some(*length),
            _ => None,
        };
        let (target, result) = match data_type {
            DataType::Character(found) | DataType::Char(found) => {
                let length = Some(length(found).unwrap_or(1));
                (
                    Target::Text {
                        length,
                        fixed: true,
                    },
                    Type::Text,
                )
            }
            DataType::CharacterVarying(found)
            | DataType::CharVarying(found)
            | DataType::Varchar(found) => {
                let length = length(found);
                (
                    Target::Text {
                        length,
                        fixed: false,
                    },
                    Type::Text,
                )
            }
            DataType::Numeric(info) | DataType::Decimal(info) | DataType::Dec(info) => {
                let size = match *info {
                    ExactNumberInfo::None => None,
                    ExactNumberInfo::Precision(digits) => Some((digits, 0)),
                    ExactNumberInfo::PrecisionAndScale(digits, scale) => Some((digits, scale)),
                };
                let size = match size {
                    None => None,
                    Some((digits, scale)) if (1..=38).contains(&digits) => {
                        let scale = u32::try_from(scale).ok();
                        let scale = scale.filter(|scale| u64::from(*scale) <= digits);
                        let scale = scale.ok_or_else(|| {
                            let message =
                                "a DECIMAL has no more digits behind the point than in all";
                            self.error(tree, ExprProblem::Literal(message.to_owned()))
                        })?;
                        Some((digits as u32, scale))
                    }
                    Some(_) => {
                        let message = "a DECIMAL has between 1 and 38 digits".to_owned();
                        return Err(self.error(tree, ExprProblem::Literal(message)));
                    }
                };
                (Target::Decimal(size), Type::Number)
            }
            DataType::Integer(_)
            | DataType::Int(_)
            | DataType::BigInt(_)
            | DataType::SmallInt(_) => (Target::Integer, Type::Number),
            DataType::Date => (Target::Date, Type::Moment),
            DataType::Timestamp(..) => (Target::Timestamp, Type::Moment),
            DataType::Boolean => (Target::Boolean, Type::Boolean),
            other => {
                return Err(self.unsupported(
                    tree,
                    &format!(
                        "the type {other} (there are VARCHAR, CHAR, DECIMAL, INTEGER, DATE, \
                         TIMESTAMP and BOOLEAN)"
                    ),
                ));
            }
        };
        let (node, kind) = self.check(inner)?;
        let fits = match result {
            Type::Text => true,
            Type::Number => matches!(kind, Type::Text | Type::Number | Type::Cell | Type::Null),
            Type::Moment => matches!(kind, Type::Text | Type::Moment | Type::Cell | Type::Null),
            _ => matches!(kind, Type::Text | Type::Boolean | Type::Cell | Type::Null),
        };
        if !fits {
            return Err(self.mismatch(tree, "CAST", kind, result));
        }
        // A column says its name where its cell is wrong.
        let node = match node {
            Node::Column(_) if kind == Type::Cell && result != Type::Text => {
                self.coerce(inner, node, kind, result, "CAST")?
            }
            node => node,
        };
        Ok((Node::Cast(Box::new(node), target), result))
    }

    fn extract(&self, tree: &Expr, field: &DateTimeField, inner: &Expr) -> Checked {
        let unit = self.unit(tree, field)?;
        let (node, kind) = self.check(inner)?;
        let wanted = if kind == Type::Interval {
            Type::Interval
        } else {
            Type::Moment
        };
        let node = self.coerce(inner, node, kind, wanted, "EXTRACT")?;
        Ok((
            Node::Call(Function::Extract(unit), vec![node]),
            Type::Number,
        ))
    }

    fn rounded(
        &self,
        tree: &Expr,
        inner: &Expr,
        field: &CeilFloorKind,
        rounding: Rounding,
    ) -> Checked {
        if !matches!(
            field,
            CeilFloorKind::DateTimeField(DateTimeField::NoDateTime)
        ) {
            return Err(self.unsupported(tree, "a second argument here"));
        }
        let what = if rounding == Rounding::Floor {
            "FLOOR"
        } else {
            "CEILING"
        };
        let node = self.typed(inner, Type::Number, what)?;
        Ok((
            Node::Call(Function::Round(rounding), vec![node]),
            Type::Number,
        ))
    }

    fn call(&self, tree: &Expr, call: &Call) -> Checked {
        let name = match call.name.0.as_slice() {
            [ObjectNamePart::Identifier(name)] => name.value.to_uppercase(),
            _ => return Err(self.unsupported(tree, "a function of this kind")),
        };
        if AGGREGATES.contains(&name.as_str()) || call.over.is_some() {
            return Err(self.error(tree, ExprProblem::Aggregate { name }));
        }
        let plain = call.filter.is_none()
            && call.within_group.is_empty()
            && call.null_treatment.is_none()
            && matches!(call.parameters, FunctionArguments::None);
        let arguments = match &call.args {
            FunctionArguments::List(list)
                if list.duplicate_treatment.is_none() && list.clauses.is_empty() =>
            {
                let arguments: Option<Vec<&Expr>> = list
                    .args
                    .iter()
                    .map(|argument| match argument {
                        FunctionArg::Unnamed(FunctionArgExpr::Expr(argument)) => Some(argument),
                        _ => None,
                    })
                    .collect();
                arguments
            }
            FunctionArguments::None => Some(Vec::new()),
            _ => None,
        };
        let Some(arguments) = arguments.filter(|_| plain) else {
            return Err(self.unsupported(tree, "a call of this kind"));
        };
        let count = arguments.len();
        let takes = |fits: bool, takes: &'static str| {
            if fits {
                return Ok(());
            }
            let function = name.clone();
            Err(self.error(tree, ExprProblem::Arguments { function, takes }))
        };
        let typed = |place: usize, kind: Type| self.typed(arguments[place], kind, &name);
        use Type::{Number, Text};
        Ok(match name.as_str() {
            "UPPER" | "LOWER" | "CHAR_LENGTH" | "CHARACTER_LENGTH" | "OCTET_LENGTH" => {
                takes(count == 1, "one text")?;
                let (function, kind) = match name.as_str() {
                    "UPPER" => (Function::Upper, Text),
                    "LOWER" => (Function::Lower, Text),
                    "OCTET_LENGTH" => (Function::OctetLength, Number),
                    _ => (Function::CharLength, Number),
                };
                (Node::Call(function, vec![typed(0, Text)?]), kind)
            }
            "LTRIM" | "RTRIM" | "BTRIM" => {
                takes(
                    (1..=2).contains(&count),
                    "a text and, if not a space, the character to take away",
                )?;
                let side = match name.as_str() {
                    "LTRIM" => Side::Leading,
                    "RTRIM" => Side::Trailing,
                    _ => Side::Both,
                };
                let character = if count == 2 { typed(1, Text)? } else { space() };
                let nodes = vec![character, typed(0, Text)?];
                (Node::Call(Function::Trim(side), nodes), Text)
            }
            "LPAD" | "RPAD" => {
                takes(
                    (2..=3).contains(&count),
                    "a text, a length and, if not spaces, what to fill with",
                )?;
                let side = if name == "LPAD" {
                    Side::Leading
                } else {
                    Side::Trailing
                };
                let mut nodes = vec![typed(0, Text)?, typed(1, Number)?];
                if count == 3 {
                    nodes.push(typed(2, Text)?);
                }
                (Node::Call(Function::Pad(side), nodes), Text)
            }
            "ABS" => {
                takes(count == 1, "one number")?;
                (Node::Call(Function::Abs, vec![typed(0, Number)?]), Number)
            }
            "MOD" => {
                takes(count == 2, "two numbers")?;
                let nodes = vec![typed(0, Number)?, typed(1, Number)?];
                (Node::Call(Function::Mod, nodes), Number)
            }
            "ROUND" => {
                takes(
                    (1..=2).contains(&count),
                    "a number and, if not 0, the digits behind its point",
                )?;
                let mut nodes = vec![typed(0, Number)?];
                if count == 2 {
                    nodes.push(typed(1, Number)?);
                }
                (Node::Call(Function::Round(Rounding::HalfUp), nodes), Number)
            }
            "CEILING" => {
                takes(count == 1, "one number")?;
                let function = Function::Round(Rounding::Ceiling);
                (Node::Call(function, vec![typed(0, Number)?]), Number)
            }
            "COALESCE" => {
                takes(count > 0, "one value at least")?;
                let (nodes, kind) = self.unified(tree, &name, &arguments)?;
                (Node::Coalesce(nodes), kind)
            }
            "GREATEST" | "LEAST" => {
                takes(count > 0, "one value at least")?;
                let (nodes, kind) = self.unified(tree, &name, &arguments)?;
                let function = if name == "GREATEST" {
                    Function::Greatest
                } else {
                    Function::Least
                };
                (Node::Call(function, nodes), kind)
            }
            "NULLIF" => {
                takes(count == 2, "two values")?;
                let (mut nodes, kind) = self.unified(tree, &name, &arguments)?;
                let other = Box::new(nodes.remove(1));
                (Node::NullIf(Box::new(nodes.remove(0)), other), kind)
            }
            "CURRENT_DATE" | "CURRENT_TIME" | "CURRENT_TIMESTAMP" | "LOCALTIMESTAMP" => {
                return Err(self.unsupported(
                    tree,
                    &format!("{name}, with which no two runs would be the same,"),
                ));
            }
            _ => {
                let known = FUNCTIONS.iter().copied();
                let nearest = nearest(&name, known)
                    .and_then(|near| FUNCTIONS.iter().find(|known| **known == near))
                    .copied();
                let name = name.clone();
                return Err(self.error(tree, ExprProblem::Function { name, nearest }));
            }
        })
    }

    /// Parts that are to be of one type, whichever.
    fn alike<const N: usize>(
        &self,
        tree: &Expr,
        what: &str,
        parts: [&Expr; N],
    ) -> Result<[Node; N], ExprError> {
        let (nodes, _) = self.unified(tree, what, &parts)?;
        nodes.try_into().map_err(|_| self.unsupported(tree, what))
    }

    /// Parts made to be of one type, and the type. Cells become what the others are.
    fn unified(
        &self,
        tree: &Expr,
        what: &str,
        parts: &[&Expr],
    ) -> Result<(Vec<Node>, Type), ExprError> {
        let mut checked = Vec::with_capacity(parts.len());
        let mut common: Option<Type> = None;
        let mut cells = false;
        for part in parts {
            let (node, kind) = self.check(part)?;
            match (kind, common) {
                (Type::Null, _) => {}
                (Type::Cell, _) => cells = true,
                (kind, None) => common = Some(kind),
                (kind, Some(known)) if kind == known => {}
                (kind, Some(known)) => return Err(self.mismatch(tree, what, known, kind)),
            }
            checked.push((node, kind));
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
