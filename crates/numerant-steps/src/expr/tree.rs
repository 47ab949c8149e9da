//! The tree of an expression as it is written, before its columns and types are known.

/// A part of an expression and where it is in the text.
#[derive(Clone, Debug, PartialEq, Eq)]
pub(super) struct Expr {
    pub(super) kind: Kind,
    pub(super) span: Span,
}

/// From and to in the text of an expression, in bytes.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(super) struct Span {
    pub(super) start: usize,
    pub(super) end: usize,
}

impl Span {
    /// All from the start of this one to the end of another.
    pub(super) fn to(self, other: Self) -> Self {
        Self {
            start: self.start,
            end: other.end.max(self.end),
        }
    }
}

/// A name or word with its place.
#[derive(Clone, Debug, PartialEq, Eq)]
pub(super) struct Name {
    pub(super) text: String,
    /// It is in double quotes.
    pub(super) is_quoted: bool,
    pub(super) span: Span,
}

#[derive(Clone, Debug, PartialEq, Eq)]
pub(super) enum Kind {
    Column(Name),
    Number(String),
    Text(String),
    Boolean(bool),
    Null,
    /// A text with a type in front: `DATE '2026-03-05'`.
    Typed {
        of: String,
        text: String,
    },
    /// `INTERVAL '1-6' YEAR TO MONTH`; without a value where it is written otherwise.
    Interval(Option<IntervalLiteral>),
    Not(Box<Expr>),
    /// A sign in front of a number or interval.
    Signed {
        is_minus: bool,
        inner: Box<Expr>,
    },
    Binary {
        left: Box<Expr>,
        operator: Operator,
        right: Box<Expr>,
    },
    Between {
        value: Box<Expr>,
        low: Box<Expr>,
        high: Box<Expr>,
        negated: bool,
    },
    In {
        value: Box<Expr>,
        list: Vec<Expr>,
        negated: bool,
    },
    Like {
        value: Box<Expr>,
        pattern: Box<Expr>,
        escape: Option<Box<Expr>>,
        negated: bool,
    },
    IsNull {
        inner: Box<Expr>,
        negated: bool,
    },
    /// `IS [NOT] TRUE`, `FALSE` and, without a value, `UNKNOWN`.
    IsTruth {
        inner: Box<Expr>,
        wanted: Option<bool>,
        negated: bool,
    },
    Distinct {
        one: Box<Expr>,
        other: Box<Expr>,
        negated: bool,
    },
    Case {
        operand: Option<Box<Expr>>,
        branches: Vec<(Expr, Expr)>,
        otherwise: Option<Box<Expr>>,
    },
    Cast {
        inner: Box<Expr>,
        to: CastType,
    },
    Extract {
        unit: Name,
        inner: Box<Expr>,
    },
    Position {
        part: Box<Expr>,
        whole: Box<Expr>,
    },
    Substring {
        text: Box<Expr>,
        from: Option<Box<Expr>>,
        length: Option<Box<Expr>>,
    },
    Trim {
        side: TrimSide,
        character: Option<Box<Expr>>,
        text: Box<Expr>,
    },
    Overlay {
        text: Box<Expr>,
        with: Box<Expr>,
        from: Box<Expr>,
        length: Option<Box<Expr>>,
    },
    Call {
        name: String,
        /// `None` where what is in the brackets is no list of expressions.
        arguments: Option<Vec<Expr>>,
        /// `OVER`, `FILTER` or `WITHIN GROUP` follows.
        is_windowed: bool,
    },
}

#[derive(Clone, Debug, PartialEq, Eq)]
pub(super) struct IntervalLiteral {
    pub(super) is_negative: bool,
    pub(super) text: String,
    pub(super) first: Name,
    pub(super) last: Option<Name>,
}

#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(super) enum TrimSide {
    Both,
    Leading,
    Trailing,
}

#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(super) enum Operator {
    And,
    Or,
    Equal,
    Unequal,
    Less,
    LessOrEqual,
    Greater,
    GreaterOrEqual,
    Plus,
    Minus,
    Times,
    Divide,
    Concat,
}

impl Operator {
    pub(super) fn sign(self) -> &'static str {
        match self {
            Self::And => "AND",
            Self::Or => "OR",
            Self::Equal => "=",
            Self::Unequal => "<>",
            Self::Less => "<",
            Self::LessOrEqual => "<=",
            Self::Greater => ">",
            Self::GreaterOrEqual => ">=",
            Self::Plus => "+",
            Self::Minus => "-",
            Self::Times => "*",
            Self::Divide => "/",
            Self::Concat => "||",
        }
    }
}

/// What a value is cast to.
#[derive(Clone, Debug, PartialEq, Eq)]
pub(super) enum CastType {
    /// `CHAR(n)`, of one character if it is not said.
    Fixed(Option<u64>),
    /// `VARCHAR(n)`, of any length if it is not said.
    Varying(Option<u64>),
    /// `DECIMAL(p, s)`: digits in all, and after the point.
    Decimal(Option<(u64, i64)>),
    Integer,
    Date,
    Timestamp,
    Boolean,
    /// One that there is not, as it is written.
    Other(String),
}
