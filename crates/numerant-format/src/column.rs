//! The columns of documents that are written: where their values are and of which type they are.

use super::EncodeError;
use super::sheet::{Class, Look, declared_look};
use crate::SchemaScan;
pub use crate::json_number::{is_json_number, json_number};
use numerant_data::record::{Batch, Blank};
use numerant_data::value::{Cells, ColumnType};

/// What the values of a column are, where that is found out of all of them.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub enum Found {
    /// There are none.
    #[default]
    Blank,
    /// All are numbers that come back as they are written.
    Number,
    /// All are `true` or `false`.
    Boolean,
    /// Anything.
    Text,
}

impl Found {
    /// Takes note of a value.
    #[inline]
    pub fn add(&mut self, value: &[u8]) {
        if *self == Self::Text || value.is_empty() {
            return;
        }
        let kind = Self::of(value);
        if *self == Self::Blank {
            *self = kind;
        } else if *self != kind {
            *self = Self::Text;
        }
    }

    /// What a value is that is not blank.
    #[inline]
    fn of(value: &[u8]) -> Self {
        match value[0] {
            b'0'..=b'9' | b'-' if is_plain_number(value) => Self::Number,
            b't' | b'f' if matches!(value, b"true" | b"false") => Self::Boolean,
            _ => Self::Text,
        }
    }
}

/// Whether a value is a number of JSON that any reader takes for the same: up to 15 digits, and no
/// exponent.
#[inline]
fn is_plain_number(value: &[u8]) -> bool {
    let digits = value.strip_prefix(b"-").unwrap_or(value);
    if digits.len() > 16 || digits.is_empty() {
        return false;
    }
    let mut point = None;
    for (at, byte) in digits.iter().enumerate() {
        match byte {
            b'0'..=b'9' => {}
            b'.' if point.is_none() && at > 0 => point = Some(at),
            _ => return false,
        }
    }
    let whole = point.unwrap_or(digits.len());
    let count = digits.len() - usize::from(point.is_some());
    count <= 15
        && (digits[0] != b'0' || whole == 1)
        && point.is_none_or(|at| at + 1 < digits.len())
        && value != b"-0"
}

/// How the type of a value is decided.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Typing {
    /// Values have types of their own: what is not quoted is what it looks like.
    AsInSource,
    /// All are as was found.
    Found(Found),
    /// As was declared.
    Declared(ColumnType),
}

/// A column that is written.
#[derive(Clone, Debug)]
pub struct TextColumn {
    /// What it is called.
    pub name: String,
    /// Its place in batches.
    pub slot: usize,
    /// How the type of its values is decided.
    pub typing: Typing,
    /// Blanks are distinguished as in a document.
    pub tells_blanks: bool,
    /// How much of the source was read to find the types.
    pub scan: SchemaScan,
}

/// A value to be written.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Shown<'a> {
    /// A blank; `None` if it is that of a table.
    Blank(Option<Blank>),
    /// A text.
    Text(&'a [u8]),
    /// A number or truth value as JSON writes it.
    Literal(&'a [u8]),
    /// A list or object as JSON.
    Json(&'a [u8]),
}

impl TextColumn {
    /// Whether a record has a container with nothing in it so many levels above the column.
    pub fn is_empty_container(&self, batch: &Batch, record: usize, levels: usize) -> bool {
        let field = batch.field(record, self.slot);
        self.tells_blanks
            && field.is_blank()
            && field.tag().as_blank() == Blank::EmptyContainer(levels)
    }

    /// The value of a record.
    #[inline]
    pub fn value<'a>(
        &self,
        batch: &'a Batch,
        record: usize,
        cells: &Cells,
        scratch: &'a mut Vec<u8>,
    ) -> Result<Shown<'a>, EncodeError> {
        let field = batch.field(record, self.slot);
        if field.is_blank() {
            let blank = self.tells_blanks.then(|| field.tag().as_blank());
            return Ok(Shown::Blank(blank));
        }
        let raw = field.raw();
        match self.typing {
            Typing::AsInSource => {
                if field.tag().is_string() {
                    return Ok(Shown::Text(raw));
                }
                Ok(match raw[0] {
                    b'0'..=b'9' | b'-' if is_json_number(raw) => Shown::Literal(raw),
                    b't' | b'T' if raw.eq_ignore_ascii_case(b"true") => Shown::Literal(b"true"),
                    b'f' | b'F' if raw.eq_ignore_ascii_case(b"false") => Shown::Literal(b"false"),
                    b'[' | b'{' => Shown::Json(raw),
                    _ => Shown::Text(raw),
                })
            }
            Typing::Found(Found::Text) => Ok(Shown::Text(field.value(scratch))),
            Typing::Found(found) => {
                let value = field.value(scratch);
                if Found::of(value) != found {
                    let SchemaScan::Sample(sample) = &self.scan else {
                        return Err(EncodeError::ChangedWhileRead);
                    };
                    sample.outgrow();
                }
                Ok(Shown::Literal(value))
            }
            Typing::Declared(declared) => {
                let value = field.value(scratch);
                let (look, canonical) =
                    declared_look(value, self.slot, declared, cells, Look::at(value, false));
                let Some(canonical) = canonical else {
                    return Ok(shown(&look, field.value(scratch)));
                };
                *scratch = canonical;
                Ok(shown(&look, scratch))
            }
        }
    }
}

fn shown<'v>(look: &Look, value: &'v [u8]) -> Shown<'v> {
    match look.class {
        Class::Integer | Class::Decimal if is_json_number(value) => Shown::Literal(value),
        Class::Boolean if value.eq_ignore_ascii_case(b"true") => Shown::Literal(b"true"),
        Class::Boolean => Shown::Literal(b"false"),
        _ => Shown::Text(value),
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn numbers_of_json() {
        for text in ["0", "-1", "1.10", "1e5", "-0.5E-3", "12345678901234567890"] {
            assert!(is_json_number(text.as_bytes()), "{text}");
        }
        for text in ["", "-", "01", "1.", ".5", "1e", "+1", "1 ", "NaN", "0x1"] {
            assert!(!is_json_number(text.as_bytes()), "{text}");
        }
    }

    #[test]
    fn a_column_is_of_the_type_of_all_its_values() {
        let found = |values: &[&str]| {
            let mut found = Found::default();
            for value in values {
                found.add(value.as_bytes());
            }
            found
        };
        assert_eq!(found(&["1", "", "2.50", "-3"]), Found::Number);
        assert_eq!(found(&["1", "007"]), Found::Text);
        assert_eq!(found(&["12345678901234567"]), Found::Text);
        assert_eq!(found(&["1E5"]), Found::Text);
        assert_eq!(found(&["-0"]), Found::Text);
        assert_eq!(found(&["true", "false"]), Found::Boolean);
        assert_eq!(found(&["true", "TRUE"]), Found::Text);
        assert_eq!(found(&["true", "1"]), Found::Text);
        assert_eq!(found(&["", ""]), Found::Blank);
    }
}
