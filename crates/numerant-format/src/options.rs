//! How sources are read and outputs are written: the options that several formats share, or that the run itself
//! needs. Those of one format are described in its own room ([`crate::FormatOption`]).

use std::path::PathBuf;

use serde::{Deserialize, Serialize};

use super::ControlCharacters;
use super::option::OptionValues;
use super::sheet::{CellContent, NumberFormats, SheetChoice, Types, Uncomputed};
use numerant_data::dialect::{Delimiter, Dialect, Escape, LineEnd, Quote};
use numerant_data::encoding::Encoding;
use numerant_data::record::Tagging;
use numerant_data::tree::ListLayout;

/// Records with more or fewer fields than the header.
#[derive(
    Clone, Copy, Debug, Default, PartialEq, Eq, Serialize, Deserialize, schemars::JsonSchema,
)]
#[serde(rename_all = "lowercase")]
pub enum Ragged {
    /// Refuse the source.
    #[default]
    Error,
    /// Add blank fields; drop surplus ones if they are blank, else refuse the source.
    Pad,
    /// Leave the record out.
    Reject,
}

/// What a run needs of its sources, besides what people state of them.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct ReadContext {
    /// The records of documents are one column, as JSON, so that they can be compared as a whole.
    pub as_one: bool,
    /// Columns that documents have in any case.
    pub also: Vec<String>,
    /// The text of the files of layouts.
    pub layouts: Vec<String>,
    /// Words of the job that could name columns, for formats in which parts of values are columns where
    /// they are named.
    pub named: Vec<String>,
    /// Messages without a known layout are an error, and not records.
    pub by_layout: bool,
    /// Where nothing is at `records`, the records are looked for.
    pub records_elsewhere: bool,
    /// A sheet with nothing in it is no error.
    pub may_be_empty: bool,
    /// The number formats of the workbooks that the run reads.
    pub number_formats: NumberFormats,
}

/// How a source is read; what is `None` is detected.
#[derive(Clone, Debug, Default, PartialEq, Eq, Serialize, Deserialize, schemars::JsonSchema)]
#[serde(default, rename_all = "kebab-case")]
pub struct ReadOptions {
    /// Format, as an extension; by default detected.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub from: Option<String>,
    /// Sheets of a workbook to read, by name or number; by default the first visible one.
    #[serde(skip_serializing_if = "Vec::is_empty")]
    pub read_sheet: Vec<SheetChoice>,
    /// Separator between fields; by default detected.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub delimiter: Option<Delimiter>,
    /// Quote character; by default a double quote.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub quote: Option<Quote>,
    /// Escape character before a quote, a separator or itself.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub escape: Option<Escape>,
    /// Whether spaces between a separator and a quote are ignored; by default detected.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub padded_quotes: Option<bool>,
    /// Lines that begin with this text are skipped.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub comment: Option<String>,
    /// Values that are read as blank.
    #[serde(skip_serializing_if = "Vec::is_empty")]
    pub blank_values: Vec<String>,
    /// Character encoding; by default detected.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub encoding: Option<Encoding>,
    /// Each line is a record, verbatim, blank ones too, in the one column `line`.
    pub lines: bool,
    /// The first record is data; columns are called `column_1`, `column_2` …
    pub no_header: bool,
    /// Number of lines to skip at the start.
    pub skip_lines: u64,
    /// Records with more or fewer fields than the header.
    pub ragged: Ragged,
    /// Path of the records in a document, a JSONPath or an XPath; by default detected.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub records: Option<String>,
    /// How lists in the records of documents are flattened.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub lists: Option<ListLayout>,
    /// Whether namespace prefixes are removed.
    pub no_prefixes: bool,
    /// Maximum nesting depth of a document; by default 128.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub depth: Option<usize>,
    /// What ends the lines, where that is known.
    #[serde(skip)]
    pub line_ends: Option<LineEnd>,
    /// Layouts of messages, which precede the shipped ones.
    #[serde(skip_serializing_if = "Vec::is_empty")]
    pub layout: Vec<PathBuf>,
    /// Formulas that were never calculated.
    pub on_uncomputed: Uncomputed,
    /// Whether the values of cells are read, or the text that is shown.
    pub cells: CellContent,
    /// What a run needs of its sources, which nobody states.
    #[serde(skip)]
    pub context: ReadContext,
    /// The options that formats describe themselves.
    #[serde(flatten, skip_deserializing)]
    #[schemars(skip)]
    pub of_formats: OptionValues,
}

/// How outputs are to be written; what is `None` is as in the first source, where the output has the
/// source's extension (or that says nothing of a format), and else comma (`csv`) or tab (`tsv`, `txt`), UTF-8 without byte-order
/// mark, and LF.
#[derive(Clone, Debug, Default, PartialEq, Eq, Serialize, Deserialize, schemars::JsonSchema)]
#[serde(default, rename_all = "kebab-case")]
pub struct WriteOptions {
    /// Whether workbooks are written without the formats of their sources.
    pub plain: bool,
    /// Separator between fields; by default detected.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub out_delimiter: Option<Delimiter>,
    /// Character encoding; by default detected.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub out_encoding: Option<Encoding>,
    /// Whether a byte-order mark is written.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub bom: Option<bool>,
    /// Line ending.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub line_end: Option<LineEnd>,
    /// Types of workbook columns.
    pub types: Types,
    /// Control characters that the output format cannot hold.
    pub control_characters: ControlCharacters,
    /// Template of the documents.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub shape: Option<PathBuf>,
    /// Schema that documents are validated with.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub schema: Option<PathBuf>,
    /// The options that formats describe themselves.
    #[serde(flatten, skip_deserializing)]
    #[schemars(skip)]
    pub of_formats: OptionValues,
}

impl WriteOptions {
    /// The dialect of an output with `extension`, made from a source in `source`.
    pub fn dialect(&self, extension: &str, source: Dialect, source_extension: &str) -> Dialect {
        // An extension that says nothing is no reason to write another dialect.
        let telling = super::TEXT_EXTENSIONS.contains(&source_extension);
        let same = !source.is_tagged() && (extension == source_extension || !telling);
        let usual = Dialect {
            delimiter: Delimiter::byte(if extension == "csv" { b',' } else { b'\t' }),
            quote: if source.is_tagged() {
                Quote::Byte(b'"')
            } else {
                source.quote
            },
            escape: None,
            line_end: LineEnd::Lf,
            encoding: Encoding::UTF_8,
            bom: false,
            tagging: Tagging::None,
            ..source
        };
        let mut base = if same { source } else { usual };
        if extension == "tsv" && extension != source_extension {
            base.delimiter = Delimiter::byte(b'\t');
        }
        let encoding = self.out_encoding.unwrap_or(base.encoding);
        // A mark that was the source's goes with the source's encoding only.
        let bom = self.bom.unwrap_or(base.bom && encoding == base.encoding)
            && encoding.byte_order_mark().is_some();
        Dialect {
            delimiter: self.out_delimiter.unwrap_or(base.delimiter),
            line_end: self.line_end.unwrap_or(base.line_end),
            encoding,
            bom,
            ..base
        }
    }
}
