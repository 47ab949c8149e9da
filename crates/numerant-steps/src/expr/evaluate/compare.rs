//! Comparisons of cells, which have no types of their own.

use std::borrow::Cow;
use std::cmp::Ordering;

use super::Row;
use crate::expr::error::{EvalError, OneSided};
use crate::expr::node::{CellText, CellTexts, Comparison, Node, Reading, Value};
use crate::expr::text;
use numerant_data::value::{Moment, Number};

type Truth = Result<Option<bool>, Box<EvalError>>;

impl Row<'_> {
    /// A comparison of a cell with a text.
    #[inline]
    pub(super) fn compare_literal(
        &self,
        comparison: Comparison,
        node: &Node,
        literal: &CellText,
    ) -> Truth {
        let cell = self.cell(node)?;
        if cell.is_empty() {
            return Ok(None);
        }
        if comparison.is_order() {
            return self.order(comparison, node, &cell, literal);
        }
        let same = *cell == *literal.text;
        if !same && (literal.number.is_some() || literal.moment.is_some()) {
            self.check_is_other_value(node, &cell, literal)?;
        }
        Ok(Some(same == (comparison == Comparison::Equal)))
    }

    /// The text of a cell; empty if it is NULL.
    #[inline]
    fn cell<'a>(&self, node: &'a Node) -> Result<Cow<'a, [u8]>, Box<EvalError>>
    where
        Self: 'a,
    {
        if let Node::Column(column) = node
            && column.reading == Reading::Text
        {
            return Ok(self.text(column));
        }
        Ok(match self.value(node)? {
            Value::Text(cell) => cell,
            _ => Cow::Borrowed(&[]),
        })
    }

    fn order(&self, comparison: Comparison, node: &Node, cell: &[u8], literal: &CellText) -> Truth {
        if cell.trim_ascii().is_empty() {
            return Ok(None);
        }
        let ordering = match (literal.number, literal.moment) {
            (Some(number), _) => self
                .cell_number(node, cell)
                .map(|cell| cell.compare(number)),
            (None, Some(moment)) => self
                .cell_moment(node, cell)
                .map(|cell| cell.compare(moment)),
            (None, None) => {
                if self.is_typed(node, cell) {
                    None
                } else {
                    Some(cell.cmp(literal.text.as_slice()))
                }
            }
        };
        match ordering {
            Some(ordering) => Ok(Some(comparison.holds(ordering))),
            None => Err(self.one_sided(node, cell, literal)),
        }
    }

    /// An error where a cell is another text, but the same number or date: nobody can say which was
    /// meant.
    fn check_is_other_value(
        &self,
        node: &Node,
        cell: &[u8],
        literal: &CellText,
    ) -> Result<(), Box<EvalError>> {
        if !self.is_same_value(node, cell, literal) {
            return Ok(());
        }
        Err(Box::new(EvalError::SameValue {
            column: column_of(node),
            value: text::shown(cell),
            other: text::shown(&literal.text),
            is_date: literal.moment.is_some(),
        }))
    }

    /// Whether a cell reads as the same number or date as a text.
    pub(super) fn is_same_value(&self, node: &Node, cell: &[u8], literal: &CellText) -> bool {
        match (literal.number, literal.moment) {
            (Some(number), _) => {
                let cell = self.cell_number(node, cell);
                cell.is_some_and(|cell| cell.compare(number).is_eq())
            }
            (None, Some(moment)) => {
                let cell = self.cell_moment(node, cell);
                cell.is_some_and(|cell| cell.compare(moment).is_eq())
            }
            (None, None) => false,
        }
    }

    /// A comparison of two cells: as numbers or dates where both are, as texts where neither is.
    pub(super) fn compare_cells(&self, comparison: Comparison, one: &Node, other: &Node) -> Truth {
        let (left, right) = (self.value(one)?, self.value(other)?);
        let (Value::Text(left), Value::Text(right)) = (&left, &right) else {
            return Ok(None);
        };
        if left == right {
            return Ok(Some(comparison.holds(Ordering::Equal)));
        }
        let ordering = self.order_of_cells(one, left, other, right)?;
        Ok(Some(comparison.holds(ordering)))
    }

    /// The order of two cells that are not blank.
    fn order_of_cells(
        &self,
        one: &Node,
        left: &[u8],
        other: &Node,
        right: &[u8],
    ) -> Result<Ordering, Box<EvalError>> {
        let numbers = (self.cell_number(one, left), self.cell_number(other, right));
        if let (Some(left), Some(right)) = numbers {
            return Ok(left.compare(right));
        }
        if numbers == (None, None) {
            let moments = (self.cell_moment(one, left), self.cell_moment(other, right));
            match moments {
                (Some(left), Some(right)) => return Ok(left.compare(right)),
                (None, None) => return Ok(left.cmp(right)),
                _ => {}
            }
        }
        let (node, cell, beside, literal) = if self.is_typed(one, left) {
            (one, left, other, right)
        } else {
            (other, right, one, left)
        };
        let number = self.cell_number(beside, literal);
        let literal = CellText {
            text: literal.to_vec(),
            number,
            moment: self.cell_moment(beside, literal),
        };
        Err(self.one_sided(node, cell, &literal))
    }

    /// An error if a cell is none of some texts, but the same number or date as one of them.
    pub(super) fn check_none_is_same(
        &self,
        node: &Node,
        cell: &[u8],
        typed: &CellTexts,
    ) -> Result<(), Box<EvalError>> {
        if typed.numbers.is_empty() && typed.moments.is_empty() {
            return Ok(());
        }
        let number = self.cell_number(node, cell).map(Number::shortest);
        let same_number = number.and_then(|number| typed.numbers.get(&number));
        let moment = match typed.moments.as_slice() {
            [] => None,
            _ => self.cell_moment(node, cell),
        };
        let same_moment = moment.and_then(|cell| {
            let mut others = typed.moments.iter();
            others.find(|(other, _)| cell.compare(*other).is_eq())
        });
        let Some(other) = same_number.or(same_moment.map(|(_, text)| text)) else {
            return Ok(());
        };
        Err(Box::new(EvalError::SameValue {
            column: column_of(node),
            value: text::shown(cell),
            other: text::shown(other),
            is_date: same_number.is_none(),
        }))
    }

    /// The greatest or least of some cells; NULL if one of them is blank.
    pub(super) fn extreme<'a>(
        &self,
        wanted: Comparison,
        nodes: &'a [Node],
    ) -> Result<Value<'static>, Box<EvalError>>
    where
        Self: 'a,
    {
        let mut best: Option<(&Node, Vec<u8>)> = None;
        for node in nodes {
            let Value::Text(cell) = self.value(node)? else {
                return Ok(Value::Null);
            };
            let is_better = match &best {
                None => true,
                Some((other, known)) => {
                    wanted.holds(self.order_of_cells(node, &cell, other, known)?)
                }
            };
            if is_better {
                best = Some((node, cell.into_owned()));
            }
        }
        Ok(best.map_or(Value::Null, |(_, cell)| Value::Text(Cow::Owned(cell))))
    }

    fn cell_number(&self, node: &Node, cell: &[u8]) -> Option<Number> {
        let plausible = |byte: &u8| !byte.is_ascii_alphabetic();
        if !cell.iter().any(u8::is_ascii_digit) {
            return None;
        }
        if is_computed(node) {
            return Number::read(cell, self.cells.mark).ok();
        }
        match node.written_slot(self.cells) {
            Some(slot) => self.cells.number_of(slot, cell).ok(),
            // Most texts show at once that they are none.
            None if self.cells.numbers.is_none() && !cell.first().is_some_and(plausible) => None,
            None => self.cells.number(cell).ok(),
        }
    }

    fn cell_moment(&self, node: &Node, cell: &[u8]) -> Option<Moment> {
        if is_computed(node) {
            return Moment::parse(cell.trim_ascii(), &[]);
        }
        match node.written_slot(self.cells) {
            Some(slot) => self.cells.moment_of(slot, cell),
            None => self.cells.moment(cell),
        }
    }

    fn is_typed(&self, node: &Node, cell: &[u8]) -> bool {
        self.cell_number(node, cell).is_some() || self.cell_moment(node, cell).is_some()
    }

    /// That a cell and a text are not both numbers or dates.
    fn one_sided(&self, node: &Node, cell: &[u8], literal: &CellText) -> Box<EvalError> {
        let is = |number: bool, moment: bool| match (number, moment) {
            (true, _) => "a number",
            (_, true) => "a date",
            _ => "a text",
        };
        let number = self.cell_number(node, cell).is_some();
        let moment = !number && self.cell_moment(node, cell).is_some();
        let shown = String::from_utf8_lossy(cell);
        Box::new(EvalError::OneSided(Box::new(OneSided {
            column: column_of(node),
            value: text::shown(cell),
            is: is(number, moment),
            other: text::shown(&literal.text),
            other_is: is(literal.number.is_some(), literal.moment.is_some()),
            option: numerant_data::value::suggest(&[shown.as_ref()]),
        })))
    }
}

fn column_of(node: &Node) -> Option<String> {
    match node {
        Node::Column(column) => Some(column.name.clone()),
        _ => None,
    }
}

/// Whether what a node gives was computed, so that dates in it are written after ISO 8601.
fn is_computed(node: &Node) -> bool {
    matches!(node, Node::Column(column) if column.computed)
}
