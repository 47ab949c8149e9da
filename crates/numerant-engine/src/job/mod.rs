//! Jobs as plain data: what a run does, from the command line or from a job file.

mod check;
mod deliver;
mod derive;
mod error;
mod file;
mod format_options;
mod inspect;
mod notification;
mod page_options;
mod reading;

use std::path::PathBuf;

use serde::{Deserialize, Serialize};

pub use deliver::{
    DeliverJob, DeliveryChannel, DoubtPolicy, Encryption, OversizePolicy, Transport,
    WithoutCounterpart,
};
pub use error::{JobError, LikeSourceConflict};
pub use file::{Entry, JobFile, JobFileError, JobFileProblem, VerifyJob, Work, schema, to_toml};
pub use inspect::InspectJob;
pub use notification::{Notification, NotifyWhen};
pub use page_options::PageOptions;
pub use reading::read_options_with;

use crate::gather::ColumnPolicy;
use crate::output::ExistingPolicy;
use numerant_data::source::{FilePattern, SourcePath};
use numerant_data::value::{DateFormat, Language, NumberFormat, Size};
use numerant_format::{FillOptions, ReadOptions, Side, WriteOptions};
use numerant_formats::files;
use numerant_naming::{ClashPolicy, Key, NamePattern, Template};
use numerant_steps::{Case, OnError, Step};

/// Outputs with more records than a sheet holds.
#[derive(
    Clone, Copy, Debug, Default, PartialEq, Eq, Serialize, Deserialize, schemars::JsonSchema,
)]
#[serde(rename_all = "lowercase")]
pub enum Overflow {
    /// Refuse the run.
    #[default]
    Refuse,
    /// Continue in further sheets.
    Sheets,
    /// Continue in further files.
    Files,
}

/// The order of the sheets of a workbook.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, Deserialize, schemars::JsonSchema)]
#[serde(rename_all = "lowercase")]
pub enum SheetOrder {
    /// By their names, numbers in them by value.
    Natural,
    /// In the order of their first records.
    Records,
}

/// Result of several files.
#[derive(
    Clone, Copy, Debug, Default, PartialEq, Eq, Serialize, Deserialize, schemars::JsonSchema,
)]
#[serde(rename_all = "lowercase")]
pub enum Gathering {
    /// One table, or a sheet of values for each.
    #[default]
    Table,
    /// A workbook with copies of all sheets.
    Sheets,
}

/// Formulas in sheets that are copied.
#[derive(
    Clone, Copy, Debug, Default, PartialEq, Eq, Serialize, Deserialize, schemars::JsonSchema,
)]
#[serde(rename_all = "lowercase")]
pub enum Formulas {
    /// They are copied, but not those that refer to a missing sheet.
    #[default]
    Keep,
    /// They are replaced by their values.
    Values,
}

