//! The ends of lines and of texts.

use numerant_data::dialect::LineEnd;
use numerant_data::record::without_returns;

/// Ends the text of a source: drops the end marks of DOS after it, and gives its last record the line
/// end that it lacks. Says how many marks there were.
pub(super) fn end_text(text: &mut Vec<u8>, line_end: LineEnd, lines: bool) -> u64 {
    const END_MARK: u8 = 0x1a;
    let marks = if lines {
        0
    } else {
        text.iter()
            .rev()
            .take_while(|byte| **byte == END_MARK)
            .count()
    };
    text.truncate(text.len() - marks);
    if text
        .last()
        .is_some_and(|last| *last != line_end.terminator())
    {
        text.extend_from_slice(line_end.bytes());
    }
    marks as u64
}

pub(super) fn is_blank_line(line: &[u8]) -> bool {
    without_returns(line).is_empty()
}
