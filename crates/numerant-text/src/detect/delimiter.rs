//! Detects the delimiter of a text, and whether blanks stand around its quotes.
//!
//! Each candidate takes the sample apart, and the one whose records look most like a table wins: no
//! quotes in odd places, records of one width from the header on, words in the header. A comma is
//! part of many values, so it loses where another candidate is as good.

use super::sample::{Sample, SampleRecord};
use crate::regular::Irregular;
use numerant_data::dialect::{Delimiter, Escape, LineEnd, Quote};

/// Delimiters that most files have.
const USUAL: [u8; 5] = *b";\t|\x1f,";

/// Bytes that are tried where none of those divides the text.
const UNUSUAL: &[u8] = b"^~:#!%*=$?<>\x01\x02\x03\x04\x05\x06\x07\x08\x1c\x1d\x1e";

/// What was detected.
pub(crate) struct Detected {
    pub(crate) delimiter: Delimiter,
    /// Blanks between delimiters and quotes are none of the values'.
    pub(crate) padded_quotes: bool,
    /// It is none of those that most files have.
    pub(crate) is_unusual: bool,
    /// The start of the text as it takes it apart.
    pub(crate) sample: Sample,
}

/// How well a candidate takes a sample apart; less is better.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord)]
struct Score {
    /// Records with a quote where RFC 4180 has none.
    strays: usize,
    /// What speaks against it being a table, in thousandths.
    penalty: u64,
    is_comma: bool,
    /// Fields, so that more of them come first.
    fewer_fields: std::cmp::Reverse<usize>,
}

/// The delimiter of the text that begins with `text`; `None` if none divides it into a table.
/// `irregular` is what else is known of how it is written.
pub(crate) fn detect_delimiter(
    text: &[u8],
    irregular: &Irregular,
    padded_quotes: Option<bool>,
) -> Option<Detected> {
    let best = |candidates: &[u8], is_unusual: bool| {
        let found = best_of(text, irregular, padded_quotes, candidates, is_unusual);
        found.map(|(_, detected)| detected)
    };
    let usual = best(&USUAL, false);
    // What does not divide the first record may are in values only.
    let begins_at_once =
        |found: &Detected| table_width(&found.sample.records).is_none_or(|(_, header)| header == 0);
    if usual.as_ref().is_some_and(begins_at_once) {
        return usual;
    }
    let first_line = text.split(|byte| matches!(byte, b'\n' | b'\r')).next()?;
    let there = UNUSUAL.iter().copied();
    let there: Vec<u8> = there.filter(|byte| first_line.contains(byte)).collect();
    let unusual = best(&there, true);
    unusual.or(usual)
}

/// How well the best of the usual delimiters takes a text apart whose lines end so; less is better.
pub(super) fn best_score(
    text: &[u8],
    (quote, escape): (Quote, Option<Escape>),
    line_end: LineEnd,
) -> Option<(usize, u64)> {
    let irregular = Irregular {
        delimiter: Delimiter::COMMA,
        quote,
        escape,
        padded_quotes: false,
        comment: None,
        line_end,
    };
    // The text after the last line end counts, too. One record by itself says nothing.
    let text = [text, &[line_end.terminator()]].concat();
    let found = best_of(&text, &irregular, Some(false), &USUAL, false);
    let table = found.filter(|(_, detected)| detected.sample.records.len() > 1);
    table.map(|(score, _)| (score.strays, score.penalty))
}

/// The best of some candidates.
fn best_of(
    text: &[u8],
    irregular: &Irregular,
    padded_quotes: Option<bool>,
    candidates: &[u8],
    is_unusual: bool,
) -> Option<(Score, Detected)> {
    let mut best: Option<(Score, Detected)> = None;
    for candidate in candidates {
        // What stands nowhere divides nothing.
        if memchr::memchr(*candidate, text).is_none() {
            continue;
        }
        for padded in [false, true] {
            if padded_quotes.is_some_and(|said| said != padded)
                || (padded && !may_be_padded(text, *candidate, irregular.quote))
            {
                continue;
            }
            let delimiter = Delimiter::byte(*candidate);
            let irregular = Irregular {
                delimiter,
                padded_quotes: padded,
                ..irregular.clone()
            };
            let sample = Sample::new(text, &irregular);
            let score = score(&sample.records, *candidate, is_unusual);
            if let Some(score) = score
                && best.as_ref().is_none_or(|(known, _)| score < *known)
            {
                let detected = Detected {
                    delimiter,
                    padded_quotes: padded,
                    is_unusual,
                    sample,
                };
                best = Some((score, detected));
            }
        }
    }
    best
}

