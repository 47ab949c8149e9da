//! From groups to outputs: a group may be cut into several, by number or by size of records.

use std::collections::HashMap;

use super::{KeyValues, NOWHERE};

/// How groups are cut into outputs.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub enum Division {
    /// Each group is one output.
    #[default]
    Whole,
    /// So many records to an output; the last of a group holds the rest.
    Rows(u64),
    /// So many outputs to a group, as equal as can be; the records of each group are known.
    Parts {
        /// How many outputs.
        parts: u64,
        /// Records of each group, by the values of its keys.
        records: HashMap<KeyValues, u64>,
    },
    /// At most so many bytes to an output.
    Bytes {
        /// How many.
        most: u64,
        /// Those of what is before the first record.
        header: u64,
    },
    /// One record to an output, numbered over all groups.
    Each,
    /// Each group is one output, and goes on in further ones where it has more records than these.
    Overflow(u64),
}

/// An output: its group, and its number in that group from 1.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct OutputKey {
    /// The group.
    pub group: u32,
    /// The number.
    pub number: u64,
    /// Which of the outputs it is that the group goes on in, from 1.
    pub part: u64,
}

/// A record that is larger than an output may be.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct TooLarge {
    /// Its place in the batch.
    pub record: usize,
    /// Its bytes, with those before the first record.
    pub bytes: u64,
}

/// Cuts groups into outputs, and numbers those in the order of their first records.
#[derive(Debug)]
pub struct Divider {
    division: Division,
    groups: Vec<Group>,
    outputs: Vec<OutputKey>,
    most_outputs: usize,
}

/// The output of a group that is being filled.
#[derive(Clone, Copy, Debug, Default)]
struct Group {
    output: u32,
    number: u64,
    /// What still fits: records, or bytes.
    room: u64,
}

impl Divider {
    /// A divider that makes up to `most_outputs` outputs; records of further ones go [`NOWHERE`].
    pub fn new(division: Division, most_outputs: usize) -> Self {
        Self {
            division,
            groups: Vec::new(),
            outputs: Vec::new(),
            most_outputs,
        }
    }

    /// Says how many bytes are before the first record of an output.
    pub fn set_header(&mut self, bytes: u64) {
        if let Division::Bytes { header, .. } = &mut self.division {
            *header = bytes;
        }
    }

    /// The outputs so far.
    pub fn outputs(&self) -> &[OutputKey] {
        &self.outputs
    }

    /// Makes the first output of each group known that has none, even if no record comes.
    pub fn announce(&mut self, groups: &[KeyValues]) {
        self.groups.resize(groups.len(), Group::default());
        for (group, values) in groups.iter().enumerate() {
            if self.groups[group].number > 0 || self.outputs.len() >= self.most_outputs {
                continue;
            }
            let room = match &self.division {
                // Outputs are groups; a record is one.
                Division::Whole | Division::Each => continue,
                Division::Rows(rows) | Division::Overflow(rows) => *rows,
                Division::Parts { parts, records } => {
                    part_size(records.get(values).copied().unwrap_or_default(), *parts, 1)
                }
                Division::Bytes { most, header } => most.saturating_sub(*header),
            };
            self.groups[group] = Group {
                output: self.outputs.len() as u32,
                number: 1,
                room,
            };
            self.outputs.push(OutputKey {
                group: group as u32,
                number: match self.division {
                    Division::Overflow(_) => group as u64 + 1,
                    _ => 1,
                },
                part: 1,
            });
        }
    }

    /// Replaces the groups of a batch's records by their outputs. `groups` are all groups so far,
    /// and `size` says how many bytes a record takes.
    ///
    /// # Errors
    ///
    /// [`TooLarge`] for the first record that no output can hold.
    pub fn divide(
        &mut self,
        places: &mut [u32],
        groups: &[KeyValues],
        size: impl Fn(usize) -> u64,
    ) -> Result<(), TooLarge> {
        self.groups.resize(groups.len(), Group::default());
        if self.division == Division::Whole {
            for group in self.outputs.len()..groups.len() {
                self.outputs.push(OutputKey {
                    group: group as u32,
                    number: group as u64 + 1,
                    part: 1,
                });
            }
            return Ok(());
        }
        for (record, place) in places.iter_mut().enumerate() {
            if *place == NOWHERE {
                continue;
            }
            let group = *place;
            let state = &mut self.groups[group as usize];
            let bytes = match self.division {
                Division::Bytes { .. } => size(record),
                _ => 1,
            };
            if state.number == 0 || state.room < bytes {
                let number = state.number + 1;
                let (number, room) = match &self.division {
                    Division::Whole => (number, u64::MAX),
                    Division::Rows(rows) | Division::Overflow(rows) => (number, *rows),
                    Division::Each => (self.outputs.len() as u64 + 1, 1),
                    Division::Parts { parts, records } => {
                        let all = records
                            .get(&groups[group as usize])
                            .copied()
                            .unwrap_or_default();
                        (number, part_size(all, *parts, number))
                    }
                    Division::Bytes { most, header } => {
                        let room = most.saturating_sub(*header);
                        if room < bytes {
                            let bytes = bytes + header;
                            return Err(TooLarge { record, bytes });
                        }
                        (number, room)
                    }
                };
                if self.outputs.len() >= self.most_outputs {
                    *place = NOWHERE;
                    continue;
                }
                let output = self.outputs.len() as u32;
                let key = match self.division {
                    Division::Overflow(_) => OutputKey {
                        group,
                        number: u64::from(group) + 1,
                        part: number,
                    },
                    _ => OutputKey {
                        group,
                        number,
                        part: 1,
                    },
                };
                self.outputs.push(key);
                *state = Group {
                    output,
                    number,
                    room,
                };
            }
            state.room -= bytes;
            *place = state.output;
        }
        Ok(())
    }
}

