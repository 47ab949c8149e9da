//! Detects what a file that is no delimited text seems to be.

use numerant_data::encoding::mostly_utf16;
use numerant_data::source::ReadProblem;

/// What a file that is no delimited text seems to be, by its first bytes.
pub fn other_content(start: &[u8]) -> Option<&'static str> {
    content_of(start, false)
}

/// As [`other_content`]; `as_text` says that documents in text are taken for text.
pub fn content_of(sample: &[u8], as_text: bool) -> Option<&'static str> {
    const SIGNATURES: [(&[u8], &str); 13] = [
        (
            b"PK\x03\x04",
            "a zip archive, such as a workbook (.xlsx, .ods)",
        ),
        (
            b"\xd0\xcf\x11\xe0\xa1\xb1\x1a\xe1",
            "a compound file, such as a binary workbook (.xls)",
        ),
        (
            b"\x09\x00\x04\x00",
            "a binary workbook of an early version (BIFF2)",
        ),
        (
            b"\x09\x02\x06\x00",
            "a binary workbook of an early version (BIFF3)",
        ),
        (
            b"\x09\x04\x06\x00",
            "a binary workbook of an early version (BIFF4)",
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

/// More than one byte in fifty is a control character that no text has, and it is not UTF-16. One kind of
/// them may be the delimiter.
fn is_binary(sample: &[u8]) -> bool {
    let mut counts = [0_usize; 32];
    for byte in sample {
        if matches!(byte, 0..=8 | 14..=26 | 28 | 29) {
            counts[usize::from(*byte)] += 1;
        }
    }
    let delimiter = counts[1..].iter().max().copied().unwrap_or(0);
    let found = counts.iter().sum::<usize>() - delimiter;
    found > 4 && found > sample.len() / 50 && mostly_utf16(sample).is_none() && {
        encoding_rs::Encoding::for_bom(sample).is_none()
    }
}

/// The problem of a source that holds something else than it says.
pub(crate) fn other_format(
    format: &'static str,
    is_workbook: bool,
    found: &'static str,
) -> ReadProblem {
    if is_workbook {
        ReadProblem::NoWorkbook { format, found }
    } else {
        ReadProblem::NoDocument { format, found }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn other_contents() {
        assert!(content_of(b"PK\x03\x04....", true).is_some());
        assert!(content_of(b"  {\"quay\": 1}", false).is_some());
        assert!(content_of(b"{\"quay\": 1}", true).is_none());
        assert!(content_of(b"quay,tonnes", false).is_none());
        let noise: Vec<u8> = (0..2000_u32).map(|n| ((n * n * 31) >> 3) as u8).collect();
        assert_eq!(content_of(&noise, true), Some("binary data"));
        let wide: Vec<u8> = "quay,n\n"
            .encode_utf16()
            .flat_map(u16::to_le_bytes)
            .collect();
        assert_eq!(content_of(&wide, false), None);
    }
}
