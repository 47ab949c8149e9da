//! Writes the records of a source with what steps have changed in them: fields and subfields stay in the
//! order that they have there, which no table can say.

use std::borrow::Cow;
use std::sync::Arc;

use hashbrown::HashMap;

use super::encode::{RecordSyntax, failed};
use super::notation::{Address, Slice, Tag};
use super::record::{Content, Field, Record};
use numerant_data::encoding::Encoding;
use numerant_data::record::Batch;
use numerant_format::{ControlCharacters, EncodeError, Patch, RecordEncoder};

/// Writes records of a source with changes.
#[derive(Debug)]
pub(super) struct PatchEncoder {
    from: RecordSyntax,
    to: RecordSyntax,
    encoding: Option<Encoding>,
    policy: ControlCharacters,
    /// What becomes of the addresses that the source has columns for.
    columns: HashMap<Address, Column>,
    /// The addresses of the columns of outputs, and their places in batches.
    values: Vec<(Address, usize)>,
}

/// What became of a column of the source.
#[derive(Clone, Copy, Debug)]
enum Column {
    /// It is there no more.
    Gone,
    /// It has this place in batches, and this number among the columns of outputs.
    Kept { slot: usize, number: usize },
}

impl PatchEncoder {
    /// An encoder for records in `from`.
    ///
    /// # Errors
    ///
    /// The name of a column that is no address.
    fn new(
        (from, to): (RecordSyntax, RecordSyntax),
        patch: &Patch<'_>,
        encoding: Option<Encoding>,
    ) -> Result<Self, String> {
        let mut values = Vec::new();
        for column in patch.columns {
            let unchanged = column.source.as_ref() == Some(&column.name);
            match Address::parse(&column.name) {
                Some(address) => values.push((address, column.slot)),
                // Part of a field, or a list in one cell: the record itself has them.
                None if unchanged || Slice::parse(&column.name).is_some() => {}
                None => return Err(column.name.clone()),
            }
        }
        let names = patch.source.iter().filter_map(|name| Address::parse(name));
        let mut columns: HashMap<Address, Column> =
            names.map(|address| (address, Column::Gone)).collect();
        for (number, (address, slot)) in values.iter().enumerate() {
            let slot = *slot;
            columns
                .entry(*address)
                .and_modify(|column| *column = Column::Kept { slot, number });
        }
        Ok(Self {
            from,
            to,
            encoding,
            policy: patch.policy,
            columns,
            values,
        })
    }

    /// What becomes of a text of the source.
    fn change(&self, address: Address, text: &str, row: &mut Row<'_>) -> Change {
        let Some(column) = self.columns.get(&address) else {
            return Change::Stays;
        };
        let Column::Kept { slot, number } = *column else {
            return Change::Goes;
        };
        row.used[number] = true;
        let value = row.batch.field(row.record, slot).text();
        if *value == *text.as_bytes() {
            return Change::Stays;
        }
        if value.is_empty() {
            Change::Goes
        } else {
            Change::Replaced(String::from_utf8_lossy(&value).into_owned())
        }
    }

