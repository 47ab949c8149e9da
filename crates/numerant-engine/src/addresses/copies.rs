//! Copies of a template that is filled: which tables each has, and the values that are put into it.

use std::path::Path;

use super::{Addresses, Disposition, Refusal};
use crate::job::Job;
use numerant_format::{FillOptions, Incomplete, PutWhat};
use numerant_naming::route::{Divider, KeyValues, Router};
use numerant_naming::{Key, OutputFacts};
use numerant_steps::CASE_COLUMN;

/// A copy of a template.
#[derive(Clone, Debug, PartialEq, Eq)]
pub(crate) struct FilledCopy {
    pub(crate) path: String,
    /// The values that are put into it, each with the number of its place.
    pub(crate) values: Vec<(usize, String)>,
}

/// The number of the table that the records of a file are for, where the names of files decide that.
pub(crate) fn table_of(job: &Job, path: &Path) -> Option<usize> {
    if !job.case.is_empty() {
        return None;
    }
    let mut tables = job.fill.tables();
    let fits = |(_, of): &(usize, Option<&numerant_data::source::FilePattern>)| {
        of.is_none_or(|of| of.fits(path))
    };
    tables.find(fits).map(|(number, _)| number)
}

impl Addresses {
    /// The place of the table that an output is.
    pub(super) fn place_of_table(
        &self,
        fill: &FillOptions,
        router: &Router,
        values: &KeyValues,
    ) -> String {
        let case = router.place_of(&Key {
            column: CASE_COLUMN.to_owned(),
            part: numerant_naming::Part::Whole,
        });
        let number = match case {
            Some(place) => {
                let of_case = |(_, of): &(usize, Option<&numerant_data::source::FilePattern>)| {
                    of.is_none_or(|of| of.to_string() == values[place])
                };
                fill.tables().find(of_case).map(|(number, _)| number)
            }
            None => values
                .get(self.plan.keys.len())
                .and_then(|number| number.parse().ok()),
        };
        let place = number.and_then(|number| fill.put.get(number));
        place.map_or_else(|| "values".to_owned(), |put| put.place.to_string())
    }

    /// Settles what becomes of copies that lack a table, and which values are put into the others.
    pub(super) fn fill(
        &mut self,
        router: &Router,
        divider: &Divider,
        records: &[u64],
    ) -> Result<(), Refusal> {
        let (Some(fill), Some(sheets)) = (self.fill.clone(), &self.sheets) else {
            return Ok(());
        };
        let mut copies = Vec::new();
        let mut lacking: Vec<(String, Vec<String>)> = Vec::new();
        let mut left_out: Vec<usize> = Vec::new();
        for workbook in &sheets.workbooks {
            let written = |output: &&usize| self.dispositions[**output] == Disposition::Write;
            let outputs: Vec<usize> = workbook.outputs.iter().filter(written).copied().collect();
            let Some(&first) = outputs.first() else {
                continue;
            };
            let has = |place: &str| outputs.iter().any(|output| sheets.names[*output] == place);
            let places = fill
                .tables()
                .map(|(number, _)| fill.put[number].place.to_string());
            let lacks: Vec<String> = places.filter(|place| !has(place)).collect();
            if !lacks.is_empty() {
                lacking.push((workbook.path.clone(), lacks));
                if fill.incomplete == Incomplete::Skip {
                    left_out.extend(&outputs);
                    continue;
                }
            }
            let mut stems: Vec<&str> = Vec::new();
            let mut names: Vec<String> = Vec::new();
            for output in &outputs {
                let origin = &self.sources[self.origins[*output] as usize];
                if !stems.contains(&origin.stem.as_str()) {
                    stems.push(&origin.stem);
                    names.push(format!("{}.{}", origin.stem, origin.extension));
                }
            }
            let facts = OutputFacts {
                rows: outputs
                    .iter()
                    .map(|output| records.get(*output).copied().unwrap_or(0))
                    .sum(),
                source: names.join(", "),
                stem: stems.join(", "),
                now: self.now,
            };
            let group = divider.outputs()[first].group as usize;
            let values = &router.groups()[group];
            let value = |key: &Key| {
                router
                    .place_of(key)
                    .map_or("", |place| values[place].as_str())
            };
            let values = fill
                .put
                .iter()
                .enumerate()
                .filter_map(|(number, put)| match &put.what {
                    PutWhat::Value(words) => Some((number, words.fill(value, &facts))),
                    PutWhat::Table { .. } => None,
                });
            copies.push(FilledCopy {
                path: workbook.path.clone(),
                values: values.collect(),
            });
        }
        for output in left_out {
            self.divert(output, Disposition::Incomplete);
        }
        self.copies = copies;
        if !lacking.is_empty() && fill.incomplete == Incomplete::Refuse {
            return Err(Refusal::Incomplete { copies: lacking });
        }
        if fill.incomplete == Incomplete::Fill {
            self.lacking = lacking;
        }
        Ok(())
    }
}