/// Whether blanks are between a delimiter and a quote, on either side.
fn may_be_padded(text: &[u8], delimiter: u8, quote: Quote) -> bool {
    let Some(quote) = quote.byte() else {
        return false;
    };
    let is_blank = |byte: &u8| *byte != delimiter && matches!(byte, b' ' | b'\t');
    memchr::memchr_iter(quote, text).any(|at| {
        let before = text[..at].iter().rev();
        let blanks = before.take_while(|byte| is_blank(byte)).count();
        let opens = blanks > 0 && {
            let before = text[..at - blanks].last();
            before.is_none_or(|byte| [delimiter, b'\n', b'\r'].contains(byte))
        };
        let behind = &text[at + 1..];
        let blanks = behind.iter().take_while(|byte| is_blank(byte)).count();
        let closes = blanks > 0 && {
            let behind = behind.get(blanks);
            behind.is_none_or(|byte| [delimiter, b'\n', b'\r'].contains(byte))
        };
        opens || closes
    })
}

/// How well a candidate takes a sample apart; `None` if it makes no table of it.
fn score(records: &[SampleRecord], delimiter: u8, is_unusual: bool) -> Option<Score> {
    const THOUSAND: u64 = 1000;
    let first = records.first()?;
    let (width, header) = match table_width(records) {
        Some(found) => found,
        None if first.values.len() > 1 => (first.values.len(), 0),
        None => return None,
    };
    let table = &records[header..];
    let others = table.iter().filter(|record| record.values.len() != width);
    let exceptions = others.count();
    let share = exceptions as u64 * THOUSAND / table.len() as u64;
    let wordy = is_wordy(&table[0].values);
    if header > 0 && (share > 300 || is_prose(table, delimiter)) {
        return None;
    }
    // A byte that most files do not have between fields has to make a table without a fault.
    if is_unusual
        && (header > 0 || share > 50 || !wordy || records.len() < 2 || is_prose(records, delimiter))
    {
        return None;
    }
    let above = (header as u64 * 20).min(100);
    // Below the first record, values that are no words are no header.
    let values = match (wordy, header) {
        (true, _) => 0,
        (false, 0) => 200,
        (false, _) => 500,
    };
    let penalty = share + above + values;
    Some(Score {
        strays: records.iter().filter(|record| record.stray_quote).count(),
        penalty,
        is_comma: delimiter == b',',
        fewer_fields: std::cmp::Reverse(width),
    })
}

/// The width that most records of several fields have, and the first record from which on two
/// records have it.
pub(super) fn table_width(records: &[SampleRecord]) -> Option<(usize, usize)> {
    let mut counts: Vec<(usize, usize)> = Vec::new();
    for record in records {
        let width = record.values.len();
        match counts.iter_mut().find(|(known, _)| *known == width) {
            Some((_, count)) => *count += 1,
            None => counts.push((width, 1)),
        }
    }
    let several = counts.into_iter().filter(|(width, _)| *width > 1);
    let (width, count) = several.max_by_key(|(width, count)| (*count, *width))?;
    let pairs = records.windows(2);
    let begins = |pair: &[SampleRecord]| pair.iter().all(|record| record.values.len() == width);
    let header = pairs.into_iter().position(begins);
    match header {
        Some(header) => Some((width, header)),
        None if count == records.len() => Some((width, 0)),
        None => None,
    }
}

