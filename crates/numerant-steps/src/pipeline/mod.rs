//! The steps of a job, made ready for the columns of its sources.
//!
//! # To whoever changes this
//!
//! A step may mark records as left out or rejected, and they are taken out of the batch before the
//! next step. All that is counted of them is counted there and nowhere else: records by reason,
//! and the totals of columns that are known at that point. What is read, less what is taken out
//! here, is what the batches hold in the end; the ledger relies on that.

mod build;

use std::path::PathBuf;

use super::case::{Case, Cases};
use super::declare::Declare;
use super::faults::{Faults, OnError};
use super::filter::Filter;
use super::layout::Layout;
use super::lookup::{LookupError, OpenTable, Table, UnmatchedKeys};
use super::problem::StepProblem;
use super::set::Set;
use super::sort::SortKey;
use super::tidy::{Tidy, TidyTally};
use super::total::Total;
use super::unknown::UnknownRecords;
use numerant_data::record::{At, Batch, RejectedRecord};
use numerant_data::tree::Occurrences;
use numerant_data::value::{Cells, Kind, Number, Size, WrittenFormat};

/// What a pipeline needs to know besides its steps.
#[derive(Clone, Debug)]
pub struct PipelineOptions {
    /// How cells are read.
    pub cells: Cells,
    /// How the values of columns are written, by name, where that was detected.
    pub written: Vec<(String, WrittenFormat)>,
    /// What to do with records for which a step fails.
    pub on_error: OnError,
    /// How columns are named that are occurrences of one value, of which a condition has to hold for any.
    pub occurrences: Option<Occurrences>,
    /// Cases that records are distinguished by.
    pub cases: Vec<Case>,
    /// The name for records of no case.
    pub rest: Option<String>,
    /// Columns that are summed up.
    pub totals: Vec<String>,
    /// Places of the source's columns that have no value, for `tidy`.
    pub blank_columns: Vec<usize>,
    /// The types of the columns of the sources, where a step asks for them.
    pub column_kinds: Vec<(String, Kind)>,
    /// Opens the tables of lookups.
    pub open: OpenTable,
    /// A folder for what does not fit into memory.
    pub temporary: PathBuf,
    /// Memory for the values that are computed; without bounds if not said.
    pub memory: Option<Size>,
}

impl PipelineOptions {
    /// The usual options, with what opens the tables of lookups.
    pub fn new(open: OpenTable) -> Self {
        Self {
            cells: Cells::default(),
            written: Vec::new(),
            on_error: OnError::default(),
            occurrences: None,
            cases: Vec::new(),
            rest: None,
            totals: Vec::new(),
            blank_columns: Vec::new(),
            column_kinds: Vec::new(),
            open,
            temporary: PathBuf::new(),
            memory: None,
        }
    }
}

/// Records that a step left out.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct LeftOutBy {
    /// The step.
    pub reason: LeftOutStep,
    /// How many.
    pub records: u64,
    /// The totals of what is summed up, as far as it was known there.
    pub totals: Vec<Number>,
}

/// Which step left records out.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum LeftOutStep {
    /// They have no value at all.
    Empty,
    /// A condition does not hold.
    Where(String),
    /// No case holds, and there is no name for the rest.
    NoCase,
}

/// The steps of a job, ready for batches.
#[derive(Clone, Debug)]
pub struct Pipeline {
    layout: Layout,
    operations: Vec<Operation>,
    sort: Vec<SortKey>,
    cells: Cells,
    occurrences: Option<Occurrences>,
    on_error: OnError,
    computed: usize,
    /// The types of the columns of the source, by their places.
    kinds: Vec<Kind>,
    totals: usize,
    /// Names of the columns that are summed up.
    total_names: Vec<String>,
    left_out: Vec<LeftOutBy>,
    rejected: u64,
    totals_in: Vec<Number>,
    totals_rejected: Vec<Number>,
    /// Bytes that the computed values of a batch may take.
    memory: usize,
}

#[derive(Clone, Debug)]
enum Operation {
    Tidy(Tidy),
    Declare(Declare),
    Lookup(Box<Table>),
    Set(Set),
    Filter(Filter),
    Cases(Cases),
    Total(Total),
}

impl Pipeline {
    /// The columns as they are written.
    pub fn layout(&self) -> &Layout {
        &self.layout
    }

    /// What records are put in order by; nothing if they stay in that of the source.
    pub fn sort(&self) -> &[SortKey] {
        &self.sort
    }

    /// How cells are read.
    pub fn cells(&self) -> &Cells {
        &self.cells
    }

    /// What to do with records for which a step fails.
    pub fn on_error(&self) -> OnError {
        self.on_error
    }

    /// How many columns are computed.
    pub fn computed(&self) -> usize {
        self.computed
    }

