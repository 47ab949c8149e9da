//! The books of several runs, put together.

use std::path::PathBuf;

use super::super::notice::{TypedOtherwise, note};
use super::super::{Error, Notice, Summary};
use super::FileDisposition;
use crate::job::Job;
use crate::ledger::{Ledger, LeftOut, OutputEntry, Reject, SourceEntry, TotalFormat, TypedColumn};
use numerant_data::value::Number;
use numerant_format::SegmentsWritten;

/// Things to say of a batch that are kept.
const NOTICES: usize = 1000;

/// Rejected records that are kept to list.
const REJECTS: usize = 1000;

/// The books of several runs, put together.
pub(super) struct Merged {
    sources: Vec<SourceEntry>,
    outputs: Vec<OutputEntry>,
    left_out: Vec<LeftOut>,
    rejects: Vec<Reject>,
    types: Vec<TypedColumn>,
    total_formats: Vec<TotalFormat>,
    sums: Vec<(String, Number, Number)>,
    order: Vec<String>,
    notices: Vec<Notice>,
    kept_text: Vec<TypedColumn>,
    too_large: Option<String>,
    segments: Option<SegmentsWritten>,
}

impl Merged {
    pub(super) fn new(job: &Job) -> Self {
        let zero = |column: &String| (column.clone(), Number::ZERO, Number::ZERO);
        Self {
            sources: Vec::new(),
            outputs: Vec::new(),
            left_out: Vec::new(),
            rejects: Vec::new(),
            types: Vec::new(),
            total_formats: Vec::new(),
            sums: job.total.iter().map(zero).collect(),
            order: Vec::new(),
            notices: Vec::new(),
            kept_text: Vec::new(),
            too_large: None,
            segments: None,
        }
    }

    pub(super) fn take(&mut self, summary: Summary, below: &str, source: &str) -> FileDisposition {
        let Ledger {
            sources,
            mut outputs,
            left_out,
            rejects,
            types,
            total_formats,
            sums,
            totals,
            segments,
            ..
        } = summary.ledger;
        let placed = |path: &str| match below {
            "" => path.to_owned(),
            below => format!("{below}/{path}"),
        };
        for output in &mut outputs {
            output.path = placed(&output.path);
        }
        let bytes = outputs.iter().map(|output| output.bytes);
        let bytes = bytes.flatten().reduce(|one, other| one + other);
        let mut paths: Vec<String> = outputs.iter().map(|output| output.path.clone()).collect();
        paths.dedup();
        for mut entry in left_out {
            entry.path = entry.path.as_deref().map(placed);
            self.leave_out(entry);
        }
        for (all, sum) in self.sums.iter_mut().zip(sums) {
            match (all.1.plus(sum.read), all.2.plus(sum.rejected)) {
                (Ok(read), Ok(rejected)) => (all.1, all.2) = (read, rejected),
                _ => self.too_large = Some(all.0.clone()),
            }
        }
        if let Some(segments) = segments {
            self.segments.get_or_insert_default().add(segments);
        }
        self.sources.extend(sources);
        self.outputs.extend(outputs);
        let room = REJECTS.saturating_sub(self.rejects.len());
        self.rejects.extend(rejects.into_iter().take(room));
        let shown = |mut column: TypedColumn| {
            column.source.get_or_insert_with(|| source.to_owned());
            column
        };
        self.types.extend(types.into_iter().map(shown));
        for format in total_formats {
            if !self
                .total_formats
                .iter()
                .any(|known| known.column == format.column)
            {
                self.total_formats.push(format);
            }
        }
        if self.order.is_empty() {
            self.order = summary.order;
        }
        for notice in summary.notices {
            match notice {
                Notice::KeptText(columns) => {
                    for column in columns.into_iter().map(shown) {
                        let known = self.kept_text.iter();
                        // One file shows what it is about; the types of all are in the ledger.
                        if !known.into_iter().any(|other| other.column == column.column) {
                            self.kept_text.push(column);
                        }
                    }
                }
                // That is found over all files.
                Notice::TypedOtherwise(_) => {}
                other if self.notices.len() < NOTICES => note(&mut self.notices, other),
                _ => {}
            }
        }
        FileDisposition::Done {
            records: totals.written,
            bytes,
            outputs: paths,
        }
    }

    fn leave_out(&mut self, entry: LeftOut) {
        let same = |known: &&mut LeftOut| {
            known.path.is_none()
                && (known.reason, &known.condition, &known.path)
                    == (entry.reason, &entry.condition, &entry.path)
        };
        match self.left_out.iter_mut().find(same) {
            Some(known) => {
                known.records += entry.records;
                known.unknown += entry.unknown;
                for column in entry.blank_columns {
                    if !known.blank_columns.contains(&column) {
                        known.blank_columns.push(column);
                    }
                }
                let names = self.sums.iter().map(|(name, ..)| name);
                for ((sum, more), name) in known.sums.iter_mut().zip(&entry.sums).zip(names) {
                    match sum.plus(*more) {
                        Ok(all) => *sum = all,
                        Err(_) => self.too_large = Some(name.clone()),
                    }
                }
            }
            None => self.left_out.push(entry),
        }
    }

    pub(super) fn close(mut self, out: PathBuf) -> Result<Summary, Error> {
        if !self.kept_text.is_empty() {
            self.notices.push(Notice::KeptText(self.kept_text));
        }
        let odd = TypedOtherwise::find(&self.types);
        if !odd.is_empty() {
            self.notices.push(Notice::TypedOtherwise(odd));
        }
        if let Some(column) = self.too_large {
            return Err(Error::Sum { column });
        }
        let mut ledger = Ledger::close(
            self.sources,
            self.outputs,
            self.left_out,
            self.rejects,
            &self.sums,
        );
        ledger.types = self.types;
        ledger.total_formats = self.total_formats;
        ledger.set_segments(self.segments);
        Error::balanced(&ledger)?;
        Ok(Summary {
            ledger,
            out,
            kept_ledger: None,
            order: self.order,
            notices: self.notices,
        })
    }
}
