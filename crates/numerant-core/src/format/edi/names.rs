//! What segments are called, and what they are in their message.

use std::collections::{HashMap, HashSet};

use super::layout::Layout;
use super::segments::{Marks, each_component, id_of};
use crate::tree::{Kind, Paths, ROOT, Tree};

/// What a segment of a message is, by its layout and by the envelope.
#[derive(Clone, Copy, Default)]
pub(super) struct Role {
    /// It opens or closes what stands around messages, or opens one.
    pub(super) envelope: bool,
    /// It closes the message.
    pub(super) ends: bool,
    pub(super) record: bool,
    pub(super) looped: bool,
    pub(super) tail: bool,
    pub(super) head: bool,
    /// It states the total or an adjustment of it.
    pub(super) balances: bool,
    /// It holds what a record adds to the total.
    pub(super) adds: bool,
    /// Its name is told with its qualifier.
    pub(super) qualified: bool,
}

impl Role {
    fn of(id: &[u8], layout: Option<&Layout>, marks: &Marks) -> Self {
        let [
            (interchange, interchange_end),
            (group, group_end),
            (opens, closes),
        ] = marks.standard.envelope();
        let envelope = [opens, interchange, interchange_end, group, group_end];
        let role = Self {
            envelope: envelope.iter().any(|known| known.as_bytes() == id),
            ends: closes.as_bytes() == id,
            ..Self::default()
        };
        let Some(layout) = layout else {
            return role;
        };
        let is = |known: &String| known.as_bytes() == id;
        let balance = layout.balance.as_ref();
        Self {
            record: is(&layout.record),
            looped: layout.loops.iter().any(is),
            tail: role.ends || layout.tail.iter().any(is),
            head: layout.head.iter().any(is),
            balances: balance.is_some_and(|balance| {
                let mut all = balance.adjustments.iter().chain([&balance.total]);
                all.any(|address| address.is_in_any(id))
            }),
            adds: balance.is_some_and(|balance| balance.records.is_in_any(id)),
            qualified: layout.qualified.iter().any(is),
            ..role
        }
    }
}

/// The roles of the segments of the message that is open, by their names.
#[derive(Default)]
pub(super) struct Roles(Vec<(u128, Role)>);

impl Roles {
    #[inline]
    pub(super) fn of(&mut self, id: &[u8], layout: Option<&Layout>, marks: &Marks) -> Role {
        let key = packed(id);
        if let Some((_, role)) = self.0.iter().find(|(known, _)| *known == key) {
            return *role;
        }
        let role = Role::of(id, layout, marks);
        if self.0.len() < MANY {
            self.0.push((key, role));
        }
        role
    }
}

/// Kinds of segments that are remembered; there are fewer in a message that follows a standard.
const MANY: usize = 256;

/// The name of a segment as a number.
#[inline]
fn packed(id: &[u8]) -> u128 {
    let shift = |number: u128, byte: &u8| (number << 8) | u128::from(*byte);
    id.iter().take(8).fold(id.len() as u128, shift)
}

/// The paths of segments and their elements, which are the same from record to record.
#[derive(Default)]
pub(super) struct Names {
    /// By name, with the qualifier if that belongs to it.
    segments: HashMap<Vec<u8>, SegmentNames>,
    key: Vec<u8>,
    /// Only these columns are wanted, with all their numbers.
    only: Option<HashSet<String>>,
    /// Whether any column of a segment of this name is wanted.
    wanted: Vec<(u128, bool)>,
}

struct SegmentNames {
    name: String,
    path: u32,
    /// Any of its elements is wanted.
    wanted: bool,
    /// By element and component, as far as they were met.
    elements: Vec<Vec<Element>>,
}

/// What is known of an element or component.
#[derive(Clone, Copy)]
enum Element {
    New,
    Unwanted,
    /// Its path.
    Wanted(u32),
}

impl Names {
    /// The names of elements, of which only these columns are wanted.
    pub(super) fn of(columns: &[String]) -> Self {
        let all = columns.iter().flat_map(|column| without_numbers(column));
        Self {
            only: Some(all.collect()),
            ..Self::default()
        }
    }

    /// Whether an element of a segment is wanted, whose name begins with this.
    #[inline]
    fn wants(&mut self, id: &[u8]) -> bool {
        let Some(only) = &self.only else {
            return true;
        };
        let key = packed(id);
        if let Some((_, wanted)) = self.wanted.iter().find(|(known, _)| *known == key) {
            return *wanted;
        }
        let wanted = only.iter().any(|column| column.as_bytes().starts_with(id));
        if self.wanted.len() < MANY {
            self.wanted.push((key, wanted));
        }
        wanted
    }

