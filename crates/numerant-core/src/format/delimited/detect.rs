//! Tells the dialect of a text from its start.

use super::dialect::{Delimiter, LineEnd};
use super::scan::{Index, Marks, scan};
use crate::source::mostly_utf16;

/// Delimiters that are looked for, the likeliest first.
const CANDIDATES: [u8; 5] = *b",;\t|\x1f";

/// Records that are looked at.
const RECORDS: usize = 2000;

/// What ends the lines of `sample`: what most lines outside quotes end with.
pub(super) fn line_end(sample: &[u8], quote: Option<u8>) -> LineEnd {
    let mut inside = false;
    let (mut line_feeds, mut pairs, mut returns) = (0_u64, 0_u64, 0_u64);
    for at in memchr::memchr3_iter(b'\n', b'\r', quote.unwrap_or(b'\n'), sample) {
        match sample[at] {
            byte if Some(byte) == quote => inside = !inside,
            _ if inside => {}
            b'\r' if sample.get(at + 1) == Some(&b'\n') => pairs += 1,
            b'\r' => returns += 1,
            _ if at > 0 && sample[at - 1] == b'\r' => {}
            _ => line_feeds += 1,
        }
    }
    if returns > line_feeds + pairs {
        LineEnd::Cr
    } else if pairs > line_feeds {
        LineEnd::CrLf
    } else {
        LineEnd::Lf
    }
}

/// The delimiter that divides most records of `sample` into as many fields as the first of them;
/// `None` if there is none that divides the first at all.
pub(super) fn delimiter(sample: &[u8], quote: Option<u8>, line_end: LineEnd) -> Option<Delimiter> {
    let mut index = Index::default();
    let mut best: Option<(u64, u32, u8)> = None;
    for candidate in CANDIDATES {
        let marks = Marks {
            delimiter: candidate,
            quote,
            terminator: line_end.terminator(),
        };
        scan(sample, marks, &mut index);
        let Some(header) = first_record_width(sample, &index) else {
            continue;
        };
        if header < 2 {
            continue;
        }
        let records = index.firsts().len().min(RECORDS);
        let alike = widths(&index)
            .take(RECORDS)
            .filter(|width| *width == header)
            .count();
        let share = (alike as u64 * 100) / (records as u64).max(1);
        // Only a clear difference beats a likelier delimiter; then more fields do.
        let better = best.is_none_or(|(best_share, best_header, _)| {
            share > best_share + 5 || (share + 5 >= best_share && header > best_header)
        });
        if better {
            best = Some((share, header, candidate));
        }
    }
    best.map(|(_, _, byte)| Delimiter(byte))
}

fn widths(index: &Index) -> impl Iterator<Item = u32> + '_ {
    let firsts = index.firsts();
    firsts.iter().enumerate().map(|(place, first)| {
        let before = place.checked_sub(1).map_or(0, |previous| firsts[previous]);
        first - before
    })
}

/// The width of the first record that is not a blank line.
fn first_record_width(sample: &[u8], index: &Index) -> Option<u32> {
    let mut start = 0;
    for (width, first) in widths(index).zip(index.firsts()) {
        let end = index.ends()[*first as usize - 1] as usize;
        if width > 1 || !sample[start..end].iter().all(|byte| *byte == b'\r') {
            return Some(width);
        }
        start = end + 1;
    }
    None
}

