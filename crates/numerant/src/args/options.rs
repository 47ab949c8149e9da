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
use numerant_engine::job::{Formulas, Overflow};
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
    /// Files, folders, or patterns such as 'in/**/*.csv'; - for standard input. .gz and .zst are
    /// decompressed
    #[arg(required = true, value_name = "FILE", help_heading = None)]
    pub(super) files: Vec<PathBuf>,
    /// Look into the folders of a folder, too
    #[arg(long)]
    pub(super) recursive: bool,
    /// Of folders and patterns, take only files that fit, such as '*.dat' or 'north/**'; may be
    /// repeated
    #[arg(long, value_name = "PATTERN")]
    pub(super) pick: Vec<FilePattern>,
    /// Of folders and patterns, leave out files and folders that fit; may be repeated
    #[arg(long, value_name = "PATTERN")]
    pub(super) skip: Vec<FilePattern>,
    /// Columns that the names of the files say, such as '{station}_{term}.tsv' or
    /// '{year}/{station}.csv'
    #[arg(long, value_name = "TEMPLATE")]
    pub(super) from_name: Option<NamePattern>,
    /// Add a column with the file that each record comes from, without its extension; a column called
    /// 'path' has the whole path below the common folder
    #[arg(long, value_name = "NAME")]
    pub(super) source_column: Option<String>,
}

/// How the columns of several sources become those of one table.
#[derive(Debug, Args)]
#[command(next_help_heading = "Reading")]
pub(super) struct GatherOptions {
    /// What to do where files do not have the same columns, in whatever order: same refuses them,
    /// union takes all, common those that all have, first those of the first [default: same; union
    /// where all are documents]
    #[arg(long, value_name = "POLICY", value_parser = choice(COLUMNS))]
    pub(super) columns: Option<ColumnPolicy>,
}

/// What becomes of formulas.
#[derive(Debug, Args)]
#[command(next_help_heading = "Writing")]
pub(super) struct FormulaOptions {
    /// What becomes of formulas in sheets that keep their look: keep, but for those that lead to a
    /// sheet that is not there; or the values that they had
    #[arg(long, value_name = "POLICY", value_parser = choice(FORMULAS), default_value = "keep")]
    pub(super) formulas: Formulas,
}

