//! From the steps of a job to a pipeline: columns are found, expressions checked, tables read.

use crate::StepName;
use std::sync::Arc;

use super::{Operation, Pipeline, PipelineOptions};
use crate::case::{CASE_COLUMN, Case, Cases};
use crate::declare::Declare;
use crate::error::StepError;
use crate::expr::{Compiled, ExprError, Expression, Scope, Type};
use crate::filter::Filter;
use crate::layout::{Layout, LayoutColumn};
use crate::lookup::Table;
use crate::set::Set;
use crate::sort::SortKey;
use crate::tidy::Tidy;
use crate::total::Total;
use crate::unknown::UnknownTally;
use crate::{Step, drop, keep, rename};
use numerant_data::record::Columns;
use numerant_data::value::{Cells, ColumnType, Kind, Number, WrittenFormat};

/// Whether a column of a kind is of a type.
fn is_of_type(kind: Kind, wanted: ColumnType) -> bool {
    match wanted {
        ColumnType::Text => kind == Kind::Text,
        ColumnType::Integer => kind == Kind::Integer,
        ColumnType::Decimal => matches!(kind, Kind::Integer | Kind::Decimal),
        ColumnType::Date => kind == Kind::Date,
        ColumnType::Datetime => kind == Kind::Datetime,
        ColumnType::Boolean => kind == Kind::Boolean,
    }
}

/// How columns are written, by their places.
fn columns_written(
    written: &[(String, WrittenFormat)],
    columns: &Columns,
) -> Arc<[Option<WrittenFormat>]> {
    if written.is_empty() {
        return Arc::default();
    }
    let of = |name: &String| {
        let known = written.iter().find(|(known, _)| known == name);
        known.map(|(_, format)| format.clone())
    };
    columns.names().iter().map(of).collect()
}

impl Pipeline {
    /// Makes the steps ready for records of these columns. Tables are read here.
    ///
    /// # Errors
    ///
    /// [`StepError`] for a step that cannot be taken.
    pub fn new(
        steps: &[Step],
        columns: &Columns,
        options: PipelineOptions,
    ) -> Result<Self, StepError> {
        let mut pipeline = Self {
            layout: Layout::of_source(columns),
            operations: Vec::new(),
            sort: Vec::new(),
            cells: Cells {
                columns: columns_written(&options.written, columns),
                ..options.cells
            },
            on_error: options.on_error,
            computed: 0,
            occurrences: options.occurrences,
            kinds: columns
                .names()
                .iter()
                .map(|name| {
                    let known = options.column_kinds.iter().find(|(known, _)| known == name);
                    known.map_or(Kind::Blank, |(_, kind)| *kind)
                })
                .collect(),
            totals: options.totals.len(),
            total_names: options.totals.clone(),
            left_out: Vec::new(),
            rejected: 0,
            totals_in: vec![Number::ZERO; options.totals.len()],
            totals_rejected: vec![Number::ZERO; options.totals.len()],
            memory: options.memory.map_or(usize::MAX, |memory| {
                usize::try_from(memory.0).unwrap_or(usize::MAX)
            }),
        };
        let memory = pipeline.memory;
        let mut tables = Vec::new();
        for step in steps {
            tables.push(match step {
                Step::Lookup(lookup) => Some(Table::read(
                    lookup,
                    options.open,
                    &options.temporary,
                    memory,
                )?),
                _ => None,
            });
        }
        for (place, step) in steps.iter().enumerate() {
            let later = later_columns(&steps[place..], &tables[place..]);
            let table = tables[place].take();
            pipeline.add(step, table, &later, &options.blank_columns)?;
        }
        if !options.cases.is_empty() {
            pipeline.add_cases(&options.cases, options.rest)?;
        }
        for (place, name) in options.totals.iter().enumerate() {
            pipeline.add_total(name, place)?;
        }
        pipeline.computed = pipeline.layout.slots() - columns.len();
        Ok(pipeline)
    }

