//! Which places there are in the records of a source, and which columns those become.

use super::{FlatValue, FlattenError, Flattener, NONE};
use numerant_data::narrow::to_u32;
use numerant_data::tree::{Kind, ListLayout, Node, Paths, ROOT, Tree, push_name};

/// Items of a list that is named, for which there are columns at most.
const MAX_NAMED: usize = 1 << 16;

impl Flattener {
    /// Takes note of the places of a record, which begins on a line.
    pub(crate) fn learn(
        &mut self,
        tree: &Tree,
        paths: &Paths,
        line: u64,
    ) -> Result<(), FlattenError> {
        self.line = line;
        self.check_root(tree)?;
        self.learn_node(tree, paths, 0, ROOT)
    }

    fn learn_node(
        &mut self,
        tree: &Tree,
        paths: &Paths,
        node: usize,
        at: u32,
    ) -> Result<(), FlattenError> {
        let Node {
            kind, next, text, ..
        } = tree.nodes[node];
        let empty = next as usize == node + 1;
        match kind {
            Kind::Object | Kind::List if empty && text.0 == text.1 => {
                self.places[at as usize].empty_container = Some(kind);
            }
            Kind::List => {
                self.places[at as usize].list = true;
                let merges = self.merges(at, paths);
                let items: Vec<usize> = tree.children(node).collect();
                for (number, item) in items.into_iter().enumerate() {
                    if merges && at != ROOT {
                        self.learn_node(tree, paths, item, at)?;
                        continue;
                    }
                    if let ListLayout::Columns(most) = self.lists
                        && number >= most
                        && at != ROOT
                    {
                        self.keep_long_list(at, most, paths);
                        break;
                    }
                    let to = self.item(at, tree.nodes[item].path, number);
                    self.learn_node(tree, paths, item, to)?;
                }
            }
            Kind::Object => {
                if text.0 < text.1 {
                    self.places[at as usize].value = true;
                }
                self.serial += 1;
                let serial = self.serial;
                let children: Vec<usize> = tree.children(node).collect();
                for child in children {
                    let path = tree.nodes[child].path;
                    let mut to = match self.child(at, path) {
                        Some(to) => to,
                        None => {
                            let to = self.add(at, path, 0);
                            self.places[at as usize].children.push(to);
                            self.by_path.insert((at, path), to);
                            to
                        }
                    };
                    let times = self.count(to, serial);
                    if times > 1 {
                        if !self.markup {
                            return Err(FlattenError::Twice(self.named(to, paths, false)));
                        }
                        if self.merges(to, paths) {
                            self.places[to as usize].list = true;
                        } else {
                            let most = match self.lists {
                                ListLayout::Columns(most) => most,
                                _ => 1000,
                            };
                            if times > most && (times > MAX_NAMED || !self.is_named(to, paths)) {
                                self.keep_long_list(to, most, paths);
                                continue;
                            }
                            to = self.item(to, path, times - 1);
                        }
                    }
                    self.learn_node(tree, paths, child, to)?;
                }
            }
            Kind::Text if self.markup && text.0 == text.1 => {
                self.places[at as usize].empty_container = Some(kind);
            }
            _ => self.places[at as usize].value = true,
        }
        Ok(())
    }

    /// Keeps a list in one cell that has more items than there may be columns.
    fn keep_long_list(&mut self, at: u32, most: usize, paths: &Paths) {
        let is_known = std::mem::replace(&mut self.places[at as usize].kept, true);
        if !is_known {
            let path = self.named(at, paths, false);
            self.long_lists.push((path, most, self.line));
        }
    }

    /// Whether a word of the job names a column of a list.
    fn is_named(&mut self, at: u32, paths: &Paths) -> bool {
        if self.words.is_empty() {
            return false;
        }
        if let Some(known) = self.is_named.get(&at) {
            return *known;
        }
        let path = self.named(at, paths, false);
        let name = path.trim_start_matches('\\');
        let is_named = self.words.iter().any(|word| word.starts_with(name));
        self.is_named.insert(at, is_named);
        is_named
    }

