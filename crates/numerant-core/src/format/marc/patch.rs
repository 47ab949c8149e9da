//! Writes the records of a source with what steps have changed in them: fields and subfields stay in the
//! order that they have there, which no table can say.

use std::borrow::Cow;
use std::collections::{HashMap, HashSet};
use std::sync::Arc;

use super::encode::{Form, failed};
use super::notation::{Address, Slice};
use super::record::{Content, Field, Record};
use crate::format::{ControlSigns, EncodeError, RecordEncoder, TextFormat};
use crate::record::Batch;
use crate::source::Encoding;

/// A column of an output whose records are those of the source with changes.
#[derive(Clone, Debug)]
pub struct PatchColumn {
    /// What it is called.
    pub name: String,
    /// Its place in batches.
    pub slot: usize,
    /// What it is called in the source, if it comes from there.
    pub source: Option<String>,
}

/// Writes records of a source with changes.
#[derive(Debug)]
pub(super) struct PatchEncoder {
    from: Form,
    to: Form,
    encoding: Option<Encoding>,
    signs: ControlSigns,
    /// The places of columns that have the value of an address of the source, by that address.
    kept: HashMap<Address, usize>,
    /// Addresses of the source that no column has any more.
    gone: HashSet<Address>,
    /// Columns whose values belong to another address than they have in the source.
    added: Vec<(Address, usize)>,
}

impl PatchEncoder {
    /// An encoder for the records of a source with columns of the names `source`.
    ///
    /// # Errors
    ///
    /// The name of a column that is no address.
    fn new(
        (from, to): (Form, Form),
        columns: &[PatchColumn],
        source: &[String],
        encoding: Option<Encoding>,
        signs: ControlSigns,
    ) -> Result<Self, String> {
        let mut kept = HashMap::new();
        let mut added = Vec::new();
        for column in columns {
            let unchanged = column.source.as_ref() == Some(&column.name);
            match Address::parse(&column.name) {
                Some(address) if source.contains(&column.name) => {
                    kept.insert(address, column.slot);
                }
                Some(address) => added.push((address, column.slot)),
                // Part of a field, or a list in one cell: the record itself has them.
                None if unchanged || Slice::parse(&column.name).is_some() => {}
                None => return Err(column.name.clone()),
            }
        }
        let names = source.iter().filter_map(|name| Address::parse(name));
        let gone = names.filter(|address| !kept.contains_key(address));
        Ok(Self {
            from,
            to,
            encoding,
            signs,
            gone: gone.collect(),
            kept,
            added,
        })
    }

    /// What becomes of a text of the source; `None` if it goes.
    fn text<'t>(&self, address: &Address, text: &'t str, row: &Row<'_>) -> Option<Cow<'t, str>> {
        if self.gone.contains(address) {
            return None;
        }
        let Some(slot) = self.kept.get(address) else {
            return Some(Cow::Borrowed(text));
        };
        let value = row.value(*slot);
        match value.is_empty() && !text.is_empty() {
            true => None,
            false if value == text => Some(Cow::Borrowed(text)),
            false => Some(Cow::Owned(value)),
        }
    }

