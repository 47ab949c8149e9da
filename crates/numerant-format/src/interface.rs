//! The one interface that a format implements: what it is called, what it can do, how a source in it is recognised
//! and opened, and what writes outputs in it.

use std::fmt;
use std::io;
use std::sync::Arc;
use std::sync::atomic::{AtomicBool, Ordering};

use jiff::civil::DateTime;
use numerant_data::dialect::Dialect;
use numerant_data::disk::OutFile;
use numerant_data::record::Batch;
use numerant_data::source::ReadError;
use numerant_data::value::Cells;

use crate::column::TextColumn;
use crate::option::{FormatOption, OptionValues};
use crate::sheet::{Limits, PrintSheet, SheetSink};
use crate::start::Start;
use crate::{
    Document, DocumentFrame, EncodeError, ReadOptions, RecordEncoder, RecordReader, WriteOptions,
};

/// A format that is read, written, or both: one value in the registry.
///
/// Nothing else names it. What the engine has to know of it is in [`Format::capabilities`].
pub trait Format: fmt::Debug + Send + Sync {
    /// What it is called in messages and documents.
    fn name(&self) -> &'static str;

    /// Extensions of file names, lower case, of files in it.
    fn extensions(&self) -> &'static [&'static str];

    /// Those of them whose files can be read.
    fn read(&self) -> &'static [&'static str] {
        self.extensions()
    }

    /// Those of them that files can be written with.
    fn written(&self) -> &'static [&'static str] {
        self.extensions()
    }

    /// What can be done with it.
    fn capabilities(&self) -> Capabilities {
        Capabilities::default()
    }

    /// How sure it is of a source that it recognises.
    fn weight(&self) -> Weight;

    /// The options that only this format has.
    fn options(&self) -> &'static [FormatOption] {
        &[]
    }

    /// Whether its own options for writing leave records as they are without them, so that those of a source in the
    /// same format may be copied.
    fn writes_as_usual(&self, _write: &OptionValues) -> bool {
        true
    }

    /// Whether its own options say what the elements of records are, so that those of a fixed vocabulary are written
    /// in this format and not in theirs.
    fn names_elements(&self, _write: &OptionValues) -> bool {
        false
    }

    /// The options of [`Format::options`] with which outputs of a run are read again that had these.
    fn options_of_outputs(&self, _read: &OptionValues, _write: &OptionValues) -> OptionValues {
        OptionValues::default()
    }

    /// Opens a source if it is in this format, by what it begins with.
    ///
    /// # Errors
    ///
    /// If it is in this format and cannot be opened.
    fn open(&self, start: &mut Start<'_>) -> Result<Option<Box<dyn Source>>, ReadError>;

    /// Opens a source that is said to be in this format, by its name or its user, and is recognised by none.
    ///
    /// # Errors
    ///
    /// If what it begins with is no start of this format, as if nothing else is said.
    fn open_named(&self, start: &mut Start<'_>) -> Result<Box<dyn Source>, ReadError> {
        Err(start.refused(self.name(), self.capabilities().workbook.is_some()))
    }

    /// Whether its records are those of the format `other`, so that both can be compared as a whole.
    fn has_records_of(&self, other: &str) -> bool {
        self.name() == other
    }

    /// Whether it is another name for records of a source of the format `source`, where `asked` is asked for.
    fn stands_for(&self, _asked: &str, _source: &str) -> bool {
        false
    }

    /// How records of a document in the format `source` are copied verbatim; `None` if they are written anew.
    /// `alone` says that an output has records of one document.
    fn verbatim(&self, _source: &str, _document: &dyn Document, _alone: bool) -> Option<Verbatim> {
        None
    }

    /// What writes records one after the other.
    ///
    /// # Errors
    ///
    /// If they cannot be written in this format.
    fn encoder(&self, _request: EncoderRequest<'_>) -> Result<NewEncoder, EncodeError> {
        Err(EncodeError::NotWritten {
            format: self.name(),
        })
    }

    /// Begins a workbook, or pages for its sheets, in a file; what these share may take so many bytes of memory.
    ///
    /// # Errors
    ///
    /// If it cannot be written.
    fn create(
        &self,
        _file: OutFile,
        _memory: usize,
        _options: &WriteOptions,
    ) -> io::Result<Box<dyn SheetSink>> {
        Err(io::ErrorKind::Unsupported.into())
    }

    /// Draws sheets as they are printed into a file, and returns how many texts are longer than their cells and cut.
    ///
    /// # Errors
    ///
    /// If they cannot be drawn, or the file cannot be written.
    fn draw_sheets(
        &self,
        _file: OutFile,
        _sheets: &[PrintSheet],
        _printing: &Printing<'_>,
    ) -> io::Result<u64> {
        Err(io::ErrorKind::Unsupported.into())
    }
}

