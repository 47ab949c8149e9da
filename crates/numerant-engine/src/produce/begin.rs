//! A source begins: steps and keys are made ready for it, and what its records become is settled.

use std::path::PathBuf;
use std::sync::Arc;

use super::super::addresses::{SourceNames, table_of};
use super::super::header::{Header, header};
use super::super::notice::{ValuesBecause, not_as_named, note};
use super::super::{Error, Notice, prepare};
use super::Producer;
use super::document::Foot;
use crate::job::{Job, JobError, LikeSourceConflict};
use numerant_data::dialect::{Delimiter, Dialect, Quote};
use numerant_data::record::{At, Tagging, Unit};
use numerant_data::source::{Place, ReadError, ReadProblem, SourcePath};
use numerant_data::value::{ColumnType, DecimalMark};
use numerant_format::sheet::{ColumnStyle, Limits, SpooledColumn, Spooler};
use numerant_format::{Document, Fields, RecordEncoder, RecordReader, TreeFacts};
use numerant_formats::format_named;
use numerant_naming::route::KeyValues;
use numerant_naming::{RunField, Template};
use numerant_text::DelimitedEncoder;

/// A source begins.
pub(crate) struct SourceBegins {
    pub(crate) name: String,
    /// The file that it is.
    pub(crate) path: SourcePath,
    /// What its records become.
    pub(crate) mode: OutputMode,
    /// Turns its rejected records into bytes of the rejects file.
    pub(crate) reject_encoder: Arc<dyn RecordEncoder>,
    /// The dialect of its batches.
    pub(crate) dialect: Dialect,
    /// The dialect of the rejects file.
    pub(crate) reject_dialect: Dialect,
    pub(crate) unit: Unit,
}

/// What records become.
#[derive(Clone)]
pub(crate) enum OutputMode {
    /// Bytes of outputs, at once.
    Bytes(Arc<dyn RecordEncoder>),
    /// Rows of sheets, when all are known. Sources with the same number share the types of their
    /// columns.
    Rows(Arc<Spooler>, usize),
    /// Nothing: the sheet that they are from comes out as it is.
    Sheet(Arc<SourceSheet>),
    /// Rows of the sheet that they are from, verbatim but for computed columns.
    OwnRows(Arc<SourceSheet>, Option<Arc<Spooler>>),
}

/// A sheet that comes out as it is.
#[derive(Debug)]
pub(crate) struct SourceSheet {
    /// The workbook.
    pub(crate) book: PathBuf,
    /// Its name.
    pub(crate) name: String,
    /// The row that names its columns.
    pub(crate) above: u32,
    /// The column after its records, from 0.
    pub(crate) end_column: u32,
    /// Where its computed columns stand, from 0, in ascending order.
    pub(crate) computed: Vec<u32>,
}

impl Producer {
    /// Makes steps and keys ready for a source, if its columns are not those of the one before.
    pub(super) fn rebind(&mut self, reader: &dyn RecordReader) -> Result<bool, Error> {
        if !self.plan.is_by_source() || self.bound == reader.columns().names() {
            return Ok(false);
        }
        let mut pipeline = prepare::pipeline_for(
            &self.plan.job,
            reader.columns(),
            &self.inputs,
            &self.context,
        )?;
        pipeline
            .carry(&self.pipeline)
            .map_err(|problem| Error::step(reader.name(), At::header(), problem))?;
        let layout = pipeline.layout();
        let place = |name: &str| {
            layout
                .find(name)
                .map(|column| (column.slot, column.computed))
        };
        self.router.rebind(place).map_err(|problem| Error::Column {
            likely_header: None,
            source_name: reader.name(),
            problem,
        })?;
        self.pipeline = pipeline;
        self.first_dialect = None;
        Ok(true)
    }

