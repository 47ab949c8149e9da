//! Flattens the nodes of a record into columns.
//!
//! # To whoever changes this
//!
//! Records are gone through twice. [`Flattener::learn`] finds the places that there are and
//! [`Flattener::settle`] makes columns of them; [`Flattener::flatten`] then puts the values of each record there
//! and adds nothing. What one of them does with a node the other must do as well.
//!
//! A container with nothing in it has no column of its own where other records have something in
//! theirs: a mark in the first column below it says how many levels above that it stands, so that
//! it comes back where a tree is written again.

use numerant_data::narrow::to_u32;

mod learn;
mod record;

use std::collections::HashMap;

use numerant_data::tree::{
    Kind, ListLayout, Paths, ROOT, Tree, push_index, push_name, with_plain_dots,
};

/// No column, or no node.
const NONE: u32 = u32::MAX;

/// How the records are flattened that are like one, but for their values.
#[derive(Clone, Debug, Default)]
pub(crate) struct PatternCells {
    /// The columns that are filled, in their order.
    pub(crate) cells: Vec<(u32, Filling)>,
}

/// What a column is filled with in records that are alike.
#[derive(Clone, Copy, Debug)]
pub(crate) enum Filling {
    /// A value, by its number in the order of the record.
    Value(usize),
    /// What is the same in all of them.
    Same(FlatValue),
}

/// What is in a cell.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub(crate) enum FlatValue {
    /// Nothing.
    #[default]
    Absent,
    /// Characters, from and to in the text of the record.
    Text(u32, u32),
    /// A number or a truth value.
    Literal(u32, u32),
    /// A list or an object as JSON, from and to in what is kept.
    Kept(u32, u32),
    /// A null.
    Null,
    /// A container with nothing in it, so many levels above.
    EmptyContainer(u32),
}

/// A record that does not match, or columns that cannot be decided.
#[derive(Clone, Debug, PartialEq, Eq)]
pub(crate) enum FlattenError {
    /// A name occurs twice in one object.
    Twice(String),
    /// There are several lists that could be rows.
    WhichRows(Vec<String>),
    /// There is no list at the path that is asked for.
    NoRows { path: String, lists: Vec<String> },
    /// The record is of another kind than those before it.
    OtherKind,
}

/// A place that values can are in.
#[derive(Debug)]
struct PathNode {
    parent: u32,
    path: u32,
    /// The number of an item, from 1; 0 if it is none.
    item: usize,
    children: Vec<u32>,
    guess: usize,
    /// The places of items; in XML those from the second on.
    items: Vec<u32>,
    /// It is a list, or occurs several times in something.
    list: bool,
    /// Values are in it.
    value: bool,
    /// It may be a container with nothing in it; as JSON it is this.
    empty_container: Option<Kind>,
    column: u32,
    /// The first column in it and how many levels that is below, for containers with nothing in them.
    first: (u32, u32),
    /// It is on the way to the list whose items are records.
    exploded: bool,
    /// Its list is kept in one cell.
    kept: bool,
    /// It or something in it is a column that is wanted.
    wanted: bool,
    /// The node that it was last found in, and how often.
    last: (u64, usize),
}

/// Flattens the records of one source.
#[derive(Debug)]
pub(crate) struct Flattener {
    lists: ListLayout,
    /// Elements of one name may stand side by side, and texts next to elements.
    markup: bool,
    places: Vec<PathNode>,
    by_path: HashMap<(u32, u32), u32>,
    names: Vec<String>,
    serial: u64,
    root: Option<Kind>,
    /// The cells of the record, by column.
    pub(crate) cells: Vec<FlatValue>,
    /// Lists that are kept as JSON.
    pub(crate) kept: Vec<u8>,
    /// The column of each value, in the order of the record, if that is all there is to it.
    leaves: Vec<u32>,
    /// Cells that are the same in all records like it.
    fixed: Vec<(u32, FlatValue)>,
    pure: bool,
    is_outgrown: bool,
    /// Items that are to be records, by level.
    waiting: Vec<Vec<(usize, u32)>>,
    /// Cells that were filled, to be emptied again.
    filled: Vec<u32>,
    /// The line on which the record begins that is learnt.
    line: u64,
    /// The lists with more items than there may be columns, how many those may be, and the line of
    /// the first record with so many.
    long_lists: Vec<(String, usize, u64)>,
    /// Words that can name columns, of formats whose conditions hold for any item of a list: such a
    /// list has as many columns as it has items.
    words: Vec<String>,
    /// Whether a word names a list, by its place.
    is_named: HashMap<u32, bool>,
    /// Only some columns are wanted; what is new in others does not matter.
    narrow: bool,
}

impl Flattener {
    pub(crate) fn new(lists: ListLayout, markup: bool) -> Self {
        let mut flattener = Self {
            lists,
            markup,
            places: Vec::new(),
            by_path: HashMap::new(),
            names: Vec::new(),
            serial: 0,
            root: None,
            cells: Vec::new(),
            kept: Vec::new(),
            leaves: Vec::new(),
            fixed: Vec::new(),
            pure: false,
            is_outgrown: false,
            waiting: Vec::new(),
            filled: Vec::new(),
            line: 0,
            long_lists: Vec::new(),
            words: Vec::new(),
            is_named: HashMap::new(),
            narrow: false,
        };
        flattener.add(NONE, ROOT, 0);
        flattener
    }

    fn add(&mut self, parent: u32, path: u32, item: usize) -> u32 {
        self.places.push(PathNode {
            parent,
            path,
            item,
            children: Vec::new(),
            guess: 0,
            items: Vec::new(),
            list: false,
            value: false,
            empty_container: None,
            column: NONE,
            first: (NONE, 0),
            exploded: false,
            kept: false,
            wanted: true,
            last: (0, 0),
        });
        to_u32(self.places.len()) - 1
    }

