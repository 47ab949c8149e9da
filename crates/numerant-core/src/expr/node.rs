//! A checked expression: every part knows its columns, and types fit.

use std::borrow::Cow;
use std::cmp::Ordering;
use std::collections::HashSet;

use super::interval::{Interval, Unit};
use super::like::Like;
use super::text::Side;
use crate::value::{Moment, Number, Rounding};

/// A value of an expression. Texts are UTF-8.
#[derive(Clone, Debug, PartialEq)]
pub enum Value<'a> {
    /// A blank.
    Null,
    /// True or false; unknown is [`Value::Null`].
    Boolean(bool),
    /// An exact decimal.
    Number(Number),
    /// Characters.
    Text(Cow<'a, [u8]>),
    /// A day, perhaps with a time.
    Moment(Moment),
    /// A span of time.
    Interval(Interval),
}

/// How the text of a cell is taken.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(super) enum Reading {
    Text,
    Number,
    Moment,
    Boolean,
}

#[derive(Clone, Debug)]
pub(super) enum Node {
    Constant(Value<'static>),
    Column(Column),
    /// The text that a node gives, taken for something else.
    Read(Box<Node>, Reading),
    Not(Box<Node>),
    And(Vec<Node>),
    Or(Vec<Node>),
    Compare(Comparison, Box<Node>, Box<Node>),
    /// [`Node::Compare`] of two numbers.
    CompareNumbers(Comparison, Box<Node>, Box<Node>),
    /// [`Node::Compare`] of a column of texts and a text.
    CompareText(Comparison, Column, Vec<u8>),
    Between {
        value: Box<Node>,
        low: Box<Node>,
        high: Box<Node>,
        negated: bool,
    },
    IsNull(Box<Node>, bool),
    /// `IS [NOT] TRUE`, `FALSE` and, without a value, `UNKNOWN`.
    IsTruth(Box<Node>, Option<bool>, bool),
    Distinct(Box<Node>, Box<Node>, bool),
    In {
        value: Box<Node>,
        list: Vec<Node>,
        negated: bool,
    },
    /// `IN` where all of the list are texts.
    InTexts {
        value: Box<Node>,
        texts: HashSet<Vec<u8>>,
        negated: bool,
    },
    Like {
        value: Box<Node>,
        pattern: Box<Node>,
        escape: Option<Box<Node>>,
        negated: bool,
    },
    /// `LIKE` with a pattern that is known before.
    LikePattern(Box<Node>, Like, bool),
    Negate(Box<Node>),
    Arithmetic(Operation, Box<Node>, Box<Node>),
    /// [`Node::Arithmetic`] of two numbers.
    Calculate(Operation, Box<Node>, Box<Node>),
    Concat(Vec<Node>),
    Case {
        branches: Vec<(Node, Node)>,
        otherwise: Box<Node>,
    },
    Coalesce(Vec<Node>),
    NullIf(Box<Node>, Box<Node>),
    Cast(Box<Node>, Target),
    Call(Function, Vec<Node>),
}

#[derive(Clone, Debug)]
pub(super) struct Column {
    pub(super) slot: usize,
    pub(super) name: String,
    pub(super) reading: Reading,
    /// It was computed, so dates in it are written after ISO 8601.
    pub(super) computed: bool,
}

#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(super) enum Comparison {
    Equal,
    Unequal,
    Less,
    LessOrEqual,
    Greater,
    GreaterOrEqual,
}

impl Comparison {
    pub(super) fn holds(self, ordering: Ordering) -> bool {
        match self {
            Self::Equal => ordering.is_eq(),
            Self::Unequal => ordering.is_ne(),
            Self::Less => ordering.is_lt(),
            Self::LessOrEqual => ordering.is_le(),
            Self::Greater => ordering.is_gt(),
            Self::GreaterOrEqual => ordering.is_ge(),
        }
    }
}

#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(super) enum Operation {
    Plus,
    Minus,
    Times,
    Divide,
}

/// What a value is cast to.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(super) enum Target {
    /// Text of at most so many characters, filled with spaces to them if `fixed`.
    Text {
        length: Option<u64>,
        fixed: bool,
    },
    /// A number of so many digits, so many of them behind the point.
    Decimal(Option<(u32, u32)>),
    Integer,
    Date,
    Timestamp,
    Boolean,
}

#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(super) enum Function {
    Upper,
    Lower,
    CharLength,
    OctetLength,
    Position,
    Substring,
    Trim(Side),
    Overlay,
    Pad(Side),
    Extract(Unit),
    Abs,
    Mod,
    Round(Rounding),
    Greatest,
    Least,
}
