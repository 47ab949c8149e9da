//! What begins with a word: literals, intervals, choices, and the names of functions and columns.

use super::super::lexer::{Lexeme, Token};
use super::super::tree::{Expr, IntervalLiteral, Kind, Name, Span};
use super::{BETWEEN_OPERANDS, LOOSEST, Parsed, Parser};

impl Parser<'_> {
    /// What begins with a word: a literal, a function or a column.
    pub(super) fn word(&mut self, word: String, span: Span) -> Parsed {
        let upper = word.to_uppercase();
        let kind = match upper.as_str() {
            "TRUE" => Some(Kind::Boolean(true)),
            "FALSE" => Some(Kind::Boolean(false)),
            "NULL" => Some(Kind::Null),
            _ => None,
        };
        if let Some(kind) = kind {
            return Ok(Expr { kind, span });
        }
        if let "DATE" | "TIMESTAMP" | "TIME" = upper.as_str()
            && let Token::Text(text) = self.peek()
        {
            let kind = Kind::Typed {
                of: upper,
                text: text.clone(),
            };
            let span = span.to(self.next().span);
            return Ok(Expr { kind, span });
        }
        let is_minus =
            matches!(self.peek(), Token::Sign("-")) && matches!(self.peek_second(), Token::Text(_));
        if upper == "INTERVAL" && (is_minus || matches!(self.peek(), Token::Text(_))) {
            return Ok(self.interval(span));
        }
        if upper == "CASE" {
            return self.case(span);
        }
        let clock = [
            "CURRENT_DATE",
            "CURRENT_TIME",
            "CURRENT_TIMESTAMP",
            "LOCALTIME",
            "LOCALTIMESTAMP",
        ];
        if !self.is_sign("(") {
            if !clock.contains(&upper.as_str()) {
                return self.name(word, false, span);
            }
            return Ok(Expr {
                kind: Kind::Call {
                    name: upper,
                    arguments: Some(Vec::new()),
                    is_windowed: false,
                },
                span,
            });
        }
        self.next();
        self.function(upper, span)
    }

    /// An interval, after its keyword.
    pub(super) fn interval(&mut self, span: Span) -> Expr {
        let is_negative = self.take_sign("-");
        let Lexeme { token, span: place } = self.next();
        let mut whole = span.to(place);
        let mut unit = |parser: &mut Self| {
            let name = parser.unit()?;
            whole = whole.to(name.span);
            Some(name)
        };
        let first = unit(self);
        let mut last = None;
        if first.is_some() && self.take_word("TO") {
            last = unit(self);
        }
        let literal = match (token, first) {
            (Token::Text(text), Some(first)) => Some(IntervalLiteral {
                is_negative,
                text,
                first,
                last,
            }),
            _ => None,
        };
        Expr {
            kind: Kind::Interval(literal),
            span: whole,
        }
    }

    /// A unit of time, if one comes next.
    pub(super) fn unit(&mut self) -> Option<Name> {
        let Token::Word(word) = self.peek() else {
            return None;
        };
        if BETWEEN_OPERANDS
            .iter()
            .any(|keyword| word.eq_ignore_ascii_case(keyword))
        {
            return None;
        }
        let text = word.to_uppercase();
        let span = self.next().span;
        Some(Name {
            text,
            is_quoted: false,
            span,
        })
    }

    /// A choice, after its keyword.
    pub(super) fn case(&mut self, span: Span) -> Parsed {
        let operand = if self.is_word("WHEN") {
            None
        } else {
            Some(self.boxed(LOOSEST)?)
        };
        let mut branches = Vec::new();
        self.want_word("WHEN")?;
        loop {
            let condition = self.expression(LOOSEST)?;
            self.want_word("THEN")?;
            branches.push((condition, self.expression(LOOSEST)?));
            if !self.take_word("WHEN") {
                break;
            }
        }
        let otherwise = if self.take_word("ELSE") {
            Some(self.boxed(LOOSEST)?)
        } else {
            None
        };
        let end = self.span();
        self.want_word("END")?;
        let kind = Kind::Case {
            operand,
            branches,
            otherwise,
        };
        Ok(Expr {
            kind,
            span: span.to(end),
        })
    }
}
