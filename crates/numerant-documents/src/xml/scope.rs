//! Names that are looked up for every tag: the attributes of one tag, and the prefixes that are
//! declared. Few are compared one by one; many are found by hashing, so that no tag takes time that
//! grows with the square of its attributes.

use std::collections::{HashMap, HashSet};

/// So many names are compared one by one.
const FEW: usize = 16;

/// The names of the attributes of a tag.
#[derive(Debug, Default)]
pub(super) struct AttributeNames<'t> {
    in_order: Vec<&'t str>,
    /// All of them, once they are more than a few.
    hashed: HashSet<&'t str>,
}

impl<'t> AttributeNames<'t> {
    /// Adds a name; `false` if it is there.
    pub(super) fn insert(&mut self, name: &'t str) -> bool {
        if self.contains(name) {
            return false;
        }
        self.in_order.push(name);
        if self.in_order.len() > FEW {
            if self.hashed.is_empty() {
                self.hashed.extend(&self.in_order);
            }
            self.hashed.insert(name);
        }
        true
    }

    pub(super) fn contains(&self, name: &str) -> bool {
        if self.hashed.is_empty() {
            self.in_order.contains(&name)
        } else {
            self.hashed.contains(name)
        }
    }

    /// In the order of the tag.
    pub(super) fn iter(&self) -> impl Iterator<Item = &'t str> + '_ {
        self.in_order.iter().copied()
    }
}

/// The prefixes that the open elements declare.
#[derive(Debug, Default)]
pub(super) struct Prefixes {
    /// Each with the depth of its element, from the outermost on.
    declared: Vec<(usize, String)>,
    /// How many elements declare each.
    counts: HashMap<String, usize>,
}

impl Prefixes {
    pub(super) fn declare(&mut self, depth: usize, prefix: &str) {
        self.declared.push((depth, prefix.to_owned()));
        *self.counts.entry(prefix.to_owned()).or_default() += 1;
    }

    pub(super) fn contains(&self, prefix: &str) -> bool {
        match self.declared.len() {
            0..=FEW => self.declared.iter().any(|(_, known)| known == prefix),
            _ => self.counts.contains_key(prefix),
        }
    }

    /// Forgets those of the element at this depth, which is the innermost.
    #[inline]
    pub(super) fn close(&mut self, depth: usize) {
        while let Some((_, prefix)) = self.declared.pop_if(|(declared, _)| *declared >= depth) {
            if let Some(count) = self.counts.get_mut(&prefix) {
                *count -= 1;
                if *count == 0 {
                    self.counts.remove(&prefix);
                }
            }
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn many_names_are_found_as_few_are() {
        let names: Vec<String> = (0..100).map(|number| format!("a{number}")).collect();
        let mut known = AttributeNames::default();
        for (place, name) in names.iter().enumerate() {
            assert!(!known.contains(name));
            assert!(known.insert(name));
            assert!(names[..=place].iter().all(|name| known.contains(name)));
            assert!(!known.insert(name));
        }
        assert!(known.iter().eq(names.iter().map(String::as_str)));
    }

    #[test]
    fn prefixes_end_with_their_element() {
        for count in [1, FEW, 100] {
            let mut prefixes = Prefixes::default();
            for number in 0..count {
                prefixes.declare(1, &format!("p{number}"));
            }
            prefixes.declare(2, "p0");
            prefixes.declare(2, "inner");
            prefixes.close(3);
            assert!(prefixes.contains("inner"));
            prefixes.close(2);
            assert!(!prefixes.contains("inner"));
            assert!(prefixes.contains("p0"));
            prefixes.close(1);
            assert!(!prefixes.contains("p0"));
        }
    }
}