    fn patched<'r>(&self, record: Record<'r>, row: &Row<'_>) -> Record<'r> {
        let mut patched = Record {
            leader: record.leader,
            fields: Vec::with_capacity(record.fields.len()),
        };
        if let Some(slot) = self.kept.get(&Address::Leader) {
            let leader = row.value(*slot);
            if !leader.is_empty() {
                patched.leader = leader.into();
            }
        }
        // Where each field of the source has come to, by its tag and number.
        let mut places: HashMap<(String, usize), usize> = HashMap::new();
        let mut counts: HashMap<String, usize> = HashMap::new();
        let mut used: HashSet<Address> = HashSet::new();
        for field in record.fields {
            let tag = field.tag.to_string();
            let number = counts.entry(tag.clone()).or_default();
            *number += 1;
            let number = *number;
            let content = match field.content {
                Content::Control(text) => {
                    let address = Address::Control(tag.clone(), number);
                    let new = self.text(&address, &text, row).map(Cow::into_owned);
                    used.insert(address);
                    new.map(|new| Content::Control(new.into()))
                }
                Content::Data {
                    mut indicators,
                    subfields,
                } => {
                    for (place, indicator) in indicators.iter_mut().enumerate() {
                        let address = Address::Indicator(tag.clone(), number, place);
                        if self.gone.contains(&address) {
                            *indicator = ' ';
                        } else if let Some(slot) = self.kept.get(&address) {
                            *indicator = row.value(*slot).chars().next().unwrap_or(' ');
                        }
                        used.insert(address);
                    }
                    let had = !subfields.is_empty();
                    let mut codes: HashMap<char, usize> = HashMap::new();
                    let mut left = Vec::with_capacity(subfields.len());
                    for (code, text) in subfields {
                        let times = codes.entry(code).or_default();
                        *times += 1;
                        let address = Address::Subfield(tag.clone(), number, code, *times);
                        if let Some(new) = self.text(&address, &text, row) {
                            left.push((code, Cow::Owned(new.into_owned())));
                        }
                        used.insert(address);
                    }
                    (!had || !left.is_empty()).then_some(Content::Data {
                        indicators,
                        subfields: left,
                    })
                }
            };
            if let Some(content) = content {
                places.insert((tag, number), patched.fields.len());
                patched.fields.push(Field {
                    tag: field.tag,
                    content,
                });
            }
        }
        // Values at addresses that the record did not have, in the order of columns.
        let new = self
            .kept
            .iter()
            .filter(|(address, _)| !used.contains(*address));
        let mut new: Vec<(usize, &Address)> = new.map(|(address, slot)| (*slot, address)).collect();
        new.extend(self.added.iter().map(|(address, slot)| (*slot, address)));
        new.sort_by_key(|(slot, _)| *slot);
        for (slot, address) in new {
            let value = row.value(slot);
            if !value.is_empty() && *address != Address::Leader {
                put(address, &value, &mut patched, &mut places);
            }
        }
        patched
    }
}

/// Puts a value into the field that it belongs to, or a new one behind those of lower tags.
fn put(
    address: &Address,
    value: &str,
    record: &mut Record<'_>,
    places: &mut HashMap<(String, usize), usize>,
) {
    let Some((tag, number)) = address.field() else {
        return;
    };
    let key = (tag.to_owned(), number);
    let place = match places.get(&key) {
        Some(place) => *place,
        None => {
            let before = |field: &Field<'_>| field.tag.as_ref() <= tag;
            let at = record
                .fields
                .iter()
                .rposition(before)
                .map_or(0, |at| at + 1);
            for place in places.values_mut() {
                *place += usize::from(*place >= at);
            }
            let field = address.empty_field();
            record.fields.insert(at, field);
            places.insert(key, at);
            at
        }
    };
    address.fill(value, &mut record.fields[place].content);
}

/// A record of a batch.
struct Row<'b> {
    batch: &'b Batch,
    record: usize,
}

impl Row<'_> {
    fn value(&self, slot: usize) -> String {
        let text = self.batch.field(self.record, slot).text();
        String::from_utf8_lossy(&text).into_owned()
    }
}

/// What writes records of a source in `from` with changes, if it is written in one of the forms.
pub(super) fn patcher(
    from: Form,
    to: TextFormat,
    columns: &[PatchColumn],
    source: &[String],
    encoding: Option<Encoding>,
    signs: ControlSigns,
) -> Option<Result<Arc<dyn RecordEncoder>, EncodeError>> {
    let to = match to {
        TextFormat::Marc => Form::Iso2709,
        TextFormat::MarcXml => Form::Xml,
        _ => return None,
    };
    let encoder = PatchEncoder::new((from, to), columns, source, encoding, signs);
    let encoder = encoder.map(|encoder| Arc::new(encoder) as Arc<dyn RecordEncoder>);
    Some(encoder.map_err(EncodeError::NotMarc))
}

impl RecordEncoder for PatchEncoder {
    fn begin(&self, out: &mut Vec<u8>) -> Result<(), EncodeError> {
        self.to.begin(out);
        Ok(())
    }

    fn record(&self, batch: &Batch, record: usize, out: &mut Vec<u8>) -> Result<(), EncodeError> {
        let own = batch.own(record);
        let parsed = match self.from {
            Form::Iso2709 => Record::parse(own, self.encoding),
            Form::Xml => Record::parse_xml(own),
        };
        let row = Row { batch, record };
        let written = parsed.and_then(|record| {
            let patched = self.patched(record, &row);
            self.to.write(&patched, self.signs, out)
        });
        written.map_err(|problem| failed(batch, record, &problem))
    }

    fn moves_raw(&self) -> bool {
        false
    }

    fn end(&self, _records: u64, out: &mut Vec<u8>) {
        self.to.end(out);
    }
}
