//! The books of a run: what was read, what was written, and that the two agree.

mod digest;
mod multiset;

pub use digest::FileDigest;
pub use multiset::BagDigest;
pub(crate) use multiset::{BUCKETS, Bag, RecordHasher, bucket};

use std::collections::BTreeMap;
use std::path::Path;

use serde::{Deserialize, Serialize};

use numerant_data::dialect::Dialect;
use numerant_data::record::Unit;
use numerant_data::source::plain;
use numerant_data::tree::ValuesBeside;
use numerant_data::value::{Number, NumberFormat, NumberPattern, WrittenFormat};
use numerant_format::sheet::Odd;
use numerant_format::{SegmentCounts, SegmentsWritten};

/// The form of the ledger document; it grows when a reader of older ledgers would be misled.
pub const LEDGER_FORM: u32 = 1;

/// The ledger of a finished run. Its JSON is described in `docs/json.md`.
#[derive(Clone, Debug, Default, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub struct Ledger {
    /// The form of this document.
    pub form: u32,
    /// The folder that the outputs are in, from the folder that a kept ledger is in.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub out: Option<String>,
    /// The run has made that folder, so nothing else belongs there.
    #[serde(default)]
    pub new_folder: bool,
    /// Numbers have a comma before their fraction.
    #[serde(default)]
    pub decimal_comma: bool,
    /// How numbers are written in the sources, by an example.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub number_format: Option<NumberFormat>,
    /// How the numbers of totals are written in their columns, where that was detected.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub total_formats: Vec<TotalFormat>,
    /// The job that was run, with the keys of job files that are not as usual.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub job: Option<serde_json::Map<String, serde_json::Value>>,
    /// How the outputs are written, if they are delimited text.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub dialect: Option<Dialect>,
    /// What was read, source by source in the order they were named.
    pub sources: Vec<SourceEntry>,
    /// What was written, in the order of first records.
    pub outputs: Vec<OutputEntry>,
    /// Records that were read and are in no output, by reason.
    pub left_out: Vec<LeftOut>,
    /// Records in which something is wrong, the first of them.
    pub rejects: Vec<Reject>,
    /// Files of a batch that could not be done; nothing of them was written.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub failed: Vec<FailedFile>,
    /// The sums, in records.
    pub totals: Totals,
    /// Control totals: the sums of columns.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub sums: Vec<SumEntry>,
    /// The types that columns of workbooks were written with.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub types: Vec<TypedColumn>,
    /// The segments of messages that were written, if the outputs are messages.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub segments: Option<SegmentsWritten>,
    /// Whether records read are records written, left out and rejected, and all sums agree.
    pub balanced: bool,
}

/// A file that could not be done.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub struct FailedFile {
    /// As it was named or found.
    pub path: String,
    /// What is wrong.
    pub reason: String,
}

/// One source.
#[derive(Clone, Debug, Default, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub struct SourceEntry {
    /// As it was named.
    pub path: String,
    /// The sheet, if the source is one of a workbook.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub sheet: Option<String>,
    /// Bytes on disk, where they are known.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub bytes: Option<u64>,
    /// Records, the rejected ones among them; the header is none.
    pub records: u64,
    /// Records that were rejected.
    pub rejected: u64,
    /// Records to which blank fields were added, or from which blank ones were taken.
    pub padded: u64,
    /// Lines with nothing on them, which are no records.
    pub blank_lines: u64,
    /// Lines that are comments, which are no records.
    #[serde(default, skip_serializing_if = "is_zero")]
    pub comments: u64,
    /// Lines that were skipped at the start.
    pub skipped_lines: u64,
    /// Values of a document that are in none of its records, and in no output.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub values_left_out: Vec<ValuesBeside>,
    /// The segments of messages, by where they stand.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub segments: Option<SegmentCounts>,
}

#[allow(clippy::trivially_copy_pass_by_ref, reason = "serde hands a reference")]
fn is_zero(count: &u64) -> bool {
    *count == 0
}

/// A column of workbooks.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub struct TypedColumn {
    /// The source, where not all sources have the same columns.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub source: Option<String>,
    /// The column.
    pub column: String,
    /// What it was written as: `text`, `number`, `date`, `datetime`, `time`, `boolean`, or `as in the
    /// source` where each cell has the type that it had.
    pub written_as: String,
    /// The value that has kept it text, where most of the others have one type.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub text_because: Option<Odd>,
    /// What most of its values are, where one has kept it text.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub others: Option<String>,
    /// The number format of its cells, where the source decides it.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub number_format: Option<String>,
    /// Two ways to read it, of which none was chosen.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub ambiguous: Option<Ambiguous>,
    /// All of its values are blank, so that they have no type.
    #[serde(skip)]
    pub is_blank: bool,
}

/// How the numbers of a total are written in its column.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub struct TotalFormat {
    /// The column.
    pub column: String,
    /// How its numbers are written.
    pub format: NumberPattern,
}