    /// The place of a child, if there is one.
    #[inline]
    fn child(&mut self, parent: u32, path: u32) -> Option<u32> {
        let place = &mut self.places[parent as usize];
        let guess = if place.guess < place.children.len() {
            place.guess
        } else {
            0
        };
        if let Some(&child) = place.children.get(guess) {
            place.guess = guess + 1;
            if self.places[child as usize].path == path {
                return Some(child);
            }
        }
        let child = *self.by_path.get(&(parent, path))?;
        let place = &mut self.places[parent as usize];
        if place.children.len() <= 64
            && let Some(at) = place.children.iter().position(|known| *known == child)
        {
            place.guess = at + 1;
        }
        Some(child)
    }

    /// Whether all items of lists at a place go to one place.
    fn merges(&self, place: u32, paths: &Paths) -> bool {
        match &self.lists {
            ListLayout::Columns(_) => false,
            ListLayout::Keep | ListLayout::Rows(None) => true,
            ListLayout::Rows(Some(path)) => {
                let here = self.named(place, paths, false);
                path == &here
                    || path
                        .strip_prefix(here.as_str())
                        .is_some_and(|rest| here.is_empty() || rest.starts_with('.'))
            }
        }
    }

    /// The path of a place. `numbered` says that elements that occur several times are distinguished.
    fn named(&self, place: u32, paths: &Paths, numbered: bool) -> String {
        let mut way = Vec::new();
        let mut at = place;
        while self.places[at as usize].parent != NONE {
            way.push(at);
            at = self.places[at as usize].parent;
        }
        let mut name = String::new();
        for at in way.iter().rev() {
            let place = &self.places[*at as usize];
            if place.item > 0 && !self.markup {
                push_index(place.item, &mut name);
                continue;
            }
            push_name(paths.name(place.path), &mut name);
            let several = self.markup && (place.item > 0 || !place.items.is_empty());
            if several && numbered {
                push_index(place.item.max(1), &mut name);
            }
        }
        name
    }

    fn check_root(&mut self, tree: &Tree) -> Result<(), FlattenError> {
        if self.markup {
            return Ok(());
        }
        let kind = match tree.nodes[0].kind {
            Kind::Object => Kind::Object,
            Kind::List => Kind::List,
            _ => Kind::Text,
        };
        if *self.root.get_or_insert(kind) == kind {
            Ok(())
        } else {
            Err(FlattenError::OtherKind)
        }
    }

    /// How often a place was found in the node with this number, this time among them.
    #[inline]
    fn count(&mut self, place: u32, serial: u64) -> usize {
        let last = &mut self.places[place as usize].last;
        if last.0 == serial {
            last.1 += 1;
        } else {
            *last = (serial, 1);
        }
        last.1
    }

    /// The lists with more items than there may be columns, each of which is kept in one cell: its path,
    /// how many columns there may be, and the line of the first record with so many.
    pub(crate) fn long_lists(&self) -> &[(String, usize, u64)] {
        &self.long_lists
    }

    /// Lists that these words name have a column for each of their items.
    pub(crate) fn name_lists(&mut self, words: &[String]) {
        self.words = words.to_vec();
    }

    /// Only these columns are wanted from here on: what belongs to none of them may be beyond the sample.
    pub(crate) fn narrow(&mut self, wanted: &[bool]) {
        self.narrow = true;
        for place in &mut self.places {
            place.wanted = wanted.get(place.column as usize).copied().unwrap_or(false);
        }
        for place in (1..self.places.len()).rev() {
            // A place is after the one that it is in.
            if self.places[place].wanted {
                let parent = self.places[place].parent as usize;
                self.places[parent].wanted = true;
            }
        }
        // The record itself holds all of them, and is none.
        self.places[ROOT as usize].wanted = self.places[ROOT as usize].column != NONE;
    }

    /// There is something new at a place.
    fn beyond_sample(&mut self, at: u32) {
        if self.narrow && !self.places[at as usize].wanted {
            self.pure = false;
        } else {
            self.is_outgrown = true;
        }
    }

    /// Whether a record has something where none of those that were learnt has anything.
    pub(crate) fn is_outgrown(&self) -> bool {
        self.is_outgrown
    }

    /// Makes one column of whole records.
    pub(crate) fn settle_as_one(&mut self, name: &str) {
        self.names = vec![name.to_owned()];
        self.cells = vec![FlatValue::Absent];
    }

    /// Writes a whole record as JSON, whatever is in it.
    pub(crate) fn flatten_as_one(&mut self, tree: &Tree, paths: &Paths) {
        self.kept.clear();
        tree.push_json(0, paths, true, &mut self.kept);
        self.cells[0] = FlatValue::Kept(0, to_u32(self.kept.len()));
        self.pure = false;
    }

    /// Adds columns that are blank in all records.
    pub(crate) fn add_blank(&mut self, names: &[String]) {
        for name in names {
            let plain = with_plain_dots(name);
            let is_there = |known: &String| known == name || with_plain_dots(known) == plain;
            if !self.names.iter().any(is_there) {
                self.names.push(name.clone());
                self.cells.push(FlatValue::Absent);
            }
        }
    }

    /// Gives the columns other names.
    pub(crate) fn rename(&mut self, new: impl Fn(&str) -> String) {
        for name in &mut self.names {
            *name = new(name);
        }
    }

    /// The names of the columns.
    pub(crate) fn names(&self) -> &[String] {
        &self.names
    }
}