/// Records of part `number` (from 1) where `records` are shared out to `parts`: the first ones have
/// one more where they cannot be equal.
fn part_size(records: u64, parts: u64, number: u64) -> u64 {
    let more = u64::from(number <= records % parts);
    (records / parts + more).max(1)
}

#[cfg(test)]
mod tests {
    use proptest::prelude::*;

    use super::*;

    fn divided(division: Division, places: &[u32], sizes: &[u64]) -> (Vec<u32>, Vec<OutputKey>) {
        let groups: Vec<KeyValues> = (0..3).map(|group| vec![group.to_string()]).collect();
        let mut divider = Divider::new(division, 1000);
        let mut places = places.to_vec();
        // In pieces, as batches come.
        for (piece, sizes) in places.chunks_mut(3).zip(sizes.chunks(3)) {
            divider
                .divide(piece, &groups, |record| sizes[record])
                .expect("they fit");
        }
        (places, divider.outputs)
    }

    fn records_of(places: &[u32]) -> Vec<u64> {
        let mut records = Vec::new();
        for place in places {
            let place = *place as usize;
            records.resize(records.len().max(place + 1), 0);
            records[place] += 1;
        }
        records
    }

    proptest! {
        #[test]
        fn outputs_keep_their_bounds(
            records in proptest::collection::vec((0_u32..3, 1_u64..30), 1..120),
            number in 1_u64..9,
        ) {
            let (places, sizes): (Vec<u32>, Vec<u64>) = records.iter().copied().unzip();
            let (rows, outputs) = divided(Division::Rows(number), &places, &sizes);
            let counts = records_of(&rows);
            for (output, key) in outputs.iter().enumerate() {
                let last = !outputs[output + 1..].iter().any(|other| other.group == key.group);
                prop_assert!(counts[output] == number || (last && counts[output] < number));
            }
            let bytes = Division::Bytes { most: 40, header: 10 };
            let (by_size, outputs) = divided(bytes, &places, &sizes);
            let mut filled = vec![0; outputs.len()];
            for (place, size) in by_size.iter().zip(&sizes) {
                filled[*place as usize] += size;
            }
            prop_assert!(filled.iter().all(|filled| *filled <= 30));
            let mut counted = HashMap::new();
            for place in &places {
                *counted.entry(vec![place.to_string()]).or_insert(0) += 1;
            }
            let parts = Division::Parts { parts: number, records: counted.clone() };
            let (by_parts, outputs) = divided(parts, &places, &sizes);
            let counts = records_of(&by_parts);
            for group in 0..3_u32 {
                let of_group: Vec<u64> = outputs
                    .iter()
                    .zip(&counts)
                    .filter(|(key, _)| key.group == group)
                    .map(|(_, count)| *count)
                    .collect();
                let all = counted.get(&vec![group.to_string()]).copied().unwrap_or(0);
                prop_assert_eq!(of_group.len() as u64, all.min(number));
                if let (Some(least), Some(most)) = (of_group.iter().min(), of_group.iter().max()) {
                    prop_assert!(most - least <= 1);
                }
            }
            let (each, outputs) = divided(Division::Each, &places, &sizes);
            prop_assert_eq!(each, (0..places.len() as u32).collect::<Vec<_>>());
            prop_assert_eq!(outputs.last().map(|key| key.number), Some(places.len() as u64));
        }
    }

    #[test]
    fn a_record_that_is_larger_than_an_output_is_told() {
        let mut divider = Divider::new(
            Division::Bytes {
                most: 20,
                header: 10,
            },
            10,
        );
        let error = divider
            .divide(&mut [0, 0], &[vec![]], |record| [10, 11][record])
            .expect_err("too large");
        assert_eq!(
            error,
            TooLarge {
                record: 1,
                bytes: 21
            }
        );
    }
}