/// A job as data: sources, steps and outputs. Its keys are the names of the command line's options.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize, schemars::JsonSchema)]
#[serde(default, rename_all = "kebab-case")]
pub struct Job {
    /// Sources: files, folders or patterns, in this order.
    pub sources: Vec<SourcePath>,
    /// Whether subfolders are included.
    pub recursive: bool,
    /// In folders and patterns, only files that match one of these patterns.
    pub pick: Vec<FilePattern>,
    /// In folders and patterns, no files and folders that match one of these patterns.
    pub skip: Vec<FilePattern>,
    /// Template of file names whose values become columns.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub from_name: Option<NamePattern>,
    /// Name of a column with the source file of each record.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub source_column: Option<String>,
    /// Sources with different columns; by default tables are refused, and documents keep all columns.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub columns: Option<ColumnPolicy>,
    /// Each file is a separate run, and one that fails does not stop the others.
    #[serde(skip)]
    pub batch: bool,
    /// Whether the first file that fails ends a batch.
    pub stop_on_error: bool,
    /// How sources are read.
    #[serde(flatten)]
    pub read: ReadOptions,
    /// Formats of dates in the sources, besides ISO 8601.
    pub date_format: Vec<DateFormat>,
    /// Language whose month names are read, besides English.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub locale: Option<Language>,
    /// Whether numbers are read and written with a decimal comma.
    pub decimal_comma: bool,
    /// Format of numbers in the sources, as an example such as `1,234.50`.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub number_format: Option<NumberFormat>,
    /// Steps that change the records, in this order.
    pub steps: Vec<Step>,
    /// Records for which a step, a key or a total fails.
    pub on_error: OnError,
    /// Columns, or parts of them, whose values make the outputs.
    pub by: Vec<Key>,
    /// Conditions that make the outputs; the first match counts.
    pub case: Vec<Case>,
    /// Output name for records that match no case; by default they are left out.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub others: Option<String>,
    /// Number of records in each output.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub rows: Option<u64>,
    /// Number of outputs, of about equal size.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub parts: Option<u64>,
    /// Maximum size of each output in bytes.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub max_size: Option<Size>,
    /// Whether each record makes an output.
    pub each: bool,
    /// Template of the path of each output, below `out`.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub name: Option<Template>,
    /// Format of the outputs, as an extension such as xlsx, whatever extension `name` has.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub to: Option<String>,
    /// The format of the first source, where its extension does not state it: outputs with that
    /// extension are in that format.
    #[serde(skip)]
    pub source_format: Option<&'static str>,
    /// Order of the sheets of a workbook; by default natural, if the sheet template has a column.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub sheet_order: Option<SheetOrder>,
    /// Template of the sheet of each output.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub sheet: Option<Template>,
    /// Titles and groups of .pdf and .html.
    #[serde(flatten)]
    pub pages: PageOptions,
    /// Whether each sheet of the sources makes an output.
    pub per_sheet: bool,
    /// Whether outputs are formatted like the source sheet, with the rows above the header.
    pub like_source: bool,
    /// Result of several files: one table, or a workbook with copies of all sheets.
    #[serde(rename = "as")]
    pub gathering: Gathering,
    /// Formulas in sheets that are copied.
    pub formulas: Formulas,
    /// How copies of a formatted workbook are filled.
    #[serde(flatten)]
    pub fill: FillOptions,
    /// Outputs with more records than a sheet holds.
    pub overflow: Overflow,
    /// Output folder; by default a new one named after the source.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub out: Option<PathBuf>,
    /// Zip archive for all outputs, instead of a folder.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub pack: Option<PathBuf>,
    /// Whether folders from a value may be absolute, outside the output folder.
    pub allow_absolute: bool,
    /// Text that replaces a blank value in names.
    pub blank: String,
    /// Two outputs with the same file or sheet.
    pub clash: ClashPolicy,
    /// Outputs that exist already.
    pub existing: ExistingPolicy,
    /// How outputs are written.
    #[serde(flatten)]
    pub write: WriteOptions,
    /// Maximum number of outputs; a run with more is refused.
    pub max_outputs: u64,
    /// Memory limit for buffers; one record may take a quarter of it.
    pub memory: Size,
    /// Number of threads; 0 for the number of processors.
    pub jobs: usize,
    /// Whether outputs are flushed to the disk before they are moved into place.
    pub sync: bool,
    /// Columns that are summed over all records and in each output.
    pub total: Vec<String>,
    /// The folder that the output folder is made in, where that is named after the source.
    #[serde(skip)]
    pub base: PathBuf,
    /// File for the ledger.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub ledger: Option<PathBuf>,
    /// File for an HTML page about the result.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub page: Option<PathBuf>,
    /// File for rejected records, verbatim.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub rejects: Option<PathBuf>,
}

impl Job {
    /// The files that it reads besides its sources: tables, shapes, schemas, layouts and templates.
    pub fn files_besides(&self) -> Vec<PathBuf> {
        let tables = self.steps.iter().filter_map(|step| match step {
            Step::Lookup(lookup) => Some(&lookup.file),
            _ => None,
        });
        let layouts = self.read.layout.iter();
        let written = [&self.write.shape, &self.write.schema, &self.fill.template];
        let all = tables.chain(layouts).chain(written.into_iter().flatten());
        let of_formats = files(&self.read.of_formats, Side::Reading).into_iter();
        let of_formats = of_formats.chain(files(&self.write.of_formats, Side::Writing));
        all.cloned().chain(of_formats.map(PathBuf::from)).collect()
    }
}

impl Job {
    /// The columns that are not put, as they only name what records belong together: those that the
    /// names of files say, unless columns are chosen.
    pub fn naming_columns(&self) -> &[String] {
        let chosen = self.steps.iter().any(|step| matches!(step, Step::Keep(_)));
        match &self.from_name {
            Some(pattern) if self.fill.template.is_some() && !chosen => pattern.columns(),
            _ => &[],
        }
    }
}

impl Default for Job {
    fn default() -> Self {
        Self {
            sources: Vec::new(),
            recursive: false,
            pick: Vec::new(),
            skip: Vec::new(),
            from_name: None,
            source_column: None,
            columns: None,
            batch: false,
            stop_on_error: false,
            read: ReadOptions::default(),
            date_format: Vec::new(),
            locale: None,
            decimal_comma: false,
            number_format: None,
            steps: Vec::new(),
            on_error: OnError::default(),
            by: Vec::new(),
            case: Vec::new(),
            others: None,
            rows: None,
            parts: None,
            max_size: None,
            each: false,
            name: None,
            to: None,
            source_format: None,
            sheet_order: None,
            sheet: None,
            pages: PageOptions::default(),
            per_sheet: false,
            like_source: false,
            gathering: Gathering::default(),
            formulas: Formulas::default(),
            fill: FillOptions::default(),
            overflow: Overflow::default(),
            out: None,
            pack: None,
            allow_absolute: false,
            blank: "blank".to_owned(),
            clash: ClashPolicy::default(),
            existing: ExistingPolicy::default(),
            write: WriteOptions::default(),
            max_outputs: 1000,
            memory: Size(512_000_000),
            jobs: 0,
            sync: false,
            total: Vec::new(),
            base: PathBuf::new(),
            ledger: None,
            page: None,
            rejects: None,
        }
    }
}
