//! Options that mean the same in every command.

use std::path::PathBuf;

use clap::Args;

use clap::builder::{PossibleValuesParser, TypedValueParser};
use numerant_data::source::{Compression, FilePattern};
use numerant_data::value::Size;
use numerant_engine::gather::ColumnPolicy;
use numerant_engine::job::{Formulas, Overflow, SheetOrder};
use numerant_engine::output::ExistingPolicy;
use numerant_naming::{ClashPolicy, KeyError, NamePattern, Template, parse_columns};

/// A parser for one of a few words, each with its value.
pub(super) fn choice<T: Clone + Send + Sync + 'static>(
    words: &'static [(&'static str, T)],
) -> impl TypedValueParser<Value = T> {
    PossibleValuesParser::new(words.iter().map(|(word, _)| *word)).map(move |chosen| {
        let found = words.iter().find(|(word, _)| *word == chosen);
        found
            .map(|(_, value)| value.clone())
            .expect("the parser lets only these words through")
    })
}

/// A parser for the extension of a format that is written.
pub(super) fn format(text: &str) -> Result<String, String> {
    let extension = text.trim_start_matches('.').to_lowercase();
    let (plain, _) = Compression::of_name(&extension);
    match numerant_formats::format_of(plain) {
        Some(_) => Ok(extension),
        None => Err(format!(
            "no format is written as '{text}'; known are {}",
            numerant_formats::known_extensions().join(", ")
        )),
    }
}

/// Names of columns, as one option takes them.
#[derive(Clone, Debug)]
pub(super) struct ColumnList(Vec<String>);

/// A parser for names of columns.
pub(super) fn columns(text: &str) -> Result<ColumnList, KeyError> {
    parse_columns(text).map(ColumnList)
}

/// A parser for values that are read as blank.
pub(super) fn values(text: &str) -> Result<ColumnList, String> {
    match parse_columns(text) {
        Ok(values) => Ok(ColumnList(values)),
        Err(KeyError::Empty(_)) => Err("a value is missing; empty fields are blank anyway".into()),
        Err(error) => Err(error.to_string()),
    }
}

/// The names in all lists of an option that may be repeated.
pub(super) fn names(lists: Vec<ColumnList>) -> Vec<String> {
    lists.into_iter().flat_map(|list| list.0).collect()
}

const COLUMNS: &[(&str, ColumnPolicy)] = &[
    ("same", ColumnPolicy::Same),
    ("union", ColumnPolicy::Union),
    ("common", ColumnPolicy::Common),
    ("first", ColumnPolicy::First),
];

const OVERFLOWS: &[(&str, Overflow)] = &[
    ("refuse", Overflow::Refuse),
    ("sheets", Overflow::Sheets),
    ("files", Overflow::Files),
];

const SHEET_ORDERS: &[(&str, SheetOrder)] = &[
    ("natural", SheetOrder::Natural),
    ("records", SheetOrder::Records),
];

const CLASHES: &[(&str, ClashPolicy)] = &[
    ("refuse", ClashPolicy::Refuse),
    ("number", ClashPolicy::Number),
    ("first", ClashPolicy::First),
    ("last", ClashPolicy::Last),
    ("together", ClashPolicy::Together),
];

const EXISTING: &[(&str, ExistingPolicy)] = &[
    ("refuse", ExistingPolicy::Refuse),
    ("replace", ExistingPolicy::Replace),
    ("clear", ExistingPolicy::Clear),
    ("newer", ExistingPolicy::Newer),
    ("skip", ExistingPolicy::Skip),
];

const FORMULAS: &[(&str, Formulas)] = &[("keep", Formulas::Keep), ("values", Formulas::Values)];

pub(super) const YES_NO: &[(&str, bool)] = &[("yes", true), ("no", false)];

const REPORTS: &[(&str, Report)] = &[("text", Report::Text), ("json", Report::Json)];

