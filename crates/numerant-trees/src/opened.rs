//! Documents whose records are trees: what their formats have in common.

use numerant_data::narrow::LARGEST_RECORD;
use std::fs::File;
use std::io;
use std::path::{Path, PathBuf};
use std::sync::Arc;
use std::sync::atomic::AtomicU64;

use numerant_data::record::{RejectedRecord, Unit};
use numerant_data::source::{Input, ReadError, ReadProblem, SharedFile, SourcePath};
use numerant_data::tree::{
    Beside, Kind, ListLayout, Occurrences, Paths, Survey, Tree, column_name,
};
use numerant_format::messages::{MessageFacts, SegmentCounts};
use numerant_format::{
    DocumentFrame, EncodeError, Patch, ReadOptions, RecordEncoder, Redeclared, TreeFacts,
    WriteOptions,
};

/// Levels that a document may be nested if nothing else is said.
const DEPTH: usize = 128;

/// Levels that may be allowed at most: what is nested is gone through with the stack.
pub const MAX_DEPTH: usize = 4000;

/// Bytes of a document that are looked at first to find its records.
const SAMPLE: u64 = 1 << 22;

/// A value of a record, by where it is in the text of the record.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct Leaf {
    /// What it is.
    pub kind: Kind,
    /// From and to in [`Trees::text`]; of a text what is between its quotes.
    pub text: (u32, u32),
}

/// What is odd about records that are read all the same.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub struct RecordOddities {
    /// Records in UTF-8 that say another encoding.
    pub unlabelled: u64,
    /// End marks of DOS (0x1A) between and after them.
    pub end_marks: u64,
    /// Last segments without a terminator.
    pub unterminated: u64,
    /// The segments of messages.
    pub segments: SegmentCounts,
}

/// Reads the records of a document, one after the other.
pub trait Trees: Send {
    /// Replaces what is in `tree` with the next record; `false` when there are no more.
    fn next(&mut self, tree: &mut Tree, paths: &mut Paths) -> Result<bool, ReadError>;

    /// Replaces what is in `tree` with the next record that may have something in a place where none before had;
    /// `false` when there are no more before so many bytes are read.
    fn next_new(
        &mut self,
        until: u64,
        tree: &mut Tree,
        paths: &mut Paths,
    ) -> Result<bool, ReadError> {
        Ok(self.read() < until && self.next(tree, paths)?)
    }

    /// Fills in the values of the next record, if it is like one that is remembered: its number.
    fn next_like(&mut self, _leaves: &mut Vec<Leaf>, _paths: &mut Paths) -> Option<usize> {
        None
    }

    /// Remembers what the record that was read last is like, under a number.
    fn remember(&mut self, _values: usize) -> Option<usize> {
        None
    }

    /// The text of the record that was read last, verbatim.
    fn text(&self) -> &[u8];

    /// Appends what its writer needs to know of it, so that it is written verbatim.
    fn push_original(&self, out: &mut Vec<u8>) {
        out.extend_from_slice(self.text());
    }

    /// The line that it begins on, from 1.
    fn line(&self) -> u64;

    /// Bytes of text that were read.
    fn read(&self) -> u64;

    /// What is around the records; known when all are read.
    fn frame(&self) -> DocumentFrame;

    /// The values next to the records that were read so far, where they are counted.
    fn beside(&self) -> Option<&Beside> {
        None
    }

    /// Prefixes of names, and the namespaces that they represent.
    fn namespaces(&self) -> Vec<(String, String)> {
        Vec::new()
    }

    /// Whether the records that were read so far are members of an object.
    fn is_keyed(&self) -> bool {
        false
    }

    /// A prefix that represents different namespaces in what was read so far.
    fn redeclared(&self) -> Option<Redeclared> {
        None
    }

    /// What its records are counted in.
    fn unit(&self) -> Unit {
        Unit::Line
    }

    /// What was found of each kind of message so far, if its records are in messages.
    fn messages(&self) -> &[MessageFacts] {
        &[]
    }

    /// What writes its records in a format verbatim, where that takes more than their texts.
    fn writer(&self, _to: &str, _options: &WriteOptions) -> Option<Arc<dyn RecordEncoder>> {
        None
    }

    /// What writes its records with the changes that columns have, in the order of their parts in the
    /// source; `None` if they have no such order.
    ///
    /// # Errors
    ///
    /// A column has no place in its records.
    fn patcher(&self, _patch: &Patch<'_>) -> Option<Result<Arc<dyn RecordEncoder>, EncodeError>> {
        None
    }