    /// Adds a column that is computed, which an option asks for.
    fn add_value(
        &mut self,
        step: StepName,
        name: &str,
        value: &Expression,
        later: &[(String, StepName)],
    ) -> Result<(), StepError> {
        if name.trim().is_empty() {
            return Err(StepError::NoName { step });
        }
        let columns = self.layout.scope();
        let scope = Scope {
            columns: &columns,
            later,
            cells: &self.cells,
            occurrences: self.occurrences,
        };
        let value = value
            .compile(&scope)
            .map_err(|problem| StepError::Expression { step, problem })?;
        let slot = self.layout.new_slot();
        let kind = match value.kind() {
            Type::Null | Type::Interval => Type::Cell,
            kind => kind,
        };
        let named = value.columns().into_iter().map(|(slot, _)| slot);
        let like = self.layout.like(named);
        let place = self.layout.set(name, slot, kind);
        self.layout.column_mut(place).like = like;
        let name = name.to_owned();
        self.operations.push(Operation::Set(Set {
            step,
            name,
            slot,
            value,
        }));
        Ok(())
    }

    /// What makes dates after ISO 8601 and plain numbers of columns that are written otherwise.
    fn normal_values(&self) -> Vec<(String, Expression)> {
        let columns = self
            .layout
            .columns()
            .iter()
            .filter(|column| !column.computed);
        let values = columns.filter_map(|column| {
            let kind = match self.cells.written(column.slot)? {
                WrittenFormat::Number(_) => "DECIMAL",
                WrittenFormat::Moment(pattern) if !pattern.has_date() => return None,
                WrittenFormat::Moment(pattern) if pattern.has_time() => "TIMESTAMP",
                WrittenFormat::Moment(_) => "DATE",
            };
            let name = column.name.replace('"', "\"\"");
            let value = format!("CAST(\"{name}\" AS {kind})").parse().ok()?;
            Some((column.name.clone(), value))
        });
        values.collect()
    }

    fn add(
        &mut self,
        step: &Step,
        table: Option<Table>,
        later: &[(String, StepName)],
        blank_columns: &[usize],
    ) -> Result<(), StepError> {
        let named = step.name();
        let column = |problem| StepError::Column {
            step: named,
            problem,
        };
        let layout = &mut self.layout;
        match step {
            Step::Tidy => {
                let mut tidy = Tidy::default();
                let places: Vec<usize> = layout
                    .columns()
                    .iter()
                    .enumerate()
                    .filter(|(_, column)| !column.computed && blank_columns.contains(&column.slot))
                    .map(|(place, _)| place)
                    .collect();
                tidy.tally.columns = places
                    .iter()
                    .map(|place| layout.columns()[*place].name.clone())
                    .collect();
                layout.drop(&places);
                self.operations.push(Operation::Tidy(tidy));
            }
            Step::Type { column: name, is } => {
                let place = layout.place(name).map_err(column)?;
                let found = layout.column_mut(place);
                found.kind = Some(*is).into();
                found.declared = Some(*is);
                self.operations.push(Operation::Declare(Declare {
                    name: name.clone(),
                    slot: found.slot,
                    computed: found.computed,
                    is: *is,
                }));
            }
            Step::Lookup(_) => {
                let Some(mut table) = table else {
                    return Ok(());
                };
                let place = layout.place(table.column()).map_err(column)?;
                let slot = layout.columns()[place].slot;
                let taken = table.names().iter().find(|name| layout.place(name).is_ok());
                if let Some(name) = taken {
                    let name = name.to_owned();
                    return Err(StepError::Exists { step: named, name });
                }
                let mut slots = Vec::new();
                for name in table.names() {
                    let slot = layout.new_slot();
                    layout.set(name, slot, Type::Cell);
                    slots.push(slot);
                }
                table.place(slot, slots);
                self.operations.push(Operation::Lookup(Box::new(table)));
            }
            Step::Normalize => {
                for (name, value) in self.normal_values() {
                    self.add_value(named, &name, &value, later)?;
                }
            }
            Step::Set { name, value } => self.add_value(named, name, value, later)?,
            Step::Where(condition) => {
                let columns = layout.scope();
                let scope = Scope {
                    columns: &columns,
                    later,
                    cells: &self.cells,
                    occurrences: self.occurrences,
                };
                let text = condition.to_string();
                let condition = condition.compile_condition(&scope).map_err(|problem| {
                    StepError::Expression {
                        step: named,
                        problem,
                    }
                })?;
                self.operations.push(Operation::Filter(Filter {
                    text,
                    unknown: UnknownTally::new(&condition),
                    condition,
                }));
            }
            Step::Rename { from, to } => rename::apply(from, to, layout)?,
            Step::Keep(names) => keep::apply(names, layout).map_err(column)?,
            Step::Drop(names) => drop::apply(names, layout).map_err(column)?,
            Step::KeepType(types) => {
                let is_other = |(_, column): &(usize, &LayoutColumn)| {
                    let kind = self.kinds.get(column.slot).copied();
                    let kind = kind.unwrap_or(Kind::Blank);
                    !column.computed && !types.iter().any(|wanted| is_of_type(kind, *wanted))
                };
                let columns = layout.columns().iter().enumerate();
                let others: Vec<usize> = columns.filter(is_other).map(|(place, _)| place).collect();
                layout.drop(&others);
            }
            Step::Sort(by) => {
                // What is sorted later is what counts more.
                let mut keys = Vec::new();
                for by in by {
                    // As with names, a column that was dropped will do.
                    let found = layout.find(&by.column).map_err(column)?;
                    keys.push(SortKey {
                        name: by.column.clone(),
                        slot: found.slot,
                        descending: by.descending,
                        kind: found.kind,
                        computed: found.computed,
                    });
                }
                keys.append(&mut self.sort);
                self.sort = keys;
            }
        }
        if self.layout.columns().is_empty() {
            return Err(StepError::NoColumn { step: named });
        }
        Ok(())
    }