    /// The number of the set of sources that a source shares the types of its columns with, which
    /// then must have its columns.
    fn set_of(&mut self, reader: &dyn RecordReader, shared: &KeyValues) -> Result<usize, Error> {
        let names = reader.columns().names();
        let shared = if self.plan.is_by_source() {
            shared.clone()
        } else {
            KeyValues::new()
        };
        let new = self.sets.len();
        let set = self.sets.entry(shared);
        let (set, first, columns) = set.or_insert_with(|| (new, reader.name(), names.to_vec()));
        if columns != names {
            let first = first.clone();
            let difference = "the records of both would go into the same outputs".to_owned();
            return Err(Error::Read(ReadError {
                source_name: reader.name(),
                place: Place::default(),
                problem: ReadProblem::OtherColumns { first, difference },
            }));
        }
        Ok(*set)
    }

    pub(super) fn begin_source(
        &mut self,
        reader: &mut dyn RecordReader,
    ) -> Result<(SourceBegins, Option<Foot>), Error> {
        let own = self.copies_records(reader);
        let mut patcher = None;
        if !own {
            patcher = self.patcher(reader)?;
        }
        if own {
            let wanted = self.wanted(reader);
            if let Some(document) = reader.document_mut() {
                document.keep_own(wanted);
            }
        } else if patcher.is_some() {
            if let Some(document) = reader.document_mut() {
                document.keep_texts();
            }
        } else {
            let needed = self.needed(reader);
            let in_use = |name: &str| needed.iter().any(|needed| needed == name);
            let document = reader.document();
            if let Some(error) = document.and_then(|document| document.long_list(&in_use)) {
                return Err(Error::Read(error));
            }
            let names_more = document.and_then(Document::occurrences).is_some();
            if let Some(document) = reader.document_mut().filter(|_| names_more) {
                document.only(&needed);
            }
        }
        let reader = &*reader;
        let name = reader.name();
        let facts = reader.facts().clone();
        let path = reader.path();
        if let Some(notice) = not_as_named(reader) {
            note(&mut self.notices, notice);
        }
        if let Some(document) = reader.document().filter(|_| !own) {
            self.note_records(&name, document.facts());
        }
        // What the columns of a sheet are called matters not where it comes out as it is.
        let notes = if self.plan.keeps_sheets {
            &[]
        } else {
            reader.columns().notes()
        };
        for note in notes {
            self.notices.push(Notice::Header {
                source: name.clone(),
                note: note.clone(),
            });
        }
        let notes = facts.notes.iter().cloned();
        self.notices
            .extend(notes.map(|note| Notice::text(&name, note)));
        if facts.detected.is_some_and(|found| found.single_column) {
            self.notices.push(Notice::SingleColumn {
                source: name.clone(),
            });
        }
        let shared = shared_values(&self.plan.template, &self.plan.job, reader);
        let set = self.set_of(reader, &shared)?;
        reader.columns().names().clone_into(&mut self.bound);
        self.router.begin_source(shared);
        self.addresses.begin_source(SourceNames {
            stem: path.stem(),
            extension: path.extension(),
            folder: path.folder(),
            sheet: facts.sheet.clone().unwrap_or_else(|| path.stem()),
        });
        let dialect = facts.dialect;
        // An output can hold records of several sources, so all outputs follow the first.
        let lines = self.plan.job.moves_lines(self.format);
        let out = *self.out_dialect.get_or_insert_with(|| {
            self.plan.job.write.dialect(
                self.plan.job.written_as(&self.plan.extension),
                facts.written,
                &path.extension(),
            )
        });
        // Lines are moved verbatim, whatever ends those of the first source.
        let out = if lines { dialect } else { out };
        let first = *self.first_dialect.get_or_insert(dialect);
        let from = if self.pipeline.sort().is_empty() {
            dialect
        } else {
            first
        };
        let keep_line_ends = self.plan.job.write.line_end.is_none()
            && out.line_end == from.line_end
            && facts.regular_line_ends;
        let kept = self.kept_sheet(reader);
        let layout = self.pipeline.layout();
        let width = reader.columns().len();
        let mut above = header(reader.header(), layout);
        if let Some((header, _)) = &mut above {
            from.bring(header);
        }
        self.encoder = None;
        let mut foot = None;
        let mode = match self.format.capabilities().workbook {
            Some(_) if let Some(kept) = kept => {
                if self.plan.job.like_source {
                    let mut kept = kept;
                    let computed = self.computed(reader, above.as_ref(), kept.end_column)?;
                    let spooler = computed.map(|(spooler, places)| {
                        kept.computed = places;
                        Arc::new(spooler)
                    });
                    OutputMode::OwnRows(Arc::new(kept), spooler)
                } else {
                    OutputMode::Sheet(Arc::new(kept))
                }
            }
            Some(_) if self.plan.job.like_source => {
                let problem = ReadProblem::NoLook {
                    format: facts.format,
                };
                return Err(path.error(problem).into());
            }
            Some(room) => {
                let is_document = reader.document().is_some();
                let styles = if self.plan.job.write.plain {
                    Vec::new()
                } else {
                    reader.column_styles()?
                };
                let mut spooler = self.spooler(room, from, is_document, above.as_ref(), &styles);
                spooler.group = self.group(reader)?;
                spooler.check().map_err(|problem| Error::Encode {
                    path: self.plan.out.display().to_string(),
                    source_name: name.clone(),
                    problem: Box::new(problem),
                })?;
                OutputMode::Rows(Arc::new(spooler), set)
            }
            None => {
                let encoder: Arc<dyn RecordEncoder> = match patcher {
                    Some(patcher) => patcher,
                    None => {
                        let fields = Fields {
                            dialect: from,
                            width,
                            selection: layout.selection(width),
                            header: above,
                            keep_line_ends,
                        };
                        let (encoder, its_foot) = self.document(fields, reader, out, own)?;
                        foot = its_foot;
                        encoder
                    }
                };
                self.encoder = Some(Arc::clone(&encoder));
                OutputMode::Bytes(encoder)
            }
        };
        let as_it_stands = reader
            .header()
            .map(|header| (header.first_as_batch(), None));
        let is_written = facts.written.has_fields_of(&facts.written);
        let reject_dialect = if dialect.is_tagged() || !is_written {
            Dialect {
                delimiter: Delimiter::COMMA,
                quote: Quote::Byte(b'"'),
                tagging: Tagging::None,
                ..dialect
            }
        } else {
            dialect
        };
        let reject_encoder =
            DelimitedEncoder::new(dialect, reject_dialect, None, width, as_it_stands, true);
        let begins = SourceBegins {
            path: path.clone(),
            name,
            mode,
            reject_encoder: Arc::new(reject_encoder),
            dialect,
            reject_dialect,
            unit: facts.unit,
        };
        Ok((begins, foot))
    }

