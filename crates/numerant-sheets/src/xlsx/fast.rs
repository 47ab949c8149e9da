//! The rows that nearly all programs write, read without an XML parser in between: five times as
//! fast, and to the same result. Whatever is not quite of that form is left to the parser.

use super::read::{CellHead, CellKind, State};
use numerant_data::source::ReadProblem;
use numerant_format::sheet::{CellStyle, Row};

/// What came of a try.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(super) enum Fast {
    /// A row was read, from so many bytes.
    Row(usize),
    /// The row does not end in what there is.
    Incomplete,
    /// It is not of the common form.
    Unusual,
}

/// Where a row is being read.
struct Scan<'a> {
    text: &'a [u8],
    at: usize,
}

/// Ends a try from within.
type Outcome<T> = Result<T, Fast>;

impl Scan<'_> {
    #[inline(always)]
    fn next(&self) -> Outcome<u8> {
        self.text.get(self.at).copied().ok_or(Fast::Incomplete)
    }

    /// Passes over `word` if it comes next.
    #[inline(always)]
    fn skip(&mut self, word: &[u8]) -> Outcome<bool> {
        let rest = &self.text[self.at..];
        if rest.starts_with(word) {
            self.at += word.len();
            return Ok(true);
        }
        if rest.len() < word.len() && word.starts_with(rest) {
            return Err(Fast::Incomplete);
        }
        Ok(false)
    }

    /// Passes over `word`, which must come next.
    #[inline(always)]
    fn expect(&mut self, word: &[u8]) -> Outcome<()> {
        if self.skip(word)? {
            Ok(())
        } else {
            Err(Fast::Unusual)
        }
    }

    /// What is before the next `end`, which is skipped.
    #[inline(always)]
    fn until(&mut self, end: u8) -> Outcome<(usize, usize)> {
        let rest = &self.text[self.at..];
        // Most of what is looked for is a few bytes away.
        let near = rest.iter().take(16).position(|byte| *byte == end);
        let length = match near {
            Some(length) => length,
            None => memchr::memchr(end, rest).ok_or(Fast::Incomplete)?,
        };
        let start = self.at;
        self.at += length + 1;
        Ok((start, start + length))
    }
}

/// Reads the row that `text` begins with, if it is of the common form. Nothing but `row` is changed
/// unless a row was read.
pub(super) fn read(text: &str, state: &mut State, row: &mut Row) -> Result<Fast, ReadProblem> {
    let before = (state.row, state.column, state.oddities);
    let mut scan = Scan {
        text: text.as_bytes(),
        at: 0,
    };
    let tried = read_row(&mut scan, state, row);
    match tried {
        Ok(Ok(())) => Ok(Fast::Row(scan.at)),
        Ok(Err(problem)) => Err(problem),
        Err(fast) => {
            (state.row, state.column, state.oddities) = before;
            row.clear();
            Ok(fast)
        }
    }
}

fn read_row(
    scan: &mut Scan<'_>,
    state: &mut State,
    row: &mut Row,
) -> Outcome<Result<(), ReadProblem>> {
    scan.expect(b"<row")?;
    let mut number = state.row + 1;
    let empty = loop {
        match scan.next()? {
            b' ' => scan.at += 1,
            b'>' => {
                scan.at += 1;
                break false;
            }
            b'/' => {
                scan.expect(b"/>")?;
                break true;
            }
            b'a'..=b'z' | b'A'..=b'Z' | b':' => {
                let (from, to) = scan.until(b'=')?;
                scan.expect(b"\"")?;
                let (start, end) = scan.until(b'"')?;
                match &scan.text[from..to] {
                    b"r" => number = digits(&scan.text[start..end]).ok_or(Fast::Unusual)?,
                    b"hidden" => return Err(Fast::Unusual),
                    _ => {}
                }
            }
            _ => return Err(Fast::Unusual),
        }
    };
    if number == 0 || number > 1_048_576 {
        return Err(Fast::Unusual);
    }
    state.row = number;
    state.column = 0;
    row.number = number;
    if empty {
        return Ok(Ok(()));
    }
    loop {
        if scan.skip(b"<c ")? {
            if let Err(problem) = read_cell(scan, state, row)? {
                return Ok(Err(problem));
            }
        } else if scan.skip(b"</row>")? {
            return Ok(Ok(()));
        } else if matches!(scan.next()?, b' ' | b'\n' | b'\r' | b'\t') {
            scan.at += 1;
        } else {
            return Err(Fast::Unusual);
        }
    }
}

