//! The nested form that columns have in an output: which objects and lists there are, and where the
//! value of each column goes.

use std::collections::HashMap;

use super::name::{Segment, parse};

/// What the records of an output look like.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Outline {
    /// The record itself.
    pub root: OutlineNode,
}

/// A member, an item, or the record itself.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct OutlineNode {
    /// Its name; that of the list for items.
    pub name: String,
    /// What is in it are items.
    pub list: bool,
    /// The column whose value it has, by its place.
    pub column: Option<usize>,
    /// What is in it, in the order of the columns.
    pub children: Vec<OutlineNode>,
}

/// Columns that cannot be one tree.
#[derive(Clone, Debug, PartialEq, Eq, thiserror::Error)]
pub enum OutlineError {
    /// Two columns represent one place.
    #[error("the columns '{first}' and '{second}' are one place of the tree")]
    SamePlace {
        /// The first.
        first: String,
        /// The other.
        second: String,
    },
}

impl Outline {
    /// The outline of columns of these names, in order. `flat` takes dots for characters like any
    /// other.
    pub fn new<S: AsRef<str>>(columns: &[S], flat: bool) -> Result<Self, OutlineError> {
        let mut root = OutlineNode::default();
        // The places of nodes in the one above, by the number of that, their names, and whether those
        // are numbers; with a number of their own.
        let mut known: HashMap<(usize, String, bool), (usize, usize)> = HashMap::new();
        for (place, column) in columns.iter().enumerate() {
            let column = column.as_ref();
            let path = if flat {
                vec![Segment::Name(column.to_owned())]
            } else {
                parse(column)
            };
            let (mut node, mut number_of) = (&mut root, 0);
            for segment in &path {
                // Whether numbers are those of items shows when all columns are known.
                let (name, number) = match segment {
                    Segment::Name(name) => (name.clone(), false),
                    Segment::Index(number) => (number.to_string(), true),
                };
                let next = known.len() + 1;
                let (at, child) = *known
                    .entry((number_of, name.clone(), number))
                    .or_insert_with(|| {
                        node.children.push(OutlineNode {
                            name,
                            list: number,
                            ..OutlineNode::default()
                        });
                        (node.children.len() - 1, next)
                    });
                (node, number_of) = (&mut node.children[at], child);
            }
            if let Some(first) = node.column.replace(place) {
                return Err(OutlineError::SamePlace {
                    first: columns[first].as_ref().to_owned(),
                    second: column.to_owned(),
                });
            }
        }
        root.settle();
        Ok(Self { root })
    }
}

impl Outline {
    /// The first of the columns, by their names, whose value is within another name.
    pub fn nested<'n>(&self, columns: &[&'n str]) -> Option<&'n str> {
        let nests = |node: &&OutlineNode| node.column.is_none();
        let mut node = self.root.children.iter().find(nests)?;
        while node.column.is_none() {
            node = node.children.first()?;
        }
        columns.get(node.column?).copied()
    }
}

impl OutlineNode {
    /// Decides which nodes are lists: those whose children are numbered from 1 without a gap. Until
    /// then `list` says that the name is a number.
    fn settle(&mut self) {
        let numbers: Option<Vec<usize>> = self
            .children
            .iter()
            .map(|child| child.name.parse().ok().filter(|_| child.list))
            .collect();
        let list = numbers.is_some_and(|mut numbers| {
            numbers.sort_unstable();
            let counted = numbers.iter().enumerate();
            !numbers.is_empty() && counted.into_iter().all(|(at, number)| at + 1 == *number)
        });
        if list {
            let number = |child: &OutlineNode| child.name.parse().unwrap_or(0_usize);
            self.children.sort_by_key(number);
        }
        for child in &mut self.children {
            if list {
                child.name.clone_from(&self.name);
            }
            child.settle();
        }
        self.list = list;
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn shown(node: &OutlineNode) -> String {
        let children: Vec<String> = node.children.iter().map(shown).collect();
        let column = node.column.map(|place| place.to_string());
        let (open, close) = if node.list { ('[', ']') } else { ('{', '}') };
        match children.as_slice() {
            [] => format!("{}={}", node.name, column.unwrap_or_default()),
            _ => format!("{}{open}{}{close}", node.name, children.join(" ")),
        }
    }

    #[test]
    fn columns_nest_by_their_names() {
        for (columns, expected) in [
            (vec!["a", "b.c", "b.d"], "{a=0 b{c=1 d=2}}"),
            (vec!["i.2.x", "i.1.x", "i.1.y"], "{i[i{x=1 y=2} i{x=0}]}"),
            (vec!["i.1", "i.3"], "{i{1=0 3=1}}"),
            (vec!["i.1", "i.x"], "{i{1=0 x=1}}"),
            (vec!["1", "2"], "[=0 =1]"),
            (vec!["2026", "2025"], "{2026=0 2025=1}"),
            (vec!["i.\\1"], "{i{1=0}}"),
            (vec!["m.1.1", "m.1.2", "m.2.1"], "{m[m[m=0 m=1] m[m=2]]}"),
        ] {
            let outline = Outline::new(&columns, false).expect("a tree");
            assert_eq!(shown(&outline.root), expected);
        }
        let flat = Outline::new(&["b.c", "b"], true).expect("a tree");
        assert_eq!(shown(&flat.root), "{b.c=0 b=1}");
        assert_eq!(flat.nested(&["b.c", "b"]), None);
        let nested = Outline::new(&["a.", "b.c"], false).expect("a tree");
        assert_eq!(nested.nested(&["a.", "b.c"]), Some("b.c"));
        assert!(Outline::new(&["a\\b", "a\\\\b"], false).is_err());
    }
}
