//! Which columns there are after a step: their names, and where in a batch their values are.
//!
//! A column that a step computes gets a place of its own, and nothing is ever written over; so a
//! step only changes which places the names represent, and a dropped column can still be used in
//! the name of an output.

use crate::expr::{ScopeColumn, Type};
use numerant_data::record::{ColumnError, Columns, nearest};
use numerant_data::value::ColumnType;

/// A column as it would be written.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct LayoutColumn {
    /// What it is called.
    pub name: String,
    /// Its place in batches.
    pub slot: usize,
    /// The type of its values.
    pub kind: Type,
    /// The type that it is declared to have.
    pub declared: Option<ColumnType>,
    /// A step has computed it.
    pub computed: bool,
    /// The column of the source whose number formats it has, if it is computed from one.
    pub like: Option<usize>,
    /// The place of the source's header that is above it; `None` if its name does.
    pub header: Option<usize>,
}

/// The columns after some steps, in the order in which they would be written.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct Layout {
    columns: Vec<LayoutColumn>,
    /// Columns that were dropped, or replaced by others of their name.
    dropped: Vec<LayoutColumn>,
    /// Old and new names.
    renamed: Vec<(String, String)>,
    slots: usize,
}

impl Layout {
    pub(super) fn of_source(columns: &Columns) -> Self {
        let placed = columns.names().iter().enumerate();
        Self {
            columns: placed
                .map(|(slot, name)| LayoutColumn {
                    name: name.clone(),
                    slot,
                    kind: Type::Cell,
                    declared: None,
                    computed: false,
                    like: None,
                    header: Some(slot),
                })
                .collect(),
            slots: columns.len(),
            ..Self::default()
        }
    }

    /// The columns that are written.
    pub fn columns(&self) -> &[LayoutColumn] {
        &self.columns
    }

    /// Places of batches that are in use, those of the source among them.
    pub fn slots(&self) -> usize {
        self.slots
    }

    /// What expressions may name.
    pub(super) fn scope(&self) -> Vec<ScopeColumn> {
        self.columns.iter().map(scope_column).collect()
    }

    /// What conditions of cases may name: dropped columns as well.
    pub(super) fn scope_with_dropped(&self) -> Vec<ScopeColumn> {
        let mut scope = self.scope();
        for column in self.dropped.iter().rev() {
            if !scope.iter().any(|known| known.name == column.name) {
                scope.push(scope_column(column));
            }
        }
        scope
    }

    fn names(&self) -> Vec<String> {
        self.columns
            .iter()
            .map(|column| column.name.clone())
            .collect()
    }

    fn unknown(&self, name: &str) -> ColumnError {
        let names = self.names();
        let renamed = self.renamed.iter().find(|(old, _)| old == name);
        let nearest = match renamed {
            Some((_, new)) => Some(new.clone()),
            None => nearest(name, names.iter().map(String::as_str)).map(str::to_owned),
        };
        ColumnError {
            name: name.to_owned(),
            nearest,
            columns: names,
        }
    }

    /// The place in the layout of the column called `name`.
    pub(super) fn place(&self, name: &str) -> Result<usize, ColumnError> {
        self.columns
            .iter()
            .position(|column| column.name == name)
            .ok_or_else(|| self.unknown(name))
    }

    pub(super) fn column_mut(&mut self, place: usize) -> &mut LayoutColumn {
        &mut self.columns[place]
    }

    /// The columns that a name represents: the one that has it, those that fit it as a pattern with `*` for
    /// any characters and `?` for one, or those at a place or places from 1, such as `3` or `3-5`.
    ///
    /// # Errors
    ///
    /// [`ColumnError`] if it represents none.
    pub(super) fn places(&self, name: &str) -> Result<Vec<usize>, ColumnError> {
        if let Ok(place) = self.place(name) {
            return Ok(vec![place]);
        }
        let names = || self.columns.iter().enumerate();
        let found: Vec<usize> = if name.contains(['*', '?']) {
            let pattern: Vec<char> = name.chars().collect();
            let fits = names().filter(|(_, column)| {
                let column: Vec<char> = column.name.chars().collect();
                matches(&pattern, &column)
            });
            fits.map(|(place, _)| place).collect()
        } else {
            let number = |text: &str| text.parse::<usize>().ok()?.checked_sub(1);
            let (first, last) = name.split_once('-').unwrap_or((name, name));
            match (number(first), number(last)) {
                (Some(first), Some(last)) if last < self.columns.len() => (first..=last).collect(),
                _ => Vec::new(),
            }
        };
        if found.is_empty() {
            return Err(self.unknown(name));
        }
        Ok(found)
    }

