//! Nested records: what a record of a document holds, before it is flattened as columns.
//!
//! A record travels as a tape of nodes in the order of the document. Names are not kept with the
//! nodes: each has the number of its path, and `Paths` knows the names.

use crate::narrow::to_u32;

mod beside;
mod list_layout;
mod lists;
mod name;
mod occurrence;
mod outline;
mod survey;

use std::collections::HashMap;

use crate::value::swar;

pub use beside::{Beside, TOP, ValuesBeside};
pub use list_layout::{ListLayout, ListLayoutError};
pub use name::{address_name, column_name, push_index, push_name, with_plain_dots};
pub use occurrence::{Occurrence, Occurrences};
pub use outline::{Outline, OutlineError, OutlineNode};
pub use survey::{Survey, SurveyNode};

/// What a node is.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash)]
pub enum Kind {
    /// Members with names. In XML it may have text of its own.
    Object,
    /// Items without names.
    List,
    /// Characters.
    Text,
    /// A number, as its digits.
    Number,
    /// `true` or `false`.
    Boolean,
    /// Nothing, said so.
    Null,
}

/// A node of a record.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct Node {
    /// The number of its path in [`Paths`].
    pub path: u32,
    /// What it is.
    pub kind: Kind,
    /// Its text, from and to in [`Tree::text`].
    pub text: (u32, u32),
    /// The place after the last node that is in it.
    pub next: u32,
}

/// A record: its nodes, each followed by those in it.
#[derive(Debug, Default)]
pub struct Tree {
    /// All nodes, each before those in it.
    pub nodes: Vec<Node>,
    /// The values, one after the other.
    pub text: Vec<u8>,
}

impl Tree {
    /// Leaves no nodes.
    #[inline]
    pub fn clear(&mut self) {
        self.nodes.clear();
        self.text.clear();
    }

    /// The text of a value.
    #[inline]
    pub fn text_of(&self, node: &Node) -> &[u8] {
        &self.text[node.text.0 as usize..node.text.1 as usize]
    }

    /// Adds a node without text, whose end is not known yet.
    #[inline]
    pub fn open(&mut self, path: u32, kind: Kind) -> usize {
        let here = to_u32(self.text.len());
        self.nodes.push(Node {
            path,
            kind,
            text: (here, here),
            next: 0,
        });
        self.nodes.len() - 1
    }

    /// All nodes of an open one are there.
    #[inline]
    pub fn close(&mut self, node: usize) {
        self.nodes[node].next = to_u32(self.nodes.len());
    }

    /// Adds a value.
    #[inline]
    pub fn push(&mut self, path: u32, kind: Kind, text: &[u8]) {
        let start = to_u32(self.text.len());
        self.text.extend_from_slice(text);
        let next = to_u32(self.nodes.len()) + 1;
        self.nodes.push(Node {
            path,
            kind,
            text: (start, to_u32(self.text.len())),
            next,
        });
    }

    /// Appends a node as JSON, as short as it can be written; `sorted` by the names of members, so
    /// that equal trees are equal texts.
    pub fn push_json(&self, place: usize, paths: &Paths, sorted: bool, out: &mut Vec<u8>) {
        let node = &self.nodes[place];
        let text = self.text_of(node);
        match node.kind {
            Kind::Null => out.extend_from_slice(b"null"),
            Kind::Number | Kind::Boolean => out.extend_from_slice(text),
            Kind::Text => push_json_text(text, out),
            Kind::List => {
                out.push(b'[');
                for (count, child) in self.children(place).enumerate() {
                    if count > 0 {
                        out.push(b',');
                    }
                    self.push_json(child, paths, sorted, out);
                }
                out.push(b']');
            }
            Kind::Object => {
                out.push(b'{');
                let mut first = true;
                if !text.is_empty() {
                    out.extend_from_slice(b"\"#text\":");
                    push_json_text(text, out);
                    first = false;
                }
                let mut done: Vec<u32> = Vec::new();
                let mut children: Vec<usize> = self.children(place).collect();
                if sorted {
                    children.sort_by_key(|child| paths.name(self.nodes[*child].path));
                }
                for child in children {
                    let path = self.nodes[child].path;
                    if done.contains(&path) {
                        continue;
                    }
                    if !first {
                        out.push(b',');
                    }
                    first = false;
                    push_json_text(paths.name(path).as_bytes(), out);
                    out.push(b':');
                    // Elements of one name that follow each other are a list.
                    let same = |other: &usize| self.nodes[*other].path == path;
                    if self.children(place).filter(same).count() > 1 {
                        done.push(path);
                        out.push(b'[');
                        for (count, other) in self.children(place).filter(same).enumerate() {
                            if count > 0 {
                                out.push(b',');
                            }
                            self.push_json(other, paths, sorted, out);
                        }
                        out.push(b']');
                    } else {
                        self.push_json(child, paths, sorted, out);
                    }
                }
                out.push(b'}');
            }
        }
    }

