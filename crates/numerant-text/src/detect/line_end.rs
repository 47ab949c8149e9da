//! Detects what ends the lines of a text.

use super::delimiter::best_score;
use numerant_data::dialect::{Escape, LineEnd, Quote};

/// What ends the lines of `sample`: what most lines outside quotes end with. Several carriage returns
/// before a line feed are one line end with it. `skip_lines` lines at the start are no table.
pub(crate) fn detect_line_end(
    sample: &[u8],
    quote: Quote,
    escape: Option<Escape>,
    skip_lines: u64,
) -> LineEnd {
    let (written, quote) = ((quote, escape), quote.byte());
    let is_escaped = |at: usize| {
        let before = sample[..at].iter().rev();
        let escapes = before.take_while(|byte| escape.is_some_and(|escape| escape.0 == **byte));
        escapes.count() % 2 == 1
    };
    let mut inside = false;
    let (mut line_feeds, mut pairs, mut returns) = (0_u64, 0_u64, 0_u64);
    // Carriage returns right before the place that is looked at.
    let (mut run, mut behind_run) = (0_u64, 0);
    for at in memchr::memchr3_iter(b'\n', b'\r', quote.unwrap_or(b'\n'), sample) {
        if at != behind_run {
            returns += std::mem::take(&mut run);
        }
        match sample[at] {
            byte if Some(byte) == quote && is_escaped(at) => {}
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
    let feeds = line_feeds + pairs;
    let of_feeds = if pairs > line_feeds {
        LineEnd::CrLf
    } else {
        LineEnd::Lf
    };
    let usual = if returns > feeds {
        LineEnd::Cr
    } else {
        of_feeds
    };
    // A few of one kind are text in fields. Where there are many of both, the one that makes a table of
    // the text ends its lines.
    if returns.min(feeds) * FEW < returns.max(feeds) {
        return usual;
    }
    let score = |line_end: LineEnd| {
        let ends = memchr::memchr_iter(line_end.terminator(), sample);
        let skipped = usize::try_from(skip_lines).unwrap_or(usize::MAX);
        let start = ends.take(skipped).last().map_or(0, |end| end + 1);
        best_score(&sample[start..], written, line_end)
    };
    match (score(LineEnd::Cr), score(of_feeds)) {
        (Some(returns), Some(feeds)) if returns < feeds => LineEnd::Cr,
        (Some(returns), Some(feeds)) if feeds < returns => of_feeds,
        (Some(_), None) => LineEnd::Cr,
        (None, Some(_)) => of_feeds,
        _ => usual,
    }
}

/// How many times fewer line ends of one kind are none.
const FEW: u64 = 20;

/// Whether a line end of `text` has more than one carriage return before its line feed.
pub(crate) fn has_extra_returns(text: &[u8]) -> bool {
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
            ("a;b\r1;x\ny\nz\r2;v\nw\r", LineEnd::Cr),
            ("a;b\n1;x\ry\rz\n2;v\rw\n", LineEnd::Lf),
            ("sep=;\ra;b\r1;x\ny\r2;\"v; w\"\r", LineEnd::Cr),
            ("", LineEnd::Lf),
        ] {
            let found = detect_line_end(text.as_bytes(), Quote::Byte(b'"'), None, 0);
            assert_eq!(found, expected, "{text:?}");
        }
        assert_eq!(detect_line_end(b"", Quote::None, None, 0), LineEnd::Lf);
        let escape = "\\".parse().ok();
        let text = b"a,\"x \\\" y\",b\r1,2,3\r";
        assert_eq!(
            detect_line_end(text, Quote::Byte(b'"'), escape, 0),
            LineEnd::Cr
        );
    }
}
