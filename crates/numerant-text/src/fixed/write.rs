//! Writes fixed-width records after a layout.

use numerant_data::dialect::LineEnd;
use numerant_data::encoding::Encoding;
use numerant_data::record::{At, Batch};
use numerant_data::value::{DecimalMark, Moment, Number};
use numerant_format::column::TextColumn;
use numerant_format::{EncodeError, EncoderRequest, RecordEncoder};

use super::NAME;
use super::layout::{Align, Field, Kind, Layout, RECORD_COLUMN, RecordType, Role};

/// Writes the records of a source.
#[derive(Debug)]
pub(super) struct FixedEncoder {
    layout: Layout,
    /// For each type of records and each of its fields, the place of its column in batches.
    slots: Vec<Vec<Option<usize>>>,
    /// The place of the column that says of which type a record is.
    record_slot: Option<usize>,
    mark: DecimalMark,
    has_header_line: bool,
    line_end: LineEnd,
    encoding: Encoding,
    bom: bool,
}

impl FixedEncoder {
    /// Writes records of the columns of a request after a layout. The names of fields that have none are those of
    /// the columns in their order.
    pub(super) fn new(
        request: &EncoderRequest<'_>,
        mut layout: Layout,
    ) -> Result<Self, EncodeError> {
        let columns = &request.columns;
        let has_names = layout
            .types
            .iter()
            .flat_map(|of| &of.fields)
            .any(|field| !field.name.starts_with("column_"));
        if !has_names {
            let fields = &mut layout.types[0].fields;
            if fields.len() != columns.len() {
                let what = format!(
                    "{} widths are stated, and there are {} columns",
                    fields.len(),
                    columns.len()
                );
                return Err(of_format(
                    None,
                    None,
                    what,
                    "state a width for each column, or write fewer columns",
                ));
            }
            for (field, column) in fields.iter_mut().zip(columns) {
                field.name.clone_from(&column.name);
            }
        }
        let slot = |name: &str| {
            columns
                .iter()
                .find(|column| column.name == name)
                .map(|column| column.slot)
        };
        let fields: Vec<&Field> = layout.data().flat_map(|of| &of.fields).collect();
        let is_written = |column: &TextColumn| {
            (layout.has_several() && column.name == RECORD_COLUMN)
                || fields.iter().any(|field| field.name == column.name)
        };
        if let Some(column) = columns.iter().find(|column| !is_written(column)) {
            let what = format!("the layout has no field for the column '{}'", column.name);
            return Err(of_format(
                None,
                None,
                what,
                "add a field to the layout, or do not write the column",
            ));
        }
        let slots = layout
            .types
            .iter()
            .map(|of| of.fields.iter().map(|field| slot(&field.name)).collect());
        Ok(Self {
            slots: slots.collect(),
            record_slot: slot(RECORD_COLUMN).filter(|_| layout.has_several()),
            mark: request.cells.mark,
            has_header_line: layout.has_header_line && request.fields.header.is_some(),
            line_end: request.out.line_end,
            encoding: request.out.encoding,
            bom: request.out.bom,
            layout,
        })
    }

    /// Writes the headers or trailers, with the records that they count.
    fn frame(
        &self,
        role: Role,
        records: Option<u64>,
        out: &mut Vec<u8>,
    ) -> Result<(), EncodeError> {
        for of in self.layout.types.iter().filter(|of| of.role == role) {
            let mut line = self.blank(of);
            for field in &of.fields {
                let value = match (&field.constant, records) {
                    (Some(constant), _) => constant.clone(),
                    (None, Some(records)) if field.counts => records.to_string(),
                    _ => continue,
                };
                self.put(&mut line, field, &value, None)?;
            }
            self.push_line(&line, None, out)?;
        }
        Ok(())
    }

    /// A record of blanks with its tag.
    fn blank(&self, of: &RecordType) -> Vec<char> {
        let tag_end = self.layout.tag.map_or(0, |tag| tag.end);
        let mut line = vec![' '; of.width().max(tag_end)];
        if let Some(tag) = self.layout.tag {
            for (place, character) in of.tag.chars().enumerate() {
                line[tag.start + place] = character;
            }
        }
        line
    }

    /// Puts a value into its field.
    fn put(
        &self,
        line: &mut [char],
        field: &Field,
        value: &str,
        at: Option<At>,
    ) -> Result<(), EncodeError> {
        let length = value.chars().count();
        let width = field.area.width();
        if length > width {
            let what = format!("'{value}' has {length} characters, and its field has {width}");
            let hint =
                "make the field wider, or shorten the value with SUBSTRING(COLUMN FROM 1 FOR 20)";
            return Err(of_format(at, Some(&field.name), what, hint));
        }
        let area = &mut line[field.area.start..field.area.end];
        area.fill(field.fill);
        // A sign is in front of what fills a number.
        let (sign, value) = match value.strip_prefix('-') {
            Some(digits) if field.fill == '0' && field.align == Align::Right => (Some('-'), digits),
            _ => (None, value),
        };
        let start = match field.align {
            Align::Left => 0,
            Align::Right => width - value.chars().count(),
        };
        for (place, character) in value.chars().enumerate() {
            area[start + place] = character;
        }
        if let (Some(sign), Some(first)) = (sign, area.first_mut()) {
            *first = sign;
        }
        Ok(())
    }