/// Which files are read.
#[derive(Debug, Args)]
#[command(next_help_heading = "Reading")]
pub(super) struct FileOptions {
    /// Files, folders, or patterns such as 'in/**/*.csv'; - for standard input. Files compressed
    /// with gzip or Zstandard are decompressed
    #[arg(required = true, value_name = "FILE", help_heading = None)]
    pub(super) files: Vec<PathBuf>,
    /// Include subfolders
    #[arg(long)]
    pub(super) recursive: bool,
    /// In folders and patterns, read only files that match PATTERN, such as '*.dat' or 'north/**';
    /// may be repeated
    #[arg(long, value_name = "PATTERN")]
    pub(super) pick: Vec<FilePattern>,
    /// In folders and patterns, skip files and folders that match PATTERN; may be repeated
    #[arg(long, value_name = "PATTERN")]
    pub(super) skip: Vec<FilePattern>,
    /// Add columns with values from file names, such as '{station}_{term}.tsv' or
    /// '{year}/{station}.csv'
    #[arg(long, value_name = "TEMPLATE")]
    pub(super) from_name: Option<NamePattern>,
    /// Add a column NAME with the source file of each record, without its extension; a column
    /// called 'path' holds the path below the common folder
    #[arg(long, value_name = "NAME")]
    pub(super) source_column: Option<String>,
}

/// How the columns of several sources become those of one table.
#[derive(Debug, Args)]
#[command(next_help_heading = "Reading")]
pub(super) struct GatherOptions {
    /// Combine files whose columns differ: same refuses them, union keeps all columns, common keeps
    /// the columns that all files have, first keeps those of the first file [default: same; union
    /// for JSON and XML]
    #[arg(long, value_name = "POLICY", value_parser = choice(COLUMNS))]
    pub(super) columns: Option<ColumnPolicy>,
}

/// What becomes of formulas.
#[derive(Debug, Args)]
#[command(next_help_heading = "Writing")]
pub(super) struct FormulaOptions {
    /// Formulas in sheets that keep their look: keep copies them (but not those that refer to a
    /// missing sheet), values replaces them by their values
    #[arg(long, value_name = "POLICY", value_parser = choice(FORMULAS), default_value = "keep")]
    pub(super) formulas: Formulas,
}

/// What outputs are called besides their paths.
#[derive(Debug, Args)]
#[command(next_help_heading = "Naming")]
pub(super) struct NamingOptions {
    /// Sheet of each output, such as '{quay}'; outputs with the same path become sheets of one
    /// workbook [default: the source's sheet or name]
    #[arg(long, value_name = "TEMPLATE")]
    pub(super) sheet: Option<Template>,
    /// Order of sheets in a workbook: natural (by name, 2 before 10) or in the order of first records [default: natural
    /// if --sheet has a column, else records]
    #[arg(long, value_name = "ORDER", value_parser = choice(SHEET_ORDERS))]
    pub(super) sheet_order: Option<SheetOrder>,
    /// Title of each table in .pdf and .html, such as 'Calls at {quay}' [default: the sheet's name]
    #[arg(long, value_name = "TEMPLATE")]
    pub(super) title: Option<Template>,
    /// Subtitle below the title in .pdf and .html
    #[arg(long, value_name = "TEMPLATE")]
    pub(super) subtitle: Option<Template>,
    /// Group the records of .pdf and .html by the values of a column, with subtotals of the --total
    /// columns
    #[arg(long, value_name = "COLUMN")]
    pub(super) group_by: Option<String>,
    /// Outputs with more records than a sheet holds: refuse ends the run, sheets and files continue
    /// in further sheets or files
    #[arg(long, value_name = "POLICY", value_parser = choice(OVERFLOWS), default_value = "refuse")]
    pub(super) overflow: Overflow,
    /// Write all outputs into one new zip archive instead of a folder
    #[arg(long, value_name = "FILE.zip", conflicts_with = "out")]
    pub(super) pack: Option<PathBuf>,
    /// Allow absolute folders in {COLUMN:folders} at the start of a name, outside the output folder
    #[arg(long, conflicts_with = "pack")]
    pub(super) allow_absolute: bool,
    /// Text that replaces a blank value in names
    #[arg(long, value_name = "TEXT", default_value = "blank")]
    pub(super) blank: String,
    /// Two outputs with the same file or sheet: refuse ends the run, number adds _2, _3 …, first
    /// and last keep one of them, together writes both into one
    #[arg(long, value_name = "POLICY", value_parser = choice(CLASHES), default_value = "refuse")]
    pub(super) clash: ClashPolicy,
    /// Outputs that exist already: refuse ends the run, replace overwrites them, skip keeps them,
    /// clear also removes outputs of the previous run (in the --ledger file) that this run does not
    /// write, newer (convert only) replaces those older than their source
    #[arg(long, value_name = "POLICY", value_parser = choice(EXISTING), default_value = "refuse")]
    pub(super) existing: ExistingPolicy,
}

