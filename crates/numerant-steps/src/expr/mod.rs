//! Expressions: the scalar expressions of the SQL standard (ISO/IEC 9075-2), for conditions and
//! computed columns.
//!
//! A lexer and a parser make a tree of the text ([`Expression`]). A check against the columns that there
//! are gives every part of it a type and makes a [`Compiled`] expression, before any record is
//! read; and that is evaluated record by record. Numbers are exact decimals, blanks are NULL and
//! conditions have three values.
//!
//! Cells hold text. What a text is taken for, where no step has said it, comes out of what it is
//! used with: in `tonnes > 1000` it is a number, in `arrived < DATE '2026-01-01'` a date, and in
//! `berth = 'A1'` a text.

mod any;
mod check;
mod error;
mod evaluate;
mod expression;
mod interval;
mod lexer;
mod like;
mod node;
mod parse;
mod text;
mod tree;
mod types;

#[cfg(test)]
mod tests;

pub use check::{FUNCTIONS, Scope, ScopeColumn};
pub use error::{EvalError, ExprError, ExprProblem, OneSided};
pub use evaluate::Compiled;
pub use expression::Expression;
pub use interval::Interval;
pub use node::Value;
pub use types::Type;
