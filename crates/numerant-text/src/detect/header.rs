//! Finds out whether the first record of a text can be its header.

use super::delimiter::{is_wordy, table_width};
use super::sample::{Sample, SampleRecord};
use numerant_data::value::Kind;

/// Records after the first whose values it is compared with.
const COMPARED: usize = 200;

/// What the start of a text says of its header.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub(crate) struct HeaderFacts {
    /// Lines above the record that looks like the header, where that is not the first one.
    pub(crate) lines_above: Option<u64>,
    /// The first record has the width of the others and all but one or two of its fields are blank,
    /// as in a title that was padded.
    pub(crate) is_title: bool,
    /// The first record has values like those of the records after it.
    pub(crate) is_data: bool,
}

/// What the records of a sample say of the header.
pub(crate) fn header_facts(sample: &Sample) -> HeaderFacts {
    let records = &sample.records;
    let Some((first, rest)) = records.split_first() else {
        return HeaderFacts::default();
    };
    if let Some((_, header)) = table_width(records)
        && header > 0
    {
        return HeaderFacts {
            lines_above: Some(records[header].line),
            ..HeaderFacts::default()
        };
    }
    let is_title = |record: &SampleRecord| {
        let width = record.values.len();
        let filled = record
            .values
            .iter()
            .filter(|value| !value.is_empty())
            .count();
        width > 2 && filled > 0 && filled * 2 < width && !record.values[0].is_empty()
    };
    let has_value = |record: &SampleRecord| record.values.iter().any(|value| !value.is_empty());
    if is_title(first)
        && let Some(header) = rest
            .iter()
            .find(|record| !is_title(record) && has_value(record))
        && header.values.len() == first.values.len()
        && is_wordy(&header.values)
    {
        return HeaderFacts {
            lines_above: Some(header.line),
            is_title: true,
            is_data: false,
        };
    }
    HeaderFacts {
        is_data: is_data(first, &rest[..rest.len().min(COMPARED)]),
        ..HeaderFacts::default()
    }
}

/// Whether a record has numbers, dates or truth values where the records after it have some, and
/// nothing that makes it differ from them.
fn is_data(first: &SampleRecord, rest: &[SampleRecord]) -> bool {
    let width = first.values.len();
    let alike: Vec<&SampleRecord> = rest
        .iter()
        .filter(|record| record.values.len() == width)
        .collect();
    if alike.is_empty() {
        return false;
    }
    let mut typed = Vec::new();
    for column in 0..width {
        let value = &first.values[column];
        let kind = kind_of(value);
        let mut values = alike.iter().map(|record| record.values[column].as_slice());
        match kind {
            Kind::Blank => {}
            // A word above values that all have one type is a header.
            Kind::Text => {
                let is_text = |value: &[u8]| matches!(kind_of(value), Kind::Text);
                if !values.any(is_text) {
                    return false;
                }
            }
            kind => {
                let fits = |value: &[u8]| {
                    let found = kind_of(value);
                    let is_number = |kind| matches!(kind, Kind::Integer | Kind::Decimal);
                    found == kind || found == Kind::Blank || (is_number(found) && is_number(kind))
                };
                if !values.all(fits) {
                    return false;
                }
                typed.push((kind, value.as_slice()));
            }
        }
    }
    !typed.is_empty() && !are_labels(&typed)
}

/// The type of a value, where a number may have more digits than a cell keeps.
fn kind_of(value: &[u8]) -> Kind {
    match Kind::of(value) {
        Kind::Text if numerant_data::value::Number::parse(value).is_some() => Kind::Decimal,
        kind => kind,
    }
}

/// Whether numbers count up by one step, as the years or numbers that columns are called do.
fn are_labels(typed: &[(Kind, &[u8])]) -> bool {
    let numbers: Option<Vec<i64>> = typed
        .iter()
        .map(|(kind, value)| {
            let text = std::str::from_utf8(value).ok()?;
            text.parse().ok().filter(|_| *kind == Kind::Integer)
        })
        .collect();
    let Some(numbers) = numbers else {
        return false;
    };
    match numbers.as_slice() {
        [one] => (1900..2100).contains(one),
        several => {
            let step = several[1].saturating_sub(several[0]);
            (step == 1 || (step != 0 && several.len() > 2))
                && several
                    .windows(2)
                    .all(|pair| pair[1].saturating_sub(pair[0]) == step)
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::regular::Irregular;
    use numerant_data::dialect::{LineEnd, Quote};

    fn facts(text: &str) -> HeaderFacts {
        let irregular = Irregular::usual(Quote::Byte(b'"'), LineEnd::Lf);
        header_facts(&Sample::new(text.as_bytes(), &irregular))
    }

    #[test]
    fn titles_above_the_header() {
        for (text, lines, title) in [
            ("Calls of May\n\nid,quay,dues\n1,A,2\n", Some(2), false),
            ("Calls of May,,\nid,quay,dues\n1,A,2\n", Some(1), true),
            ("Calls of May,,\n,,\nid,quay,dues\n1,A,2\n", Some(2), true),
            ("id,quay,dues\n1,A,2\n", None, false),
            ("id,,\n1,A,2\n2,B,3\n", None, false),
        ] {
            let found = facts(text);
            assert_eq!(
                (found.lines_above, found.is_title),
                (lines, title),
                "{text:?}"
            );
        }
    }

    #[test]
    fn first_records_that_are_data() {
        for (text, expected) in [
            ("1,a,True,2015-11-04\n2,b,False,2015-11-05\n", true),
            ("1,a,17\n2,b,19\n", true),
            ("a,5.5\nb,6.5\n", true),
            ("id,quay\n1,A\n", false),
            ("quay,2019,2020\nA,1,2\nB,3,4\n", false),
            ("1,2,3\n7,8,9\n", false),
            ("quay,town\nA,B\n", false),
            ("quay,n\n", false),
        ] {
            assert_eq!(facts(text).is_data, expected, "{text:?}");
        }
    }
}
