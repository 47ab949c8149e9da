//! Finds where the fields and records of delimited text end.
//!
//! The text is looked at 64 bytes at a time. A [`Classifier`] says which of them are quotes,
//! delimiters and terminators, as bits of a `u64`; the parity of the quotes says which of those
//! stand inside quoted fields. Text after RFC 4180 never needs more than that.
//!
//! Text that bends the RFC (a quote in the middle of a field, text after a closing quote) is
//! noticed by two checks on the same bits, and the one record it is in is taken again by the
//! byte-by-byte machine in [`careful`].
//!
//! # To whoever changes this
//!
//! * [`careful`] is the definition of what a record is; the blocks are only a fast way to the
//!   same answer. `tests` holds each classifier against it on generated text. Change both.
//! * The blocks may start anywhere: after a careful record they go on at the byte after it. So a
//!   block knows of what came before only through [`State`].
//! * `ends` and `firsts` are written past what is needed; [`Filled`] says how much of them is real.

#![allow(
    clippy::cast_possible_truncation,
    clippy::cast_possible_wrap,
    clippy::cast_sign_loss,
    reason = "a text that is scanned is a batch, and the reader holds batches to 2 GiB"
)]

#[cfg(target_arch = "x86_64")]
mod avx2;
#[cfg(target_arch = "x86_64")]
mod avx512;
mod careful;
mod portable;

use careful::{Careful, careful_record};

/// The three bytes that give delimited text its structure.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(crate) struct Marks {
    /// Stands between two fields of a record.
    pub(crate) delimiter: u8,
    /// Encloses fields that hold delimiters, terminators or quotes; `None` where quotes are text.
    pub(crate) quote: Option<u8>,
    /// The last byte of a record: `\n` (a `\r` before it belongs to the line end), or `\r`.
    pub(crate) terminator: u8,
}

/// Where fields and records end, as positions in the text that was scanned.
#[derive(Debug, Default)]
pub(crate) struct Index {
    ends: Vec<u32>,
    firsts: Vec<u32>,
    filled: Filled,
}

impl Index {
    /// The position of the delimiter or terminator after each field, of complete records only.
    pub(crate) fn ends(&self) -> &[u32] {
        &self.ends[..self.filled.ends]
    }

    /// For each complete record, how many of `ends` lie before and in it.
    pub(crate) fn firsts(&self) -> &[u32] {
        &self.firsts[..self.filled.records]
    }

    /// Swaps the field ends with another vector, so that a batch can own them without a copy. What
    /// lies in it after the ends of the last record means nothing.
    pub(crate) fn swap_ends(&mut self, other: &mut Vec<u32>) {
        std::mem::swap(&mut self.ends, other);
    }

    fn complete(&self, filled: Filled) -> &[u32] {
        &self.firsts[..filled.records]
    }

    /// Where the record begins that is not complete yet.
    fn record_start(&self, filled: Filled) -> usize {
        let fields = self
            .complete(filled)
            .last()
            .map_or(0, |fields| *fields as usize);
        fields
            .checked_sub(1)
            .map_or(0, |last| self.ends[last] as usize + 1)
    }

    /// Adds the positions of a block's separators, and the records that its terminators end.
    #[inline(always)]
    fn push_block<C: Classifier>(
        &mut self,
        filled: Filled,
        classifier: &C,
        position: usize,
        separators: u64,
        terminators: u64,
    ) -> Filled {
        if self.ends.len() < filled.ends + WINDOW || self.firsts.len() < filled.records + 64 {
            self.grow(filled);
        }
        let (ends, firsts) = (&mut self.ends[..], &mut self.firsts[..]);
        push_block_positions(
            ends,
            firsts,
            filled,
            classifier,
            position,
            separators,
            terminators,
        )
        .expect("grown to it")
    }

    #[cold]
    fn grow(&mut self, filled: Filled) {
        for (room, needed) in [
            (&mut self.ends, filled.ends + WINDOW),
            (&mut self.firsts, filled.records + 64),
        ] {
            if room.len() < needed {
                room.resize(needed * 2, 0);
            }
        }
    }

    /// Adds one record, in the place of what there is of it.
    fn push_record(&mut self, filled: Filled, ends: &[u32]) -> Filled {
        let from = self
            .complete(filled)
            .last()
            .map_or(0, |fields| *fields as usize);
        let filled = Filled {
            ends: from + ends.len(),
            records: filled.records + 1,
        };
        self.grow(filled);
        self.ends[from..filled.ends].copy_from_slice(ends);
        self.firsts[filled.records - 1] = filled.ends as u32;
        filled
    }
}