/// What sheets are drawn with.
#[derive(Clone, Copy, Debug)]
pub struct Printing<'p> {
    /// The name of the output, for headers and footers.
    pub output: &'p str,
    /// When it is printed, for headers and footers.
    pub now: DateTime,
    /// How outputs are written.
    pub options: &'p WriteOptions,
}

/// What can be done with a format.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub struct Capabilities {
    /// Outputs are workbooks with so much room; `None` if they are text.
    pub workbook: Option<Limits>,
    /// Outputs are pages to read: names of sheets are titles, of any characters and length, and records can are in
    /// groups.
    pub has_pages: bool,
    /// Values of different types are written differently.
    pub has_typed_values: bool,
    /// Outputs have delimiters, quotes and line ends to choose, and lines of any text can be copied to them.
    pub has_dialect: bool,
    /// Each record is a line.
    pub is_line_by_line: bool,
    /// The language of the documents, for shapes, schemas and options of documents.
    pub language: Option<DocumentLanguage>,
    /// Records can have only columns that the format or a layout knows.
    pub has_own_columns: bool,
    /// Elements of namespaces are written anew with prefixes of which each represents one namespace.
    pub has_namespaces: bool,
    /// Sheets can be copied whole, with their look.
    pub copies_sheets: bool,
    /// Rows can be cut out of a sheet with their look.
    pub cuts_rows: bool,
    /// Copies of formatted workbooks can be filled.
    pub fills_templates: bool,
    /// Sheets of workbooks can be drawn as they are printed.
    pub draws_sheets: bool,
}

/// How sure a format is of a source that it recognises; the surest is asked first.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord)]
pub enum Weight {
    /// An option that only this format has is set.
    Stated,
    /// By bytes that begin no other file.
    Signature,
    /// By the structure of the first record.
    Structure,
    /// By the first characters of a text.
    Content,
    /// By nothing: it is what is left.
    Fallback,
}

impl Weight {
    /// All, the surest first.
    pub const ALL: [Self; 5] = [
        Self::Stated,
        Self::Signature,
        Self::Structure,
        Self::Content,
        Self::Fallback,
    ];
}

/// A language of documents.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum DocumentLanguage {
    /// RFC 8259.
    Json,
    /// XML 1.0.
    Xml,
}

/// How much of a source is read before its columns are final.
#[derive(Clone, Debug)]
pub enum SchemaScan {
    /// A sample. Who meets something that the sample did not show says so with [`Sample::outgrow`],
    /// and what was read and written so far counts for nothing.
    Sample(Sample),
    /// All of it.
    Full,
}

/// Whether a sample is enough for what was read so far; shared by all who rely on one.
#[derive(Clone, Debug, Default)]
pub struct Sample(Arc<AtomicBool>);

impl Sample {
    /// Something was met that the sample did not show.
    pub fn outgrow(&self) {
        self.0.store(true, Ordering::Release);
    }
}

impl SchemaScan {
    /// A scan of a sample that is enough so far.
    pub fn sample() -> Self {
        Self::Sample(Sample::default())
    }

