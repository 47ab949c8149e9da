//! A source that is a document: its records, flattened as columns.

use numerant_data::narrow::to_u32;
use std::fmt;
use std::sync::Arc;
use std::sync::atomic::AtomicU64;

use super::flatten::{Filling, FlatValue, FlattenError, Flattener, PatternCells};
use crate::{Leaf, OpenedTrees, Trees};
use numerant_data::dialect::Dialect;
use numerant_data::record::{Batch, Blank, Columns, Tag, Unit};
use numerant_data::source::{Place, ReadError, ReadProblem, SourcePath};
use numerant_data::tree::{
    Beside, Kind, Occurrences, Paths, Survey, Tree, ValuesBeside, push_name,
};
use numerant_format::{
    Document, DocumentFrame, EncodeError, MessageFacts, Patch, ReadTally, RecordEncoder,
    RecordReader, Redeclared, SchemaScan, SourceFacts, TextNote, TreeFacts, WriteOptions,
};

/// Bytes of text whose records are looked at for columns before the first is handed on.
const SAMPLE: u64 = 1 << 22;

/// Reads a document record by record.
///
/// The columns are those of all records. A large document is looked at only so far before it is
/// read; where a record further down then has something that none had, the sample is outgrown
/// ([`SchemaScan::is_outgrown`]) and reading ends: whoever reads has to begin anew with a full scan.
pub struct TreeReader {
    path: SourcePath,
    trees: Box<dyn Trees>,
    flattener: Flattener,
    paths: Paths,
    tree: Tree,
    leaves: Vec<Leaf>,
    /// The columns of the values of records that are remembered, and cells that are always the same.
    patterns: Vec<PatternCells>,
    facts: SourceFacts,
    opened: Box<OpenedTrees>,
    columns: Columns,
    header: Batch,
    tally: ReadTally,
    batch_size: usize,
    /// Values have types of their own.
    typed: bool,
    /// Records are wanted verbatim, too.
    own: bool,
    /// Columns that are wanted.
    wanted: Vec<bool>,
    namespaces: Vec<(String, String)>,
    redeclared: Option<Redeclared>,
    /// Records are members of an object, and their names a column.
    is_keyed: bool,
    /// What is around the records, as far as it showed before any was handed on.
    around: DocumentFrame,
    ended: bool,
    /// How much of it was looked at before any was handed on.
    scan: SchemaScan,
}

impl fmt::Debug for TreeReader {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.debug_struct("TreeReader")
            .field("path", &self.path)
            .finish_non_exhaustive()
    }
}

