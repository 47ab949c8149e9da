//! The start of a text, taken apart as one delimiter has it.

use crate::regular::{Irregular, regular};
use crate::scan::{Index, Marks, scan};
use numerant_data::record::{Field, without_returns};

/// Records that are looked at.
const RECORDS: usize = 2000;

/// A record of a sample.
pub(crate) struct SampleRecord {
    /// Its line, counted from 0 at the start of the sample.
    pub(crate) line: u64,
    /// The values of its fields.
    pub(crate) values: Vec<Vec<u8>>,
    /// Whether a quote is in it where RFC 4180 has none.
    pub(crate) stray_quote: bool,
}

/// The records at the start of a text, without blank lines.
pub(crate) struct Sample {
    pub(crate) records: Vec<SampleRecord>,
}

impl Sample {
    /// The complete records of `text`, as `irregular` says how they are written.
    pub(crate) fn new(text: &[u8], irregular: &Irregular) -> Self {
        let made_regular;
        let (text, marks): (&[u8], Marks) = if irregular.is_regular() {
            (text, irregular.marks())
        } else {
            made_regular = regular(text, irregular);
            (&made_regular, irregular.marks())
        };
        let mut index = Index::default();
        let scanned = scan(text, marks, &mut index);
        let mut records = Vec::new();
        let (mut first, mut start, mut line) = (0, 0, 0);
        for behind in index.firsts() {
            let ends = &index.ends()[first..*behind as usize];
            let end = *ends.last().unwrap_or(&0) as usize;
            let raw = &text[start..end];
            let trimmed = match marks.terminator {
                b'\n' => without_returns(raw),
                _ => raw,
            };
            if (ends.len() > 1 || !trimmed.is_empty()) && records.len() < RECORDS {
                let mut from = start;
                let mut stray_quote = false;
                let mut values = Vec::with_capacity(ends.len());
                for field_end in ends {
                    let field_end = (*field_end as usize).min(start + trimmed.len());
                    let raw = &text[from.min(field_end)..field_end];
                    let field = Field::new(raw, marks.quote);
                    stray_quote |= field.has_stray_quote();
                    values.push(field.text().into_owned());
                    from = field_end + 1;
                }
                records.push(SampleRecord {
                    line,
                    values,
                    stray_quote,
                });
            }
            line += memchr::memchr_iter(marks.terminator, raw).count() as u64 + 1;
            first = *behind as usize;
            start = end + 1;
        }
        if scanned.misplaced_quote.is_some()
            && let Some(last) = records.last_mut()
        {
            last.stray_quote = true;
        }
        Self { records }
    }
}
