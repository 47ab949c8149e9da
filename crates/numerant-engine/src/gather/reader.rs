//! Records brought to the columns of a whole.

use std::sync::Arc;

use numerant_data::dialect::Dialect;
use numerant_data::record::{Batch, Columns, Span, Tag, Tagging, push_quoted};
use numerant_data::source::{ReadError, SourcePath};
use numerant_data::tree::Occurrences;
use numerant_format::sheet::{ColumnStyle, SheetFacts};
use numerant_format::{
    Document, DocumentFrame, EncodeError, MessageFacts, Patch, ReadTally, RecordEncoder,
    RecordReader, Redeclared, SourceFacts, Survey, TreeFacts, ValuesBeside, WriteOptions,
};

/// What becomes a column of the whole.
#[derive(Clone, Debug)]
enum Part {
    /// This column of the source.
    Column(usize),
    /// The same in all records; as it is in a record, quotes included.
    Constant(Vec<u8>, Tag),
}

/// Reads the records of a source with the columns of a whole. Fields are moved verbatim.
pub(crate) struct GatheredReader {
    inner: Box<dyn RecordReader>,
    parts: Vec<Part>,
    columns: Columns,
    header: Option<Batch>,
    /// A batch of the source.
    batch: Batch,
}

impl GatheredReader {
    /// The document that the source is; only what is one is asked.
    fn of(&self) -> &dyn Document {
        self.inner.document().expect("the source is a document")
    }

    /// A reader with the columns `wanted`, of which `constants` are the same in all records of the
    /// source and those that it does not have are blank. The source itself, if that changes
    /// nothing.
    pub(crate) fn around(
        inner: Box<dyn RecordReader>,
        wanted: &[String],
        constants: &[(String, String)],
    ) -> Box<dyn RecordReader> {
        if constants.is_empty() && inner.columns().names() == wanted {
            return inner;
        }
        let dialect = inner.facts().dialect;
        let names: Vec<&str> = wanted
            .iter()
            .map(String::as_str)
            .chain(constants.iter().map(|(name, _)| name.as_str()))
            .collect();
        let part = |name: &str| {
            let constant = constants.iter().find(|(column, _)| column == name);
            match (constant, inner.columns().find(name)) {
                (Some((_, value)), _) => as_field(value, dialect, names.len() == 1),
                (None, Ok(column)) => Part::Column(column),
                (None, Err(_)) => as_field("", dialect, names.len() == 1),
            }
        };
        let parts: Vec<Part> = names.iter().map(|name| part(name)).collect();
        let columns = Columns::from_header(&names);
        let header = inner.header().map(|header| {
            let heads: Vec<Part> = parts
                .iter()
                .zip(&names)
                .map(|(part, name)| match part {
                    Part::Column(column) => Part::Column(*column),
                    Part::Constant(..) => as_field(name, dialect, false),
                })
                .collect();
            let mut above = Batch::default();
            bring(&heads, header, dialect, &mut above);
            above
        });
        let notes = inner.columns().notes().to_vec();
        Box::new(Self {
            inner,
            parts,
            columns: columns.with_notes(notes),
            header,
            batch: Batch::default(),
        })
    }
}

/// A text as a field of this dialect; where values have types of their own, it is text.
fn as_field(text: &str, dialect: Dialect, lonely: bool) -> Part {
    if dialect.is_tagged() {
        let is_text = dialect.has_types() && !text.is_empty();
        let tag = if is_text { Tag::TEXT } else { Tag::PLAIN };
        return Part::Constant(text.as_bytes().to_vec(), tag);
    }
    let mut field = Vec::new();
    push_quoted(
        text.as_bytes(),
        dialect.delimiter.first(),
        dialect.quote.byte(),
        lonely,
        &mut field,
    );
    Part::Constant(field, Tag::PLAIN)
}

/// Fills `out` with the records of `batch`, each made of `parts`.
fn bring(parts: &[Part], batch: &Batch, dialect: Dialect, out: &mut Batch) {
    out.clear_all();
    dialect.prepare(out, parts.len());
    out.carriage_returns = batch.carriage_returns;
    out.first_line = batch.first_line;
    out.unit = batch.unit;
    batch.all_lines(&mut out.lines);
    let delimiter = out.delimiter;
    let is_tagged = dialect.is_tagged();
    for record in 0..batch.len() {
        let start = out.bytes.len() as u32;
        let first = out.ends.len() as u32;
        let tag_of = |column| is_tagged.then(|| batch.tag(record, column));
        for (place, part) in parts.iter().enumerate() {
            if place > 0 {
                out.ends.push(out.bytes.len() as u32);
                out.bytes.push(delimiter);
            }
            match part {
                // Columns after those that are wanted are blank.
                Part::Column(column) if *column >= batch.width() => {
                    out.tags.extend(is_tagged.then_some(Tag::PLAIN));
                }
                Part::Column(column) => {
                    let field = batch.raw_fields(record, *column, *column);
                    out.bytes.extend_from_slice(field);
                    out.tags.extend(tag_of(*column));
                    if field.is_empty() && parts.len() == 1 && out.tagging == Tagging::None {
                        // A blank that is alone on its line would be no record.
                        out.bytes.extend(out.quote.into_iter().chain(out.quote));
                    }
                }
                Part::Constant(field, tag) => {
                    out.bytes.extend_from_slice(field);
                    out.tags.extend(is_tagged.then_some(*tag));
                }
            }
        }
        out.bytes.extend_from_slice(batch.line_end(record));
        let last_byte = out.bytes.len() as u32 - 1;
        out.ends.push(last_byte);
        out.spans.push(Span {
            start,
            first,
            last_byte,
        });
    }
}

