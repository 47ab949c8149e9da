//! Texts with places in braces that are filled in: in comments and in the shapes of documents.
//!
//! `{column}` and `{column:part}` are as in the names of files, `{= EXPRESSION}` is computed, and
//! what belongs to the output begins with a dot. `{{` and `}}` are braces.

use std::fmt;
use std::str::FromStr;

use jiff::civil::DateTime;
use serde::{Deserialize, Serialize};

use super::key::{Key, KeyError, parse_key};
use numerant_data::record::nearest;

/// What of an output can are in its text.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash)]
pub enum OutputField {
    /// How many records it has.
    Rows,
    /// The file that they come from.
    Source,
    /// The name of that file without folder and extension.
    Stem,
    /// The day of the run.
    Date,
    /// The time of the run.
    Time,
}

const FIELDS: [(&str, OutputField); 5] = [
    (".rows", OutputField::Rows),
    (".source", OutputField::Source),
    (".stem", OutputField::Stem),
    (".date", OutputField::Date),
    (".time", OutputField::Time),
];

/// What of an output is known when all its records are.
#[derive(Clone, Debug)]
pub struct OutputFacts {
    /// Records.
    pub rows: u64,
    /// Files that they come from.
    pub source: String,
    /// The names of those without folder and extension.
    pub stem: String,
    /// The time of the run.
    pub now: DateTime,
}

impl OutputFacts {
    /// A field as it is written.
    pub fn text(&self, field: OutputField) -> String {
        match field {
            OutputField::Rows => self.rows.to_string(),
            OutputField::Source => self.source.clone(),
            OutputField::Stem => self.stem.clone(),
            OutputField::Date => self.now.date().to_string(),
            OutputField::Time => self.now.time().strftime("%H:%M:%S").to_string(),
        }
    }
}

/// A piece of a text.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum Word {
    /// Text.
    Literal(String),
    /// The value of a column, or a part of it.
    Column(Key),
    /// A fact of the output.
    Output(OutputField),
    /// An expression.
    Expression(String),
}

/// A text with places that are filled in.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize, schemars::JsonSchema)]
#[serde(try_from = "String", into = "String")]
pub struct Words {
    text: String,
    pub(crate) words: Vec<Word>,
}

/// A text that cannot be read.
#[derive(Clone, Debug, PartialEq, Eq, thiserror::Error)]
pub enum WordsError {
    /// `{` without `}`.
    #[error("the '{{' before '{0}' is not closed; a brace itself is written '{{{{'")]
    Unclosed(String),
    /// `}` without `{`.
    #[error("a '}}' has no '{{' before it; a brace itself is written '}}}}'")]
    Unopened,
    /// What is in braces cannot be read.
    #[error("in braces: {0}")]
    Key(#[from] KeyError),
    /// `{.name}` where there is no such thing.
    #[error("'{{{0}}}' is nothing of an output{hint}; there are {{.rows}}, {{.source}}, {{.stem}}, {{.date}} and {{.time}}", hint = .1.as_ref().map_or_else(String::new, |near| format!(" (did you mean '{{{near}}}'?)")))]
    Field(String, Option<String>),
    /// A column or expression where there are no records.
    #[error(
        "'{0}' is a value of records, and a comment comes before them; it can have {{.rows}}, {{.source}}, {{.stem}}, {{.date}} and {{.time}}"
    )]
    Record(String),
}

impl FromStr for Words {
    type Err = WordsError;

    fn from_str(text: &str) -> Result<Self, Self::Err> {
        Ok(Self {
            text: text.to_owned(),
            words: parse_words(text, Word::Literal, word)?,
        })
    }
}

/// Takes a text with places in braces apart: `literal` makes a piece of what is between them,
/// and `place` of what is in them.
pub fn parse_words<W>(
    text: &str,
    literal_word: impl Fn(String) -> W,
    place: impl Fn(&str) -> Result<W, WordsError>,
) -> Result<Vec<W>, WordsError> {
    let mut words = Vec::new();
    let mut literal = String::new();
    let mut rest = text;
    while let Some(at) = rest.find(['{', '}']) {
        literal.push_str(&rest[..at]);
        let brace = &rest[at..=at];
        let behind = &rest[at + 1..];
        if behind.starts_with(brace) {
            literal.push_str(brace);
            rest = &behind[1..];
            continue;
        }
        if brace == "}" {
            return Err(WordsError::Unopened);
        }
        let Some(end) = closing(behind) else {
            let shown = behind.chars().take(20).collect();
            return Err(WordsError::Unclosed(shown));
        };
        if !literal.is_empty() {
            words.push(literal_word(std::mem::take(&mut literal)));
        }
        words.push(place(&behind[..end])?);
        rest = &behind[end + 1..];
    }
    literal.push_str(rest);
    if !literal.is_empty() {
        words.push(literal_word(literal));
    }
    Ok(words)
}