/// Two ways to read a column, as number formats.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub struct Ambiguous {
    /// One way.
    pub one: String,
    /// The other.
    pub other: String,
    /// It is about dates.
    pub is_date: bool,
}

impl Ambiguous {
    /// Two formats by which all values of a column are written.
    pub(crate) fn between(one: &WrittenFormat, other: &WrittenFormat) -> Self {
        Self {
            one: one.code(),
            other: other.code(),
            is_date: matches!(one, WrittenFormat::Moment(_)),
        }
    }
}

/// One output.
#[derive(Clone, Debug, Default, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub struct OutputEntry {
    /// Below the output folder, with `/` between folders.
    pub path: String,
    /// The sheet, if the output is one of a workbook.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub sheet: Option<String>,
    /// Records in it.
    pub records: u64,
    /// Bytes of it, the header among them; not known of an output that is only planned. Those of a
    /// workbook stand with its first sheet.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub bytes: Option<u64>,
    /// BLAKE3 digest of its bytes in hexadecimal, where a ledger is kept.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub blake3: Option<String>,
    /// The values by which its records were distinguished, by key; none where it has records of several.
    #[serde(default, skip_serializing_if = "BTreeMap::is_empty")]
    pub keys: BTreeMap<String, String>,
    /// Control totals, in the order of the ledger's sums.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub sums: Vec<Number>,
    /// Key values of the first record, where it is only planned.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub first: Option<String>,
    /// Key values of the last record, where it is only planned.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub last: Option<String>,
}

/// Records that are in no output.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub struct LeftOut {
    /// Why.
    pub reason: LeftOutReason,
    /// The condition, where that is the reason.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub condition: Option<String>,
    /// How many of them the condition is unknown for, as a value in it is blank.
    #[serde(default, skip_serializing_if = "is_zero")]
    pub unknown: u64,
    /// The columns that are blank in those.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub blank_columns: Vec<String>,
    /// Which output they would have gone to, where that is the reason.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub path: Option<String>,
    /// How many.
    pub records: u64,
    /// Control totals, in the order of the ledger's sums.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub sums: Vec<Number>,
}

/// Why records are in no output.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub enum LeftOutReason {
    /// Their output exists and was to stay as it is.
    OutputExists,
    /// A condition does not hold for them.
    Condition,
    /// No case holds for them, and the rest has no name.
    NoCase,
    /// They have no value at all.
    Empty,
    /// Another output has the name, and was to have it alone.
    NameTaken,
    /// Their copy of a template lacks another table, and was to be left out.
    Incomplete,
}

/// A record in which something is wrong.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub struct Reject {
    /// What the source is counted in.
    #[serde(default, skip_serializing_if = "Unit::is_line")]
    pub unit: Unit,
    /// Its source.
    pub source: String,
    /// Its line there, from 1.
    pub line: u64,
    /// What is wrong.
    pub reason: String,
}

/// The sums of a run, in records.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub struct Totals {
    /// Read from all sources.
    pub read: u64,
    /// Written to all outputs.
    pub written: u64,
    /// Read and in no output.
    pub left_out: u64,
    /// Read and wrong.
    pub rejected: u64,
}

/// A control total. Records that were rejected before their fields could be parsed are in none
/// of its sums.
#[derive(Clone, Debug, Default, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub struct SumEntry {
    /// The column.
    pub column: String,
    /// Over all records that were read.
    pub read: Number,
    /// Over those that were written.
    pub written: Number,
    /// Over those in no output.
    pub left_out: Number,
    /// Over those that were rejected.
    pub rejected: Number,
}

impl Ledger {
    /// Sums up the entries and says whether they balance. `sums` are the columns that are summed
    /// up, each with its sum over what was read and over what was rejected.
    pub fn close(
        sources: Vec<SourceEntry>,
        outputs: Vec<OutputEntry>,
        left_out: Vec<LeftOut>,
        rejects: Vec<Reject>,
        sums: &[(String, Number, Number)],
    ) -> Self {
        let totals = Totals {
            read: sources.iter().map(|source| source.records).sum(),
            written: outputs.iter().map(|output| output.records).sum(),
            left_out: left_out.iter().map(|entry| entry.records).sum(),
            rejected: sources.iter().map(|source| source.rejected).sum(),
        };
        let mut balanced = totals.read == totals.written + totals.left_out + totals.rejected;
        let add = |sum: Option<Number>, number: Option<&Number>| {
            sum.and_then(|sum| sum.plus(number.copied().unwrap_or(Number::ZERO)).ok())
        };
        let sums = sums
            .iter()
            .enumerate()
            .map(|(place, (column, read, rejected))| {
                let written = outputs.iter().try_fold(Number::ZERO, |sum, output| {
                    add(Some(sum), output.sums.get(place))
                });
                let left_out = left_out.iter().try_fold(Number::ZERO, |sum, entry| {
                    add(Some(sum), entry.sums.get(place))
                });
                let all = add(add(written, left_out.as_ref()), Some(rejected));
                balanced &= all.is_some_and(|all| all.compare(*read).is_eq());
                SumEntry {
                    column: column.clone(),
                    read: *read,
                    written: written.unwrap_or(Number::ZERO),
                    left_out: left_out.unwrap_or(Number::ZERO),
                    rejected: *rejected,
                }
            })
            .collect();
        Self {
            form: LEDGER_FORM,
            out: None,
            new_folder: false,
            decimal_comma: false,
            number_format: None,
            total_formats: Vec::new(),
            job: None,
            dialect: None,
            sources,
            outputs,
            left_out,
            rejects,
            failed: Vec::new(),
            totals,
            sums,
            types: Vec::new(),
            segments: None,
            balanced,
        }
    }

