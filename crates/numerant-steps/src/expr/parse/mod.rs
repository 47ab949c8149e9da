//! From tokens to a tree, by the binding of operators (after ISO/IEC 9075-2, 6.29 to 8.15).
//!
//! From loosest to tightest: `OR`, `AND`, `NOT`, `IS`, `LIKE`, comparisons with `BETWEEN` and `IN`, `+ -`, and `* / ||`.
//!
//! # Invariants
//!
//! The depth of a tree is bounded by the number of its operators and opening brackets, which is checked before
//! anything is parsed ([`MAX_OPERATORS`]). Parsing, checking and evaluating go down a tree with the stack.

mod function;
mod word;

#[cfg(test)]
mod tests;

use super::lexer::{Lexeme, Token, tokens};
use super::tree::{Expr, Kind, Name, Operator, Span};

/// Operators and opening brackets that an expression may have.
pub(super) const MAX_OPERATORS: usize = 500;

/// How tight an operator binds.
type Binding = u8;

const LOOSEST: Binding = 0;
const OR: Binding = 1;
const AND: Binding = 2;
const NOT: Binding = 3;
const IS: Binding = 4;
const LIKE: Binding = 5;
const COMPARISON: Binding = 6;
const SUM: Binding = 7;
const PRODUCT: Binding = 8;
const TIGHTEST: Binding = 9;

/// Words that no operand begins with, unless they are in double quotes.
const BETWEEN_OPERANDS: [&str; 9] = [
    "AND", "OR", "IN", "LIKE", "BETWEEN", "IS", "WHEN", "THEN", "ELSE",
];

/// What is wrong with a text that is no expression.
#[derive(Clone, Debug, PartialEq, Eq)]
pub(super) enum ParseError {
    /// In words, and where.
    At(Span, String),
    /// Something that SQL knows and these expressions do not, in words.
    Unsupported(Span, String),
    /// There are more than [`MAX_OPERATORS`].
    TooDeep,
}

type Parsed = Result<Expr, ParseError>;

/// Parses a text that is one expression.
pub(super) fn parse(text: &str) -> Parsed {
    let tokens = tokens(text).map_err(|error| {
        let span = Span {
            start: error.at,
            end: error.at,
        };
        ParseError::At(span, error.what.to_owned())
    })?;
    if tokens
        .iter()
        .filter(|lexeme| deepens(&lexeme.token))
        .count()
        > MAX_OPERATORS
    {
        return Err(ParseError::TooDeep);
    }
    let mut parser = Parser {
        tokens,
        at: 0,
        text,
    };
    let tree = parser.expression(LOOSEST)?;
    let next = parser.next();
    match next.token {
        Token::End => Ok(tree),
        _ => {
            let message = format!("the expression is complete before {}", shown(&next.token));
            Err(ParseError::At(next.span, message))
        }
    }
}

/// Whether a token makes the tree deeper.
fn deepens(token: &Token) -> bool {
    match token {
        Token::Word(word) => [
            "AND", "OR", "NOT", "CASE", "WHEN", "IS", "IN", "LIKE", "BETWEEN",
        ]
        .iter()
        .any(|keyword| word.eq_ignore_ascii_case(keyword)),
        Token::Sign(sign) => !matches!(*sign, ")" | "," | "."),
        _ => false,
    }
}

/// A token as people read it.
fn shown(token: &Token) -> String {
    match token {
        Token::Word(text) | Token::Number(text) => text.clone(),
        Token::Quoted(text) => format!("\"{text}\""),
        Token::Text(text) | Token::OtherText(text) => format!("'{text}'"),
        Token::Sign(sign) => (*sign).to_owned(),
        Token::Other(character) => character.to_string(),
        Token::End => "its end".to_owned(),
    }
}

struct Parser<'t> {
    tokens: Vec<Lexeme>,
    at: usize,
    text: &'t str,
}