/// Where the brace is that closes what `text` begins inside of; quotes of both kinds enclose names
/// and texts.
fn closing(text: &str) -> Option<usize> {
    let mut quote = None;
    for (at, byte) in text.bytes().enumerate() {
        match (quote, byte) {
            (Some(open), byte) if open == byte => quote = None,
            (Some(_), _) => {}
            (None, b'"') => quote = Some(byte),
            (None, b'\'') if text.starts_with('=') => quote = Some(byte),
            (None, b'}') => return Some(at),
            _ => {}
        }
    }
    None
}

/// What the text between two braces represents.
pub fn word(inside: &str) -> Result<Word, WordsError> {
    if let Some(expression) = inside.strip_prefix('=') {
        return Ok(Word::Expression(expression.trim().to_owned()));
    }
    if inside.starts_with('.') {
        let found = FIELDS.iter().find(|(name, _)| *name == inside);
        return match found {
            Some((_, field)) => Ok(Word::Output(*field)),
            None => {
                let nearest = nearest(inside, FIELDS.iter().map(|(name, _)| *name));
                Err(WordsError::Field(
                    inside.to_owned(),
                    nearest.map(str::to_owned),
                ))
            }
        };
    }
    Ok(Word::Column(parse_key(inside)?))
}

impl Words {
    /// Whether something in it belongs to the output, and so is known only when all records are.
    pub fn names_output(&self) -> bool {
        self.words
            .iter()
            .any(|word| matches!(word, Word::Output(_)))
    }

    /// The columns that it names.
    pub fn keys(&self) -> impl Iterator<Item = Key> {
        self.words.iter().filter_map(|word| match word {
            Word::Column(key) => Some(key.clone()),
            _ => None,
        })
    }

    /// Whether something in it is computed.
    pub fn computes(&self) -> bool {
        let is_computed = |word: &Word| matches!(word, Word::Expression(_));
        self.words.iter().any(is_computed)
    }

    /// The text for an output, with what `value` says of columns; nothing in it is computed.
    pub fn fill<'v>(&self, value: impl Fn(&Key) -> &'v str, facts: &OutputFacts) -> String {
        let mut text = String::new();
        for word in &self.words {
            match word {
                Word::Literal(literal) | Word::Expression(literal) => text.push_str(literal),
                Word::Column(key) => text.push_str(value(key)),
                Word::Output(field) => text.push_str(&facts.text(*field)),
            }
        }
        text
    }

    /// Checks that nothing in it belongs to a record.
    ///
    /// # Errors
    ///
    /// [`WordsError::Record`] with the first thing that does.
    pub fn check_no_records(&self) -> Result<(), WordsError> {
        for word in &self.words {
            match word {
                Word::Column(key) => return Err(WordsError::Record(format!("{{{key}}}"))),
                Word::Expression(text) => return Err(WordsError::Record(format!("{{= {text}}}"))),
                Word::Literal(_) | Word::Output(_) => {}
            }
        }
        Ok(())
    }

    /// The text for an output, if nothing in it belongs to a record.
    pub fn of_output(&self, facts: &OutputFacts) -> String {
        let text = |word: &Word| match word {
            Word::Literal(text) => text.clone(),
            Word::Output(field) => facts.text(*field),
            Word::Column(_) | Word::Expression(_) => String::new(),
        };
        self.words.iter().map(text).collect()
    }
}

impl fmt::Display for Words {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str(&self.text)
    }
}

impl TryFrom<String> for Words {
    type Error = WordsError;

    fn try_from(text: String) -> Result<Self, Self::Error> {
        text.parse()
    }
}

impl From<Words> for String {
    fn from(words: Words) -> Self {
        words.text
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn texts_have_places_in_braces() {
        let words: Words = "{{a}} {quay} of {.rows}: {= COALESCE(agent, '}')}!"
            .parse()
            .expect("a text");
        let literal = |text: &str| Word::Literal(text.to_owned());
        assert_eq!(
            words.words,
            [
                literal("{a} "),
                Word::Column(parse_key("quay").expect("a key")),
                literal(" of "),
                Word::Output(OutputField::Rows),
                literal(": "),
                Word::Expression("COALESCE(agent, '}')".to_owned()),
                literal("!"),
            ]
        );
        assert!(words.names_output());
        for (wrong, what) in [
            ("{quay", "not closed"),
            ("quay}", "no '{'"),
            ("{.row}", "did you mean '{.rows}'"),
            ("{}", "missing"),
        ] {
            let error = wrong.parse::<Words>().expect_err(wrong).to_string();
            assert!(error.contains(what), "{error}");
        }
    }
}
