//! Functions, with the words that the standard has between their arguments.

use super::super::lexer::Token;
use super::super::tree::{CastType, Expr, Kind, Span, TrimSide};
use super::{COMPARISON, LOOSEST, ParseError, Parsed, Parser, is_keyword};

impl Parser<'_> {
    /// A function, after its name and opening bracket.
    pub(super) fn function(&mut self, name: String, span: Span) -> Parsed {
        let kind = match name.as_str() {
            "CAST" => self.cast()?,
            "EXTRACT" => self.extract()?,
            "POSITION" => self.position()?,
            "SUBSTRING" => self.substring()?,
            "TRIM" => self.trim()?,
            "OVERLAY" => self.overlay()?,
            "EXISTS" => {
                let query = self.query()?;
                return Ok(query);
            }
            _ => return self.call(name, span),
        };
        let end = self.want_sign(")")?;
        Ok(Expr {
            kind,
            span: span.to(end),
        })
    }

    pub(super) fn cast(&mut self) -> Result<Kind, ParseError> {
        let inner = self.boxed(LOOSEST)?;
        self.want_word("AS")?;
        let to = self.cast_type()?;
        Ok(Kind::Cast { inner, to })
    }

    pub(super) fn cast_type(&mut self) -> Result<CastType, ParseError> {
        let start = self.span().start;
        let Token::Word(word) = self.peek().clone() else {
            return Err(self.wanted("a type"));
        };
        self.next();
        let word = word.to_uppercase();
        let varying = matches!(word.as_str(), "CHARACTER" | "CHAR") && self.take_word("VARYING");
        let sizes = self.sizes()?;
        let first = sizes.first().and_then(|size| u64::try_from(*size).ok());
        let second = sizes.get(1).copied();
        let known = match (word.as_str(), sizes.as_slice()) {
            ("VARCHAR", [] | [_]) => Some(CastType::Varying(first)),
            ("CHARACTER" | "CHAR", [] | [_]) if varying => Some(CastType::Varying(first)),
            ("CHARACTER" | "CHAR", [] | [_]) => Some(CastType::Fixed(first)),
            ("NUMERIC" | "DECIMAL" | "DEC", [] | [_] | [_, _]) => Some(CastType::Decimal(
                first.map(|digits| (digits, second.unwrap_or(0))),
            )),
            ("INTEGER" | "INT" | "BIGINT" | "SMALLINT", [] | [_]) => Some(CastType::Integer),
            ("DATE", []) => Some(CastType::Date),
            ("TIMESTAMP", [] | [_]) => {
                if (self.is_word("WITH") || self.is_word("WITHOUT"))
                    && is_keyword(self.peek_second(), "TIME")
                {
                    self.next();
                    self.next();
                    self.want_word("ZONE")?;
                }
                Some(CastType::Timestamp)
            }
            ("BOOLEAN", []) => Some(CastType::Boolean),
            _ => None,
        };
        if let Some(known) = known {
            return Ok(known);
        }
        // Types of several words, such as DOUBLE PRECISION.
        while let Token::Word(_) = self.peek() {
            self.next();
        }
        let end = self.tokens[self.at - 1].span.end;
        Ok(CastType::Other(self.text[start..end].to_uppercase()))
    }

    /// The sizes of a type in brackets, if there are any.
    pub(super) fn sizes(&mut self) -> Result<Vec<i64>, ParseError> {
        let mut sizes = Vec::new();
        if !self.take_sign("(") {
            return Ok(sizes);
        }
        loop {
            let sign = if self.take_sign("-") { -1 } else { 1 };
            let Token::Number(digits) = self.peek() else {
                return Err(self.wanted("a number of digits"));
            };
            let Ok(size) = digits.parse::<i64>() else {
                return Err(self.wanted("a number of digits"));
            };
            self.next();
            sizes.push(sign * size);
            if !self.take_sign(",") {
                self.want_sign(")")?;
                return Ok(sizes);
            }
        }
    }

    pub(super) fn extract(&mut self) -> Result<Kind, ParseError> {
        let Some(unit) = self.unit() else {
            return Err(self.wanted("a unit such as YEAR"));
        };
        self.want_word("FROM")?;
        let inner = self.boxed(LOOSEST)?;
        Ok(Kind::Extract { unit, inner })
    }

    pub(super) fn position(&mut self) -> Result<Kind, ParseError> {
        let part = self.boxed(COMPARISON)?;
        self.want_word("IN")?;
        let whole = self.boxed(LOOSEST)?;
        Ok(Kind::Position { part, whole })
    }

    pub(super) fn substring(&mut self) -> Result<Kind, ParseError> {
        let text = self.boxed(LOOSEST)?;
        let (mut from, mut length) = (None, None);
        if self.take_word("FROM") || self.take_sign(",") {
            from = Some(self.boxed(LOOSEST)?);
        }
        if self.take_word("FOR") || self.take_sign(",") {
            length = Some(self.boxed(LOOSEST)?);
        }
        Ok(Kind::Substring { text, from, length })
    }

    pub(super) fn trim(&mut self) -> Result<Kind, ParseError> {
        let sides = [
            ("BOTH", TrimSide::Both),
            ("LEADING", TrimSide::Leading),
            ("TRAILING", TrimSide::Trailing),
        ];
        let named = sides.into_iter().find(|(word, _)| self.is_word(word));
        // A column may be called like a side.
        let named = named.filter(|_| !matches!(self.peek_second(), Token::Sign(")" | ",")));
        if named.is_some() {
            self.next();
        }
        let side = named.map_or(TrimSide::Both, |(_, side)| side);
        if named.is_some() && self.take_word("FROM") {
            let text = self.boxed(LOOSEST)?;
            let character = None;
            return Ok(Kind::Trim {
                side,
                character,
                text,
            });
        }
        let first = self.boxed(LOOSEST)?;
        let (character, text) = if self.take_word("FROM") {
            (Some(first), self.boxed(LOOSEST)?)
        } else {
            (None, first)
        };
        Ok(Kind::Trim {
            side,
            character,
            text,
        })
    }

    pub(super) fn overlay(&mut self) -> Result<Kind, ParseError> {
        let text = self.boxed(LOOSEST)?;
        self.want_word("PLACING")?;
        let with = self.boxed(LOOSEST)?;
        self.want_word("FROM")?;
        let from = self.boxed(LOOSEST)?;
        let length = if self.take_word("FOR") {
            Some(self.boxed(LOOSEST)?)
        } else {
            None
        };
        Ok(Kind::Overlay {
            text,
            with,
            from,
            length,
        })
    }

    /// A function that takes a list of values.
    pub(super) fn call(&mut self, name: String, span: Span) -> Parsed {
        let is_other = self.is_sign("*") || self.is_word("DISTINCT") || self.is_word("ALL");
        let mut end = self.span();
        let arguments = if is_other && !matches!(self.peek_second(), Token::Sign("," | "(")) {
            (_, end.end) = self.pass_to_closing()?;
            None
        } else if self.take_sign(")") {
            Some(Vec::new())
        } else {
            let list = self.list()?;
            end = self.want_sign(")")?;
            Some(list)
        };
        let mut span = span.to(end);
        let mut is_windowed = false;
        while self.is_word("OVER") || self.is_word("FILTER") || self.is_word("WITHIN") {
            self.next();
            self.take_word("GROUP");
            is_windowed = true;
            if self.take_sign("(") {
                (_, span.end) = self.pass_to_closing()?;
            }
        }
        let kind = Kind::Call {
            name,
            arguments,
            is_windowed,
        };
        Ok(Expr { kind, span })
    }
}
