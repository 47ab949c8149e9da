//! Writes records: those of a source verbatim or in the other form, and those that are made of
//! columns.

use std::collections::{HashMap, HashSet};

use super::notation::{Address, Tag};
use super::record::{Field, Record, RecordError, SLIM};
use super::{NAME, XML_NAME};
use numerant_data::encoding::Encoding;
use numerant_data::record::Batch;
use numerant_format::{ControlCharacters, EncodeError, RecordEncoder};

/// One of the two forms.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum RecordSyntax {
    /// ISO 2709.
    Iso2709,
    /// MARCXML.
    Xml,
}

impl RecordSyntax {
    /// The form that a format is, if it is one.
    pub(super) fn of(format: &str) -> Option<Self> {
        match format {
            NAME => Some(Self::Iso2709),
            XML_NAME => Some(Self::Xml),
            _ => None,
        }
    }

    /// Reads a record; `encoding` is that which is stated for records of ISO 2709.
    pub(super) fn parse(
        self,
        bytes: &[u8],
        encoding: Option<Encoding>,
    ) -> Result<Record<'_>, RecordError> {
        match self {
            Self::Iso2709 => Record::parse(bytes, encoding),
            Self::Xml => Record::parse_xml(bytes),
        }
    }

    pub(super) fn begin(self, out: &mut Vec<u8>) {
        if self == Self::Xml {
            let head = format!(
                "<?xml version=\"1.0\" encoding=\"UTF-8\"?>\n<collection xmlns=\"{SLIM}\">\n"
            );
            out.extend_from_slice(head.as_bytes());
        }
    }

    pub(super) fn end(self, out: &mut Vec<u8>) {
        if self == Self::Xml {
            out.extend_from_slice(b"</collection>\n");
        }
    }

    pub(super) fn write(
        self,
        record: &Record<'_>,
        policy: ControlCharacters,
        out: &mut Vec<u8>,
    ) -> Result<(), RecordError> {
        match self {
            Self::Iso2709 => record.write(out),
            Self::Xml => record.write_xml(policy, out),
        }
    }
}

/// Writes the records of a source in one of the forms, verbatim if it is theirs.
#[derive(Debug)]
pub(crate) struct RecordsEncoder {
    pub(crate) from: RecordSyntax,
    pub(crate) to: RecordSyntax,
    /// The encoding that is stated for the records of ISO 2709.
    pub(crate) encoding: Option<Encoding>,
    /// What becomes of characters that XML cannot hold.
    pub(crate) policy: ControlCharacters,
}

impl RecordEncoder for RecordsEncoder {
    fn begin(&self, out: &mut Vec<u8>) -> Result<(), EncodeError> {
        self.to.begin(out);
        Ok(())
    }

    fn record(&self, batch: &Batch, record: usize, out: &mut Vec<u8>) -> Result<(), EncodeError> {
        let own = batch.of_document(record);
        if self.from == RecordSyntax::Iso2709 && self.to == RecordSyntax::Iso2709 {
            out.extend_from_slice(own);
            return Ok(());
        }
        let parsed = self.from.parse(own, self.encoding);
        let written = parsed.and_then(|record| self.to.write(&record, self.policy, out));
        written.map_err(|problem| failed(batch, record, &problem))
    }

    fn moves_raw(&self) -> bool {
        false
    }

    fn end(&self, _records: u64, out: &mut Vec<u8>) -> Result<(), EncodeError> {
        self.to.end(out);
        Ok(())
    }
}

pub(super) fn failed(batch: &Batch, record: usize, problem: &RecordError) -> EncodeError {
    EncodeError::Marc {
        at: batch.at(record),
        problem: problem.to_string(),
        is_character: matches!(problem, RecordError::Character(..)),
    }
}

/// The leader of records that are made of columns without one: of new records of language material.
const LEADER: &str = "00000nam a2200000   4500";

/// How records are made of columns.
#[derive(Debug)]
pub(super) struct RecordPlan {
    /// What each column represents, and which of the fields it is in.
    columns: Vec<(Address, Option<usize>)>,
    /// The fields in their order: that of the columns, but those of one tag by their numbers, so that
    /// no blank value makes two fields one.
    fields: Vec<Field<'static>>,
}

