//! Writes records as delimited text.

use numerant_data::dialect::{Dialect, Quote};
use numerant_data::record::{At, Batch, Field, holds_any, push_quoted};
use numerant_format::{EncodeError, RecordEncoder};

/// Writes chosen columns of one source's records in one dialect.
///
/// A field that the output's dialect can hold verbatim is copied verbatim, and a field
/// that was quoted stays quoted.
#[derive(Debug)]
pub struct DelimitedEncoder {
    out: Dialect,
    /// Columns of the source to write, or `None` for all verbatim.
    columns: Option<Vec<usize>>,
    /// The same as runs of columns that stand side by side in the source, first and last.
    runs: Vec<(usize, usize)>,
    header: Option<(Batch, Option<Vec<usize>>)>,
    moves: Moves,
    /// Columns from this on are computed, and hold values without quotes.
    computed_from: usize,
    /// Letters, digits and points never need quotes.
    plain: bool,
    /// What was quoted in the source stays quoted.
    keeps_quotes: bool,
}

/// What is copied without a look inside.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
enum Moves {
    Records,
    Fields,
    Values,
}

impl DelimitedEncoder {
    /// An encoder from a source in dialect `source` to outputs in dialect `out`.
    ///
    /// `columns` are the places of the columns to write, in order; `None` writes all. `width` is the
    /// number of columns of the source; what lies after them is computed. `header` is what stands
    /// in front of each output: a record, and those of its columns that count.
    pub fn new(
        source: Dialect,
        out: Dialect,
        columns: Option<Vec<usize>>,
        width: usize,
        header: Option<(Batch, Option<Vec<usize>>)>,
        keep_line_ends: bool,
    ) -> Self {
        let moves = if !source.has_fields_of(&out) {
            Moves::Values
        } else if columns.is_none() && keep_line_ends {
            Moves::Records
        } else {
            Moves::Fields
        };
        let header = header.filter(|_| out.header);
        // All columns are one run, however many there are.
        let runs = columns
            .as_deref()
            .map_or_else(|| vec![(0, usize::MAX)], |columns| runs(columns, width));
        Self {
            out,
            columns,
            runs,
            header,
            moves,
            computed_from: width,
            keeps_quotes: !source.is_tagged(),
            plain: !out
                .delimiter
                .as_bytes()
                .iter()
                .copied()
                .chain(out.quote.byte())
                .chain(out.escape.map(|escape| escape.0))
                .any(|byte| byte.is_ascii_alphanumeric() || byte == b'.'),
        }
    }

    /// Appends one record as UTF-8.
    fn text(&self, batch: &Batch, record: usize, out: &mut Vec<u8>) -> Result<(), EncodeError> {
        if self.moves == Moves::Records {
            out.extend_from_slice(batch.raw(record));
            return Ok(());
        }
        let start = out.len();
        if self.moves == Moves::Fields && self.fields_as_they_stand(batch, record, out)? {
            out.extend_from_slice(self.out.line_end.bytes());
            return Ok(());
        }
        out.truncate(start);
        self.values(batch, record, self.columns.as_deref(), out)
    }

    /// Appends fields verbatim, run by run; `false` if they cannot be put side by side so:
    /// alone on its line a blank field would be a blank line, and a `\r` at the end of the last
    /// one would become part of the line end.
    #[inline]
    fn fields_as_they_stand(
        &self,
        batch: &Batch,
        record: usize,
        out: &mut Vec<u8>,
    ) -> Result<bool, EncodeError> {
        let mut swallowed = false;
        for (place, (from, to)) in self.runs.iter().enumerate() {
            if place > 0 {
                out.push(self.out.delimiter.first());
            }
            if *from >= self.computed_from {
                swallowed = false;
                self.computed(batch, record, *from, self.runs.len() == 1, out)?;
                continue;
            }
            let to = (*to).min(batch.width() - 1);
            let raw = batch.raw_fields(record, *from, to);
            let lonely = raw.is_empty() && self.runs.len() == 1 && *from == to;
            swallowed = raw.last() == Some(&b'\r') || lonely;
            out.extend_from_slice(raw);
        }
        Ok(!swallowed)
    }

