//! What looks like a slip in the data: records that are totals of others, and keys that differ only in
//! case or blanks.

use numerant_data::record::{At, Batch};
use numerant_data::value::{DecimalMark, Number};
use numerant_format::RecordReader;

/// What a record of totals is called in its first column.
const TOTALS: [&str; 14] = [
    "total",
    "totals",
    "grand total",
    "subtotal",
    "sub-total",
    "sub total",
    "sum",
    "gesamt",
    "summe",
    "gesamtsumme",
    "totaal",
    "totale",
    "suma",
    "celkem",
];

/// The longest of them, in bytes.
const LONGEST: usize = 12;

/// Keys that a note names.
const NAMED: usize = 3;

/// Records that look like totals of the records above them.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct TotalRecords {
    /// The source.
    pub source: String,
    /// The first column.
    pub column: String,
    /// What it holds in the first of them; nothing if it is blank.
    pub value: String,
    /// Where the first of them is.
    pub at: At,
    /// How many there are.
    pub records: u64,
}

/// Looks for such records in one source.
#[derive(Debug)]
pub(super) struct TotalFinder {
    records: u64,
    named: u64,
    first: Option<(At, String)>,
    /// Records whose first column is blank.
    blank: u64,
    /// The last record, if its first column is blank and another holds a number.
    last: Option<At>,
}

impl TotalFinder {
    /// A finder for a source; `None` if it has too few columns for it.
    pub(super) fn new(reader: &dyn RecordReader) -> Option<Self> {
        let is_table = reader.document().is_none();
        (is_table && reader.columns().len() > 1).then_some(Self {
            records: 0,
            named: 0,
            first: None,
            blank: 0,
            last: None,
        })
    }

    /// Looks at the records of a batch.
    pub(super) fn look(&mut self, batch: &Batch) {
        self.records += batch.len() as u64;
        for record in 0..batch.len() {
            // A look at one byte is enough for most records.
            match batch.bytes[batch.bounds(record).0] {
                first if first == batch.delimiter => self.blank += 1,
                b't' | b'T' | b's' | b'S' | b'g' | b'G' | b'c' | b'C' | b'"' | b' ' => {
                    self.look_at_name(batch, record);
                }
                _ => {}
            }
        }
        let Some(last) = batch.len().checked_sub(1) else {
            return;
        };
        let is_number = |column: usize| {
            let value = batch.field(last, column).text();
            Number::read(value.trim_ascii(), DecimalMark::Point).is_ok()
                || Number::read(value.trim_ascii(), DecimalMark::Comma).is_ok()
        };
        let is_total = batch.field(last, 0).is_blank() && (1..batch.width()).any(is_number);
        self.last = is_total.then(|| batch.at(last));
    }

    fn look_at_name(&mut self, batch: &Batch, record: usize) {
        let field = batch.field(record, 0);
        if field.raw().len() > LONGEST + 4 {
            return;
        }
        let value = field.text();
        let mut plain = value.trim_ascii();
        while let [rest @ .., b':' | b'.'] = plain {
            plain = rest;
        }
        let is_total = |name: &&str| name.as_bytes().eq_ignore_ascii_case(plain);
        if TOTALS.iter().any(is_total) {
            self.named += 1;
            self.first.get_or_insert_with(|| {
                let name = String::from_utf8_lossy(&value).into_owned();
                (batch.at(record), name)
            });
        }
    }

    /// What was found, if it is odd among the other records.
    pub(super) fn finish(self, reader: &dyn RecordReader) -> Option<TotalRecords> {
        /// Records that there are at least.
        const FEWEST: u64 = 3;
        let found = |at: At, value: String, records: u64| TotalRecords {
            source: reader.name(),
            column: reader.columns().names()[0].clone(),
            value,
            at,
            records,
        };
        match (self.first, self.last) {
            (Some((at, value)), _) if self.named * 2 < self.records => {
                Some(found(at, value, self.named))
            }
            (None, Some(at)) if self.blank == 1 && self.records >= FEWEST => {
                Some(found(at, String::new(), 1))
            }
            _ => None,
        }
    }
}

/// Keys that are one but for case and blanks.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct SimilarKeys {
    /// The column.
    pub column: String,
    /// Values that differ from another only so.
    pub values: u64,
    /// The first of them: each value with its records.
    pub examples: Vec<Vec<(String, u64)>>,
    /// Some of them differ in blanks, and not only in case.
    pub in_blanks: bool,
}

/// A value in lower case and without needless blanks.
fn folded(value: &str) -> String {
    let words: Vec<&str> = value.split_whitespace().collect();
    words.join(" ").to_lowercase()
}

/// The values of one column that differ only in case or blanks, each with its records.
pub(super) fn similar_keys(column: &str, values: &[(String, u64)]) -> Option<SimilarKeys> {
    let mut order: Vec<(String, usize)> = values
        .iter()
        .enumerate()
        .map(|(place, (value, _))| (folded(value), place))
        .collect();
    order.sort_unstable();
    let alike = order.chunk_by(|one, other| one.0 == other.0);
    let mut found = SimilarKeys {
        column: column.to_owned(),
        values: 0,
        examples: Vec::new(),
        in_blanks: false,
    };
    let mut groups: Vec<&[(String, usize)]> = alike.filter(|group| group.len() > 1).collect();
    groups.sort_unstable_by_key(|group| group[0].1);
    for group in groups {
        found.values += group.len() as u64;
        let lower = |(_, place): &(String, usize)| values[*place].0.to_lowercase();
        found.in_blanks |= group.iter().any(|one| lower(one) != lower(&group[0]));
        if found.examples.len() < NAMED {
            let group = group.iter().map(|(_, place)| values[*place].clone());
            found.examples.push(group.collect());
        }
    }
    (found.values > 0).then_some(found)
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn keys_that_differ_only_in_case_or_blanks() {
        let values = [
            "Varnholm",
            "VARNHOLM ",
            "Coal Dock",
            "coal  dock",
            "Grain Pier",
        ];
        let values: Vec<(String, u64)> = values.iter().map(|v| ((*v).to_owned(), 2)).collect();
        let found = similar_keys("town", &values).expect("some");
        assert_eq!((found.values, found.in_blanks), (4, true));
        let pair = |one: &str, other: &str| vec![(one.to_owned(), 2), (other.to_owned(), 2)];
        assert_eq!(
            found.examples,
            [
                pair("Varnholm", "VARNHOLM "),
                pair("Coal Dock", "coal  dock")
            ]
        );
        assert_eq!(similar_keys("town", &values[4..]), None);
    }
}
