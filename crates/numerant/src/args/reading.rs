//! Options of how sources are read.

use std::path::PathBuf;

use clap::Args;
use numerant_data::dialect::{Delimiter, Escape, Quote};
use numerant_data::encoding::Encoding;
use numerant_data::tree::ListLayout;
use numerant_data::value::{DateFormat, Language, NumberFormat};
use numerant_format::sheet::{CellContent, Uncomputed};
use numerant_format::{Ragged, ReadOptions};

use super::format_options::ReadingOptionsOfFormats;
use super::options::{ColumnList, YES_NO, choice, columns, names, values};

const RAGGED: &[(&str, Ragged)] = &[
    ("error", Ragged::Error),
    ("pad", Ragged::Pad),
    ("reject", Ragged::Reject),
];

const UNCOMPUTED: &[(&str, Uncomputed)] = &[
    ("error", Uncomputed::Error),
    ("blank", Uncomputed::Blank),
    ("formula", Uncomputed::Formula),
];

const CELL_CONTENTS: &[(&str, CellContent)] =
    &[("value", CellContent::Value), ("shown", CellContent::Shown)];

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
    /// Flatten lists in JSON and XML records: columns makes a column for each item (columns=N
    /// allows up to N items), rows makes a record for each item (rows=PATH for one list), keep
    /// writes JSON in one cell [default: columns]
    #[arg(long, value_name = "HOW")]
    lists: Option<ListLayout>,
    /// Remove the namespace prefixes of XML names
    #[arg(long)]
    no_prefixes: bool,
    /// Add a layout that defines the records of messages (X12, UN/EDIFACT), as docs/messages.md
    /// describes; may be repeated
    #[arg(long, value_name = "FILE")]
    layout: Vec<PathBuf>,
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
            lists: self.lists,
            no_prefixes: self.no_prefixes,
            depth: self.depth.map(usize::from),
            layout: self.layout,
            on_uncomputed: self.on_uncomputed,
            cells: self.cells,
            of_formats: self.of_formats.0,
            ..ReadOptions::default()
        }
    }
}
