//! What is wrong with an expression, and what goes wrong while one is evaluated.

use crate::StepName;
use std::fmt;

use super::tree::Span;
use super::types::Type;
use numerant_data::record::ColumnError;
use numerant_data::value::{ArithmeticError, NumberProblem, ReadingOption};

/// An expression that cannot be used, with the place in it.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct ExprError {
    /// The expression as it was written.
    pub text: String,
    /// Where the fault begins, in characters from 0; `None` if it is nowhere in particular.
    pub at: Option<usize>,
    /// How many characters it takes.
    pub length: usize,
    /// What is wrong.
    pub problem: ExprProblem,
}

impl ExprError {
    /// A fault at a place of an expression.
    pub(super) fn at(text: &str, span: Span, problem: ExprProblem) -> Self {
        let characters = |from: usize, to: usize| text[from..to].chars().count();
        Self {
            text: text.to_owned(),
            at: Some(characters(0, span.start)),
            length: characters(span.start, span.end).max(1),
            problem,
        }
    }
}

/// What is wrong with an expression.
#[derive(Clone, Debug, PartialEq, Eq, thiserror::Error)]
pub enum ExprProblem {
    /// It is no expression.
    #[error("{0}")]
    Syntax(String),
    /// It has more operators, brackets and calls than are taken.
    #[error(
        "the expression is nested too deeply or too long: it may have {most} operators and opening brackets"
    )]
    TooDeep {
        /// How many there may be.
        most: usize,
    },
    /// A name is no column.
    #[error("there is no column '{}'", .problem.name)]
    Column {
        /// The name.
        problem: Box<ColumnError>,
        /// It is in double quotes, as if it were a text.
        quoted: bool,
    },
    /// A column that only a later step makes.
    #[error("column '{name}' is only made by a later step ({step})")]
    Later {
        /// The name.
        name: String,
        /// The step.
        step: StepName,
    },
    /// Two columns differ in nothing but case.
    #[error("'{name}' may be any of the columns {candidates}")]
    Case {
        /// The name.
        name: String,
        /// The columns, joined.
        candidates: String,
    },
    /// There is no such function.
    #[error("there is no function {name}")]
    Function {
        /// The name.
        name: String,
        /// The nearest there is.
        nearest: Option<&'static str>,
    },
    /// A function over many records.
    #[error("{name} works on many records, and an expression sees one at a time")]
    Aggregate {
        /// The name.
        name: String,
    },
    /// Too many or too few arguments.
    #[error("{function} takes {takes}")]
    Arguments {
        /// The function.
        function: String,
        /// What it takes.
        takes: &'static str,
    },
    /// A part has the wrong type.
    #[error("{}, and this is {found}", if .what.is_empty() { format!("{wanted} is needed") } else { format!("{what} needs {wanted}") })]
    Wanted {
        /// The operator or function.
        what: String,
        /// The type that is needed.
        wanted: Type,
        /// The type that it has.
        found: Type,
    },
    /// Two parts do not go together.
    #[error("{what} does not go with {one} and {other}")]
    Mismatch {
        /// The operator or function.
        what: String,
        /// One type.
        one: Type,
        /// The other type.
        other: Type,
    },
    /// Something that these expressions do not have.
    #[error("{0} is not part of these expressions")]
    Unsupported(String),
    /// A literal that is none.
    #[error("{0}")]
    Literal(String),
    /// A text that looks like a number or a date, and is read as neither.
    #[error("'{text}' looks like {} and is not read as one", if .option.is_number() { "a number" } else { "a date" })]
    Unread {
        /// The text.
        text: String,
        /// The option that reads it.
        option: Box<ReadingOption>,
    },
    /// A text that looks like a number or a date, and is not written as the column is.
    #[error("'{text}' is not written as the values of '{column}' are, such as {example}")]
    WrittenOtherwise {
        /// The text.
        text: Box<str>,
        /// The column.
        column: Box<str>,
        /// What a value of it looks like.
        example: Box<str>,
        /// Whether its values are dates.
        is_date: bool,
    },
    /// Nothing equals an empty text.
    #[error("blanks are NULL, and nothing equals ''")]
    EmptyText,
}

impl fmt::Display for ExprError {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        self.problem.fmt(f)
    }
}

impl std::error::Error for ExprError {}

