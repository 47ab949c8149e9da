//! Layouts: what the records of a message are, and which of its values are counts and totals.

use std::borrow::Cow;
use std::collections::HashSet;
use std::sync::Arc;

use serde::Deserialize;

use super::marks::{Marks, Standard};
use super::segments::{Segment, id_of, value_of};
use super::slots::is_called;

/// The layouts that are shipped.
const SHIPPED: [&str; 3] = [
    include_str!("layouts/x12-835.toml"),
    include_str!("layouts/x12-820.toml"),
    include_str!("layouts/edifact-remadv.toml"),
];

/// The segment of X12 that is a level of a hierarchy.
const LEVELS: &str = "HL";

/// What a kind of message is made of.
#[derive(Clone, Debug, PartialEq, Eq, Deserialize)]
#[serde(deny_unknown_fields)]
pub(crate) struct Layout {
    /// What it is called.
    pub(super) name: String,
    pub(super) standard: Standard,
    /// The kind of message: ST01 or the first component of UNH02.
    pub(super) message: String,
    /// The segment that opens a record.
    pub(super) record: String,
    /// Segments that open a loop around records.
    #[serde(default)]
    pub(super) loops: Vec<String>,
    /// The segment of those that says in its first element what the loop is called, and in its second which
    /// loop it is in; `HL` in X12 if not said.
    #[serde(default)]
    pub(super) hierarchy: Option<String>,
    /// Segments that the part after the records begins with, besides the one that ends the message.
    #[serde(default)]
    pub(super) tail: Vec<String>,
    /// Segments that are distinguished by their first component.
    #[serde(default)]
    pub(super) qualified: Vec<String>,
    /// Segments before the records whose elements are columns of each record.
    #[serde(default)]
    pub(super) head: Vec<String>,
    /// What must agree.
    #[serde(default)]
    pub(super) balance: Option<Balance>,
    /// Elements that count the records.
    #[serde(default)]
    pub(super) count: Vec<Count>,
}

/// A total, and what it is made up of.
#[derive(Clone, Debug, PartialEq, Eq, Deserialize)]
#[serde(deny_unknown_fields)]
pub(super) struct Balance {
    /// Where the total is, before or after the records.
    pub(super) total: Address,
    /// What of each record it sums up.
    pub(super) records: Address,
    /// What is taken from that sum, after the records; the segments go with records that go.
    #[serde(default)]
    pub(super) adjustments: Vec<Address>,
}

/// An element that counts the records.
#[derive(Clone, Debug, PartialEq, Eq, Deserialize)]
#[serde(deny_unknown_fields)]
pub(super) struct Count {
    pub(super) at: Address,
}

/// An element or component in the trade's notation: `CLP04`, `SVC01-2`, `MOA[12]01-2`.
#[derive(Clone, Debug, PartialEq, Eq, Deserialize)]
#[serde(try_from = "String")]
pub(super) struct Address {
    pub(super) segment: String,
    qualifier: Option<String>,
    pub(super) element: usize,
    pub(super) component: usize,
}

impl TryFrom<String> for Address {
    type Error = String;

    fn try_from(text: String) -> Result<Self, String> {
        let wrong = || format!("'{text}' is not an element such as CLP04, SVC01-2 or MOA[12]01-2");
        let (before, component) = match text.split_once('-') {
            Some((before, component)) => (before, component.parse().map_err(|_| wrong())?),
            None => (text.as_str(), 1),
        };
        let place = before
            .len()
            .checked_sub(2)
            .filter(|place| before.is_char_boundary(*place))
            .ok_or_else(wrong)?;
        let (name, element) = before.split_at(place);
        let element = element.parse().map_err(|_| wrong())?;
        let (segment, qualifier) =
            match name.strip_suffix(']').and_then(|name| name.split_once('[')) {
                Some((segment, qualifier)) => (segment, Some(qualifier.to_owned())),
                None => (name, None),
            };
        let is_name =
            !segment.is_empty() && segment.bytes().all(|byte| byte.is_ascii_alphanumeric());
        if is_name && element > 0 && component > 0 {
            Ok(Self {
                segment: segment.to_ascii_uppercase(),
                qualifier,
                element,
                component,
            })
        } else {
            Err(wrong())
        }
    }
}

/// Whether a name is the address of an element, whichever of several it is in: `SVC02`, `SVC[2]02`,
/// `NM1[QC][2]09`, `SVC01-2`, `SVC02[3]`.
pub(crate) fn is_address(name: &str) -> bool {
    let is_number = |text: &str| text.bytes().all(|byte| byte.is_ascii_digit());
    let name = match name
        .strip_suffix(']')
        .and_then(|rest| rest.rsplit_once('['))
    {
        Some((rest, number)) if is_number(number) => rest,
        _ => name,
    };
    Address::try_from(name.to_owned()).is_ok_and(|address| {
        let tag = address.segment;
        let is_tag = tag.starts_with(|first: char| first.is_ascii_uppercase());
        is_tag && (2..=3).contains(&tag.len()) && name.starts_with(&tag)
    })
}

impl Address {
    /// The column that it is.
    fn column(&self) -> String {
        let mut name = self.segment.clone();
        if let Some(qualifier) = &self.qualifier {
            name.push_str(&format!("[{qualifier}]"));
        }
        name.push_str(&format!("{:02}", self.element));
        if self.component > 1 {
            name.push_str(&format!("-{}", self.component));
        }
        name
    }

    /// Whether it is in a segment.
    pub(super) fn is_in(&self, segment: &Segment) -> bool {
        let qualified = self.qualifier.as_ref();
        self.segment == segment.id && qualified.is_none_or(|wanted| wanted == segment.qualifier())
    }

