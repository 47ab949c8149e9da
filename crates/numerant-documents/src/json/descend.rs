//! Makes a tree of the text of a record, which is known to be well-formed.

use numerant_data::narrow::to_u32;
use std::borrow::Cow;

use numerant_data::tree::{Kind, Paths, ROOT, Tree};

/// What is wrong with a record, at a byte of its text.
pub(super) enum Wrong {
    /// It is nested too deep.
    Deep(usize),
    /// A text has an escape that represents no character.
    Escape(usize, String),
}

/// Makes a tree of a record, and takes note of where its values are in the text.
pub(super) fn descend(
    text: &str,
    tree: &mut Tree,
    paths: &mut Paths,
    most_depth: usize,
    spans: &mut Vec<(u32, u32)>,
) -> Result<(), Wrong> {
    tree.clear();
    spans.clear();
    let bytes = text.as_bytes();
    // Open containers: their nodes, and the paths of what is in them.
    let mut open: Vec<(usize, u32, bool)> = Vec::new();
    let mut at = 0;
    let mut path = ROOT;
    loop {
        at = skip(bytes, at);
        match bytes.get(at) {
            Some(mark @ (b'{' | b'[')) => {
                if open.len() >= most_depth {
                    return Err(Wrong::Deep(at));
                }
                let list = *mark == b'[';
                let kind = if list { Kind::List } else { Kind::Object };
                let node = tree.open(path, kind);
                let inside = if list { paths.item(path) } else { path };
                open.push((node, inside, list));
                at = skip(bytes, at + 1);
                if !matches!(bytes.get(at), Some(b'}' | b']')) {
                    path = if list {
                        inside
                    } else {
                        member(text, &mut at, paths, inside)?
                    };
                    continue;
                }
            }
            Some(b'"') => {
                let end = string_end(bytes, at);
                let value = unescape(text, at, end)?;
                tree.push(path, Kind::Text, value.as_bytes());
                spans.push((to_u32(at), to_u32(end)));
                at = end;
            }
            Some(first) => {
                let end = at + literal(&bytes[at..]);
                let kind = match first {
                    b't' | b'f' => Kind::Boolean,
                    b'n' => Kind::Null,
                    _ => Kind::Number,
                };
                let value = if kind == Kind::Null { at..at } else { at..end };
                tree.push(path, kind, &bytes[value]);
                spans.push((to_u32(at), to_u32(end)));
                at = end;
            }
            None => return Ok(()),
        }
        // A value is done; so may be what it is in.
        loop {
            let Some((node, inside, list)) = open.last().copied() else {
                return Ok(());
            };
            at = skip(bytes, at);
            match bytes.get(at) {
                Some(b',') => {
                    at = skip(bytes, at + 1);
                    path = if list {
                        inside
                    } else {
                        member(text, &mut at, paths, inside)?
                    };
                    break;
                }
                Some(_) => {
                    at += 1;
                    tree.close(node);
                    open.pop();
                }
                None => return Ok(()),
            }
        }
    }
}

/// Reads the name of a member up to its value.
fn member(text: &str, at: &mut usize, paths: &mut Paths, inside: u32) -> Result<u32, Wrong> {
    let end = string_end(text.as_bytes(), *at);
    let name = unescape(text, *at, end)?;
    let colon = skip(text.as_bytes(), end);
    *at = colon + 1;
    Ok(paths.child(inside, &name))
}

fn skip(bytes: &[u8], mut at: usize) -> usize {
    while matches!(bytes.get(at), Some(b' ' | b'\t' | b'\n' | b'\r')) {
        at += 1;
    }
    at
}

/// Where the string ends whose quote is at `at`, after its closing quote.
fn string_end(bytes: &[u8], at: usize) -> usize {
    let mut next = at + 1;
    while let Some(found) = bytes
        .get(next..)
        .and_then(|rest| memchr::memchr2(b'"', b'\\', rest))
    {
        next += found;
        if bytes[next] == b'"' {
            return next + 1;
        }
        next += 2;
    }
    bytes.len()
}

/// The characters of a string, from its quote to after the closing one.
pub(super) fn unescape(text: &str, at: usize, end: usize) -> Result<Cow<'_, str>, Wrong> {
    let inside = &text[at + 1..end - 1];
    if memchr::memchr(b'\\', inside.as_bytes()).is_none() {
        return Ok(Cow::Borrowed(inside));
    }
    match serde_json::from_str::<String>(&text[at..end]) {
        Ok(value) => Ok(Cow::Owned(value)),
        Err(error) => Err(Wrong::Escape(at, super::tokens::said(&error, None))),
    }
}

/// Bytes of a number, `true`, `false` or `null`.
fn literal(bytes: &[u8]) -> usize {
    let ends = |byte: &u8| matches!(byte, b',' | b'}' | b']' | b' ' | b'\t' | b'\n' | b'\r');
    bytes.iter().position(ends).unwrap_or(bytes.len())
}
