//! The value of an expression for one record. Conditions have three values: one that a blank
//! cell leaves open is NULL.

use std::borrow::Cow;
use std::cmp::Ordering;

mod call;
mod cell;
mod compare;
mod quick;

use super::any::{AnyOf, Choices};
use super::error::EvalError;
use super::interval::Interval;
use super::like::Like;
use super::node::{Column, Node, Operation, Reading, Value};
use super::text;
use super::types::Type;
use numerant_data::record::Batch;
use numerant_data::value::{Cells, DecimalMark, Number};

/// An expression that was checked and can be evaluated.
#[derive(Clone, Debug)]
pub struct Compiled {
    pub(super) node: Node,
    pub(super) kind: Type,
    /// A condition that holds if it holds for any of these values.
    pub(super) any: Option<AnyOf>,
}

/// Combinations of the values that a record has several of, which are evaluated for one condition.
const MAX_CHOICES: usize = 1 << 20;

type Evaluated<'a> = Result<Value<'a>, Box<EvalError>>;

impl Compiled {
    /// The type of its values.
    pub fn kind(&self) -> Type {
        self.kind
    }

    /// Its value for one record of a batch.
    ///
    /// # Errors
    ///
    /// [`EvalError`] if there is none.
    #[inline]
    pub fn evaluate<'a>(
        &'a self,
        batch: &'a Batch,
        record: usize,
        cells: &'a Cells,
    ) -> Result<Value<'a>, Box<EvalError>> {
        let row = Row {
            batch,
            record,
            cells,
            taken: &[],
        };
        row.value(&self.node)
    }

    /// Appends its value for one record of a batch as a cell holds it.
    ///
    /// # Errors
    ///
    /// [`EvalError`] if there is none.
    #[inline]
    pub fn write(
        &self,
        batch: &Batch,
        record: usize,
        cells: &Cells,
        out: &mut Vec<u8>,
    ) -> Result<(), Box<EvalError>> {
        let row = Row {
            batch,
            record,
            cells,
            taken: &[],
        };
        match row.quick(&self.node) {
            Some(quick) => quick.number().write(cells.mark, out),
            None => row.value(&self.node)?.write(cells.mark, out),
        }
        Ok(())
    }

    /// Whether a condition holds for one record of a batch; unknown is no.
    ///
    /// # Errors
    ///
    /// [`EvalError`] if it has no value.
    #[inline]
    pub fn holds(
        &self,
        batch: &Batch,
        record: usize,
        cells: &Cells,
    ) -> Result<bool, Box<EvalError>> {
        let row = Row {
            batch,
            record,
            cells,
            taken: &[],
        };
        match &self.any {
            None => Ok(row.truth(&self.node)? == Some(true)),
            Some(any) => Ok(self.truth_of_any(any, row)? == Some(true)),
        }
    }

    /// Whether a condition holds for one record of a batch; `None` if that is unknown.
    ///
    /// # Errors
    ///
    /// [`EvalError`] if it has no value.
    #[inline]
    pub fn truth(
        &self,
        batch: &Batch,
        record: usize,
        cells: &Cells,
    ) -> Result<Option<bool>, Box<EvalError>> {
        let row = Row {
            batch,
            record,
            cells,
            taken: &[],
        };
        match &self.any {
            None => row.truth(&self.node),
            Some(any) => self.truth_of_any(any, row),
        }
    }

    fn truth_of_any(&self, any: &AnyOf, row: Row<'_>) -> Result<Option<bool>, Box<EvalError>> {
        let truth = any.truth(row.batch, row.record, MAX_CHOICES, |taken| {
            Row { taken, ..row }.truth(&self.node)
        });
        truth.map_err(|problem| match problem {
            Choices::Failed(error) => error,
            Choices::TooMany(choices) => {
                let max = MAX_CHOICES;
                Box::new(EvalError::Choices { choices, max })
            }
        })
    }

    /// The columns that it names, by their places in batches and their names.
    pub fn columns(&self) -> Vec<(usize, String)> {
        let mut columns: Vec<(usize, String)> = Vec::new();
        self.node.visit(&mut |node| {
            let column = match node {
                Node::Column(column) | Node::CompareText(_, column, _) => column,
                _ => return,
            };
            if !columns.iter().any(|(slot, _)| *slot == column.slot) {
                columns.push((column.slot, column.name.clone()));
            }
        });
        columns
    }
}