    /// Whether it is in a segment of this name, with whatever qualifier.
    pub(super) fn is_in_any(&self, id: &[u8]) -> bool {
        is_called(id, &self.segment)
    }

    /// Its value in a segment verbatim, if it is in that.
    pub(super) fn value_in<'r>(&self, raw: &'r [u8], marks: &Marks) -> Option<Cow<'r, str>> {
        let qualified = self.qualifier.as_ref();
        let is_in = self.is_in_any(id_of(raw, marks))
            && qualified.is_none_or(|wanted| *wanted == value_of(raw, marks, 1, 1));
        is_in.then(|| value_of(raw, marks, self.element, self.component))
    }

    /// Its value in a segment, if it is in that.
    pub(super) fn value<'s>(&self, segment: &'s Segment) -> Option<&'s str> {
        self.is_in(segment)
            .then(|| segment.value(self.element, self.component))
    }
}

/// All layouts: those of files, then those that are shipped.
#[derive(Clone, Debug)]
pub(crate) struct Layouts(Vec<Arc<Layout>>);

impl Layout {
    /// The number of the loop that a segment opens, and what a hierarchy calls it and the loop that it is in.
    pub(super) fn loop_of(&self, raw: &[u8], marks: &Marks) -> (usize, (String, String)) {
        let id = id_of(raw, marks);
        let level = self.loops.iter().position(|known| is_called(id, known));
        let is_level = self
            .hierarchy
            .as_ref()
            .is_some_and(|known| is_called(id, known));
        let value = |element| {
            if is_level {
                value_of(raw, marks, element, 1).into_owned()
            } else {
                String::new()
            }
        };
        (level.unwrap_or(0), (value(1), value(2)))
    }
}

impl Layouts {
    /// The layouts of these texts before those that are shipped.
    ///
    /// # Errors
    ///
    /// The number of the text that is none, and why.
    pub(crate) fn read(texts: &[String]) -> Result<Self, (usize, String)> {
        let own = texts.iter().map(String::as_str);
        let mut layouts = Vec::new();
        for (number, text) in own.chain(SHIPPED).enumerate() {
            let mut layout: Layout =
                toml::from_str(text).map_err(|error| (number, error.to_string()))?;
            let lists = [
                &mut layout.loops,
                &mut layout.tail,
                &mut layout.qualified,
                &mut layout.head,
            ];
            let names = lists.into_iter().flatten();
            let hierarchy = layout.hierarchy.as_mut();
            for name in names.chain([&mut layout.record]).chain(hierarchy) {
                name.make_ascii_uppercase();
            }
            if let Some(hierarchy) = &layout.hierarchy
                && !layout.loops.contains(hierarchy)
            {
                let what = format!("hierarchy '{hierarchy}' is not one of its loops");
                return Err((number, what));
            }
            let has_levels = layout.standard == Standard::X12 && layout.hierarchy.is_none();
            if has_levels && layout.loops.iter().any(|name| name == LEVELS) {
                layout.hierarchy = Some(LEVELS.to_owned());
            }
            layouts.push(Arc::new(layout));
        }
        Ok(Self(layouts))
    }

    /// The columns that the totals of messages are, and the numbers of their records.
    pub(super) fn totals(&self) -> HashSet<String> {
        let of = |layout: &Arc<Layout>| {
            let total = layout.balance.iter().map(|balance| balance.total.column());
            let counts = layout.count.iter().map(|count| count.at.column());
            total.chain(counts).collect::<Vec<_>>()
        };
        self.0.iter().flat_map(of).collect()
    }

    /// The layout of a kind of message.
    pub(super) fn of(&self, standard: Standard, message: &str) -> Option<&Arc<Layout>> {
        let fits = |layout: &&Arc<Layout>| layout.standard == standard && layout.message == message;
        self.0.iter().find(fits)
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn the_shipped_layouts_are_read() {
        let layouts = Layouts::read(&[]).expect("layouts");
        for (standard, message, record) in [
            (Standard::X12, "835", "CLP"),
            (Standard::X12, "820", "RMR"),
            (Standard::Edifact, "REMADV", "DOC"),
        ] {
            assert_eq!(layouts.of(standard, message).expect(message).record, record);
        }
        let own = "name = 'Own'\nstandard = 'x12'\nmessage = '835'\nrecord = 'SVC'".to_owned();
        let layouts = Layouts::read(&[own]).expect("layouts");
        assert_eq!(
            layouts.of(Standard::X12, "835").expect("a layout").record,
            "SVC"
        );
        let (number, error) =
            Layouts::read(&["name = 'x'\nrecords = 'CLP'".to_owned()]).expect_err("wrong");
        assert!(number == 0 && error.contains("records"), "{error}");
    }

    #[test]
    fn addresses_are_those_of_the_trade() {
        let address = |text: &str| Address::try_from(text.to_owned());
        let found = address("MOA[12]01-2").expect("an address");
        assert_eq!(
            (
                found.segment.as_str(),
                found.qualifier.as_deref(),
                found.element,
                found.component
            ),
            ("MOA", Some("12"), 1, 2)
        );
        assert_eq!(address("CLP04").expect("an address").component, 1);
        for known in [
            "CLP04",
            "SVC01-2",
            "SVC[2]02",
            "NM1[QC][2]09",
            "SVC02[3]",
            "N102",
        ] {
            assert!(is_address(known), "{known}");
        }
        for other in [
            "tonnes", "clp04", "CLAIM04", "WHERE", "208", "UPPER", "é02", "A02",
        ] {
            assert!(!is_address(other), "{other}");
        }
        for wrong in ["CLP", "04", "CLP00", "CLP04-0", "CLP04-x", "C L04", ""] {
            assert!(address(wrong).is_err(), "{wrong}");
        }
    }
}