impl RecordPlan {
    pub(super) fn new(columns: impl IntoIterator<Item = Address>) -> Self {
        let columns: Vec<Address> = columns.into_iter().collect();
        let mut keys: Vec<(Tag, usize)> = Vec::new();
        let mut fields = Vec::new();
        for address in &columns {
            if let Some(key) = address.field()
                && !keys.contains(&key)
            {
                keys.push(key);
                fields.push(address.empty_field());
            }
        }
        // The places of a tag stay, and its fields are there by their numbers.
        let tags: HashSet<Tag> = keys.iter().map(|(tag, _)| *tag).collect();
        for tag in tags {
            let places: Vec<usize> = (0..keys.len()).filter(|at| keys[*at].0 == tag).collect();
            let mut of_tag: Vec<(Tag, usize)> = places.iter().map(|at| keys[*at]).collect();
            of_tag.sort_unstable();
            for (place, key) in places.into_iter().zip(of_tag) {
                keys[place] = key;
            }
        }
        let places: HashMap<(Tag, usize), usize> = keys
            .iter()
            .enumerate()
            .map(|(at, key)| (*key, at))
            .collect();
        let places: Vec<Option<usize>> = columns
            .iter()
            .map(|address| address.field().and_then(|key| places.get(&key).copied()))
            .collect();
        Self {
            columns: columns.into_iter().zip(places).collect(),
            fields,
        }
    }

    /// The record of the values of the columns.
    pub(super) fn record(&self, value: impl Fn(usize) -> String) -> Record<'static> {
        let mut made = Record {
            leader: LEADER.into(),
            fields: Vec::new(),
        };
        let mut fields: Vec<Option<Field<'static>>> = vec![None; self.fields.len()];
        for (column, (address, place)) in self.columns.iter().enumerate() {
            let text = value(column);
            if text.is_empty() {
                continue;
            }
            match place {
                None => made.leader = text.into(),
                Some(place) => {
                    let field = fields[*place].get_or_insert_with(|| self.fields[*place].clone());
                    address.fill(&text, &mut field.content);
                }
            }
        }
        made.fields = fields.into_iter().flatten().collect();
        made
    }
}

/// Writes records that are made of columns with the trade's names.
#[derive(Debug)]
pub struct MarcTableEncoder {
    to: RecordSyntax,
    policy: ControlCharacters,
    plan: RecordPlan,
    /// The places of the columns in batches.
    slots: Vec<usize>,
}

impl MarcTableEncoder {
    /// An encoder for columns of these names and places.
    ///
    /// # Errors
    ///
    /// The name of a column that is none of the trade's.
    pub fn new<'n>(
        to: RecordSyntax,
        policy: ControlCharacters,
        columns: impl IntoIterator<Item = (&'n str, usize)>,
    ) -> Result<Self, String> {
        let mut addresses = Vec::new();
        let mut slots = Vec::new();
        for (name, slot) in columns {
            addresses.push(Address::parse(name).ok_or_else(|| name.to_owned())?);
            slots.push(slot);
        }
        Ok(Self {
            to,
            policy,
            plan: RecordPlan::new(addresses),
            slots,
        })
    }
}

impl RecordEncoder for MarcTableEncoder {
    fn begin(&self, out: &mut Vec<u8>) -> Result<(), EncodeError> {
        self.to.begin(out);
        Ok(())
    }

    fn record(&self, batch: &Batch, record: usize, out: &mut Vec<u8>) -> Result<(), EncodeError> {
        let made = self.plan.record(|column| {
            let text = batch.field(record, self.slots[column]).text();
            String::from_utf8_lossy(&text).into_owned()
        });
        self.to
            .write(&made, self.policy, out)
            .map_err(|problem| failed(batch, record, &problem))
    }

    fn moves_raw(&self) -> bool {
        false
    }

    fn end(&self, _records: u64, out: &mut Vec<u8>) -> Result<(), EncodeError> {
        self.to.end(out);
        Ok(())
    }
}
