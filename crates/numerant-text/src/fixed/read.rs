//! Reads fixed-width records: lines are cut at the characters that a layout says.

use std::collections::HashMap;

use numerant_data::dialect::Dialect;
use numerant_data::record::{At, Batch, Columns, RejectedRecord, Tag};
use numerant_data::source::{Place, ReadError, ReadProblem, SourcePath};
use numerant_data::value::{Moment, Number};
use numerant_format::{Ragged, ReadTally, RecordReader, SourceFacts};

use super::NAME;
use super::layout::{Align, Field, Kind, Layout, RecordType, Role};
use crate::DelimitedReader;

/// Reads the records of one file.
pub(super) struct FixedReader {
    lines: DelimitedReader,
    layout: Layout,
    /// For each type of records and each column of the table, the number of its field.
    fields: Vec<Vec<Option<usize>>>,
    types: HashMap<String, usize>,
    columns: Columns,
    header: Option<Batch>,
    facts: SourceFacts,
    ragged: Ragged,
    tally: ReadTally,
    batch: Batch,
    /// Records since the last header or trailer.
    counted: u64,
    /// Where a header said how many there are.
    announced: Option<(u64, u64)>,
}

/// What became of a line.
enum Line {
    /// It is a record of the table.
    Record,
    /// It is a header or trailer, and agrees.
    Frame,
    /// It has nothing on it.
    Blank,
}

impl FixedReader {
    /// Reads the lines of `lines` after a layout. `names` are those of the first line, if it has them.
    pub(super) fn new(
        lines: DelimitedReader,
        mut layout: Layout,
        names: Option<&str>,
        ragged: Ragged,
    ) -> Result<Self, ReadError> {
        let header_names = names.map(|line| {
            let fields = layout.types[0].fields.iter();
            let cut = Cut::new(line);
            fields
                .map(|field| cut.area(field).trim().to_owned())
                .collect::<Vec<_>>()
        });
        if let Some(names) = header_names {
            for (field, name) in layout.types[0].fields.iter_mut().zip(names) {
                if !name.is_empty() {
                    field.name = name;
                }
            }
        }
        let wanted = match layout.data().count() {
            1 => {
                let data = layout.data().next();
                let fields = data.into_iter().flat_map(|of| &of.fields);
                let read = fields.filter(|field| field.constant.is_none());
                read.map(|field| field.name.clone()).collect()
            }
            _ => layout.columns(),
        };
        let columns = Columns::from_header(&wanted);
        let fields = layout.types.iter().map(|of| places(of, &wanted)).collect();
        let types = layout.types.iter().enumerate();
        let types = types.map(|(place, of)| (of.tag.clone(), place)).collect();
        let inner = lines.facts();
        let facts = SourceFacts {
            written: inner.written,
            notes: inner.notes.clone(),
            // The line of the names is none that is skipped.
            skipped: inner.skipped - u64::from(names.is_some()),
            size: inner.size,
            compression: inner.compression,
            ..SourceFacts::of_values(
                NAME,
                Dialect::CELLS,
                std::sync::Arc::clone(&inner.taken),
                inner.unit,
            )
        };
        let mut header = Batch::default();
        facts.dialect.prepare(&mut header, columns.len());
        let has_names = layout.has_header_line
            || names.is_some()
            || layout.types[0].fields.iter().any(is_named);
        if has_names {
            push_record(columns.names(), &mut header);
            header.lines.push(1);
        }
        Ok(Self {
            header: has_names.then_some(header),
            lines,
            layout,
            fields,
            types,
            columns,
            facts,
            ragged,
            tally: ReadTally::default(),
            batch: Batch::default(),
            counted: 0,
            announced: None,
        })
    }

    /// Adds what is on a line to a batch.
    fn line(&mut self, line: &str, at: At, out: &mut Batch) -> Result<Line, Wrong> {
        if line.trim().is_empty() {
            return Ok(Line::Blank);
        }
        let cut = Cut::new(line);
        let place = match self.layout.tag {
            None => 0,
            Some(area) => {
                let tag = cut.text(area.start, area.end);
                *self.types.get(tag).ok_or_else(|| {
                    Wrong::record(
                        None,
                        format!("the tag '{tag}' is that of no record in the layout"),
                    )
                })?
            }
        };
        let of = &self.layout.types[place];
        let gap = self
            .layout
            .gaps
            .iter()
            .find(|gap| !cut.text(**gap, **gap + 1).trim().is_empty());
        if let Some(gap) = gap {
            return Err(Wrong::record(
                None,
                format!(
                    "character {} is not blank, and was in all lines that fields were detected from",
                    gap + 1
                ),
            ));
        }
        let rest = cut.text(of.width(), usize::MAX).trim_end();
        if !rest.is_empty() && self.ragged != Ragged::Pad {
            return Err(Wrong::record(
                None,
                format!(
                    "the layout describes {} characters, and '{rest}' follows",
                    of.width()
                ),
            ));
        }
        if of.role != Role::Data {
            return self.frame(place, &cut, at).map(|()| Line::Frame);
        }
        if let Some(field) = of.fields.iter().find(|field| {
            field
                .constant
                .as_ref()
                .is_some_and(|constant| cut.area(field).trim() != constant.trim())
        }) {
            return Err(Wrong::record(
                Some(&field.name),
                format!(
                    "'{}' is in the place of a constant of the layout",
                    cut.area(field)
                ),
            ));
        }
        let start = out.begin_record();
        let pushed = push_fields(
            of,
            &self.fields[place],
            self.layout.has_several(),
            &cut,
            out,
        );
        if let Err(wrong) = pushed {
            out.drop_record(start);
            return Err(wrong);
        }
        out.end_record(start);
        out.lines.push(at.number);
        self.counted += 1;
        Ok(Line::Record)
    }

