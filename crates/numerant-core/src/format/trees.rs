//! Documents whose records are trees: what their formats have in common.

#![deny(
    clippy::cast_possible_truncation,
    clippy::cast_possible_wrap,
    clippy::cast_sign_loss
)]

use std::fs::File;
use std::io;
use std::path::{Path, PathBuf};
use std::sync::Arc;
use std::sync::atomic::AtomicU64;

use super::delimited::{ReadOptions, WriteOptions};
use super::edi::{self, MessageFacts, SegmentCounts, Standard};
use super::{EncodeError, Patch, RecordEncoder, Survey, TextFormat, json, marc, xml};
use crate::record::{RejectedRecord, Unit};
use crate::source::{Encoding, Input, ReadError, ReadProblem, SharedFile, SourcePath};
use crate::tree::{Beside, Kind, Paths, Repeats, Tree};

/// Levels that a document may be nested if nothing else is said.
const DEPTH: usize = 128;

/// Levels that may be allowed at most: what is nested is gone through with the stack.
pub(crate) const MOST_DEPTH: usize = 4000;

/// Bytes of a document that are looked at first to find its records.
const SAMPLE: u64 = 1 << 22;

/// Items of a whole message that are columns at most, if nothing else is said.
const ITEMS: usize = 1 << 20;

/// A value of a record, by where it stands in the text of the record.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(crate) struct Leaf {
    pub(crate) kind: Kind,
    /// From and to in [`Trees::text`]; of a text what is between its quotes.
    pub(crate) text: (u32, u32),
}

/// What stands around the records of a document, so that some of them can be written as they stand.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct Around {
    /// Before the first record.
    pub head: Vec<u8>,
    /// Between the first two.
    pub between: Vec<u8>,
    /// Behind the last.
    pub foot: Vec<u8>,
    /// The records do not all stand in one place, so that no text is around all of them.
    pub scattered: bool,
    /// The encoding that the document is written in, where it is not UTF-8. All of this is UTF-8.
    pub encoding: Option<Encoding>,
}

impl Around {
    /// What is around values a line.
    pub(crate) fn lines() -> Self {
        Self {
            between: b"\n".to_vec(),
            foot: b"\n".to_vec(),
            ..Self::default()
        }
    }

    /// What is around values in a list.
    pub(crate) fn list() -> Self {
        Self {
            head: b"[\n".to_vec(),
            between: b",\n".to_vec(),
            foot: b"\n]\n".to_vec(),
            scattered: false,
            encoding: None,
        }
    }
}

/// A prefix that stands for different namespaces within one document.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Redeclared {
    /// The prefix; empty for names without one.
    pub prefix: String,
    /// The namespaces; the first is empty where names without a prefix were in none.
    pub namespaces: [String; 2],
}

/// What is odd about records that are read all the same.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub(crate) struct RecordOddities {
    /// Records in UTF-8 that say another encoding.
    pub(crate) unlabelled: u64,
    /// End marks of DOS (0x1A) between and behind them.
    pub(crate) end_marks: u64,
    /// Last segments without a terminator.
    pub(crate) unterminated: u64,
    /// The segments of messages.
    pub(crate) segments: SegmentCounts,
}

/// Reads the records of a document, one after the other.
pub(crate) trait Trees: Send {
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
    fn next_alike(&mut self, _leaves: &mut Vec<Leaf>, _paths: &mut Paths) -> Option<usize> {
        None
    }

    /// Remembers what the record that was read last is like, under a number.
    fn remember(&mut self, _values: usize) -> Option<usize> {
        None
    }

    /// The text of the record that was read last, as it stands.
    fn text(&self) -> &[u8];

    /// Appends what its writer needs to know of it, so that it is written as it stands.
    fn push_own(&self, out: &mut Vec<u8>) {
        out.extend_from_slice(self.text());
    }

    /// The line that it begins on, from 1.
    fn line(&self) -> u64;

    /// Bytes of text that were read.
    fn read(&self) -> u64;

    /// What is around the records; known when all are read.
    fn around(&self) -> Around;

    /// The values beside the records that were read so far, where they are counted.
    fn beside(&self) -> Option<&Beside> {
        None
    }

    /// Prefixes of names, and the namespaces that they stand for.
    fn namespaces(&self) -> Vec<(String, String)> {
        Vec::new()
    }

    /// Whether the records that were read so far are members of an object.
    fn is_keyed(&self) -> bool {
        false
    }

    /// A prefix that stands for different namespaces in what was read so far.
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

