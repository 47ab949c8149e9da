//! Numbers as JSON writes them (RFC 8259, section 6).

/// Whether a text is a number after RFC 8259.
pub fn is_json_number(value: &[u8]) -> bool {
    json_number(value) == Some(value.len())
}

/// Bytes of the number after RFC 8259 that a text begins with; `None` if it begins with none.
#[inline(always)]
pub fn json_number(text: &[u8]) -> Option<usize> {
    let digits = |mut at: usize| {
        while text.get(at).is_some_and(u8::is_ascii_digit) {
            at += 1;
        }
        at
    };
    let whole = usize::from(text.first() == Some(&b'-'));
    let mut at = digits(whole);
    if at == whole || (text[whole] == b'0' && at > whole + 1) {
        return None;
    }
    if text.get(at) == Some(&b'.') {
        let fraction = digits(at + 1);
        if fraction == at + 1 {
            return None;
        }
        at = fraction;
    }
    if matches!(text.get(at), Some(b'e' | b'E')) {
        let sign = usize::from(matches!(text.get(at + 1), Some(b'+' | b'-')));
        let exponent = digits(at + 1 + sign);
        if exponent == at + 1 + sign {
            return None;
        }
        at = exponent;
    }
    Some(at)
}
