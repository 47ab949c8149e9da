//! From text to the tree of `sqlparser`.

use std::fmt;
use std::str::FromStr;

use serde::{Deserialize, Serialize};
use sqlparser::ast::Expr;
use sqlparser::dialect::Dialect;
use sqlparser::parser::{Parser, ParserError};
use sqlparser::tokenizer::{Location, Token, TokenWithSpan, Tokenizer};

use super::any::AnyOf;
use super::check::{Check, Scope};
use super::error::{ExprError, ExprProblem};
use super::evaluate::Compiled;
use super::types::Type;

/// Operators and opening brackets of an expression: what makes its tree deep.
const MOST_OPERATORS: usize = 500;

/// Levels that the parser goes down; brackets take a few each.
const DEEPEST: usize = 400;

/// An expression that can be read. Whether its columns are there is another question.
#[derive(Clone, Debug, Serialize, Deserialize, schemars::JsonSchema)]
#[serde(try_from = "String", into = "String")]
pub struct Expression {
    text: String,
    tree: Box<Expr>,
    /// A condition that holds if it does for any of the values that a record has several of.
    for_any: bool,
}

impl PartialEq for Expression {
    fn eq(&self, other: &Self) -> bool {
        self.text == other.text
    }
}

impl Eq for Expression {}

/// Names as the standard has them, of letters of any language.
#[derive(Debug)]
struct Standard;

impl Dialect for Standard {
    fn is_identifier_start(&self, ch: char) -> bool {
        ch.is_alphabetic() || ch == '_'
    }

    fn is_identifier_part(&self, ch: char) -> bool {
        ch.is_alphanumeric() || ch == '_'
    }

    fn is_delimited_identifier_start(&self, ch: char) -> bool {
        ch == '"'
    }

    fn require_interval_qualifier(&self) -> bool {
        true
    }
}

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
        let tokens = Tokenizer::new(&Standard, text)
            .tokenize_with_location()
            .map_err(|error| {
                let at = char_place(text, error.location);
                let problem = ExprProblem::Syntax(tokenizer_message(&error.message));
                ExprError {
                    at: Some(at),
                    length: 1,
                    ..nowhere(problem)
                }
            })?;
        if tokens.iter().filter(|token| deepens(&token.token)).count() > MOST_OPERATORS {
            let most = MOST_OPERATORS;
            return Err(nowhere(ExprProblem::TooDeep { most }));
        }
        let mut parser = Parser::new(&Standard)
            .with_recursion_limit(DEEPEST)
            .with_tokens_with_locations(tokens);
        let parsed = parser.parse_expr();
        let tree = parsed.map_err(|error| match error {
            ParserError::RecursionLimitExceeded => nowhere(ExprProblem::TooDeep {
                most: MOST_OPERATORS,
            }),
            ParserError::ParserError(message) | ParserError::TokenizerError(message) => {
                let (message, location) = located(&message);
                ExprError {
                    at: location.map(|location| char_place(text, location)),
                    length: 1,
                    ..nowhere(ExprProblem::Syntax(message))
                }
            }
        })?;
        let next: TokenWithSpan = parser.next_token();
        if next.token != Token::EOF {
            let at = char_place(text, next.span.start);
            let message = format!("the expression is complete before {}", next.token);
            return Err(ExprError {
                at: Some(at),
                length: next.token.to_string().chars().count(),
                ..nowhere(ExprProblem::Syntax(message))
            });
        }
        Ok(Self {
            text: text.to_owned(),
            tree: Box::new(tree),
            for_any: false,
        })
    }
}

/// Whether a token makes the tree deeper.
fn deepens(token: &Token) -> bool {
    match token {
        Token::Word(word) => {
            word.quote_style.is_none()
                && [
                    "AND", "OR", "NOT", "CASE", "WHEN", "IS", "IN", "LIKE", "BETWEEN",
                ]
                .iter()
                .any(|keyword| word.value.eq_ignore_ascii_case(keyword))
        }
        Token::Plus
        | Token::Minus
        | Token::Mul
        | Token::Div
        | Token::Mod
        | Token::StringConcat
        | Token::Eq
        | Token::DoubleEq
        | Token::Neq
        | Token::Lt
        | Token::Gt
        | Token::LtEq
        | Token::GtEq
        | Token::LParen => true,
        _ => false,
    }
}

/// Where a place of `sqlparser` is in the text, in characters from 0.
pub(super) fn char_place(text: &str, location: Location) -> usize {
    let before = location.line.saturating_sub(1) as usize;
    let lines: usize = text
        .split('\n')
        .take(before)
        .map(|line| line.chars().count() + 1)
        .sum();
    lines + (location.column.saturating_sub(1)) as usize
}

/// A message of the parser without the place at its end, and the place.
fn located(message: &str) -> (String, Option<Location>) {
    let Some((text, place)) = message.rsplit_once(" at Line: ") else {
        return (worded(message), None);
    };
    let mut numbers = place
        .split(|c: char| !c.is_ascii_digit())
        .filter_map(|number| number.parse::<u64>().ok());
    let location = numbers.next().zip(numbers.next());
    let location = location.map(|(line, column)| Location { line, column });
    (worded(text), location)
}

fn worded(message: &str) -> String {
    let Some(rest) = message.strip_prefix("Expected: ") else {
        return message.to_owned();
    };
    match rest.rsplit_once(", found: ") {
        Some((wanted, "EOF")) => format!("the expression ends where {wanted} should follow"),
        Some((wanted, found)) => format!("{wanted} should stand here, and not {found}"),
        None => message.to_owned(),
    }
}

fn tokenizer_message(message: &str) -> String {
    if message.contains("Unterminated string literal") {
        return "a text opens here and is never closed: its closing ' is missing".to_owned();
    }
    if message.contains("close delimiter '\"'") {
        return "a name opens here and is never closed: its closing \" is missing".to_owned();
    }
    let mut words = message.to_owned();
    if let Some(first) = words.get_mut(0..1) {
        first.make_ascii_lowercase();
    }
    words
}

impl Expression {
    /// All words in it that could name columns, functions among them.
    pub fn words(&self) -> Vec<String> {
        let tokens = Tokenizer::new(&Standard, &self.text)
            .tokenize()
            .unwrap_or_default();
        let words = tokens.into_iter().filter_map(|token| match token {
            Token::Word(word) => Some(word.value),
            _ => None,
        });
        words.collect()
    }

    /// A condition that holds if this one holds for any of the values that a record has several of, as
    /// `SVC02` and `SVC[2]02`. Values of one segment or field are taken together.
    pub fn for_any(&self) -> Self {
        Self {
            for_any: true,
            ..self.clone()
        }
    }

    /// Checks the expression against the columns that there are.
    ///
    /// # Errors
    ///
    /// [`ExprError`] for a column or function that there is not, and for types that do not fit.
    pub fn compile(&self, scope: &Scope<'_>) -> Result<Compiled, ExprError> {
        Check::new(&self.text, scope).compile(&self.tree)
    }

    /// As [`Expression::compile`], of an expression that is to be a condition.
    ///
    /// # Errors
    ///
    /// As [`Expression::compile`], and if it is no condition.
    pub fn compile_condition(&self, scope: &Scope<'_>) -> Result<Compiled, ExprError> {
        let mut compiled =
            Check::new(&self.text, scope).compile_as(&self.tree, "", Type::Boolean)?;
        if self.for_any {
            compiled.any = AnyOf::new(&compiled.columns(), scope.columns);
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
