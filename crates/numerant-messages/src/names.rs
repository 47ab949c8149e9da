//! What segments and their elements are called, as the columns of records.

use numerant_data::narrow::to_u32;
use std::collections::{HashMap, HashSet};

use super::marks::Marks;
use super::segments::{Part, each_component, id_of, text};
use super::slots::{Slots, is_called, key_of};
use numerant_data::tree::{Kind, Paths, ROOT, Tree};
use numerant_data::value::swar;
use numerant_trees::Leaf;

/// The paths of segments and their elements, which are the same from record to record.
#[derive(Default)]
pub(super) struct Names {
    segments: Vec<SegmentNames>,
    /// By name, with the qualifier if that belongs to it.
    by_name: HashMap<Vec<u8>, u32>,
    /// By name, of those without one.
    plain: Slots<u32>,
    key: Vec<u8>,
    /// Stands before the name of each segment.
    prefix: &'static str,
    /// Only these columns are wanted, with all their numbers.
    only: Option<HashSet<String>>,
    /// The names of segments that they may be of.
    ids: HashSet<String>,
    /// Totals of messages that are left out before the records, and their paths as far as they were met.
    totals: HashSet<String>,
    /// Columns that are never wanted.
    counts: HashSet<String>,
    total_paths: Vec<u32>,
}

struct SegmentNames {
    name: String,
    path: u32,
    /// Elements after this one are not wanted; nor is any, if it is 0.
    most: usize,
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

/// What is wanted of a record: where its values are.
#[derive(Debug, Default)]
pub(super) struct Found {
    /// The path of each segment, with [`SEGMENT`], and of each of its values.
    pub(super) paths: Vec<u32>,
    /// The values, from and to in the bytes of the record, or with [`MADE`] in those that were made.
    values: Vec<(u32, u32)>,
    pub(super) made: Vec<u8>,
    /// Values hold signs that need care.
    pub(super) hard: bool,
}

/// Added to the paths of segments.
const SEGMENT: u32 = 1 << 31;

/// Added to the places of what was made.
const MADE: u32 = 1 << 31;

/// How much there is of what was found.
#[derive(Clone, Copy, Debug, Default)]
pub(super) struct Extent {
    paths: usize,
    values: usize,
    made: usize,
    hard: bool,
}

impl Found {
    /// Drops what was found beyond an extent.
    pub(super) fn cut(&mut self, to: Extent) {
        self.paths.truncate(to.paths);
        self.values.truncate(to.values);
        self.made.truncate(to.made);
        self.hard = to.hard;
    }

    pub(super) fn extent(&self) -> Extent {
        Extent {
            paths: self.paths.len(),
            values: self.values.len(),
            made: self.made.len(),
            hard: self.hard,
        }
    }

    /// From and to of the values in a record of so many bytes, and what was made after it.
    fn texts(&self, length: usize) -> impl Iterator<Item = (u32, u32)> {
        let length = to_u32(length);
        self.values.iter().map(move |(from, to)| match from & MADE {
            0 => (*from, *to),
            _ => (from - MADE + length, to - MADE + length),
        })
    }

    /// Fills in the values of a record of so many bytes.
    pub(super) fn leaves(&self, length: usize, leaves: &mut Vec<Leaf>) {
        leaves.clear();
        let kind = Kind::Text;
        leaves.extend(self.texts(length).map(|text| Leaf { kind, text }));
    }

    /// How many values there are.
    pub(super) fn len(&self) -> usize {
        self.values.len()
    }

    /// Makes a tree of it. `text` is the record, and after it what was made.
    pub(super) fn tree(&self, text: &[u8], tree: &mut Tree) {
        let length = text.len() - self.made.len();
        tree.clear();
        let root = tree.open(ROOT, Kind::Object);
        let mut open = None;
        let mut values = self.texts(length);
        for path in &self.paths {
            if path & SEGMENT > 0 {
                if let Some(open) = open {
                    tree.close(open);
                }
                open = Some(tree.open(path & !SEGMENT, Kind::Object));
                continue;
            }
            let Some((from, to)) = values.next() else {
                break;
            };
            let value = &text[from as usize..to as usize];
            tree.push(*path, Kind::Text, value);
        }
        if let Some(open) = open {
            tree.close(open);
        }
        tree.close(root);
    }
}

/// Whether a value holds signs that need care where records travel.
#[inline]
fn is_hard(value: &[u8]) -> bool {
    let (eights, rest) = value.as_chunks::<8>();
    let mut found = 0;
    for bytes in eights {
        let word = u64::from_le_bytes(*bytes);
        found |= swar::controls(word) | (word & 0x8080_8080_8080_8080);
    }
    found != 0 || rest.iter().any(|byte| *byte < 0x20 || *byte >= 0x80)
}

impl Names {
    /// The names of elements, of which only these columns are wanted.
    pub(super) fn of(columns: &[String]) -> Self {
        let all = columns.iter().flat_map(|column| without_numbers(column));
        Self {
            only: Some(all.collect()),
            ids: columns.iter().flat_map(|column| ids_of(column)).collect(),
            ..Self::default()
        }
    }

    /// All names but those of totals that are before the records, and of the counts and control
    /// numbers that close a message: those are mended, and state nothing of their own.
    pub(super) fn without_totals(totals: HashSet<String>) -> Self {
        Self {
            totals,
            counts: ["SE01", "SE02", "UNT01", "UNT02"].map(str::to_owned).into(),
            ..Self::default()
        }
    }

    /// All names, with this before those of segments.
    pub(super) fn prefixed(prefix: &'static str) -> Self {
        Self {
            prefix,
            ..Self::default()
        }
    }

    /// The names of segments of which an element may be wanted, if not all are.
    pub(super) fn ids(&self) -> Option<&HashSet<String>> {
        self.only.is_some().then_some(&self.ids)
    }

