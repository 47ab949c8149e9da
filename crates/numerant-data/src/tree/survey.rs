//! What is found in a document: its paths, how often each stands, and what its values are.

use std::collections::HashMap;

use serde::Serialize;

use super::Kind;
use super::name::push_name;
use crate::value::KindTally;

/// Paths that are distinguished, at most; what comes after is not counted.
const MOST_PATHS: usize = 10_000;

/// Paths below a node beyond this many are found by their hash.
const FEW: usize = 16;

/// Characters of an example.
const LONGEST_EXAMPLE: usize = 60;

/// A path of a document.
#[derive(Clone, Debug, Serialize)]
#[serde(rename_all = "kebab-case")]
pub struct SurveyNode {
    /// The name of the member, element or attribute; empty for items and for the document.
    pub name: String,
    /// It is the items of a list.
    pub items: bool,
    /// How many levels it is below the document.
    pub depth: usize,
    /// How often it is in the document.
    pub times: u64,
    /// How many of the nodes right above have it.
    pub parents: u64,
    /// How often it is in one of those, at most.
    pub most: u64,
    /// Nodes with others in them.
    pub branches: u64,
    /// Lists among them.
    pub lists: u64,
    /// Nodes that are nothing, said so.
    pub nulls: u64,
    /// The type of its values.
    #[serde(rename = "type")]
    pub kind: &'static str,
    /// The first value that is not blank.
    pub example: Option<String>,
    /// The places of the paths right below, in order of first appearance.
    #[serde(skip)]
    pub children: Vec<usize>,
    #[serde(skip)]
    parent: usize,
    #[serde(skip)]
    values: KindTally,
    /// The node above that it was last found in, and how often there.
    #[serde(skip)]
    last: (u64, u64),
}

/// Everything that was found in a document.
#[derive(Clone, Debug, Serialize)]
#[serde(rename_all = "kebab-case")]
pub struct Survey {
    /// The paths, the document first and each after the one above it.
    pub nodes: Vec<SurveyNode>,
    /// There are more paths than are distinguished.
    pub incomplete: bool,
    /// The open nodes: each with its number among all.
    #[serde(skip)]
    open: Vec<(usize, u64)>,
    #[serde(skip)]
    serial: u64,
    /// Paths of nodes with many below them: by the place of the node, whether they are items, and
    /// their names.
    #[serde(skip)]
    by_name: HashMap<(usize, bool, String), usize>,
    /// Nodes below a path that is not counted separately.
    #[serde(skip)]
    lost: usize,
}

impl Default for Survey {
    fn default() -> Self {
        Self {
            nodes: vec![node("", false, 0, 0)],
            incomplete: false,
            open: Vec::new(),
            serial: 0,
            by_name: HashMap::new(),
            lost: 0,
        }
    }
}

fn node(name: &str, items: bool, depth: usize, parent: usize) -> SurveyNode {
    SurveyNode {
        name: name.to_owned(),
        items,
        depth,
        times: 0,
        parents: 0,
        most: 0,
        branches: 0,
        lists: 0,
        nulls: 0,
        kind: "",
        example: None,
        children: Vec::new(),
        parent,
        values: KindTally::default(),
        last: (0, 0),
    }
}

impl SurveyNode {
    /// Whether no value of it has characters.
    pub fn is_blank(&self) -> bool {
        self.example.is_none()
    }
}

impl Survey {
    /// A node begins: the member `name` of the one above, an item of it, or the document.
    pub fn open(&mut self, name: Option<&str>, kind: Kind) {
        if self.lost > 0 {
            self.lost += 1;
            return;
        }
        let Some(place) = self.place(name) else {
            self.lost = 1;
            return;
        };
        self.serial += 1;
        self.open.push((place, self.serial));
        let found = &mut self.nodes[place];
        match kind {
            Kind::Object => found.branches += 1,
            Kind::List => {
                found.branches += 1;
                found.lists += 1;
            }
            Kind::Null => found.nulls += 1,
            Kind::Text | Kind::Number | Kind::Boolean => {}
        }
    }

    /// The open node has this value.
    pub fn value(&mut self, kind: Kind, value: &[u8]) {
        if self.lost > 0 {
            return;
        }
        let Some((place, _)) = self.open.last() else {
            return;
        };
        let found = &mut self.nodes[*place];
        if kind == Kind::Null {
            return;
        }
        // What is written as a text is none of the other types but for dates and times.
        let typed = kind != Kind::Text || !looks_like_literal(value);
        if value.is_empty() || typed {
            found.values.add(value);
        } else {
            found.values.add_text();
        }
        if found.example.is_none() && !value.is_empty() {
            let text = String::from_utf8_lossy(value);
            found.example = Some(text.chars().take(LONGEST_EXAMPLE).collect());
        }
    }