impl TreeReader {
    /// Finds the columns of a document, in its first records or in all, and begins to read it.
    pub fn open(
        mut opened: Box<OpenedTrees>,
        batch_size: usize,
        scan: &SchemaScan,
    ) -> Result<Self, ReadError> {
        let path = opened.path.clone();
        // What is read only once cannot be begun anew.
        let scan = if opened.is_kept() {
            SchemaScan::Full
        } else {
            scan.clone()
        };
        let is_full = matches!(scan, SchemaScan::Full);
        if is_full {
            opened.find_in_all()?;
        }
        let markup = opened.format.repeats_names();
        let lists = opened.lists();
        let mut flattener = Flattener::new(lists, markup);
        if opened.format.occurrences().is_some() {
            flattener.name_lists(&opened.options.context.named);
        }
        let mut paths = Paths::default();
        let mut tree = Tree::default();
        let (mut trees, _) = opened.trees()?;
        trees.learn();
        let mut any = false;
        let mut absent = Vec::new();
        let until = if is_full { u64::MAX } else { SAMPLE };
        while trees.next_new(until, &mut tree, &mut paths)? {
            any = true;
            if opened.options.context.as_one {
                break;
            }
            let learnt = flattener.learn(&tree, &paths, trees.line());
            learnt.map_err(|error| {
                flatten_error(&path, Place::number(trees.unit(), trees.line()), error)
            })?;
        }
        let records = || opened.facts.records.clone();
        // A path that is stated may be wrong; where records were looked for, there are none.
        if !any && !opened.facts.found {
            return Err(path.error(ReadProblem::NoRecords { path: records() }));
        }
        if opened.options.context.as_one {
            flattener.settle_as_one(opened.format.whole_record());
        } else {
            let settled = flattener.settle(&paths);
            if !is_full && matches!(settled, Err(FlattenError::NoRows { .. })) {
                // The list may begin in a later record.
                return Self::open(opened, batch_size, &SchemaScan::Full);
            }
            settled.map_err(|error| flatten_error(&path, Place::default(), error))?;
            flattener.rename(|path| opened.format.column_name(path));
            if let Some(header) = &opened.facts.header {
                flattener.rename(|path| named(header, path));
                let names = (1..=header.len()).map(|number| named(header, &number.to_string()));
                flattener.add_blank(&names.collect::<Vec<_>>());
            }
            flattener.add_blank(&opened.options.context.also);
            // What no record has is NULL in all, so that saved jobs work on every file.
            let named = opened.options.context.named.iter();
            let addresses = named.filter(|name| opened.format.is_address(name));
            let addresses: Vec<String> = addresses.cloned().collect();
            let known = flattener.names().len();
            flattener.add_blank(&addresses);
            absent = flattener.names()[known..].to_vec();
        }
        let is_root =
            markup && opened.facts.found && opened.facts.records.matches('/').count() == 1;
        let is_empty = flattener.names().is_empty() && (!any || is_root);
        if flattener.names().is_empty() && !is_empty {
            if !is_full {
                return Self::open(opened, batch_size, &SchemaScan::Full);
            }
            return Err(path.error(ReadProblem::NoValues { path: records() }));
        }
        let (namespaces, around) = (trees.namespaces(), trees.frame());
        let (redeclared, is_keyed) = (trees.redeclared(), trees.is_keyed());
        let (trees, taken) = opened.trees()?;
        let unit = trees.unit();
        let dialect = if markup {
            Dialect::TEXTS
        } else {
            Dialect::CELLS
        };
        let columns = Columns::from_header(flattener.names());
        let mut header = Batch::default();
        dialect.prepare(&mut header, columns.len());
        push_header(flattener.names(), &mut header);
        Ok(Self {
            path,
            trees,
            tree,
            paths,
            leaves: Vec::new(),
            patterns: Vec::new(),
            facts: SourceFacts {
                notes: if absent.is_empty() {
                    Vec::new()
                } else {
                    vec![TextNote::Absent { columns: absent }]
                },
                ..facts(&opened, dialect, taken, unit)
            },
            opened,
            wanted: vec![true; columns.len()],
            columns,
            header,
            tally: ReadTally::default(),
            batch_size,
            typed: !markup,
            own: false,
            namespaces,
            redeclared,
            is_keyed,
            around,
            ended: is_empty,
            scan,
            flattener,
        })
    }

    /// Whether a longer list is further down in a document of which a part was looked at to find its
    /// records.
    fn has_missed_records(&self) -> bool {
        let longest = self.trees.beside().map_or(0, Beside::most_branches);
        let was_sampled = matches!(self.scan, SchemaScan::Sample(_));
        self.opened.facts.found && was_sampled && longest > self.tally.records
    }

    /// Ends, as the columns are not those that were found.
    fn outgrow_sample(&mut self, batch: &mut Batch) -> Result<(), ReadError> {
        let SchemaScan::Sample(sample) = &self.scan else {
            let place = Place::number(self.facts.unit, self.trees.line());
            return Err(self.path.error_at(place, ReadProblem::ChangedWhileRead));
        };
        sample.outgrow();
        self.ended = true;
        batch.clear();
        Ok(())
    }

    /// Adds the record whose values are in `leaves`, in these columns.
    #[inline]
    fn push_like(&mut self, pattern: usize, batch: &mut Batch) {
        let mut row = Row {
            text: self.trees.text(),
            kept: &[],
            typed: self.typed,
            columns: 0,
        };
        let start = batch.begin_record();
        for (column, filling) in &self.patterns[pattern].cells {
            let column = *column as usize;
            match self.wanted.get(column) {
                None => break,
                Some(false) => continue,
                Some(true) => {}
            }
            let flattened = match filling {
                Filling::Same(flattened) => *flattened,
                Filling::Value(number) => {
                    let Leaf { kind, text } = self.leaves[*number];
                    match kind {
                        Kind::Text => FlatValue::Text(text.0, text.1),
                        Kind::Null => FlatValue::Null,
                        _ => FlatValue::Literal(text.0, text.1),
                    }
                }
            };
            row.pass_to(column, batch);
            row.push(flattened, batch);
        }
        row.pass_to(self.wanted.len(), batch);
        batch.end_record(start);
    }
}

/// The name that a header has for the column with this number.
fn named(header: &[String], number: &str) -> String {
    let place = number.parse::<usize>().ok();
    let name = place.and_then(|place| header.get(place.checked_sub(1)?));
    match name {
        None => number.to_owned(),
        Some(name) => {
            let mut column = String::new();
            push_name(name, &mut column);
            column
        }
    }
}

fn facts(opened: &OpenedTrees, dialect: Dialect, taken: Arc<AtomicU64>, unit: Unit) -> SourceFacts {
    SourceFacts {
        size: opened.size,
        compression: opened.compression,
        ..SourceFacts::of_values(opened.format_name(), dialect, taken, unit)
    }
}