/// How sources are read.
#[derive(Debug, Args)]
#[command(next_help_heading = "Reading")]
pub(super) struct ReadingOptions {
    /// The format, by its extension such as csv or xlsx [default: told by the content]
    #[arg(long, value_name = "FORMAT")]
    from: Option<String>,
    /// Sheets of a workbook, by name or number, or all; a name with a comma stands in double quotes
    /// [default: the first that is shown]
    #[arg(long, value_name = "SHEET[,SHEET…]", value_parser = columns)]
    read_sheet: Vec<ColumnList>,
    /// What to do with formulas in workbooks that no program has computed: error refuses the sheet,
    /// blank reads them as blank, formula as texts such as =B2*C2
    #[arg(long, value_name = "POLICY", value_parser = choice(UNCOMPUTED), default_value = "error")]
    on_uncomputed: Uncomputed,
    /// What to read of the cells of workbooks: value, or shown, the text that the sheet shows by its number
    /// format
    #[arg(long, value_name = "WHAT", value_parser = choice(CELL_CONTENTS), default_value = "value")]
    cells: CellContent,
    /// Text between fields: a character, several such as '||', a byte such as '\x01', or comma,
    /// semicolon, tab, pipe, space [default: detected]
    #[arg(long, value_name = "TEXT")]
    delimiter: Option<Delimiter>,
    /// Character around fields that hold delimiters or line ends, or none [default: "]
    #[arg(long, value_name = "CHAR")]
    quote: Option<Quote>,
    /// Character before a quote, a delimiter or itself that makes it text, such as '\' in "say \"hi\""
    /// [default: quotes are doubled]
    #[arg(long, value_name = "CHAR")]
    escape: Option<Escape>,
    /// Drop blanks between a delimiter and a quote, as in 1, "a, b" ,5; or keep them with
    /// --padded-quotes=no [default: detected]
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
    /// Pass over lines that begin with this text, and count them
    #[arg(long, value_name = "PREFIX")]
    comment: Option<String>,
    /// Read these values as blank, such as 'NA,NULL,-'; may be repeated
    #[arg(long, value_name = "VALUE[,VALUE…]", value_parser = values)]
    blank_values: Vec<ColumnList>,
    /// Encoding of the characters, such as utf-8, utf-16le or windows-1252 [default: detected]
    #[arg(long, value_name = "NAME")]
    encoding: Option<Encoding>,
    /// Take each line verbatim, blank ones too, and parse nothing; a header is a line like any
    /// other, and the one column is called line
    #[arg(long, conflicts_with_all = ["delimiter", "quote", "escape", "padded_quotes", "comment", "no_header"])]
    lines: bool,
    /// The first record is data; columns are called column_1, column_2 …
    #[arg(long)]
    no_header: bool,
    /// Pass over lines, or rows of a sheet, at the start
    #[arg(long, value_name = "N", default_value_t = 0, hide_default_value = true)]
    skip_lines: u64,
    /// What to do with records that have more or fewer fields than the header, or are broken where
    /// each says its length
    #[arg(long, value_name = "POLICY", value_parser = choice(RAGGED), default_value = "error")]
    ragged: Ragged,
    /// Where the records of a document are: a JSONPath such as '$.calls[*]', or an XPath such as
    /// '/port/call' or '//call'; messages takes whole messages of X12 and EDIFACT [default: found out
    /// and told]
    #[allow(rustdoc::broken_intra_doc_links, reason = "the help is no Markdown")]
    #[arg(long, value_name = "PATH")]
    records: Option<String>,
    /// Call the column NAME that has the names of the members which are records, as with --records
    /// '$.*' [default: key]
    #[arg(long, value_name = "NAME")]
    key_column: Option<String>,
    /// What becomes of lists in the records of documents: columns, a column for each item
    /// (columns=N allows N of a list); rows, a record for each item (rows=PATH of that list); keep,
    /// JSON in one cell [default: columns]
    #[arg(long, value_name = "HOW")]
    repeats: Option<Repeats>,
    /// Leave the prefixes of XML names out
    #[arg(long)]
    no_prefixes: bool,
    /// A layout that says what the records of messages (X12, UN/EDIFACT) are, as docs/messages.md has
    /// it, besides those that are shipped; may be repeated
    #[arg(long, value_name = "FILE")]
    layout: Vec<PathBuf>,
    /// What to do with counts and control numbers of messages that do not agree: mend tells them and
    /// writes what agrees; keep tells them and leaves them where all that they close is taken
    #[arg(long, value_name = "POLICY", value_parser = choice(MISCOUNTED), default_value = "mend")]
    miscounted: Miscounted,
    /// Levels that a document may be nested, up to 4000 [default: 128]
    #[arg(long, value_name = "N", value_parser = clap::value_parser!(u16).range(1..=4000))]
    depth: Option<u16>,
    #[command(flatten)]
    of_formats: ReadingOptionsOfFormats,
}

