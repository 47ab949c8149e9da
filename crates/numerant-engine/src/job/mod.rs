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
pub use error::JobError;
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

/// What to do where a sheet has no room for all records of an output.
#[derive(
    Clone, Copy, Debug, Default, PartialEq, Eq, Serialize, Deserialize, schemars::JsonSchema,
)]
#[serde(rename_all = "lowercase")]
pub enum Overflow {
    /// Refuse the run.
    #[default]
    Refuse,
    /// Go on in further sheets.
    Sheets,
    /// Go on in further files.
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

/// What several files become.
#[derive(
    Clone, Copy, Debug, Default, PartialEq, Eq, Serialize, Deserialize, schemars::JsonSchema,
)]
#[serde(rename_all = "lowercase")]
pub enum Gathering {
    /// One table, or a sheet of values for each.
    #[default]
    Table,
    /// A workbook with all their sheets as they are.
    Sheets,
}

/// What becomes of formulas in sheets that are kept as they are.
#[derive(
    Clone, Copy, Debug, Default, PartialEq, Eq, Serialize, Deserialize, schemars::JsonSchema,
)]
#[serde(rename_all = "lowercase")]
pub enum Formulas {
    /// They stay, but for those that lead to a sheet that is not there.
    #[default]
    Keep,
    /// They become the values that they had.
    Values,
}

/// What is to be read, done and written. Its keys are the words of the command line's options.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize, schemars::JsonSchema)]
#[serde(default, rename_all = "kebab-case")]
pub struct Job {
    /// What is read, in order.
    pub sources: Vec<SourcePath>,
    /// Look into the folders of folders that are named, too.
    pub recursive: bool,
    /// Of folders and patterns, only files that fit one of these.
    pub pick: Vec<FilePattern>,
    /// Of folders and patterns, no files and folders that fit one of these.
    pub skip: Vec<FilePattern>,
    /// What the names of files say, which becomes columns of their records.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub from_name: Option<NamePattern>,
    /// A column that says where each record comes from.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub source_column: Option<String>,
    /// What to do where the sources do not have the same columns: refuse them if they are tables, and
    /// take all columns if all are documents.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub columns: Option<ColumnPolicy>,
    /// Each file is a run of its own, and one that fails stops no other.
    #[serde(skip)]
    pub batch: bool,
    /// The first file that fails ends a batch.
    pub stop_on_error: bool,
    /// How it is read.
    #[serde(flatten)]
    pub read: ReadOptions,
    /// How dates are written in the sources, where not after ISO 8601.
    pub date_format: Vec<DateFormat>,
    /// The language of the sources, whose names of months are read besides English ones.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub locale: Option<Language>,
    /// Numbers in the sources have a comma before their fraction, and computed ones get one.
    pub decimal_comma: bool,
    /// How numbers are written in the sources, by an example such as `$1,234.50`.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub number_format: Option<NumberFormat>,
    /// What is done to the records.
    pub steps: Vec<Step>,
    /// What to do with records for which a step, a part of a key or a total fails.
    pub on_error: OnError,
    /// What records are distinguished by, besides what the name says.
    pub by: Vec<Key>,
    /// Conditions that records are distinguished by; the first that holds counts.
    pub case: Vec<Case>,
    /// The name of the case of records for which no condition holds; without one they are left out.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub others: Option<String>,
    /// Cut into outputs of so many records.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub rows: Option<u64>,
    /// Cut into so many outputs.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub parts: Option<u64>,
    /// Cut into outputs of at most so many bytes.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub max_size: Option<Size>,
    /// One output for each record.
    pub each: bool,
    /// The path of each output below `out`.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub name: Option<Template>,
    /// The format of the outputs, by its usual extension, whatever extension `name` has; without a
    /// name it is their extension, too.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub to: Option<String>,
    /// The format of the first source, where its extension does not state it: outputs with that
    /// extension are in that format.
    #[serde(skip)]
    pub source_format: Option<&'static str>,
    /// The order of the sheets of a workbook; by default natural, unless they are named after sources only.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub sheet_order: Option<SheetOrder>,
    /// The sheet of each output, in workbooks.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub sheet: Option<Template>,
    /// What outputs of pages have besides tables.
    #[serde(flatten)]
    pub pages: PageOptions,
    /// One output for each sheet of the sources.
    pub per_sheet: bool,
    /// Outputs keep the look of the sheet that is split: what stands above its records, and the rows as
    /// they are.
    pub like_source: bool,
    /// What several files become: one table, or a workbook with all their sheets as they are.
    #[serde(rename = "as")]
    pub gathering: Gathering,
    /// What becomes of formulas in sheets that are kept as they are.
    pub formulas: Formulas,
    /// How copies of a formatted workbook are filled.
    #[serde(flatten)]
    pub fill: FillOptions,
    /// What to do where a sheet has no room for all records.
    pub overflow: Overflow,
    /// The output folder; one named after the source if not said.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub out: Option<PathBuf>,
    /// The zip archive that all outputs go into, in place of a folder.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub pack: Option<PathBuf>,
    /// Values whose slashes stand between folders may lead names to folders outside the output folder.
    pub allow_absolute: bool,
    /// What stands in names for a blank value.
    pub blank: String,
    /// What to do where two outputs would share a file.
    pub clash: ClashPolicy,
    /// What to do where an output exists.
    pub existing: ExistingPolicy,
    /// How outputs are written.
    #[serde(flatten)]
    pub write: WriteOptions,
    /// A run with more outputs is refused.
    pub max_outputs: u64,
    /// Memory that buffers may take, and four times the largest record that is taken.
    pub memory: Size,
    /// Threads that may work at the same time; 0 for as many as the machine has.
    pub jobs: usize,
    /// Whether outputs are synced to the disk before they take their places.
    pub sync: bool,
    /// Columns that are summed up over all records and in each output.
    pub total: Vec<String>,
    /// The folder that the output folder is made in, where that is named after the source.
    #[serde(skip)]
    pub base: PathBuf,
    /// Where the ledger is kept.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub ledger: Option<PathBuf>,
    /// Where a page of HTML about the result is written.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub page: Option<PathBuf>,
    /// Where rejected records are kept, as they stand.
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
