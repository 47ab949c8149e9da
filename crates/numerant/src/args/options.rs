//! Options that mean the same in every command.

use std::path::PathBuf;

use clap::Args;

use super::format_options::{ReadingOptionsOfFormats, WritingOptionsOfFormats};
use clap::builder::{PossibleValuesParser, TypedValueParser};
use numerant_data::dialect::{Delimiter, Escape, LineEnd, Quote};
use numerant_data::encoding::Encoding;
use numerant_data::source::{Compression, FilePattern};
use numerant_data::tree::Repeats;
use numerant_data::value::{DateFormat, Language, NumberFormat, Size};
use numerant_engine::gather::ColumnPolicy;
use numerant_engine::job::{Formulas, Overflow, SheetOrder};
use numerant_engine::output::ExistingPolicy;
use numerant_format::sheet::{CellContent, Types, Uncomputed};
use numerant_format::{
    Balance, Blanks, ControlCharacters, Miscounted, Namespace, Ragged, ReadOptions, WriteOptions,
};
use numerant_naming::{ClashPolicy, KeyError, NamePattern, Template, Words, parse_columns};

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
fn values(text: &str) -> Result<ColumnList, String> {
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

const RAGGED: &[(&str, Ragged)] = &[
    ("error", Ragged::Error),
    ("pad", Ragged::Pad),
    ("reject", Ragged::Reject),
];

const LINE_ENDS: &[(&str, LineEnd)] = &[
    ("lf", LineEnd::Lf),
    ("crlf", LineEnd::CrLf),
    ("cr", LineEnd::Cr),
];

const TYPES: &[(&str, Types)] = &[("auto", Types::Auto), ("off", Types::Off)];

const CONTROL_SIGNS: &[(&str, ControlCharacters)] = &[
    ("refuse", ControlCharacters::Refuse),
    ("drop", ControlCharacters::Drop),
];

const COLUMNS: &[(&str, ColumnPolicy)] = &[
    ("same", ColumnPolicy::Same),
    ("union", ColumnPolicy::Union),
    ("common", ColumnPolicy::Common),
    ("first", ColumnPolicy::First),
];

const NULLS: &[(&str, Blanks)] = &[
    ("keep", Blanks::Keep),
    ("absent", Blanks::Absent),
    ("null", Blanks::Null),
    ("empty", Blanks::Empty),
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

const BALANCES: &[(&str, Balance)] = &[
    ("refuse", Balance::Refuse),
    ("recompute", Balance::Recompute),
    ("keep", Balance::Keep),
];

const MISCOUNTED: &[(&str, Miscounted)] = &[
    ("mend", Miscounted::Mend),
    ("keep", Miscounted::Keep),
    ("refuse", Miscounted::Refuse),
];

const UNCOMPUTED: &[(&str, Uncomputed)] = &[
    ("error", Uncomputed::Error),
    ("blank", Uncomputed::Blank),
    ("formula", Uncomputed::Formula),
];

const CELL_CONTENTS: &[(&str, CellContent)] =
    &[("value", CellContent::Value), ("shown", CellContent::Shown)];

const YES_NO: &[(&str, bool)] = &[("yes", true), ("no", false)];

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

/// How sources are read.
#[derive(Debug, Args)]
#[command(next_help_heading = "Reading")]
pub(super) struct ReadingOptions {
    /// Format of the sources, as an extension such as csv or xlsx [default: detected from the
    /// content]
    #[arg(long, value_name = "FORMAT")]
    from: Option<String>,
    /// Sheets of a workbook to read, by name or number, or all; write a name with a comma in double
    /// quotes [default: the first visible sheet]
    #[arg(long, value_name = "SHEET[,SHEET…]", value_parser = columns)]
    read_sheet: Vec<ColumnList>,
    /// Formulas that were never calculated: error refuses the sheet, blank reads them as blank,
    /// formula reads their text, such as =B2*C2
    #[arg(long, value_name = "POLICY", value_parser = choice(UNCOMPUTED), default_value = "error")]
    on_uncomputed: Uncomputed,
    /// Read the values of workbook cells, or the text shown in the sheet (the value in its number
    /// format)
    #[arg(long, value_name = "WHAT", value_parser = choice(CELL_CONTENTS), default_value = "value")]
    cells: CellContent,
    /// Separator between fields: a character, several such as '||', a byte such as '\x01', or
    /// comma, semicolon, tab, pipe, space [default: detected]
    #[arg(long, value_name = "TEXT")]
    delimiter: Option<Delimiter>,
    /// Quote character around fields that contain separators or line breaks, or none [default: "]
    #[arg(long, value_name = "CHAR")]
    quote: Option<Quote>,
    /// Escape character before a quote, a separator or itself, such as '\' in "say \"hi\""
    /// [default: quotes are doubled]
    #[arg(long, value_name = "CHAR")]
    escape: Option<Escape>,
    /// Ignore spaces between a separator and a quote, as in 1, "a, b" ,5; --padded-quotes=no keeps
    /// them [default: detected]
    #[arg(
        long,
        value_name = "yes|no",
        num_args = 0..=1,
        require_equals = true,
        default_missing_value = "yes",
        hide_possible_values = true,
        value_parser = choice(YES_NO)
    )]
    padded_quotes: Option<bool>,
    /// Skip and count lines that begin with PREFIX
    #[arg(long, value_name = "PREFIX")]
    comment: Option<String>,
    /// Read these values as blank, such as 'NA,NULL,-'; may be repeated
    #[arg(long, value_name = "VALUE[,VALUE…]", value_parser = values)]
    blank_values: Vec<ColumnList>,
    /// Character encoding, such as utf-8, utf-16le or windows-1252 [default: detected]
    #[arg(long, value_name = "NAME")]
    encoding: Option<Encoding>,
    /// Read each line as one record with the single column 'line', verbatim: no header, no fields,
    /// blank lines kept
    #[arg(long, conflicts_with_all = ["delimiter", "quote", "escape", "padded_quotes", "comment", "no_header"])]
    lines: bool,
    /// The first record is data, not a header; columns are called column_1, column_2 …
    #[arg(long)]
    no_header: bool,
    /// Skip the first N lines, or rows of a sheet
    #[arg(long, value_name = "N", default_value_t = 0, hide_default_value = true)]
    skip_lines: u64,
    /// Records with more or fewer fields than the header, and records that are damaged: error ends
    /// the run, pad fills missing fields, reject leaves the records out
    #[arg(long, value_name = "POLICY", value_parser = choice(RAGGED), default_value = "error")]
    ragged: Ragged,
    /// Path of the records in a document: a JSONPath such as '$.calls[*]', or an XPath such as
    /// '/port/call' or '//call'; for X12 and EDIFACT, 'messages' reads whole messages [default:
    /// detected]
    #[allow(rustdoc::broken_intra_doc_links, reason = "the help is no Markdown")]
    #[arg(long, value_name = "PATH")]
    records: Option<String>,
    /// Name of the column that holds the member names where records are the members of an object,
    /// as with --records '$.*' [default: key]
    #[arg(long, value_name = "NAME")]
    key_column: Option<String>,
    /// Flatten lists in JSON and XML records: columns makes a column for each item (columns=N
    /// allows up to N items), rows makes a record for each item (rows=PATH for one list), keep
    /// writes JSON in one cell [default: columns]
    #[arg(long, value_name = "HOW")]
    repeats: Option<Repeats>,
    /// Remove the namespace prefixes of XML names
    #[arg(long)]
    no_prefixes: bool,
    /// Add a layout that defines the records of messages (X12, UN/EDIFACT), as docs/messages.md
    /// describes; may be repeated
    #[arg(long, value_name = "FILE")]
    layout: Vec<PathBuf>,
    /// Counts and control numbers of messages that do not agree: mend reports and corrects them,
    /// keep reports them and leaves them in messages that are copied whole, refuse ends the run
    #[arg(long, value_name = "POLICY", value_parser = choice(MISCOUNTED), default_value = "mend")]
    miscounted: Miscounted,
    /// Maximum nesting depth of a document, up to 4000 [default: 128]
    #[arg(long, value_name = "N", value_parser = clap::value_parser!(u16).range(1..=4000))]
    depth: Option<u16>,
    #[command(flatten)]
    of_formats: ReadingOptionsOfFormats,
}