    fn patched<'r>(&self, record: Record<'r>, row: &mut Row<'_>) -> Record<'r> {
        let mut patched = Record {
            leader: record.leader,
            fields: Vec::with_capacity(record.fields.len()),
        };
        if let Change::Replaced(leader) = self.change(Address::Leader, &patched.leader, row) {
            patched.leader = leader.into();
        }
        // Where each field of the source has come to, by its tag and number.
        let mut places: Vec<((Tag, usize), usize)> = Vec::with_capacity(record.fields.len());
        for field in record.fields {
            let Some(tag) = Tag::of(&field.tag) else {
                patched.fields.push(field);
                continue;
            };
            let of_tag = places.iter().rev().find(|((known, _), _)| *known == tag);
            let number = of_tag.map_or(1, |((_, number), _)| number + 1);
            let content = match field.content {
                Content::Control(text) => {
                    match self.change(Address::Control(tag, number), &text, row) {
                        Change::Stays => Some(Content::Control(text)),
                        Change::Replaced(new) => Some(Content::Control(new.into())),
                        Change::Goes => None,
                    }
                }
                Content::Data {
                    mut indicators,
                    mut subfields,
                } => {
                    for (place, indicator) in indicators.iter_mut().enumerate() {
                        let address = Address::Indicator(tag, number, place);
                        let text = match *indicator {
                            ' ' => String::new(),
                            indicator => indicator.to_string(),
                        };
                        match self.change(address, &text, row) {
                            Change::Stays => {}
                            Change::Replaced(new) => *indicator = new.chars().next().unwrap_or(' '),
                            Change::Goes => *indicator = ' ',
                        }
                    }
                    let had = !subfields.is_empty();
                    let codes: Vec<char> = subfields.iter().map(|(code, _)| *code).collect();
                    let mut at = 0;
                    subfields.retain_mut(|(code, text)| {
                        let before = codes[..=at].iter().filter(|known| *known == code);
                        let address = Address::Subfield(tag, number, *code, before.count());
                        at += 1;
                        match self.change(address, text, row) {
                            Change::Stays => true,
                            Change::Goes => false,
                            Change::Replaced(new) => {
                                *text = Cow::Owned(new);
                                true
                            }
                        }
                    });
                    (!had || !subfields.is_empty()).then_some(Content::Data {
                        indicators,
                        subfields,
                    })
                }
            };
            let place = match content {
                Some(content) => {
                    patched.fields.push(Field {
                        tag: field.tag,
                        content,
                    });
                    patched.fields.len() - 1
                }
                None => usize::MAX,
            };
            places.push(((tag, number), place));
        }
        // Values at addresses that the record did not have, in the order of columns.
        for (number, (address, slot)) in self.values.iter().enumerate() {
            if row.used[number] || *address == Address::Leader {
                continue;
            }
            let value = row.batch.field(row.record, *slot).text();
            if !value.is_empty() {
                let value = String::from_utf8_lossy(&value);
                put(*address, &value, &mut patched, &mut places);
            }
        }
        patched
    }
}

/// Puts a value into the field that it belongs to, or a new one after those of lower tags.
fn put(
    address: Address,
    value: &str,
    record: &mut Record<'_>,
    places: &mut Vec<((Tag, usize), usize)>,
) {
    let Some(key) = address.field() else {
        return;
    };
    let known = places
        .iter()
        .position(|(known, place)| *known == key && *place != usize::MAX);
    let place = match known {
        Some(known) => places[known].1,
        None => {
            let field = address.empty_field();
            let before = |other: &Field<'_>| other.tag <= field.tag;
            let at = record
                .fields
                .iter()
                .rposition(before)
                .map_or(0, |at| at + 1);
            for (_, place) in places.iter_mut().filter(|(_, place)| *place != usize::MAX) {
                *place += usize::from(*place >= at);
            }
            record.fields.insert(at, field);
            places.push((key, at));
            at
        }
    };
    address.fill(value, &mut record.fields[place].content);
}

/// A record of a batch, and which of the values the source has places for.
struct Row<'b> {
    batch: &'b Batch,
    record: usize,
    used: Vec<bool>,
}

/// What becomes of a text of the source.
enum Change {
    Stays,
    Goes,
    Replaced(String),
}

/// What writes records of a source in `from` with changes, if it is written in one of the forms.
pub(super) fn patcher(
    from: RecordSyntax,
    patch: &Patch<'_>,
    encoding: Option<Encoding>,
) -> Option<Result<Arc<dyn RecordEncoder>, EncodeError>> {
    let to = RecordSyntax::of(patch.to)?;
    let encoder = PatchEncoder::new((from, to), patch, encoding);
    let encoder = encoder.map(|encoder| Arc::new(encoder) as Arc<dyn RecordEncoder>);
    Some(encoder.map_err(EncodeError::NotMarc))
}

impl RecordEncoder for PatchEncoder {
    fn begin(&self, out: &mut Vec<u8>) -> Result<(), EncodeError> {
        self.to.begin(out);
        Ok(())
    }

    fn record(&self, batch: &Batch, record: usize, out: &mut Vec<u8>) -> Result<(), EncodeError> {
        let parsed = self.from.parse(batch.of_document(record), self.encoding);
        let mut row = Row {
            batch,
            record,
            used: vec![false; self.values.len()],
        };
        let written = parsed.and_then(|record| {
            let patched = self.patched(record, &mut row);
            self.to.write(&patched, self.policy, out)
        });
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
