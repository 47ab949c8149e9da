//! A checked expression: every part knows its columns, and types fit.

use std::borrow::Cow;
use std::cmp::Ordering;
use std::collections::{HashMap, HashSet};

use super::interval::{Interval, Unit};
use super::like::Like;
use super::text::Side;
use numerant_data::value::{Cells, Moment, Number, Rounding, WrittenFormat};

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
    /// A comparison of a cell with a text.
    CompareLiteral(Comparison, Box<Node>, Box<CellText>),
    /// A comparison of two cells.
    CompareCells(Comparison, Box<Node>, Box<Node>),
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
        /// What those of them read as that are numbers or dates, where the value is a cell.
        typed: Box<CellTexts>,
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
    /// `GREATEST` or `LEAST` of cells: that of which the comparison with all others holds.
    ExtremeCell(Comparison, Vec<Node>),
    Cast(Box<Node>, Target),
    Call(Function, Vec<Node>),
}

impl Node {
    /// Calls `look` for this part and all in it.
    pub(super) fn visit(&self, look: &mut dyn FnMut(&Node)) {
        look(self);
        let inner: Vec<&Node> = match self {
            Self::Constant(_) | Self::Column(_) | Self::CompareText(..) => Vec::new(),
            Self::Read(node, _)
            | Self::Not(node)
            | Self::CompareLiteral(_, node, _)
            | Self::IsNull(node, _)
            | Self::IsTruth(node, ..)
            | Self::InTexts { value: node, .. }
            | Self::LikePattern(node, ..)
            | Self::Negate(node)
            | Self::Cast(node, _) => vec![node],
            Self::And(nodes)
            | Self::Or(nodes)
            | Self::Concat(nodes)
            | Self::Coalesce(nodes)
            | Self::ExtremeCell(_, nodes)
            | Self::Call(_, nodes) => nodes.iter().collect(),
            Self::Compare(_, one, other)
            | Self::CompareNumbers(_, one, other)
            | Self::CompareCells(_, one, other)
            | Self::Distinct(one, other, _)
            | Self::Arithmetic(_, one, other)
            | Self::Calculate(_, one, other) => vec![one, other],
            Self::Between {
                value, low, high, ..
            } => vec![value, low, high],
            Self::In { value, list, .. } => std::iter::once(&**value).chain(list).collect(),
            Self::Like {
                value,
                pattern,
                escape,
                ..
            } => {
                let ends = [&**value, pattern].into_iter();
                ends.chain(escape.as_deref()).collect()
            }
            Self::Case {
                branches,
                otherwise,
            } => {
                let parts = branches.iter().flat_map(|(when, then)| [when, then]);
                parts.chain([&**otherwise]).collect()
            }
        };
        for node in inner {
            node.visit(look);
        }
    }

    /// The column that it names, if it is known how its values are written.
    pub(super) fn written<'a>(
        &'a self,
        cells: &'a Cells,
    ) -> Option<(&'a Column, &'a WrittenFormat)> {
        match self {
            Self::Column(column) if !column.computed => {
                cells.written(column.slot).map(|format| (column, format))
            }
            _ => None,
        }
    }

    /// The place in batches of [`Self::written`].
    #[inline]
    pub(super) fn written_slot(&self, cells: &Cells) -> Option<usize> {
        self.written(cells).map(|(column, _)| column.slot)
    }
}

/// A text that cells are compared with.
#[derive(Clone, Debug, PartialEq)]
pub(super) struct CellText {
    pub(super) text: Vec<u8>,
    /// The number that it reads as.
    pub(super) number: Option<Number>,
    /// The date that it reads as.
    pub(super) moment: Option<Moment>,
}

impl CellText {
    /// A text, and what it reads as next to a node: as the column is written that the node names, or
    /// else as cells are read. A date in an expression may be written after ISO 8601, too.
    pub(super) fn new(text: &[u8], cells: &Cells, beside: &Node) -> Self {
        let slot = beside.written_slot(cells);
        let number = match slot {
            Some(slot) => cells.number_of(slot, text).ok(),
            None => cells.number(text).ok(),
        };
        let moment = || {
            let moment = match slot {
                Some(slot) => cells.moment_of(slot, text),
                None => cells.moment(text),
            };
            moment.or_else(|| Moment::parse_iso(text))
        };
        Self {
            text: text.to_vec(),
            number,
            moment: if number.is_none() { moment() } else { None },
        }
    }
}

/// What texts read as that cells are looked for among.
#[derive(Clone, Debug, Default)]
pub(super) struct CellTexts {
    /// Each with the text that it was read from.
    pub(super) numbers: HashMap<Number, Vec<u8>>,
    pub(super) moments: Vec<(Moment, Vec<u8>)>,
}

impl CellTexts {
    pub(super) fn new(texts: Vec<CellText>) -> Self {
        let mut typed = Self::default();
        for text in texts {
            let number = text.number.map(Number::shortest);
            typed
                .numbers
                .extend(number.map(|number| (number, text.text.clone())));
            typed
                .moments
                .extend(text.moment.map(|moment| (moment, text.text)));
        }
        typed
    }
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
    /// Its sign.
    pub(super) fn sign(self) -> &'static str {
        match self {
            Self::Equal => "=",
            Self::Unequal => "<>",
            Self::Less => "<",
            Self::LessOrEqual => "<=",
            Self::Greater => ">",
            Self::GreaterOrEqual => ">=",
        }
    }

    /// The same with its sides exchanged.
    pub(super) fn turned(self) -> Self {
        match self {
            Self::Less => Self::Greater,
            Self::LessOrEqual => Self::GreaterOrEqual,
            Self::Greater => Self::Less,
            Self::GreaterOrEqual => Self::LessOrEqual,
            same => same,
        }
    }

    /// Whether it asks which side comes first.
    pub(super) fn is_order(self) -> bool {
        !matches!(self, Self::Equal | Self::Unequal)
    }

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
    /// A number of so many digits, so many of them after the point.
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
