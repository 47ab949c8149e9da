//! One record, byte by byte: the definition that the block scanner has to agree with.

use super::Marks;

/// How a record ended.
#[derive(Debug, PartialEq, Eq)]
pub(super) enum Careful {
    /// `end` is the position of its terminator; `breaks` of the terminators before that stand
    /// inside quotes; `strays` fields hold a quote where RFC 4180 has none.
    Complete {
        end: usize,
        breaks: u64,
        strays: u64,
    },
    /// The text ended first, inside the quoted field that opened at `open_quote` if there is one.
    Incomplete { open_quote: Option<usize> },
    /// A quoted field that runs over a terminator is followed by text, which is what a missing
    /// closing quote looks like: nobody can say where the record ends.
    Misplaced { open_quote: usize },
}

/// Reads the record that begins at `start` and pushes the ends of its fields.
///
/// A field that begins with a quote goes on to the next quote that is not doubled; text after
/// that quote belongs to the field, up to the next delimiter or terminator. In any other field
/// quotes are text.
pub(super) fn careful_record(
    text: &[u8],
    start: usize,
    marks: Marks,
    ends: &mut Vec<u32>,
) -> Careful {
    let mut position = start;
    let mut breaks = 0;
    let mut strays = 0;
    loop {
        let mut stray = false;
        if position < text.len() && Some(text[position]) == marks.quote {
            let open_quote = position;
            let breaks_before = breaks;
            position += 1;
            loop {
                match text.get(position) {
                    None => {
                        return Careful::Incomplete {
                            open_quote: Some(open_quote),
                        };
                    }
                    Some(&byte) if Some(byte) == marks.quote => {
                        if text.get(position + 1).copied() == marks.quote {
                            position += 2;
                        } else {
                            position += 1;
                            break;
                        }
                    }
                    Some(&byte) => {
                        breaks += u64::from(byte == marks.terminator);
                        position += 1;
                    }
                }
            }
            let ends_here = match text.get(position) {
                None => return Careful::Incomplete { open_quote: None },
                // However many carriage returns, with a line feed after them they are one line end.
                Some(b'\r') if marks.terminator == b'\n' => {
                    let behind = text[position..].iter().find(|byte| **byte != b'\r');
                    match behind {
                        None => return Careful::Incomplete { open_quote: None },
                        Some(&next) => next == b'\n',
                    }
                }
                Some(&byte) => byte == marks.delimiter || byte == marks.terminator,
            };
            if !ends_here {
                if breaks > breaks_before {
                    return Careful::Misplaced { open_quote };
                }
                stray = true;
            }
        }
        loop {
            match text.get(position) {
                None => return Careful::Incomplete { open_quote: None },
                Some(&byte) if byte == marks.terminator => {
                    ends.push(position as u32);
                    strays += u64::from(stray);
                    return Careful::Complete {
                        end: position,
                        breaks,
                        strays,
                    };
                }
                Some(&byte) if byte == marks.delimiter => {
                    ends.push(position as u32);
                    position += 1;
                    break;
                }
                Some(&byte) => {
                    stray |= Some(byte) == marks.quote;
                    position += 1;
                }
            }
        }
        strays += u64::from(stray);
    }
}
