//! Where the records of a document are: a JSONPath after RFC 9535, followed while the document is
//! read.
//!
//! Nothing of a document is kept but the way to where the reader is, so what counts from the end of a
//! list cannot be followed, and a filter is held against one value at a time.

use serde_json::Value;
use serde_json_path::JsonPath;

/// The steps from the document to its records.
#[derive(Clone, Debug)]
pub(super) struct Selector {
    segments: Vec<Segment>,
}

#[derive(Clone, Debug)]
struct Segment {
    /// At any depth.
    descends: bool,
    picks: Vec<Pick>,
}

#[derive(Clone, Debug)]
enum Pick {
    Name(String),
    All,
    Range {
        from: u64,
        to: u64,
        step: u64,
    },
    /// A path that selects from a list of the value alone.
    Filter(Box<JsonPath>),
}

/// Which segments the children of a container are held against: a bit for each.
pub(super) type States = u64;

/// How a value is reached from its container.
#[derive(Clone, Copy, Debug)]
pub(super) enum Reached<'a> {
    Name(&'a str),
    Index(u64),
}

impl Selector {
    /// Reads a JSONPath.
    pub(super) fn new(path: &str) -> Result<Self, String> {
        if !path.starts_with('$') {
            return Err("it must begin with $".to_owned());
        }
        JsonPath::parse(path).map_err(|error| error.to_string())?;
        let mut segments = Vec::new();
        let mut rest = path.strip_prefix('$').unwrap_or(path).trim_start();
        while !rest.is_empty() {
            let descends = rest.starts_with("..");
            rest = rest.strip_prefix("..").unwrap_or(rest);
            if !descends {
                rest = rest.strip_prefix('.').unwrap_or(rest);
            }
            let picks = if let Some(inside) = rest.strip_prefix('[') {
                let end = closing(inside);
                let picks = picks(&inside[..end])?;
                rest = &inside[end + 1..];
                picks
            } else {
                let end = rest.find(['.', '[', ' ', '\t', '\n', '\r']);
                let (name, behind) = rest.split_at(end.unwrap_or(rest.len()));
                rest = behind;
                vec![match name {
                    "*" => Pick::All,
                    name => Pick::Name(name.to_owned()),
                }]
            };
            rest = rest.trim_start();
            let filters = picks.iter().any(|pick| matches!(pick, Pick::Filter(_)));
            if filters && (descends || !rest.is_empty()) {
                return Err(
                    "a filter is possible only in the last brackets, and not after '..'".to_owned(),
                );
            }
            segments.push(Segment { descends, picks });
        }
        if segments.len() > 60 {
            return Err("more than 60 steps".to_owned());
        }
        Ok(Self { segments })
    }

    /// The states for what is not in anything.
    pub(super) fn start(&self) -> States {
        1
    }

    /// Whether the document itself is the record.
    pub(super) fn is_document(&self) -> bool {
        self.segments.is_empty()
    }

    /// Whether all items of a list whose children have these states are records.
    pub(super) fn takes_all(&self, states: States) -> bool {
        let last = self.segments.len() - 1;
        states == 1 << last
            && !self.segments[last].descends
            && matches!(self.segments[last].picks[..], [Pick::All])
    }

    /// The states of a value from those of its container.
    pub(super) fn step(&self, states: States, reached: Reached<'_>) -> States {
        let mut next = 0;
        for (place, segment) in self.segments.iter().enumerate() {
            if states & (1 << place) == 0 {
                continue;
            }
            if segment.descends {
                next |= 1 << place;
            }
            if segment.picks.iter().any(|pick| pick.takes(reached)) {
                next |= 1 << (place + 1);
            }
        }
        next
    }

    /// Whether a value with these states is a record, but for what a filter says.
    pub(super) fn selects(&self, states: States) -> bool {
        states & (1 << self.segments.len()) != 0
    }