    fn add_cases(&mut self, cases: &[Case], rest: Option<String>) -> Result<(), StepError> {
        let columns = self.layout.scope_with_dropped();
        let scope = Scope {
            columns: &columns,
            later: &[],
            cells: &self.cells,
            occurrences: self.occurrences,
        };
        let mut checked: Vec<(String, Compiled, u64)> = Vec::new();
        for Case { name, when } in cases {
            let twice = checked.iter().any(|(known, ..)| known == name);
            if twice || rest.as_ref() == Some(name) {
                let name = name.to_owned();
                return Err(StepError::CaseTwice { name });
            }
            if name.trim().is_empty() {
                return Err(StepError::NoName {
                    step: StepName::Case,
                });
            }
            let condition = when
                .compile_condition(&scope)
                .map_err(|problem: ExprError| StepError::Expression {
                    step: StepName::Case,
                    problem,
                })?;
            checked.push((name.clone(), condition, 0));
        }
        let slot = self.layout.new_slot();
        self.layout.add_hidden(CASE_COLUMN, slot);
        let unknown = checked.iter().map(|(_, when, _)| UnknownTally::new(when));
        self.operations.push(Operation::Cases(Cases {
            slot,
            unknown: unknown.collect(),
            cases: checked,
            rest,
        }));
        Ok(())
    }

    /// Puts a total where its column is first known.
    fn add_total(&mut self, name: &str, place: usize) -> Result<(), StepError> {
        let found = self
            .layout
            .find(name)
            .map_err(|problem| StepError::Column {
                step: StepName::Total,
                problem,
            })?;
        let slot = found.slot;
        let made = self
            .operations
            .iter()
            .position(|operation| match operation {
                Operation::Set(set) => set.slot == slot,
                Operation::Lookup(table) => table.makes(slot),
                Operation::Cases(cases) => cases.slot == slot,
                _ => false,
            });
        let total = Operation::Total(Total {
            name: name.to_owned(),
            slot,
            place,
        });
        self.operations
            .insert(made.map_or(0, |made| made + 1), total);
        Ok(())
    }
}

/// The columns that steps make, each with its step.
fn later_columns(steps: &[Step], tables: &[Option<Table>]) -> Vec<(String, StepName)> {
    let mut later = Vec::new();
    for (step, table) in steps.iter().zip(tables) {
        let named = step.name();
        match step {
            Step::Set { name, .. } => later.push((name.clone(), named)),
            Step::Rename { to, .. } => later.push((to.clone(), named)),
            Step::Lookup(_) => {
                let names = table.iter().flat_map(Table::names);
                later.extend(names.map(|name| (name.clone(), named)));
            }
            _ => {}
        }
    }
    later
}