    /// Ends a line.
    fn push_line(
        &self,
        line: &[char],
        at: Option<At>,
        out: &mut Vec<u8>,
    ) -> Result<(), EncodeError> {
        let line: String = line.iter().collect();
        let ended = format!("{line}{}", String::from_utf8_lossy(self.line_end.bytes()));
        self.encoding
            .encode(&ended, out)
            .map_err(|character| EncodeError::Character {
                at: at.unwrap_or(At::header()),
                character,
                encoding: self.encoding.name(),
            })
    }

    /// What is written of a value.
    fn shown(&self, field: &Field, value: &str, at: At) -> Result<String, EncodeError> {
        let failed = |what: String, hint| of_format(Some(at), Some(&field.name), what, hint);
        let decimals = match &field.kind {
            Kind::Text => return Ok(value.to_owned()),
            Kind::Date(format) => {
                let moment = Moment::parse(value.as_bytes(), &[]).ok_or_else(|| {
                    failed(
                        format!("'{value}' is not a date"),
                        "state how dates are written in the source",
                    )
                })?;
                return Ok(moment
                    .date
                    .strftime(&String::from(format.clone()))
                    .to_string());
            }
            Kind::Integer => 0,
            Kind::Decimal(decimals) => *decimals,
        };
        let number = Number::read(value.as_bytes(), self.mark).map_err(|_| {
            failed(
                format!("'{value}' is not a number"),
                "correct it in a step, or make the field a text in the layout",
            )
        })?;
        let scaled = number.rescaled(decimals).ok_or_else(|| {
            let what = format!("'{value}' has more than {decimals} decimals");
            failed(what, "round it with ROUND(COLUMN, 2)")
        })?;
        Ok(scaled.units.to_string())
    }
}

/// Something that a layout has no room for.
fn of_format(
    at: Option<At>,
    column: Option<&str>,
    what: String,
    hint: &'static str,
) -> EncodeError {
    EncodeError::OfFormat {
        at,
        column: column.map(str::to_owned),
        format: NAME,
        what,
        hint,
    }
}

impl RecordEncoder for FixedEncoder {
    fn begin(&self, out: &mut Vec<u8>) -> Result<(), EncodeError> {
        if self.bom {
            out.extend_from_slice(self.encoding.byte_order_mark().unwrap_or_default());
        }
        if self.has_header_line {
            let of = &self.layout.types[0];
            let mut line = self.blank(of);
            for field in &of.fields {
                let names = Field::text(field.name.clone(), field.area);
                self.put(&mut line, &names, &field.name, None)?;
            }
            self.push_line(&line, None, out)?;
        }
        self.frame(Role::Header, None, out)
    }

    fn record(&self, batch: &Batch, record: usize, out: &mut Vec<u8>) -> Result<(), EncodeError> {
        let at = batch.at(record);
        let place = match self.record_slot {
            None => self
                .layout
                .types
                .iter()
                .position(|of| of.role == Role::Data)
                .unwrap_or(0),
            Some(slot) => {
                let name = batch.field(record, slot).text();
                let mut types = self.layout.types.iter();
                let found =
                    types.position(|of| of.role == Role::Data && of.name.as_bytes() == &*name);
                found.ok_or_else(|| {
                    let what = format!(
                        "'{}' is not a record of the layout",
                        String::from_utf8_lossy(&name)
                    );
                    of_format(
                        Some(at),
                        Some(RECORD_COLUMN),
                        what,
                        "add it to the layout, or leave such records out with a condition",
                    )
                })?
            }
        };
        let of = &self.layout.types[place];
        let mut line = self.blank(of);
        for (field, slot) in of.fields.iter().zip(&self.slots[place]) {
            if let Some(constant) = &field.constant {
                self.put(&mut line, field, constant, Some(at))?;
                continue;
            }
            let Some(slot) = slot else { continue };
            let value = batch.field(record, *slot).text();
            let value = String::from_utf8_lossy(&value);
            if value.is_empty() {
                continue;
            }
            if value.contains(['\n', '\r']) {
                let what = "the value has a line end, and records are lines".to_owned();
                return Err(of_format(
                    Some(at),
                    Some(&field.name),
                    what,
                    "write csv, or replace it in a step",
                ));
            }
            let shown = self.shown(field, &value, at)?;
            self.put(&mut line, field, &shown, Some(at))?;
        }
        self.push_line(&line, Some(at), out)
    }

    fn moves_raw(&self) -> bool {
        false
    }

    fn end(&self, records: u64, out: &mut Vec<u8>) -> Result<(), EncodeError> {
        self.frame(Role::Trailer, Some(records), out)
    }
}
