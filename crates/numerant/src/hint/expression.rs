//! What to write instead of expressions that cannot be evaluated.

use numerant_data::value::{ArithmeticError, Moment, NumberProblem};
use numerant_steps::expr::{EvalError, ExprError, ExprProblem, FUNCTIONS, Type};

use super::read::of_column;
use super::value::{date_hint, number_hint, reading_option};

/// What to write instead of an expression.
pub(crate) fn of_expression(error: &ExprError) -> Option<String> {
    match &error.problem {
        ExprProblem::Column {
            problem,
            quoted: true,
        } if problem.nearest.is_none() => Some(format!(
            "write a text in single quotes: '{}'; double quotes are for column names: {}",
            problem.name,
            problem.listed()
        )),
        ExprProblem::Column { problem, .. } => Some(of_column(problem)),
        ExprProblem::Function {
            nearest: Some(nearest),
            ..
        } => Some(format!("did you mean {nearest}?")),
        ExprProblem::Function { .. } => Some(format!("functions are {}", FUNCTIONS.join(", "))),
        ExprProblem::Aggregate { .. } => {
            Some("--total COLUMN sums a column up, over all and in each output".to_owned())
        }
        ExprProblem::Case { .. } => Some("write the one that is meant in double quotes".to_owned()),
        ExprProblem::EmptyText => {
            Some("write IS NULL for blanks, and IS NOT NULL for the others".to_owned())
        }
        ExprProblem::Unread { option, .. } => Some(format!(
            "{} reads such values; or write {}, or CAST(column AS VARCHAR) to compare texts",
            reading_option(option),
            literal(!option.is_number())
        )),
        ExprProblem::WrittenOtherwise {
            example, is_date, ..
        } => Some(format!(
            "write it like '{example}'; or {}, or CAST(column AS VARCHAR) to compare texts",
            literal(*is_date)
        )),
        ExprProblem::TooDeep { .. } => {
            Some("many values are better looked up in a table: --lookup FILE:KEY".to_owned())
        }
        ExprProblem::Wanted { wanted, found, .. } => cast_hint(*wanted, *found),
        ExprProblem::Mismatch { one, other, .. } => {
            cast_hint(*one, *other).or_else(|| cast_hint(*other, *one))
        }
        ExprProblem::Unsupported(what) if what == "ILIKE" => {
            Some("write UPPER(column) LIKE 'TEXT%'".to_owned())
        }
        ExprProblem::Unsupported(what) if what == "%" => Some("write MOD(a, b)".to_owned()),
        _ => None,
    }
}

/// What to do about a record for which an expression has no value.
pub(super) fn of_evaluation(error: &EvalError) -> Option<String> {
    match error {
        EvalError::Number { value, problem, .. } => of_number(problem, value),
        EvalError::Choices { .. } => Some(
            "split the condition into several --where, each with columns of one segment or field"
                .to_owned(),
        ),
        EvalError::Date { value, .. } => Some(of_date(value)),
        EvalError::OneSided(sides) => {
            let column = sides.column.as_deref().unwrap_or("column");
            let reads = sides.option.as_ref().map_or_else(String::new, |option| {
                format!("{} reads such values; ", reading_option(option))
            });
            Some(format!(
                "{reads}CAST(\"{column}\" AS VARCHAR) compares texts, DATE '2026-03-05' is a date and \
                 1234.50 a number; --on-error reject leaves such records out"
            ))
        }
        EvalError::SameValue {
            column, is_date, ..
        } => {
            let column = column.as_deref().unwrap_or("column");
            let literal = if *is_date {
                "DATE '2026-03-05' compares dates"
            } else {
                "a number without quotes compares numbers"
            };
            Some(format!(
                "{literal}; CAST(\"{column}\" AS VARCHAR) compares texts"
            ))
        }
        EvalError::Arithmetic(ArithmeticError::DivisionByZero) => Some(
            "NULLIF(x, 0) replaces a zero by NULL; --on-error reject leaves such records out"
                .to_owned(),
        ),
        EvalError::Inexact { .. } => {
            Some("ROUND(x, digits), FLOOR(x) and CEILING(x) round".to_owned())
        }
        EvalError::NoTime => Some("CAST(… AS TIMESTAMP) gives it a time".to_owned()),
        _ => Some("--on-error reject leaves such records out and counts them".to_owned()),
    }
}

/// A literal to compare with, for people.
fn literal(is_date: bool) -> &'static str {
    if is_date {
        "DATE '2026-03-05'"
    } else {
        "a number without quotes, such as 1234.50"
    }
}

fn cast_hint(wanted: Type, found: Type) -> Option<String> {
    match (wanted, found) {
        (Type::Text, Type::Number | Type::Moment | Type::Boolean) => {
            Some("CAST(… AS VARCHAR) makes it a text".to_owned())
        }
        (Type::Number, Type::Text) => Some("CAST(… AS DECIMAL) makes a number of it".to_owned()),
        (Type::Moment, Type::Text) => Some(
            "a date is written DATE '2026-03-05'; CAST(… AS DATE) makes one of a text".to_owned(),
        ),
        (Type::Boolean, _) => Some(
            "a condition compares something, such as tonnes > 1000 or cargo = 'fish'".to_owned(),
        ),
        _ => None,
    }
}

/// What to do about a value that is no number.
pub(super) fn of_number(problem: &NumberProblem, value: &str) -> Option<String> {
    Some(match problem {
        NumberProblem::Not if Moment::parse_iso(value.as_bytes()).is_some() => {
            "it is a date: declare it with --type COLUMN=date or datetime".to_owned()
        }
        NumberProblem::Ambiguous => {
            "--decimal-comma reads a comma before the fraction, --number-format '1,234.50' one \
             between thousands"
                .to_owned()
        }
        NumberProblem::OtherMark => {
            "--decimal-comma reads 1.234,50, and without it 1,234.50 is read; one file should \
             not have both"
                .to_owned()
        }
        _ => {
            let reads = number_hint(value).map_or_else(String::new, |hint| format!("{hint}; "));
            format!("{reads}--on-error reject leaves such records out and counts them")
        }
    })
}

/// What to do about a value that is no date.
pub(super) fn of_date(value: &str) -> String {
    format!(
        "{}; --on-error reject leaves such records out",
        date_hint(value)
    )
}
