//! Outputs that are documents: which form their records take.

use std::collections::HashSet;
use std::sync::{Arc, OnceLock};

use super::super::notice::note;
use super::super::{Error, Notice, prepare};
use super::Producer;
use numerant_data::dialect::Dialect;
use numerant_data::encoding::Encoding;
use numerant_data::tree::ListLayout;
use numerant_data::value::ColumnType;
use numerant_format::column::{Found, TextColumn, Typing};
use numerant_format::sheet::Types;
use numerant_format::{
    Document, DocumentNames, EncodeError, EncoderRequest, Fields, Patch, PatchColumn,
    RecordEncoder, RecordReader, Verbatim, VerbatimEncoder,
};
use numerant_shapes::{Shape, ShapeEncoder, ShapeForm, ShapeProblem};
use numerant_steps::expr::Type;
use numerant_steps::{LayoutColumn, Step};

/// What is after the records of a document, to be filled in when all are read.
pub(super) type Foot = Arc<OnceLock<Vec<u8>>>;

impl Producer {
    /// Whether the records of a source are to be written as they are in it.
    pub(super) fn copies_records(&self, reader: &dyn RecordReader) -> bool {
        let write = &self.plan.job.write;
        let plain = self.plan.job.read.blank_values.is_empty()
            && write.types == Types::Auto
            && self.format.writes_as_usual(&write.of_formats)
            && write.shape.is_none()
            && write.out_encoding.is_none_or(Encoding::is_utf8);
        let steps = self.plan.job.steps.iter();
        let only_chosen = steps.into_iter().all(|step| matches!(step, Step::Where(_)));
        let rows = matches!(self.plan.job.read.lists, Some(ListLayout::Rows(_)));
        let document = reader.document();
        // The names of members that are records are columns, and are in none of their texts.
        let is_keyed = document.is_some_and(Document::is_keyed);
        let to = self.format.name();
        let same = document.is_some_and(|document| {
            self.verbatim(reader.facts().format, document).is_some()
                || document.writer(to, write).is_some()
        });
        let as_they_are =
            self.plan.job.from_name.is_none() && self.plan.job.source_column.is_none();
        plain
            && as_they_are
            && only_chosen
            && !rows
            && !is_keyed
            && same
            && !self.plan.job.read.no_prefixes
    }

    /// How records of a document are copied verbatim, if the format of the outputs has a way.
    fn verbatim(&self, source: &str, document: &dyn Document) -> Option<Verbatim> {
        let alone = self.plan.is_by_source() || self.plan.job.sources.len() == 1;
        self.format.verbatim(source, document, alone)
    }

    /// What writes the records of a source with the changes that columns have, in the order of their parts
    /// there, if they have one.
    pub(super) fn patcher(
        &self,
        reader: &dyn RecordReader,
    ) -> Result<Option<Arc<dyn RecordEncoder>>, Error> {
        let patcher = self.patch(reader).transpose();
        patcher.map_err(|problem| self.encode_error(reader, problem))
    }

    fn patch(
        &self,
        reader: &dyn RecordReader,
    ) -> Option<Result<Arc<dyn RecordEncoder>, EncodeError>> {
        let document = reader.document()?;
        let rows = matches!(self.plan.job.read.lists, Some(ListLayout::Rows(_)));
        if rows || self.plan.job.write.shape.is_some() {
            return None;
        }
        let names = reader.columns().names();
        let columns = self.pipeline.layout().columns().iter();
        let columns: Vec<PatchColumn> = columns
            .map(|column| PatchColumn {
                name: column.name.clone(),
                slot: column.slot,
                source: names.get(column.slot).filter(|_| !column.computed).cloned(),
            })
            .collect();
        let patcher = document.patcher(&Patch {
            to: self.format.name(),
            columns: &columns,
            source: names,
            policy: self.plan.job.write.control_characters,
        })?;
        // Records that are sorted across sources are written as those of the last.
        let alone = self.plan.is_by_source() || self.plan.job.sources.len() == 1;
        if alone || self.pipeline.sort().is_empty() {
            Some(patcher)
        } else {
            Some(Err(EncodeError::SortedSources))
        }
    }