/// How a run is done, and whether at all.
#[derive(Debug, Args)]
#[command(next_help_heading = "Running")]
pub(super) struct DoingOptions {
    /// Show the outputs without writing them
    #[arg(long, conflicts_with = "ask")]
    plan: bool,
    /// With --plan, show the first N records of each output as they would be written, of documents
    /// the first lines
    #[arg(long, value_name = "N", requires = "plan")]
    pub(super) show: Option<usize>,
    /// Show the outputs and ask before writing them
    #[arg(long)]
    ask: bool,
    /// Maximum number of outputs; a run with more is refused
    #[arg(long, value_name = "N", default_value_t = 1000)]
    pub(super) max_outputs: u64,
    /// Number of threads [default: number of processors]
    #[arg(long, value_name = "N", default_value_t = 0, hide_default_value = true)]
    pub(super) jobs: usize,
    /// Sum a column over all records and in each output, and check that the sums agree; may be
    /// repeated
    #[arg(long, value_name = "COLUMN[,COLUMN…]", value_parser = columns)]
    pub(super) total: Vec<ColumnList>,
}

/// Whether a run is shown or done.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(crate) enum Mode {
    /// Show what would be done.
    Plan,
    /// Show it, ask, and do it.
    Ask,
    /// Do it.
    Run,
}

impl DoingOptions {
    pub(super) fn mode(&self) -> Mode {
        match (self.plan, self.ask) {
            (true, _) => Mode::Plan,
            (false, true) => Mode::Ask,
            (false, false) => Mode::Run,
        }
    }
}

/// Whether a job is kept in place of being done.
#[derive(Debug, Args)]
#[command(next_help_heading = "Running")]
pub(super) struct SavingOptions {
    /// Save the command as a job for 'numerant run' instead of running it
    #[arg(long, value_name = "FILE")]
    pub(super) save_job: Option<PathBuf>,
}

/// How a command runs.
#[derive(Debug, Args)]
#[command(next_help_heading = "Running")]
pub(super) struct RunningOptions {
    /// Memory limit for buffers; one record may take a quarter of it
    #[arg(long, value_name = "SIZE", default_value = "512M")]
    pub(super) memory: Size,
    #[command(flatten)]
    pub(super) report: ReportOptions,
}

/// How a run is reported.
#[derive(Clone, Copy, Debug, Args)]
pub(crate) struct ReportOptions {
    /// Report the result as text or as one JSON document
    #[arg(long, value_name = "FORM", value_parser = choice(REPORTS), default_value = "text")]
    pub(crate) report: Report,
    /// Show only errors: no progress, no result
    #[arg(long, short)]
    pub(crate) quiet: bool,
}

/// The form of a result.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(crate) enum Report {
    /// For people.
    Text,
    /// For programs.
    Json,
}

/// Where a page about what was done is written.
#[derive(Debug, Args)]
pub(super) struct PageOption {
    /// Write the result as an HTML page; an existing page is replaced
    #[arg(long, value_name = "FILE.html", help_heading = "Running")]
    pub(super) page: Option<PathBuf>,
}

/// Where the ledger and the rejected records are kept.
#[derive(Debug, Args)]
#[command(next_help_heading = "Running")]
pub(super) struct KeepingOptions {
    /// Write the ledger, the account of the run, as JSON; verify and deliver read it
    #[arg(long, value_name = "FILE")]
    pub(super) ledger: Option<PathBuf>,
    #[command(flatten)]
    pub(super) page: PageOption,
    /// Write rejected records to FILE, verbatim
    #[arg(long, value_name = "FILE", help_heading = "Reading")]
    pub(super) rejects: Option<PathBuf>,
}