    /// Whether the records may be all members of an object, whatever their names.
    pub(super) fn takes_any_name(&self) -> bool {
        let picks = self.segments.last().map(|segment| &segment.picks[..]);
        matches!(picks, Some([Pick::All | Pick::Filter(_)]))
    }

    /// Whether the records have to pass a filter.
    pub(super) fn filters(&self) -> bool {
        let picks = self.segments.last().map(|segment| &segment.picks[..]);
        matches!(picks, Some([Pick::Filter(_)]))
    }

    /// Whether a record passes the filter, if there is one.
    pub(super) fn passes(&self, record: &str) -> bool {
        let Some(Pick::Filter(filter)) = self
            .segments
            .last()
            .and_then(|segment| segment.picks.first())
        else {
            return true;
        };
        let value: Value = serde_json::from_str(record).unwrap_or_default();
        !filter.query(&Value::Array(vec![value])).is_empty()
    }
}

impl Pick {
    fn takes(&self, reached: Reached<'_>) -> bool {
        match (self, reached) {
            (Self::All | Self::Filter(_), _) => true,
            (Self::Name(name), Reached::Name(found)) => name == found,
            (Self::Range { from, to, step }, Reached::Index(index)) => {
                (*from..*to).contains(&index) && (index - from).is_multiple_of(*step)
            }
            _ => false,
        }
    }
}

/// Where the bracket closes that is open before `inside`.
fn closing(inside: &str) -> usize {
    let mut depth = 0;
    let mut quote = None;
    let mut escaped = false;
    for (at, byte) in inside.bytes().enumerate() {
        match (quote, byte) {
            _ if escaped => escaped = false,
            (Some(_), b'\\') => escaped = true,
            (Some(open), byte) if open == byte => quote = None,
            (Some(_), _) => {}
            (None, b'\'' | b'"') => quote = Some(byte),
            (None, b'[' | b'(') => depth += 1,
            (None, b']') if depth == 0 => return at,
            (None, b']' | b')') => depth -= 1,
            _ => {}
        }
    }
    inside.len() - 1
}

/// The selectors between two brackets.
fn picks(inside: &str) -> Result<Vec<Pick>, String> {
    let mut picks = Vec::new();
    let mut rest = inside.trim();
    if rest.starts_with('?') {
        let path = format!("$[{inside}]");
        let path = JsonPath::parse(&path).map_err(|error| error.to_string())?;
        return Ok(vec![Pick::Filter(Box::new(path))]);
    }
    while !rest.is_empty() {
        let behind;
        if let Some(quote @ ('\'' | '"')) = rest.chars().next() {
            let (name, length) = quoted(&rest[1..], quote);
            picks.push(Pick::Name(name));
            behind = &rest[length + 1..];
        } else {
            let end = rest.find(',').unwrap_or(rest.len());
            picks.push(number(rest[..end].trim())?);
            behind = &rest[end..];
        }
        rest = behind.trim_start().trim_start_matches(',').trim_start();
    }
    Ok(picks)
}

/// A name in quotes, and how many bytes it takes with the closing one.
fn quoted(text: &str, quote: char) -> (String, usize) {
    let mut end = 0;
    let mut escaped = false;
    for (at, character) in text.char_indices() {
        if escaped {
            escaped = false;
        } else if character == '\\' {
            escaped = true;
        } else if character == quote {
            end = at;
            break;
        }
    }
    // The other quote may stand without a backslash, and this one with one, as nowhere in JSON.
    let inside = text[..end].replace("\\'", "'").replace('"', "\\\"");
    let inside = inside.replace("\\\\\"", "\\\"");
    let name = serde_json::from_str(&format!("\"{inside}\""));
    (name.unwrap_or(inside), end + 1)
}

