//! The second way through a record: its values, put into the columns that were learnt.

use std::collections::BTreeMap;

use numerant_data::narrow::to_u32;
use numerant_data::tree::{Kind, Node, Paths, ROOT, Tree};

use super::{Filling, FlatValue, FlattenError, Flattener, NONE, PatternCells};

impl Flattener {
    /// Flattens a record, and hands each row that it becomes to `emit`, in [`Flattener::cells`].
    pub(crate) fn flatten(
        &mut self,
        tree: &Tree,
        paths: &Paths,
        emit: &mut dyn FnMut(&Self),
    ) -> Result<(), FlattenError> {
        self.check_root(tree)?;
        for column in self.filled.drain(..) {
            self.cells[column as usize] = FlatValue::Absent;
        }
        self.kept.clear();
        self.leaves.clear();
        self.fixed.clear();
        self.pure = true;
        self.waiting.iter_mut().for_each(Vec::clear);
        self.flatten_node(tree, paths, 0, ROOT, 0)?;
        self.emit_rows(tree, paths, 0, emit)
    }

    /// How records are flattened that are like the one that was flattened last.
    pub(crate) fn pattern(&self) -> PatternCells {
        let same = self
            .fixed
            .iter()
            .map(|(at, flattened)| (*at, Filling::Same(*flattened)));
        let values = self.leaves.iter().enumerate();
        let values = values.map(|(number, at)| (*at, Filling::Value(number)));
        // What is in a column last is what stays there.
        let cells: BTreeMap<u32, Filling> = same.chain(values).collect();
        PatternCells {
            cells: cells.into_iter().collect(),
        }
    }

    /// How many values the record has that was flattened last, if those are all that there is to laying it out.
    pub(crate) fn values(&self) -> Option<usize> {
        self.pure.then_some(self.leaves.len())
    }

    fn emit_rows(
        &mut self,
        tree: &Tree,
        paths: &Paths,
        level: usize,
        emit: &mut dyn FnMut(&Self),
    ) -> Result<(), FlattenError> {
        let items = match self.waiting.get_mut(level) {
            Some(items) if !items.is_empty() => std::mem::take(items),
            _ => {
                emit(self);
                return Ok(());
            }
        };
        for (node, at) in items {
            let before = self.filled.len();
            if let Some(deeper) = self.waiting.get_mut(level + 1) {
                deeper.clear();
            }
            self.flatten_node(tree, paths, node, at, level + 1)?;
            self.emit_rows(tree, paths, level + 1, emit)?;
            for column in self.filled.drain(before..) {
                self.cells[column as usize] = FlatValue::Absent;
            }
        }
        Ok(())
    }

    /// Fills a column with the value of a place.
    fn put(&mut self, at: u32, column: u32, flattened: FlatValue) {
        let Some(cell) = self.cells.get_mut(column as usize) else {
            self.beyond_sample(at);
            return;
        };
        *cell = flattened;
        self.filled.push(column);
    }

    /// Keeps a node for when all else of its record is flattened.
    fn wait(&mut self, node: usize, at: u32, level: usize) {
        self.pure = false;
        if self.waiting.len() <= level {
            self.waiting.resize_with(level + 1, Vec::new);
        }
        self.waiting[level].push((node, at));
    }

    /// Puts a node into one cell, as JSON.
    fn keep(
        &mut self,
        nodes: &[usize],
        as_list: bool,
        tree: &Tree,
        paths: &Paths,
        at: u32,
    ) -> Result<(), FlattenError> {
        self.pure = false;
        let start = to_u32(self.kept.len());
        if as_list {
            self.kept.push(b'[');
        }
        for (count, node) in nodes.iter().enumerate() {
            if count > 0 {
                self.kept.push(b',');
            }
            tree.push_json(*node, paths, false, &mut self.kept);
        }
        if as_list {
            self.kept.push(b']');
        }
        let flattened = FlatValue::Kept(start, to_u32(self.kept.len()));
        self.put(at, self.places[at as usize].column, flattened);
        Ok(())
    }

