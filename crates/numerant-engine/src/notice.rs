//! What a user should know of a run that it did not stop.

use std::path::PathBuf;

use super::{NamesChanged, NamesClashed, SimilarKeys, TotalRecords};
use crate::ledger::TypedColumn;
use crate::output::Recovered;
use numerant_data::record::HeaderNote;
use numerant_format::sheet::{LeftOutDrawing, SheetExtras, SheetFacts, Visibility};
use numerant_format::{BalanceNote, MessageFacts, RecordReader, TextNote, TreeFacts};
use numerant_formats::{format_named, format_read};
pub(crate) use numerant_sheets::Extracted;
use numerant_steps::{SortedAsText, TidyTally, UnknownRecords, UnmatchedKeys};

/// Something that did not stop a run and that its user should know.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum Notice {
    /// An earlier run into the folder was interrupted, and what it had begun was rolled back.
    Recovered(Recovered),
    /// An earlier run into the folder was interrupted; the next one rolls back what it had begun.
    Unfinished(PathBuf),
    /// The file system has no locks, so that two runs into the folder at the same time are not kept apart.
    Unlocked(PathBuf),
    /// Something about a source's header.
    Header {
        /// The source.
        source: String,
        /// What.
        note: HeaderNote,
    },
    /// No delimiter was found; each line of the source is one field.
    SingleColumn {
        /// The source.
        source: String,
    },
    /// Something about how a text is written.
    Text {
        /// The source.
        source: String,
        /// What.
        note: TextNote,
    },
    /// Values that are no file names were changed for the names of outputs.
    NamesChanged(NamesChanged),
    /// Names of outputs fell together, and a policy has settled it.
    NamesClashed(NamesClashed),
    /// Values were trimmed, and columns without any value left out.
    Tidied(TidyTally),
    /// A table does not have all keys.
    Unmatched(UnmatchedKeys),
    /// Values of a column that is sorted by were sorted as texts.
    SortedAsText(SortedAsText),
    /// Records that look like totals of others.
    TotalRecords(TotalRecords),
    /// Keys that differ only in case or blanks.
    SimilarKeys(SimilarKeys),
    /// Files in the output folder look like outputs and are none of this run.
    OthersInFolder {
        /// The folder.
        folder: String,
        /// How many.
        files: u64,
        /// The first of them.
        examples: Vec<String>,
    },
    /// Files of the run before that this run does not write.
    Cleared {
        /// Their paths below the output folder.
        paths: Vec<String>,
        /// They would be removed, and are still there.
        is_planned: bool,
    },
    /// Files of the run before that were changed since, and are left.
    ChangedSince(Vec<String>),
    /// Records for which a condition is neither true nor false.
    Unknown(UnknownRecords),
    /// Cases that held for no record.
    UnusedCases(Vec<String>),
    /// A source is in another format than its name says.
    NotAsNamed {
        /// The file.
        file: String,
        /// The format that it is in.
        format: &'static str,
    },
    /// Workbooks are open in a spreadsheet program.
    OpenElsewhere(Vec<String>),
    /// Sheets of a workbook are empty, and were not read.
    EmptySheets {
        /// The workbook.
        workbook: String,
        /// Their names.
        sheets: Vec<String>,
    },
    /// Sheets of a workbook hold a chart or macros in place of cells, and are in no output.
    SheetsWithoutCells {
        /// The workbook.
        workbook: String,
        /// Their names.
        sheets: Vec<String>,
    },
    /// Only some sheets of a workbook were read.
    SheetsPassedOver {
        /// The workbook.
        workbook: String,
        /// The sheets that were not read.
        sheets: Vec<String>,
    },
    /// Something about the cells of a sheet.
    Sheet {
        /// The source.
        source: String,
        /// What.
        note: SheetNote,
    },
    /// The records of a document were looked for and found.
    Records {
        /// The source.
        source: String,
        /// Sources besides of which the same holds.
        more: u64,
        /// Where they are.
        found: TreeFacts,
    },
    /// Names of columns with dots became names within each other.
    Nested {
        /// The first of them.
        example: String,
    },
    /// Names of columns that no element can have, with those that were written instead.
    NamesMadeLegal(Vec<(String, String)>),
    /// A workbook gives the values of its sheets, and not their look.
    OnlyValues {
        /// The workbook.
        workbook: String,
        /// Why.
        because: ValuesBecause,
    },
    /// Messages whose totals or counts do not agree as they are.
    Messages {
        /// The source.
        source: String,
        /// What was found of their kind.
        facts: MessageFacts,
    },
    /// A message of which only some records were taken.
    Balance(BalanceNote),
    /// Copies of a template that lack tables, with the places of these.
    Incomplete(Vec<(String, Vec<String>)>),
    /// Sheets that are called otherwise, as another has their name: workbooks and names, and new names.
    SheetsRenamed(Vec<(String, String)>),
    /// Something of a sheet could not stay as it was in its own workbook.
    Extracted {
        /// The output.
        path: String,
        /// What.
        what: Extracted,
    },
    /// What sheets have and is not drawn on their pages.
    NotDrawn {
        /// The outputs.
        paths: Vec<String>,
        /// What, and how many there are.
        what: Vec<(LeftOutDrawing, u64)>,
    },
    /// Columns of workbooks that were kept text because of a value.
    KeptText(Vec<TypedColumn>),
    /// Columns that a few files have with another type than the others.
    TypedOtherwise(Vec<TypedOtherwise>),
    /// Columns that the job names and that were read by how they are written, with what a value looks like.
    ReadAs(Vec<(String, String)>),
}