    /// Only these columns are looked at from here on, with all their numbers; others may be left out.
    fn only(&mut self, _columns: &[String]) {}

    /// What is read from here on tells only which columns there are: values may be wrong.
    fn learn(&mut self) {}

    /// What was odd about the records so far.
    fn oddities(&self) -> RecordOddities {
        RecordOddities::default()
    }

    /// Records that were left out since it was last asked, as something is wrong with them.
    fn take_rejected(&mut self) -> Vec<RejectedRecord> {
        Vec::new()
    }
}

/// A format of documents whose records are trees.
pub trait TreeFormat: Send + Sync {
    /// What it is called, for a document of which this is known.
    fn name(&self, facts: &TreeFacts) -> &'static str;

    /// Whether elements of one name are a list.
    fn repeats_names(&self) -> bool {
        true
    }

    /// What a column is called, from the path that trees have.
    fn column_name(&self, path: &str) -> String {
        column_name(path)
    }

    /// What the column is called that has whole records, to be compared.
    fn whole_record(&self) -> &'static str {
        "record"
    }

    /// Whether a name says where in a record a value stands, whether or not a record has it.
    fn is_address(&self, _name: &str) -> bool {
        false
    }

    /// How columns are named that are occurrences of one value, of which a condition has to hold for any.
    fn occurrences(&self) -> Option<Occurrences> {
        None
    }

    /// Whether its reader goes to any place in the file, so that what is compressed is unpacked first.
    fn is_sought(&self) -> bool {
        false
    }

    /// Finds out where the records of a document are; of what is not stated, from so many bytes.
    ///
    /// # Errors
    ///
    /// If it cannot be read, or has no records where they are said to be.
    fn find(&self, opened: &mut OpenedTrees, sample: u64) -> Result<FoundRecords, ReadError>;

    /// Whether more than a sample of a document can tell where its records are.
    fn is_searched(&self) -> bool {
        false
    }

    /// What becomes of lists in the records of a document where nothing else is said.
    fn lists(&self, _facts: &TreeFacts) -> ListLayout {
        ListLayout::default()
    }

    /// Begins to read the records of a document.
    ///
    /// # Errors
    ///
    /// If it cannot be read.
    fn trees(&self, input: Input, opened: &OpenedTrees) -> Result<Box<dyn Trees>, ReadError>;

    /// Goes through all of a document, also through what is in no record; `None` if all is in records.
    ///
    /// # Errors
    ///
    /// If it cannot be read.
    fn survey(&self, _opened: &OpenedTrees) -> Result<Option<Survey>, ReadError> {
        Ok(None)
    }
}

/// Where the records of a document are, and all that is in it, if all of it was looked at.
pub struct FoundRecords {
    /// Where they are.
    pub facts: TreeFacts,
    /// What is in all of the document, if all of it was read.
    pub survey: Option<Survey>,
}

impl FoundRecords {
    /// Records that are where the format has them, whatever else is in the document.
    pub fn at(facts: TreeFacts) -> Self {
        Self {
            facts,
            survey: None,
        }
    }
}

/// A document that can be read as often as need be.
pub struct OpenedTrees {
    /// The document.
    pub path: SourcePath,
    pub(crate) format: &'static dyn TreeFormat,
    /// A copy of what can be read only once.
    kept: Option<SharedFile>,
    pub(crate) size: Option<u64>,
    pub(crate) compression: Option<&'static str>,
    /// How it is read.
    pub options: ReadOptions,
    /// Where its records are.
    pub facts: TreeFacts,
    /// What is in it, if all of it was looked at.
    surveyed: Option<Survey>,
    /// Levels that it may be nested.
    pub depth: usize,
    /// Bytes of the largest record that is taken.
    pub largest_record: usize,
}