    /// Checks a header or trailer.
    fn frame(&mut self, place: usize, cut: &Cut<'_>, at: At) -> Result<(), Wrong> {
        let of = &self.layout.types[place];
        let Some(field) = of.fields.iter().find(|field| field.counts) else {
            return Ok(());
        };
        let text = cut.area(field).trim();
        let said: u64 = text.parse().map_err(|_| {
            Wrong::frame(&field.name, format!("'{text}' is not a number of records"))
        })?;
        if of.role == Role::Header {
            self.announced = Some((said, at.number));
            self.counted = 0;
            return Ok(());
        }
        let found = std::mem::take(&mut self.counted);
        if said == found {
            Ok(())
        } else {
            Err(Wrong::frame(
                &field.name,
                format!("the trailer states {said} records, and there are {found}"),
            ))
        }
    }

    /// Checks what a header said, when all is read.
    fn check_announced(&self) -> Result<(), ReadError> {
        match self.announced {
            Some((said, line)) if said != self.tally.records => {
                let what = format!(
                    "the header states {said} records, and there are {}",
                    self.tally.records
                );
                Err(self.error(
                    At {
                        unit: self.facts.unit,
                        number: line,
                    },
                    None,
                    what,
                ))
            }
            _ => Ok(()),
        }
    }

    fn error(&self, at: At, column: Option<&str>, what: String) -> ReadError {
        let place = Place {
            at: Some(at),
            character: None,
            column: column.map(Into::into),
        };
        let hint = "check that the layout matches the file; or let the run reject such records, and count them";
        self.path()
            .error_at(place, ReadProblem::OfFormat { what, hint })
    }
}

/// What is wrong with a line.
struct Wrong {
    column: Option<String>,
    what: String,
    /// It is a header or trailer, without which nothing says that the records are all.
    is_frame: bool,
}

impl Wrong {
    fn record(column: Option<&str>, what: String) -> Self {
        Self {
            column: column.map(str::to_owned),
            what,
            is_frame: false,
        }
    }

    fn frame(column: &str, what: String) -> Self {
        Self {
            column: Some(column.to_owned()),
            what,
            is_frame: true,
        }
    }
}

/// Whether a field has a name of its own.
fn is_named(field: &Field) -> bool {
    !field.name.starts_with("column_")
}

/// For each column the number of the field that it is, in records of a type.
fn places(of: &RecordType, columns: &[String]) -> Vec<Option<usize>> {
    let field = |name: &String| {
        let mut fields = of.fields.iter();
        fields.position(|field| field.name == *name && field.constant.is_none())
    };
    columns.iter().map(field).collect()
}

/// A line that is cut by characters.
struct Cut<'l> {
    line: &'l str,
    /// Where each character begins, if not all are of one byte.
    starts: Vec<usize>,
}

impl<'l> Cut<'l> {
    fn new(line: &'l str) -> Self {
        let starts = if line.is_ascii() {
            Vec::new()
        } else {
            line.char_indices().map(|(at, _)| at).collect()
        };
        Self { line, starts }
    }

    /// The characters from one to before another, as far as the line has them.
    fn text(&self, start: usize, end: usize) -> &'l str {
        let byte = |character: usize| {
            if self.starts.is_empty() {
                character.min(self.line.len())
            } else {
                self.starts
                    .get(character)
                    .copied()
                    .unwrap_or(self.line.len())
            }
        };
        &self.line[byte(start)..byte(end)]
    }

    fn area(&self, field: &Field) -> &'l str {
        self.text(field.area.start, field.area.end)
    }
}

/// Adds the fields of a record.
fn push_fields(
    of: &RecordType,
    places: &[Option<usize>],
    has_several: bool,
    cut: &Cut<'_>,
    out: &mut Batch,
) -> Result<(), Wrong> {
    for (column, place) in places.iter().enumerate() {
        let tag = match place {
            Some(place) => push_value(&of.fields[*place], cut, &mut out.bytes)?,
            None if column == 0 && has_several => {
                out.bytes.extend_from_slice(of.name.as_bytes());
                Tag::TEXT
            }
            None => Tag::PLAIN,
        };
        out.end_field(tag);
    }
    Ok(())
}

