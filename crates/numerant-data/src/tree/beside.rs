//! What is in a document next to its records: how many values there are at each path.

use crate::narrow::to_u32;
use std::collections::HashMap;

use serde::{Deserialize, Serialize};

use super::name::push_name;

/// Paths that are counted apart; values of others count for the path above.
const MAX_PATHS: usize = 10_000;

/// Values of a document that are in none of its records.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub struct ValuesBeside {
    /// The names on the way to them, joined with dots; `[]` for the items of a list.
    pub path: String,
    /// How many values.
    pub values: u64,
}

/// The path of the document itself.
pub const TOP: u32 = 0;

/// Counts the values next to the records of a document.
#[derive(Debug)]
pub struct Beside {
    nodes: Vec<Node>,
    by_name: HashMap<(u32, Option<Box<str>>), u32>,
}

#[derive(Debug, Default)]
struct Node {
    parent: u32,
    /// `None` for the items of a list.
    name: Option<Box<str>>,
    values: u64,
    /// Containers with others in them.
    branches: u64,
}

impl Default for Beside {
    fn default() -> Self {
        Self {
            nodes: vec![Node::default()],
            by_name: HashMap::new(),
        }
    }
}

impl Beside {
    /// The path of the member `name` of what is at a path, or of its items.
    pub fn child(&mut self, parent: u32, name: Option<&str>) -> u32 {
        let name: Option<Box<str>> = name.map(Into::into);
        if let Some(known) = self.by_name.get(&(parent, name.clone())) {
            return *known;
        }
        if self.nodes.len() >= MAX_PATHS {
            return parent;
        }
        let child = to_u32(self.nodes.len());
        self.nodes.push(Node {
            parent,
            name: name.clone(),
            ..Node::default()
        });
        self.by_name.insert((parent, name), child);
        child
    }

    /// There is a value at a path.
    pub fn value(&mut self, path: u32) {
        self.nodes[path as usize].values += 1;
    }

    /// There is a container at a path that could be a record.
    pub fn branch(&mut self, path: u32) {
        self.nodes[path as usize].branches += 1;
    }

    /// How often there is a container at the path that has the most of them.
    pub fn most_branches(&self) -> u64 {
        let branches = self.nodes.iter().map(|node| node.branches);
        branches.max().unwrap_or_default()
    }

    /// The paths with values, in the order of the document.
    pub fn values(&self) -> Vec<ValuesBeside> {
        let with_values = (0..self.nodes.len()).filter(|at| self.nodes[*at].values > 0);
        with_values
            .map(|at| ValuesBeside {
                path: self.path(at),
                values: self.nodes[at].values,
            })
            .collect()
    }

    fn path(&self, at: usize) -> String {
        let mut way = Vec::new();
        let mut next = at;
        while next != TOP as usize {
            way.push(next);
            next = self.nodes[next].parent as usize;
        }
        let mut path = String::new();
        for at in way.iter().rev() {
            match &self.nodes[*at].name {
                Some(name) => push_name(name, &mut path),
                None => path.push_str("[]"),
            }
        }
        path
    }
}