    /// The sheet that a source is, if it comes out as it is.
    fn kept_sheet(&mut self, reader: &dyn RecordReader) -> Option<SourceSheet> {
        let facts = reader.facts();
        let name = facts.sheet.clone()?;
        let can = self.format.capabilities();
        let is_kept_format = if self.plan.job.like_source {
            can.cuts_rows
        } else {
            can.copies_sheets
        };
        let is_packed = !reader.path().extension().eq_ignore_ascii_case("fods");
        // Sheets are drawn from what rows can be cut out of.
        let is_drawn = can.draws_sheets
            && format_named(facts.format).is_some_and(|format| format.capabilities().cuts_rows);
        let is_same = (facts.format == self.format.name() || is_drawn) && is_packed;
        let is_open = is_same && is_kept_format;
        let path = reader.path();
        let keeps = self.plan.keeps_sheets || self.plan.job.like_source;
        let because = match path {
            SourcePath::File(book) if keeps && is_open && facts.compression.is_none() => {
                let header = reader.header().map_or(0, |header| header.at(0).number);
                return Some(SourceSheet {
                    book: book.clone(),
                    name,
                    above: u32::try_from(header).unwrap_or(u32::MAX),
                    end_column: reader.sheet().map_or(0, |sheet| sheet.end_column),
                    computed: Vec::new(),
                });
            }
            _ if self.plan.job.like_source => return None,
            _ if self.plan.keeps_sheets && is_open => ValuesBecause::Packed,
            _ if self.plan.keeps_sheets => ValuesBecause::Format,
            _ if self.plan.job.is_by_sheet() && is_open => ValuesBecause::Changed,
            _ => return None,
        };
        let only_values = Notice::OnlyValues {
            workbook: path.to_string(),
            because,
        };
        note(&mut self.notices, only_values);
        None
    }