/// Adds a value, and returns its tag.
fn push_value(field: &Field, cut: &Cut<'_>, out: &mut Vec<u8>) -> Result<Tag, Wrong> {
    let whole = cut.area(field);
    let failed = |what: String| Wrong::record(Some(&field.name), what);
    let value = match field.align {
        Align::Left => whole.trim_end_matches(field.fill),
        Align::Right => whole.trim_start_matches(field.fill),
    };
    let value = match &field.kind {
        Kind::Text => value.trim_matches(' '),
        _ => whole.trim(),
    };
    match &field.kind {
        Kind::Text => {
            out.extend_from_slice(value.as_bytes());
            return Ok(Tag::TEXT);
        }
        _ if value.is_empty() => {}
        Kind::Integer => {
            let number =
                number(value, 0).ok_or_else(|| failed(format!("'{value}' is not an integer")))?;
            out.extend_from_slice(number.to_string().as_bytes());
        }
        Kind::Decimal(decimals) => {
            let number = number(value, *decimals)
                .ok_or_else(|| failed(format!("'{value}' is not a number of digits alone")))?;
            out.extend_from_slice(number.to_string().as_bytes());
        }
        Kind::Date(format) => {
            // A date of zeros or blanks is none.
            if value.chars().all(|character| character == '0') {
                return Ok(Tag::PLAIN);
            }
            let moment = Moment::parse(value.as_bytes(), std::slice::from_ref(format));
            let moment = moment.ok_or_else(|| {
                failed(format!(
                    "'{value}' is not a date after {}",
                    String::from(format.clone())
                ))
            })?;
            out.extend_from_slice(moment.date.to_string().as_bytes());
        }
    }
    Ok(Tag::PLAIN)
}

/// A number of digits with a sign in front or after, and a point that is not written.
fn number(text: &str, decimals: u32) -> Option<Number> {
    let (text, is_negative) = match text.strip_prefix('-').or(text.strip_suffix('-')) {
        Some(digits) => (digits, true),
        None => (
            text.strip_prefix('+')
                .or(text.strip_suffix('+'))
                .unwrap_or(text),
            false,
        ),
    };
    let are_digits = !text.is_empty() && text.bytes().all(|byte| byte.is_ascii_digit());
    let units: i128 = text.parse().ok().filter(|_| are_digits)?;
    Some(Number {
        units: if is_negative { -units } else { units },
        scale: decimals,
    })
}

/// Makes a record of texts.
fn push_record(values: &[String], batch: &mut Batch) {
    if values.is_empty() {
        return;
    }
    let start = batch.begin_record();
    for value in values {
        batch.bytes.extend_from_slice(value.as_bytes());
        batch.end_field(Tag::TEXT);
    }
    batch.end_record(start);
}

impl RecordReader for FixedReader {
    fn columns(&self) -> &Columns {
        &self.columns
    }

    fn header(&self) -> Option<&Batch> {
        self.header.as_ref()
    }

    fn facts(&self) -> &SourceFacts {
        &self.facts
    }

    fn name(&self) -> String {
        self.lines.name()
    }

    fn path(&self) -> &SourcePath {
        self.lines.path()
    }

    fn next_batch(&mut self, batch: &mut Batch) -> Result<bool, ReadError> {
        batch.clear_all();
        self.facts.dialect.prepare(batch, self.columns.len());
        batch.unit = self.facts.unit;
        let mut lines = std::mem::take(&mut self.batch);
        loop {
            if !self.lines.next_batch(&mut lines)? {
                self.batch = lines;
                self.check_announced()?;
                return Ok(false);
            }
            for place in 0..lines.len() {
                let text = lines.field(place, 0).text();
                let line = String::from_utf8_lossy(&text);
                let at = lines.at(place);
                match self.line(&line, at, batch) {
                    Ok(Line::Record) => self.tally.records += 1,
                    Ok(Line::Frame) => {}
                    Ok(Line::Blank) => self.tally.blank_lines += 1,
                    Err(wrong) if self.ragged == Ragged::Reject && !wrong.is_frame => {
                        self.counted += 1;
                        self.tally.records += 1;
                        self.tally.rejected += 1;
                        batch.rejected.push(RejectedRecord {
                            line: at.number,
                            reason: wrong.what,
                            raw: lines.raw(place).to_vec(),
                            as_it_is: true,
                        });
                    }
                    Err(wrong) => {
                        return Err(self.error(at, wrong.column.as_deref(), wrong.what));
                    }
                }
            }
            if !batch.is_empty() || !batch.rejected.is_empty() {
                self.batch = lines;
                return Ok(true);
            }
        }
    }

    fn tally(&self) -> ReadTally {
        ReadTally {
            end_marks: self.lines.tally().end_marks,
            ..self.tally.clone()
        }
    }
}
