//! The end of the first half: what is left to name is named, and all that was counted is summed up.

use std::collections::{BTreeMap, HashMap};

use super::super::addresses::{Disposition, FilledCopy, NamesChanged};
use super::super::suspects::similar_keys;
use super::super::{Error, Notice};
use super::Producer;
use crate::ledger::{LeftOut, LeftOutReason, SourceEntry, TotalFormat};
use numerant_data::dialect::Dialect;
use numerant_data::value::{Number, WrittenFormat};
use numerant_format::Format;
use numerant_format::sheet::Heading;
use numerant_naming::Part;
use numerant_steps::{CASE_COLUMN, LeftOutStep, StepError, UnknownRecords};

/// What the first half knows at the end.
pub(crate) struct Produced {
    /// How the outputs are written, if they are delimited text.
    pub(crate) dialect: Option<Dialect>,
    pub(crate) sources: Vec<SourceEntry>,
    pub(crate) notices: Vec<Notice>,
    /// The path of each output; `None` where it is not to be written.
    pub(crate) paths: Vec<Option<String>>,
    /// The sheet of each output; empty where outputs are text.
    pub(crate) sheets: Vec<String>,
    /// The values of the keys of each output.
    pub(crate) keys: Vec<BTreeMap<String, String>>,
    /// What is above the records of each output, if outputs are pages.
    pub(crate) headings: Vec<Heading>,
    /// How workbooks are written.
    pub(crate) book: Option<&'static dyn Format>,
    /// Records of each output.
    pub(crate) records: Vec<u64>,
    /// Control totals of each output.
    pub(crate) sums: Vec<Vec<Number>>,
    pub(crate) left_out: Vec<LeftOut>,
    /// Columns that were summed up, with their sums over what was read and what was rejected.
    pub(crate) totals: Vec<(String, Number, Number)>,
    /// How the numbers of totals are written, where that was detected.
    pub(crate) total_formats: Vec<TotalFormat>,
    /// Copies of a template that is filled.
    pub(crate) copies: Vec<FilledCopy>,
}

impl Producer {
    /// The values by which the records of an output are distinguished.
    fn key_values(&self, output: usize) -> BTreeMap<String, String> {
        let found = self.divider.outputs()[output];
        let values = &self.router.groups()[found.group as usize];
        let keys = self.plan.keys.iter().zip(values);
        keys.map(|(key, value)| (key.to_string(), value.clone()))
            .collect()
    }

    /// Reports keys that differ only in case or blanks, with the `records` of their outputs.
    fn note_similar_keys(&mut self, records: &[u64]) {
        for (place, key) in self.router.keys().enumerate() {
            if key.part != Part::Whole || key.column == CASE_COLUMN {
                continue;
            }
            let mut values: Vec<(String, u64)> = Vec::new();
            let mut places: HashMap<&str, usize> = HashMap::new();
            for (output, found) in self.divider.outputs().iter().enumerate() {
                let value = self.router.groups()[found.group as usize][place].as_str();
                let at = *places.entry(value).or_insert_with(|| {
                    values.push((value.to_owned(), 0));
                    values.len() - 1
                });
                values[at].1 += records[output] + self.diverted[output];
            }
            let similar = similar_keys(&key.column, &values);
            self.notices.extend(similar.map(Notice::SimilarKeys));
        }
    }

