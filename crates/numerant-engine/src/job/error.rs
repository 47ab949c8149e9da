//! What is wrong with a job, as far as it shows without reading anything.

use std::path::PathBuf;

use numerant_data::source::SourcePath;
use numerant_formats::{known_extensions, read_extensions};
use numerant_naming::Template;
use numerant_trees::MAX_DEPTH;

/// A job that cannot be run as it is.
#[derive(Clone, Debug, PartialEq, Eq, thiserror::Error)]
pub enum JobError {
    /// No source.
    #[error("there is nothing to read: name a file, or - for standard input")]
    NoSource,
    /// One source twice.
    #[error("{0} is named twice")]
    SameSource(SourcePath),
    /// One file under two names.
    #[error("{first} and {second} are the same file; its records would be there twice")]
    SameFile {
        /// The name that comes first.
        first: SourcePath,
        /// The other one.
        second: SourcePath,
    },
    /// Neither keys nor columns in the name.
    #[error("there is nothing to split by")]
    NothingToSplitBy,
    /// Two options that exclude each other.
    #[error("'{first}' and '{second}' cannot be used together")]
    NotTogether {
        /// The key of one.
        first: &'static str,
        /// The key of the other.
        second: &'static str,
    },
    /// A mark of decimals in two ways.
    #[error("'decimal-comma' and a 'number-format' with a decimal point cannot be used together")]
    DecimalMarks,
    /// Outputs of no records or no bytes.
    #[error("'{0}' must be at least 1")]
    Nothing(&'static str),
    /// `others` without `case`.
    #[error("'others' names what no case holds for, and there is no case")]
    OthersWithoutCase,
    /// `{.case}` without `case`.
    #[error("the name '{0}' holds {{.case}}, and there is no case")]
    NoCase(Template),
    /// Outputs that are joined cannot be named by how many records are in each.
    #[error(
        "'clash' cannot be '{0}' with {{.rows}} in the name, which is known only when all is written"
    )]
    ClashWithRows(&'static str),
    /// A control total twice.
    #[error("'total' names '{0}' twice")]
    TotalTwice(String),
    /// The name has no extension, so there is no format.
    #[error("the name '{0}' has no extension that states the format; known extensions are {known}", known = extensions())]
    NoExtension(Template),
    /// The extension is no format's.
    #[error("the extension '.{0}' belongs to no format; known extensions are {known}", known = extensions())]
    UnknownExtension(String),
    /// A policy that is for files that become one output each.
    #[error("'existing' can be 'newer' only where each file has its own output")]
    NewerOfBatch,
    /// Several sources and no output folder.
    #[error("there are several files, and no output folder is named")]
    NoOut,
    /// An archive that is to be added to.
    #[error("'pack' writes a new archive; with it, 'existing' is refuse or replace")]
    PackAsItIs,
    /// An archive that is not called one.
    #[error("'pack' writes a zip archive, and {} is not called one", .0.display())]
    PackName(PathBuf),
    /// `rejects` where nothing is rejected.
    #[error("'rejects' keeps rejected records, and nothing in the job rejects any")]
    RejectsWithoutPolicy,
    /// Ledger and rejects in one file.
    #[error("two of 'ledger', 'rejects', 'page' and 'pack' name the same file")]
    SameSideFile,
    /// No room at all.
    #[error("'memory' must be at least 1M")]
    TooLittleMemory,
    /// No output at all, or more than can be counted.
    #[error("'max-outputs' must be at least 1 and below 4,294,967,295")]
    MaxOutputs,
    /// Sheets of what has none.
    #[error("'{0}' is for workbooks, and the outputs are text")]
    SheetsOfText(&'static str),
    /// What only pages have.
    #[error("'{0}' is for .pdf and .html, and the outputs are neither")]
    NotPages(&'static str),
    /// What only tables on pages have.
    #[error("'{0}' is for tables; sheets that keep their look have their own titles and groups")]
    NotTables(&'static str),
    /// Groups by a column that outputs do not have.
    #[error("'group-by' names '{0}', and the outputs do not have the column")]
    GroupLeftOut(String),
    /// More records to an output than a sheet has rows.
    #[error("'rows' is {rows}, more than a sheet holds; the maximum is {most}")]
    RowsOfSheet {
        /// Records that were wanted.
        rows: u64,
        /// Records that there may be.
        most: u64,
    },
    /// An option for documents, and outputs that are none.
    #[error("'{key}' is for {formats}, and the outputs are {format}")]
    OnlyFor {
        /// The key.
        key: &'static str,
        /// What it is for.
        formats: String,
        /// The format of the outputs.
        format: &'static str,
    },
    /// JSON in another encoding.
    #[error("JSON is written in UTF-8 (RFC 8259), not in {0}")]
    JsonEncoding(&'static str),
    /// Levels that cannot be followed.
    #[error("'depth' must be at least 1 and at most {MAX_DEPTH}")]
    Depth,
    /// Workbooks are packed already.
    #[error("'{0}': workbooks are already compressed, so {ending} is for text only", ending = .1)]
    CompressedBook(Template, &'static str),
    /// The size of a workbook is not known before it is written.
    #[error("'max-size' is for text: how large a workbook becomes is known only when it is packed")]
    SizeOfWorkbook,
    /// Outputs of an earlier run are not known.
    #[error(
        "'existing' = 'clear' removes outputs in the ledger of the previous run, and no ledger is named"
    )]
    ClearWithoutLedger,
    /// Each file of a batch is a run of its own.
    #[error(
        "'existing' can be 'clear' for split, combine and fill only; convert writes each file separately"
    )]
    ClearOfBatch,
    /// Lines with other columns, in outputs of lines.
    #[error("an output of lines has room for one column, and these would be written: {}", .0.join(", "))]
    LinesWithColumns(Vec<String>),
    /// `from` names no format.
    #[error("'from': '{0}' is not a format that is read; known are {known}", known = read_extensions().join(", "))]
    UnknownFormat(String),
    /// Absolute folders, and something that is about the output folder alone.
    #[error("'allow-absolute' does not go with '{with}', which is about the output folder")]
    AbsoluteWith {
        /// The key.
        with: &'static str,
    },
    /// Whole rows of one sheet, and something that is more or less than these.
    #[error("'like-source' copies whole rows of one sheet verbatim: {0}")]
    LikeSource(LikeSourceConflict),
    /// A template to be filled, and nothing that says with what.
    #[error("there is nothing to fill in")]
    NothingToPut,
    /// A place that is filled twice.
    #[error("'put' fills {0} twice")]
    PutTwice(String),
    /// Several tables, and nothing that says which records are for which.
    #[error("there are several tables, and nothing says whose records go to {0}")]
    WhichTable(String),
    /// A table for a case that is none.
    #[error("'put' at {place} is for the case '{case}', which is none")]
    NoSuchCase {
        /// Where the table is put.
        place: String,
        /// The name.
        case: String,
    },
    /// A case without a table.
    #[error("the records of the case '{0}' have no place")]
    CaseWithoutTable(String),
    /// Something that has no meaning where templates are filled.
    #[error("{0} has no meaning where copies of a template are filled")]
    NotForFill(&'static str),
    /// What represents blanks is itself no name.
    #[error("'blank' must be a name that files can have")]
    Blank,
}

/// What does not go with rows that are copied whole.
#[derive(Clone, Copy, Debug, PartialEq, Eq, thiserror::Error)]
pub enum LikeSourceConflict {
    /// Several files.
    #[error("several files are named")]
    Files,
    /// Several sheets.
    #[error("several sheets are read")]
    Sheets,
    /// No header.
    #[error("the sheet needs a row that names its columns")]
    NoHeader,
    /// Outputs by sheet, or that go on in further sheets.
    #[error("the outputs are by sheet, or go on in further ones")]
    SheetsOfOutputs,
    /// Steps that change cells or choose columns by type.
    #[error("a step changes or chooses columns by their values")]
    Steps,
    /// Types of cells.
    #[error("'types' gives the cells other types")]
    Types,
    /// A format that cannot hold the rows.
    #[error("the outputs are in a format that cannot hold them")]
    Format,
    /// Columns that move.
    #[error("its columns stay where they are, and the steps move or rename some")]
    Columns,
}

fn extensions() -> String {
    known_extensions()
        .iter()
        .map(|name| format!(".{name}"))
        .collect::<Vec<_>>()
        .join(", ")
}