    /// Takes all steps for the records of a batch. Those that are left out or rejected are gone
    /// from it afterwards; the rejected ones are among its rejected records.
    ///
    /// # Errors
    ///
    /// Where the first record is for which a step fails, if such records are not to be
    /// rejected, and why.
    pub fn apply(&mut self, batch: &mut Batch) -> Result<(), (At, StepProblem)> {
        if self.operations.is_empty() {
            return Ok(());
        }
        batch.clear_computed(self.computed, self.totals);
        let mut operations = std::mem::take(&mut self.operations);
        let mut left_out: Vec<bool> = Vec::new();
        let mut found = Vec::new();
        let mut result = Ok(());
        for operation in &mut operations {
            left_out.clear();
            left_out.resize(batch.len(), false);
            found.clear();
            let mut faults = Faults {
                on_error: self.on_error,
                found: &mut found,
                fatal: None,
            };
            let (cells, memory) = (&self.cells, self.memory);
            let (done, reason) = match operation {
                Operation::Tidy(tidy) => {
                    tidy.apply(batch, &mut left_out);
                    (Ok(()), Some(LeftOutStep::Empty))
                }
                Operation::Declare(declare) => (declare.apply(batch, cells, &mut faults), None),
                Operation::Lookup(table) => (table.apply(batch, &mut faults), None),
                Operation::Set(set) => (set.apply(batch, cells, memory, &mut faults), None),
                Operation::Total(total) => (total.apply(batch, cells, &mut faults), None),
                Operation::Filter(filter) => (
                    filter.apply(batch, cells, &mut left_out, &mut faults),
                    Some(LeftOutStep::Where(filter.text.clone())),
                ),
                Operation::Cases(cases) => (
                    cases.apply(batch, cells, &mut left_out, &mut faults),
                    Some(LeftOutStep::NoCase),
                ),
            };
            if let Err(problem) = done {
                let at = faults
                    .fatal
                    .map_or_else(At::header, |record| batch.at(record));
                result = Err((at, problem));
                break;
            }
            if let Operation::Total(total) = operation
                && let Err(problem) = self.add_up(total.place, Sum::In, &batch.numbers[total.place])
            {
                result = Err((batch.begins_at(), problem));
                break;
            }
            if let Err(problem) = self.take_out(batch, reason, &left_out, &mut found) {
                result = Err((batch.begins_at(), problem));
                break;
            }
        }
        self.operations = operations;
        batch.rejected.sort_by_key(|rejected| rejected.line);
        result
    }

    /// Takes the records out of a batch that are marked, and counts them.
    fn take_out(
        &mut self,
        batch: &mut Batch,
        reason: Option<LeftOutStep>,
        left_out: &[bool],
        found: &mut Vec<(usize, StepProblem)>,
    ) -> Result<(), StepProblem> {
        let count = left_out.iter().filter(|left_out| **left_out).count();
        if count == 0 && found.is_empty() {
            return Ok(());
        }
        let mut keep: Vec<bool> = left_out.iter().map(|left_out| !left_out).collect();
        if let Some(reason) = reason.filter(|_| count > 0) {
            let known = self
                .left_out
                .iter()
                .position(|entry| entry.reason == reason);
            let place = known.unwrap_or_else(|| {
                self.left_out.push(LeftOutBy {
                    reason,
                    records: 0,
                    totals: vec![Number::ZERO; self.totals],
                });
                self.left_out.len() - 1
            });
            self.left_out[place].records += count as u64;
            for total in 0..self.totals {
                let marked = batch.numbers[total].iter().zip(left_out);
                let numbers: Vec<Number> = marked
                    .filter(|(_, left_out)| **left_out)
                    .map(|(number, _)| *number)
                    .collect();
                self.add_up(total, Sum::LeftOut(place), &numbers)?;
            }
        }
        self.rejected += found.len() as u64;
        for (record, problem) in found.drain(..) {
            keep[record] = false;
            batch.rejected.push(RejectedRecord {
                line: batch.line(record),
                reason: problem.to_string(),
                raw: batch.original(record),
                as_it_is: false,
            });
            for total in 0..self.totals {
                if let Some(number) = batch.numbers[total].get(record).copied() {
                    self.add_up(total, Sum::Rejected, &[number])?;
                }
            }
        }
        batch.retain(&keep);
        Ok(())
    }

    /// Adds numbers to one of the sums of a total.
    fn add_up(&mut self, total: usize, sum: Sum, numbers: &[Number]) -> Result<(), StepProblem> {
        let sum = match sum {
            Sum::In => &mut self.totals_in[total],
            Sum::Rejected => &mut self.totals_rejected[total],
            Sum::LeftOut(place) => &mut self.left_out[place].totals[total],
        };
        for number in numbers {
            *sum = sum.plus(*number).map_err(|_| StepProblem::Sum {
                column: self.total_names[total].clone(),
            })?;
        }
        Ok(())
    }