    /// What writes its records in a format as they stand, where that takes more than their texts.
    fn writer(&self, _to: TextFormat, _options: &WriteOptions) -> Option<Arc<dyn RecordEncoder>> {
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

/// Where the records of a document are, and what is besides them.
#[derive(Clone, Debug, PartialEq, Eq, serde::Serialize)]
#[serde(rename_all = "kebab-case")]
pub struct TreeFacts {
    /// Where they are: a JSONPath, or an XPath.
    pub records: String,
    /// That was found out and not said.
    pub found: bool,
    /// Other places where records may be.
    pub others: Vec<String>,
    /// Values that stand beside the records, by their paths.
    pub beside: Vec<String>,
    /// What to say so that records have those, too: a place of records, and the list in them.
    pub above: Option<(String, String)>,
    /// The names of the element around the records, and of those themselves.
    #[serde(skip)]
    pub elements: Option<(String, String)>,
    /// A value of JSON follows another, as in JSON Lines.
    #[serde(skip)]
    pub lines: bool,
    /// The names of the columns, where they are the first of the values that follow each other, which
    /// are lists.
    #[serde(skip)]
    pub header: Option<Vec<String>>,
    /// The document itself is the record.
    #[serde(skip)]
    pub single: bool,
    /// What becomes of lists.
    pub repeats: String,
}

/// A format of documents.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(crate) enum TreeFormat {
    Json,
    Xml,
    Marc,
    MarcXml,
    Edi(Standard),
}

impl TreeFormat {
    /// Whether elements of one name are a list.
    pub(crate) fn repeats_names(self) -> bool {
        self != Self::Json
    }

    /// What a column is called, from the path that trees have.
    pub(crate) fn column_name(self, path: &str) -> String {
        match self {
            Self::Marc | Self::MarcXml | Self::Edi(_) => marc::column_name(path),
            Self::Json | Self::Xml => crate::tree::column_name(path),
        }
    }

    /// What the column is called that has whole records, to be compared.
    pub(crate) fn whole_record(self) -> &'static str {
        match self {
            Self::Edi(_) => "record without the total of its message",
            Self::Json | Self::Xml | Self::Marc | Self::MarcXml => "record",
        }
    }

    /// Whether a name says where in a record a value stands, whether or not a record has it.
    pub(crate) fn is_address(self, name: &str) -> bool {
        match self {
            Self::Marc | Self::MarcXml => marc::is_address(name),
            Self::Edi(_) => edi::is_address(name),
            Self::Json | Self::Xml => false,
        }
    }

    /// Whether a condition holds for a record if it holds for any of the values that stand several times.
    pub(crate) fn holds_for_any(self) -> bool {
        !matches!(self, Self::Json | Self::Xml)
    }
}

/// Where the records of a document are, and all that is in it, if all of it was looked at.
pub(crate) struct FoundRecords {
    pub(crate) facts: TreeFacts,
    pub(crate) survey: Option<Survey>,
}

/// A document that can be read as often as need be.
pub(crate) struct OpenedTrees {
    pub(crate) path: SourcePath,
    pub(crate) format: TreeFormat,
    /// A copy of what can be read only once.
    kept: Option<SharedFile>,
    pub(crate) size: Option<u64>,
    pub(crate) compression: Option<&'static str>,
    pub(crate) options: ReadOptions,
    pub(crate) facts: TreeFacts,
    /// What is in it, if all of it was looked at.
    surveyed: Option<Survey>,
    pub(crate) depth: usize,
    pub(crate) largest_record: usize,
}