    /// The places of the nodes right below one.
    #[inline]
    pub fn children(&self, place: usize) -> impl Iterator<Item = usize> + '_ {
        let end = self.nodes[place].next as usize;
        let mut next = place + 1;
        std::iter::from_fn(move || {
            let here = next;
            (here < end).then(|| {
                next = self.nodes[here].next as usize;
                here
            })
        })
    }
}

/// Appends a text as a string of JSON.
pub fn push_json_text(text: &[u8], out: &mut Vec<u8>) {
    out.push(b'"');
    if is_plain(text) {
        out.extend_from_slice(text);
        out.push(b'"');
        return;
    }
    let mut from = 0;
    for (at, byte) in text.iter().enumerate() {
        if *byte >= 0x20 && *byte != b'"' && *byte != b'\\' {
            continue;
        }
        out.extend_from_slice(&text[from..at]);
        from = at + 1;
        match byte {
            b'"' => out.extend_from_slice(b"\\\""),
            b'\\' => out.extend_from_slice(b"\\\\"),
            b'\n' => out.extend_from_slice(b"\\n"),
            b'\r' => out.extend_from_slice(b"\\r"),
            b'\t' => out.extend_from_slice(b"\\t"),
            other => out.extend_from_slice(format!("\\u{other:04x}").as_bytes()),
        }
    }
    out.extend_from_slice(&text[from..]);
    out.push(b'"');
}

/// Whether nothing in a text has to be escaped in JSON; eight bytes are looked at at a time.
#[inline]
fn is_plain(text: &[u8]) -> bool {
    let (eights, rest) = text.as_chunks::<8>();
    let mut found = 0;
    for bytes in eights {
        let word = u64::from_le_bytes(*bytes);
        found |= swar::same(word, b'"') | swar::same(word, b'\\') | swar::controls(word);
    }
    let plain = |byte: &u8| *byte >= 0x20 && !matches!(byte, b'"' | b'\\');
    found == 0 && rest.iter().all(plain)
}

/// The path of records themselves.
pub const ROOT: u32 = 0;

/// A path without a number yet.
const NONE: u32 = u32::MAX;

/// Members beyond this many are found by their hash.
const FEW: usize = 12;

/// The paths that were seen in records of a source, each with a number.
#[derive(Debug)]
pub struct Paths {
    nodes: Vec<PathNode>,
}

#[derive(Debug)]
struct PathNode {
    /// The name; that of the list for its items.
    name: Box<str>,
    children: Vec<u32>,
    /// The place in `children` that will be asked for next, if records are alike.
    guess: usize,
    by_name: HashMap<Box<str>, u32>,
    item: u32,
}

impl PathNode {
    fn new(name: &str) -> Self {
        Self {
            name: name.into(),
            children: Vec::new(),
            guess: 0,
            by_name: HashMap::new(),
            item: NONE,
        }
    }
}

impl Default for Paths {
    fn default() -> Self {
        Self {
            nodes: vec![PathNode::new("")],
        }
    }
}

impl Paths {
    /// The path of the member of this name.
    pub fn child(&mut self, parent: u32, name: &str) -> u32 {
        let node = &mut self.nodes[parent as usize];
        let known = node.children.len();
        let guess = if node.guess < known { node.guess } else { 0 };
        let guessed = node.children.get(guess).copied();
        if let Some(child) = guessed
            && *self.nodes[child as usize].name == *name
        {
            self.nodes[parent as usize].guess = guess + 1;
            return child;
        }
        let node = &self.nodes[parent as usize];
        let found = if known > FEW {
            node.by_name.get(name).copied()
        } else {
            let called = |child: &&u32| *self.nodes[**child as usize].name == *name;
            node.children.iter().find(called).copied()
        };
        if let Some(child) = found {
            let place = if self.nodes[parent as usize].by_name.is_empty() {
                node.children.iter().position(|known| *known == child)
            } else {
                // Where it is in a long list is not worth looking for.
                None
            };
            if let Some(place) = place {
                self.nodes[parent as usize].guess = place + 1;
            }
            return child;
        }
        let child = to_u32(self.nodes.len());
        self.nodes.push(PathNode::new(name));
        let node = &mut self.nodes[parent as usize];
        node.children.push(child);
        node.guess = node.children.len();
        if node.children.len() > FEW {
            if node.by_name.is_empty() {
                let children = node.children.clone();
                let named = children
                    .iter()
                    .map(|child| (self.nodes[*child as usize].name.clone(), *child));
                let by_name = named.collect();
                self.nodes[parent as usize].by_name = by_name;
            } else {
                node.by_name.insert(name.into(), child);
            }
        }
        child
    }

    /// The path of the items of a list.
    #[inline]
    pub fn item(&mut self, list: u32) -> u32 {
        if self.nodes[list as usize].item == NONE {
            let name = self.nodes[list as usize].name.clone();
            self.nodes.push(PathNode::new(&name));
            self.nodes[list as usize].item = to_u32(self.nodes.len()) - 1;
        }
        self.nodes[list as usize].item
    }

    /// The name of what is at a path.
    #[inline]
    pub fn name(&self, path: u32) -> &str {
        &self.nodes[path as usize].name
    }
}
