//! Comparisons, and what the cells in them are compared as.
//!
//! A cell has no type of its own, and a text in an expression may be a date or a number. Order by code
//! points is right only for texts: `'9'` would come after `'10'`, and `12/31/2014` after
//! `'2015-01-01'`. So a cell is compared as what the other side reads as, and two cells as what both
//! read as; where only one side is a number or a date, that is an error.

use super::{Check, Checked};
use crate::expr::error::{ExprError, ExprProblem};
use crate::expr::node::{CellText, Comparison, Node, Reading, Value};
use crate::expr::tree::Expr;
use crate::expr::types::Type;
use numerant_data::value::{DecimalMark, Number, WrittenFormat, suggest};

/// A part of an expression that is checked.
pub(super) struct Part<'e> {
    pub(super) tree: &'e Expr,
    pub(super) node: Node,
    pub(super) kind: Type,
}

impl<'c> Check<'c> {
    /// A part, checked.
    pub(super) fn part<'e>(&self, tree: &'e Expr) -> Result<Part<'e>, ExprError> {
        let (node, kind) = self.check(tree)?;
        Ok(Part { tree, node, kind })
    }

    pub(super) fn comparison(
        &self,
        tree: &Expr,
        one: &Part<'_>,
        comparison: Comparison,
        other: &Part<'_>,
    ) -> Result<Node, ExprError> {
        let sign = comparison.sign();
        for (part, opposite) in [(one, other), (other, one)] {
            if matches!(&part.node, Node::Constant(Value::Text(text)) if text.is_empty())
                && matches!(opposite.node, Node::Column(_))
            {
                return Err(self.error(tree, ExprProblem::EmptyText));
            }
        }
        let boxed = |part: &Part<'_>| Box::new(part.node.clone());
        match (&one.node, one.kind, &other.node, other.kind) {
            (_, Type::Cell, Node::Constant(Value::Text(text)), Type::Text) => {
                let text = self.cell_text(other.tree, text, comparison, &one.node)?;
                return Ok(Node::CompareLiteral(comparison, boxed(one), Box::new(text)));
            }
            (Node::Constant(Value::Text(text)), Type::Text, _, Type::Cell) => {
                let text = self.cell_text(one.tree, text, comparison, &other.node)?;
                let turned = comparison.turned();
                return Ok(Node::CompareLiteral(turned, boxed(other), Box::new(text)));
            }
            (_, Type::Cell, _, Type::Cell) => {
                return Ok(Node::CompareCells(comparison, boxed(one), boxed(other)));
            }
            _ => {}
        }
        let checked = vec![
            (one.node.clone(), one.kind),
            (other.node.clone(), other.kind),
        ];
        let (nodes, kind) = self.unify(tree, sign, &[one.tree, other.tree], checked)?;
        let Ok([one, other]) = <[Node; 2]>::try_from(nodes) else {
            return Err(self.unsupported(tree, sign));
        };
        Ok(match (kind, one, other) {
            (Type::Number, one, other) => {
                Node::CompareNumbers(comparison, Box::new(one), Box::new(other))
            }
            (_, Node::Column(column), Node::Constant(Value::Text(text)))
                if column.reading == Reading::Text =>
            {
                Node::CompareText(comparison, column, text.into_owned())
            }
            (_, one, other) => Node::Compare(comparison, Box::new(one), Box::new(other)),
        })
    }

    /// `BETWEEN`, which is two comparisons where cells are in it.
    pub(super) fn between(
        &self,
        tree: &Expr,
        value: &Expr,
        low: &Expr,
        high: &Expr,
        negated: bool,
    ) -> Checked {
        let parts = [self.part(value)?, self.part(low)?, self.part(high)?];
        let trees = [value, low, high];
        if parts.iter().any(|part| part.kind == Type::Cell) {
            let [value, low, high] = &parts;
            let above = self.comparison(tree, value, Comparison::GreaterOrEqual, low)?;
            let below = self.comparison(tree, value, Comparison::LessOrEqual, high)?;
            let within = Node::And(vec![above, below]);
            let node = if negated {
                Node::Not(Box::new(within))
            } else {
                within
            };
            return Ok((node, Type::Boolean));
        }
        let checked = parts.into_iter().map(|part| (part.node, part.kind));
        let (nodes, _) = self.unify(tree, "BETWEEN", &trees, checked.collect())?;
        let Ok([value, low, high]) = <[Node; 3]>::try_from(nodes) else {
            return Err(self.unsupported(tree, "BETWEEN"));
        };
        let node = Node::Between {
            value: Box::new(value),
            low: Box::new(low),
            high: Box::new(high),
            negated,
        };
        Ok((node, Type::Boolean))
    }

    /// `IS [NOT] DISTINCT FROM`, for which blanks are values.
    pub(super) fn distinct(&self, tree: &Expr, one: &Expr, other: &Expr, negated: bool) -> Checked {
        let parts = [self.part(one)?, self.part(other)?];
        if !parts.iter().any(|part| part.kind == Type::Cell) {
            let [one, other] = parts;
            let what = "IS DISTINCT FROM";
            let checked = vec![(one.node, one.kind), (other.node, other.kind)];
            let (nodes, _) = self.unify(tree, what, &[one.tree, other.tree], checked)?;
            let Ok([one, other]) = <[Node; 2]>::try_from(nodes) else {
                return Err(self.unsupported(tree, what));
            };
            let node = Node::Distinct(Box::new(one), Box::new(other), negated);
            return Ok((node, Type::Boolean));
        }
        let [one, other] = &parts;
        let same = self.comparison(tree, one, Comparison::Equal, other)?;
        let blank = |part: &Part<'_>| Self::is_blank(part.node.clone(), false);
        let (one, other) = (blank(one), blank(other));
        let both = Node::And(vec![one.clone(), other.clone()]);
        let truth = |value| Node::Constant(Value::Boolean(value));
        let node = Node::Case {
            branches: vec![
                (both, truth(negated)),
                (Node::Or(vec![one, other]), truth(!negated)),
            ],
            otherwise: Box::new(if negated {
                same
            } else {
                Node::Not(Box::new(same))
            }),
        };
        Ok((node, Type::Boolean))
    }

    /// A text that cells are compared with, and what it reads as next to them.
    ///
    /// # Errors
    ///
    /// If it looks like a number or a date and is read as neither, where that decides: in an order, and
    /// next to a column of which it is known how its values are written.
    pub(super) fn cell_text(
        &self,
        tree: &Expr,
        text: &[u8],
        comparison: Comparison,
        beside: &Node,
    ) -> Result<CellText, ExprError> {
        let cells = self.scope.cells;
        let found = CellText::new(text, cells, beside);
        let (None, None, Ok(shown)) = (found.number, found.moment, std::str::from_utf8(text))
        else {
            return Ok(found);
        };
        let option = suggest(&[shown]);
        let problem = match beside.written(cells) {
            Some((column, format))
                if option.is_some() || Number::read(text, DecimalMark::Point).is_ok() =>
            {
                ExprProblem::WrittenOtherwise {
                    text: shown.into(),
                    column: column.name.as_str().into(),
                    example: format.example().into(),
                    is_date: matches!(format, WrittenFormat::Moment(_)),
                }
            }
            None if comparison.is_order() => match option {
                Some(option) => ExprProblem::Unread {
                    text: shown.to_owned(),
                    option: Box::new(option),
                },
                None => return Ok(found),
            },
            _ => return Ok(found),
        };
        Err(self.error(tree, problem))
    }
}