impl Parser<'_> {
    fn peek(&self) -> &Token {
        &self.tokens[self.at].token
    }

    /// The token after the next one.
    fn peek_second(&self) -> &Token {
        let last = self.tokens.len() - 1;
        &self.tokens[(self.at + 1).min(last)].token
    }

    fn span(&self) -> Span {
        self.tokens[self.at].span
    }

    fn next(&mut self) -> Lexeme {
        let lexeme = self.tokens[self.at].clone();
        if lexeme.token != Token::End {
            self.at += 1;
        }
        lexeme
    }

    /// Whether the next token is this keyword.
    fn is_word(&self, keyword: &str) -> bool {
        is_keyword(self.peek(), keyword)
    }

    fn is_sign(&self, sign: &str) -> bool {
        matches!(self.peek(), Token::Sign(found) if *found == sign)
    }

    /// Takes a keyword if it is the next token.
    fn take_word(&mut self, keyword: &str) -> bool {
        let found = self.is_word(keyword);
        self.at += usize::from(found);
        found
    }

    fn take_sign(&mut self, sign: &str) -> bool {
        let found = self.is_sign(sign);
        self.at += usize::from(found);
        found
    }

    fn want_word(&mut self, keyword: &str) -> Result<(), ParseError> {
        if self.take_word(keyword) {
            Ok(())
        } else {
            Err(self.wanted(keyword))
        }
    }

    /// Takes a sign, and says where it is.
    fn want_sign(&mut self, sign: &str) -> Result<Span, ParseError> {
        let span = self.span();
        if self.take_sign(sign) {
            Ok(span)
        } else {
            Err(self.wanted(sign))
        }
    }

    /// Something else than what comes next should are there.
    fn wanted(&self, what: &str) -> ParseError {
        let found = self.peek();
        let message = match found {
            Token::End => format!("the expression ends where {what} should follow"),
            found => format!("{what} should stand here, and not {}", shown(found)),
        };
        ParseError::At(self.span(), message)
    }

    /// An expression of operators that bind tighter than `than`.
    fn expression(&mut self, than: Binding) -> Parsed {
        let mut left = self.operand()?;
        while let Some(binding) = self.binding().filter(|binding| *binding > than) {
            left = self.operation(left, binding)?;
        }
        Ok(left)
    }

    fn boxed(&mut self, than: Binding) -> Result<Box<Expr>, ParseError> {
        self.expression(than).map(Box::new)
    }

    /// How tight the next token binds what is before it; `None` if it is no operator.
    fn binding(&self) -> Option<Binding> {
        let of_predicate = |word: &Token| {
            if is_keyword(word, "LIKE") || is_keyword(word, "ILIKE") {
                Some(LIKE)
            } else if is_keyword(word, "BETWEEN") || is_keyword(word, "IN") {
                Some(COMPARISON)
            } else {
                None
            }
        };
        match self.peek() {
            Token::Sign(sign) => match *sign {
                "=" | "<>" | "!=" | "<" | "<=" | ">" | ">=" => Some(COMPARISON),
                "+" | "-" => Some(SUM),
                "*" | "/" | "%" | "||" => Some(PRODUCT),
                "(" | ")" | "," | "." => None,
                _ => Some(TIGHTEST),
            },
            word if is_keyword(word, "OR") => Some(OR),
            word if is_keyword(word, "AND") => Some(AND),
            word if is_keyword(word, "IS") => Some(IS),
            word if is_keyword(word, "NOT") => of_predicate(self.peek_second()),
            word => of_predicate(word),
        }
    }

    /// An operator after its first operand.
    fn operation(&mut self, left: Expr, binding: Binding) -> Parsed {
        if let Token::Sign(sign) = *self.peek() {
            self.next();
            if let Some(operator) = operator(sign) {
                return self.binary(left, operator, binding);
            }
            let span = left.span.to(self.expression(binding)?.span);
            let what = match sign {
                "%" => sign.to_owned(),
                other => format!("the operator {other}"),
            };
            return Err(ParseError::Unsupported(span, what));
        }
        if self.take_word("AND") {
            return self.binary(left, Operator::And, binding);
        }
        if self.take_word("OR") {
            return self.binary(left, Operator::Or, binding);
        }
        if self.take_word("IS") {
            return self.is(left);
        }
        let negated = self.take_word("NOT");
        let value = Box::new(left);
        if self.take_word("BETWEEN") {
            let low = self.boxed(COMPARISON)?;
            self.want_word("AND")?;
            let high = self.boxed(COMPARISON)?;
            let span = value.span.to(high.span);
            let kind = Kind::Between {
                value,
                low,
                high,
                negated,
            };
            return Ok(Expr { kind, span });
        }
        if self.take_word("IN") {
            return self.in_list(value, negated);
        }
        let is_folded = !self.take_word("LIKE");
        if is_folded {
            self.next();
        }
        let pattern = self.boxed(LIKE)?;
        let mut span = value.span.to(pattern.span);
        let mut escape = None;
        if self.take_word("ESCAPE") {
            let found = self.boxed(LIKE)?;
            span = span.to(found.span);
            escape = Some(found);
        }
        if is_folded {
            return Err(ParseError::Unsupported(span, "ILIKE".to_owned()));
        }
        let kind = Kind::Like {
            value,
            pattern,
            escape,
            negated,
        };
        Ok(Expr { kind, span })
    }

    fn binary(&mut self, left: Expr, operator: Operator, binding: Binding) -> Parsed {
        let right = self.expression(binding)?;
        let span = left.span.to(right.span);
        let (left, right) = (Box::new(left), Box::new(right));
        let kind = Kind::Binary {
            left,
            operator,
            right,
        };
        Ok(Expr { kind, span })
    }

    /// What follows `IS`.
    fn is(&mut self, inner: Expr) -> Parsed {
        let negated = self.take_word("NOT");
        let start = inner.span;
        let inner = Box::new(inner);
        if self.take_word("DISTINCT") {
            self.want_word("FROM")?;
            let other = self.boxed(COMPARISON)?;
            let span = start.to(other.span);
            let kind = Kind::Distinct {
                one: inner,
                other,
                negated,
            };
            return Ok(Expr { kind, span });
        }
        let span = start.to(self.span());
        if self.take_word("NULL") {
            let kind = Kind::IsNull { inner, negated };
            return Ok(Expr { kind, span });
        }
        let truths = [
            ("TRUE", Some(true)),
            ("FALSE", Some(false)),
            ("UNKNOWN", None),
        ];
        let truth = truths.into_iter().find(|(word, _)| self.is_word(word));
        let Some((_, wanted)) = truth else {
            return Err(self.wanted("NULL, TRUE, FALSE, UNKNOWN or DISTINCT FROM"));
        };
        self.next();
        let kind = Kind::IsTruth {
            inner,
            wanted,
            negated,
        };
        Ok(Expr { kind, span })
    }

    fn in_list(&mut self, value: Box<Expr>, negated: bool) -> Parsed {
        self.want_sign("(")?;
        if self.begins_query() {
            return self.query();
        }
        let list = self.list()?;
        let end = self.want_sign(")")?;
        let span = value.span.to(end);
        let kind = Kind::In {
            value,
            list,
            negated,
        };
        Ok(Expr { kind, span })
    }

    /// Expressions with commas between them.
    fn list(&mut self) -> Result<Vec<Expr>, ParseError> {
        let mut list = vec![self.expression(LOOSEST)?];
        while self.take_sign(",") {
            list.push(self.expression(LOOSEST)?);
        }
        Ok(list)
    }

    /// An operand with the signs in front of it.
    fn operand(&mut self) -> Parsed {
        let span = self.span();
        if self.take_word("NOT") {
            let inner = self.boxed(NOT)?;
            let span = span.to(inner.span);
            return Ok(Expr {
                kind: Kind::Not(inner),
                span,
            });
        }
        if self.is_sign("-") || self.is_sign("+") {
            let is_minus = self.is_sign("-");
            self.next();
            let inner = self.boxed(PRODUCT)?;
            let span = span.to(inner.span);
            return Ok(Expr {
                kind: Kind::Signed { is_minus, inner },
                span,
            });
        }
        if self.take_sign("(") {
            return self.bracketed();
        }
        let is_value = match self.peek() {
            Token::Word(word) => !BETWEEN_OPERANDS
                .iter()
                .any(|keyword| word.eq_ignore_ascii_case(keyword)),
            Token::Sign(_) | Token::Other(_) | Token::End => false,
            _ => true,
        };
        if !is_value {
            return Err(self.wanted("an expression"));
        }
        let Lexeme { token, span } = self.next();
        let kind = match token {
            Token::Number(text) => Kind::Number(text),
            Token::Text(text) => Kind::Text(text),
            Token::OtherText(_) => {
                let what = "this kind of literal".to_owned();
                return Err(ParseError::Unsupported(span, what));
            }
            Token::Quoted(text) => return self.name(text, true, span),
            Token::Word(word) => return self.word(word, span),
            Token::Sign(_) | Token::Other(_) | Token::End => Kind::Null,
        };
        Ok(Expr { kind, span })
    }

    /// What is in brackets, after the first.
    fn bracketed(&mut self) -> Parsed {
        if self.begins_query() {
            return self.query();
        }
        let mut inner = self.expression(LOOSEST)?;
        if self.is_sign(",") {
            while self.take_sign(",") {
                let other = self.expression(LOOSEST)?;
                inner.span = inner.span.to(other.span);
            }
            let what = "a list of values".to_owned();
            return Err(ParseError::Unsupported(inner.span, what));
        }
        self.want_sign(")")?;
        Ok(inner)
    }

    fn begins_query(&self) -> bool {
        let follows = matches!(
            self.peek_second(),
            Token::Word(_) | Token::Quoted(_) | Token::Number(_) | Token::Text(_)
        );
        let is_star = matches!(self.peek_second(), Token::Sign("*"));
        self.is_word("SELECT") && (follows || is_star)
    }

    /// Passes over a query to the bracket that closes it.
    fn query(&mut self) -> Parsed {
        let span = self.span();
        let (end, _) = self.pass_to_closing()?;
        let span = Span {
            start: span.start,
            end,
        };
        let what = "a query inside".to_owned();
        Err(ParseError::Unsupported(span, what))
    }

    /// Passes over all to the closing bracket and that, and says where what was passed and the bracket end.
    fn pass_to_closing(&mut self) -> Result<(usize, usize), ParseError> {
        let mut open = 0_usize;
        let mut end = self.span().start;
        loop {
            match self.peek() {
                Token::End => return Err(self.wanted(")")),
                Token::Sign("(") => open += 1,
                Token::Sign(")") if open == 0 => {
                    return Ok((end, self.next().span.end));
                }
                Token::Sign(")") => open -= 1,
                _ => {}
            }
            end = self.next().span.end;
        }
    }

    /// The name of a column; one with a point needs double quotes.
    fn name(&mut self, text: String, is_quoted: bool, span: Span) -> Parsed {
        let mut whole = span;
        let mut dotted = text.clone();
        while self.is_sign(".") && matches!(self.peek_second(), Token::Word(_) | Token::Quoted(_)) {
            self.next();
            let part = self.next();
            whole = whole.to(part.span);
            if let Token::Word(part) | Token::Quoted(part) = part.token {
                dotted.push('.');
                dotted.push_str(&part);
            }
        }
        if whole != span {
            let message =
                format!("write a column name with a point in double quotes: \"{dotted}\"");
            return Err(ParseError::At(whole, message));
        }
        let name = Name {
            text,
            is_quoted,
            span,
        };
        Ok(Expr {
            kind: Kind::Column(name),
            span,
        })
    }
}

fn is_keyword(token: &Token, keyword: &str) -> bool {
    matches!(token, Token::Word(word) if word.eq_ignore_ascii_case(keyword))
}

fn operator(sign: &str) -> Option<Operator> {
    Some(match sign {
        "=" => Operator::Equal,
        "<>" | "!=" => Operator::Unequal,
        "<" => Operator::Less,
        "<=" => Operator::LessOrEqual,
        ">" => Operator::Greater,
        ">=" => Operator::GreaterOrEqual,
        "+" => Operator::Plus,
        "-" => Operator::Minus,
        "*" => Operator::Times,
        "/" => Operator::Divide,
        "||" => Operator::Concat,
        _ => return None,
    })
}