    /// Whether something was met that the sample did not show, so that a full scan is needed.
    pub fn is_outgrown(&self) -> bool {
        match self {
            Self::Sample(sample) => sample.0.load(Ordering::Acquire),
            Self::Full => false,
        }
    }
}

/// What a table is opened with.
#[derive(Clone, Copy, Debug)]
pub struct Opening<'o> {
    /// How it is read.
    pub options: &'o ReadOptions,
    /// Bytes of a batch.
    pub batch_size: usize,
    /// Bytes of the largest record that is taken.
    pub largest_record: usize,
    /// How much is read before the columns are final.
    pub scan: &'o SchemaScan,
}

/// A source that is open: one table, or several sheets of which some are chosen.
pub trait Source: Send {
    /// What its format is called.
    fn format_name(&self) -> &'static str;

    /// How many tables of it are read.
    fn tables(&self) -> usize {
        1
    }

    /// Opens the table with this number, from 0. Each is opened once.
    ///
    /// # Errors
    ///
    /// If it cannot be read.
    fn open_table(
        &mut self,
        table: usize,
        opening: Opening<'_>,
    ) -> Result<Box<dyn RecordReader>, ReadError>;

    /// The sheets that are not read, if it is a workbook.
    fn sheets_left_out(&self) -> Option<SheetsLeftOut> {
        None
    }
}

/// The sheets of a workbook that are not read, by name.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct SheetsLeftOut {
    /// Chosen and empty.
    pub empty: Vec<String>,
    /// With cells, and not chosen.
    pub not_chosen: Vec<String>,
    /// With a chart or macros in place of cells.
    pub without_cells: Vec<String>,
}

/// How records of a document are copied verbatim.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Verbatim {
    /// What stands around them in an output.
    pub around: DocumentFrame,
    /// What is after the last is known when all of the document is read.
    pub has_foot: bool,
    /// Line ends in records are left out.
    pub one_line: bool,
}

/// What an encoder is asked for.
#[derive(Debug)]
pub struct EncoderRequest<'r> {
    /// The columns of the output, with the types of their values.
    pub columns: Vec<TextColumn>,
    /// How cells are read.
    pub cells: Cells,
    /// How sources are read.
    pub read: &'r ReadOptions,
    /// How outputs are written.
    pub write: &'r WriteOptions,
    /// The dialect and encoding of the output.
    pub out: Dialect,
    /// The fields of its records, for formats that move them as they are.
    pub fields: Fields,
    /// What there is to the document that the records come from, if they come from one.
    pub document: Option<DocumentNames>,
}

/// The fields of records as they are in batches.
#[derive(Debug)]
pub struct Fields {
    /// The dialect of the batches.
    pub dialect: Dialect,
    /// The fields of a record in the source.
    pub width: usize,
    /// The places of the fields that are written, in order; `None` for all of the source.
    pub selection: Option<Vec<usize>>,
    /// The header, and the places in it that count; `None` for no header.
    pub header: Option<(Batch, Option<Vec<usize>>)>,
    /// Line ends stay as they are in the source.
    pub keep_line_ends: bool,
}

/// Names of a document that outputs made of it have, too.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct DocumentNames {
    /// The element around the records, and that of a record.
    pub elements: Option<(String, String)>,
    /// Prefixes, and the namespaces that they represent.
    pub namespaces: Vec<(String, String)>,
}

/// An encoder, and what is to be said of it.
pub struct NewEncoder {
    /// The encoder.
    pub encoder: Arc<dyn RecordEncoder>,
    /// A column whose dots nest values, though its source has no nesting.
    pub nested: Option<String>,
    /// Names that were changed, with what is written instead.
    pub renamed: Vec<(String, String)>,
}

impl NewEncoder {
    /// An encoder of which nothing is to be said.
    pub fn of(encoder: impl RecordEncoder + 'static) -> Self {
        Self {
            encoder: Arc::new(encoder),
            nested: None,
            renamed: Vec::new(),
        }
    }
}

impl fmt::Debug for NewEncoder {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.debug_struct("NewEncoder").finish_non_exhaustive()
    }
}