impl Notice {
    /// A note about how a text is written.
    pub(super) fn text(source: &str, note: TextNote) -> Self {
        Self::Text {
            source: source.to_owned(),
            note,
        }
    }
}

/// Why a workbook gives the values of its sheets, and not their look.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum ValuesBecause {
    /// It is in a format of which only values are read.
    Format,
    /// It is compressed, in an archive, or no file.
    Packed,
    /// Something is done to the records.
    Changed,
}

/// A column that a few files have with another type than the others.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct TypedOtherwise {
    /// The column.
    pub column: String,
    /// Its type in most files.
    pub usual: String,
    /// The number of those files.
    pub usual_files: usize,
    /// The others, with the type that each has it with.
    pub others: Vec<(String, String)>,
}

impl TypedOtherwise {
    /// The columns that fewer than half of the files have with another type than the rest. Columns without any value
    /// have no type.
    pub(crate) fn find(types: &[TypedColumn]) -> Vec<Self> {
        let mut columns: Vec<(&str, Vec<(&str, &str)>)> = Vec::new();
        for typed in types.iter().filter(|typed| !typed.is_blank) {
            let Some(source) = &typed.source else {
                continue;
            };
            let one = (source.as_str(), typed.written_as.as_str());
            match columns.iter_mut().find(|(name, _)| *name == typed.column) {
                Some((_, files)) => files.push(one),
                None => columns.push((&typed.column, vec![one])),
            }
        }
        let odd = columns.into_iter().filter_map(|(column, files)| {
            let count = |kind: &str| files.iter().filter(|(_, its)| *its == kind).count();
            let usual = files
                .iter()
                .map(|(_, kind)| *kind)
                .max_by_key(|kind| count(kind))?;
            let usual_files = count(usual);
            let others = files.iter().filter(|(_, kind)| *kind != usual);
            let others: Vec<(String, String)> = others
                .map(|(source, kind)| ((*source).to_owned(), (*kind).to_owned()))
                .collect();
            let is_odd = !others.is_empty() && others.len() < usual_files;
            is_odd.then(|| Self {
                column: column.to_owned(),
                usual: usual.to_owned(),
                usual_files,
                others,
            })
        });
        odd.collect()
    }
}

/// Something about the cells of a sheet that its reader should know.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum SheetNote {
    /// So many formulas have no computed value.
    Uncomputed {
        /// How many.
        count: u64,
        /// They were read as texts, and not as blank.
        as_text: bool,
    },
    /// Cells hold errors, such as `#N/A`.
    Errors(u64),
    /// Ranges of cells are merged; the first cell of each has the value.
    Merged(u64),
    /// Rows that are hidden were read.
    HiddenRows(u64),
    /// The sheet itself is hidden.
    Hidden,
    /// What it has besides cells is not in outputs.
    LeftOut(SheetExtras),
}

/// That a source is in another format than its name says, if it is.
pub(super) fn not_as_named(reader: &dyn RecordReader) -> Option<Notice> {
    let extension = reader.path().extension();
    let named = format_read(&extension)?;
    let format = reader.facts().format;
    // Files of several formats can have one extension.
    let own = format_named(format).map_or(&[][..], |found| found.extensions());
    let is_own = own.contains(&extension.to_lowercase().as_str());
    (!is_own && !named.has_records_of(format)).then(|| Notice::NotAsNamed {
        file: reader.path().to_string(),
        format,
    })
}

/// What a user should know of a sheet. `is_rewritten`: outputs have its values in new sheets.
pub(super) fn sheet_notices(source: &str, facts: &SheetFacts, is_rewritten: bool) -> Vec<Notice> {
    let has_extras = is_rewritten && facts.extras != SheetExtras::default();
    let info = facts.sheets.iter().find(|info| info.name == facts.sheet);
    let hidden = info.is_some_and(|info| info.visibility != Visibility::Visible);
    let counted = [
        (facts.errors, SheetNote::Errors as fn(u64) -> SheetNote),
        (facts.merged, SheetNote::Merged),
        (facts.hidden_rows, SheetNote::HiddenRows),
    ];
    let uncomputed = (facts.formulas_without_value > 0).then_some(SheetNote::Uncomputed {
        count: facts.formulas_without_value,
        as_text: facts.formulas_as_text,
    });
    let notes = counted.into_iter().filter(|(count, _)| *count > 0);
    let notes = notes.map(|(count, note)| note(count));
    uncomputed
        .into_iter()
        .chain(notes)
        .chain(hidden.then_some(SheetNote::Hidden))
        .chain(has_extras.then_some(SheetNote::LeftOut(facts.extras)))
        .map(|note| Notice::Sheet {
            source: source.to_owned(),
            note,
        })
        .collect()
}

/// Takes note of something, once: of where the records of documents were found, the number of
/// documents of which the same holds.
pub(super) fn note(notices: &mut Vec<Notice>, notice: Notice) {
    if let Notice::Records { found, .. } = &notice {
        for known in &mut *notices {
            if let Notice::Records {
                found: other, more, ..
            } = known
                && other == found
            {
                *more += 1;
                return;
            }
        }
    } else if notices.contains(&notice) {
        return;
    }
    notices.push(notice);
}