/// How cells are read where they are more than text.
#[derive(Debug, Args)]
#[command(next_help_heading = "Reading")]
pub(super) struct CellOptions {
    /// Read dates in this format, such as %d/%m/%Y, besides 2026-03-05 and 5.3.2026; may be
    /// repeated
    #[arg(long, value_name = "PATTERN")]
    pub(super) date_format: Vec<DateFormat>,
    /// Read and write numbers with a decimal comma, as in 1.234,50
    #[arg(long)]
    pub(super) decimal_comma: bool,
    /// Read numbers written like EXAMPLE, such as '1,234.50' or '1 234,50'; currencies, (12) and
    /// 12- for negative numbers, and 5 % for 0.05 are read too
    #[arg(long, value_name = "EXAMPLE")]
    pub(super) number_format: Option<NumberFormat>,
    /// Read month names in this language besides English: de, fr, pt-BR …
    #[arg(long, value_name = "LANGUAGE")]
    pub(super) locale: Option<Language>,
}

impl ReadingOptions {
    pub(super) fn into_options(self) -> ReadOptions {
        ReadOptions {
            from: self.from,
            read_sheet: names(self.read_sheet).into_iter().map(Into::into).collect(),
            delimiter: self.delimiter,
            quote: self.quote,
            escape: self.escape,
            padded_quotes: self.padded_quotes,
            comment: self.comment,
            blank_values: names(self.blank_values),
            encoding: self.encoding,
            lines: self.lines,
            no_header: self.no_header,
            skip_lines: self.skip_lines,
            ragged: self.ragged,
            records: self.records,
            key_column: self.key_column,
            repeats: self.repeats,
            no_prefixes: self.no_prefixes,
            depth: self.depth.map(usize::from),
            layout: self.layout,
            miscounted: self.miscounted,
            on_uncomputed: self.on_uncomputed,
            cells: self.cells,
            of_formats: self.of_formats.0,
            ..ReadOptions::default()
        }
    }
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
    /// With --plan, show the first N records of each output as they would be written
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

/// How outputs are written.
#[derive(Debug, Args)]
#[command(next_help_heading = "Writing")]
pub(super) struct WritingOptions {
    /// Separator between fields of outputs [default: that of the source; comma or tab if the output
    /// has another extension]
    #[arg(long, value_name = "CHAR")]
    out_delimiter: Option<Delimiter>,
    /// Character encoding of outputs [default: that of the source; utf-8 if the output has another
    /// extension]
    #[arg(long, value_name = "NAME")]
    out_encoding: Option<Encoding>,
    /// Write a byte-order mark; --bom=no writes none [default: as in the source]
    #[arg(
        long,
        value_name = "yes|no",
        num_args = 0..=1,
        require_equals = true,
        default_missing_value = "yes",
        hide_possible_values = true,
        value_parser = choice(YES_NO)
    )]
    bom: Option<bool>,
    /// Line ending of outputs [default: that of the source; lf if the output has another extension]
    #[arg(long, value_name = "END", value_parser = choice(LINE_ENDS))]
    line_end: Option<LineEnd>,
    /// Types of workbook columns: auto writes numbers and dates as such where every value can be
    /// read back unchanged, off writes everything as text
    #[arg(long = "types", value_name = "HOW", value_parser = choice(TYPES), default_value = "auto")]
    column_types: Types,
    /// Write workbooks without the number formats, column widths and header styles of their sources
    #[arg(long)]
    plain: bool,
    /// Control characters that the output format cannot hold: refuse ends the run, drop removes
    /// them
    #[arg(long, value_name = "POLICY", value_parser = choice(CONTROL_SIGNS), default_value = "refuse")]
    control_signs: ControlCharacters,
    /// Blank values in JSON and XML: keep writes them as the source document has them (blank table
    /// cells as null in JSON, absent in XML); absent, null and empty write all of them that way
    #[arg(long, value_name = "HOW", value_parser = choice(NULLS), default_value = "keep")]
    nulls: Blanks,
    /// Indent JSON and XML by N spaces for each level
    #[arg(long, value_name = "N", value_parser = clap::value_parser!(u8).range(0..=16))]
    indent: Option<u8>,
    /// Write column names with dots as they are, without nesting them
    #[arg(long)]
    flat: bool,
    /// Name of the XML root element [default: that of the source, or records]
    #[arg(long, value_name = "NAME")]
    root: Option<String>,
    /// Name of the XML record elements [default: that of the source, or record]
    #[arg(long, value_name = "NAME")]
    item: Option<String>,
    /// Declare a namespace in the XML root element, such as p=urn:varnholm:port; may be repeated
    #[arg(long, value_name = "PREFIX=URI")]
    namespace: Vec<Namespace>,
    /// Write a comment before the XML root element; {.rows}, {.source}, {.stem}, {.date} and
    /// {.time} are replaced
    #[arg(long, value_name = "TEXT")]
    xml_comment: Option<Words>,
    /// Write JSON or XML like the template in FILE, with placeholders in braces; docs/documents.md
    /// describes it
    #[arg(long, value_name = "FILE")]
    shape: Option<PathBuf>,
    /// Validate outputs with the schema in FILE, XML Schema or JSON Schema, and refuse the run if
    /// one is not valid
    #[arg(long, value_name = "FILE")]
    schema: Option<PathBuf>,
    /// Total of a message of which only some records are written: refuse ends the run, recompute
    /// writes their sum and removes adjustments, keep copies both unchanged
    #[arg(long, value_name = "POLICY", value_parser = choice(BALANCES), default_value = "refuse")]
    balance: Balance,
    #[command(flatten)]
    of_formats: WritingOptionsOfFormats,
    /// Flush outputs to the disk before they are moved into place
    #[arg(long)]
    pub(super) sync: bool,
}

impl WritingOptions {
    pub(super) fn options(&self) -> WriteOptions {
        WriteOptions {
            out_delimiter: self.out_delimiter,
            out_encoding: self.out_encoding,
            bom: self.bom,
            line_end: self.line_end,
            types: self.column_types,
            plain: self.plain,
            control_signs: self.control_signs,
            nulls: self.nulls,
            indent: self.indent.map(usize::from),
            flat: self.flat,
            root: self.root.clone(),
            item: self.item.clone(),
            namespace: self.namespace.clone(),
            xml_comment: self.xml_comment.clone(),
            shape: self.shape.clone(),
            schema: self.schema.clone(),
            balance: self.balance,
            of_formats: self.of_formats.0.clone(),
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
