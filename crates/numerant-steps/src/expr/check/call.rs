//! Functions and casts.

use sqlparser::ast::{
    CeilFloorKind, CharacterLength, DataType, DateTimeField, ExactNumberInfo, Expr,
    Function as Call, FunctionArg, FunctionArgExpr, FunctionArguments, ObjectNamePart,
};

use super::{AGGREGATES, Check, Checked, FUNCTIONS, space};
use crate::expr::error::ExprProblem;
use crate::expr::node::{Comparison, Function, Node, Target, Value};
use crate::expr::text::Side;
use crate::expr::types::Type;
use numerant_data::record::nearest;
use numerant_data::value::Rounding;

impl Check<'_> {
    pub(super) fn cast(&self, tree: &Expr, inner: &Expr, data_type: &DataType) -> Checked {
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

    pub(super) fn extract(&self, tree: &Expr, field: &DateTimeField, inner: &Expr) -> Checked {
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

    pub(super) fn rounded(
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

    pub(super) fn call(&self, tree: &Expr, call: &Call) -> Checked {
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
                let mut checked = Vec::with_capacity(count);
                for argument in &arguments {
                    checked.push(self.check(argument)?);
                }
                let any_cell = checked.iter().any(|(_, kind)| *kind == Type::Cell);
                let (nodes, kind) = self.unify(tree, &name, &arguments, checked)?;
                if matches!(kind, Type::Cell | Type::Text) && any_cell {
                    let wanted = match name == "GREATEST" {
                        true => Comparison::Greater,
                        false => Comparison::Less,
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
}