/// How cells are read where they are more than text.
#[derive(Debug, Args)]
#[command(next_help_heading = "Reading")]
pub(super) struct CellOptions {
    /// How dates are written, such as %d/%m/%Y, where not as 2026-03-05 or 5.3.2026; may be
    /// repeated
    #[arg(long, value_name = "PATTERN")]
    pub(super) date_format: Vec<DateFormat>,
    /// Numbers have a comma before their fraction, as in 1.234,50; computed ones get one too
    #[arg(long)]
    pub(super) decimal_comma: bool,
    /// How numbers are written, by an example with its signs such as '1,234.50' or '1 234,50'; also
    /// reads currencies, (12) and 12- as negative, and 5 % as 0.05
    #[arg(long, value_name = "EXAMPLE")]
    pub(super) number_format: Option<NumberFormat>,
    /// Read names of months in this language, besides English: de, fr, pt-BR …
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
    /// Sheet of each output, such as '{quay}': outputs with one path are sheets of one workbook
    /// [default: the source's sheet or name]
    #[arg(long, value_name = "TEMPLATE")]
    pub(super) sheet: Option<Template>,
    /// Title of each table in .pdf and .html, such as 'Calls at {quay}' [default: the sheet's name]
    #[arg(long, value_name = "TEMPLATE")]
    pub(super) title: Option<Template>,
    /// Line below the title in .pdf and .html
    #[arg(long, value_name = "TEMPLATE")]
    pub(super) subtitle: Option<Template>,
    /// Put records of .pdf and .html into groups by the values of a column, each with subtotals of --total
    #[arg(long, value_name = "COLUMN")]
    pub(super) group_by: Option<String>,
    /// What to do where a sheet has no room for all records of an output: go on in further sheets
    /// or files
    #[arg(long, value_name = "POLICY", value_parser = choice(OVERFLOWS), default_value = "refuse")]
    pub(super) overflow: Overflow,
    /// Put all outputs into one new zip archive, in place of a folder
    #[arg(long, value_name = "FILE.zip", conflicts_with = "out")]
    pub(super) pack: Option<PathBuf>,
    /// Let a value that begins a name as {COLUMN:folders} be an absolute folder, outside the output folder
    #[arg(long, conflicts_with = "pack")]
    pub(super) allow_absolute: bool,
    /// What stands in names for a blank value
    #[arg(long, value_name = "TEXT", default_value = "blank")]
    pub(super) blank: String,
    /// What to do where two outputs would share a file or sheet
    #[arg(long, value_name = "POLICY", value_parser = choice(CLASHES), default_value = "refuse")]
    pub(super) clash: ClashPolicy,
    /// What to do where an output exists; clear replaces what the ledger of the run before (--ledger)
    /// names, and removes of it what this run does not write; newer replaces it if the source has
    /// changed since, and is for convert
    #[arg(long, value_name = "POLICY", value_parser = choice(EXISTING), default_value = "refuse")]
    pub(super) existing: ExistingPolicy,
}