    /// The column called `name`, even if it was dropped: what names and keys may use.
    ///
    /// # Errors
    ///
    /// [`ColumnError`] if there never was one, or it is called otherwise now.
    pub fn find(&self, name: &str) -> Result<&LayoutColumn, ColumnError> {
        self.columns
            .iter()
            .chain(self.dropped.iter().rev())
            .find(|column| column.name == name)
            .ok_or_else(|| self.unknown(name))
    }

    /// A new place for computed values.
    pub(super) fn new_slot(&mut self) -> usize {
        self.slots += 1;
        self.slots - 1
    }

    /// Puts a computed column in the place of one of its name, or after the others.
    /// Gives a name to a computed column, in the place of one that has the name. Returns that place.
    pub(super) fn set(&mut self, name: &str, slot: usize, kind: Type) -> usize {
        let column = LayoutColumn {
            name: name.to_owned(),
            slot,
            kind,
            declared: None,
            computed: true,
            like: None,
            header: None,
        };
        match self.columns.iter().position(|known| known.name == name) {
            Some(place) => {
                let header = self.columns[place].header;
                let column = LayoutColumn { header, ..column };
                self.columns[place] = column;
                place
            }
            None => {
                self.columns.push(column);
                self.columns.len() - 1
            }
        }
    }

    /// The column of the source whose number formats a value has that is computed from columns at these
    /// places: the first that has any.
    pub(super) fn like(&self, slots: impl IntoIterator<Item = usize>) -> Option<usize> {
        let all = || self.columns.iter().chain(&self.dropped);
        slots.into_iter().find_map(|slot| {
            let column = all().find(|column| column.slot == slot)?;
            if column.computed {
                column.like
            } else {
                Some(slot)
            }
        })
    }

    pub(super) fn rename(&mut self, place: usize, name: &str) {
        let column = &mut self.columns[place];
        let old = std::mem::replace(&mut column.name, name.to_owned());
        column.header = None;
        self.renamed.push((old, name.to_owned()));
    }

    /// Keeps the columns at `places`, in that order.
    pub(super) fn keep(&mut self, places: &[usize]) {
        let columns = std::mem::take(&mut self.columns);
        self.columns = places.iter().map(|place| columns[*place].clone()).collect();
        let left = columns
            .into_iter()
            .enumerate()
            .filter(|(place, _)| !places.contains(place));
        self.dropped.extend(left.map(|(_, column)| column));
    }

    pub(super) fn drop(&mut self, places: &[usize]) {
        let left: Vec<usize> = (0..self.columns.len())
            .filter(|place| !places.contains(place))
            .collect();
        self.keep(&left);
    }

    /// Adds a column that has a name only for names of outputs.
    pub(super) fn add_hidden(&mut self, name: &str, slot: usize) {
        self.dropped.push(LayoutColumn {
            name: name.to_owned(),
            slot,
            kind: Type::Text,
            declared: None,
            computed: true,
            like: None,
            header: None,
        });
    }

    /// The places of batches that are written, in order; `None` where all columns of a source of
    /// `width` columns are written verbatim.
    pub fn selection(&self, width: usize) -> Option<Vec<usize>> {
        let slots: Vec<usize> = self.columns.iter().map(|column| column.slot).collect();
        let all = slots.len() == width && slots.iter().enumerate().all(|(at, slot)| at == *slot);
        (!all).then_some(slots)
    }
}

/// Whether a name fits a pattern with `*` for any characters and `?` for one.
fn matches(pattern: &[char], name: &[char]) -> bool {
    // Where the last star was, and up to where in the name it stands.
    let mut star: Option<(usize, usize)> = None;
    let (mut at, mut place) = (0, 0);
    while place < name.len() {
        match pattern.get(at) {
            Some('*') => {
                star = Some((at, place));
                at += 1;
            }
            Some(wanted) if *wanted == '?' || *wanted == name[place] => {
                at += 1;
                place += 1;
            }
            _ => {
                let Some((behind, upto)) = star else {
                    return false;
                };
                star = Some((behind, upto + 1));
                at = behind + 1;
                place = upto + 1;
            }
        }
    }
    pattern[at..].iter().all(|rest| *rest == '*')
}

fn scope_column(column: &LayoutColumn) -> ScopeColumn {
    ScopeColumn {
        name: column.name.clone(),
        slot: column.slot,
        kind: column.kind,
        computed: column.computed,
    }
}
