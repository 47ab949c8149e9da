//! What is wrong with a job, as far as it shows without reading anything.

use std::path::PathBuf;

use numerant_data::source::SourcePath;
use numerant_formats::{known_extensions, read_extensions};
use numerant_naming::{Template, WordsError};
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
    #[error(
        "there is nothing to split by: use --by COLUMN, --case NAME=CONDITION, --rows N, --parts N, --max-size SIZE, --each or --per-sheet, or a column in --name"
    )]
    NothingToSplitBy,
    /// Two options that exclude each other.
    #[error("{first} and {second} cannot be used together")]
    NotTogether {
        /// One.
        first: &'static str,
        /// The other.
        second: &'static str,
    },
    /// Outputs of no records or no bytes.
    #[error("{0} must be at least 1")]
    Nothing(&'static str),
    /// `--others` without `--case`.
    #[error("--others names what no --case holds for, and there is no --case")]
    RestWithoutCase,
    /// `{.case}` without `--case`.
    #[error("the name '{0}' holds {{.case}}, and there is no --case")]
    NoCase(Template),
    /// Outputs that are joined cannot be named by how many records are in each.
    #[error(
        "--clash {0} cannot go with {{.rows}} in the name, which is known only when all is written"
    )]
    ClashWithRows(&'static str),
    /// A control total twice.
    #[error("--total names '{0}' twice")]
    TotalTwice(String),
    /// The name has no extension, so there is no format.
    #[error("the name '{0}' has no extension that states the format; end it with one of {known}, or state it with --to FORMAT", known = extensions())]
    NoExtension(Template),
    /// The extension is no format's.
    #[error("the extension '.{0}' belongs to no format; --to FORMAT writes any extension; known extensions are {known}", known = extensions())]
    UnknownExtension(String),
    /// A policy that is for files that become one output each.
    #[error("--existing newer is for convert, where each file has its own output")]
    NewerOfBatch,
    /// Several sources and no output folder.
    #[error("with several files, name the output folder with --out")]
    NoOut,
    /// An archive that is to be added to.
    #[error("--pack writes a new archive; with it, --existing is refuse or replace")]
    PackAsItIs,
    /// An archive that is not called one.
    #[error("--pack writes a zip archive: call it {path}", path = .0.with_extension("zip").display())]
    PackName(PathBuf),
    /// `--rejects` where nothing is rejected.
    #[error(
        "--rejects keeps rejected records, and no option rejects any: add --ragged reject, --on-error reject or --unmatched reject"
    )]
    RejectsWithoutPolicy,
    /// Ledger and rejects in one file.
    #[error("two of --ledger, --rejects, --page and --pack name the same file")]
    SameSideFile,
    /// No room at all.
    #[error("--memory must be at least 1M")]
    TooLittleMemory,
    /// No output at all, or more than can be counted.
    #[error("--max-outputs must be at least 1 and below 4,294,967,295")]
    MaxOutputs,
    /// Sheets of what has none.
    #[error("{0} is for workbooks, and the outputs are text; end --name with .xlsx")]
    SheetsOfText(&'static str),
    /// What only pages have.
    #[error("{0} is for .pdf and .html; end --name with one of them")]
    NotPages(&'static str),
    /// What only tables on pages have.
    #[error("{0} is for tables; sheets that keep their look have their own titles and groups")]
    NotTables(&'static str),
    /// Groups by a column that outputs do not have.
    #[error(
        "--group-by {0}: the outputs do not have the column; add it to --keep, or remove it from --drop"
    )]
    GroupLeftOut(String),
    /// More records to an output than a sheet has rows.
    #[error("--rows {rows} is more than a sheet holds; the maximum is {most}")]
    RowsOfSheet {
        /// Records that were wanted.
        rows: u64,
        /// Records that there may be.
        most: u64,
    },
    /// An option for documents, and outputs that are none.
    #[error("{option} is for {formats}, and the outputs are {format}")]
    OnlyFor {
        /// The option.
        option: &'static str,
        /// What it is for.
        formats: &'static str,
        /// The format of the outputs.
        format: &'static str,
    },
    /// JSON in another encoding.
    #[error("JSON is written in UTF-8 (RFC 8259), not in {0}")]
    JsonEncoding(&'static str),
    /// A comment that names something of a record.
    #[error("--xml-comment: {0}")]
    Comment(WordsError),
    /// Levels that cannot be followed.
    #[error("--depth must be at least 1 and at most {MAX_DEPTH}")]
    Depth,
    /// Workbooks are packed already.
    #[error("'{0}': workbooks are already compressed, so {ending} is for text only", ending = .1)]
    CompressedBook(Template, &'static str),
    /// The size of a workbook is not known before it is written.
    #[error(
        "--max-size is for text: how large a workbook becomes is known only when it is packed; use --rows"
    )]
    SizeOfWorkbook,
    /// Outputs of an earlier run are not known.
    #[error(
        "--existing clear removes outputs in the ledger of the previous run: state it with --ledger FILE"
    )]
    ClearWithoutLedger,
    /// Each file of a batch is a run of its own.
    #[error("--existing clear is for split, combine and fill; convert writes each file separately")]
    ClearOfBatch,
    /// Lines with other columns, in outputs of lines.
    #[error("with --lines, an output of lines has room for one column, and these would be written: {}; write .csv, .json or .xlsx, or choose one with --keep", .0.join(", "))]
    LinesWithColumns(Vec<String>),
    /// `--from` names no format.
    #[error("--from: '{0}' is not a format that is read; known are {known}", known = read_extensions().join(", "))]
    UnknownFormat(String),
    /// Absolute folders, and something that is about the output folder alone.
    #[error("--allow-absolute does not go with {with}, which is about the output folder")]
    AbsoluteWith {
        /// The option.
        with: &'static str,
    },
    /// Whole rows of one sheet, and something that is more or less than these.
    #[error("--like-source copies whole rows of one sheet verbatim: {0}")]
    LikeSource(&'static str),
    /// A template to be filled, and nothing that says with what.
    #[error("there is nothing to fill in: use --put 'Sheet!B6={{.records}}'")]
    NothingToPut,
    /// A place that is filled twice.
    #[error("--put fills {0} twice")]
    PutTwice(String),
    /// Several tables, and nothing that says which records are for which.
    #[error(
        "there are several tables: state the files of each, as in '{0}={{.records:*_level.tsv}}', or the name of its --case"
    )]
    WhichTable(String),
    /// A table for a case that is none.
    #[error("--put '{place}' is for the case '{case}', which no --case names")]
    NoSuchCase {
        /// Where the table is put.
        place: String,
        /// The name.
        case: String,
    },
    /// A case without a table.
    #[error(
        "the records of the case '{0}' have no place: state one with --put 'Sheet!B6={{.records:{0}}}'"
    )]
    CaseWithoutTable(String),
    /// Something that has no meaning where templates are filled.
    #[error("{0} has no meaning where copies of a template are filled")]
    NotForFill(&'static str),
    /// What represents blanks is itself no name.
    #[error("--blank must be a name that files can have")]
    Blank,
}

fn extensions() -> String {
    known_extensions()
        .iter()
        .map(|name| format!(".{name}"))
        .collect::<Vec<_>>()
        .join(", ")
}