/// Whether values are words, as those of a header are: none is blank or begins like a number.
pub(super) fn is_wordy(values: &[Vec<u8>]) -> bool {
    values.iter().all(|value| {
        let value = value.trim_ascii();
        let sign = value.strip_prefix(b"-").unwrap_or(value);
        !value.is_empty() && !sign.first().is_some_and(u8::is_ascii_digit)
    })
}

/// Whether a blank follows the delimiter wherever it is, as in sentences.
fn is_prose(records: &[SampleRecord], delimiter: u8) -> bool {
    matches!(delimiter, b',' | b':' | b';' | b'?' | b'!')
        && records.iter().all(|record| {
            let behind = record.values.iter().skip(1);
            behind.into_iter().all(|value| value.starts_with(b" "))
        })
}

#[cfg(test)]
mod tests {
    use super::*;
    use numerant_data::dialect::LineEnd;

    fn detected(text: &str) -> Option<(String, bool)> {
        let irregular = Irregular::usual(Quote::Byte(b'"'), LineEnd::Lf);
        let found = detect_delimiter(text.as_bytes(), &irregular, None)?;
        Some((found.delimiter.to_string(), found.padded_quotes))
    }

    fn delimiter(text: &str) -> Option<String> {
        detected(text).map(|(delimiter, _)| delimiter)
    }

    #[test]
    fn delimiters() {
        for (text, expected) in [
            ("quay,tonnes\nA,1\nB,2\n", "comma"),
            ("quay;dues\nA;1,50\nB;2,50\n", "semicolon"),
            ("quay|remark\nA|one, two\nB|three, four\n", "pipe"),
            ("quay\tremark\nA\t\"x\ty\"\n", "tab"),
            ("\n\r\nquay;a\n1;2\n", "semicolon"),
            ("a,b;c,d;e\n1,2;3,4;5\n", "semicolon"),
            ("a,b;c;d;e\n1,2;3;4;5\n", "semicolon"),
            ("a;b,c\n1;2\n3;4\n", "semicolon"),
            (
                "\"01.01.2024\";\"2,50\"\n\"02.01.2024\";\"3,50\"\n",
                "semicolon",
            ),
            ("No;Dues, net\n1;2,50\n", "semicolon"),
            ("Town, land\tcalls\nVarnholm, coast\t5\n", "tab"),
            ("quay,tags\nA,x;y\nB,v;w\n", "comma"),
            ("Calls, May\nquay;dues\nA;2,50\nB;3,50\n", "semicolon"),
            ("Calls of May\n\nquay,dues\nA,2\nB,3\n", "comma"),
            (
                "quay;dues\nA;2,50\nB;3,50;x\nC;1,50\nD;1,50;y\n",
                "semicolon",
            ),
            ("quay^dues\nA^2\nB^3\n", "^"),
            ("quay~dues\nA~2\n", "~"),
            ("quay:dues\nA:2\nB:3\n", ":"),
            ("quay~town\nA~B\nC,c~D\nE,e~F\nG,g~H\n", "~"),
            ("Calls: May\nquay;dues\nA;2,50\nB;3,50\n", "semicolon"),
            ("quay\u{1}dues\nA\u{1}2\n", "\\x01"),
        ] {
            assert_eq!(delimiter(text).as_deref(), Some(expected), "{text:?}");
        }
    }

    #[test]
    fn no_delimiter() {
        for text in [
            "quay\nA\nB\n",
            "10:30\n10:45\n11:00\n",
            "master\nRoe, Jane\nDoe, John\n",
            "Name: A\nQuay: B\n",
            "",
        ] {
            assert_eq!(delimiter(text), None, "{text:?}");
        }
    }

    #[test]
    fn blanks_around_quotes() {
        let comma = |padded| Some(("comma".to_owned(), padded));
        assert_eq!(detected("a, b, c\n1, \"x, y\", 5\n"), comma(true));
        assert_eq!(detected("a,b\n\"x\" ,\"y\"\n"), comma(true));
        assert_eq!(detected("a,b\n\"x \",\" y\"\n"), comma(false));
    }
}