fn number(text: &str) -> Result<Pick, String> {
    if text == "*" {
        return Ok(Pick::All);
    }
    if text.starts_with('?') {
        return Err("a filter needs brackets of its own".to_owned());
    }
    let numbers: Vec<Option<i64>> = text
        .split(':')
        .map(|part| part.trim().parse().ok())
        .collect();
    if numbers.iter().flatten().any(|number| *number < 0) {
        return Err(
            "a number that counts from the end, which is not known while the document is read"
                .to_owned(),
        );
    }
    let number = |place: usize| {
        let number = numbers.get(place).copied().flatten();
        number.and_then(|number| u64::try_from(number).ok())
    };
    let from = number(0).unwrap_or(0);
    Ok(match numbers.len() {
        1 => Pick::Range {
            from,
            to: from + 1,
            step: 1,
        },
        _ => Pick::Range {
            from,
            to: match number(2) {
                Some(0) => from,
                _ => number(1).unwrap_or(u64::MAX),
            },
            step: number(2).unwrap_or(1).max(1),
        },
    })
}

/// Appends the step to a member to a path.
pub(super) fn push_member(name: &str, path: &mut String) {
    let plain = |byte: u8| byte.is_ascii_alphanumeric() || byte == b'_';
    let starts = name
        .bytes()
        .next()
        .is_some_and(|byte| !byte.is_ascii_digit());
    if starts && name.bytes().all(plain) {
        path.push('.');
        path.push_str(name);
        return;
    }
    let text = serde_json::to_string(name).unwrap_or_default();
    path.push('[');
    path.push_str(&text);
    path.push(']');
}

#[cfg(test)]
mod tests {
    use super::*;

    /// The places of a document that a path selects, as JSONPaths with names and numbers.
    fn selected(path: &str, value: &Value) -> Vec<String> {
        fn walk(
            selector: &Selector,
            states: States,
            value: &Value,
            here: &str,
            found: &mut Vec<String>,
        ) {
            if selector.selects(states) && selector.passes(&value.to_string()) {
                found.push(here.to_owned());
                return;
            }
            match value {
                Value::Array(items) => {
                    for (index, item) in items.iter().enumerate() {
                        let next = selector.step(states, Reached::Index(index as u64));
                        walk(selector, next, item, &format!("{here}[{index}]"), found);
                    }
                }
                Value::Object(members) => {
                    for (name, member) in members {
                        let next = selector.step(states, Reached::Name(name));
                        walk(selector, next, member, &format!("{here}['{name}']"), found);
                    }
                }
                _ => {}
            }
        }
        let selector = Selector::new(path).expect(path);
        let mut found = Vec::new();
        walk(&selector, selector.start(), value, "$", &mut found);
        found
    }

    #[test]
    fn paths_select_what_the_standard_says() {
        let text = r#"{"port":"Varnholm","quays":[{"name":"North","calls":[{"id":1},{"id":2},{"id":3}]},
            {"name":"South","calls":[{"id":4}]}],"a b":{"x'y\"z":[5,6]},"7":{"id":8}}"#;
        let value: Value = serde_json::from_str(text).expect("a document");
        for path in [
            "$",
            "$.port",
            "$.quays[*]",
            "$.quays[*].calls[*]",
            "$['quays'][0]['calls'][1:3]",
            "$.quays[0].calls[::2]",
            "$.quays[0,1]",
            "$..calls[*]",
            "$..calls",
            "$..id",
            "$[\"a b\"][*]",
            "$['a b']['x\\'y\"z'][1]",
            "$['7']",
            "$.quays[0].calls[?@.id > 1]",
            "$.quays[?@.name == 'South']",
            "$.*",
            "$.quays[*]['name', \"calls\"]",
        ] {
            let standard = JsonPath::parse(path).expect(path);
            let located = standard.query_located(&value);
            let mut wanted: Vec<String> = located.locations().map(ToString::to_string).collect();
            wanted.sort();
            let mut found = selected(path, &value);
            found.sort();
            assert_eq!(found, wanted, "{path}");
        }
        for path in ["calls", "$.a[", "$.a[-1]", "$..[?@.id]", "$.a[?@.x].b"] {
            assert!(Selector::new(path).is_err(), "{path}");
        }
    }
}
