//! Conditions that hold for a record if they hold for any of the values that it has several of, as
//! `SVC02` and `SVC[2]02`, or `650$a` and `650[2]$a`. Values of one segment or field are taken together, and
//! those that a record does not have are not taken at all.

use std::collections::HashMap;

use super::check::ScopeColumn;
use numerant_data::record::Batch;
use numerant_data::tree::{Occurrence, Occurrences};

/// The slot of the column that a condition names, and that of the value that is taken for it; `None` if
/// the segment or field has none.
pub(super) type Choice = Vec<(usize, Option<usize>)>;

/// The values that occur several times, of the columns that a condition names.
#[derive(Clone, Debug, Default)]
pub(super) struct AnyOf {
    groups: Vec<Group>,
}

/// The columns of one segment or field.
#[derive(Clone, Debug)]
struct Group {
    columns: Vec<GroupColumn>,
    /// How many segments or fields of the name there are columns for.
    count: usize,
}

#[derive(Clone, Debug)]
struct GroupColumn {
    /// The slot by which the condition knows it.
    slot: usize,
    /// The slots of its values in each of the segments or fields, of which one can have several.
    values: Vec<Vec<usize>>,
}

impl AnyOf {
    /// The values that occur several times of the columns that are named, by their slots and names.
    pub(super) fn new(
        named: &[(usize, String)],
        columns: &[ScopeColumn],
        occurrences: Occurrences,
    ) -> Option<Self> {
        let named: Vec<(usize, Occurrence)> = named
            .iter()
            .map(|(slot, name)| (*slot, occurrences.of(name)))
            .collect();
        let all: Vec<(usize, Occurrence)> = columns
            .iter()
            .map(|column| (column.slot, occurrences.of(&column.name)))
            .filter(|(_, column)| named.iter().any(|(_, name)| name.includes(column)))
            .collect();
        let mut groups: Vec<((String, Vec<u32>), Group)> = Vec::new();
        for (slot, name) in &named {
            let key = (name.group.clone(), name.of_group.clone());
            let known = groups.iter().position(|(known, _)| *known == key);
            let place = known.unwrap_or_else(|| {
                let columns = Vec::new();
                groups.push((key, Group { columns, count: 0 }));
                groups.len() - 1
            });
            let values = Vec::new();
            let slot = *slot;
            groups[place].1.columns.push(GroupColumn { slot, values });
        }
        for (key, group) in &mut groups {
            let of_group: Vec<&(usize, Occurrence)> = all
                .iter()
                .filter(|(_, column)| column.group == key.0)
                .collect();
            let mut numbers: HashMap<&[u32], usize> = HashMap::new();
            for (_, column) in &of_group {
                let next = numbers.len();
                numbers.entry(&column.of_group).or_insert(next);
            }
            group.count = numbers.len();
            for column in &mut group.columns {
                column.values = vec![Vec::new(); group.count];
                let name = named.iter().find(|(slot, _)| *slot == column.slot);
                for (slot, known) in &of_group {
                    if name.is_some_and(|(_, name)| name.includes(known)) {
                        column.values[numbers[known.of_group.as_slice()]].push(*slot);
                    }
                }
            }
        }
        let groups: Vec<Group> = groups.into_iter().map(|(_, group)| group).collect();
        let is_several = |group: &Group| {
            group.count > 1
                || group
                    .columns
                    .iter()
                    .any(|column| column.values.concat().len() > 1)
        };
        groups.iter().any(is_several).then_some(Self { groups })
    }

    /// Hands each choice among the values that a record has to `holds`, until one holds; `None` if for one
    /// of them it is unknown, and it holds for none.
    ///
    /// # Errors
    ///
    /// Those of `holds`, or how many choices there are, if those are too many.
    pub(super) fn truth<E>(
        &self,
        batch: &Batch,
        record: usize,
        max_choices: usize,
        mut holds: impl FnMut(&[(usize, Option<usize>)]) -> Result<Option<bool>, E>,
    ) -> Result<Option<bool>, Choices<E>> {
        let has = |slot: &usize| !batch.field(record, *slot).is_absent();
        if let [Group { columns, .. }] = self.groups.as_slice()
            && let [column] = columns.as_slice()
        {
            let (mut any, mut is_unknown) = (false, false);
            for slot in column.values.iter().flatten().filter(|slot| has(slot)) {
                any = true;
                match holds(&[(column.slot, Some(*slot))]).map_err(Choices::Failed)? {
                    Some(true) => return Ok(Some(true)),
                    Some(false) => {}
                    None => is_unknown = true,
                }
            }
            return if any {
                Ok((!is_unknown).then_some(false))
            } else {
                holds(&[(column.slot, None)]).map_err(Choices::Failed)
            };
        }
        // For each group the choices of values in it.
        let mut choices: Vec<Vec<Choice>> = Vec::with_capacity(self.groups.len());
        let mut combinations = 1_usize;
        for group in &self.groups {
            let mut of_group: Vec<Choice> = Vec::new();
            for number in 0..group.count {
                let present: Vec<Vec<usize>> = group
                    .columns
                    .iter()
                    .map(|column| column.values[number].iter().copied().filter(has).collect())
                    .collect();
                if present.iter().all(Vec::is_empty) {
                    continue;
                }
                let mut taken: Vec<Choice> = vec![Choice::new()];
                for (column, present) in group.columns.iter().zip(&present) {
                    let slots: Vec<Option<usize>> = if present.is_empty() {
                        vec![None]
                    } else {
                        present.iter().copied().map(Some).collect()
                    };
                    taken = slots
                        .iter()
                        .flat_map(|slot| {
                            taken.iter().map(|before| {
                                let mut taken = before.clone();
                                taken.push((column.slot, *slot));
                                taken
                            })
                        })
                        .collect();
                    if taken.len() > max_choices {
                        return Err(Choices::TooMany(taken.len()));
                    }
                }
                of_group.append(&mut taken);
            }
            if of_group.is_empty() {
                let blank = group.columns.iter().map(|column| (column.slot, None));
                of_group.push(blank.collect());
            }
            combinations = combinations.saturating_mul(of_group.len());
            choices.push(of_group);
        }
        if combinations > max_choices {
            return Err(Choices::TooMany(combinations));
        }
        let mut is_unknown = false;
        let mut taken = Choice::new();
        for combination in 0..combinations {
            taken.clear();
            let mut rest = combination;
            for of_group in &choices {
                taken.extend_from_slice(&of_group[rest % of_group.len()]);
                rest /= of_group.len();
            }
            match holds(&taken).map_err(Choices::Failed)? {
                Some(true) => return Ok(Some(true)),
                Some(false) => {}
                None => is_unknown = true,
            }
        }
        Ok((!is_unknown).then_some(false))
    }
}

/// Why it is not known whether a condition holds for any choice.
pub(super) enum Choices<E> {
    /// There are too many.
    TooMany(usize),
    /// It cannot be evaluated.
    Failed(E),
}
