//! Operators and predicates.

use super::{Check, Checked};
use crate::expr::error::ExprProblem;
use crate::expr::like::Like;
use crate::expr::node::{CellTexts, Column, Comparison, Node, Operation, Reading, Value};
use crate::expr::tree::{Expr, Operator};
use crate::expr::types::Type;

impl Check<'_> {
    /// A number or interval with a sign in front.
    pub(super) fn signed(&self, is_minus: bool, inner: &Expr) -> Checked {
        let (node, kind) = self.check(inner)?;
        let wanted = match kind {
            Type::Interval => Type::Interval,
            _ => Type::Number,
        };
        let sign = if is_minus { "-" } else { "+" };
        let node = self.coerce(inner, node, kind, wanted, sign)?;
        Ok(match node {
            node if !is_minus => (node, wanted),
            Node::Constant(Value::Number(number)) => {
                (Node::Constant(Value::Number(number.negated())), wanted)
            }
            node => (Node::Negate(Box::new(node)), wanted),
        })
    }

    pub(super) fn binary(&self, tree: &Expr, left: &Expr, op: Operator, right: &Expr) -> Checked {
        match op {
            Operator::And | Operator::Or => {
                let mut nodes = Vec::new();
                let sign = op.sign();
                for side in [left, right] {
                    match (op, self.typed(side, Type::Boolean, sign)?) {
                        (Operator::And, Node::And(inner)) | (Operator::Or, Node::Or(inner)) => {
                            nodes.extend(inner);
                        }
                        (_, node) => nodes.push(node),
                    }
                }
                let node = if op == Operator::And {
                    Node::And(nodes)
                } else {
                    Node::Or(nodes)
                };
                Ok((node, Type::Boolean))
            }
            Operator::Concat => {
                let mut nodes = Vec::new();
                for side in [left, right] {
                    match self.typed(side, Type::Text, "||")? {
                        Node::Concat(inner) => nodes.extend(inner),
                        node => nodes.push(node),
                    }
                }
                Ok((Node::Concat(nodes), Type::Text))
            }
            Operator::Plus => self.arithmetic(tree, left, Operation::Plus, "+", right),
            Operator::Minus => self.arithmetic(tree, left, Operation::Minus, "-", right),
            Operator::Times => self.arithmetic(tree, left, Operation::Times, "*", right),
            Operator::Divide => self.arithmetic(tree, left, Operation::Divide, "/", right),
            Operator::Equal => self.compared(tree, left, Comparison::Equal, right),
            Operator::Unequal => self.compared(tree, left, Comparison::Unequal, right),
            Operator::Less => self.compared(tree, left, Comparison::Less, right),
            Operator::LessOrEqual => self.compared(tree, left, Comparison::LessOrEqual, right),
            Operator::Greater => self.compared(tree, left, Comparison::Greater, right),
            Operator::GreaterOrEqual => {
                self.compared(tree, left, Comparison::GreaterOrEqual, right)
            }
        }
    }

    fn compared(&self, tree: &Expr, left: &Expr, comparison: Comparison, right: &Expr) -> Checked {
        let (one, other) = (self.part(left)?, self.part(right)?);
        let node = self.comparison(tree, &one, comparison, &other)?;
        Ok((node, Type::Boolean))
    }

    pub(super) fn arithmetic(
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

    pub(super) fn in_list(
        &self,
        tree: &Expr,
        value: &Expr,
        list: &[Expr],
        negated: bool,
    ) -> Checked {
        let mut parts = vec![value];
        parts.extend(list);
        let mut checked = Vec::with_capacity(parts.len());
        for part in &parts {
            checked.push(self.check(part)?);
        }
        let kind = checked[0].1;
        let (mut nodes, _) = self.unify(tree, "IN", &parts, checked)?;
        let value = Box::new(nodes.remove(0));
        let texts: Option<_> = nodes
            .iter()
            .map(|node| match node {
                Node::Constant(Value::Text(text)) => Some(text.to_vec()),
                _ => None,
            })
            .collect();
        let typed = match kind {
            Type::Cell => {
                let texts = nodes
                    .iter()
                    .zip(list)
                    .filter_map(|(node, tree)| match node {
                        Node::Constant(Value::Text(text)) => {
                            Some(self.cell_text(tree, text, Comparison::Equal, &value))
                        }
                        _ => None,
                    });
                Box::new(CellTexts::new(texts.collect::<Result<_, _>>()?))
            }
            _ => Box::default(),
        };
        let node = match texts {
            Some(texts) => Node::InTexts {
                value,
                texts,
                typed,
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

    pub(super) fn like(
        &self,
        value: &Expr,
        pattern: &Expr,
        escape: Option<&Expr>,
        negated: bool,
    ) -> Checked {
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

    pub(super) fn is_null(&self, inner: &Expr, negated: bool) -> Checked {
        let (node, _) = self.check(inner)?;
        Ok((Self::is_blank(node, negated), Type::Boolean))
    }

    /// Whether a node has no value. That of a cell does not depend on what it is taken for.
    pub(super) fn is_blank(node: Node, negated: bool) -> Node {
        let node = match node {
            Node::Column(column) => Node::Column(Column {
                reading: Reading::Text,
                ..column
            }),
            node => node,
        };
        Node::IsNull(Box::new(node), negated)
    }

    pub(super) fn is_truth(&self, inner: &Expr, wanted: Option<bool>, negated: bool) -> Checked {
        let node = self.typed(inner, Type::Boolean, "IS")?;
        Ok((
            Node::IsTruth(Box::new(node), wanted, negated),
            Type::Boolean,
        ))
    }

    pub(super) fn case(
        &self,
        tree: &Expr,
        operand: Option<&Expr>,
        branches: &[(Expr, Expr)],
        otherwise: Option<&Expr>,
    ) -> Checked {
        let mut results: Vec<&Expr> = branches.iter().map(|(_, result)| result).collect();
        results.extend(otherwise);
        let (mut nodes, kind) = self.unified(tree, "CASE", &results)?;
        let otherwise = match otherwise {
            Some(_) => nodes.pop().unwrap_or(Node::Constant(Value::Null)),
            None => Node::Constant(Value::Null),
        };
        let mut checked = Vec::new();
        for ((condition, _), result) in branches.iter().zip(nodes) {
            let condition = match operand {
                None => self.typed(condition, Type::Boolean, "WHEN")?,
                Some(operand) => {
                    let (one, other) = (self.part(operand)?, self.part(condition)?);
                    self.comparison(condition, &one, Comparison::Equal, &other)?
                }
            };
            checked.push((condition, result));
        }
        let node = Node::Case {
            branches: checked,
            otherwise: Box::new(otherwise),
        };
        Ok((node, kind))
    }
}