    /// Rejects one record of a batch for a reason that shows after the steps.
    ///
    /// # Errors
    ///
    /// If a sum has too many digits.
    pub fn reject(
        &mut self,
        batch: &mut Batch,
        record: usize,
        reason: String,
    ) -> Result<(), StepProblem> {
        batch.rejected.push(RejectedRecord {
            line: batch.line(record),
            reason,
            raw: batch.original(record),
            as_it_is: false,
        });
        self.rejected += 1;
        for total in 0..self.totals {
            if let Some(number) = batch.numbers[total].get(record).copied() {
                self.add_up(total, Sum::Rejected, &[number])?;
            }
        }
        let mut keep = vec![true; batch.len()];
        keep[record] = false;
        batch.retain(&keep);
        Ok(())
    }

    /// Records that steps have left out so far, by reason.
    pub fn left_out(&self) -> &[LeftOutBy] {
        &self.left_out
    }

    /// Records that steps have rejected so far.
    pub fn rejected(&self) -> u64 {
        self.rejected
    }

    /// Takes over what another pipeline of the same steps has counted, whose source had other
    /// columns.
    ///
    /// # Errors
    ///
    /// If a total has too many digits.
    pub fn carry(&mut self, before: &Self) -> Result<(), StepProblem> {
        let add = |sums: &mut [Number], more: &[Number], names: &[String]| {
            for ((sum, more), name) in sums.iter_mut().zip(more).zip(names) {
                *sum = sum.plus(*more).map_err(|_| StepProblem::Sum {
                    column: name.clone(),
                })?;
            }
            Ok(())
        };
        add(&mut self.totals_in, &before.totals_in, &self.total_names)?;
        add(
            &mut self.totals_rejected,
            &before.totals_rejected,
            &self.total_names,
        )?;
        self.rejected += before.rejected;
        self.left_out.clone_from(&before.left_out);
        for (operation, before) in self.operations.iter_mut().zip(&before.operations) {
            match (operation, before) {
                (Operation::Lookup(table), Operation::Lookup(before)) => table.carry(before),
                (Operation::Cases(cases), Operation::Cases(before)) => cases.carry(before),
                (Operation::Filter(filter), Operation::Filter(before)) => {
                    filter.unknown.carry(&before.unknown);
                }
                (Operation::Tidy(tidy), Operation::Tidy(before)) => {
                    tidy.tally.values += before.tally.values;
                }
                _ => {}
            }
        }
        Ok(())
    }

    /// Names of the columns that are summed up, each with its sum over all records that came in,
    /// and over those that were rejected.
    pub fn totals(&self) -> impl Iterator<Item = (&str, Number, Number)> {
        let sums = self.totals_in.iter().zip(&self.totals_rejected);
        self.total_names
            .iter()
            .zip(sums)
            .map(|(name, (all, rejected))| (name.as_str(), *all, *rejected))
    }

    /// What `tidy` has done, if it is one of the steps.
    pub fn tidied(&self) -> Option<&TidyTally> {
        self.operations
            .iter()
            .find_map(|operation| match operation {
                Operation::Tidy(tidy) => Some(&tidy.tally),
                _ => None,
            })
    }

    /// Records that a filter left out, or that no case holds for, as its condition is unknown.
    pub fn unknown(&self) -> Vec<UnknownRecords> {
        let mut all = Vec::new();
        for operation in &self.operations {
            match operation {
                Operation::Filter(filter) => all.extend(filter.unknown.finish(&filter.text, false)),
                Operation::Cases(cases) => {
                    for ((name, ..), unknown) in cases.cases.iter().zip(&cases.unknown) {
                        all.extend(unknown.finish(name, true));
                    }
                }
                _ => {}
            }
        }
        all
    }

    /// Names of cases that held for no record so far.
    pub fn unused_cases(&self) -> Vec<String> {
        self.operations
            .iter()
            .find_map(|operation| match operation {
                Operation::Cases(cases) => Some(cases.unused()),
                _ => None,
            })
            .unwrap_or_default()
    }

    /// Keys that tables did not have.
    ///
    /// # Errors
    ///
    /// [`LookupError`] if there are any and the run is to be refused for it.
    pub fn unmatched(&self) -> Result<Vec<UnmatchedKeys>, LookupError> {
        let mut all = Vec::new();
        for operation in &self.operations {
            if let Operation::Lookup(table) = operation {
                all.extend(table.finish()?);
            }
        }
        Ok(all)
    }
}

/// Which sum of a total.
#[derive(Clone, Copy, Debug)]
enum Sum {
    In,
    Rejected,
    LeftOut(usize),
}