    /// Takes note of where the records of a document were found, if there was a choice.
    fn note_records(&mut self, name: &str, facts: &TreeFacts) {
        if !facts.found || (facts.others.is_empty() && facts.beside.is_empty()) {
            return;
        }
        let records = Notice::Records {
            source: name.to_owned(),
            more: 0,
            found: facts.clone(),
        };
        note(&mut self.notices, records);
    }

    /// What keeps the computed columns of a sheet whose rows are copied verbatim, and the place of each in the
    /// sheet, from 0; `None` if there are none.
    fn computed(
        &self,
        reader: &dyn RecordReader,
        above: Option<&Header>,
        end_column: u32,
    ) -> Result<Option<(Spooler, Vec<u32>)>, Error> {
        let columns = self.pipeline.layout().columns();
        let names = reader.columns().names();
        let is_whole = columns.len() >= names.len()
            && columns
                .iter()
                .zip(names)
                .zip(0..)
                .all(|((column, name), slot)| {
                    column.name == *name && (column.computed || column.slot == slot)
                })
            && columns[names.len()..].iter().all(|column| column.computed);
        if !is_whole {
            return Err(JobError::LikeSource(LikeSourceConflict::Columns).into());
        }
        let Some(room) = self.format.capabilities().workbook else {
            return Ok(None);
        };
        let mut spooler = self.spooler(room, reader.facts().dialect, false, above, &[]);
        let naming = self.plan.job.naming_columns();
        let put = columns.iter().enumerate();
        let put = put.filter(|(_, column)| !naming.contains(&column.name));
        let width = names.len() as u32;
        let mut next = end_column;
        let places: Vec<Option<u32>> = put
            .map(|(place, column)| {
                let place = place as u32;
                if !column.computed {
                    return None;
                }
                if place < width {
                    return Some(end_column + place - width);
                }
                next += 1;
                Some(next - 1)
            })
            .collect();
        let mut keep = places.iter();
        spooler
            .columns
            .retain(|_| keep.next().is_some_and(Option::is_some));
        if let Some(header) = &mut spooler.header {
            let mut keep = places.iter();
            header.retain(|_| keep.next().is_some_and(Option::is_some));
        }
        let places: Vec<u32> = places.into_iter().flatten().collect();
        Ok(Some((spooler, places)).filter(|(_, places)| !places.is_empty()))
    }