fn flatten_error(path: &SourcePath, place: Place, error: FlattenError) -> ReadError {
    let problem = match error {
        FlattenError::Twice(name) => ReadProblem::NameTwice { name },
        FlattenError::WhichRows(lists) => ReadProblem::WhichRows { lists },
        FlattenError::NoRows { path, lists } => ReadProblem::NoRows { path, lists },
        FlattenError::OtherKind => ReadProblem::OtherKind,
    };
    path.error_at(place, problem)
}

/// Makes a record of the names of the columns.
fn push_header(names: &[String], batch: &mut Batch) {
    // A document without records has no columns.
    if names.is_empty() {
        return;
    }
    let start = batch.begin_record();
    for name in names {
        batch.bytes.extend_from_slice(name.as_bytes());
        batch.end_field(Tag::TEXT);
    }
    batch.end_record(start);
    batch.lines.push(1);
}

/// A record that is being added to a batch, column by column.
struct Row<'t> {
    /// Where its values are.
    text: &'t [u8],
    kept: &'t [u8],
    /// Values have types of their own.
    typed: bool,
    /// Columns that are there.
    columns: usize,
}

impl Row<'_> {
    /// Leaves the columns blank that are before one.
    #[inline]
    fn pass_to(&mut self, column: usize, batch: &mut Batch) {
        batch.pass_fields(column - self.columns);
        self.columns = column;
    }

    /// Fills the next column.
    #[inline]
    fn push(&mut self, flattened: FlatValue, batch: &mut Batch) {
        let out = &mut batch.bytes;
        let tag = match flattened {
            FlatValue::Absent => Tag::PLAIN,
            FlatValue::Text(from, to) if from == to => Tag::blank(Blank::Empty),
            FlatValue::Text(from, to) => {
                out.extend_from_slice(&self.text[from as usize..to as usize]);
                if self.typed { Tag::STRING } else { Tag::PLAIN }
            }
            FlatValue::Literal(from, to) => {
                out.extend_from_slice(&self.text[from as usize..to as usize]);
                Tag::PLAIN
            }
            FlatValue::Kept(from, to) => {
                out.extend_from_slice(&self.kept[from as usize..to as usize]);
                Tag::PLAIN
            }
            FlatValue::Null => Tag::blank(Blank::Null),
            FlatValue::EmptyContainer(levels) => Tag::blank(Blank::EmptyContainer(levels as usize)),
        };
        batch.end_field(tag);
        self.columns += 1;
    }
}

/// Adds the record that is flattened.
#[inline]
fn push_row(flattener: &Flattener, text: &[u8], typed: bool, wanted: &[bool], batch: &mut Batch) {
    let mut row = Row {
        text,
        kept: &flattener.kept,
        typed,
        columns: 0,
    };
    let start = batch.begin_record();
    for (flattened, wanted) in flattener.cells.iter().zip(wanted) {
        row.push(
            if *wanted {
                *flattened
            } else {
                FlatValue::Absent
            },
            batch,
        );
    }
    batch.end_record(start);
}

impl Document for TreeReader {
    fn facts(&self) -> &TreeFacts {
        &self.opened.facts
    }

    fn survey(&self) -> Result<Survey, ReadError> {
        self.opened.survey()
    }

    fn namespaces(&self) -> &[(String, String)] {
        &self.namespaces
    }

    fn frame(&self) -> DocumentFrame {
        if self.ended {
            self.trees.frame()
        } else {
            self.around.clone()
        }
    }

    fn long_list(&self, in_use: &dyn Fn(&str) -> bool) -> Option<ReadError> {
        let name = |path: &str| self.opened.format.column_name(path);
        let lists = self.flattener.long_lists().iter();
        let mut needed = lists.filter(|(path, ..)| in_use(&name(path)));
        let (path, most, line) = needed.next()?;
        let path = if self.opened.format.occurrences().is_some() {
            name(path)
        } else {
            path.clone()
        };
        let problem = ReadProblem::TooManyItems { path, most: *most };
        let place = Place::number(self.facts.unit, *line);
        Some(self.path.error_at(place, problem))
    }

    fn is_keyed(&self) -> bool {
        self.is_keyed
    }

    fn redeclared(&self) -> Option<Redeclared> {
        if self.ended {
            self.trees.redeclared()
        } else {
            self.redeclared.clone()
        }
    }

    fn values_beside(&self) -> Vec<ValuesBeside> {
        self.trees.beside().map(Beside::values).unwrap_or_default()
    }

    fn messages(&self) -> &[MessageFacts] {
        self.trees.messages()
    }