/// How a run is done, and whether at all.
#[derive(Debug, Args)]
#[command(next_help_heading = "Running")]
pub(super) struct DoingOptions {
    /// Show the outputs that would be written, and write nothing
    #[arg(long, conflicts_with = "ask")]
    plan: bool,
    /// Show the outputs, and ask before writing
    #[arg(long)]
    ask: bool,
    /// Refuse to write more outputs than this
    #[arg(long, value_name = "N", default_value_t = 1000)]
    pub(super) max_outputs: u64,
    /// Threads to use: 1, or 2 and more to read, write and pack at the same time [default: as many
    /// as there are processors]
    #[arg(long, value_name = "N", default_value_t = 0, hide_default_value = true)]
    pub(super) jobs: usize,
    /// Sum a column up over all records and in each output; may be repeated
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
    /// What stands between fields [default: as in the source; comma or tab where the output has
    /// another extension]
    #[arg(long, value_name = "CHAR")]
    out_delimiter: Option<Delimiter>,
    /// How characters are written [default: as in the source; utf-8 where the output has another
    /// extension]
    #[arg(long, value_name = "NAME")]
    out_encoding: Option<Encoding>,
    /// Put a byte-order mark in front, or with --bom=no none [default: as in the source]
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
    /// What ends the lines [default: as in the source; lf where the output has another extension]
    #[arg(long, value_name = "END", value_parser = choice(LINE_ENDS))]
    line_end: Option<LineEnd>,
    /// Whether the columns of workbooks get types: auto, where all values would come back as they
    /// are; off, all is text
    #[arg(long = "types", value_name = "HOW", value_parser = choice(TYPES), default_value = "auto")]
    column_types: Types,
    /// Write workbooks without the number formats, widths and header styles of their sources
    #[arg(long)]
    plain: bool,
    /// What to do with control characters where a format has no way to write them
    #[arg(long, value_name = "POLICY", value_parser = choice(CONTROL_SIGNS), default_value = "refuse")]
    control_signs: ControlCharacters,
    /// How blank values are written in JSON and XML: keep, as they stand in a document, and those of
    /// tables as null in JSON and not at all in XML; or all absent, null or empty
    #[arg(long, value_name = "HOW", value_parser = choice(NULLS), default_value = "keep")]
    nulls: Blanks,
    /// Nest JSON and XML over several lines, each level N blanks further in
    #[arg(long, value_name = "N", value_parser = clap::value_parser!(u8).range(0..=16))]
    indent: Option<u8>,
    /// Take the dots in names of columns for characters like any other, and nest nothing
    #[arg(long)]
    flat: bool,
    /// The name of the root element of XML [default: as in the source, or records]
    #[arg(long, value_name = "NAME")]
    root: Option<String>,
    /// The name of the elements of XML that are records [default: as in the source, or record]
    #[arg(long, value_name = "NAME")]
    item: Option<String>,
    /// Declare a namespace in the root element of XML, such as p=urn:varnholm:port; may be given
    /// several times
    #[arg(long, value_name = "PREFIX=URI")]
    namespace: Vec<Namespace>,
    /// A comment before the root element of XML; {.rows}, {.source}, {.stem}, {.date} and {.time}
    /// are filled in
    #[arg(long, value_name = "TEXT")]
    xml_comment: Option<Words>,
    /// A sample of the JSON or XML document that is wanted, with places in braces and marks where
    /// parts repeat; docs/documents.md explains them
    #[arg(long, value_name = "FILE")]
    shape: Option<PathBuf>,
    /// Refuse the run if an output does not fit the schema in FILE: XML Schema for XML, JSON Schema for
    /// JSON
    #[arg(long, value_name = "FILE")]
    schema: Option<PathBuf>,
    /// What becomes of the total of a message of which only some records are taken: recompute makes it
    /// their sum and leaves adjustments of the message out, keep copies both unchanged
    #[arg(long, value_name = "POLICY", value_parser = choice(BALANCES), default_value = "refuse")]
    balance: Balance,
    #[command(flatten)]
    of_formats: WritingOptionsOfFormats,
    /// Wait until outputs are on the disk before they take their places
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
    /// Write the job to a file for 'numerant run', and do nothing else
    #[arg(long, value_name = "FILE")]
    pub(super) save_job: Option<PathBuf>,
}

/// How a command runs.
#[derive(Debug, Args)]
#[command(next_help_heading = "Running")]
pub(super) struct RunningOptions {
    /// Memory that buffers may take; a record may take a quarter of it
    #[arg(long, value_name = "SIZE", default_value = "512M")]
    pub(super) memory: Size,
    #[command(flatten)]
    pub(super) report: ReportOptions,
}

/// What is told of a run.
#[derive(Clone, Copy, Debug, Args)]
pub(crate) struct ReportOptions {
    /// Show the result as text, or as one JSON document
    #[arg(long, value_name = "FORM", value_parser = choice(REPORTS), default_value = "text")]
    pub(crate) report: Report,
    /// Show no progress, and no result but errors
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
    /// Write a page of HTML about the result, to look at in a browser; an earlier page is replaced
    #[arg(long, value_name = "FILE.html", help_heading = "Running")]
    pub(super) page: Option<PathBuf>,
}

/// Where the ledger and the rejected records are kept.
#[derive(Debug, Args)]
#[command(next_help_heading = "Running")]
pub(super) struct KeepingOptions {
    /// Keep the ledger as JSON
    #[arg(long, value_name = "FILE")]
    pub(super) ledger: Option<PathBuf>,
    #[command(flatten)]
    pub(super) page: PageOption,
    /// Keep rejected records, as they stand in the source
    #[arg(long, value_name = "FILE", help_heading = "Reading")]
    pub(super) rejects: Option<PathBuf>,
}
