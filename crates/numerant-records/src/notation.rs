//! The trade's notation for what is in a record: `LDR`, `001`, `245$a`, `650[2]$a`, and `245#1` for an
//! indicator. The first of several needs no number, so `650$a` is the first of the first field.

use std::borrow::Cow;

use super::record::{Content, Field, Record};
use numerant_data::tree::{Kind, Paths, ROOT, Tree};

const LEADER: &str = "LDR";

/// Characters of a field of one text or of the leader, as `008/35-37` names them: counted from 0, the last
/// among them.
#[derive(Clone, Debug, PartialEq, Eq)]
pub(super) struct Slice {
    name: String,
    of: String,
    first: usize,
    last: usize,
}

impl Slice {
    pub(super) fn parse(name: &str) -> Option<Self> {
        let (of, places) = name.split_once('/')?;
        let is_text = of == LEADER || (of.len() == 3 && of.starts_with("00"));
        let (first, last) = places.split_once('-').unwrap_or((places, places));
        let (first, last) = (first.parse().ok()?, last.parse().ok()?);
        (is_text && first <= last).then(|| Self {
            name: name.to_owned(),
            of: of.to_owned(),
            first,
            last,
        })
    }

    /// Whether they are of the field with this tag.
    pub(super) fn is_of(&self, tag: &str) -> bool {
        self.of == tag
    }

    /// The characters, if the text has them all.
    fn of(&self, text: &str) -> Option<String> {
        let part: String = text
            .chars()
            .skip(self.first)
            .take(self.last - self.first + 1)
            .collect();
        (part.chars().count() == self.last - self.first + 1).then_some(part)
    }
}

/// Whether a name says where in a record something stands.
pub(crate) fn is_address(name: &str) -> bool {
    Address::parse(name).is_some() || Slice::parse(name).is_some()
}

/// Fields of which any column is wanted.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub(super) struct Wanted(Option<Vec<Tag>>);

impl Wanted {
    /// The fields of these columns.
    pub(super) fn of(columns: &[String]) -> Self {
        let tag = |column: &String| column.get(..3).and_then(Tag::of);
        let mut tags: Vec<Tag> = columns.iter().filter_map(tag).collect();
        tags.sort_unstable();
        tags.dedup();
        Self(Some(tags))
    }

    #[inline]
    pub(super) fn has(&self, tag: &str) -> bool {
        let tag = Tag::of(tag);
        let wanted = |tags: &Vec<Tag>| tag.is_some_and(|tag| tags.binary_search(&tag).is_ok());
        self.0.as_ref().is_none_or(wanted)
    }
}

/// Makes a tree of a record: the fields and the slices of its texts that are wanted.
pub(super) fn push_tree(
    record: &Record<'_>,
    wanted: &Wanted,
    slices: &[Slice],
    tree: &mut Tree,
    paths: &mut Paths,
) {
    tree.clear();
    let root = tree.open(ROOT, Kind::Object);
    let value =
        |tree: &mut Tree, path: u32, text: &str| tree.push(path, Kind::Text, text.as_bytes());
    let leader = paths.child(ROOT, LEADER);
    value(tree, leader, &record.leader);
    let first = |tag: &str| {
        let field = record.fields.iter().find(|field| field.tag == tag);
        match field.map(|field| &field.content) {
            Some(Content::Control(text)) => Some(text.as_ref()),
            _ => None,
        }
    };
    for slice in slices {
        let text = if slice.of == LEADER {
            Some(record.leader.as_ref())
        } else {
            first(&slice.of)
        };
        if let Some(part) = text.and_then(|text| slice.of(text)) {
            let path = paths.child(ROOT, &slice.name);
            value(tree, path, &part);
        }
    }
    for field in record.fields.iter().filter(|field| wanted.has(&field.tag)) {
        let path = paths.child(ROOT, &field.tag);
        match &field.content {
            Content::Control(text) => value(tree, path, text),
            Content::Data {
                indicators,
                subfields,
            } => {
                let node = tree.open(path, Kind::Object);
                for (number, indicator) in indicators.iter().enumerate() {
                    if *indicator != ' ' {
                        let path = paths.child(path, if number == 0 { "#1" } else { "#2" });
                        value(tree, path, indicator.encode_utf8(&mut [0; 4]));
                    }
                }
                for (code, text) in subfields {
                    let path = paths.child(path, &format!("${code}"));
                    value(tree, path, text);
                }
                tree.close(node);
            }
        }
    }
    tree.close(root);
}

/// What a column represents.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash)]
pub(super) enum Address {
    Leader,
    /// A field of one text, and which of its tag, from 1.
    Control(Tag, usize),
    /// An indicator, 0 or 1.
    Indicator(Tag, usize, usize),
    /// A subfield, and which of its code in the field, from 1.
    Subfield(Tag, usize, char, usize),
}

/// The tag of a field: three bytes.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord, Hash)]
pub(super) struct Tag([u8; 3]);

impl Tag {
    pub(super) fn of(text: &str) -> Option<Self> {
        text.as_bytes().try_into().ok().map(Self)
    }