    /// Names what is left to name and refuses the run if there is a reason. `records` are the
    /// records of each output that were handed on; those of outputs that are not to be written
    /// are taken from it.
    pub(crate) fn finish(mut self, mut records: Vec<u64>) -> Result<Produced, Error> {
        self.notices.extend(
            self.pipeline
                .unmatched()
                .map_err(StepError::from)?
                .into_iter()
                .map(Notice::Unmatched),
        );
        let outputs = self.divider.outputs().len();
        records.resize(outputs, 0);
        self.addresses
            .finish(&self.router, &self.divider, &records)?;
        self.note_similar_keys(&records);
        let mut keys: Vec<BTreeMap<String, String>> =
            (0..outputs).map(|output| self.key_values(output)).collect();
        let named = self.addresses.into_named();
        let totals = self.sums.len();
        let sums_of =
            |output: usize| -> Vec<Number> { self.sums.iter().map(|sums| sums[output]).collect() };
        let mut sums: Vec<Vec<Number>> = (0..outputs).map(sums_of).collect();
        let mut left_out = Vec::new();
        let unknown = self.pipeline.unknown();
        for entry in self.pipeline.left_out() {
            let (reason, condition) = match &entry.reason {
                LeftOutStep::Empty => (LeftOutReason::Empty, None),
                LeftOutStep::Where(text) => (LeftOutReason::Condition, Some(text.clone())),
                LeftOutStep::NoCase => (LeftOutReason::NoCase, None),
            };
            let same = |unknown: &&UnknownRecords| {
                !unknown.is_case && condition.as_ref() == Some(&unknown.condition)
            };
            let unknown = unknown.iter().find(same);
            left_out.push(LeftOut {
                reason,
                unknown: unknown.map_or(0, |unknown| unknown.records),
                blank_columns: unknown.map_or_else(Vec::new, |unknown| {
                    let columns = unknown.columns.iter();
                    columns.map(|(name, _)| name.clone()).collect()
                }),
                condition,
                path: None,
                records: entry.records,
                sums: entry.totals.clone(),
            });
        }
        let mut paths = Vec::with_capacity(outputs);
        let (sheets, headings) = (named.sheets.clone(), named.headings.clone());
        // Several outputs may want one name.
        let mut places: HashMap<(LeftOutReason, String), usize> = HashMap::new();
        for (output, (path, disposition)) in
            named.paths.into_iter().zip(named.dispositions).enumerate()
        {
            let reason = match disposition {
                Disposition::Write => {
                    paths.push(Some(path));
                    continue;
                }
                Disposition::Joined(other) => {
                    paths.push(None);
                    let joined = std::mem::take(&mut keys[output]);
                    keys[other as usize].retain(|key, value| joined.get(key) == Some(value));
                    let joined = std::mem::take(&mut sums[output]);
                    for (sum, number) in sums[other as usize].iter_mut().zip(joined) {
                        *sum = sum.plus(number).map_err(|_| Error::Sum {
                            column: self.plan.job.total.join(", "),
                        })?;
                    }
                    continue;
                }
                Disposition::Exists => LeftOutReason::OutputExists,
                Disposition::NameTaken => LeftOutReason::NameTaken,
                Disposition::Incomplete => LeftOutReason::Incomplete,
            };
            paths.push(None);
            // Some were handed on before it was known that the output would not be written.
            let handed_on = std::mem::take(&mut records[output]);
            let of_output = std::mem::take(&mut sums[output]);
            let place = *places
                .entry((reason, path))
                .or_insert_with_key(|(reason, path)| {
                    left_out.push(LeftOut {
                        reason: *reason,
                        condition: None,
                        unknown: 0,
                        blank_columns: Vec::new(),
                        path: Some(path.clone()),
                        records: 0,
                        sums: vec![Number::ZERO; totals],
                    });
                    left_out.len() - 1
                });
            left_out[place].records += self.diverted[output] + handed_on;
            for (sum, number) in left_out[place].sums.iter_mut().zip(of_output) {
                *sum = sum.plus(number).map_err(|_| Error::Sum {
                    column: self.plan.job.total.join(", "),
                })?;
            }
        }
        if named.changed != NamesChanged::default() {
            self.notices.push(Notice::NamesChanged(named.changed));
        }
        if named.clashed.count > 0 {
            self.notices.push(Notice::NamesClashed(named.clashed));
        }
        if !named.renamed.is_empty() {
            self.notices.push(Notice::SheetsRenamed(named.renamed));
        }
        if !named.lacking.is_empty() {
            self.notices.push(Notice::Incomplete(named.lacking));
        }
        if let Some(tidied) = self.pipeline.tidied().filter(|tidied| !tidied.is_empty()) {
            self.notices.push(Notice::Tidied(tidied.clone()));
        }
        let unknown = unknown.into_iter().map(Notice::Unknown);
        self.notices.extend(unknown);
        let unused = self.pipeline.unused_cases();
        if !unused.is_empty() {
            self.notices.push(Notice::UnusedCases(unused));
        }
        let layout = self.pipeline.layout();
        let total_formats = self.plan.job.total.iter().filter_map(|name| {
            let column = layout.find(name).ok()?;
            match self.pipeline.cells().written(column.slot)? {
                WrittenFormat::Number(format) => Some(TotalFormat {
                    column: name.clone(),
                    format: format.clone(),
                }),
                WrittenFormat::Moment(_) => None,
            }
        });
        let total_formats = total_formats.collect();
        let written = self.inputs.written();
        let job = &self.plan.job;
        let is_stated =
            job.decimal_comma || job.number_format.is_some() || !job.date_format.is_empty();
        if !written.is_empty() && !is_stated {
            let columns = written.iter();
            let columns = columns.map(|(name, format)| (name.clone(), format.example()));
            self.notices.push(Notice::ReadAs(columns.collect()));
        }
        let totals = self
            .pipeline
            .totals()
            .map(|(name, all, rejected)| (name.to_owned(), all, rejected))
            .collect();
        Ok(Produced {
            dialect: self
                .out_dialect
                .filter(|_| self.format.capabilities().has_dialect),
            sources: self.sources,
            notices: self.notices,
            paths,
            sheets,
            keys,
            headings,
            book: self
                .format
                .capabilities()
                .workbook
                .is_some()
                .then_some(self.format),
            records,
            sums,
            left_out,
            totals,
            total_formats,
            copies: named.copies,
        })
    }
}