    /// Appends the fields of a record as values, with the line end.
    fn values(
        &self,
        batch: &Batch,
        record: usize,
        columns: Option<&[usize]>,
        out: &mut Vec<u8>,
    ) -> Result<(), EncodeError> {
        if columns.is_none() && self.values_as_they_stand(batch, record, out) {
            return Ok(());
        }
        match columns {
            Some(columns) => self.fields(batch, record, columns.iter().copied(), out)?,
            None => self.fields(batch, record, 0..batch.width(), out)?,
        }
        out.extend_from_slice(self.out.line_end.bytes());
        Ok(())
    }

    /// Appends a record of a sheet or document, if nothing in it needs quotes; most are so.
    #[inline]
    fn values_as_they_stand(&self, batch: &Batch, record: usize, out: &mut Vec<u8>) -> bool {
        let Quote::Byte(quote) = self.out.quote else {
            return false;
        };
        let is_plain = self.out.delimiter.is_byte() && self.out.escape.is_none();
        if self.keeps_quotes || !is_plain || batch.width() < 2 {
            return false;
        }
        let raw = batch.raw_fields(record, 0, batch.width() - 1);
        let delimiter = self.out.delimiter.first();
        if holds_any(raw, [delimiter, quote, b'\n', b'\r']) {
            return false;
        }
        let (first, _) = batch.bounds(record);
        let start = out.len();
        out.extend_from_slice(raw);
        for end in &batch.ends_of(record)[..batch.width() - 1] {
            out[start + *end as usize - first] = delimiter;
        }
        out.extend_from_slice(self.out.line_end.bytes());
        true
    }

    /// Appends a computed value, which fields that move verbatim are next to.
    #[inline]
    fn computed(
        &self,
        batch: &Batch,
        record: usize,
        column: usize,
        lonely: bool,
        out: &mut Vec<u8>,
    ) -> Result<(), EncodeError> {
        let field = batch.field(record, column);
        let value = field.raw();
        // Numbers and dates, which most are, hold nothing that needs quotes.
        let plain = |byte: &u8| byte.is_ascii_alphanumeric() || *byte == b'.';
        if self.plain && !value.is_empty() && value.iter().all(plain) {
            out.extend_from_slice(value);
            return Ok(());
        }
        self.value(field, lonely && value.is_empty(), out)
            .map_err(|value| EncodeError::NeedsQuotes {
                at: batch.at(record),
                value,
            })
    }

    /// Appends what `write` appends as UTF-8, in the output's encoding.
    fn encoded(
        &self,
        at: impl FnOnce() -> At,
        out: &mut Vec<u8>,
        write: impl FnOnce(&mut Vec<u8>) -> Result<(), EncodeError>,
    ) -> Result<(), EncodeError> {
        if self.out.encoding.is_utf8() {
            return write(out);
        }
        let mut bytes = Vec::new();
        write(&mut bytes)?;
        let text = String::from_utf8_lossy(&bytes);
        self.out
            .encoding
            .encode(&text, out)
            .map_err(|character| EncodeError::Character {
                at: at(),
                character,
                encoding: self.out.encoding.name(),
            })
    }

    /// Appends the fields of a record one by one.
    fn fields(
        &self,
        batch: &Batch,
        record: usize,
        columns: impl ExactSizeIterator<Item = usize>,
        out: &mut Vec<u8>,
    ) -> Result<(), EncodeError> {
        let count = columns.len();
        for (place, column) in columns.enumerate() {
            if place > 0 {
                out.extend_from_slice(self.out.delimiter.as_bytes());
            }
            let field = batch.field(record, column);
            // Where fields move verbatim, only the last one of the record is what kept them
            // from moving all together.
            if self.moves == Moves::Fields && place + 1 < count && column < self.computed_from {
                out.extend_from_slice(field.raw());
            } else {
                let lonely = count == 1 && field.is_blank();
                self.value(field, lonely, out)
                    .map_err(|value| EncodeError::NeedsQuotes {
                        at: batch.at(record),
                        value,
                    })?;
            }
        }
        Ok(())
    }