    fn writer(&self, to: &str, options: &WriteOptions) -> Option<Arc<dyn RecordEncoder>> {
        self.trees.writer(to, options)
    }

    fn patcher(&self, patch: &Patch<'_>) -> Option<Result<Arc<dyn RecordEncoder>, EncodeError>> {
        self.trees.patcher(patch)
    }

    fn only(&mut self, columns: &[String]) {
        self.trees.only(columns);
    }

    fn keep_texts(&mut self) {
        self.own = true;
    }

    fn occurrences(&self) -> Option<Occurrences> {
        self.opened.format.occurrences()
    }

    fn keep_own(&mut self, wanted: Option<Vec<bool>>) {
        self.own = true;
        let mut named = self.opened.options.context.named.clone();
        named.extend(self.columns.names().first().cloned());
        self.trees.only(&named);
        if let Some(wanted) = wanted {
            self.flattener.narrow(&wanted);
            // Nothing asks for columns after the last one that is wanted.
            let width = wanted
                .iter()
                .rposition(|wanted| *wanted)
                .map_or(1, |at| at + 1);
            self.wanted = wanted;
            self.wanted.truncate(width);
        }
    }
}

impl RecordReader for TreeReader {
    fn columns(&self) -> &Columns {
        &self.columns
    }

    fn header(&self) -> Option<&Batch> {
        (!self.header.is_empty()).then_some(&self.header)
    }

    fn facts(&self) -> &SourceFacts {
        &self.facts
    }

    fn name(&self) -> String {
        self.path.to_string()
    }

    fn path(&self) -> &SourcePath {
        &self.path
    }

    fn document(&self) -> Option<&dyn Document> {
        Some(self)
    }

    fn document_mut(&mut self) -> Option<&mut dyn Document> {
        Some(self)
    }

    fn next_batch(&mut self, batch: &mut Batch) -> Result<bool, ReadError> {
        batch.clear_all();
        self.facts.dialect.prepare(batch, self.wanted.len());
        batch.unit = self.facts.unit;
        if self.ended {
            return Ok(false);
        }
        while batch.bytes.len() + batch.originals.bytes.len() < self.batch_size {
            let before = batch.spans.len();
            let line;
            if let Some(pattern) = self.trees.next_like(&mut self.leaves, &mut self.paths) {
                line = self.trees.line();
                self.push_like(pattern, batch);
            } else {
                let more = self.trees.next(&mut self.tree, &mut self.paths)?;
                let rejected = self.trees.take_rejected();
                self.tally.records += rejected.len() as u64;
                self.tally.rejected += rejected.len() as u64;
                let oddities = self.trees.oddities();
                self.tally.unlabelled = oddities.unlabelled;
                self.tally.end_marks = oddities.end_marks;
                self.tally.unterminated = oddities.unterminated;
                self.tally.segments = oddities.segments;
                batch.rejected.extend(rejected);
                if !more {
                    self.ended = true;
                    if self.has_missed_records() {
                        self.outgrow_sample(batch)?;
                        return Ok(false);
                    }
                    break;
                }
                line = self.trees.line();
                let (tree, typed, wanted) = (&self.tree, self.typed, &self.wanted);
                if self.opened.options.context.as_one {
                    self.flattener.flatten_as_one(tree, &self.paths);
                    push_row(&self.flattener, &tree.text, typed, wanted, batch);
                } else {
                    let flattened = self.flattener.flatten(tree, &self.paths, &mut |flattener| {
                        push_row(flattener, &tree.text, typed, wanted, batch);
                    });
                    let place = Place::number(self.facts.unit, line);
                    if self.flattener.is_outgrown() {
                        self.outgrow_sample(batch)?;
                        return Ok(false);
                    }
                    flattened.map_err(|error| flatten_error(&self.path, place, error))?;
                }
                if let Some(values) = self.flattener.values()
                    && let Some(pattern) = self.trees.remember(values)
                {
                    let like = self.flattener.pattern();
                    if self.patterns.len() <= pattern {
                        self.patterns
                            .resize_with(pattern + 1, PatternCells::default);
                    }
                    self.patterns[pattern] = like;
                }
            }
            let rows = batch.spans.len() - before;
            self.tally.records += rows as u64;
            for _ in 0..rows {
                batch.lines.push(line);
            }
            if self.own {
                let start = to_u32(batch.originals.bytes.len());
                self.trees.push_original(&mut batch.originals.bytes);
                let end = to_u32(batch.originals.bytes.len());
                batch
                    .originals
                    .spans
                    .resize(batch.spans.len(), (start, end));
            }
        }
        Ok(!batch.is_empty() || !batch.rejected.is_empty())
    }

    fn tally(&self) -> ReadTally {
        self.tally.clone()
    }
}