impl ExprError {
    /// The line of the expression that the fault is in, and a line that marks the place.
    pub fn marked(&self) -> Vec<String> {
        let Some(at) = self.at else {
            return vec![shortened(&self.text, 0).0];
        };
        let mut line_start = 0;
        let mut line = "";
        for text in self.text.split('\n') {
            line = text;
            let length = text.chars().count();
            if at <= line_start + length {
                break;
            }
            line_start += length + 1;
        }
        let (shown, cut) = shortened(line, at.saturating_sub(line_start));
        let before = (at.saturating_sub(line_start)).saturating_sub(cut);
        let room = shown.chars().count().saturating_sub(before).max(1);
        let marks = "^".repeat(self.length.clamp(1, room));
        vec![shown, format!("{}{marks}", " ".repeat(before))]
    }
}

/// At most 100 characters around place `at`, and how many were cut in front.
fn shortened(line: &str, at: usize) -> (String, usize) {
    const ROOM: usize = 100;
    let count = line.chars().count();
    let from = if count <= ROOM || at < ROOM - 20 {
        0
    } else {
        (at - 40).min(count - ROOM)
    };
    let shown = line.chars().skip(from).take(ROOM);
    (
        shown.map(|c| if c == '\t' { ' ' } else { c }).collect(),
        from,
    )
}

/// A cell and what it is compared with, of which only one is a number or a date.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct OneSided {
    /// The column.
    pub column: Option<String>,
    /// The cell.
    pub value: String,
    /// What it is.
    pub is: &'static str,
    /// What it is compared with.
    pub other: String,
    /// What that is.
    pub other_is: &'static str,
    /// An option that reads the cell as more than a text.
    pub option: Option<ReadingOption>,
}

impl fmt::Display for OneSided {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        write!(
            f,
            "{}{:?} is {}, and {:?} is {}",
            of_column(self.column.as_deref()),
            self.value,
            self.is,
            self.other,
            self.other_is
        )
    }
}

/// Why an expression has no value for a record.
#[derive(Clone, Debug, PartialEq, Eq, thiserror::Error)]
pub enum EvalError {
    /// A cell or text is no number.
    #[error("{}{value:?} {problem}", of_column(.column.as_deref()))]
    Number {
        /// The column it is in.
        column: Option<String>,
        /// The text.
        value: String,
        /// What is wrong with it.
        problem: NumberProblem,
    },
    /// A record has too many values to choose among.
    #[error(
        "the values of the columns in this condition can be chosen in {choices} ways in this record; at most {max} \
         are evaluated"
    )]
    Choices {
        /// How many combinations there are.
        choices: usize,
        /// How many are evaluated.
        max: usize,
    },
    /// A cell or text is no date.
    #[error("{}{value:?} is not a date", of_column(.column.as_deref()))]
    Date {
        /// The column it is in.
        column: Option<String>,
        /// The text.
        value: String,
    },
    /// A cell or text is no truth value.
    #[error("{}{value:?} is neither true nor false", of_column(.column.as_deref()))]
    Boolean {
        /// The column it is in.
        column: Option<String>,
        /// The text.
        value: String,
    },
    /// A cell is a number or a date, and what it is compared with is not, or the other way round.
    #[error("{0}")]
    OneSided(Box<OneSided>),
    /// A cell is another text than what it is compared with, but the same number or date.
    #[error("{}{value:?} and {other:?} are the same {} and not the same text", of_column(.column.as_deref()), if *.is_date { "date" } else { "number" })]
    SameValue {
        /// The column.
        column: Option<String>,
        /// The cell.
        value: String,
        /// What it is compared with.
        other: String,
        /// They are dates.
        is_date: bool,
    },
    /// A calculation has no result.
    #[error("{0}")]
    Arithmetic(#[from] ArithmeticError),
    /// A number would be rounded.
    #[error("{value} is not a number of at most {digits} digits with {scale} decimals; use ROUND")]
    Inexact {
        /// The number.
        value: String,
        /// Digits that there may be in all.
        digits: u32,
        /// Digits that there may be after the point.
        scale: u32,
    },
    /// A text is longer than its type.
    #[error("{value:?} has more than {length} characters")]
    TooLong {
        /// The text.
        value: String,
        /// Characters that there may be.
        length: u64,
    },
    /// A number that should be whole, or not below nothing.
    #[error("{what} is {value}, which is not {wanted}")]
    Argument {
        /// What it is for.
        what: &'static str,
        /// The number or text.
        value: String,
        /// What it should be.
        wanted: &'static str,
    },
    /// A day that no calendar has.
    #[error("the date is outside the years -9999 to 9999")]
    DateRange,
    /// An interval of hours to a date without a time.
    #[error("a date without a time cannot be moved by hours")]
    NoTime,
}

fn of_column(column: Option<&str>) -> String {
    column.map_or_else(String::new, |column| format!("column '{column}': "))
}
