//! The values of casts and of functions.

use std::borrow::Cow;
use std::cmp::Ordering;

use super::{Evaluated, Row, compare};
use crate::expr::error::EvalError;
use crate::expr::interval::Unit;
use crate::expr::node::{Column, Function, Node, Reading, Target, Value};
use crate::expr::text;
use crate::expr::text::Side;
use numerant_data::value::{Moment, Number};

impl<'r> Row<'r> {
    pub(super) fn cast<'a>(
        &self,
        value: &Value<'a>,
        column: Option<&Column>,
        target: Target,
    ) -> Evaluated<'a> {
        let as_text = || match value {
            Value::Text(text) => text.clone(),
            other => Cow::Owned(other.to_text().into_bytes()),
        };
        Ok(match target {
            Target::Text { length, fixed } => {
                let text = as_text();
                let Some(length) = length else {
                    return Ok(Value::Text(text));
                };
                let count = text::char_length(&text) as u64;
                if count > length {
                    return Err(Box::new(EvalError::TooLong {
                        value: text::shown(&text),
                        length,
                    }));
                }
                if fixed {
                    let filled = text::pad(&text, length.into(), b" ", Side::Trailing)?;
                    Value::Text(Cow::Owned(filled))
                } else {
                    Value::Text(text)
                }
            }
            Target::Decimal(size) => {
                let Value::Number(number) = self.as_number(value, column)? else {
                    return Ok(Value::Null);
                };
                let Some((digits, scale)) = size else {
                    return Ok(Value::Number(number));
                };
                let exact = number
                    .shortest()
                    .rescaled(scale)
                    .filter(|number| number.units.unsigned_abs() < 10_u128.pow(digits));
                Value::Number(exact.ok_or_else(|| EvalError::Inexact {
                    value: number.to_string(),
                    digits,
                    scale,
                })?)
            }
            Target::Integer => {
                let Value::Number(number) = self.as_number(value, column)? else {
                    return Ok(Value::Null);
                };
                let units = number.whole().ok_or_else(|| EvalError::Inexact {
                    value: number.to_string(),
                    digits: 38,
                    scale: 0,
                })?;
                Value::Number(Number { units, scale: 0 })
            }
            Target::Date | Target::Timestamp => {
                let moment = match value {
                    Value::Moment(moment) => Value::Moment(*moment),
                    Value::Text(text) => self.read(text, Reading::Moment, column)?,
                    _ => Value::Null,
                };
                let Value::Moment(moment) = moment else {
                    return Ok(Value::Null);
                };
                Value::Moment(Moment {
                    date: moment.date,
                    time: (target == Target::Timestamp).then(|| moment.datetime().time()),
                    offset: moment.offset.filter(|_| target == Target::Timestamp),
                })
            }
            Target::Boolean => match value {
                Value::Text(text) => self.read(text, Reading::Boolean, column)?,
                Value::Boolean(value) => Value::Boolean(*value),
                _ => Value::Null,
            },
        })
    }

    pub(super) fn as_number(
        &self,
        value: &Value<'_>,
        column: Option<&Column>,
    ) -> Evaluated<'static> {
        match value {
            Value::Number(number) => Ok(Value::Number(*number)),
            Value::Text(text) => self.read(text, Reading::Number, column),
            Value::Boolean(_) | Value::Moment(_) | Value::Interval(_) | Value::Null => {
                Ok(Value::Null)
            }
        }
    }

    pub(super) fn call<'a>(&self, function: Function, arguments: &'a [Node]) -> Evaluated<'a>
    where
        'r: 'a,
    {
        let mut values = Vec::with_capacity(arguments.len());
        for argument in arguments {
            let value = self.value(argument)?;
            if value == Value::Null {
                return Ok(Value::Null);
            }
            values.push(value);
        }
        let whole = |number: Number, what: &'static str| {
            number.whole().ok_or_else(|| EvalError::Argument {
                what,
                value: number.to_string(),
                wanted: "an integer",
            })
        };
        let count = |count: usize| {
            Value::Number(Number {
                units: count as i128,
                scale: 0,
            })
        };
        let owned = |text: Vec<u8>| Value::Text(Cow::Owned(text));
        use Value::{Number as N, Text as T};
        Ok(match (function, values.as_slice()) {
            (Function::Upper, [T(text)]) => owned(text::upper(text)),
            (Function::Lower, [T(text)]) => owned(text::lower(text)),
            (Function::CharLength, [T(text)]) => count(text::char_length(text)),
            (Function::OctetLength, [T(text)]) => count(text.len()),
            (Function::Position, [T(part), T(text)]) => count(text::position(part, text)),
            (Function::Substring, [T(text), N(from), rest @ ..]) => {
                let from = whole(*from, "the place in SUBSTRING")?;
                let length = match rest {
                    [N(length)] => Some(whole(*length, "the length in SUBSTRING")?),
                    _ => None,
                };
                let range = text::substring(text, from, length)?;
                owned(text[range].to_vec())
            }
            (Function::Trim(side), [T(character), T(text)]) => {
                owned(text::trim(text, character, side)?.to_vec())
            }
            (Function::Overlay, [T(text), T(by), N(from), rest @ ..]) => {
                let from = whole(*from, "the place in OVERLAY")?;
                let length = match rest {
                    [N(length)] => Some(whole(*length, "the length in OVERLAY")?),
                    _ => None,
                };
                owned(text::overlay(text, by, from, length)?)
            }
            (Function::Pad(side), [T(text), N(length), rest @ ..]) => {
                let length = whole(*length, "the length to fill to")?;
                let filling = match rest {
                    [T(filling)] => filling.as_ref(),
                    _ => b" ",
                };
                owned(text::pad(text, length, filling, side)?)
            }
            (Function::Extract(unit), [value]) => extract(unit, value)?,
            (Function::Abs, [N(number)]) => N(Number {
                units: number.units.abs(),
                ..*number
            }),
            (Function::Mod, [N(one), N(other)]) => {
                N(one.remainder(*other).map_err(EvalError::from)?)
            }
            (Function::Round(rounding), [N(number), rest @ ..]) => {
                let digits = match rest {
                    [N(digits)] => whole(*digits, "the digits of ROUND")?,
                    _ => 0,
                };
                let digits = i32::try_from(digits.clamp(-99, 99)).unwrap_or(0);
                let rounded = number.rounded(digits, rounding);
                N(rounded.map_err(EvalError::from)?)
            }
            (Function::Greatest | Function::Least, _) => {
                let wanted = if function == Function::Greatest {
                    Ordering::Greater
                } else {
                    Ordering::Less
                };
                let mut values = values.into_iter();
                let mut best = values.next().unwrap_or(Value::Null);
                for value in values {
                    if compare(&value, &best) == Some(wanted) {
                        best = value;
                    }
                }
                best
            }
            _ => Value::Null,
        })
    }
}

fn extract(unit: Unit, value: &Value<'_>) -> Evaluated<'static> {
    let units = match value {
        Value::Interval(interval) => interval.field(unit),
        Value::Moment(moment) => {
            let time = moment.time.unwrap_or_default();
            match unit {
                Unit::Year => moment.date.year().into(),
                Unit::Month => moment.date.month().into(),
                Unit::Day => moment.date.day().into(),
                Unit::Hour => time.hour().into(),
                Unit::Minute => time.minute().into(),
                Unit::Second => {
                    let nanoseconds = i128::from(time.subsec_nanosecond());
                    let number = Number {
                        units: i128::from(time.second()) * 1_000_000_000 + nanoseconds,
                        scale: 9,
                    };
                    return Ok(Value::Number(number.shortest()));
                }
            }
        }
        _ => return Ok(Value::Null),
    };
    Ok(Value::Number(Number {
        units: units.into(),
        scale: 0,
    }))
}
