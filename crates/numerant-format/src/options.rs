//! How sources are read and outputs are written: the options of all formats.

use std::path::PathBuf;

use serde::{Deserialize, Serialize};

use super::messages::{Balance, Miscounted};
use super::option::OptionValues;
use super::sheet::{CellContent, NumberFormats, SheetChoice, Types, Uncomputed};
use super::{Blanks, ControlCharacters, Namespace};
use numerant_data::dialect::{Delimiter, Dialect, Escape, LineEnd, Quote};
use numerant_data::encoding::Encoding;
use numerant_data::record::Tagging;
use numerant_data::tree::ListLayout;
use numerant_naming::Words;

/// What to do with records that have more or fewer fields than the header.
#[derive(
    Clone, Copy, Debug, Default, PartialEq, Eq, Serialize, Deserialize, schemars::JsonSchema,
)]
#[serde(rename_all = "lowercase")]
pub enum Ragged {
    /// Refuse the source.
    #[default]
    Error,
    /// Add blank fields; drop surplus ones if they are blank, refuse the source if not.
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

/// How a source is to be read; what is `None` is detected.
#[derive(Clone, Debug, Default, PartialEq, Eq, Serialize, Deserialize, schemars::JsonSchema)]
#[serde(default, rename_all = "kebab-case")]
pub struct ReadOptions {
    /// The extension of the format, which is not detected then.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub from: Option<String>,
    /// The sheets of a workbook that are read, by name or number; the first that is shown if none is
    /// chosen.
    #[serde(skip_serializing_if = "Vec::is_empty")]
    pub read_sheet: Vec<SheetChoice>,
    /// Between fields.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub delimiter: Option<Delimiter>,
    /// Around fields; a double quote if not said otherwise.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub quote: Option<Quote>,
    /// The character before a quote, a delimiter or itself where that is text.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub escape: Option<Escape>,
    /// Blanks between a delimiter and a quote are passed over; detected if not said.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub padded_quotes: Option<bool>,
    /// Lines that begin with this text are passed over.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub comment: Option<String>,
    /// Values that are read as blank.
    #[serde(skip_serializing_if = "Vec::is_empty")]
    pub blank_values: Vec<String>,
    /// How characters are written.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub encoding: Option<Encoding>,
    /// Each line is a record, verbatim, blank ones too, in the one column `line`.
    pub lines: bool,
    /// The first record is data; columns are called `column_1`, `column_2` …
    pub no_header: bool,
    /// Lines to pass over at the start.
    pub skip_lines: u64,
    /// What to do with records of another width.
    pub ragged: Ragged,
    /// The records of a document, as a JSONPath or an XPath; they are looked for if it is not said.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub records: Option<String>,
    /// The column for the names of members of a JSON object that are records; `key` if not said.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub key_column: Option<String>,
    /// What becomes of lists in the records of documents.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub lists: Option<ListLayout>,
    /// The prefixes of names are left out.
    pub no_prefixes: bool,
    /// Levels that a document may be nested; 128 if not said.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub depth: Option<usize>,
    /// What ends the lines, where that is known.
    #[serde(skip)]
    pub line_ends: Option<LineEnd>,
    /// Files that say what the records of messages are, before those layouts that are shipped.
    #[serde(skip_serializing_if = "Vec::is_empty")]
    pub layout: Vec<PathBuf>,
    /// What becomes of counts and control numbers of messages that do not agree.
    pub miscounted: Miscounted,
    /// What becomes of formulas that no program has computed.
    pub on_uncomputed: Uncomputed,
    /// What of the cells of workbooks is read.
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
    /// Workbooks have none of the number formats of their sources.
    pub plain: bool,
    /// Between fields.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub out_delimiter: Option<Delimiter>,
    /// How characters are written.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub out_encoding: Option<Encoding>,
    /// Whether a byte-order mark is put in front.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub bom: Option<bool>,
    /// Behind records.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub line_end: Option<LineEnd>,
    /// Whether the columns of workbooks are typed.
    pub types: Types,
    /// What to do with control characters that a format has no way to write.
    pub control_characters: ControlCharacters,
    /// How blank values are written in documents.
    pub nulls: Blanks,
    /// Blanks before what is nested in documents, for each level; a record a line if not said.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub indent: Option<usize>,
    /// Dots in the names of columns nest nothing.
    pub flat: bool,
    /// The name of the root element of XML.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub root: Option<String>,
    /// The name of the elements of XML that are records.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub item: Option<String>,
    /// Namespaces that the root element of XML declares.
    #[serde(skip_serializing_if = "Vec::is_empty")]
    pub namespace: Vec<Namespace>,
    /// A comment before the root element of XML.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub xml_comment: Option<Words>,
    /// A file with the form that documents are to have.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub shape: Option<PathBuf>,
    /// A file with the schema that documents are held against.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub schema: Option<PathBuf>,
    /// What becomes of the totals of messages of which only some records are taken.
    pub balance: Balance,
    /// The options that formats describe themselves.
    #[serde(flatten, skip_deserializing)]
    #[schemars(skip)]
    pub of_formats: OptionValues,
}

impl WriteOptions {
    /// Whether something is said of the elements of XML outputs.
    pub fn chooses_elements(&self) -> bool {
        self.root.is_some()
            || self.item.is_some()
            || self.flat
            || self.shape.is_some()
            || !self.namespace.is_empty()
    }

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