    /// The place of an item, by its number from 0; in XML the first is the list itself.
    fn item(&mut self, list: u32, path: u32, number: usize) -> u32 {
        let at = if self.markup { number - 1 } else { number };
        while self.places[list as usize].items.len() <= at {
            let next = self.places[list as usize].items.len() + 1 + usize::from(self.markup);
            let parent = if self.markup {
                // It stands next to the first.
                self.places[list as usize].parent
            } else {
                list
            };
            let item = self.add(parent, path, next);
            self.places[list as usize].items.push(item);
        }
        self.places[list as usize].items[at]
    }

    /// Makes columns of all places.
    pub(crate) fn settle(&mut self, paths: &Paths) -> Result<(), FlattenError> {
        match self.lists.clone() {
            ListLayout::Columns(_) => {}
            ListLayout::Keep => {
                for place in &mut self.places[1..] {
                    place.kept = place.list;
                }
            }
            ListLayout::Rows(wanted) => self.explode(wanted.as_deref(), paths)?,
        }
        let mut found = Vec::new();
        self.columns_in(ROOT, &mut found);
        for place in &found {
            let mut name = self.named(*place, paths, true);
            let held = &self.places[*place as usize];
            let branches = !held.children.is_empty() && !held.kept;
            if (self.markup && branches && *place != ROOT) || (name.is_empty() && self.markup) {
                push_name("#text", &mut name);
            }
            if name.is_empty() {
                name.push_str("value");
            }
            self.places[*place as usize].column = to_u32(self.names.len());
            self.names.push(name);
        }
        for place in 0..to_u32(self.places.len()) {
            let mut found = Vec::new();
            self.columns_in(place, &mut found);
            // Elements next to the first of their name are none of what is in it.
            let inside = found.iter().find_map(|first| {
                let mut levels = 0;
                let mut at = *first;
                while at != place {
                    at = self.places[at as usize].parent;
                    levels += 1;
                    if at == NONE {
                        return None;
                    }
                }
                Some((self.places[*first as usize].column, levels))
            });
            if let Some(first) = inside {
                self.places[place as usize].first = first;
            }
        }
        self.cells = vec![FlatValue::Absent; self.names.len()];
        Ok(())
    }

    /// The places with columns in one, in order.
    fn columns_in(&self, at: u32, found: &mut Vec<u32>) {
        let place = &self.places[at as usize];
        if place.kept {
            found.push(at);
            return;
        }
        let before = found.len();
        if place.value {
            found.push(at);
        }
        for child in &place.children {
            self.columns_in(*child, found);
        }
        for item in &place.items {
            self.columns_in(*item, found);
        }
        let only = found.len() == before || (self.markup && place.children.is_empty());
        if place.empty_container.is_some() && only && !place.value && (at != ROOT || self.markup) {
            found.insert(before, at);
        }
    }

    /// Marks the lists whose items become records.
    fn explode(&mut self, wanted: Option<&str>, paths: &Paths) -> Result<(), FlattenError> {
        let lists: Vec<u32> = (1..to_u32(self.places.len()))
            .filter(|place| {
                let place = &self.places[*place as usize];
                place.list || (self.markup && !place.items.is_empty())
            })
            .collect();
        let under = |one: u32, other: u32| {
            let mut at = other;
            while at != NONE {
                if at == one {
                    return true;
                }
                at = self.places[at as usize].parent;
            }
            false
        };
        let deepest = match wanted {
            Some(wanted) => {
                let found = lists.iter().find(|list| {
                    self.places[**list as usize].list && self.named(**list, paths, false) == wanted
                });
                let Some(found) = found else {
                    return Err(FlattenError::NoRows {
                        path: wanted.to_owned(),
                        lists: lists.iter().map(|l| self.named(*l, paths, false)).collect(),
                    });
                };
                Some(*found)
            }
            None => {
                let deepest = lists
                    .iter()
                    .find(|list| lists.iter().all(|other| under(*other, **list)));
                if deepest.is_none() && !lists.is_empty() {
                    return Err(FlattenError::WhichRows(
                        lists.iter().map(|l| self.named(*l, paths, false)).collect(),
                    ));
                }
                deepest.copied()
            }
        };
        if let Some(deepest) = deepest {
            let mut at = deepest;
            while at != NONE {
                let place = &mut self.places[at as usize];
                place.exploded = place.list && at != ROOT;
                at = place.parent;
            }
        }
        Ok(())
    }
}