    fn flatten_node(
        &mut self,
        tree: &Tree,
        paths: &Paths,
        node: usize,
        at: u32,
        level: usize,
    ) -> Result<(), FlattenError> {
        let Node {
            kind, next, text, ..
        } = tree.nodes[node];
        let empty = next as usize == node + 1;
        let column = self.places[at as usize].column;
        match kind {
            Kind::Object | Kind::List if empty && text.0 == text.1 => {
                self.empty_container(kind, at)
            }
            Kind::List => {
                let place = &self.places[at as usize];
                if place.kept {
                    return self.keep(&[node], false, tree, paths, at);
                }
                if place.exploded {
                    let items: Vec<usize> = tree.children(node).collect();
                    for item in items {
                        self.wait(item, at, level);
                    }
                    return Ok(());
                }
                let mut item = node + 1;
                let mut number = 0;
                while item < next as usize {
                    let to = self.places[at as usize].items.get(number).copied();
                    let Some(to) = to else {
                        self.beyond_sample(at);
                        return Ok(());
                    };
                    self.flatten_node(tree, paths, item, to, level)?;
                    item = tree.nodes[item].next as usize;
                    number += 1;
                }
                Ok(())
            }
            Kind::Object => {
                if self.places[at as usize].kept {
                    return self.keep(&[node], self.markup, tree, paths, at);
                }
                if text.0 < text.1 {
                    self.put(at, column, FlatValue::Text(text.0, text.1));
                    self.leaves.push(column);
                }
                self.lay_children(tree, paths, node, at, level)
            }
            Kind::Text if self.markup && text.0 == text.1 => self.empty_container(kind, at),
            _ => {
                if self.places[at as usize].kept {
                    return self.keep(&[node], self.markup, tree, paths, at);
                }
                self.leaves.push(column);
                let flattened = match kind {
                    Kind::Null => FlatValue::Null,
                    Kind::Text => FlatValue::Text(text.0, text.1),
                    _ => FlatValue::Literal(text.0, text.1),
                };
                self.put(at, column, flattened);
                Ok(())
            }
        }
    }

    fn lay_children(
        &mut self,
        tree: &Tree,
        paths: &Paths,
        node: usize,
        at: u32,
        level: usize,
    ) -> Result<(), FlattenError> {
        self.serial += 1;
        let serial = self.serial;
        let end = tree.nodes[node].next as usize;
        let mut child = node + 1;
        while child < end {
            let Node { path, next, .. } = tree.nodes[child];
            let Some(to) = self.child(at, path) else {
                self.beyond_sample(at);
                child = next as usize;
                continue;
            };
            let times = self.count(to, serial);
            let place = &self.places[to as usize];
            if times > 1 && !self.markup {
                return Err(FlattenError::Twice(self.named(to, paths, false)));
            }
            if self.markup && place.kept {
                if times == 1 {
                    let same = |other: &usize| tree.nodes[*other].path == path;
                    let all: Vec<usize> = tree.children(node).filter(same).collect();
                    self.keep(&all, true, tree, paths, to)?;
                }
            } else if self.markup && place.exploded {
                self.wait(child, to, level);
            } else if times > 1 {
                let items = (!place.list).then_some(&place.items);
                match items.and_then(|items| items.get(times - 2)).copied() {
                    Some(item) => self.flatten_node(tree, paths, child, item, level)?,
                    None => self.beyond_sample(to),
                }
            } else {
                self.flatten_node(tree, paths, child, to, level)?;
            }
            child = next as usize;
        }
        Ok(())
    }

    /// Stores an empty container where its column is known.
    fn empty_container(&mut self, kind: Kind, at: u32) -> Result<(), FlattenError> {
        let place = &self.places[at as usize];
        if place.exploded {
            // A list without items whose items are records: the record has one row all the same.
            self.pure = false;
            return Ok(());
        }
        if place.column != NONE
            && (place.empty_container == Some(kind) || place.value || place.kept)
        {
            let flattened = match kind {
                Kind::Text => {
                    self.fixed.push((place.column, FlatValue::Text(0, 0)));
                    FlatValue::Text(0, 0)
                }
                kind => {
                    self.pure = false;
                    let start = to_u32(self.kept.len());
                    self.kept.extend_from_slice(match kind {
                        Kind::List => b"[]",
                        _ => b"{}",
                    });
                    FlatValue::Kept(start, to_u32(self.kept.len()))
                }
            };
            let column = place.column;
            self.put(at, column, flattened);
            return Ok(());
        }
        let (column, levels) = place.first;
        if column == NONE {
            // Nothing is in any of the containers here.
            if place.empty_container.is_none() {
                self.beyond_sample(at);
            }
            return Ok(());
        }
        self.fixed.push((column, FlatValue::EmptyContainer(levels)));
        self.put(at, column, FlatValue::EmptyContainer(levels));
        Ok(())
    }
}