    /// The columns that are needed though records are written verbatim; `None` if all may be.
    pub(super) fn wanted(&self, reader: &dyn RecordReader) -> Option<Vec<bool>> {
        // A condition that holds for any of several values names columns that its words do not.
        let names_more = reader.document().and_then(Document::occurrences).is_some();
        if !self.plan.job.case.is_empty() || (names_more && !self.plan.job.steps.is_empty()) {
            return None;
        }
        let keys = self.plan.keys.clone();
        let mut named: HashSet<String> = keys.into_iter().map(|key| key.column).collect();
        named.extend(self.plan.job.words());
        let columns = reader.columns().names().iter().enumerate();
        // The first tells outputs apart in plans.
        let wanted = columns.map(|(place, name)| place == 0 || named.contains(name));
        Some(wanted.collect())
    }

    /// The columns of a source that outputs have, or that the job names.
    pub(super) fn needed(&self, reader: &dyn RecordReader) -> Vec<String> {
        let names = reader.columns().names();
        let columns = self.pipeline.layout().columns().iter();
        let sourced = columns.filter(|column| !column.computed);
        let written = sourced.filter_map(|column| names.get(column.slot).cloned());
        let keys = self
            .plan
            .job
            .keys(&self.plan.template)
            .into_iter()
            .map(|key| key.column);
        written.chain(keys).chain(self.plan.job.words()).collect()
    }

    /// What writes the records of a source as text.
    pub(super) fn document(
        &mut self,
        fields: Fields,
        reader: &dyn RecordReader,
        out: Dialect,
        own: bool,
    ) -> Result<(Arc<dyn RecordEncoder>, Option<Foot>), Error> {
        let document = reader.document();
        if own && let Some(document) = document {
            if let Some(verbatim) = self.verbatim(reader.facts().format, document) {
                let foot = verbatim.has_foot.then(Foot::default);
                let Verbatim {
                    around, one_line, ..
                } = verbatim;
                let encoder = VerbatimEncoder::new(around, foot.clone(), one_line);
                return Ok((Arc::new(encoder), foot));
            }
            if let Some(writer) = document.writer(self.format.name(), &self.plan.job.write) {
                return Ok((writer, None));
            }
        }
        if let Some(shape) = self.plan.shape.clone() {
            return Ok((self.shape(shape, reader)?, None));
        }
        let redeclared = document.and_then(Document::redeclared);
        if let Some(redeclared) = redeclared.filter(|_| self.format.capabilities().has_namespaces) {
            let problem = EncodeError::Redeclared(redeclared);
            return Err(self.encode_error(reader, problem));
        }
        let request = EncoderRequest {
            columns: self.text_columns(reader)?,
            cells: self.pipeline.cells().clone(),
            read: &self.plan.job.read,
            write: &self.plan.job.write,
            out,
            fields,
            document: document.map(|document| DocumentNames {
                elements: document.facts().elements.clone(),
                namespaces: document.namespaces().to_vec(),
            }),
        };
        let new = self.format.encoder(request);
        let new = new.map_err(|problem| self.encode_error(reader, problem))?;
        if let Some(example) = new.nested {
            note(&mut self.notices, Notice::Nested { example });
        }
        if !new.renamed.is_empty() {
            note(&mut self.notices, Notice::NamesMadeLegal(new.renamed));
        }
        Ok((new.encoder, None))
    }

