//! Functions and casts.

use super::{AGGREGATES, Check, Checked, FUNCTIONS, space};
use crate::expr::error::{ExprError, ExprProblem};
use crate::expr::node::{Comparison, Function, Node, Target, Value};
use crate::expr::text::Side;
use crate::expr::tree::{CastType, Expr, Name};
use crate::expr::types::Type;
use numerant_data::record::nearest;
use numerant_data::value::Rounding;

impl Check<'_> {
    pub(super) fn cast(&self, tree: &Expr, inner: &Expr, to: &CastType) -> Checked {
        let (target, result) = match to {
            CastType::Fixed(length) => {
                let length = Some(length.unwrap_or(1));
                let fixed = true;
                (Target::Text { length, fixed }, Type::Text)
            }
            CastType::Varying(length) => {
                let (length, fixed) = (*length, false);
                (Target::Text { length, fixed }, Type::Text)
            }
            CastType::Decimal(size) => (self.decimal(tree, *size)?, Type::Number),
            CastType::Integer => (Target::Integer, Type::Number),
            CastType::Date => (Target::Date, Type::Moment),
            CastType::Timestamp => (Target::Timestamp, Type::Moment),
            CastType::Boolean => (Target::Boolean, Type::Boolean),
            CastType::Other(other) => {
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

    /// A decimal of so many digits in all, and after the point.
    fn decimal(&self, tree: &Expr, size: Option<(u64, i64)>) -> Result<Target, ExprError> {
        let failed = |message: &str| self.error(tree, ExprProblem::Literal(message.to_owned()));
        let Some((digits, scale)) = size else {
            return Ok(Target::Decimal(None));
        };
        let fits = u32::try_from(digits)
            .ok()
            .filter(|digits| (1..=38).contains(digits));
        let digits = fits.ok_or_else(|| failed("a DECIMAL has between 1 and 38 digits"))?;
        let scale = u32::try_from(scale).ok().filter(|scale| *scale <= digits);
        let scale = scale
            .ok_or_else(|| failed("the scale of a DECIMAL cannot be larger than its precision"))?;
        Ok(Target::Decimal(Some((digits, scale))))
    }

    pub(super) fn extract(&self, unit: &Name, inner: &Expr) -> Checked {
        let unit = self.unit(unit)?;
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

    pub(super) fn call(
        &self,
        tree: &Expr,
        name: &str,
        arguments: Option<&[Expr]>,
        is_windowed: bool,
    ) -> Checked {
        let name = name.to_owned();
        if AGGREGATES.contains(&name.as_str()) || is_windowed {
            return Err(self.error(tree, ExprProblem::Aggregate { name }));
        }
        let Some(arguments) = arguments else {
            return Err(self.unsupported(tree, "a call of this kind"));
        };
        let arguments: Vec<&Expr> = arguments.iter().collect();
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
                    "a number and a number of decimals (0 by default)",
                )?;
                let mut nodes = vec![typed(0, Number)?];
                if count == 2 {
                    nodes.push(typed(1, Number)?);
                }
                (Node::Call(Function::Round(Rounding::HalfUp), nodes), Number)
            }
            "FLOOR" => {
                takes(count == 1, "one number")?;
                let function = Function::Round(Rounding::Floor);
                (Node::Call(function, vec![typed(0, Number)?]), Number)
            }
            "CEILING" | "CEIL" => {
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
                let mut checked = Vec::with_capacity(count);
                for argument in &arguments {
                    checked.push(self.check(argument)?);
                }
                let any_cell = checked.iter().any(|(_, kind)| *kind == Type::Cell);
                let (nodes, kind) = self.unify(tree, &name, &arguments, checked)?;
                if matches!(kind, Type::Cell | Type::Text) && any_cell {
                    let wanted = if name == "GREATEST" {
                        Comparison::Greater
                    } else {
                        Comparison::Less
                    };
                    return Ok((Node::ExtremeCell(wanted, nodes), kind));
                }
                let function = if name == "GREATEST" {
                    Function::Greatest
                } else {
                    Function::Least
                };
                (Node::Call(function, nodes), kind)
            }
            "NULLIF" => {
                takes(count == 2, "two values")?;
                let (one, other) = (self.part(arguments[0])?, self.part(arguments[1])?);
                let same = self.comparison(tree, &one, Comparison::Equal, &other)?;
                let checked = vec![(one.node, one.kind), (other.node, other.kind)];
                let (mut nodes, kind) = self.unify(tree, &name, &arguments, checked)?;
                let otherwise = Box::new(nodes.remove(0));
                let branches = vec![(same, Node::Constant(Value::Null))];
                (
                    Node::Case {
                        branches,
                        otherwise,
                    },
                    kind,
                )
            }
            "CURRENT_DATE" | "CURRENT_TIME" | "CURRENT_TIMESTAMP" | "LOCALTIME"
            | "LOCALTIMESTAMP" => {
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
}