#[inline]
fn digits(text: &[u8]) -> Option<u64> {
    if text.is_empty() || text.len() > 9 {
        return None;
    }
    text.iter().try_fold(0, |sum, byte| {
        byte.is_ascii_digit()
            .then(|| sum * 10 + u64::from(byte - b'0'))
    })
}

/// The column, from 0, of a reference that must be in row `row`.
#[inline]
fn column_of(reference: &[u8], row: u64) -> Option<u32> {
    let letters = reference
        .iter()
        .take_while(|byte| byte.is_ascii_uppercase())
        .count();
    if letters == 0 || letters > 3 || digits(&reference[letters..])? != row {
        return None;
    }
    let column = reference[..letters]
        .iter()
        .fold(0, |sum, letter| sum * 26 + u32::from(letter - b'A') + 1);
    (column <= 16_384).then(|| column - 1)
}

#[inline]
fn read_cell(
    scan: &mut Scan<'_>,
    state: &mut State,
    row: &mut Row,
) -> Outcome<Result<(), ReadProblem>> {
    let mut head = CellHead::default();
    let mut column = state.column;
    loop {
        match scan.next()? {
            b'r' => {
                scan.expect(b"r=\"")?;
                let (start, end) = scan.until(b'"')?;
                column = column_of(&scan.text[start..end], state.row).ok_or(Fast::Unusual)?;
            }
            b's' => {
                scan.expect(b"s=\"")?;
                let (start, end) = scan.until(b'"')?;
                let style = digits(&scan.text[start..end]).ok_or(Fast::Unusual)?;
                head.style = usize::try_from(style).map_err(|_| Fast::Unusual)?;
            }
            b't' => {
                scan.expect(b"t=\"")?;
                let (start, end) = scan.until(b'"')?;
                head.kind = match &scan.text[start..end] {
                    b"s" => CellKind::Shared,
                    b"n" => CellKind::Number,
                    b"str" => CellKind::Text,
                    b"b" => CellKind::Boolean,
                    b"inlineStr" => CellKind::Inline,
                    _ => return Err(Fast::Unusual),
                };
            }
            b' ' => scan.at += 1,
            b'>' => {
                scan.at += 1;
                break;
            }
            b'/' => {
                scan.expect(b"/>")?;
                state.column = column + 1;
                return Ok(Ok(()));
            }
            _ => return Err(Fast::Unusual),
        }
    }
    state.column = column + 1;
    if head.kind == CellKind::Inline {
        scan.expect(b"<is><t")?;
        scan.skip(b" xml:space=\"preserve\"")?;
        scan.expect(b">")?;
        let (start, end) = scan.until(b'<')?;
        scan.expect(b"/t></is></c>")?;
        let text = &scan.text[start..end];
        if needs_care(text) {
            return Err(Fast::Unusual);
        }
        row.push_formatted_text(column, text, state.style(head.style).format);
        return Ok(Ok(()));
    }
    scan.expect(b"<v>")?;
    let (start, end) = scan.until(b'<')?;
    scan.expect(b"/v></c>")?;
    let value = &scan.text[start..end];
    match head.kind {
        CellKind::Number => {
            let CellStyle { shown, format } = state.style(head.style);
            let mut fits = true;
            row.push_value(column, format, |out| {
                fits = state.numbers.write(value, shown, out);
            });
            if !fits {
                return Err(Fast::Unusual);
            }
        }
        CellKind::Shared => {
            let number = digits(value).ok_or(Fast::Unusual)?;
            let number = usize::try_from(number).map_err(|_| Fast::Unusual)?;
            let text = state.strings.get(number).ok_or(Fast::Unusual)?;
            row.push_formatted_text(column, text, state.style(head.style).format);
        }
        CellKind::Text if !needs_care(value) => {
            row.push_formatted_text(column, value, state.style(head.style).format);
        }
        CellKind::Boolean => match value {
            b"0" => row.push_boolean(column, false, state.style(head.style).shown),
            b"1" => row.push_boolean(column, true, state.style(head.style).shown),
            _ => return Err(Fast::Unusual),
        },
        _ => return Err(Fast::Unusual),
    }
    Ok(Ok(()))
}

/// Whether a text may hold something that represents something else.
pub(super) fn needs_care(text: &[u8]) -> bool {
    text.iter().any(|byte| matches!(byte, b'&' | b'_' | b'\r'))
}