    /// The open node has this value, of a format whose values have no types.
    pub fn untyped(&mut self, value: &[u8]) {
        self.value(Kind::Number, value);
    }

    /// The open node has other nodes in it after all.
    pub fn has_children(&mut self) {
        if self.lost == 0
            && let Some((place, _)) = self.open.last()
        {
            self.nodes[*place].branches += 1;
        }
    }

    /// The open node ends.
    pub fn close(&mut self) {
        if self.lost > 0 {
            self.lost -= 1;
        } else {
            self.open.pop();
        }
    }

    fn place(&mut self, name: Option<&str>) -> Option<usize> {
        let Some((parent, serial)) = self.open.last().copied() else {
            self.nodes[0].times += 1;
            return Some(0);
        };
        let items = name.is_none();
        let name = name.unwrap_or_default();
        let called = |place: &&usize| {
            let node = &self.nodes[**place];
            node.items == items && node.name == name
        };
        let children = &self.nodes[parent].children;
        let found = if children.len() > FEW {
            self.by_name.get(&(parent, items, name.to_owned())).copied()
        } else {
            children.iter().find(called).copied()
        };
        let place = match found {
            Some(place) => place,
            None if self.nodes.len() >= MOST_PATHS => {
                self.incomplete = true;
                return None;
            }
            None => {
                let depth = self.nodes[parent].depth + 1;
                self.nodes.push(node(name, items, depth, parent));
                let place = self.nodes.len() - 1;
                self.nodes[parent].children.push(place);
                self.index(parent);
                place
            }
        };
        let found = &mut self.nodes[place];
        found.times += 1;
        if found.last.0 == serial {
            found.last.1 += 1;
        } else {
            found.parents += 1;
            found.last = (serial, 1);
        }
        found.most = found.most.max(found.last.1);
        Some(place)
    }

    /// Takes note of the names of the paths below one, where there are many.
    fn index(&mut self, parent: usize) {
        let children = &self.nodes[parent].children;
        let new = match children.len().checked_sub(FEW) {
            None | Some(0) => return,
            Some(1) => &children[..],
            Some(_) => &children[children.len() - 1..],
        };
        for place in new {
            let node = &self.nodes[*place];
            let key = (parent, node.items, node.name.clone());
            self.by_name.insert(key, *place);
        }
    }

    /// Names the types of all paths, and puts each path after the one above it.
    pub fn finish(mut self) -> Self {
        let mut order = Vec::new();
        let mut left = vec![0];
        while let Some(place) = left.pop() {
            order.push(place);
            left.extend(self.nodes[place].children.iter().rev());
        }
        let mut places = vec![0; self.nodes.len()];
        for (new, old) in order.iter().enumerate() {
            places[*old] = new;
        }
        let nodes = order.iter().map(|old| {
            let mut node = self.nodes[*old].clone();
            node.children = node.children.iter().map(|child| places[*child]).collect();
            node.parent = places[node.parent];
            let leaves = node.times - node.branches.min(node.times) - node.nulls;
            node.kind = match (node.branches, leaves) {
                (0, 0) => "null",
                (0, _) => node.values.kind().name(),
                (_, 0) if node.lists == node.branches => "list",
                (_, 0) => "object",
                _ => "mixed",
            };
            node
        });
        self.nodes = nodes.collect();
        self
    }

    /// The names on the way to a path, joined with dots.
    pub fn path(&self, place: usize) -> String {
        let mut names = Vec::new();
        let mut at = place;
        while at != 0 {
            names.push(&self.nodes[at]);
            at = self.nodes[at].parent;
        }
        let mut path = String::new();
        for node in names.iter().rev() {
            if node.items {
                path.push_str("[]");
            } else {
                push_name(&node.name, &mut path);
            }
        }
        path
    }

    /// Whether a path is another one or below that.
    pub fn is_within(&self, place: usize, other: usize) -> bool {
        let mut at = place;
        while at != 0 && at != other {
            at = self.parent(at);
        }
        at == other
    }

    /// The place of the path right above.
    pub fn parent(&self, place: usize) -> usize {
        self.nodes[place].parent
    }
}

/// Whether a text would be a number or a truth value if it were no text.
fn looks_like_literal(value: &[u8]) -> bool {
    use crate::value::Kind as Type;
    matches!(
        Type::of(value),
        Type::Integer | Type::Decimal | Type::Boolean
    )
}