    fn to_text(self) -> String {
        String::from_utf8_lossy(&self.0).into_owned()
    }
}

impl Address {
    pub(super) fn parse(name: &str) -> Option<Self> {
        if name == LEADER {
            return Some(Self::Leader);
        }
        let tag = name
            .get(..3)
            .filter(|tag| tag.bytes().all(|byte| byte.is_ascii_alphanumeric()))?;
        let (field, rest) = numbered(&name[3..])?;
        let is_control = tag.starts_with("00");
        let tag = Tag::of(tag)?;
        if rest.is_empty() {
            return is_control.then_some(Self::Control(tag, field));
        }
        if let Some(number) = rest.strip_prefix('#') {
            let place = match number {
                "1" => 0,
                "2" => 1,
                _ => return None,
            };
            return Some(Self::Indicator(tag, field, place));
        }
        let mut signs = rest.strip_prefix('$')?.chars();
        let code = signs.next()?;
        let (subfield, rest) = numbered(signs.as_str())?;
        rest.is_empty()
            .then_some(Self::Subfield(tag, field, code, subfield))
    }

    /// The tag of its field, and which of that it is, from 1.
    pub(super) fn field(self) -> Option<(Tag, usize)> {
        match self {
            Self::Leader => None,
            Self::Control(tag, number)
            | Self::Indicator(tag, number, _)
            | Self::Subfield(tag, number, ..) => Some((tag, number)),
        }
    }

    /// A field for it, with nothing in it.
    pub(super) fn empty_field(self) -> Field<'static> {
        let content = match self {
            Self::Leader | Self::Control(..) => Content::Control(Cow::default()),
            Self::Indicator(..) | Self::Subfield(..) => Content::Data {
                indicators: [' '; 2],
                subfields: Vec::new(),
            },
        };
        let tag = self.field().map(|(tag, _)| tag.to_text());
        Field {
            tag: tag.unwrap_or_default().into(),
            content,
        }
    }

    /// Puts a value into its field.
    pub(super) fn fill(self, value: &str, content: &mut Content<'_>) {
        match (self, content) {
            (Self::Control(..), Content::Control(text)) => *text = value.to_owned().into(),
            (Self::Indicator(_, _, place), Content::Data { indicators, .. }) => {
                indicators[place] = value.chars().next().unwrap_or(' ');
            }
            (Self::Subfield(_, _, code, _), Content::Data { subfields, .. }) => {
                subfields.push((code, value.to_owned().into()));
            }
            _ => {}
        }
    }
}

/// The number in brackets that a text begins with, or 1, and what is after.
fn numbered(text: &str) -> Option<(usize, &str)> {
    match text.strip_prefix('[') {
        None => Some((1, text)),
        Some(inside) => {
            let (number, rest) = inside.split_once(']')?;
            let number: usize = number.parse().ok().filter(|number| *number > 0)?;
            Some((number, rest))
        }
    }
}

#[cfg(test)]
mod tests {
    use super::super::encode::RecordPlan;
    use super::super::record::tests::chart;
    use super::*;

    #[test]
    fn characters_of_a_text_are_counted_from_nought() {
        let slice = |name: &str, text: &str| Slice::parse(name).and_then(|slice| slice.of(text));
        assert_eq!(slice("008/2-4", "abcdef").as_deref(), Some("cde"));
        assert_eq!(slice("LDR/0", "abc").as_deref(), Some("a"));
        assert_eq!(slice("008/2-4", "abcd"), None);
        assert_eq!(
            (Slice::parse("245/1"), Slice::parse("008/4-2")),
            (None, None)
        );
    }

    #[test]
    fn columns_are_called_as_the_trade_does() {
        for (path, name) in [
            ("LDR", "LDR"),
            ("001", "001"),
            ("\\245.$a", "245$a"),
            ("\\650.1.$a", "650$a"),
            ("\\650.2.$a.3", "650[2]$a[3]"),
            ("\\245.#1", "245#1"),
        ] {
            assert_eq!(numerant_data::tree::address_name(path), name);
            assert!(Address::parse(name).is_some(), "{name}");
        }
        for name in [
            "245", "24$a", "245$", "245#3", "245[0]$a", "quay", "245$ab", "0011",
        ] {
            assert_eq!(Address::parse(name), None, "{name}");
        }
        let names_and_values = [
            ("LDR", "00000nem a2200000 a 4500"),
            ("001", "VH004"),
            ("245#1", "1"),
            ("245#2", "0"),
            ("245$a", "Skärvsund & <Eider>"),
            ("245$b", "Blatt 1"),
            ("650#2", "0"),
            ("650$a", "Harbours"),
            ("650$z", "Varnholm"),
            ("650[2]#2", "0"),
            ("650[2]$a", "Fairways"),
        ];
        let columns = names_and_values.map(|(name, _)| Address::parse(name).expect(name));
        let made = RecordPlan::new(columns).record(|place| names_and_values[place].1.to_owned());
        assert_eq!(made, chart());
    }
}