impl OpenedTrees {
    /// Finds out where the records of a document are.
    pub(crate) fn open(
        input: Input,
        format: TreeFormat,
        options: &ReadOptions,
        largest_record: usize,
        temporary: &Path,
    ) -> Result<Self, ReadError> {
        let path = input.path.clone();
        let (size, compression) = (input.size, input.compression);
        let failed = |error: io::Error| path.error(ReadProblem::Io(error));
        let regular = matches!(&path, SourcePath::File(name)
            if name.metadata().is_ok_and(|found| found.is_file()));
        // What stands around the records of messages is read again, from wherever it is.
        let sought = matches!(format, TreeFormat::Edi(_)) && compression.is_some();
        let kept = match regular && size.is_some() && !sought {
            true => None,
            false => {
                let file: File = super::open::into_file(input, temporary).map_err(failed)?;
                Some(SharedFile::new(Arc::new(file)).map_err(failed)?)
            }
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
                repeats: options.repeats.clone().unwrap_or_default().to_string(),
            },
            surveyed: None,
            depth: options.depth.unwrap_or(DEPTH),
            // Places in a record are told with 32 bits.
            largest_record: largest_record.min(u32::MAX as usize / 2),
        };
        let input = opened.input()?;
        opened.facts = match format {
            TreeFormat::Json => opened.found(json::find_records(input, &opened, SAMPLE)?),
            TreeFormat::Xml => opened.found(xml::find_records(input, &opened, SAMPLE)?),
            TreeFormat::Marc => TreeFacts {
                records: marc::RECORDS.to_owned(),
                found: true,
                ..opened.facts.clone()
            },
            TreeFormat::Edi(_) => TreeFacts {
                records: match opened.options.records.as_deref() {
                    Some(edi::MESSAGES) => edi::MESSAGES.to_owned(),
                    // Where that is no error, what is not known is looked at as it is.
                    None if !opened.options.by_layout && !edi::knows_first(input, &opened) => {
                        edi::MESSAGES.to_owned()
                    }
                    None | Some(edi::BY_LAYOUT) => edi::BY_LAYOUT.to_owned(),
                    Some(other) => {
                        let what =
                            "records of messages are by layout, or say 'messages'".to_owned();
                        let path = other.to_owned();
                        return Err(opened.path.error(ReadProblem::RecordsPath { path, what }));
                    }
                },
                found: opened.options.records.is_none(),
                ..opened.facts.clone()
            },
            TreeFormat::MarcXml => {
                opened.options.no_prefixes = true;
                let survey = xml::survey(input, &opened, SAMPLE)?;
                opened.options.records = Some(marc::record_path(&survey));
                xml::find_records(opened.input()?, &opened, SAMPLE)?.facts
            }
        };
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
        let found = match self.format {
            TreeFormat::Json => json::find_records(self.input()?, self, u64::MAX)?,
            TreeFormat::Xml => xml::find_records(self.input()?, self, u64::MAX)?,
            TreeFormat::Marc | TreeFormat::MarcXml | TreeFormat::Edi(_) => return Ok(()),
        };
        self.facts = self.found(found);
        Ok(())
    }

    /// What becomes of lists in its records.
    pub(crate) fn repeats(&self) -> Repeats {
        match &self.options.repeats {
            Some(said) => said.clone(),
            // Items of whole messages are many, and few jobs name more than what is around them.
            None if self.facts.records == edi::MESSAGES => Repeats::Columns(ITEMS),
            None => Repeats::default(),
        }
    }

    /// What its format is called.
    pub(crate) fn format_name(&self) -> &'static str {
        match self.format {
            TreeFormat::Json if self.facts.lines => json::LINES,
            TreeFormat::Json => json::NAME,
            TreeFormat::Xml => xml::NAME,
            TreeFormat::Marc => marc::NAME,
            TreeFormat::MarcXml => marc::XML_NAME,
            TreeFormat::Edi(standard) => standard.name(),
        }
    }

    /// Whether what is read is a copy, which will not be there again.
    pub(crate) fn is_kept(&self) -> bool {
        self.kept.is_some()
    }

    pub(crate) fn input(&self) -> Result<Input, ReadError> {
        match &self.kept {
            None => Input::open(&self.path),
            Some(kept) => Input::from_reader(self.path.clone(), Box::new(kept.again()), None),
        }
    }

    /// Reads its records from the start, and counts the bytes that are taken.
    pub(crate) fn trees(&self) -> Result<(Box<dyn Trees>, Arc<AtomicU64>), ReadError> {
        let input = self.input()?;
        let taken = input.taken();
        let trees: Box<dyn Trees> = match self.format {
            TreeFormat::Json => Box::new(json::JsonTrees::new(input, self)?),
            TreeFormat::Xml => Box::new(xml::XmlTrees::new(input, self)?),
            TreeFormat::Marc => Box::new(marc::MarcTrees::new(input, self)),
            TreeFormat::MarcXml => Box::new(marc::MarcXmlTrees::new(input, self)?),
            TreeFormat::Edi(_) => {
                let failed = |error| self.path.error(ReadProblem::Io(error));
                let file = match (&self.kept, &self.path) {
                    (Some(kept), _) => kept.again(),
                    (None, path) => {
                        let file = File::open(PathBuf::from(path.clone())).map_err(failed)?;
                        SharedFile::new(Arc::new(file)).map_err(failed)?
                    }
                };
                Box::new(edi::EdiTrees::new(input, self, file)?)
            }
        };
        Ok((trees, taken))
    }

    /// Goes through all of it and says what is in it.
    pub(crate) fn survey(&self) -> Result<Survey, ReadError> {
        if let Some(survey) = &self.surveyed {
            return Ok(survey.clone());
        }
        match self.format {
            TreeFormat::Json => json::survey(self.input()?, self, u64::MAX),
            TreeFormat::Xml => xml::survey(self.input()?, self, u64::MAX),
            TreeFormat::Marc | TreeFormat::MarcXml | TreeFormat::Edi(_) => self.survey_trees(),
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
