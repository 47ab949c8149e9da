//! Writes records: those of a source as they stand or in the other form, and those that are made of
//! columns.

use super::notation::Address;
use super::record::{Record, RecordError, SLIM};
use crate::format::{EncodeError, RecordEncoder};
use crate::record::Batch;

/// One of the two forms.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(crate) enum Form {
    /// ISO 2709.
    Iso2709,
    /// MARCXML.
    Xml,
}

impl Form {
    fn begin(self, out: &mut Vec<u8>) {
        if self == Self::Xml {
            let head = format!(
                "<?xml version=\"1.0\" encoding=\"UTF-8\"?>\n<collection xmlns=\"{SLIM}\">\n"
            );
            out.extend_from_slice(head.as_bytes());
        }
    }

    fn end(self, out: &mut Vec<u8>) {
        if self == Self::Xml {
            out.extend_from_slice(b"</collection>\n");
        }
    }

    fn write(self, record: &Record<'_>, out: &mut Vec<u8>) -> Result<(), RecordError> {
        match self {
            Self::Iso2709 => record.write(out),
            Self::Xml => record.write_xml(out),
        }
    }
}

/// Writes the records of a source in one of the forms, as they stand if it is theirs.
#[derive(Debug)]
pub(crate) struct RecordsEncoder {
    pub(crate) from: Form,
    pub(crate) to: Form,
}

impl RecordEncoder for RecordsEncoder {
    fn begin(&self, out: &mut Vec<u8>) -> Result<(), EncodeError> {
        self.to.begin(out);
        Ok(())
    }

    fn record(&self, batch: &Batch, record: usize, out: &mut Vec<u8>) -> Result<(), EncodeError> {
        let own = batch.own(record);
        if self.from == Form::Iso2709 && self.to == Form::Iso2709 {
            out.extend_from_slice(own);
            return Ok(());
        }
        let parsed = match self.from {
            Form::Iso2709 => Record::parse(own),
            Form::Xml => Record::parse_xml(own),
        };
        let written = parsed.and_then(|record| self.to.write(&record, out));
        written.map_err(|problem| EncodeError::Marc {
            at: batch.at(record),
            problem: problem.to_string(),
        })
    }

    fn moves_raw(&self) -> bool {
        false
    }

    fn end(&self, _records: u64, out: &mut Vec<u8>) {
        self.to.end(out);
    }
}

/// The leader of records that are made of columns without one: of new records of language material.
const LEADER: &str = "00000nam a2200000   4500";

/// Writes records that are made of columns with the trade's names.
#[derive(Debug)]
pub(crate) struct MarcTableEncoder {
    to: Form,
    /// What each column stands for, and its place in batches.
    columns: Vec<(Address, usize)>,
}

impl MarcTableEncoder {
    /// An encoder for columns of these names and places.
    ///
    /// # Errors
    ///
    /// The name of a column that is none of the trade's.
    pub(crate) fn new<'n>(
        to: Form,
        columns: impl IntoIterator<Item = (&'n str, usize)>,
    ) -> Result<Self, String> {
        let columns = columns
            .into_iter()
            .map(|(name, slot)| match Address::parse(name) {
                Some(address) => Ok((address, slot)),
                None => Err(name.to_owned()),
            });
        Ok(Self {
            to,
            columns: columns.collect::<Result<_, _>>()?,
        })
    }
}

impl RecordEncoder for MarcTableEncoder {
    fn begin(&self, out: &mut Vec<u8>) -> Result<(), EncodeError> {
        self.to.begin(out);
        Ok(())
    }

    fn record(&self, batch: &Batch, record: usize, out: &mut Vec<u8>) -> Result<(), EncodeError> {
        let mut made = Record {
            leader: LEADER.into(),
            fields: Vec::new(),
        };
        for (address, slot) in &self.columns {
            let text = batch.field(record, *slot).text();
            if !text.is_empty() {
                address.put(&String::from_utf8_lossy(&text), &mut made);
            }
        }
        self.to
            .write(&made, out)
            .map_err(|problem| EncodeError::Marc {
                at: batch.at(record),
                problem: problem.to_string(),
            })
    }

    fn moves_raw(&self) -> bool {
        false
    }

    fn end(&self, _records: u64, out: &mut Vec<u8>) {
        self.to.end(out);
    }
}