    /// Takes down the segments of messages that were written, which have to be those that were read.
    pub(crate) fn set_segments(&mut self, written: Option<SegmentsWritten>) {
        self.segments = written;
        let counts = self.sources.iter().filter_map(|source| source.segments);
        let placed = counts.into_iter().all(|counts| counts.adds_up());
        self.balanced &= placed && self.lost_segments().is_none();
    }

    /// The segments in records that were read and those that were written, if they do not agree.
    pub(crate) fn lost_segments(&self) -> Option<(u64, u64)> {
        let written = self.segments?;
        let counts = self.sources.iter().filter_map(|source| source.segments);
        let read = counts.map(|counts| counts.records).sum();
        let has_left_out = self.totals.left_out + self.totals.rejected > 0;
        let agrees = written.agrees(read, has_left_out);
        (!agrees).then_some((read, written.records))
    }
}

/// The folder of outputs as a ledger at `path` states it: the way there; nothing where that is not Unicode, so that
/// whoever verifies has to name it.
pub(crate) fn out_of_ledger(path: &Path, folder: &Path) -> Option<String> {
    let (own, to) = (plain(path), plain(folder));
    let is_unicode = own.to_str().is_some() || own.parent() == to.parent();
    let way = from_folder_of(path, folder);
    (is_unicode && to.to_str().is_some() || !way.contains('\u{fffd}')).then_some(way)
}

/// The way from the folder of `file` to `folder`, with `/` between folders; where there is none,
/// as between drives, the folder itself.
pub(crate) fn from_folder_of(file: &Path, folder: &Path) -> String {
    let (file, to) = (plain(file), plain(folder));
    let from = file.parent().unwrap_or(Path::new(""));
    let common = from
        .components()
        .zip(to.components())
        .take_while(|(one, other)| one == other)
        .count();
    if common == 0 {
        return folder.display().to_string();
    }
    let up = from.components().skip(common).map(|_| "..".to_owned());
    let down = to
        .components()
        .skip(common)
        .map(|component| component.as_os_str().to_string_lossy().into_owned());
    let way: Vec<String> = up.chain(down).collect();
    if way.is_empty() {
        ".".to_owned()
    } else {
        way.join("/")
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn the_way_from_a_ledger_to_its_outputs() {
        for (file, folder, way) in [
            ("split.json", "parts", "parts"),
            ("books/split.json", "parts/a", "../parts/a"),
            ("parts/split.json", "parts", "."),
            ("./books/../split.json", "./parts", "parts"),
        ] {
            assert_eq!(from_folder_of(Path::new(file), Path::new(folder)), way);
        }
    }

    #[test]
    fn books_balance_or_say_that_they_do_not() {
        let number = |text: &str| text.parse::<Number>().expect(text);
        let source = SourceEntry {
            records: 10,
            rejected: 1,
            ..SourceEntry::default()
        };
        let output = OutputEntry {
            records: 6,
            sums: vec![number("10.50")],
            ..OutputEntry::default()
        };
        let left_out = LeftOut {
            reason: LeftOutReason::OutputExists,
            condition: None,
            unknown: 0,
            blank_columns: Vec::new(),
            path: Some("a.csv".into()),
            records: 3,
            sums: vec![number("2")],
        };
        let close = |outputs: Vec<OutputEntry>, read: &str| {
            let sums = [("dues".to_owned(), number(read), number("0.25"))];
            let left_out = vec![left_out.clone()];
            Ledger::close(vec![source.clone()], outputs, left_out, vec![], &sums)
        };
        let ledger = close(vec![output.clone()], "12.75");
        assert!(ledger.balanced);
        assert_eq!(
            ledger.totals,
            Totals {
                read: 10,
                written: 6,
                left_out: 3,
                rejected: 1
            }
        );
        assert_eq!(ledger.sums[0].written, number("10.50"));
        let text = serde_json::to_string(&ledger).expect("written");
        assert_eq!(serde_json::from_str::<Ledger>(&text).expect("read"), ledger);
        assert!(!close(vec![output], "12.76").balanced, "a sum is off");
        assert!(!close(vec![], "2.25").balanced, "records are missing");
    }
}
