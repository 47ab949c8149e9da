//! Literals: numbers, texts, dates, intervals.

use super::{Check, Checked};
use crate::expr::error::{ExprError, ExprProblem};
use crate::expr::interval::{Interval, Unit};
use crate::expr::node::{Node, Value};
use crate::expr::tree::{Expr, IntervalLiteral, Name};
use crate::expr::types::Type;
use numerant_data::value::{DecimalMark, Moment, Number, NumberProblem};

impl Check<'_> {
    pub(super) fn number(&self, tree: &Expr, text: &str) -> Checked {
        // The standard lets a literal begin or end with its point.
        let whole = format!("{}{text}", if text.starts_with('.') { "0" } else { "" });
        let number = Number::read(whole.trim_end_matches('.').as_bytes(), DecimalMark::Point);
        let number = number.map_err(|problem| {
            let why = match problem {
                NumberProblem::TooLong => "has more than 38 digits",
                _ => "is not a number",
            };
            let start: String = text.chars().take(40).collect();
            self.error(tree, ExprProblem::Literal(format!("{start} {why}")))
        })?;
        Ok((Node::Constant(Value::Number(number)), Type::Number))
    }

    pub(super) fn moment_literal(&self, tree: &Expr, kind: &str, text: &str) -> Checked {
        let failed = |wanted: &str| {
            self.error(
                tree,
                ExprProblem::Literal(format!("'{text}' is not {wanted}")),
            )
        };
        let parsed = Moment::parse_iso(text.trim().as_bytes());
        let moment = match kind {
            "DATE" => parsed
                .filter(|moment| moment.time.is_none())
                .ok_or_else(|| failed("a date; write one such as DATE '2026-03-05'"))?,
            "TIMESTAMP" => {
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

    pub(super) fn unit(&self, name: &Name) -> Result<Unit, ExprError> {
        Ok(match name.text.as_str() {
            "YEAR" => Unit::Year,
            "MONTH" => Unit::Month,
            "DAY" => Unit::Day,
            "HOUR" => Unit::Hour,
            "MINUTE" => Unit::Minute,
            "SECOND" => Unit::Second,
            other => {
                let what = format!("{other} (there are YEAR, MONTH, DAY, HOUR, MINUTE and SECOND)");
                return Err(self.error_at(name.span, ExprProblem::Unsupported(what)));
            }
        })
    }

    pub(super) fn interval_literal(
        &self,
        tree: &Expr,
        literal: Option<&IntervalLiteral>,
    ) -> Checked {
        let usual = "an interval is written INTERVAL '14' DAY or INTERVAL '1-6' YEAR TO MONTH";
        let failed = || self.error(tree, ExprProblem::Literal(usual.to_owned()));
        let literal = literal.ok_or_else(failed)?;
        let first = self.unit(&literal.first)?;
        let last = match &literal.last {
            Some(last) => self.unit(last)?,
            None => first,
        };
        let parsed = Interval::parse(&literal.text, first, last).ok_or_else(failed)?;
        let parsed = if literal.is_negative {
            parsed.negated()
        } else {
            parsed
        };
        Ok((Node::Constant(Value::Interval(parsed)), Type::Interval))
    }
}
