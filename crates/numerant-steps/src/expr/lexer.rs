//! From the text of an expression to tokens: words, literals and signs.

use super::tree::Span;

/// A token and where it stands.
#[derive(Clone, Debug, PartialEq, Eq)]
pub(super) struct Lexeme {
    pub(super) token: Token,
    pub(super) span: Span,
}

#[derive(Clone, Debug, PartialEq, Eq)]
pub(super) enum Token {
    /// A word without quotes: a keyword, the name of a function or of a column.
    Word(String),
    /// A name in double quotes.
    Quoted(String),
    /// Digits, perhaps with a point and an exponent.
    Number(String),
    /// A text in single quotes.
    Text(String),
    /// A text with letters in front that make something else of it, such as `X'0A'`.
    OtherText(String),
    /// An operator, bracket or comma.
    Sign(&'static str),
    /// A character that begins none.
    Other(char),
    End,
}

/// What is wrong with a token, and the byte at which it begins.
#[derive(Clone, Debug, PartialEq, Eq)]
pub(super) struct LexError {
    pub(super) at: usize,
    pub(super) what: &'static str,
}

/// All signs, the longer before those that they begin with.
const SIGNS: [&str; 34] = [
    "<=>", "!~*", "->>", "||", "<>", "!=", "<=", ">=", "==", "::", "->", "=>", "<<", ">>", "**",
    "!~", "~*", ":=", "=", "<", ">", "+", "-", "*", "/", "%", "(", ")", ",", ".", "^", "|", "&",
    "~",
];

const OPEN_TEXT: &str = "a text opens here and is never closed: its closing ' is missing";
const OPEN_NAME: &str = "a name opens here and is never closed: its closing \" is missing";
const EMPTY_NAME: &str = "a name in double quotes has no characters";
const OPEN_COMMENT: &str = "a comment opens here and is never closed: its closing */ is missing";

/// Takes a text apart. The last token is [`Token::End`].
pub(super) fn tokens(text: &str) -> Result<Vec<Lexeme>, LexError> {
    let mut lexer = Lexer { text, at: 0 };
    let mut found = Vec::new();
    loop {
        lexer.pass_blanks()?;
        let start = lexer.at;
        let token = lexer.token()?;
        let is_end = token == Token::End;
        let span = Span {
            start,
            end: lexer.at,
        };
        found.push(Lexeme { token, span });
        if is_end {
            return Ok(found);
        }
    }
}

struct Lexer<'t> {
    text: &'t str,
    /// The byte that is looked at next.
    at: usize,
}

impl<'t> Lexer<'t> {
    fn rest(&self) -> &'t str {
        &self.text[self.at..]
    }

    fn error<T>(&self, what: &'static str) -> Result<T, LexError> {
        Err(LexError { at: self.at, what })
    }

    /// Passes over white space and comments.
    fn pass_blanks(&mut self) -> Result<(), LexError> {
        loop {
            let rest = self.rest();
            let trimmed = rest.trim_start();
            self.at += rest.len() - trimmed.len();
            if trimmed.starts_with("--") {
                self.at += trimmed.find('\n').unwrap_or(trimmed.len());
            } else if trimmed.starts_with("/*") {
                match trimmed.find("*/") {
                    Some(end) => self.at += end + 2,
                    None => return self.error(OPEN_COMMENT),
                }
            } else {
                return Ok(());
            }
        }
    }

    fn token(&mut self) -> Result<Token, LexError> {
        let rest = self.rest();
        let mut characters = rest.chars();
        let Some(first) = characters.next() else {
            return Ok(Token::End);
        };
        let second = characters.next();
        if first == '\'' {
            return Ok(Token::Text(self.quoted('\'', OPEN_TEXT)?));
        }
        if first == '"' {
            let name = self.quoted('"', OPEN_NAME)?;
            return if name.is_empty() {
                Err(LexError {
                    at: self.at - 2,
                    what: EMPTY_NAME,
                })
            } else {
                Ok(Token::Quoted(name))
            };
        }
        if second == Some('\'') && matches!(first, 'N' | 'n' | 'X' | 'x' | 'B' | 'b') {
            self.at += 1;
            let text = self.quoted('\'', OPEN_TEXT)?;
            // A national text is a text like any other.
            return Ok(match first {
                'N' | 'n' => Token::Text(text),
                _ => Token::OtherText(text),
            });
        }
        if is_word_start(first) {
            let length = rest.find(|c| !is_word_part(c)).unwrap_or(rest.len());
            self.at += length;
            return Ok(Token::Word(rest[..length].to_owned()));
        }
        let is_digit = |c: char| c.is_ascii_digit();
        if is_digit(first) || (first == '.' && second.is_some_and(is_digit)) {
            let length = number_length(rest.as_bytes());
            self.at += length;
            return Ok(Token::Number(rest[..length].to_owned()));
        }
        if let Some(sign) = SIGNS.iter().find(|sign| rest.starts_with(**sign)) {
            self.at += sign.len();
            return Ok(Token::Sign(sign));
        }
        self.at += first.len_utf8();
        Ok(Token::Other(first))
    }

    /// What is between two quotes, doubled ones inside as one.
    fn quoted(&mut self, quote: char, open: &'static str) -> Result<String, LexError> {
        let mut found = String::new();
        let mut rest = &self.rest()[1..];
        while let Some(end) = rest.find(quote) {
            found.push_str(&rest[..end]);
            rest = &rest[end + 1..];
            if !rest.starts_with(quote) {
                self.at = self.text.len() - rest.len();
                return Ok(found);
            }
            found.push(quote);
            rest = &rest[1..];
        }
        self.error(open)
    }
}

/// Words are of letters of any language.
fn is_word_start(character: char) -> bool {
    character.is_alphabetic() || character == '_'
}

fn is_word_part(character: char) -> bool {
    character.is_alphanumeric() || character == '_'
}

/// How long the number is that a text begins with: an exponent without digits is none.
fn number_length(text: &[u8]) -> usize {
    let digits = |from: usize| {
        let rest = text.get(from..).unwrap_or_default();
        rest.iter().take_while(|byte| byte.is_ascii_digit()).count()
    };
    let mut length = digits(0);
    if text.get(length) == Some(&b'.') {
        length += 1 + digits(length + 1);
    }
    if let Some(b'e' | b'E') = text.get(length) {
        let sign = usize::from(matches!(text.get(length + 1), Some(b'+' | b'-')));
        let exponent = digits(length + 1 + sign);
        if exponent > 0 {
            length += 1 + sign + exponent;
        }
    }
    length
}