impl Value<'_> {
    /// Appends the value as a cell holds it; nothing for NULL.
    pub fn write(&self, mark: DecimalMark, out: &mut Vec<u8>) {
        match self {
            Self::Null => {}
            Self::Number(number) => number.write(mark, out),
            Self::Text(text) => out.extend_from_slice(text),
            Self::Boolean(_) | Self::Moment(_) | Self::Interval(_) => {
                out.extend_from_slice(self.to_text().as_bytes());
            }
        }
    }

    fn to_text(&self) -> String {
        match self {
            Self::Null => String::new(),
            Self::Boolean(true) => "TRUE".to_owned(),
            Self::Boolean(false) => "FALSE".to_owned(),
            Self::Number(number) => number.to_string(),
            Self::Text(text) => text::as_str(text).into_owned(),
            Self::Moment(moment) => moment.to_string(),
            Self::Interval(interval) => interval.to_string(),
        }
    }
}

/// One record, and how its cells are read.
#[derive(Clone, Copy)]
struct Row<'r> {
    batch: &'r Batch,
    record: usize,
    pub cells: &'r Cells,
    /// The values that are taken for columns of which a record has several.
    taken: &'r [(usize, Option<usize>)],
}

impl<'r> Row<'r> {
    /// The slot that has the value of a column; `None` if nothing has it.
    #[inline]
    fn slot(&self, column: &Column) -> Option<usize> {
        if self.taken.is_empty() {
            return Some(column.slot);
        }
        let taken = self.taken.iter().find(|(slot, _)| *slot == column.slot);
        taken.map_or(Some(column.slot), |(_, taken)| *taken)
    }