/// Adds what a block holds, or returns `None` where there may be no room for it.
#[inline(always)]
fn push_block_positions<C: Classifier>(
    ends: &mut [u32],
    firsts: &mut [u32],
    filled: Filled,
    classifier: &C,
    position: usize,
    separators: u64,
    terminators: u64,
) -> Option<Filled> {
    let window = ends.get_mut(filled.ends..)?.first_chunk_mut()?;
    let room = firsts.get_mut(filled.records..)?.first_chunk_mut::<64>()?;
    classifier.positions(position as u32, separators, window);
    // Most blocks hold no terminator or one: the first is taken without asking whether there is
    // one, and only then is asked for more.
    let up_to = terminators ^ terminators.wrapping_sub(1);
    room[0] = filled.ends as u32 + (separators & up_to).count_ones();
    let mut records = usize::from(terminators != 0);
    let mut left = terminators & terminators.wrapping_sub(1);
    while left != 0 {
        let up_to = left ^ (left - 1);
        room[records & 63] = filled.ends as u32 + (separators & up_to).count_ones();
        records += 1;
        left &= left - 1;
    }
    Some(Filled {
        ends: filled.ends + separators.count_ones() as usize,
        records: filled.records + records,
    })
}

/// How much of an index's vectors is real. It is handed about by value, so that the loop over the
/// blocks can keep it in registers.
#[derive(Clone, Copy, Debug, Default)]
struct Filled {
    ends: usize,
    records: usize,
}

/// What a scan found besides the positions.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub(crate) struct Scanned {
    /// Bytes of the text that belong to complete records.
    pub(crate) consumed: usize,
    /// Terminators in those bytes, inside quotes or not: the number of lines.
    pub(crate) lines: u64,
    /// Whether those bytes hold a NUL; true as well where one was seen after `consumed`.
    pub(crate) nul: bool,
    /// Whether those bytes leave ASCII; true as well where one was seen after `consumed`.
    pub(crate) high: bool,
    /// Whether any field in those bytes is quoted.
    pub(crate) quoted: bool,
    /// Fields in which a quote stands where RFC 4180 has none, and which were read verbatim.
    pub(crate) stray_quotes: u64,
    /// Where a quoted field opened that runs over a line end and then ends in the middle of text.
    pub(crate) misplaced_quote: Option<usize>,
}

/// Slots that a block's positions are written into: 64, and room for a vector that begins after
/// the last of them.
const WINDOW: usize = 80;

/// The bits of a block: bit `i` represents its byte `i`.
#[derive(Clone, Copy)]
struct Masks {
    quote: u64,
    delimiter: u64,
    terminator: u64,
}

/// Classifies 64 bytes at a time, and remembers whether any was NUL or outside ASCII.
trait Classifier {
    fn masks(&mut self, block: &[u8; 64]) -> Masks;

    /// Writes `base` plus the place of each bit, in order, and anything after that.
    #[inline(always)]
    fn positions(&self, base: u32, bits: u64, window: &mut [u32; WINDOW]) {
        let mut left = bits;
        for group in 0..8 {
            for slot in 0..8 {
                window[group * 8 + slot] = base + left.trailing_zeros();
                left &= left.wrapping_sub(1);
            }
            if left == 0 {
                break;
            }
        }
    }

    fn nul(&self) -> bool;
    fn high(&self) -> bool;
}

/// What a block has to know of the bytes before it, each in bit 0 or in all bits.
struct State {
    inside: u64,
    at_field_start: u64,
    after_close: u64,
}

const RECORD_START: State = State {
    inside: 0,
    at_field_start: 1,
    after_close: 0,
};

/// Scans `text` and adds its complete records to `index`.
///
/// `text` must begin at the start of a record and be shorter than 4 GiB. A record counts as
/// complete when its terminator is there, so at the end of a source the caller adds a missing one.
pub(crate) fn scan(text: &[u8], marks: Marks, index: &mut Index) -> Scanned {
    #[cfg(target_arch = "x86_64")]
    if let Some(scanned) =
        avx512::scan(text, marks, index).or_else(|| avx2::scan(text, marks, index))
    {
        return scanned;
    }
    scan_blocks(&mut portable::Portable::new(marks), text, marks, index)
}

/// Opens at the first quoted field that is not closed in `text`, which begins at a record.
pub(crate) fn open_quote(text: &[u8], marks: Marks) -> Option<usize> {
    match careful_record(text, 0, marks, &mut Vec::new()) {
        Careful::Incomplete { open_quote } => open_quote,
        Careful::Complete { .. } | Careful::Misplaced { .. } => None,
    }
}