    /// What writes records in the form of a shape.
    fn shape(
        &self,
        shape: Shape,
        reader: &dyn RecordReader,
    ) -> Result<Arc<dyn RecordEncoder>, Error> {
        let written = self.text_columns(reader)?;
        let layout = self.pipeline.layout();
        for (name, line) in shape.conditions() {
            let is_condition = |column: &LayoutColumn| column.kind == Type::Boolean;
            if !layout.find(&name).is_ok_and(is_condition) {
                let what = format!("'{}' is not a condition", name.trim_start_matches("= "));
                return Err(Box::new(shape.error(line, ShapeProblem::Mark(what))).into());
            }
        }
        let mut columns = Vec::new();
        let known: Vec<&str> = layout
            .columns()
            .iter()
            .map(|column| column.name.as_str())
            .collect();
        for (name, line) in shape.columns(&known) {
            if let Some(column) = written.iter().find(|column| column.name == name) {
                columns.push(column.clone());
                continue;
            }
            let found = layout
                .find(&name)
                .map_err(|problem| Box::new(shape.error(line, ShapeProblem::Column(problem))))?;
            // Columns that are dropped can still be used; their types were not looked for.
            let own = reader.facts().dialect.has_types() && !found.computed;
            columns.push(TextColumn {
                name,
                slot: found.slot,
                typing: if own && found.declared.is_none() {
                    Typing::AsInSource
                } else {
                    typing(found, Found::Text)
                },
                tells_blanks: reader.document().is_some() && !found.computed,
                scan: self.plan.scan.clone(),
            });
        }
        let write = &self.plan.job.write;
        let form = ShapeForm {
            as_lines: self.format.capabilities().is_line_by_line,
            max_kept: usize::try_from(self.plan.job.memory.0 / 2).unwrap_or(usize::MAX),
            ..ShapeForm::of(write, self.pipeline.cells().clone())
        };
        Ok(Arc::new(ShapeEncoder::new(shape, columns, form)))
    }

    pub(super) fn encode_error(&self, reader: &dyn RecordReader, problem: EncodeError) -> Error {
        Error::Encode {
            path: self.plan.out.display().to_string(),
            source_name: reader.name(),
            problem: Box::new(problem),
        }
    }

    /// The columns that are written, with the types of their values.
    pub(super) fn text_columns(&self, reader: &dyn RecordReader) -> Result<Vec<TextColumn>, Error> {
        let dialect = reader.facts().dialect;
        let found = match &self.types {
            Some(found) => Some(found.clone()),
            None if self.plan.needs_types(self.format) && self.plan.is_by_source() => {
                let path = Some(reader.path());
                let (pipeline, scan) = (&self.pipeline, &self.plan.scan);
                let context = &self.context;
                Some(prepare::types(
                    &self.plan.job,
                    &self.inputs,
                    pipeline,
                    path,
                    scan,
                    context,
                )?)
            }
            None => None,
        };
        let is_tree = reader.document().is_some();
        let columns = self.pipeline.layout().columns().iter().enumerate();
        Ok(columns
            .map(|(place, column)| {
                let typing = if dialect.has_types() && !column.computed && column.declared.is_none()
                {
                    Typing::AsInSource
                } else {
                    let found = found.as_ref().and_then(|found| found.get(place)).copied();
                    typing(column, found.unwrap_or(Found::Text))
                };
                TextColumn {
                    name: column.name.clone(),
                    slot: column.slot,
                    typing,
                    tells_blanks: is_tree && !column.computed,
                    scan: self.plan.scan.clone(),
                }
            })
            .collect())
    }
}

/// How the type of a column's values is decided.
fn typing(column: &LayoutColumn, found: Found) -> Typing {
    if let Some(declared) = column.declared {
        return Typing::Declared(declared);
    }
    match column.kind {
        Type::Number if column.computed => Typing::Declared(ColumnType::Decimal),
        Type::Boolean if column.computed => Typing::Declared(ColumnType::Boolean),
        Type::Text | Type::Moment | Type::Interval if column.computed => Typing::Found(Found::Text),
        _ => Typing::Found(found),
    }
}