    /// The text of a column; empty if it is NULL.
    #[inline]
    fn text(&self, column: &Column) -> Cow<'r, [u8]> {
        match self.slot(column) {
            Some(slot) => self.batch.field(self.record, slot).text(),
            None => Cow::Borrowed(&[]),
        }
    }

    #[inline]
    fn value<'a>(&self, node: &'a Node) -> Evaluated<'a>
    where
        'r: 'a,
    {
        match node {
            Node::Column(column) => self.column(column),
            Node::Constant(value) => Ok(borrowed(value)),
            Node::Calculate(..) => Ok(self.number(node)?.map_or(Value::Null, Value::Number)),
            Node::CompareNumbers(..)
            | Node::CompareText(..)
            | Node::CompareLiteral(..)
            | Node::CompareCells(..) => Ok(truth(self.truth(node)?)),
            _ => self.other_value(node),
        }
    }

    /// The value of a condition; `None` if it is unknown.
    #[inline]
    fn truth(&self, node: &Node) -> Result<Option<bool>, Box<EvalError>> {
        match node {
            Node::CompareNumbers(comparison, one, other) => {
                let quick = self.quick(one).zip(self.quick(other));
                if let Some(ordering) = quick.and_then(|(one, other)| one.compare(other)) {
                    return Ok(Some(comparison.holds(ordering)));
                }
                let (one, other) = (self.number(one)?, self.number(other)?);
                let pair = one.zip(other);
                Ok(pair.map(|(one, other)| comparison.holds(one.compare(other))))
            }
            Node::CompareText(comparison, column, constant) => {
                let text = self.text(column);
                let known = !text.is_empty();
                Ok(known.then(|| comparison.holds(text.as_ref().cmp(constant))))
            }
            Node::CompareLiteral(comparison, cell, literal) => {
                self.compare_literal(*comparison, cell, literal)
            }
            Node::CompareCells(comparison, one, other) => {
                self.compare_cells(*comparison, one, other)
            }
            Node::And(nodes) => self.all(nodes, false),
            Node::Or(nodes) => self.all(nodes, true),
            _ => Ok(match self.value(node)? {
                Value::Boolean(value) => Some(value),
                _ => None,
            }),
        }
    }

    /// The value of what is a number; `None` if it is NULL.
    #[inline]
    fn number(&self, node: &Node) -> Result<Option<Number>, Box<EvalError>> {
        match node {
            Node::Column(column) if column.reading == Reading::Number => {
                let Some(slot) = self.slot(column) else {
                    return Ok(None);
                };
                let field = self.batch.field(self.record, slot);
                if self.cells.mark == DecimalMark::Point
                    && self.cells.written(column.slot).is_none()
                    && let Some(number) = Number::parse(field.raw())
                {
                    return Ok(Some(number));
                }
                Ok(Self::as_plain_number(&self.column(column)?))
            }
            Node::Constant(Value::Number(number)) => Ok(Some(*number)),
            Node::Calculate(operation, one, other) => {
                let (Some(one), Some(other)) = (self.number(one)?, self.number(other)?) else {
                    return Ok(None);
                };
                let result = match operation {
                    Operation::Plus => one.plus(other),
                    Operation::Minus => one.minus(other),
                    Operation::Times => one.times(other),
                    Operation::Divide => one.divided_by(other),
                };
                Ok(Some(result.map_err(EvalError::from)?))
            }
            _ => Ok(Self::as_plain_number(&self.value(node)?)),
        }
    }

    fn as_plain_number(value: &Value<'_>) -> Option<Number> {
        match value {
            Value::Number(number) => Some(*number),
            _ => None,
        }
    }

    fn other_value<'a>(&self, node: &'a Node) -> Evaluated<'a>
    where
        'r: 'a,
    {
        Ok(match node {
            Node::Read(node, reading) => {
                let value = self.value(node)?;
                match value {
                    Value::Text(text) => self.read(&text, *reading, as_column(node))?,
                    other => other,
                }
            }
            Node::Not(node) => match self.value(node)? {
                Value::Boolean(value) => Value::Boolean(!value),
                _ => Value::Null,
            },
            Node::And(_) | Node::Or(_) => truth(self.truth(node)?),
            Node::Compare(comparison, one, other) => {
                let (one, other) = (self.value(one)?, self.value(other)?);
                truth(compare(&one, &other).map(|ordering| comparison.holds(ordering)))
            }
            Node::Arithmetic(operation, one, other) => {
                self.arithmetic(*operation, self.value(one)?, self.value(other)?)?
            }
            Node::Between {
                value,
                low,
                high,
                negated,
            } => {
                let value = self.value(value)?;
                let above = compare(&value, &self.value(low)?).map(Ordering::is_ge);
                let below = compare(&value, &self.value(high)?).map(Ordering::is_le);
                let within = match (above, below) {
                    (Some(false), _) | (_, Some(false)) => Some(false),
                    (Some(true), Some(true)) => Some(true),
                    _ => None,
                };
                truth(within.map(|within| within != *negated))
            }
            Node::IsNull(node, negated) => {
                Value::Boolean((self.value(node)? == Value::Null) != *negated)
            }
            Node::IsTruth(node, wanted, negated) => {
                let found = match self.value(node)? {
                    Value::Boolean(value) => Some(value),
                    _ => None,
                };
                Value::Boolean((found == *wanted) != *negated)
            }
            Node::Distinct(one, other, negated) => {
                let (one, other) = (self.value(one)?, self.value(other)?);
                let same = match (&one, &other) {
                    (Value::Null, Value::Null) => true,
                    _ => compare(&one, &other).is_some_and(Ordering::is_eq),
                };
                Value::Boolean(same == *negated)
            }
            Node::In {
                value,
                list,
                negated,
            } => {
                let value = self.value(value)?;
                let mut found = Some(false);
                for item in list {
                    match compare(&value, &self.value(item)?) {
                        Some(Ordering::Equal) => {
                            found = Some(true);
                            break;
                        }
                        Some(_) => {}
                        None => found = None,
                    }
                }
                truth(found.map(|found| found != *negated))
            }
            Node::InTexts {
                value: node,
                texts,
                typed,
                negated,
            } => match self.value(node)? {
                Value::Text(text) => {
                    let found = texts.contains(&*text);
                    if !found {
                        self.check_none_is_same(node, &text, typed)?;
                    }
                    Value::Boolean(found != *negated)
                }
                _ => Value::Null,
            },
            Node::LikePattern(node, like, negated) => match self.value(node)? {
                Value::Text(text) => Value::Boolean(like.matches(&text) != *negated),
                _ => Value::Null,
            },
            Node::Like {
                value,
                pattern,
                escape,
                negated,
            } => {
                let (value, pattern) = (self.value(value)?, self.value(pattern)?);
                let escape = match escape {
                    Some(escape) => Some(self.value(escape)?),
                    None => None,
                };
                match (&value, &pattern, &escape) {
                    (Value::Text(text), Value::Text(pattern), None) => {
                        Value::Boolean(Like::new(pattern, None)?.matches(text) != *negated)
                    }
                    (Value::Text(text), Value::Text(pattern), Some(Value::Text(escape))) => {
                        let like = Like::new(pattern, Some(escape))?;
                        Value::Boolean(like.matches(text) != *negated)
                    }
                    _ => Value::Null,
                }
            }
            Node::Negate(node) => match self.value(node)? {
                Value::Number(number) => Value::Number(number.negated()),
                Value::Interval(interval) => Value::Interval(interval.negated()),
                _ => Value::Null,
            },
            Node::Concat(nodes) => {
                let mut all = Vec::new();
                for node in nodes {
                    match self.value(node)? {
                        Value::Text(text) => all.extend_from_slice(&text),
                        _ => return Ok(Value::Null),
                    }
                }
                Value::Text(Cow::Owned(all))
            }
            Node::Case {
                branches,
                otherwise,
            } => {
                for (condition, result) in branches {
                    if self.value(condition)? == Value::Boolean(true) {
                        return self.value(result);
                    }
                }
                self.value(otherwise)?
            }
            Node::Coalesce(nodes) => {
                for node in nodes {
                    let value = self.value(node)?;
                    if value != Value::Null {
                        return Ok(value);
                    }
                }
                Value::Null
            }
            Node::ExtremeCell(wanted, nodes) => self.extreme(*wanted, nodes)?,
            Node::Cast(node, target) => match self.value(node)? {
                Value::Null => Value::Null,
                value => self.cast(&value, as_column(node), *target)?,
            },
            Node::Call(function, arguments) => self.call(*function, arguments)?,
            Node::Constant(_)
            | Node::Column(_)
            | Node::CompareNumbers(..)
            | Node::CompareText(..)
            | Node::CompareLiteral(..)
            | Node::CompareCells(..)
            | Node::Calculate(..) => self.value(node)?,
        })
    }

    /// `OR` where one that is true decides, `AND` where one that is false does.
    fn all(&self, nodes: &[Node], decides: bool) -> Result<Option<bool>, Box<EvalError>> {
        let mut unknown = false;
        for node in nodes {
            match self.truth(node)? {
                Some(value) if value == decides => return Ok(Some(decides)),
                Some(_) => {}
                None => unknown = true,
            }
        }
        Ok((!unknown).then_some(!decides))
    }

    #[inline]
    fn arithmetic<'a>(
        &self,
        operation: Operation,
        one: Value<'a>,
        other: Value<'a>,
    ) -> Evaluated<'a> {
        let overflow = || EvalError::from(numerant_data::value::ArithmeticError::Overflow);
        Ok(match (operation, one, other) {
            (Operation::Plus, Value::Moment(moment), Value::Interval(interval))
            | (Operation::Plus, Value::Interval(interval), Value::Moment(moment)) => {
                Value::Moment(interval.move_moment(moment)?)
            }
            (Operation::Minus, Value::Moment(moment), Value::Interval(interval)) => {
                Value::Moment(interval.negated().move_moment(moment)?)
            }
            (Operation::Minus, Value::Moment(later), Value::Moment(earlier)) => {
                Value::Interval(Interval::between(later, earlier))
            }
            (Operation::Plus, Value::Interval(one), Value::Interval(other)) => {
                Value::Interval(one.plus(other).ok_or_else(overflow)?)
            }
            (Operation::Minus, Value::Interval(one), Value::Interval(other)) => {
                Value::Interval(one.plus(other.negated()).ok_or_else(overflow)?)
            }
            _ => Value::Null,
        })
    }
}

fn truth(value: Option<bool>) -> Value<'static> {
    value.map_or(Value::Null, Value::Boolean)
}

/// The same value, without a copy of its text.
#[inline]
fn borrowed<'a>(value: &'a Value<'static>) -> Value<'a> {
    match value {
        Value::Text(text) => Value::Text(Cow::Borrowed(text)),
        other => other.clone(),
    }
}

/// The order of two values of one type; `None` if one is NULL.
#[inline]
pub(super) fn compare(one: &Value<'_>, other: &Value<'_>) -> Option<Ordering> {
    match (one, other) {
        (Value::Text(one), Value::Text(other)) => Some(one.as_ref().cmp(other.as_ref())),
        (Value::Number(one), Value::Number(other)) => Some(one.compare(*other)),
        (Value::Moment(one), Value::Moment(other)) => Some(one.compare(*other)),
        (Value::Boolean(one), Value::Boolean(other)) => Some(one.cmp(other)),
        (Value::Interval(one), Value::Interval(other)) => one.compare(*other),
        _ => None,
    }
}

/// The column that a node is.
pub(super) fn as_column(node: &Node) -> Option<&Column> {
    match node {
        Node::Column(column) => Some(column),
        _ => None,
    }
}