#[inline(always)]
fn scan_blocks<C: Classifier>(
    classifier: &mut C,
    text: &[u8],
    marks: Marks,
    index: &mut Index,
) -> Scanned {
    let mut filled = Filled::default();
    let mut scanned = Scanned::default();
    let mut state = RECORD_START;
    let mut position = 0;
    let mut breaks_in_quotes = 0_u64;
    let mut last = [b' '; 64];
    while position < text.len() {
        if (state.inside | state.after_close) == 0 {
            let (blocks, at_field_start);
            (filled, blocks, at_field_start) =
                scan_plain_blocks(classifier, &text[position..], position, index, filled);
            if blocks > 0 {
                state.at_field_start = at_field_start;
                position += blocks * 64;
            }
        }
        // This block holds a quote, or stands inside a quoted field, or is the last; or there is
        // no more room in the index.
        let (block, valid) = match text[position..].first_chunk::<64>() {
            Some(block) => (block, !0),
            None => {
                let rest = &text[position..];
                last[..rest.len()].copy_from_slice(rest);
                (&last, (1_u64 << rest.len()) - 1)
            }
        };
        let masks = classifier.masks(block);
        let quotes = masks.quote & valid;
        let terminators = masks.terminator & valid;
        let separators = (masks.delimiter & valid) | terminators;
        scanned.quoted |= quotes != 0;
        let inside = prefix_xor(quotes) ^ state.inside;
        let opens = quotes & inside;
        let closes = quotes & !inside;
        let outside = separators & !inside;
        let after_close = (closes << 1) | state.after_close;
        let field_start = (outside << 1) | state.at_field_start;
        let stray_open = opens & !(field_start | after_close);
        let mut stray_text = after_close & !(outside | quotes) & valid;
        while stray_text != 0 {
            let at = position + stray_text.trailing_zeros() as usize;
            if !(text[at] == b'\r' && marks.terminator == b'\n') {
                break;
            }
            let behind = text[at..].iter().find(|byte| **byte != b'\r');
            if behind.is_some_and(|next| *next != b'\n') {
                break;
            }
            stray_text &= stray_text - 1;
        }
        let irregular = stray_open | stray_text;
        if irregular == 0 {
            breaks_in_quotes += u64::from((terminators & inside).count_ones());
            state.inside = ((inside as i64) >> 63) as u64;
            state.at_field_start = outside >> 63;
            state.after_close = closes >> 63;
            let ends = terminators & outside;
            filled = index.push_block(filled, classifier, position, outside, ends);
            position += 64;
            continue;
        }
        // All before the first irregular byte is as it seems; its record is read with care.
        let sure = (irregular & irregular.wrapping_neg()) - 1;
        let ends = terminators & outside & sure;
        filled = index.push_block(filled, classifier, position, outside & sure, ends);
        let start = index.record_start(filled);
        if start <= position {
            breaks_in_quotes -= count(&text[start..position], marks.terminator);
        } else {
            let before = (1_u64 << (start - position)) - 1;
            breaks_in_quotes += u64::from((terminators & inside & before).count_ones());
        }
        let mut ends = Vec::new();
        match careful_record(text, start, marks, &mut ends) {
            Careful::Complete {
                end,
                breaks,
                strays,
            } => {
                filled = index.push_record(filled, &ends);
                breaks_in_quotes += breaks;
                scanned.stray_quotes += strays;
                scanned.nul |= memchr::memchr(0, &text[start..end]).is_some();
                scanned.high |= !text[start..end].is_ascii();
                state = RECORD_START;
                position = end + 1;
            }
            Careful::Incomplete { .. } => {
                breaks_in_quotes += count(&text[start..], marks.terminator);
                break;
            }
            Careful::Misplaced { open_quote } => {
                breaks_in_quotes += count(&text[start..], marks.terminator);
                scanned.misplaced_quote = Some(open_quote);
                break;
            }
        }
    }
    scanned.consumed = index.record_start(filled);
    let open = count(&text[scanned.consumed..], marks.terminator);
    scanned.lines = filled.records as u64 + breaks_in_quotes - open;
    scanned.nul |= classifier.nul();
    scanned.high |= classifier.high();
    filled.ends = index
        .complete(filled)
        .last()
        .map_or(0, |fields| *fields as usize);
    index.filled = filled;
    scanned
}

/// Scans blocks as long as they hold no quote; says how many, and whether what follows them
/// is at the start of a field.
#[inline(always)]
fn scan_plain_blocks<C: Classifier>(
    classifier: &mut C,
    text: &[u8],
    from: usize,
    index: &mut Index,
    mut filled: Filled,
) -> (Filled, usize, u64) {
    let (ends, firsts) = (&mut index.ends[..], &mut index.firsts[..]);
    let mut last = 0;
    let blocks = text.as_chunks::<64>().0;
    for (number, block) in blocks.iter().enumerate() {
        let position = from + number * 64;
        let masks = classifier.masks(block);
        if masks.quote != 0 {
            return (filled, number, last >> 63);
        }
        let separators = masks.delimiter | masks.terminator;
        let pushed = push_block_positions(
            ends,
            firsts,
            filled,
            classifier,
            position,
            separators,
            masks.terminator,
        );
        let Some(pushed) = pushed else {
            return (filled, number, last >> 63);
        };
        filled = pushed;
        last = separators;
    }
    (filled, blocks.len(), last >> 63)
}

fn count(text: &[u8], byte: u8) -> u64 {
    memchr::memchr_iter(byte, text).count() as u64
}

/// Bit `i` of the result is the parity of bits `0..=i`.
#[inline(always)]
fn prefix_xor(bits: u64) -> u64 {
    let mut parity = bits;
    parity ^= parity << 1;
    parity ^= parity << 2;
    parity ^= parity << 4;
    parity ^= parity << 8;
    parity ^= parity << 16;
    parity ^= parity << 32;
    parity
}

#[cfg(test)]
mod tests;
