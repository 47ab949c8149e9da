//! Keys: a column, or a part of one, that records are distinguished by.

use std::fmt;

use serde::{Deserialize, Serialize};

use super::part::{Part, PartError};

/// A column by name, and the part of its values that counts.
#[derive(Clone, Debug, PartialEq, Eq, Hash, Serialize, Deserialize, schemars::JsonSchema)]
#[serde(try_from = "String", into = "String")]
pub struct Key {
    /// Name of the column.
    pub column: String,
    /// What of its values.
    pub part: Part,
}

/// A key that cannot be read.
#[derive(Clone, Debug, PartialEq, Eq, thiserror::Error)]
pub enum KeyError {
    /// The part is not known.
    #[error(transparent)]
    Part(#[from] PartError),
    /// A name begins with a quote and does not end with one.
    #[error("the quote in {0} is not closed")]
    Quote(String),
    /// There is no name.
    #[error("a column's name is missing in '{0}'")]
    Empty(String),
}

/// Reads keys such as `quay,arrived:month`. A name that holds a comma or colon is put in double
/// quotes, doubled inside.
///
/// # Errors
///
/// [`KeyError`] if a name is missing, a quote is open or a part is not known.
pub fn parse_keys(text: &str) -> Result<Vec<Key>, KeyError> {
    let mut keys = Vec::new();
    let mut rest = text;
    loop {
        let end = end_of_key(rest)?;
        keys.push(parse_key(&rest[..end])?);
        match rest[end..].strip_prefix(',') {
            Some(more) => rest = more,
            None => return Ok(keys),
        }
    }
}

/// Reads names of columns such as `quay,agent`, in quotes where they hold a comma.
///
/// # Errors
///
/// [`KeyError`] if a name is missing or a quote is open.
pub fn parse_columns(text: &str) -> Result<Vec<String>, KeyError> {
    let mut columns = Vec::new();
    let mut rest = text;
    loop {
        let end = end_of_key(rest)?;
        let column = &rest[..end];
        let name = if column.starts_with('"') {
            let (name, behind) = quoted_name(column)?;
            if behind < column.len() {
                return Err(KeyError::Quote(column.to_owned()));
            }
            name
        } else {
            column.trim().to_owned()
        };
        if name.is_empty() {
            return Err(KeyError::Empty(text.to_owned()));
        }
        columns.push(name);
        match rest[end..].strip_prefix(',') {
            Some(more) => rest = more,
            None => return Ok(columns),
        }
    }
}

/// Where the key that `text` begins with ends: at a comma outside quotes, or at the end.
fn end_of_key(text: &str) -> Result<usize, KeyError> {
    let from = if text.starts_with('"') {
        quoted_name(text)?.1
    } else {
        0
    };
    Ok(text[from..]
        .find(',')
        .map_or(text.len(), |comma| from + comma))
}

/// The name that `text` begins with in quotes, and where it ends.
fn quoted_name(text: &str) -> Result<(String, usize), KeyError> {
    let mut name = String::new();
    let mut from = 1;
    while let Some(quote) = text[from..].find('"') {
        name.push_str(&text[from..from + quote]);
        from += quote + 1;
        if !text[from..].starts_with('"') {
            return Ok((name, from));
        }
        name.push('"');
        from += 1;
    }
    Err(KeyError::Quote(text.to_owned()))
}

/// Reads one key, `column` or `column:part`.
pub(crate) fn parse_key(text: &str) -> Result<Key, KeyError> {
    let (column, part) = if text.starts_with('"') {
        let (name, end) = quoted_name(text)?;
        match text[end..].trim() {
            "" => (name, None),
            rest => (name, Some(rest.strip_prefix(':').unwrap_or(rest))),
        }
    } else {
        match text.split_once(':') {
            Some((name, part)) => (name.trim().to_owned(), Some(part)),
            None => (text.trim().to_owned(), None),
        }
    };
    if column.is_empty() {
        return Err(KeyError::Empty(text.to_owned()));
    }
    let part = part.map_or(Ok(Part::Whole), |part| part.trim().parse())?;
    Ok(Key { column, part })
}

impl fmt::Display for Key {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        if self.column.contains([',', ':', '"', '}']) {
            write!(f, "\"{}\"", self.column.replace('"', "\"\""))?;
        } else {
            f.write_str(&self.column)?;
        }
        match &self.part {
            Part::Whole => Ok(()),
            part => write!(f, ":{part}"),
        }
    }
}

impl TryFrom<String> for Key {
    type Error = KeyError;

    fn try_from(text: String) -> Result<Self, Self::Error> {
        parse_key(&text)
    }
}

impl From<Key> for String {
    fn from(key: Key) -> Self {
        key.to_string()
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn keys() {
        let keys =
            parse_keys("quay,arrived:month,\"dues, EUR\":band 10,\"a\"\"b:c\"").expect("keys");
        let shown: Vec<String> = keys.iter().map(Key::to_string).collect();
        assert_eq!(
            shown,
            [
                "quay",
                "arrived:month",
                "\"dues, EUR\":band 10",
                "\"a\"\"b:c\""
            ]
        );
        assert_eq!(keys[3].column, "a\"b:c");
        assert_eq!(keys[1].part, Part::Month);
    }

    #[test]
    fn columns() {
        let columns = parse_columns("quay, arrived:at,\"dues, EUR\"").expect("columns");
        assert_eq!(columns, ["quay", "arrived:at", "dues, EUR"]);
        assert!(parse_columns("a,").is_err());
        assert!(parse_columns("\"a\"b").is_err());
    }

    #[test]
    fn keys_that_are_none() {
        assert_eq!(
            parse_keys("quay,,cargo"),
            Err(KeyError::Empty(String::new()))
        );
        assert!(matches!(parse_keys("\"quay"), Err(KeyError::Quote(_))));
        assert!(matches!(parse_keys("quay:yeer"), Err(KeyError::Part(_))));
    }
}