impl RecordReader for GatheredReader {
    fn columns(&self) -> &Columns {
        &self.columns
    }

    fn header(&self) -> Option<&Batch> {
        self.header.as_ref()
    }

    fn facts(&self) -> &SourceFacts {
        self.inner.facts()
    }

    fn name(&self) -> String {
        self.inner.name()
    }

    fn path(&self) -> &SourcePath {
        self.inner.path()
    }

    fn sheet(&self) -> Option<SheetFacts> {
        self.inner.sheet()
    }

    fn column_styles(&self) -> Result<Vec<ColumnStyle>, ReadError> {
        let styles = self.inner.column_styles()?;
        if styles.is_empty() {
            return Ok(styles);
        }
        // Columns that are added look as the first one does, but for their width.
        let added = styles
            .first()
            .map_or_else(ColumnStyle::default, |first| ColumnStyle {
                header: first.header,
                ..ColumnStyle::default()
            });
        let style = |part: &Part| match part {
            Part::Column(column) => styles.get(*column).copied().unwrap_or(added),
            Part::Constant(..) => added,
        };
        Ok(self.parts.iter().map(style).collect())
    }

    fn document(&self) -> Option<&dyn Document> {
        self.inner.document().map(|_| self as &dyn Document)
    }

    fn document_mut(&mut self) -> Option<&mut dyn Document> {
        if self.inner.document().is_some() {
            Some(self)
        } else {
            None
        }
    }

    fn next_batch(&mut self, batch: &mut Batch) -> Result<bool, ReadError> {
        let more = self.inner.next_batch(&mut self.batch)?;
        bring(&self.parts, &self.batch, self.inner.facts().dialect, batch);
        batch.rejected.append(&mut self.batch.rejected);
        std::mem::swap(&mut batch.originals, &mut self.batch.originals);
        Ok(more)
    }

    fn tally(&self) -> ReadTally {
        self.inner.tally()
    }
}

/// What there is to a document; only asked of what is one.
impl Document for GatheredReader {
    fn facts(&self) -> &TreeFacts {
        self.of().facts()
    }

    fn survey(&self) -> Result<Survey, ReadError> {
        self.of().survey()
    }

    fn long_list(&self, in_use: &dyn Fn(&str) -> bool) -> Option<ReadError> {
        self.of().long_list(in_use)
    }

    fn is_keyed(&self) -> bool {
        self.of().is_keyed()
    }

    fn redeclared(&self) -> Option<Redeclared> {
        self.of().redeclared()
    }

    fn values_beside(&self) -> Vec<ValuesBeside> {
        self.of().values_beside()
    }

    fn messages(&self) -> &[MessageFacts] {
        self.of().messages()
    }

    fn writer(&self, to: &str, options: &WriteOptions) -> Option<Arc<dyn RecordEncoder>> {
        self.of().writer(to, options)
    }

    fn patcher(&self, patch: &Patch<'_>) -> Option<Result<Arc<dyn RecordEncoder>, EncodeError>> {
        self.of().patcher(patch)
    }

    fn only(&mut self, columns: &[String]) {
        if let Some(document) = self.inner.document_mut() {
            document.only(columns);
        }
    }

    fn keep_texts(&mut self) {
        if let Some(document) = self.inner.document_mut() {
            document.keep_texts();
        }
    }

    fn occurrences(&self) -> Option<Occurrences> {
        self.of().occurrences()
    }

    fn namespaces(&self) -> &[(String, String)] {
        self.of().namespaces()
    }

    fn frame(&self) -> DocumentFrame {
        self.of().frame()
    }

    fn keep_own(&mut self, wanted: Option<Vec<bool>>) {
        let mut of_source = vec![false; self.inner.columns().len()];
        if let Some(wanted) = &wanted {
            for (part, wanted) in self.parts.iter().zip(wanted) {
                if let Part::Column(column) = part {
                    of_source[*column] = *wanted;
                }
            }
        }
        let wanted = wanted.map(|_| of_source);
        if let Some(document) = self.inner.document_mut() {
            document.keep_own(wanted);
        }
    }
}