    /// Adds the elements of a segment to a tree.
    pub(super) fn push(
        &mut self,
        raw: &[u8],
        marks: &Marks,
        qualified: bool,
        tree: &mut Tree,
        paths: &mut Paths,
    ) {
        let id = id_of(raw, marks);
        if !self.wants(id) {
            return;
        }
        self.key.clear();
        self.key.extend_from_slice(id);
        if qualified {
            let behind = raw.get(id.len() + 1..).unwrap_or_default();
            let ends = |byte: &u8| [marks.element, marks.segment, marks.component].contains(byte);
            let end = behind.iter().position(ends).unwrap_or(behind.len());
            if end > 0 {
                self.key.push(b'[');
                self.key.extend_from_slice(&behind[..end]);
                self.key.push(b']');
            }
        }
        let only = &self.only;
        if !self.segments.contains_key(&self.key) {
            let name = String::from_utf8_lossy(&self.key).into_owned();
            let is_of = |column: &String| {
                let rest = column.strip_prefix(&name);
                rest.is_some_and(|rest| rest.starts_with(|sign: char| sign.is_ascii_digit()))
            };
            let known = SegmentNames {
                path: paths.child(ROOT, &name),
                wanted: only.as_ref().is_none_or(|only| only.iter().any(is_of)),
                elements: Vec::new(),
                name,
            };
            self.segments.insert(self.key.clone(), known);
        }
        let Some(SegmentNames {
            name,
            path,
            wanted,
            elements,
        }) = self.segments.get_mut(&self.key)
        else {
            return;
        };
        if !*wanted {
            return;
        }
        let node = tree.open(*path, Kind::Object);
        each_component(raw, marks, &mut |element, component, value| {
            if value.is_empty() {
                return;
            }
            if elements.len() <= element {
                elements.resize(element + 1, Vec::new());
            }
            let components = &mut elements[element];
            if components.len() <= component {
                components.resize(component + 1, Element::New);
            }
            let own = &mut components[component];
            if matches!(own, Element::New) {
                let element = match component {
                    0 => format!("{element:02}"),
                    component => format!("{element:02}-{component}"),
                };
                let wanted = only
                    .as_ref()
                    .is_none_or(|only| only.contains(&format!("{name}{element}")));
                *own = match wanted {
                    true => Element::Wanted(paths.child(*path, &element)),
                    false => Element::Unwanted,
                };
            }
            if let Element::Wanted(own) = *own {
                match std::str::from_utf8(value) {
                    Ok(_) => tree.push(own, Kind::Text, value),
                    Err(_) => {
                        let text: String = value.iter().map(|byte| char::from(*byte)).collect();
                        tree.push(own, Kind::Text, text.as_bytes());
                    }
                }
            }
        });
        tree.close(node);
    }
}

/// A name, and what it is without some of its numbers, as `SVC02` is of `SVC[2]02`.
fn without_numbers(name: &str) -> Vec<String> {
    let mut names = vec![name.to_owned()];
    let mut next = 0;
    while let Some(name) = names.get(next).cloned() {
        next += 1;
        for (open, _) in name.match_indices('[') {
            let length = name[open..].find(']').unwrap_or(0);
            if length > 1
                && name[open + 1..open + length]
                    .bytes()
                    .all(|byte| byte.is_ascii_digit())
            {
                names.push(format!("{}{}", &name[..open], &name[open + length + 1..]));
            }
        }
    }
    names
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_number_names_what_stands_without_it() {
        assert_eq!(without_numbers("SVC[2]02"), ["SVC[2]02", "SVC02"]);
        assert_eq!(
            without_numbers("REF[1K][2]02"),
            ["REF[1K][2]02", "REF[1K]02"]
        );
        assert_eq!(without_numbers("NM1[QC]09"), ["NM1[QC]09"]);
    }

    #[test]
    fn segments_of_which_nothing_is_wanted_are_passed_over() {
        let mut names = Names::of(&["SVC[2]02".to_owned(), "RMR01".to_owned()]);
        assert!(names.wants(b"SVC") && names.wants(b"RMR"));
        assert!(!names.wants(b"CLP") && !names.wants(b"CLP"));
        assert!(Names::default().wants(b"CLP"));
    }

    #[test]
    fn names_of_segments_are_told_apart() {
        let all: [&[u8]; 6] = [b"", b"A", b"\0A", b"ST", b"STX", b"ABCDEFGH"];
        for (place, one) in all.iter().enumerate() {
            for (other, two) in all.iter().enumerate() {
                assert_eq!(packed(one) == packed(two), place == other);
            }
        }
    }
}
