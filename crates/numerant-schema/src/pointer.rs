//! Where a value is in the text of a JSON document (RFC 6901).

/// The byte at which the value of a pointer begins; as far as the pointer leads, if not to its end.
pub(super) fn offset_of(text: &[u8], pointer: &str) -> usize {
    let mut at = skip_blanks(text, 0);
    for token in pointer.split('/').skip(1) {
        let token = token.replace("~1", "/").replace("~0", "~");
        match child(text, at, &token) {
            Some(next) => at = next,
            None => break,
        }
    }
    at
}

/// Where the member or item of this name begins in the container at a place.
fn child(text: &[u8], container: usize, token: &str) -> Option<usize> {
    let is_list = match text.get(container)? {
        b'[' => true,
        b'{' => false,
        _ => return None,
    };
    let mut at = skip_blanks(text, container + 1);
    let mut number = 0_usize;
    loop {
        if matches!(text.get(at)?, b']' | b'}') {
            return None;
        }
        let is_wanted = if is_list {
            token.parse() == Ok(number)
        } else {
            let end = end_of(text, at);
            let name: Option<String> = serde_json::from_slice(&text[at..end]).ok();
            at = skip_blanks(text, end);
            // Behind the colon.
            at = skip_blanks(text, at + 1);
            name.as_deref() == Some(token)
        };
        if is_wanted {
            return Some(at);
        }
        number += 1;
        at = skip_blanks(text, end_of(text, at));
        if text.get(at) == Some(&b',') {
            at = skip_blanks(text, at + 1);
        }
    }
}

fn skip_blanks(text: &[u8], mut at: usize) -> usize {
    while matches!(text.get(at), Some(b' ' | b'\t' | b'\n' | b'\r')) {
        at += 1;
    }
    at
}

/// Where the value ends that begins at a place of a well-formed text.
fn end_of(text: &[u8], start: usize) -> usize {
    let (mut at, mut depth) = (start, 0_usize);
    while let Some(byte) = text.get(at) {
        match byte {
            b'"' => {
                at += 1;
                while let Some(byte) = text.get(at) {
                    match byte {
                        b'\\' => at += 1,
                        b'"' => break,
                        _ => {}
                    }
                    at += 1;
                }
                if depth == 0 {
                    return at + 1;
                }
            }
            b'{' | b'[' => depth += 1,
            b'}' | b']' if depth == 0 => return at,
            b'}' | b']' => {
                depth -= 1;
                if depth == 0 {
                    return at + 1;
                }
            }
            b',' | b' ' | b'\t' | b'\n' | b'\r' if depth == 0 => return at,
            _ => {}
        }
        at += 1;
    }
    text.len()
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn pointers_lead_to_values() {
        let text = br#" {"a": [1, {"b/c": "x]", "d": [true , null]}], "e~": {} } "#;
        for (pointer, expected) in [
            ("", r#"{"a""#),
            ("/a", "[1"),
            ("/a/0", "1,"),
            ("/a/1/b~1c", "\"x]\""),
            ("/a/1/d/1", "null"),
            ("/e~0", "{}"),
            ("/a/7", "[1"),
        ] {
            let found = &text[offset_of(text, pointer)..];
            let found = String::from_utf8_lossy(found).into_owned();
            assert!(found.starts_with(expected), "{pointer}: {found}");
        }
    }
}
