//! An expression as jobs have it: a text that can be read.

use std::fmt;
use std::str::FromStr;

use serde::{Deserialize, Serialize};

use super::any::AnyOf;
use super::check::{Check, Scope};
use super::error::{ExprError, ExprProblem};
use super::evaluate::Compiled;
use super::lexer::{Token, tokens};
use super::parse::{MAX_OPERATORS, ParseError, parse};
use super::tree::Expr;
use super::types::Type;

/// An expression that can be read. Whether its columns are there is another question.
#[derive(Clone, Debug, Serialize, Deserialize, schemars::JsonSchema)]
#[serde(try_from = "String", into = "String")]
pub struct Expression {
    text: String,
    tree: Box<Expr>,
}

impl PartialEq for Expression {
    fn eq(&self, other: &Self) -> bool {
        self.text == other.text
    }
}

impl Eq for Expression {}

impl FromStr for Expression {
    type Err = ExprError;

    fn from_str(text: &str) -> Result<Self, Self::Err> {
        let nowhere = |problem| ExprError {
            text: text.to_owned(),
            at: None,
            length: 0,
            problem,
        };
        if text.trim().is_empty() {
            let problem = ExprProblem::Syntax("there is no expression".to_owned());
            return Err(nowhere(problem));
        }
        let tree = parse(text).map_err(|error| match error {
            ParseError::TooDeep => nowhere(ExprProblem::TooDeep {
                most: MAX_OPERATORS,
            }),
            ParseError::Unsupported(span, what) => {
                ExprError::at(text, span, ExprProblem::Unsupported(what))
            }
            ParseError::At(span, message) => {
                ExprError::at(text, span, ExprProblem::Syntax(message))
            }
        })?;
        Ok(Self {
            text: text.to_owned(),
            tree: Box::new(tree),
        })
    }
}

impl Expression {
    /// All words in it that could name columns, functions among them.
    pub fn words(&self) -> Vec<String> {
        let tokens = tokens(&self.text).unwrap_or_default();
        let words = tokens.into_iter().filter_map(|lexeme| match lexeme.token {
            Token::Word(word) | Token::Quoted(word) => Some(word),
            _ => None,
        });
        words.collect()
    }

    /// Checks the expression against the columns that there are.
    ///
    /// # Errors
    ///
    /// [`ExprError`] for a column or function that there is not, and for types that do not fit.
    pub fn compile(&self, scope: &Scope<'_>) -> Result<Compiled, ExprError> {
        Check::new(&self.text, scope).compile(&self.tree)
    }

    /// As [`Expression::compile`], of an expression that is to be a condition. Where columns are
    /// occurrences of one value, it holds if it does for any of them: for `SVC02` and `SVC[2]02`. Values of one
    /// segment or field are taken together.
    ///
    /// # Errors
    ///
    /// As [`Expression::compile`], and if it is no condition.
    pub fn compile_condition(&self, scope: &Scope<'_>) -> Result<Compiled, ExprError> {
        let mut compiled =
            Check::new(&self.text, scope).compile_as(&self.tree, "", Type::Boolean)?;
        if let Some(occurrences) = scope.occurrences {
            compiled.any = AnyOf::new(&compiled.columns(), scope.columns, occurrences);
        }
        Ok(compiled)
    }
}

impl fmt::Display for Expression {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str(&self.text)
    }
}

impl TryFrom<String> for Expression {
    type Error = ExprError;

    fn try_from(text: String) -> Result<Self, Self::Error> {
        text.parse()
    }
}

impl From<Expression> for String {
    fn from(expression: Expression) -> Self {
        expression.text
    }
}