    /// What keeps the records of a source for the sheets of `book`.
    fn spooler(
        &self,
        room: Limits,
        dialect: Dialect,
        is_document: bool,
        above: Option<&Header>,
        styles: &[ColumnStyle],
    ) -> Spooler {
        let layout = self.pipeline.layout();
        let naming = self.plan.job.naming_columns();
        let is_put = |name: &String| !naming.contains(name);
        let put: Vec<bool> = layout
            .columns()
            .iter()
            .map(|column| is_put(&column.name))
            .collect();
        let header: Option<Vec<String>> = above.map(|(header, places)| {
            let text = |place: usize| {
                let text = header.field(0, place).text();
                String::from_utf8_lossy(&text).into_owned()
            };
            match places {
                Some(places) => places.iter().map(|place| text(*place)).collect(),
                None => (0..header.width()).map(text).collect(),
            }
        });
        let header = header.map(|header| {
            let texts = header.into_iter().zip(&put);
            texts
                .filter(|(_, put)| **put)
                .map(|(text, _)| text)
                .collect()
        });
        let columns = layout.columns().iter().zip(&put).filter(|(_, put)| **put);
        // The header of a computed column looks like the one next to it.
        let mut beside = styles.first().and_then(|style| style.header);
        let columns = columns.map(|(column, _)| {
            // Computed numbers are numbers, however many digits each has after its point. They are written with a
            // comma where that was said of the source.
            let number = column.computed && column.kind == numerant_steps::expr::Type::Number;
            let commas = self.pipeline.cells().mark == DecimalMark::Comma;
            // What is computed from dates of cells is dates, with or without times.
            let moment = column.like.is_some() && column.kind == numerant_steps::expr::Type::Moment;
            let stated = |slot: usize| styles.get(slot).copied().unwrap_or_default();
            let style = if column.computed {
                let alignment = column.like.map(|slot| stated(slot).alignment);
                ColumnStyle {
                    width: None,
                    alignment: alignment.unwrap_or_default(),
                    header: beside,
                }
            } else {
                stated(column.slot)
            };
            beside = style.header;
            SpooledColumn {
                slot: column.slot,
                stored: (dialect.has_types() && !column.computed) || (number && !commas),
                exact: dialect.has_types() && !column.computed && is_document,
                declared: column
                    .declared
                    .or((number && commas).then_some(ColumnType::Decimal))
                    .or(moment.then_some(ColumnType::Datetime)),
                formatted_as: match column.like {
                    _ if self.plan.job.write.plain => None,
                    like if column.computed => like,
                    _ => Some(column.slot),
                },
                style,
            }
        });
        Spooler {
            columns: columns.collect(),
            header,
            cells: self.pipeline.cells().clone(),
            hints: self.plan.job.written_hints(),
            limits: room,
            format: self.format.name(),
            control_characters: self.plan.job.write.control_characters,
            group: None,
        }
    }

    /// The place of the column whose values are groups on pages, among those that are written.
    fn group(&self, reader: &dyn RecordReader) -> Result<Option<usize>, Error> {
        let Some(name) = &self.plan.job.pages.group_by else {
            return Ok(None);
        };
        let layout = self.pipeline.layout();
        layout.find(name).map_err(|problem| Error::Column {
            source_name: reader.name(),
            problem,
            likely_header: None,
        })?;
        let place = layout
            .columns()
            .iter()
            .position(|column| column.name == *name);
        match place {
            Some(place) => Ok(Some(place)),
            None => Err(JobError::GroupLeftOut(name.clone()).into()),
        }
    }

    /// Tells the divider how many bytes are before the first record of an output.
    pub(super) fn measure_header(&mut self, begins: &SourceBegins) -> Result<(), Error> {
        let mut bytes = Vec::new();
        let OutputMode::Bytes(encoder) = &begins.mode else {
            return Ok(());
        };
        let framed = encoder
            .begin(&mut bytes)
            .and_then(|()| encoder.end(1, &mut bytes));
        framed.map_err(|problem| Error::Encode {
            path: self.plan.out.display().to_string(),
            source_name: begins.name.clone(),
            problem: Box::new(problem),
        })?;
        self.divider.set_header(bytes.len() as u64);
        Ok(())
    }
}

/// What all records of a source share in the names of outputs.
pub(super) fn shared_values(
    template: &Template,
    job: &Job,
    reader: &dyn RecordReader,
) -> KeyValues {
    let path = reader.path();
    let besides: Vec<&Template> = job.sheet.iter().chain(job.pages.templates()).collect();
    let named = |field| {
        let in_besides = besides.iter().any(|template| template.names(field));
        template.names(field) || in_besides
    };
    let mut shared = Vec::new();
    if job.is_by_sheet() {
        shared.push(reader.name());
    }
    if job.fill.template.is_some() {
        let table = table_of(job, &PathBuf::from(path.clone()));
        shared.push(table.map_or_else(String::new, |table| table.to_string()));
    }
    if named(RunField::Stem) {
        shared.push(path.stem());
    }
    if named(RunField::Extension) {
        shared.push(path.extension());
    }
    if named(RunField::Folder) {
        shared.push(path.folder());
    }
    if named(RunField::Sheet) {
        let sheet = reader.facts().sheet.clone();
        shared.push(sheet.unwrap_or_else(|| path.stem()));
    }
    shared
}
