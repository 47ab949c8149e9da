//! The marks and values of a JSON document, one by one.

use serde::de::IgnoredAny;

use numerant_data::source::ReadError;
use numerant_trees::Text;

/// A mark or a value of a document.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(super) enum Token {
    OpenObject,
    CloseObject,
    OpenList,
    CloseList,
    Comma,
    Colon,
    /// A string, a number, `true`, `false` or `null`, from and to in the text.
    Value(usize, usize),
    End,
}

/// What is in a JSON document.
pub(super) trait Tokens {
    /// The next token, which is skipped.
    fn token(&mut self) -> Result<Token, ReadError>;

    /// How many bytes the value takes that begins here, which is checked.
    fn value(&mut self) -> Result<usize, ReadError>;
}

impl Tokens for Text {
    fn token(&mut self) -> Result<Token, ReadError> {
        let Some(byte) = self.next_byte(None)? else {
            return Ok(Token::End);
        };
        let mark = match byte {
            b'{' => Token::OpenObject,
            b'}' => Token::CloseObject,
            b'[' => Token::OpenList,
            b']' => Token::CloseList,
            b',' => Token::Comma,
            b':' => Token::Colon,
            _ => {
                let length = self.value()?;
                let from = self.at;
                self.at += length;
                return Ok(Token::Value(from, self.at));
            }
        };
        self.at += 1;
        Ok(mark)
    }

    fn value(&mut self) -> Result<usize, ReadError> {
        loop {
            let rest = self.rest();
            let mut values = serde_json::Deserializer::from_str(rest).into_iter::<IgnoredAny>();
            let found = values.next();
            let length = values.byte_offset();
            match found {
                // Behind a number more digits may come.
                Some(Ok(_)) if length < rest.len() || self.is_at_end() => return Ok(length),
                // A number that is cut off is said to be wrong at the end.
                Some(Err(error))
                    if self.is_at_end()
                        || !(error.is_eof()
                            || offset(rest, error.line(), error.column()) + 1 >= rest.len()) =>
                {
                    let at = self.at + offset(rest, error.line(), error.column());
                    return Err(self.malformed(at, said(&error, self.bytes().get(at).copied())));
                }
                _ => {}
            }
            let keep = self.at;
            if !self.more(keep)? && self.rest().is_empty() {
                return Err(self.malformed(self.at, "a value is missing at the end"));
            }
        }
    }
}

/// Where in a text a line and a byte of it are, both counted from 1.
fn offset(text: &str, line: usize, column: usize) -> usize {
    let mut start = 0;
    for _ in 1..line {
        start += memchr::memchr(b'\n', &text.as_bytes()[start..]).map_or(0, |at| at + 1);
    }
    (start + column.saturating_sub(1)).min(text.len())
}

/// What a parser says, without the place, which is identified from it.
pub(super) fn said(error: &serde_json::Error, found: Option<u8>) -> String {
    let text = error.to_string();
    let what = text.split(" at line ").next().unwrap_or(&text).to_owned();
    if what.contains("hex escape") || what.contains("surrogate") {
        return format!("a \\u escape that is half of a character ({what})");
    }
    match found {
        Some(b'N' | b'I') => format!("{what} (JSON has no NaN or Infinity)"),
        Some(b'\'') => format!("{what} (names and texts need double quotes)"),
        _ if error.is_eof() => format!("the document ends too early ({what})"),
        _ => what,
    }
}
