//! The records that a shape is filled in with: those of a batch, or those that were kept.

use super::ShapeEncoder;
use numerant_data::record::{At, Batch, Blank, Unit};
use numerant_format::EncodeError;
use numerant_format::column::Shown;

/// A value that is filled in.
#[derive(Clone, Debug, PartialEq, Eq)]
pub(super) enum Filled {
    Blank(Option<Blank>),
    Text(Vec<u8>),
    Literal(Vec<u8>),
    Json(Vec<u8>),
}

impl From<Shown<'_>> for Filled {
    fn from(shown: Shown<'_>) -> Self {
        match shown {
            Shown::Blank(blank) => Self::Blank(blank),
            Shown::Text(text) => Self::Text(text.to_vec()),
            Shown::Literal(text) => Self::Literal(text.to_vec()),
            Shown::Json(text) => Self::Json(text.to_vec()),
        }
    }
}

/// The records that a shape is filled in with.
pub(super) trait Rows {
    fn value(&self, row: u32, column: usize) -> Result<Filled, EncodeError>;
    fn at(&self, row: u32) -> At;
}

/// The records of a batch.
pub(super) struct Live<'a> {
    pub(super) encoder: &'a ShapeEncoder,
    pub(super) batch: &'a Batch,
}

impl Rows for Live<'_> {
    fn value(&self, row: u32, column: usize) -> Result<Filled, EncodeError> {
        let mut scratch = Vec::new();
        let column = &self.encoder.columns[column];
        let shown = column.value(
            self.batch,
            row as usize,
            &self.encoder.form.cells,
            &mut scratch,
        )?;
        Ok(shown.into())
    }

    fn at(&self, row: u32) -> At {
        self.batch.at(row as usize)
    }
}

/// Records that were kept, and where each begins.
pub(super) struct Kept {
    bytes: Vec<u8>,
    pub(super) starts: Vec<usize>,
}

impl Kept {
    pub(super) fn new(bytes: Vec<u8>, columns: usize) -> Self {
        let mut starts = Vec::new();
        let mut at = 0;
        while at < bytes.len() {
            starts.push(at);
            at += 9;
            for _ in 0..columns {
                at += 5 + length(&bytes[at + 1..]);
            }
        }
        Self { bytes, starts }
    }
}

pub(super) fn length(bytes: &[u8]) -> usize {
    bytes
        .first_chunk()
        .map_or(0, |length| u32::from_le_bytes(*length) as usize)
}

impl Rows for Kept {
    fn value(&self, row: u32, column: usize) -> Result<Filled, EncodeError> {
        let mut at = self.starts[row as usize] + 9;
        for _ in 0..column {
            at += 5 + length(&self.bytes[at + 1..]);
        }
        let text = || self.bytes[at + 5..at + 5 + length(&self.bytes[at + 1..])].to_vec();
        Ok(match self.bytes[at] {
            b'b' => Filled::Blank(None),
            b'a' => Filled::Blank(Some(Blank::Absent)),
            b'e' => Filled::Blank(Some(Blank::Empty)),
            b'n' => Filled::Blank(Some(Blank::Null)),
            b't' => Filled::Text(text()),
            b'l' => Filled::Literal(text()),
            _ => Filled::Json(text()),
        })
    }

    fn at(&self, row: u32) -> At {
        let bytes = &self.bytes[self.starts[row as usize]..];
        let number = bytes[1..]
            .first_chunk()
            .map_or(0, |number| u64::from_le_bytes(*number));
        At {
            unit: if bytes[0] == 0 { Unit::Line } else { Unit::Row },
            number,
        }
    }
}

/// Appends a record as it is kept.
pub(super) fn keep(
    rows: &dyn Rows,
    row: u32,
    columns: usize,
    out: &mut Vec<u8>,
) -> Result<(), EncodeError> {
    let at = rows.at(row);
    out.push(u8::from(!at.unit.is_line()));
    out.extend_from_slice(&at.number.to_le_bytes());
    for column in 0..columns {
        let (tag, text) = match rows.value(row, column)? {
            Filled::Blank(None) => (b'b', Vec::new()),
            Filled::Blank(Some(Blank::Empty)) => (b'e', Vec::new()),
            Filled::Blank(Some(Blank::Null)) => (b'n', Vec::new()),
            Filled::Blank(Some(_)) => (b'a', Vec::new()),
            Filled::Text(text) => (b't', text),
            Filled::Literal(text) => (b'l', text),
            Filled::Json(text) => (b'j', text),
        };
        out.push(tag);
        out.extend_from_slice(&(text.len() as u32).to_le_bytes());
        out.extend_from_slice(&text);
    }
    Ok(())
}

/// No records.
pub(super) struct NoRows;

impl Rows for NoRows {
    fn value(&self, _row: u32, _column: usize) -> Result<Filled, EncodeError> {
        Ok(Filled::Blank(None))
    }

    fn at(&self, _row: u32) -> At {
        At::header()
    }
}