impl OpenedTrees {
    /// Finds out where the records of a document are.
    pub fn open(
        input: Input,
        format: &'static dyn TreeFormat,
        options: &ReadOptions,
        largest_record: usize,
        temporary: &Path,
    ) -> Result<Self, ReadError> {
        let path = input.path.clone();
        let (size, compression) = (input.size, input.compression);
        let failed = |error: io::Error| path.error(ReadProblem::Io(error));
        let regular = matches!(&path, SourcePath::File(name)
            if name.metadata().is_ok_and(|found| found.is_file()));
        let sought = format.is_sought() && compression.is_some();
        let kept = if regular && size.is_some() && !sought {
            None
        } else {
            let file: File = input.into_file(temporary).map_err(failed)?;
            Some(SharedFile::new(Arc::new(file)).map_err(failed)?)
        };
        let mut opened = Self {
            path,
            format,
            kept,
            size,
            compression,
            options: options.clone(),
            facts: TreeFacts {
                records: String::new(),
                found: false,
                others: Vec::new(),
                beside: Vec::new(),
                above: None,
                elements: None,
                header: None,
                single: false,
                lines: false,
                lists: options.lists.clone().unwrap_or_default().to_string(),
            },
            surveyed: None,
            depth: options.depth.unwrap_or(DEPTH),
            // Positions in a record have 32 bits.
            largest_record: largest_record.min(LARGEST_RECORD),
        };
        let found = format.find(&mut opened, SAMPLE)?;
        opened.facts = opened.found(found);
        Ok(opened)
    }

    /// Keeps a survey of all of the document, and returns where its records are.
    fn found(&mut self, found: FoundRecords) -> TreeFacts {
        self.surveyed = found.survey;
        found.facts
    }

    /// Finds out where the records are from all of the document, if that is not stated.
    pub(crate) fn find_in_all(&mut self) -> Result<(), ReadError> {
        if !self.facts.found || self.surveyed.is_some() {
            return Ok(());
        }
        if !self.format.is_searched() {
            return Ok(());
        }
        let found = self.format.find(self, u64::MAX)?;
        self.facts = self.found(found);
        Ok(())
    }

    /// What becomes of lists in its records.
    pub(crate) fn lists(&self) -> ListLayout {
        let stated = self.options.lists.clone();
        stated.unwrap_or_else(|| self.format.lists(&self.facts))
    }

    /// What its format is called.
    pub fn format_name(&self) -> &'static str {
        self.format.name(&self.facts)
    }

    /// Whether what is read is a copy, which will not be there again.
    pub fn is_kept(&self) -> bool {
        self.kept.is_some()
    }

    /// Opens the document from its start.
    pub fn input(&self) -> Result<Input, ReadError> {
        match &self.kept {
            None => Input::open(&self.path),
            Some(kept) => Input::from_reader(self.path.clone(), Box::new(kept.again()), None),
        }
    }

    /// Reads its records from the start, and counts the bytes that are taken.
    pub(crate) fn trees(&self) -> Result<(Box<dyn Trees>, Arc<AtomicU64>), ReadError> {
        let input = self.input()?;
        let taken = input.taken();
        let trees = self.format.trees(input, self)?;
        Ok((trees, taken))
    }

    /// Goes through all of it and says what is in it.
    pub(crate) fn survey(&self) -> Result<Survey, ReadError> {
        if let Some(survey) = &self.surveyed {
            return Ok(survey.clone());
        }
        match self.format.survey(self)? {
            Some(survey) => Ok(survey),
            None => self.survey_trees(),
        }
    }

    /// A file with what is read, for readers that go to any place in it.
    ///
    /// # Errors
    ///
    /// If it cannot be opened.
    pub fn file(&self) -> Result<SharedFile, ReadError> {
        let failed = |error| self.path.error(ReadProblem::Io(error));
        match (&self.kept, &self.path) {
            (Some(kept), _) => Ok(kept.again()),
            (None, path) => {
                let file = File::open(PathBuf::from(path.clone())).map_err(failed)?;
                SharedFile::new(Arc::new(file)).map_err(failed)
            }
        }
    }

    /// Goes through its records and says what is in them.
    fn survey_trees(&self) -> Result<Survey, ReadError> {
        let (mut trees, _) = self.trees()?;
        let (mut tree, mut paths) = (Tree::default(), Paths::default());
        let mut survey = Survey::default();
        survey.open(None, Kind::List);
        while trees.next(&mut tree, &mut paths)? {
            survey.open(None, Kind::Object);
            survey_node(&tree, &paths, 0, &mut survey);
            survey.close();
        }
        survey.close();
        Ok(survey.finish())
    }
}

/// Takes note of what is in a node.
fn survey_node(tree: &Tree, paths: &Paths, place: usize, survey: &mut Survey) {
    for child in tree.children(place) {
        let node = &tree.nodes[child];
        survey.open(Some(paths.name(node.path)), node.kind);
        match node.kind {
            Kind::Object | Kind::List => survey_node(tree, paths, child, survey),
            kind => survey.value(kind, tree.text_of(node)),
        }
        survey.close();
    }
}
