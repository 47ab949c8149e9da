//! Detects what ends the lines of a text.

use crate::format::delimited::LineEnd;

/// What ends the lines of `sample`: what most lines outside quotes end with. Several carriage returns
/// before a line feed are one line end with it.
pub(in crate::format::delimited) fn detect_line_end(sample: &[u8], quote: Option<u8>) -> LineEnd {
    let mut inside = false;
    let (mut line_feeds, mut pairs, mut returns) = (0_u64, 0_u64, 0_u64);
    // Carriage returns right before the place that is looked at.
    let (mut run, mut behind_run) = (0_u64, 0);
    for at in memchr::memchr3_iter(b'\n', b'\r', quote.unwrap_or(b'\n'), sample) {
        if at != behind_run {
            returns += std::mem::take(&mut run);
        }
        match sample[at] {
            byte if Some(byte) == quote => {
                returns += std::mem::take(&mut run);
                inside = !inside;
            }
            _ if inside => {}
            b'\r' => {
                run += 1;
                behind_run = at + 1;
            }
            _ if run > 0 => {
                run = 0;
                pairs += 1;
            }
            _ => line_feeds += 1,
        }
    }
    returns += run;
    if returns > line_feeds + pairs {
        LineEnd::Cr
    } else if pairs > line_feeds {
        LineEnd::CrLf
    } else {
        LineEnd::Lf
    }
}

/// Whether a line end of `text` has more than one carriage return before its line feed.
pub(in crate::format::delimited) fn has_extra_returns(text: &[u8]) -> bool {
    memchr::memmem::find(text, b"\r\r\n").is_some()
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn line_ends() {
        for (text, expected) in [
            ("a\nb\n", LineEnd::Lf),
            ("a\r\nb\r\n", LineEnd::CrLf),
            ("a\rb\r", LineEnd::Cr),
            ("\"x\n\n\n\",b\rc\rd", LineEnd::Cr),
            ("\"x\r\r\r\",b\nc\n", LineEnd::Lf),
            ("a\r\r\nb\r\r\n", LineEnd::CrLf),
            ("a\r\r\r\nb\r\r\r\n", LineEnd::CrLf),
            ("a\r\rb\rc\r", LineEnd::Cr),
            ("", LineEnd::Lf),
        ] {
            assert_eq!(
                detect_line_end(text.as_bytes(), Some(b'"')),
                expected,
                "{text:?}"
            );
        }
        assert_eq!(detect_line_end(b"", None), LineEnd::Lf);
    }
}