    /// Whether an element of a segment may be wanted.
    pub(super) fn wants(&self, id: &[u8]) -> bool {
        let wanted = |ids: &HashSet<String>| ids.iter().any(|known| is_called(id, known));
        self.ids().is_none_or(wanted)
    }

    /// The number of the last element that is wanted of segments of a name, with its qualifier.
    fn most(&self, name: &str) -> usize {
        let Some(only) = &self.only else {
            return usize::MAX;
        };
        let element = |column: &String| {
            let rest = column.strip_prefix(name)?;
            let digits = rest.bytes().take_while(u8::is_ascii_digit).count();
            rest[..digits].parse().ok()
        };
        only.iter().filter_map(element).max().unwrap_or(0)
    }

    /// The number of the names of a segment.
    fn number(&mut self, raw: &[u8], marks: &Marks, qualified: bool, paths: &mut Paths) -> usize {
        let id = id_of(raw, marks);
        self.key.clear();
        self.key.extend(id.iter().map(u8::to_ascii_uppercase));
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
        if let Some(number) = self.by_name.get(&self.key) {
            return *number as usize;
        }
        let name = String::from_utf8_lossy(&self.key).into_owned();
        let number = self.segments.len();
        self.segments.push(SegmentNames {
            path: paths.child(ROOT, &format!("{}{name}", self.prefix)),
            most: self.most(&name),
            elements: Vec::new(),
            name,
        });
        self.by_name.insert(self.key.clone(), to_u32(number));
        number
    }

    /// Adds what is wanted of a segment that is at `place` in its record; that may be none of the record.
    pub(super) fn find(
        &mut self,
        raw: &[u8],
        place: Option<usize>,
        (marks, qualified): (&Marks, bool),
        paths: &mut Paths,
        found: &mut Found,
    ) {
        let number = if qualified {
            self.number(raw, marks, true, paths)
        } else {
            let key = key_of(raw, marks);
            match self.plain.get(key) {
                Some(number) => number as usize,
                None => {
                    let number = self.number(raw, marks, false, paths);
                    self.plain.put(key, to_u32(number));
                    number
                }
            }
        };
        let SegmentNames {
            name,
            path,
            most,
            elements,
        } = &mut self.segments[number];
        if *most == 0 {
            return;
        }
        let (only, totals, counts) = (&self.only, &self.totals, &self.counts);
        let total_paths = &mut self.total_paths;
        found.paths.push(*path | SEGMENT);
        each_component(raw, marks, *most, &mut |element, component, part| {
            let value = part.of(raw);
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
                let column = format!("{name}{element}");
                let named = only.as_ref().is_none_or(|only| only.contains(&column));
                let wanted = named && !counts.contains(&column);
                *own = if wanted {
                    Element::Wanted(paths.child(*path, &element))
                } else {
                    Element::Unwanted
                };
                if let (Element::Wanted(own), true) = (*own, totals.contains(&column)) {
                    total_paths.push(own);
                }
            }
            let Element::Wanted(own) = *own else {
                return;
            };
            if place.is_none() && total_paths.contains(&own) {
                return;
            }
            found.paths.push(own);
            let stands = match (&part, place) {
                (Part::Stands(from, _), Some(place)) => Some(place + from),
                _ => None,
            };
            let hard = is_hard(value);
            found.hard |= hard;
            let is_text = !hard || std::str::from_utf8(value).is_ok();
            if let Some(from) = stands.filter(|_| is_text) {
                let to = from + value.len();
                found.values.push((to_u32(from), to_u32(to)));
                return;
            }
            let from = to_u32(found.made.len()) | MADE;
            if is_text {
                found.made.extend_from_slice(value);
            } else {
                found.made.extend_from_slice(text(value).as_bytes());
            }
            let to = to_u32(found.made.len()) | MADE;
            found.values.push((from, to));
        });
    }
}

/// What the segment may be called that a column is of.
fn ids_of(column: &str) -> Vec<String> {
    let (before, element) = match column.split_once(['[', '-']) {
        Some((id, rest)) if column[id.len()..].starts_with('[') => (id, rest),
        Some((before, _)) => (before, ""),
        None => (column, ""),
    };
    if !element.is_empty() {
        // What is in brackets may be a number or a qualifier, so the element is after them.
        return vec![before.to_owned()];
    }
    let digits = before.bytes().rev().take_while(u8::is_ascii_digit).count();
    // Elements have two digits, or more from the hundredth on.
    (2..=digits.min(4))
        .map(|digits| before[..before.len() - digits].to_owned())
        .filter(|id| !id.is_empty())
        .collect()
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
    fn columns_say_what_their_segments_may_be() {
        for (column, ids) in [
            ("CLP04", &["CLP"][..]),
            ("SVC01-2", &["SVC"]),
            ("N104", &["N1", "N"]),
            ("NM1[QC][2]09", &["NM1"]),
            ("ZZ1100", &["ZZ11", "ZZ1", "ZZ"]),
            ("2026", &["20", "2"]),
            ("quay", &[]),
            ("01", &[]),
        ] {
            assert_eq!(ids_of(column), ids, "{column}");
        }
    }

    #[test]
    fn segments_of_which_nothing_is_wanted_are_passed_over() {
        let names = Names::of(&["SVC[2]02".to_owned(), "RMR01".to_owned()]);
        assert!(names.wants(b"SVC") && names.wants(b"rmr") && !names.wants(b"CLP"));
        assert_eq!((names.most("SVC"), names.most("RMR")), (2, 1));
        assert_eq!((names.most("CLP"), names.most("S")), (0, 0));
        assert!(Names::default().wants(b"CLP") && Names::default().most("CLP") > 1000);
    }
}