/// What a file that is no delimited text seems to be, by its first bytes.
pub(super) fn other_content(sample: &[u8], as_text: bool) -> Option<&'static str> {
    const SIGNATURES: [(&[u8], &str); 10] = [
        (
            b"PK\x03\x04",
            "a zip archive, such as a workbook (.xlsx, .ods)",
        ),
        (
            b"\xd0\xcf\x11\xe0\xa1\xb1\x1a\xe1",
            "a compound file, such as a binary workbook (.xls)",
        ),
        (b"%PDF-", "a PDF document"),
        (b"\x89PNG\r\n", "a PNG picture"),
        (b"\xff\xd8\xff", "a JPEG picture"),
        (b"BZh", "a bzip2 archive"),
        (b"\xfd7zXZ\0", "an xz archive"),
        (b"SQLite format 3\0", "a database file"),
        (b"PAR1", "a columnar data file"),
        (b"\x7fELF", "a program"),
    ];
    let signature = SIGNATURES
        .iter()
        .find(|(start, _)| sample.starts_with(start));
    if let Some((_, found)) = signature {
        return Some(found);
    }
    if is_binary(sample) {
        return Some("binary data");
    }
    if as_text {
        return None;
    }
    let text = sample.trim_ascii_start();
    let starts =
        |start: &[u8]| text.len() >= start.len() && text[..start.len()].eq_ignore_ascii_case(start);
    if starts(b"<?xml") {
        Some("an XML document")
    } else if starts(b"<!doctype html") || starts(b"<html") {
        Some("an HTML page")
    } else if starts(b"{\"") || starts(b"[{") || starts(b"{\n") || starts(b"[\n") {
        Some("a JSON document")
    } else {
        None
    }
}

/// More than one byte in fifty is a control character that no text has, and it is not UTF-16.
fn is_binary(sample: &[u8]) -> bool {
    let control = |byte: &&u8| matches!(byte, 0..=8 | 14..=26 | 28 | 29);
    let found = sample.iter().filter(control).count();
    found > 4 && found > sample.len() / 50 && mostly_utf16(sample).is_none() && {
        encoding_rs::Encoding::for_bom(sample).is_none()
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn found(sample: &str) -> Option<u8> {
        let end = line_end(sample.as_bytes(), Some(b'"'));
        delimiter(sample.as_bytes(), Some(b'"'), end).map(|delimiter| delimiter.0)
    }

    #[test]
    fn delimiters() {
        assert_eq!(found("quay,tonnes\nA,1\nB,2\n"), Some(b','));
        assert_eq!(found("quay;dues\nA;1,50\nB;2,50\n"), Some(b';'));
        assert_eq!(
            found("quay|remark\nA|one, two\nB|three, four\n"),
            Some(b'|')
        );
        assert_eq!(found("quay\tremark\nA\t\"x\ty\"\n"), Some(b'\t'));
        assert_eq!(found("\n\r\nquay;a\n1;2\n"), Some(b';'));
        assert_eq!(found("quay\nA\nB\n"), None);
        assert_eq!(
            found("a,b;c,d;e\n1,2;3,4;5\n"),
            Some(b','),
            "as many fields: the likelier"
        );
        assert_eq!(found("a,b;c;d;e\n1,2;3;4;5\n"), Some(b';'), "more fields");
        assert_eq!(found("a;b,c\n1;2\n3;4\n"), Some(b';'), "all records alike");
    }

    #[test]
    fn line_ends() {
        assert_eq!(line_end(b"a\nb\n", Some(b'"')), LineEnd::Lf);
        assert_eq!(line_end(b"a\r\nb\r\n", Some(b'"')), LineEnd::CrLf);
        assert_eq!(line_end(b"a\rb\r", Some(b'"')), LineEnd::Cr);
        assert_eq!(line_end(b"\"x\n\n\n\",b\rc\rd", Some(b'"')), LineEnd::Cr);
        assert_eq!(line_end(b"\"x\r\r\r\",b\nc\n", Some(b'"')), LineEnd::Lf);
        assert_eq!(line_end(b"", None), LineEnd::Lf);
    }

    #[test]
    fn other_contents() {
        assert!(other_content(b"PK\x03\x04....", true).is_some());
        assert!(other_content(b"  {\"quay\": 1}", false).is_some());
        assert!(other_content(b"{\"quay\": 1}", true).is_none());
        assert!(other_content(b"quay,tonnes", false).is_none());
        let noise: Vec<u8> = (0..2000_u32).map(|n| ((n * n * 31) >> 3) as u8).collect();
        assert_eq!(other_content(&noise, true), Some("binary data"));
        let wide: Vec<u8> = "quay,n\n"
            .encode_utf16()
            .flat_map(u16::to_le_bytes)
            .collect();
        assert_eq!(other_content(&wide, false), None);
    }
}
