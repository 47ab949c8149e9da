//! Names of elements and attributes, after XML 1.0, 2.3.

/// Whether a text is a name.
#[inline]
pub fn is_name(text: &str) -> bool {
    let bytes = text.as_bytes();
    let plain = |byte: &u8| byte.is_ascii_alphanumeric() || matches!(byte, b'_' | b'-' | b'.');
    let starts = |byte: &u8| byte.is_ascii_alphabetic() || *byte == b'_';
    if bytes.first().is_some_and(starts) && bytes.iter().all(plain) {
        return true;
    }
    let mut characters = text.chars();
    characters.next().is_some_and(starts_name) && characters.all(continues_name)
}

/// Whether a text is a name token, which may begin like a name goes on.
pub fn is_token(text: &str) -> bool {
    !text.is_empty() && text.chars().all(continues_name)
}

/// Whether a name may begin with a character.
pub fn starts_name(character: char) -> bool {
    matches!(character, ':' | '_' | 'A'..='Z' | 'a'..='z' | '\u{c0}'..='\u{d6}' | '\u{d8}'..='\u{f6}'
        | '\u{f8}'..='\u{2ff}' | '\u{370}'..='\u{37d}' | '\u{37f}'..='\u{1fff}'
        | '\u{200c}'..='\u{200d}' | '\u{2070}'..='\u{218f}' | '\u{2c00}'..='\u{2fef}'
        | '\u{3001}'..='\u{d7ff}' | '\u{f900}'..='\u{fdcf}' | '\u{fdf0}'..='\u{fffd}'
        | '\u{10000}'..='\u{effff}')
}

/// Whether a name may go on with a character.
pub fn continues_name(character: char) -> bool {
    starts_name(character)
        || matches!(character, '-' | '.' | '0'..='9' | '\u{b7}' | '\u{300}'..='\u{36f}'
            | '\u{203f}'..='\u{2040}')
}