    /// Appends a value in the output's dialect, or returns it where that cannot hold it. A blank
    /// that is `lonely`, alone on its line, would be a blank line and so no record.
    fn value(&self, field: Field<'_>, lonely: bool, out: &mut Vec<u8>) -> Result<(), String> {
        let mut scratch = Vec::new();
        let value = field.value(&mut scratch);
        let was_quoted = self.keeps_quotes && field.raw().len() != value.len();
        let quoted = lonely || was_quoted;
        if self.out.escape.is_some() || !self.out.delimiter.is_byte() {
            return self.irregular_value(value, quoted, lonely, out);
        }
        let delimiter = self.out.delimiter.first();
        let Quote::Byte(quote) = self.out.quote else {
            let needed = value
                .iter()
                .any(|byte| [delimiter, b'\n', b'\r'].contains(byte));
            if needed || lonely {
                return Err(String::from_utf8_lossy(value).into_owned());
            }
            out.extend_from_slice(value);
            return Ok(());
        };
        // What was quoted stays quoted.
        if quoted && !value.is_empty() && memchr::memchr(quote, value).is_none() {
            out.push(quote);
            out.extend_from_slice(value);
            out.push(quote);
        } else {
            push_quoted(value, delimiter, Some(quote), quoted, out);
        }
        Ok(())
    }

    /// [`DelimitedEncoder::value`] where RFC 4180 does not describe the output's dialect.
    fn irregular_value(
        &self,
        value: &[u8],
        quoted: bool,
        lonely: bool,
        out: &mut Vec<u8>,
    ) -> Result<(), String> {
        let delimiter = self.out.delimiter.as_bytes();
        // A value that ends like the delimiter begins would make it begin too early.
        let ends_alike = (1..delimiter.len()).any(|length| value.ends_with(&delimiter[..length]));
        let breaks = memchr::memchr2(b'\n', b'\r', value).is_some();
        let divides = ends_alike || memchr::memmem::find(value, delimiter).is_some();
        let escape = self.out.escape.map(|escape| escape.0);
        match (self.out.quote, escape) {
            (Quote::None, None) => {
                if breaks || divides || lonely {
                    return Err(String::from_utf8_lossy(value).into_owned());
                }
                out.extend_from_slice(value);
            }
            (Quote::None, Some(escape)) => {
                if lonely {
                    return Err(String::new());
                }
                for byte in value {
                    let marks = [escape, delimiter[0], b'\n', b'\r'];
                    out.extend(marks.contains(byte).then_some(escape));
                    out.push(*byte);
                }
            }
            (Quote::Byte(quote), _) => {
                let holds_quote = memchr::memchr(quote, value).is_some();
                let quoted = quoted || breaks || divides || holds_quote;
                out.extend(quoted.then_some(quote));
                for byte in value {
                    match escape {
                        Some(escape) if [quote, escape].contains(byte) => out.push(escape),
                        None if *byte == quote => out.push(quote),
                        _ => {}
                    }
                    out.push(*byte);
                }
                out.extend(quoted.then_some(quote));
            }
        }
        Ok(())
    }
}

/// Columns as runs of columns that stand side by side in a source of `width` columns, first and
/// last; computed ones are each by itself.
fn runs(columns: &[usize], width: usize) -> Vec<(usize, usize)> {
    let mut runs: Vec<(usize, usize)> = Vec::new();
    for column in columns {
        match runs.last_mut() {
            Some((_, last)) if *last + 1 == *column && *column < width => *last = *column,
            _ => runs.push((*column, *column)),
        }
    }
    runs
}

impl RecordEncoder for DelimitedEncoder {
    fn begin(&self, out: &mut Vec<u8>) -> Result<(), EncodeError> {
        if self.out.bom {
            out.extend_from_slice(self.out.encoding.byte_order_mark().unwrap_or_default());
        }
        match &self.header {
            // A header that is the source's is written like its records.
            Some((header, columns)) if *columns == self.columns => self.record(header, 0, out),
            Some((header, columns)) => self.encoded(At::header, out, |out| {
                self.values(header, 0, columns.as_deref(), out)
            }),
            None => Ok(()),
        }
    }

    fn record(&self, batch: &Batch, record: usize, out: &mut Vec<u8>) -> Result<(), EncodeError> {
        let line = || batch.at(record);
        self.encoded(line, out, |out| self.text(batch, record, out))
    }

    fn moves_raw(&self) -> bool {
        self.moves == Moves::Records && self.out.encoding.is_utf8()
    }
}

#[cfg(test)]
mod tests;
