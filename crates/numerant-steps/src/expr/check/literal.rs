//! Literals: numbers, texts, dates, intervals.

use sqlparser::ast::{DataType, DateTimeField, Expr, UnaryOperator, Value as Literal};
use std::borrow::Cow;

use super::{Check, Checked};
use crate::expr::error::{ExprError, ExprProblem};
use crate::expr::interval::{Interval, Unit};
use crate::expr::node::{Node, Value};
use crate::expr::types::Type;
use numerant_data::value::{Moment, Number, NumberProblem};

impl Check<'_> {
    pub(super) fn literal(&self, tree: &Expr, literal: &Literal) -> Checked {
        Ok(match literal {
            Literal::Number(text, _) => {
                let number = Number::read(
                    // The standard lets a literal begin or end with its point.
                    format!("{}{}", if text.starts_with('.') { "0" } else { "" }, text)
                        .trim_end_matches('.')
                        .as_bytes(),
                    numerant_data::value::DecimalMark::Point,
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

    pub(super) fn moment_literal(&self, tree: &Expr, kind: &DataType, text: &str) -> Checked {
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

    pub(super) fn unit(&self, tree: &Expr, field: &DateTimeField) -> Result<Unit, ExprError> {
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

    pub(super) fn interval_literal(
        &self,
        tree: &Expr,
        interval: &sqlparser::ast::Interval,
    ) -> Checked {
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
}
