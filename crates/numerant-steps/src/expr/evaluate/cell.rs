//! Cells, read as what an expression needs them to be.

use std::borrow::Cow;

use super::super::error::EvalError;
use super::super::node::{Column, Reading, Value};
use super::super::text;
use super::{Evaluated, Row};
use numerant_data::value::{Moment, Number, NumberProblem};

impl<'r> Row<'r> {
    #[inline]
    pub(super) fn column<'a>(&self, column: &'a Column) -> Evaluated<'a>
    where
        'r: 'a,
    {
        let text = self.text(column);
        if text.is_empty() {
            return Ok(Value::Null);
        }
        match column.reading {
            Reading::Text => Ok(Value::Text(text)),
            reading => self.read(&text, reading, Some(column)),
        }
    }

    /// Takes a text for something else.
    #[inline]
    pub(super) fn read(
        &self,
        text: &[u8],
        reading: Reading,
        column: Option<&Column>,
    ) -> Evaluated<'static> {
        let name = || column.map(|column| column.name.clone());
        match reading {
            Reading::Text => Ok(Value::Text(Cow::Owned(text.to_vec()))),
            Reading::Number => match self.number_in(column, text) {
                Ok(number) => Ok(Value::Number(number)),
                Err(_) if text.trim_ascii().is_empty() => Ok(Value::Null),
                Err(problem) => Err(Box::new(EvalError::Number {
                    column: name(),
                    value: text::shown(text),
                    problem,
                })),
            },
            Reading::Moment => match self.moment_in(column, text) {
                Some(moment) => Ok(Value::Moment(moment)),
                None if text.trim_ascii().is_empty() => Ok(Value::Null),
                None => Err(Box::new(EvalError::Date {
                    column: name(),
                    value: text::shown(text),
                })),
            },
            Reading::Boolean => {
                let trimmed = text.trim_ascii();
                if trimmed.eq_ignore_ascii_case(b"true") {
                    Ok(Value::Boolean(true))
                } else if trimmed.eq_ignore_ascii_case(b"false") {
                    Ok(Value::Boolean(false))
                } else if trimmed.is_empty() {
                    Ok(Value::Null)
                } else {
                    Err(Box::new(EvalError::Boolean {
                        column: name(),
                        value: text::shown(text),
                    }))
                }
            }
        }
    }

    /// The number that a cell holds, in the way of its column.
    #[inline]
    pub(super) fn number_in(
        &self,
        column: Option<&Column>,
        text: &[u8],
    ) -> Result<Number, NumberProblem> {
        match column {
            Some(column) => self.cells.number_of(column.slot, text),
            None => self.cells.number(text),
        }
    }

    /// The date that a cell holds, in the way of its column.
    #[inline]
    pub(super) fn moment_in(&self, column: Option<&Column>, text: &[u8]) -> Option<Moment> {
        match column {
            Some(column) if column.computed => Moment::parse(text.trim_ascii(), &[]),
            Some(column) => self.cells.moment_of(column.slot, text),
            None => self.cells.moment(text),
        }
    }
}
